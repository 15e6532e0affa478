"""What a file says of a material's look comes through and goes out again, or is named."""

from __future__ import annotations

import io
import json
import struct
from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest
import trimesh
from PIL import Image as Picture

from pegloom.core.errors import ProjectFileError
from pegloom.core.geometry.mend import joined, keep_faces, turn_faces, weld_vertices
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, triangulate, with_points
from pegloom.document import edits
from pegloom.document.model import Document, Image, Material, Part, Placing
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from pegloom.files.usd import read_usd, write_usd
from tests.support.figures import box_limb


def picture(name, colour):
    data = io.BytesIO()
    Picture.new("RGB", (4, 4), colour).save(data, "PNG")
    return Image(f"{name}.png", "image/png", data.getvalue())


NAMES = ("base", "normal", "metal", "occlusion", "emissive")
RICH = Material(
    "brass", (0.9, 0.7, 0.2, 1.0), 0.75, 0.35, "base.png", "normal.png", True, False, 0.6, "metal.png", "occlusion.png", 0.4,
    (0.1, 0.2, 0.3), "emissive.png", 0.25,
    MappingProxyType({"base": Placing((0.25, 0.5), 0.5, (2.0, 3.0)), "occlusion": Placing(scale=(4.0, 4.0))}),
)  # fmt: skip


def character():
    mesh = box_limb()
    uvs = np.tile([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]], (mesh.face_count, 1))
    uvs.setflags(write=False)
    part = Part("part0", "limb", replace(mesh, uvs=uvs, materials=np.zeros(mesh.face_count, dtype=np.int64)))
    images = tuple(picture(n, (40 * k, 90, 200 - 30 * k)) for k, n in enumerate(NAMES))
    return edits.bring_in(Document(), (part,), name="limb", materials=(RICH,), images=images).character


def test_a_rich_material_comes_back_as_it_went(tmp_path):
    path = tmp_path / "limb.glb"
    write_glb(path, character())
    read = read_gltf(path)
    back = read.materials[0]
    assert back.pictures.keys() == RICH.pictures.keys()
    assert {i.name for i in read.images} == set(back.pictures.values())
    for field in ("metallic", "roughness", "double_sided", "see_through", "normal_scale", "occlusion", "emissive", "cutoff"):
        assert getattr(back, field) == pytest.approx(getattr(RICH, field)), field
    assert dict(back.placings) == dict(RICH.placings)
    own = {i.name: i.data for i in read.images}
    for what, name in back.pictures.items():
        assert own[name] == next(i.data for i in character().images if i.name == RICH.pictures[what])
    json_length = struct.unpack("<I", path.read_bytes()[12:16])[0]
    told = json.loads(path.read_bytes()[20 : 20 + json_length])
    assert told["extensionsUsed"] == ["KHR_texture_transform"]


def test_another_reader_sees_the_same_look(tmp_path):
    path = tmp_path / "limb.glb"
    write_glb(path, character())
    seen = next(iter(trimesh.load(path).geometry.values())).visual.material
    assert seen.metallicFactor == pytest.approx(0.75) and seen.roughnessFactor == pytest.approx(0.35)
    np.testing.assert_allclose(seen.emissiveFactor, (0.1, 0.2, 0.3))
    assert seen.alphaMode == "MASK" and seen.alphaCutoff == pytest.approx(0.25) and seen.doubleSided
    for what in ("baseColorTexture", "metallicRoughnessTexture", "normalTexture", "occlusionTexture", "emissiveTexture"):
        assert getattr(seen, what) is not None, what


def test_a_project_keeps_it_and_a_copy_takes_all_but_the_name(tmp_path):
    path = tmp_path / "limb.pegloom"
    one = character()
    document = replace(Document(), characters=(one,), name="limb")
    save_project(path, document)
    back = open_project(path).character.materials[0]
    assert replace(back, placings=RICH.placings) == RICH and dict(back.placings) == dict(RICH.placings)
    two = replace(one, materials=(RICH, Material("other")))
    copied = edits.copy_material(replace(document, characters=(two,)), 0, 1).character.materials[1]
    assert copied == replace(RICH, name="other")


