"""Opening a file runs nothing, reads and writes nothing outside, and takes no more memory than the file is worth."""

import io
import json
import os
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Picture

from pegloom.core.errors import MeshFileError, PegLoomError, ProjectFileError, TooLargeError
from pegloom.document.model import Image
from pegloom.files import allowance, reading
from pegloom.files.bvh import read_bvh
from pegloom.files.images import image_from_bytes, kind_of, pixels
from pegloom.files.opening import open_any
from pegloom.files.patterns import read_pattern
from pegloom.files.project import open_project, save_project
from pegloom.files.reading import read_mesh
from pegloom.files.usd import SUFFIXES
from pegloom.files.usd.helper import KEPT
from pegloom.files.usd.reader import read_here
from pegloom.files.writing import write_any
from tests.support.figures import wick
from tests.support.hostile import OBJ, USD_MESH, cases, gltf, opened_apart, zipped

STARTS = {"subprocess.Popen", "os.exec", "os.posix_spawn", "os.spawn", "os.system", "os.fork", "os.forkpty"}
heard: list[tuple[str, str]] | None = None


def _hear(event, arguments):
    if heard is not None and (event in STARTS or event == "open"):
        heard.append((event, str(arguments[0]) if arguments else ""))


sys.addaudithook(_hear)


@pytest.fixture
def ear():
    """What is started and opened while it listens, as Python's own audit hooks tell."""
    global heard
    heard = []
    yield heard
    heard = None


ENDS_THE_LIBRARY = ("usd-deeper", "usd-laughs")
"""These may end the process they are read in: read through the helper below."""


@pytest.mark.each(2)
@pytest.mark.parametrize("case", [c for c in cases() if c.name not in ENDS_THE_LIBRARY], ids=lambda c: c.name)
def test_the_corpus_opens_or_is_refused_in_one_line_and_starts_nothing(case, tmp_path, ear, monkeypatch):
    for suffix in SUFFIXES:
        monkeypatch.setitem(reading.READERS, suffix, read_here)
    monkeypatch.chdir(tmp_path)
    (tmp_path / "there").mkdir()
    path = case.lay_out(tmp_path / "there")
    before = {p for p in tmp_path.rglob("*") if p.is_file()}
    ear.clear()
    open_it = {".bvh": read_bvh, ".json": read_pattern}.get(path.suffix, open_any)
    try:
        document = open_it(path)
    except PegLoomError as error:
        text = str(error)
        assert "\n" not in text
        assert 10 < len(text) < 600
        assert path.name in text or "size" in text
    else:
        for part in document.character.parts:
            assert np.isfinite(part.mesh.points).all()
            assert part.name.isprintable()
            assert len(part.name) <= 200
    assert not [e for e in ear if e[0] in STARTS]
    assert {p for p in tmp_path.rglob("*") if p.is_file()} == before
    outside = [o for _, o in ear if o.startswith(("/etc/passwd", "/etc/hostname")) or o == str(tmp_path / "there" / "out.png")]
    assert not outside


@pytest.mark.parametrize("name", ENDS_THE_LIBRARY)
def test_what_ends_the_usd_library_does_not_end_the_program(name, tmp_path):
    case = next(c for c in cases() if c.name == name)
    with pytest.raises(MeshFileError, match=r"damaged|memory|longer|signal"):
        read_mesh(case.lay_out(tmp_path))


@pytest.mark.parametrize("name", ["zip-bomb", "project-bomb", "glb-shown-often", "usd-parts"])
def test_a_small_file_takes_little(name, tmp_path):
    case = next(c for c in cases() if c.name == name)
    assert max(map(len, case.files.values())) < 5 << 20
    outcome = opened_apart(case.lay_out(tmp_path))
    assert outcome.said.startswith(("opened", "refused"))
    assert outcome.bytes < 1536 << 20


# Pictures


def drawn(kind, **options):
    out = io.BytesIO()
    Picture.new("RGB", (6, 4), (200, 30, 10)).save(out, kind, **options)
    return out.getvalue()


@pytest.mark.parametrize("kind", ["PNG", "JPEG", "WEBP", "TIFF", "BMP", "TGA"])
def test_six_kinds_of_pictures_are_read_by_their_first_bytes_whatever_they_are_called(kind):
    options = {"lossless": True} if kind == "WEBP" else {}
    made = image_from_bytes("anything.eps", drawn(kind, **options))
    assert made.kind == ("image/jpeg" if kind == "JPEG" else "image/png")
    assert pixels(made).shape == (4, 6, 4)
    assert np.abs(pixels(made)[0, 0, :3].astype(int) - [200, 30, 10]).max() < 12


