"""PLY, STL, USD, ZIP, morph targets: there and back, and broken ones refused in words."""

import struct
import zipfile

import numpy as np
import pytest
import trimesh
from pxr import Usd, UsdGeom, UsdSkel

from pegloom.core.errors import MeshFileError
from pegloom.core.geometry.mesh import is_watertight
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.evaluate import part_points
from pegloom.document.model import Document, Morph, Subdivision
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.reading import READABLE, read_mesh
from pegloom.files.writing import write_any
from tests.support.figures import DEMO, box_limb, capsule_figure, document_of, wick


def brought(path):
    read = read_mesh(path)
    return edits.bring_in(
        Document(),
        read.parts,
        name=path.stem,
        materials=read.materials,
        images=read.images,
        skeleton=read.skeleton,
        weights=read.weights,
    )


@pytest.mark.parametrize("ending", [".ply", ".stl", ".obj", ".usda", ".usdc", ".glb"])
def test_a_mesh_comes_back_through_every_format(tmp_path, ending):
    document = document_of(box_limb(rows=5))
    write_any(tmp_path / f"x{ending}", document)
    mesh = read_mesh(tmp_path / f"x{ending}").parts[0].mesh
    before = document.character.parts[0].mesh
    assert mesh.vertex_count == before.vertex_count
    if ending in (".ply", ".obj", ".usda", ".usdc"):
        assert np.array_equal(mesh.corners, before.corners), "polygons and vertex order stay"
        assert np.allclose(mesh.points, before.points, atol=1e-6)


@pytest.mark.parametrize("ending", ["ply", "stl", "obj", "glb"])
def test_files_of_another_program_are_read(tmp_path, ending):
    made = capsule_figure()
    made.export(tmp_path / f"x.{ending}")
    mesh = read_mesh(tmp_path / f"x.{ending}").parts[0].mesh
    assert mesh.face_count == len(made.faces)
    assert np.ptp(mesh.points, axis=0) == pytest.approx(np.ptp(made.vertices, axis=0), abs=1e-5)


def test_text_stl_and_text_ply(tmp_path):
    box = trimesh.creation.box()
    (tmp_path / "a.stl").write_text(trimesh.exchange.stl.export_stl_ascii(box))
    (tmp_path / "a.ply").write_bytes(trimesh.exchange.ply.export_ply(box, encoding="ascii"))
    for name in ("a.stl", "a.ply"):
        mesh = read_mesh(tmp_path / name).parts[0].mesh
        assert (mesh.vertex_count, mesh.face_count) == (8, 12)
        assert is_watertight(mesh)


def test_usd_says_the_same_to_usd_itself(tmp_path):
    """Skinning by usd-core of what we wrote, against our own."""
    document = edits.rest_controls(wick())
    character = document.character
    write_any(tmp_path / "w.usda", document)
    stage = Usd.Stage.Open(str(tmp_path / "w.usda"))
    assert UsdGeom.GetStageUpAxis(stage) == "Y"
    cache = UsdSkel.Cache()
    root = UsdSkel.Root(stage.GetPrimAtPath("/character"))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    skeleton = character.skeleton
    pose = edits.set_channels(document, "arm.l.upper.fk", rotate_y=-0.9).character.pose
    joints = evaluate_rig(skeleton, character.rig, pose).joints
    (binding,) = cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate)
    for target in binding.GetSkinningTargets():
        part = next(p for p in character.parts if target.GetPrim().GetName().startswith(p.name))
        points = UsdGeom.Mesh(target.GetPrim()).GetPointsAttr().Get()
        from pxr import Gf, Vt

        transforms = Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in skin_matrices(skeleton, joints)])
        mapper = target.GetJointMapper()
        ordered = mapper.RemapTransforms(transforms) if mapper else transforms
        assert target.ComputeSkinnedPoints(ordered, points, Usd.TimeCode.Default())
        ours = part_points(character, part, skin_matrices(skeleton, joints))
        assert np.abs(np.array(points) - ours).max() < 1e-4 * character.height


def test_usd_brings_skeleton_weights_and_cage(tmp_path):
    document = wick()
    part = document.character.parts[0]
    document = edits.set_subdivision(document, part.id, Subdivision.CATMULL_CLARK)
    write_any(tmp_path / "w.usdc", document)
    read = read_mesh(tmp_path / "w.usdc")
    assert read.parts[0].smooth is Subdivision.CATMULL_CLARK
    assert len(read.skeleton.joints) == len(document.character.skeleton.joints)
    assert read.materials[0].base_image == "wick.png"
    back = brought(tmp_path / "w.usdc").character
    for other, mine in zip(back.parts, document.character.parts, strict=True):
        a = back.skin.weights[other.id]
        b = document.character.skin.weights[mine.id]
        for joint in document.character.skeleton.joints:
            there = read.skeleton.by_name(joint.name).id
            assert np.abs(a.column(there) - b.column(joint.id)).max() < 1e-3