@pytest.mark.parametrize("ending", [".usda", ".usdz"])
def test_a_rich_material_comes_back_from_usd_as_it_went(tmp_path, ending):
    path = tmp_path / f"limb{ending}"
    notes = write_usd(path, character())
    assert not [n for n in notes if "brass" in n]
    read = read_usd(path)
    back = read.materials[0]
    assert back.pictures.keys() == RICH.pictures.keys()
    assert {i.name for i in read.images} == set(back.pictures.values())
    for field in ("base_colour", "metallic", "roughness", "double_sided", "see_through", "normal_scale", "occlusion", "emissive", "cutoff"):
        assert getattr(back, field) == pytest.approx(getattr(RICH, field), abs=1e-6), field
    for what, placing in RICH.placings.items():
        assert back.placings[what].offset == pytest.approx(placing.offset, abs=1e-6)
        assert back.placings[what].rotation == pytest.approx(placing.rotation, abs=1e-6)
        assert back.placings[what].scale == pytest.approx(placing.scale)


def test_a_picture_moved_on_the_uvs_is_looked_up_at_the_same_place_by_both_standards(tmp_path):
    """One point of the UVs through KHR_texture_transform as it is written down, and through UsdTransform2d as it is."""
    from pxr import Usd, UsdShade

    placing = RICH.placings["base"]
    path = tmp_path / "limb.usda"
    write_usd(path, character())
    stage = Usd.Stage.Open(str(path))
    move = next(UsdShade.Shader(p) for p in stage.Traverse() if p.GetName() == "base_place")
    degrees, scale, offset = (move.GetInput(n).Get() for n in ("rotation", "scale", "translation"))
    turn = np.radians(degrees)
    for u, v in ((0.0, 0.0), (0.3, 0.8), (1.0, 0.25)):
        c, s = np.cos(placing.rotation), np.sin(placing.rotation)
        x, y = placing.scale[0] * u, placing.scale[1] * (1.0 - v)
        gltf = np.array([c * x - s * y, s * x + c * y]) + placing.offset
        x, y = scale[0] * u, scale[1] * v
        usd = np.array([np.cos(turn) * x - np.sin(turn) * y, np.sin(turn) * x + np.cos(turn) * y]) + np.array(offset)
        np.testing.assert_allclose(usd, [gltf[0], 1.0 - gltf[1]], atol=1e-6)


def test_colours_another_library_wrote_are_kept_and_third_uvs_named(tmp_path):
    path = tmp_path / "coloured.glb"
    made = trimesh.creation.box()
    colours = np.random.default_rng(2).integers(0, 256, (len(made.vertices), 4))
    made.visual = trimesh.visual.ColorVisuals(made, vertex_colors=colours)
    made.export(path)
    read = read_gltf(path)
    mesh = read.parts[0].mesh
    own = {tuple(np.round(p, 5)): c for p, c in zip(made.vertices, colours / 255.0, strict=True)}
    for corner, vertex in enumerate(mesh.corners.tolist()):
        np.testing.assert_allclose(mesh.layers[COLOURS][corner], own[tuple(np.round(mesh.points[vertex], 5))], atol=1e-6)
    data = path.read_bytes()
    path.write_bytes(data.replace(b'"COLOR_0"', b'"COLOR_1"'))
    assert any("COLOR_1" in note for note in read_gltf(path).notes)


def test_numbers_out_of_range_are_brought_back(tmp_path):
    path = tmp_path / "limb.glb"
    write_glb(path, character())
    data = path.read_bytes()
    length = struct.unpack("<I", data[12:16])[0]
    told = json.loads(data[20 : 20 + length])
    told["materials"][0]["emissiveFactor"] = [4.0, -1.0, 0.5]
    told["materials"][0]["occlusionTexture"]["strength"] = 7.0
    text = json.dumps(told).encode()
    text += b" " * (-len(text) % 4)
    rest = data[20 + length :]
    path.write_bytes(data[:8] + struct.pack("<III", 20 + len(text) + len(rest), len(text), 0x4E4F534A) + text + rest)
    from pegloom.files.reading import read_mesh

    read = read_mesh(path)
    assert read.materials[0].emissive == (1.0, 0.0, 0.5) and read.materials[0].occlusion == 1.0
    assert any("brought back" in note for note in read.notes)