@pytest.mark.parametrize("kind", ["GIF", "ICO", "PPM", "PCX", "EPS", "PDF", "JPEG2000", "ICNS", "SGI"])
def test_no_other_kind_is_even_tried(kind):
    data = drawn(kind)
    assert kind_of(data) is None
    assert image_from_bytes("a.png", data) is None


def test_a_picture_cut_short_is_none_and_shows_grey_where_it_stands_already():
    whole = drawn("PNG")
    assert image_from_bytes("a.png", whole[:45]) is None
    assert pixels(Image("a.png", "image/png", whole[:40])).shape == (1, 1, 4)


# USD


def test_usd_composes_only_what_lies_in_its_own_folder(tmp_path, monkeypatch):
    """Sublayers, references, payloads, a symlink, a path into a package, the working folder: nothing of them comes."""
    secret = f'#usda 1.0\n( defaultPrim = "s" )\ndef Mesh "s" {USD_MESH}'
    (tmp_path / "work").mkdir()
    (tmp_path / "work" / "near.usda").write_text(secret)
    (tmp_path / "out.usda").write_text(secret)
    home = tmp_path / "home"
    (home / "sub").mkdir(parents=True)
    (home / "sub" / "inside.usda").write_text(secret.replace('"s"', '"inside"'))
    (home / "link.usda").symlink_to(tmp_path / "out.usda")
    (home / "root.usda").write_text(
        "#usda 1.0\n( subLayers = [@../out.usda@, @./sub/inside.usda@] )\n"
        f'def Mesh "own" {USD_MESH}'
        + "".join(
            f'def "n{k}" ( prepend {arc} = @{name}@ ) {{}}\n'
            for k, (arc, name) in enumerate([
                ("references", str(tmp_path / "out.usda")), ("references", "../out.usda"), ("payload", "../out.usda"),
                ("references", "link.usda"), ("references", "near.usda"), ("references", "x.usdz[inner.usda]"),
                ("references", "sub/inside.usda"),
            ])
        )
    )  # fmt: skip
    monkeypatch.chdir(tmp_path / "work")
    read = read_mesh(home / "root.usda")
    assert sorted(p.name for p in read.parts) == ["inside", "n6", "own"]
    (line,) = [n for n in read.notes if "not loaded" in n]
    for name in ("../out.usda", "link.usda", "near.usda", "x.usdz[inner.usda]"):
        assert name in line
    assert "inside.usda" not in line


def test_a_picture_outside_is_listed_and_one_inside_is_read(tmp_path):
    home = tmp_path / "home"
    home.mkdir()
    for place in (tmp_path / "out.png", home / "in.png"):
        place.write_bytes(drawn("PNG"))
    shader = (
        'def Material "{m}" {{\ntoken outputs:surface.connect = </{m}/s.outputs:surface>\n'
        'def Shader "s" {{\nuniform token info:id = "UsdPreviewSurface"\ntoken outputs:surface\n'
        'color3f inputs:diffuseColor.connect = </{m}/t.outputs:rgb>\n}}\n'
        'def Shader "t" {{\nuniform token info:id = "UsdUVTexture"\nasset inputs:file = @{file}@\nfloat3 outputs:rgb\n}}\n}}\n'
    )
    bound = 'rel material:binding = </{m}>\n'
    api = '( prepend apiSchemas = ["MaterialBindingAPI"] )\n'
    (home / "a.usda").write_text(
        "#usda 1.0\n"
        + shader.format(m="one", file="../out.png") + shader.format(m="two", file="in.png")
        + f'def Mesh "a" {api}' + USD_MESH.replace("{ ", "{ " + bound.format(m="one"), 1)
        + f'def Mesh "b" {api}' + USD_MESH.replace("{ ", "{ " + bound.format(m="two"), 1)
    )  # fmt: skip
    read = read_mesh(home / "a.usda")
    assert [i.name for i in read.images] == ["in.png"]
    assert any("../out.png" in n for n in read.notes)


