"""BVH out and in, pairings as JSON, what a project keeps of borrowed motion."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from tools import takes

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.retarget import Source, moments_of
from pegloom.core.motion.retarget.source import worlds_of
from pegloom.document import edits
from pegloom.files.bvh_write import write_bvh
from pegloom.files.motion import read_sources
from pegloom.files.pairings import read_pairing, write_pairing
from pegloom.files.project import open_project, save_project
from tests.support.bvh import read_plainly
from tests.support.figures import shipped
from tests.support.lent import BUILD, source_of


def lent(tmp_path, **more):
    source = source_of(takes.perform(BUILD, takes.walk(BUILD), seconds=1.5, rate=30.0, style=takes.Style(rest="A")), tmp_path)
    document, (made,) = edits.add_sources(shipped("wick"), [source])
    return edits.borrow(document, made, **more)


@pytest.mark.parametrize("which", ["borrowed", "keys"])
def test_bvh_goes_out_and_comes_back(which, tmp_path):
    document, done = lent(tmp_path)
    character = document.require_character()
    clip = character.clip(done.clip) if which == "borrowed" else next(c for c in character.clips if c.curves)
    write_bvh(tmp_path / "out.bvh", character, clip)
    (back,), _ = read_sources(tmp_path / "out.bvh")
    times = moments_of(back.clip)
    told = edits.to_joints(document, clip.id).require_character().clip(clip.id) if not clip.tracks else clip
    skeleton = character.require_skeleton()
    wanted = worlds_of(Source("", "", skeleton, told), times)[..., :3, 3]
    got = worlds_of(back, times)[..., :3, 3]
    order = [back.skeleton.by_name(j.name.replace(" ", "_")) for j in skeleton.joints]
    got = got[:, [back.skeleton.index[j.id] for j in order]]
    assert np.abs(got - wanted).max() < 1e-4 * character.height
    # The same by a reader of a few lines that knows nothing of ours.
    names, places = read_plainly(tmp_path / "out.bvh")
    plain = places[:, [names.index(j.name.replace(" ", "_")) for j in skeleton.joints]]
    assert np.abs(plain - wanted).max() < 1e-4 * character.height


def test_a_pairing_is_saved_mended_and_read_again(tmp_path):
    document, _ = lent(tmp_path)
    character = document.require_character()
    source, (pairing,) = character.sources[0], character.pairings
    document, _ = edits.set_chain(document, pairing.id, "arm.l", turn=(0.0, 5.0, 10.0), amount=0.8)
    document, _ = edits.say_pair(document, pairing.id, "head", ())
    (pairing,) = document.require_character().pairings
    skeleton = character.require_skeleton()
    write_pairing(tmp_path / "p.json", pairing, source.skeleton, skeleton)
    told = json.loads((tmp_path / "p.json").read_text())
    assert next(r for r in told["chains"] if r["part"] == "leg.l")["source"] == ["LeftUpLeg", "LeftLeg", "LeftFoot", "LeftToeBase"]
    again = read_pairing(tmp_path / "p.json", source.skeleton, skeleton)
    assert again.chains == pairing.chains and (again.source, again.target) == (pairing.source, pairing.target)


@pytest.mark.parametrize(
    ("change", "what"),
    [
        (lambda t: t.update(format="else"), "holds no pairing"), (lambda t: t.update(version=9), "newer"), (lambda t: t.update(chains=3), "chains"),
        (lambda t: t["chains"][0].update(source="Hips"), r"chains\[0\]\.source"), (lambda t: t["chains"][0].update(amount=1e9), r"chains\[0\]"),
        (lambda t: t["chains"].append(dict(t["chains"][0])), "of its own"), (lambda t: [c.update(source=["nobody"]) for c in t["chains"]], "no chain of it fits"),
        (lambda t: t["chains"][0].update(turn=[1, 2]), "three degrees"),
    ],
)  # fmt: skip
def test_a_bad_pairing_is_one_clear_error(change, what, tmp_path):
    document, _ = lent(tmp_path)
    character = document.require_character()
    source, skeleton = character.sources[0], character.require_skeleton()
    file = tmp_path / "p.json"
    write_pairing(file, character.pairings[0], source.skeleton, skeleton)
    tree = json.loads(file.read_text())
    change(tree)
    file.write_text(json.dumps(tree))
    with pytest.raises(MeshFileError, match=what):
        read_pairing(file, source.skeleton, skeleton)
    file.write_text("[" * 100_000)
    with pytest.raises(MeshFileError, match="JSON"):
        read_pairing(file, source.skeleton, skeleton)


def test_a_project_keeps_sources_pairings_and_what_follows_them(tmp_path):
    document, done = lent(tmp_path)
    save_project(tmp_path / "p.pegloom", document)
    back = open_project(tmp_path / "p.pegloom")
    character = back.require_character()
    assert character.clip(done.clip).borrowed == document.require_character().clip(done.clip).borrowed
    assert character.pairings[0].chains == document.require_character().pairings[0].chains
    # Mended later, the clip follows.
    mended, results = edits.set_chain(back, character.pairings[0].id, "arm.l", turn=(0.0, 0.0, 15.0))
    assert [r.clip for r in results] == [done.clip]
    a, b = (d.require_character().clip(done.clip).tracks["arm.l.upper"][0].values for d in (back, mended))
    assert np.abs(a - b).max() > 0.05
    # What was changed by hand is left alone.
    by_hand = edits.speed_clip(back, done.clip, 2.0)
    assert edits.changed_by_hand(by_hand.require_character().clip(done.clip))
    kept, results = edits.set_chain(by_hand, character.pairings[0].id, "arm.l", turn=(0.0, 0.0, 15.0))
    assert results == () and kept.require_character().clip(done.clip) is by_hand.require_character().clip(done.clip)


def test_the_next_take_of_a_skeleton_is_paired_as_the_one_before(tmp_path):
    document, _ = lent(tmp_path)
    pairing = document.require_character().pairings[0]
    document, _ = edits.say_pair(document, pairing.id, "head", ())
    other = source_of(takes.perform(BUILD, takes.reach(BUILD), seconds=1.0, rate=30.0, style=takes.Style(rest="T")), tmp_path, "other")
    document, (made,) = edits.add_sources(document, [other])
    document, used = edits.pair_source(document, made)
    assert used == pairing.id and len(document.require_character().pairings) == 1
    document, done = edits.borrow(document, made)
    assert "spine.head" not in document.require_character().clip(done.clip).tracks


def test_onto_the_controls_with_layers_that_stay(tmp_path):
    document, done = lent(tmp_path, controls=True, on_ik=())
    character = document.require_character()
    clip = character.clip(done.clip)
    assert clip.curves and not clip.tracks and done.brought is not None
    assert done.brought.gaps.max() < 1e-4 * character.height
    document, layer = edits.add_layer(document, done.clip, "corrections")
    mended, _ = edits.set_chain(document, character.pairings[0].id, "arm.l", turn=(0.0, 0.0, 15.0))
    assert [x.id for x in mended.require_character().clip(done.clip).layers] == [layer]


def test_glb_and_usd_bring_motion_of_other_bodies(tmp_path):
    from pegloom.files.gltf_write import write_glb
    from pegloom.files.usd import write_usd

    document, done = lent(tmp_path)
    character = document.require_character()
    write_glb(tmp_path / "a.glb", character)
    write_usd(tmp_path / "a.usda", character)
    animate(tmp_path / "a.usda", character, character.clip(done.clip))
    skeleton = character.require_skeleton()
    for file in ("a.glb", "a.usda"):
        sources, _ = read_sources(tmp_path / file)
        source = sources[-1]
        times = moments_of(source.clip)
        got = worlds_of(source, times)
        name = skeleton.joint("arm.l.end").name
        hand = got[:, source.skeleton.index[source.skeleton.by_name(name).id], :3, 3]
        wanted = worlds_of(Source("", "", skeleton, character.clip(done.clip)), times)[:, skeleton.index["arm.l.end"], :3, 3]
        assert np.abs(hand - wanted).max() < 1e-3 * character.height, file


def animate(path, character, clip):
    """Put a clip into a written USD file, as UsdSkel has it."""
    from pxr import Gf, Usd, UsdSkel, Vt

    stage = Usd.Stage.Open(str(path))
    stage.SetTimeCodesPerSecond(clip.rate)
    skel = UsdSkel.Skeleton(stage.GetPrimAtPath("/character/skeleton"))
    animation = UsdSkel.Animation.Define(stage, "/character/skeleton/walk")
    animation.CreateJointsAttr(skel.GetJointsAttr().Get())
    skeleton = character.require_skeleton()
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    worlds = worlds_of(Source("", "", skeleton, clip), times)
    for k in range(len(times)):
        local = np.array([worlds[k, j] if p < 0 else np.linalg.inv(worlds[k, p]) @ worlds[k, j] for j, p in enumerate(skeleton.parents)])
        q = Rotation.from_matrix(local[:, :3, :3]).as_quat()
        animation.CreateTranslationsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(*map(float, m[:3, 3])) for m in local]), k)
        animation.CreateRotationsAttr().Set(Vt.QuatfArray([Gf.Quatf(float(w), float(x), float(y), float(z)) for x, y, z, w in q]), k)
        animation.CreateScalesAttr().Set(Vt.Vec3hArray([Gf.Vec3h(1, 1, 1)] * len(local)), k)
    UsdSkel.BindingAPI.Apply(skel.GetPrim()).CreateAnimationSourceRel().SetTargets([animation.GetPath()])
    stage.GetRootLayer().Save()


def test_motion_under_a_moved_and_scaled_prim_stands_where_the_stage_shows_it(tmp_path):
    from pxr import Gf, Usd, UsdGeom

    from pegloom.files.usd import write_usd

    document, done = lent(tmp_path)
    character = document.require_character()
    write_usd(tmp_path / "a.usda", replace(character, clips=()))
    animate(tmp_path / "a.usda", character, character.clip(done.clip))
    (plain,), _ = read_sources(tmp_path / "a.usda")
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    moved = UsdGeom.Xformable(stage.GetPrimAtPath("/character/skeleton"))
    moved.AddTranslateOp().Set(Gf.Vec3d(1.0, 0.5, 0.0))
    moved.AddScaleOp().Set(Gf.Vec3f(2.0, 2.0, 2.0))
    stage.GetRootLayer().Save()
    (source,), _ = read_sources(tmp_path / "a.usda")
    times = moments_of(source.clip)
    a, b = (worlds_of(s, times)[..., :3, 3] for s in (plain, source))
    assert np.abs(b - (2.0 * a + [1.0, 0.5, 0.0])).max() < 1e-4


def test_a_glb_of_nodes_and_motion_alone_is_read(tmp_path):
    import pygltflib

    from pegloom.files.gltf_write import write_glb
    from pegloom.files.reading import read_mesh

    document, done = lent(tmp_path)
    character = document.require_character()
    write_glb(tmp_path / "a.glb", character)
    whole = pygltflib.GLTF2().load(str(tmp_path / "a.glb"))
    for node in whole.nodes:
        node.mesh = node.skin = None
    whole.meshes, whole.skins, whole.materials, whole.textures, whole.images, whole.samplers = [], [], [], [], [], []
    for animation in whole.animations:
        animation.channels = [c for c in animation.channels if c.target.path != "weights"]
    whole.save(str(tmp_path / "bare.glb"))
    with pytest.raises(MeshFileError, match="no surface"):
        read_mesh(tmp_path / "bare.glb")
    sources, _ = read_sources(tmp_path / "bare.glb")
    source = next(s for s in sources if s.name == character.clip(done.clip).name)
    times = moments_of(source.clip)
    skeleton = character.require_skeleton()
    name = skeleton.joint("arm.l.end").name
    got = worlds_of(source, times)[:, source.skeleton.index[source.skeleton.by_name(name).id], :3, 3]
    wanted = worlds_of(Source("", "", skeleton, character.clip(done.clip)), times)[:, skeleton.index["arm.l.end"], :3, 3]
    assert np.abs(got - wanted).max() < 1e-4 * character.height
    document, (made,) = edits.add_sources(document, [source])
    _, again = edits.borrow(document, made)
    assert again.carried.figures.slide_mm < 5.0