def layered():
    """The limb with a colour a vertex and second UVs that part along one edge."""
    one = character()
    mesh = one.parts[0].mesh
    vertex = np.random.default_rng(4).integers(0, 256, (mesh.vertex_count, 4)) / 255.0
    second = np.tile([[0.1, 0.2], [0.9, 0.2], [0.9, 0.7], [0.1, 0.7]], (mesh.face_count, 1))
    second[: len(second) // 2] *= 0.5
    layers = MappingProxyType({COLOURS: vertex[mesh.corners], SECOND_UVS: second})
    occlusion = replace(RICH.placings["occlusion"], second=True)
    look = replace(RICH, placings=MappingProxyType({**RICH.placings, "occlusion": occlusion, "normal": Placing(second=True)}))
    return replace(one, parts=(replace(one.parts[0], mesh=replace(mesh, layers=layers)),), materials=(look,))


def corner_rows(mesh):
    """What every corner of every triangle has, in an order that files keep: (t * 3, 6)."""
    tri = triangulate(mesh)
    return np.concatenate([mesh.layers[name][tri.corners.ravel()] for name in (COLOURS, SECOND_UVS)], axis=1)


def test_second_uvs_and_vertex_colours_come_back_through_glb_and_project(tmp_path):
    one = layered()
    notes = write_glb(tmp_path / "limb.glb", one)
    assert not [n for n in notes if "UV" in n or "colour" in n]
    read = read_gltf(tmp_path / "limb.glb")
    np.testing.assert_allclose(corner_rows(read.parts[0].mesh), corner_rows(one.parts[0].mesh), atol=1e-6)
    assert {w: p.second for w, p in read.materials[0].placings.items()} == {"base": False, "occlusion": True, "normal": True}
    # Another reader finds the colours where they were.
    seen = next(iter(trimesh.load(tmp_path / "limb.glb", process=False).geometry.values()))
    assert seen.visual.vertex_attributes["color"].shape[0] == len(seen.vertices) if seen.visual.kind == "texture" else True
    save_project(tmp_path / "limb.pegloom", replace(Document(), characters=(one,), name="limb"))
    kept = open_project(tmp_path / "limb.pegloom").characters[0].parts[0].mesh
    np.testing.assert_array_equal(corner_rows(kept), corner_rows(one.parts[0].mesh))


def test_layers_go_along_where_a_mesh_is_mended_moved_split_and_joined():
    mesh = layered().parts[0].mesh
    moved = with_points(mesh, mesh.points + 1.0)
    assert moved.layers is mesh.layers
    welded, _ = weld_vertices(mesh)
    np.testing.assert_array_equal(welded.layers[COLOURS], mesh.layers[COLOURS])
    turned, _ = turn_faces(mesh, np.ones(mesh.face_count, dtype=bool))
    back, _ = turn_faces(turned, np.ones(mesh.face_count, dtype=bool))
    assert not np.array_equal(turned.layers[SECOND_UVS], mesh.layers[SECOND_UVS])
    np.testing.assert_array_equal(back.layers[SECOND_UVS], mesh.layers[SECOND_UVS])
    half = keep_faces(mesh, np.arange(mesh.face_count) < 5)
    both = joined([half, keep_faces(mesh, np.arange(mesh.face_count) >= 5)])
    np.testing.assert_array_equal(both.layers[COLOURS], mesh.layers[COLOURS])
    # What one of them does not have is nobody's.
    assert not joined([mesh, box_limb()]).layers


def test_layers_that_do_not_fit_are_refused_in_a_project(tmp_path):
    one = layered()
    mesh = one.parts[0].mesh
    short = replace(mesh, layers=MappingProxyType({COLOURS: mesh.layers[COLOURS][:-1]}))
    broken = replace(one, parts=(replace(one.parts[0], mesh=short),))
    save_project(tmp_path / "broken.pegloom", replace(Document(), characters=(broken,), name="limb"))
    with pytest.raises(ProjectFileError, match="not put together"):
        open_project(tmp_path / "broken.pegloom")
