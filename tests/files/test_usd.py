"""USD keeps names, normals and normal maps; looked at through the standard's own library, and read again."""

from dataclasses import replace
from types import MappingProxyType

import numpy as np
import pytest
from PIL import Image as Picture

from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, make_mesh
from pegloom.document import edits
from pegloom.document.model import Document, Image, Material, Morph, Part, Subdivision
from pegloom.files.opening import open_any
from pegloom.files.usd import read_usd, write_usd
from tests.support.figures import box_limb, rigged_capsules, wick


def pictures():
    import io

    made = []
    for name, colour in (("skin.png", (200, 90, 60)), ("skin bumps.png", (128, 128, 255))):
        out = io.BytesIO()
        Picture.new("RGB", (4, 4), colour).save(out, "PNG")
        made.append(Image(name, "image/png", out.getvalue()))
    return tuple(made)


def named(*names, morphs=(), smooth=Subdivision.NONE):
    """Boxes with normals of their own, called something."""
    parts = []
    for k, name in enumerate(names):
        points = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=float) + [2 * k, 0, 0]
        faces = np.array([[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]])
        outward = np.repeat(np.array([[-1, 0, 0], [1, 0, 0], [0, -1, 0], [0, 1, 0], [0, 0, -1], [0, 0, 1.0]]), 4, axis=0)
        mesh = make_mesh(points, faces.ravel(), np.arange(7) * 4, normals=outward, uvs=points[faces.ravel()][:, :2])
        own = tuple(Morph(m, np.full((8, 3), 0.1 * (i + 1))) for i, m in enumerate(morphs))
        parts.append(Part(f"part{k}", name, mesh, morphs=own, smooth=smooth))
    look = Material("skin (worn)", (1, 1, 1, 1), 0.1, 0.7, "skin.png", "skin bumps.png")
    return edits.bring_in(Document(), tuple(parts), name="x", materials=(look,), images=pictures()).character


def test_names_are_the_prims_names_where_they_can_be(tmp_path):
    from pxr import Usd

    write_usd(tmp_path / "a.usda", wick().character)
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    for part in wick().character.included:
        assert stage.GetPrimAtPath(f"/character/geometry/{part.name}").IsValid()
    back = read_usd(tmp_path / "a.usda")
    assert [p.name for p in back.parts] == [p.name for p in wick().character.included]
    assert [j.name for j in back.skeleton.joints] == [j.name for j in wick().character.skeleton.joints]
    kept = {m.name for m in back.materials}
    used = {wick().character.materials[s].name for p in wick().character.included for s in set(p.mesh.materials.tolist())}
    assert used <= kept


AWKWARD = ("body", "Körper 1", "Körper-1", "2 legs", "skeleton", "materials", "_", "body.001", "ß" * 40)


@pytest.mark.parametrize("ending", [".usda", ".usdc"])
def test_names_usd_cannot_take_are_told_apart_and_come_back_true(tmp_path, ending):
    character = named(*AWKWARD, morphs=("smile left", "smile-left", "smile_left", "slot0"))
    write_usd(tmp_path / f"a{ending}", character)
    back = read_usd(tmp_path / f"a{ending}")
    assert sorted(p.name for p in back.parts) == sorted(AWKWARD)
    by_name = {p.name: p for p in back.parts}
    for part in character.parts:
        again = by_name[part.name]
        assert np.allclose(again.mesh.points, part.mesh.points, atol=1e-6)
        assert [m.name for m in again.morphs] == [m.name for m in part.morphs]
        for mine, theirs in zip(part.morphs, again.morphs, strict=True):
            assert np.allclose(mine.deltas, theirs.deltas, atol=1e-6)
    assert "skin (worn)" in {m.name for m in back.materials}


def test_joints_with_awkward_names_come_back_true(tmp_path):
    document = rigged_capsules()
    skeleton = document.character.skeleton
    renames = dict(zip([j.id for j in skeleton.joints], ["a b", "a-b", "a_b", "7th"], strict=False))
    for joint, name in renames.items():
        document = edits.rename_joint(document, joint, name)
    write_usd(tmp_path / "a.usda", document.character)
    back = read_usd(tmp_path / "a.usda").skeleton
    assert [j.name for j in back.joints] == [j.name for j in document.character.skeleton.joints]
    assert np.allclose(back.positions, document.character.skeleton.positions, atol=1e-6)