def test_usd_of_another_up_axis_unit_and_hand(tmp_path):
    stage = Usd.Stage.CreateNew(str(tmp_path / "u.usda"))
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    outer = UsdGeom.Xform.Define(stage, "/a")
    outer.AddTranslateOp().Set((0, 0, 50))
    mesh = UsdGeom.Mesh.Define(stage, "/a/box")
    box = trimesh.creation.box((100, 100, 100))
    mesh.CreatePointsAttr([tuple(map(float, p)) for p in box.vertices])
    mesh.CreateFaceVertexCountsAttr([3] * 12)
    mesh.CreateFaceVertexIndicesAttr(box.faces[:, ::-1].ravel().tolist())
    mesh.CreateOrientationAttr("leftHanded")
    stage.GetRootLayer().Save()
    made = read_mesh(tmp_path / "u.usda").parts[0].mesh
    assert np.allclose(made.points.min(axis=0), [-0.5, -0.5, 0.0])
    from pegloom.core.geometry.mend import inward_faces

    assert not inward_faces(made).any()


def test_a_zip_of_a_mesh_and_its_textures(tmp_path):
    with zipfile.ZipFile(tmp_path / "w.zip", "w") as archive:
        archive.write(DEMO / "wick.obj", "deep/wick.obj")
        archive.write(DEMO / "wick.mtl", "deep/wick.mtl")
        archive.write(DEMO / "wick.png", "maps/wick.png")
        archive.writestr("readme.txt", "hello")
    read = read_mesh(tmp_path / "w.zip")
    assert [p.name for p in read.parts] == ["body", "eyes", "hat_brim"]
    assert read.images[0].name == "wick.png"
    with zipfile.ZipFile(tmp_path / "evil.zip", "w") as archive:
        archive.writestr("../../x.obj", "v 0 0 0")
    with pytest.raises(MeshFileError, match="outside"):
        read_mesh(tmp_path / "evil.zip")
    assert not (tmp_path.parent / "x.obj").exists()


def test_morph_targets_live_through_glb_and_standing_up(tmp_path):
    document = document_of(box_limb(rows=4))
    character = document.character
    deltas = np.random.default_rng(1).normal(0, 0.01, (character.parts[0].mesh.vertex_count, 3))
    deltas.setflags(write=False)
    from dataclasses import replace

    part = replace(character.parts[0], morphs=(Morph("smile", deltas, 0.25),))
    document = document.with_character(replace(character, parts=(part,)))
    write_glb(tmp_path / "m.glb", document.character)
    read = read_gltf(tmp_path / "m.glb")
    (morph,) = read.parts[0].morphs
    assert (morph.name, morph.at_rest) == ("smile", 0.25)
    assert np.allclose(morph.deltas, deltas, atol=1e-6)
    stood = edits.stand_up(document, height=3.0).character
    linear = np.array(stood.standing.file_to_character).reshape(4, 4)[:3, :3]
    assert np.allclose(stood.parts[0].morphs[0].deltas, deltas @ linear.T)
    welded = edits.mend_part(document, "part0", "weld").character.parts[0]
    assert len(welded.morphs[0].deltas) == welded.mesh.vertex_count


BROKEN = {
    "a.ply": b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\n",
    "b.ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 900000000\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n",
    "c.ply": b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n3 0 1 2\n",
    "d.stl": b"\0" * 80 + struct.pack("<I", 7),
    "e.stl": b"solid x\nfacet normal 0 0 0\nvertex 1 two 3\n",
    "f.stl": b"nothing of the kind",
    "g.usda": b"#usda 1.0\n(",
    "h.usdc": b"PXR-USDC" + b"\0" * 40,
    "i.usdz": b"PK\3\4 no",
    "j.zip": b"PK\3\4",
    "k.usda": b"#usda 1.0\n",
    "l.ply": b"",
    "m.usda": b"",
}


@pytest.mark.parametrize("name", BROKEN)
def test_broken_files_are_refused_in_words(tmp_path, name):
    path = tmp_path / name
    path.write_bytes(BROKEN[name])
    with pytest.raises(MeshFileError) as caught:
        read_mesh(path)
    said = str(caught.value)
    assert said.startswith(name)
    assert ";" in said, "it says what to do"
    assert "\n" not in said


def test_unknown_endings_name_the_known_ones(tmp_path):
    (tmp_path / "x.xyz").write_text("1 2 3")
    with pytest.raises(MeshFileError, match=r"\.usda") as caught:
        read_mesh(tmp_path / "x.xyz")
    assert all(ending in str(caught.value) for ending in READABLE)
    with pytest.raises(MeshFileError, match="folder"):
        read_mesh(tmp_path)
    assert isinstance(Pose(), Pose)