def test_a_package_gives_its_own_layers_and_pictures(tmp_path):
    from pxr import Sdf, UsdUtils

    (tmp_path / "sub.usda").write_text(f'#usda 1.0\n( defaultPrim = "s" )\ndef Mesh "s" {USD_MESH}')
    (tmp_path / "root.usda").write_text('#usda 1.0\ndef "n" ( prepend references = @./sub.usda@ ) {}\n')
    assert UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(tmp_path / "root.usda")), str(tmp_path / "a.usdz"))
    (tmp_path / "sub.usda").unlink()
    assert [p.name for p in read_mesh(tmp_path / "a.usdz").parts] == ["n"]


def test_the_helper_gets_none_of_the_librarys_own_settings():
    assert not [k for k in KEPT if k.startswith(("PXR", "USD", "PYTHON"))]


# Names


def outlaw(tmp_path, name):
    """A project whose picture is called something a file must not be called."""
    document = wick()
    image = document.character.images[0]
    save_project(tmp_path / "w.pegloom", document)
    with zipfile.ZipFile(tmp_path / "w.pegloom") as archive:
        entries = {n: archive.read(n) for n in archive.namelist()}
    old, new = json.dumps(image.name).encode(), json.dumps(name).encode()
    assert old in entries["document.json"]
    entries["document.json"] = entries["document.json"].replace(old, new)
    path = tmp_path / "bad.pegloom"
    path.write_bytes(zipped(entries))
    return path


@pytest.mark.each(3)
@pytest.mark.parametrize("name", [
    "/tmp/pegloom-was-here.png", "../../pegloom-was-here.png", "C:\\pegloom-was-here.png", "a/b.png", "..", "",
    "x\npegloom.png", "-s 9.png", "\x00.png", "aux:stream.png",
])  # fmt: skip
@pytest.mark.parametrize("ending", [".obj", ".usda"])
def test_a_pictures_name_in_a_project_leads_nowhere(tmp_path, name, ending):
    document = open_project(outlaw(tmp_path, name))
    character = document.character
    assert any(line.startswith("mended: picture") for line in character.import_notes)
    assert {m.base_image for m in character.materials} & {i.name for i in character.images}, "the picture is still worn"
    inside = tmp_path / "inside"
    inside.mkdir()
    others = {p for p in tmp_path.rglob("*") if inside not in p.parents}
    write_any(inside / f"out{ending}", document)
    assert {p for p in tmp_path.rglob("*") if inside not in p.parents} == others
    assert not Path("/tmp/pegloom-was-here.png").exists()
    assert all(p.parent == inside for p in inside.rglob("*"))
    assert any(p.suffix == ".png" for p in inside.iterdir())
    again = open_any(inside / f"out{ending}").character
    assert len(again.images) == 1


@pytest.mark.parametrize("ending", [".obj", ".usda"])
def test_an_export_writes_over_no_neighbour(tmp_path, ending):
    document = wick()
    picture = document.character.images[0].name
    (tmp_path / picture).write_bytes(b"somebody else's")
    (tmp_path / "out.mtl").write_text("newmtl theirs\n")
    notes = write_any(tmp_path / f"out{ending}", document)
    assert (tmp_path / picture).read_bytes() == b"somebody else's"
    assert (tmp_path / "out.mtl").read_text() == "newmtl theirs\n"
    assert any(picture in n and "left as it is" in n for n in notes)
    first = {p.name: p.read_bytes() for p in tmp_path.iterdir()}
    notes = write_any(tmp_path / f"out{ending}", document)
    assert {p.name for p in tmp_path.iterdir()} == set(first), "what was ours is used again"
    again = open_any(tmp_path / f"out{ending}").character
    assert again.images[0].data == document.character.images[0].data


def test_no_name_puts_a_line_into_an_obj_or_its_materials(tmp_path):
    from dataclasses import replace

    document = wick()
    character = document.character
    evil = "x\nf 1 1 1\rusemtl \u2028gone\\"
    parts = tuple(replace(p, name=evil) for p in character.parts)
    materials = tuple(replace(m, name=evil + " #") for m in character.materials)
    write_any(tmp_path / "out.obj", document.with_character(replace(character, parts=parts, materials=materials)))
    plain = wick()
    write_any(tmp_path / "plain.obj", plain)
    for ending in ("obj", "mtl"):
        lines = [(tmp_path / f"{n}.{ending}").read_text().split("\n") for n in ("out", "plain")]
        assert len(lines[0]) == len(lines[1])
        assert [row.split(" ")[0] for row in lines[0]] == [row.split(" ")[0] for row in lines[1]]
    assert open_any(tmp_path / "out.obj").character.parts[0].mesh.face_count == character.parts[0].mesh.face_count


