"""Motion in USD: skinned by the standard's own library, checked by its own checker, and read again."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.arrays import frozen
from pegloom.core.motion.clips import Clip, MorphTrack, sample
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Morph
from pegloom.document.world import played, seen_in
from pegloom.files.deliver import deliver
from pegloom.files.opening import open_any
from pegloom.files.proof.measure import prove_files
from pegloom.files.shelf import Shelf
from pegloom.files.targets import known_targets
from pegloom.files.usd import write_usd
from pegloom.files.writing import write_any, write_together
from tests.support.figures import rigged_capsules, shipped, wick


class Stage:
    """A file as usd-core shows it at a moment."""

    def __init__(self, path):
        from pxr import Usd

        self.stage = Usd.Stage.Open(str(path))
        self.codes = self.stage.GetTimeCodesPerSecond()

    def bind(self, skeleton, animation):
        from pxr import UsdSkel

        UsdSkel.BindingAPI(self.stage.GetPrimAtPath(skeleton)).GetAnimationSourceRel().SetTargets([animation])

    def points(self, root, mesh, seconds):
        """Points (n, 3) in the world, with blend shapes and skinning."""
        from pxr import Usd, UsdGeom, UsdSkel, Vt

        code, cache = seconds * self.codes, UsdSkel.Cache()
        cache.Populate(UsdSkel.Root(self.stage.GetPrimAtPath(root)), Usd.TraverseInstanceProxies())
        skeleton = cache.GetSkelQuery(UsdSkel.Skeleton(self.stage.GetPrimAtPath(f"{root}/skeleton")))
        shown = UsdGeom.Mesh(self.stage.GetPrimAtPath(mesh))
        skinning = cache.GetSkinningQuery(shown.GetPrim())
        points = Vt.Vec3fArray(shown.GetPointsAttr().Get())
        if skinning.HasBlendShapes() and skinning.GetBlendShapeMapper() is not None:
            weights = skinning.GetBlendShapeMapper().Remap(skeleton.GetAnimQuery().ComputeBlendShapeWeights(code))
            query = UsdSkel.BlendShapeQuery(UsdSkel.BindingAPI(shown.GetPrim()))
            query.ComputeDeformedPoints(*query.ComputeSubShapeWeights(weights), query.ComputeBlendShapePointIndices(), query.ComputeSubShapePointOffsets(), points)
        if skinning.HasJointInfluences():
            skinning.ComputeSkinnedPoints(skeleton.ComputeSkinningTransforms(code), points, code)
        placed = np.array(UsdGeom.XformCache(code).GetLocalToWorldTransform(self.stage.GetPrimAtPath(root)), dtype=float).T
        return np.array(points, dtype=float) @ placed[:3, :3].T + placed[:3, 3]


@pytest.fixture(scope="module")
def written(tmp_path_factory):
    path = tmp_path_factory.mktemp("usd") / "wick.usdc"
    return path, write_usd(path, wick().character)


def test_usd_s_own_skinning_shows_every_clip_as_it_is(written):
    path, _ = written
    character, stage = wick().character, Stage(path)
    for clip in character.clips:
        stage.bind("/character/skeleton", f"/character/motion/{clip.name}")
        for time in (0.51, 2.217, clip.length):
            frame = evaluate(character, *played(character, clip, time))
            for part in character.included:
                gap = np.abs(stage.points("/character", f"/character/geometry/{part.name}", time) - frame.points[part.id]).max()
                assert gap < 1e-4 * character.height, (clip.name, time, part.name)
    rest = stage.points("/character", "/character/geometry/body", 0.0)
    stage.bind("/character/skeleton", "/character/motion/faces")
    smiling = stage.points("/character", "/character/geometry/body", 0.51)
    assert np.abs(smiling - rest).max() > 1e-3, "morphs move in it"


def test_the_standard_s_checker_finds_nothing(written, tmp_path):
    from pxr import Usd, UsdValidation

    pair, _ = edits.add_figures(rigged_capsules(), [edits.performer_of(Shelf().source("bow"))])
    write_together(tmp_path / "two.usda", pair)
    for path in (written[0], tmp_path / "two.usda"):
        checks = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
        assert len(checks) > 10
        found = UsdValidation.ValidationContext(checks).Validate(Usd.Stage.Open(str(path)))
        assert [error.GetErrorAsString() for error in found] == []


def test_all_clips_come_back_with_what_morphs_do(written):
    character, back = wick().character, open_any(written[0]).require_character()
    assert [c.name for c in back.clips] == [c.name for c in character.clips]
    names = {j.name: j.id for j in back.skeleton.joints}
    for clip, told in zip(character.clips, back.clips, strict=True):
        assert told.length == pytest.approx(clip.length) and told.rate == clip.rate
        for time in (0.3, 1.7, 3.9):
            here, there = evaluate(character, *played(character, clip, time)), evaluate(back, *played(back, told, time))
            ours = here.joints[:, :3, 3]
            theirs = np.array([there.joints[back.skeleton.index[names[j.name]], :3, 3] for j in character.skeleton.joints])
            assert np.allclose(ours, theirs, atol=1e-4)
    faces = next(c for c in back.clips if c.name == "faces")
    track = next(m for m in faces.morphs if m.part == "body")
    assert set(track.names) == {m.name for p in character.parts for m in p.morphs} and track.weights.max() > 0.5


def test_figures_play_together_where_they_stand_and_what_is_carried_goes_along(tmp_path):
    document, (winch,) = edits.add_figures(rigged_capsules(), shipped("winch").characters)
    one = document.characters[0].id
    document = edits.take_character(document, one)
    document, clip = edits.add_trial_clip(document)
    document = edits.play_figure(document, one, clip, start=0.4)
    hand = edits.figure_of(document, one).skeleton.joints[-1].id
    turning = edits.figure_of(document, winch).clips[0].id
    document = edits.play_figure(document, winch, turning, loops=True)
    document = edits.place_figure(document, winch, at=(1.5, 0.0, 0.4), heading=0.7, scale=0.8)
    document = edits.carry_figure(document, winch, one, hand, time=1.0)
    write_together(tmp_path / "a.usdc", document)
    stage = Stage(tmp_path / "a.usdc")
    roots = [str(p.GetPath()) for p in stage.stage.GetPrimAtPath("/world").GetChildren()]
    assert len(roots) == 2
    for time in (0.0, 0.35, 0.9, 1.31, 1.9):
        for root, seen in zip(roots, seen_in(document, time), strict=True):
            for part, prim in zip(seen.character.included, stage.stage.GetPrimAtPath(f"{root}/geometry").GetChildren(), strict=True):
                true = seen.frame.points[part.id] @ seen.world[:3, :3].T + seen.world[:3, 3]
                assert np.abs(stage.points(root, str(prim.GetPath()), time) - true).max() < 2e-3 * seen.character.height, (time, part.name)


def test_targets_of_one_name_that_part_ways_are_told_apart(tmp_path):
    base = rigged_capsules().require_character()
    part = base.included[0]
    count = part.mesh.vertex_count
    lift = Morph("lift (both)", frozen(np.tile([0.0, 0.1, 0.0], (count, 1))))
    twin = replace(part, id="twin", name="twin", morphs=(lift,))
    skin = replace(base.skin, weights={**base.skin.weights, "twin": base.skin.weights[part.id]})
    times = frozen(np.array([0.0, 1.0]))
    tracks = [MorphTrack(name, (lift.name,), times, frozen(np.array([[0.0], [high]]))) for name, high in ((part.name, 1.0), ("twin", 0.25))]
    clip = Clip("clip0", "two ways", 30.0, 1.0, morphs=tuple(tracks))
    character = replace(base, parts=(replace(part, morphs=(lift,)), twin), skin=skin, clips=(clip,), pose=replace(base.pose) if base.rig else base.pose)
    write_usd(tmp_path / "a.usda", character)
    stage = Stage(tmp_path / "a.usda")
    rest = [stage.points("/character", f"/character/geometry/{p.name}", 0.0) for p in character.included]
    high = [stage.points("/character", f"/character/geometry/{p.name}", 1.0) for p in character.included]
    moved = [float((b - a)[:, 1].max()) for a, b in zip(rest, high, strict=True)]
    assert moved == pytest.approx([0.1, 0.025], abs=1e-4)
    back = open_any(tmp_path / "a.usda").require_character()
    assert [m.name for p in back.parts for m in p.morphs] == [lift.name, lift.name]
    assert sorted(round(float(m.weights.max()), 3) for m in back.clips[0].morphs) == [0.25, 1.0]
    # Where they go the same way they share the name.
    alike = replace(clip, morphs=(tracks[0], replace(tracks[0], part="twin")))
    write_usd(tmp_path / "b.usda", replace(character, clips=(alike,)))
    told = (tmp_path / "b.usda").read_text()
    assert told.count('uniform token[] skel:blendShapes = ["lift__both_"]') == 2


def test_an_animation_that_names_other_joints_is_left_alone(written, tmp_path):
    from pxr import Usd, UsdSkel, Vt

    stage = Usd.Stage.Open(str(written[0]))
    stage.GetRootLayer().Export(str(tmp_path / "a.usda"))
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    alien = UsdSkel.Animation.Define(stage, "/character/motion/alien")
    alien.CreateJointsAttr(Vt.TokenArray(["tentacle"]))
    broken = UsdSkel.Animation.Define(stage, "/character/motion/broken")
    broken.CreateJointsAttr(Vt.TokenArray(list(UsdSkel.Skeleton(stage.GetPrimAtPath("/character/skeleton")).GetJointsAttr().Get())[:2]))
    broken.CreateTranslationsAttr().Set(Vt.Vec3fArray([(0, 0, 0)]), 0.0)
    broken.CreateBlendShapesAttr(Vt.TokenArray(["x"]))
    broken.CreateBlendShapeWeightsAttr().Set(Vt.FloatArray([1.0, 2.0, 3.0]), 0.0)
    stage.GetRootLayer().Save()
    back = open_any(tmp_path / "a.usda").require_character()
    assert [c.name for c in back.clips] == [c.name for c in wick().character.clips]
    assert any("broken" in note for note in back.import_notes)


def test_a_package_holds_its_pictures_and_motion(tmp_path):
    import zipfile

    from pxr import Usd, UsdShade, UsdValidation

    write_any(tmp_path / "wick.usdz", wick())
    assert sorted(p.name for p in tmp_path.iterdir()) == ["wick.usdz"], "nothing beside it"
    with zipfile.ZipFile(tmp_path / "wick.usdz") as package:
        infos = package.infolist()
        assert infos[0].filename.endswith(".usdc") and len(infos) == 1 + len(wick().character.images)
        assert all(one.compress_type == zipfile.ZIP_STORED for one in infos)
        assert {package.read(one) for one in infos[1:]} == {i.data for i in wick().character.images}
    stage = Usd.Stage.Open(str(tmp_path / "wick.usdz"))
    pictures = [p for p in stage.Traverse() if p.IsA(UsdShade.Shader) and UsdShade.Shader(p).GetInput("file")]
    assert pictures and all(UsdShade.Shader(p).GetInput("file").Get().resolvedPath for p in pictures)
    checks = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    assert [e.GetErrorAsString() for e in UsdValidation.ValidationContext(checks).Validate(stage)] == []
    back = open_any(tmp_path / "wick.usdz").require_character()
    assert [c.name for c in back.clips] == [c.name for c in wick().character.clips] and len(back.images) == len(wick().character.images)


def test_parts_that_come_and_go_do_so_in_the_file(tmp_path):
    """Visibility at time codes of the bound clip, judged by usd-core; what the stage cannot tell of another clip has its line."""
    from pxr import Usd, UsdGeom

    document = shipped("winch")
    character = document.character
    control = character.rig.handles[0].id
    document, key = edits.add_channel(document, control, "flag", quantity=Quantity.SWITCH)
    part = character.included[-1]
    document, _ = edits.show_by(document, part.name, control, key)
    document, clip_id = edits.add_clip(document, "raise the flag", length=2.0)
    for time, value in ((0.0, 0.0), (1.0, 1.0), (1.5, 0.0)):
        document = edits.set_channels(document, control, **{key: value})
        document = edits.key_controls(document, clip_id, time, (control,))
    clip = document.character.clip(clip_id)
    alone = document.with_character(replace(document.character, clips=(clip,)))
    target = replace(known_targets()["everything"], kind=".usda")
    made = deliver(tmp_path / "flag.usda", alone, target)
    stage = Usd.Stage.Open(str(made.files[0]))
    prim = next(UsdGeom.Imageable(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh) and (p.GetDisplayName() or p.GetName()) == part.name)
    codes = stage.GetTimeCodesPerSecond()
    seen = [prim.ComputeVisibility(time * codes) != UsdGeom.Tokens.invisible for time in (0.0, 0.9, 1.05, 1.4, 1.55, 2.0)]
    rig = alone.character.rig
    live = [f"part:{part.id}" not in evaluate(alone.character, sample(clip, t, alone.character.skeleton, Pose(), rig)).unseen for t in (0.0, 0.9, 1.05, 1.4, 1.55, 2.0)]
    assert seen == live and True in seen and False in seen
    assert not any("shows and hides" in line for line in made.notes)
    assert not any("seen otherwise" in line for line in prove_files(alone, target, made).left)
    assert any("shows and hides" in line for line in deliver(tmp_path / "flag.glb", alone, replace(target, kind=".glb")).notes)
    posed = edits.set_channels(document, control, **{key: 1.0})
    still = edits.add_clip(posed, "flag up", length=1.0)
    two = edits.key_controls(still[0], still[1], 0.0, (control,))
    two = two.with_character(replace(two.character, clips=(clip, two.character.clip(still[1]))))
    assert any(line.startswith("flag up: when") and part.name in line for line in deliver(tmp_path / "two.usda", two, target).notes)