def test_normals_and_normal_maps_are_written_and_read(tmp_path):
    from pxr import Usd, UsdGeom, UsdShade

    character = named("box")
    write_usd(tmp_path / "a.usda", character)
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/character/geometry/box"))
    assert mesh.GetNormalsInterpolation() == UsdGeom.Tokens.faceVarying
    assert np.allclose(np.array(mesh.GetNormalsAttr().Get()), character.parts[0].mesh.normals)
    material = UsdShade.MaterialBindingAPI(mesh.GetPrim()).ComputeBoundMaterial()[0]
    texture = UsdShade.Shader(material.ComputeSurfaceSource()[0].GetInput("normal").GetConnectedSource()[0].GetPrim())
    assert tuple(texture.GetInput("scale").Get()) == (2, 2, 2, 1)
    assert tuple(texture.GetInput("bias").Get()) == (-1, -1, -1, 0)
    assert texture.GetInput("sourceColorSpace").Get() == "raw"
    assert (tmp_path / texture.GetInput("file").Get().path).is_file()
    back = read_usd(tmp_path / "a.usda")
    assert np.allclose(back.parts[0].mesh.normals, character.parts[0].mesh.normals, atol=1e-6)
    look = back.materials[int(back.parts[0].mesh.materials[0])]
    by_name = {i.name: i.data for i in back.images}
    assert by_name[look.base_image] == pictures()[0].data
    assert by_name[look.normal_image] == pictures()[1].data


def test_normals_turn_with_the_node_above(tmp_path):
    write_usd(tmp_path / "in.usda", named("box"))
    text = (tmp_path / "in.usda").read_text()
    turned = text.replace(
        'def Mesh "box"', 'def Xform "over" {\nfloat3 xformOp:rotateXYZ = (90, 0, 0)\nfloat3 xformOp:scale = (1, 3, 1)\n'
        'uniform token[] xformOpOrder = ["xformOp:rotateXYZ", "xformOp:scale"]\ndef Mesh "box"', 1,
    )  # fmt: skip
    assert turned != text
    depth, at = 0, turned.index("{", turned.index('def Mesh "box"'))
    while True:
        depth += {"{": 1, "}": -1}.get(turned[at], 0)
        at += 1
        if depth == 0:
            break
    (tmp_path / "a.usda").write_text(turned[:at] + "\n}" + turned[at:])
    mesh = read_usd(tmp_path / "a.usda").parts[0].mesh
    points = mesh.points[mesh.corners].reshape(-1, 4, 3)
    true = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
    true /= np.linalg.norm(true, axis=1, keepdims=True)
    assert np.allclose(np.abs(np.einsum("fd,fd->f", true, mesh.normals[::4])), 1.0, atol=1e-6)


def test_a_smoothed_cage_has_no_normals_of_its_own(tmp_path):
    write_usd(tmp_path / "a.usda", named("box", smooth=Subdivision.CATMULL_CLARK))
    assert "normal3f[] normals" not in (tmp_path / "a.usda").read_text()
    assert open_any(tmp_path / "a.usda").character.parts[0].mesh.normals is None


def test_a_look_without_pictures_keeps_its_numbers(tmp_path):
    character = replace(named("box"), images=())
    write_usd(tmp_path / "a.usda", character)
    look = read_usd(tmp_path / "a.usda").materials[0]
    assert (look.metallic, look.roughness) == pytest.approx((0.1, 0.7))
    assert look.base_image is None


def test_second_uvs_colours_and_how_finely_it_is_smoothed_come_back(tmp_path):
    mesh = box_limb()
    rng = np.random.default_rng(3)
    layers = MappingProxyType({COLOURS: rng.random((len(mesh.corners), 4)), SECOND_UVS: rng.random((len(mesh.corners), 2))})
    uvs = np.asarray(rng.random((len(mesh.corners), 2)))
    part = Part("part0", "limb", replace(mesh, layers=layers, uvs=uvs), smooth=Subdivision.CATMULL_CLARK, levels=2)
    document = edits.bring_in(Document(), (part,), name="limb")
    write_usd(tmp_path / "limb.usda", document.character)
    back = read_usd(tmp_path / "limb.usda").parts[0]
    assert back.smooth is Subdivision.CATMULL_CLARK and back.levels == 2
    np.testing.assert_allclose(back.mesh.uvs, uvs, atol=1e-6)
    for name, values in layers.items():
        np.testing.assert_allclose(back.mesh.layers[name], values, atol=1e-6)
    # Another reader finds them under the names the standard has.
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(tmp_path / "limb.usda"))
    prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    names = {v.GetPrimvarName() for v in UsdGeom.PrimvarsAPI(prim).GetPrimvars()}
    assert {"st", "st1", "displayColor", "displayOpacity"} <= names


def test_a_mesh_called_mesh_takes_the_name_of_what_holds_it(tmp_path):
    path = tmp_path / "figure.usda"
    face = (
        "{\nint[] faceVertexCounts = [3]\nint[] faceVertexIndices = [0, 1, 2]\n"
        "point3f[] points = [(0,0,0), (1,0,0), (0,1,0)]\n}\n"
    )
    path.write_text(
        f'#usda 1.0\ndef Xform "Lantern" {{\ndef Mesh "mesh_0" {face}}}\n'
        f'def Xform "Coat" {{\ndef Mesh "Shape" {face}def Mesh "Buttons" {face}}}\ndef Mesh "Mesh" {face}'
    )
    assert [part.name for part in read_usd(path).parts] == ["Lantern", "Coat Shape", "Buttons", "Mesh"]
