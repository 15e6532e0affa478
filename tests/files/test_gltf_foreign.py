"""GLB files put together as other programs do: a scaled node above the joints, splines, several materials."""

import numpy as np
import pygltflib
import pytest

from pegloom.core.geometry.mesh import make_mesh
from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Material, Part
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from tests.support.figures import rigged_capsules
from tests.support.outside import Outside


@pytest.fixture(scope="module")
def capsules(tmp_path_factory):
    document, _ = edits.add_trial_clip(rigged_capsules())
    path = tmp_path_factory.mktemp("foreign") / "capsules.glb"
    write_glb(path, document.character)
    return path


def under_a_node(source, target, **transform):
    """The same file with a node of its own above the joints."""
    gltf = pygltflib.GLTF2().load(str(source))
    roots = [n for n in gltf.scenes[0].nodes if gltf.nodes[n].mesh is None]
    gltf.nodes.append(pygltflib.Node(name="stand", children=roots, **transform))
    gltf.scenes[0].nodes = [n for n in gltf.scenes[0].nodes if n not in roots] + [len(gltf.nodes) - 1]
    gltf.save(str(target))


def as_document(read):
    return edits.bring_in(
        Document(), read.parts, name="x", materials=read.materials, skeleton=read.skeleton,
        weights=read.weights, clips=read.clips,
    )  # fmt: skip


@pytest.mark.parametrize(
    "transform",
    [
        {},
        {"scale": [0.01, 0.01, 0.01]},
        {"rotation": [-(0.5**0.5), 0.0, 0.0, 0.5**0.5], "scale": [100.0, 100.0, 100.0]},
        {"translation": [3.0, -1.0, 2.0]},
    ],
)
def test_what_stands_above_the_joints_is_settled_in(capsules, tmp_path, transform):
    path = tmp_path / "foreign.glb"
    under_a_node(capsules, path, **transform)
    outside, character = Outside(path), as_document(read_gltf(path)).character
    size = np.ptp(outside.skinned("figure"), axis=0).max()
    for time in (0.0, 0.8, 1.63, 2.4):
        ours = evaluate(character, sample(character.clips[0], time, character.skeleton)).points["part0"]
        theirs = outside.skinned("figure", time)
        assert np.linalg.norm(ours - theirs, axis=1).max() < 2e-4 * size, time
    for matrix in character.skeleton.world:
        assert np.allclose(matrix[:3, :3] @ matrix[:3, :3].T, np.eye(3), atol=1e-6), "joints carry no scale"


def test_a_settled_character_exports_to_where_it_was(capsules, tmp_path):
    under_a_node(capsules, tmp_path / "a.glb", scale=[0.01, 0.01, 0.01])
    write_glb(tmp_path / "b.glb", as_document(read_gltf(tmp_path / "a.glb")).character)
    first, second = Outside(tmp_path / "a.glb"), Outside(tmp_path / "b.glb")
    for time in (None, 0.7, 2.1):
        gap = np.linalg.norm(first.skinned("figure", time) - second.skinned("figure", time), axis=1)
        assert gap.max() < 2e-4 * 0.0175


def test_splines_and_steps_are_read(capsules, tmp_path):
    gltf = pygltflib.GLTF2().load(str(capsules))
    animation = gltf.animations[0]
    sampler = next(animation.samplers[c.sampler] for c in animation.channels if c.target.path == "rotation")
    outside = Outside(capsules)
    times, rows = outside.values(sampler.input)[:, 0], outside.values(sampler.output)
    flat = np.zeros((len(times), 3, 4), dtype="<f4")
    flat[:, 1] = rows
    blob = bytearray(gltf.binary_blob())
    blob += b"\0" * (-len(blob) % 4)
    gltf.bufferViews.append(pygltflib.BufferView(buffer=0, byteOffset=len(blob), byteLength=flat.nbytes))
    blob += flat.tobytes()
    gltf.accessors.append(
        pygltflib.Accessor(bufferView=len(gltf.bufferViews) - 1, componentType=5126, count=3 * len(times), type="VEC4")
    )
    sampler.output, sampler.interpolation = len(gltf.accessors) - 1, "CUBICSPLINE"
    gltf.buffers[0].byteLength = len(blob)
    gltf.set_binary_blob(bytes(blob))
    gltf.save(str(tmp_path / "spline.glb"))
    read, plain = read_gltf(tmp_path / "spline.glb"), read_gltf(capsules)
    changed = [
        (a, b)
        for joint, tracks in read.clips[0].tracks.items()
        for a, b in zip(tracks, plain.clips[0].tracks[joint], strict=True)
        if len(a.times) != len(b.times)
    ]
    assert len(changed) == 1
    spline, linear = changed[0]
    for time in linear.times[:: len(linear.times) // 7]:
        assert abs(spline.at(float(time)) @ linear.at(float(time))) == pytest.approx(1, abs=1e-6)


@pytest.mark.parametrize("shared", [True, False])
def test_blocks_of_materials_keep_their_vertices(tmp_path, shared):
    points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [2, 1, 0], [2, 2, 0]]
    second = [1, 3, 2] if shared else [3, 4, 5]
    mesh = make_mesh(points, [0, 1, 2, *second], [0, 3, 6], materials=[0, 1])
    document = edits.bring_in(
        Document(), (Part("part0", "two", mesh),), name="two", materials=(Material("a"), Material("b"))
    )
    write_glb(tmp_path / "two.glb", document.character)
    primitives = Outside(tmp_path / "two.glb").gltf.meshes[0].primitives
    assert (primitives[0].attributes.POSITION == primitives[1].attributes.POSITION) == shared
    again = read_gltf(tmp_path / "two.glb").parts[0].mesh
    assert again.points.tolist() == mesh.points.tolist()
    assert again.corners.tolist() == mesh.corners.tolist()
    assert again.materials.tolist() == [0, 1]