# Sizes


def test_the_limit_is_stated_and_can_be_raised(tmp_path, monkeypatch):
    path = tmp_path / "a.zip"
    path.write_bytes(zipped({"a.obj": OBJ.encode() + b"# nothing\n" * 9_000_000}))
    with pytest.raises(TooLargeError, match=r"unpacks to more than \d+ MB.*PEGLOOM_UNPACK_MB"):
        read_mesh(path)
    assert read_mesh(path, most=1 << 30).parts
    monkeypatch.setenv(allowance.VARIABLE, "600")
    assert read_mesh(path).parts


def test_what_is_packed_grants_nothing_and_what_lies_beside_does(tmp_path):
    """A packed neighbour must not pay for itself; a real one does, in the helper for USD as well."""
    case = next(c for c in cases() if c.name == "zip-packed-neighbour")
    with pytest.raises(TooLargeError):
        read_mesh(case.lay_out(tmp_path))
    shader = (
        'def Material "m{k}" {{\ntoken outputs:surface.connect = </m{k}/s.outputs:surface>\n'
        'def Shader "s" {{\nuniform token info:id = "UsdPreviewSurface"\ntoken outputs:surface\n'
        "color3f inputs:diffuseColor.connect = </m{k}/t.outputs:rgb>\n}}\n"
        'def Shader "t" {{\nuniform token info:id = "UsdUVTexture"\nasset inputs:file = @{k}.bmp@\nfloat3 outputs:rgb\n}}\n}}\n'
        'def Mesh "a{k}" ( prepend apiSchemas = ["MaterialBindingAPI"] )\n'
    )
    out = io.BytesIO()
    Picture.new("RGB", (3000, 3000), (9, 200, 9)).save(out, "BMP")
    text = "#usda 1.0\n"
    for k in range(16):  # more than a file of this size is granted by itself
        (tmp_path / f"{k}.bmp").write_bytes(out.getvalue())
        text += shader.format(k=k) + USD_MESH.replace("{ ", f"{{ rel material:binding = </m{k}>\n", 1)
    (tmp_path / "a.usda").write_text(text)
    assert len(read_mesh(tmp_path / "a.usda").images) == 16


def test_no_array_of_a_project_is_longer_than_its_bytes(tmp_path):
    case = next(c for c in cases() if c.name == "project-array-claims")
    with pytest.raises(ProjectFileError, match="size is not what it claims"):
        open_project(case.lay_out(tmp_path))


def test_what_is_no_file_is_never_waited_for(tmp_path):
    os.mkfifo(tmp_path / "pipe.obj")
    for path in (tmp_path / "pipe.obj", Path("/dev/zero")):
        with pytest.raises(MeshFileError, match=r"no file|no mesh file"):
            read_mesh(path)


def test_a_chain_of_joints_as_long_as_any_is_read_whole(tmp_path):
    case = next(c for c in cases() if c.name == "glb-chain")
    skeleton = read_mesh(case.lay_out(tmp_path)).skeleton
    assert len(skeleton.joints) == 1500
    assert skeleton.parents.tolist() == list(range(-1, 1499))


# Numbers


@pytest.mark.parametrize(("change", "words"), [
    ({"materials": [{"name": "m", "pbrMetallicRoughness": {"baseColorFactor": [2, -1, 0.5, 1]}}],
      "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "material": 0}]}]}, "outside 0 to 1"),
    ({"meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "material": 7}]}]}, "not there"),
])  # fmt: skip
def test_what_can_be_mended_is_with_a_line(tmp_path, change, words):
    from tests.support.hostile import glb

    (tmp_path / "a.glb").write_bytes(glb(gltf(**change)))
    read = read_mesh(tmp_path / "a.glb")
    assert any(words in n for n in read.notes)
    for material in read.materials:
        assert all(0 <= v <= 1 for v in (*material.base_colour, material.metallic, material.roughness))
    assert all(p.mesh.materials.max() < len(read.materials) for p in read.parts)


def test_uvs_that_are_no_numbers_do_not_lose_the_mesh(tmp_path):
    (tmp_path / "a.obj").write_text(OBJ.replace("vt 1 0", "vt nan 0"))
    read = read_mesh(tmp_path / "a.obj")
    assert read.parts[0].mesh.uvs.tolist() == [[0, 0], [0, 0], [0, 1]]
    assert any("UVs that are no numbers" in n for n in read.notes)
