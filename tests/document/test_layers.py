"""Layers over a clip: they play in the place of its keys, go along with a new rest, and are kept in the file."""

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.layers import LayerMode
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick

HEAD = {("spine.head", "rotate_x"): 0.4, ("body", "move_y"): -0.03}


def layered():
    document = wick()
    clip = document.character.clips[0]
    return edits.lay_over(document, clip.id, HEAD)[0]


def shown(document, time):
    character = document.character
    clip = character.clips[0]
    return evaluate(character, sample(clip, time, character.skeleton, character.pose, character.rig)).joints


def test_a_layer_plays_in_the_place_of_the_keys_and_leaves_them():
    before, document = wick(), layered()
    clip = document.character.clips[0]
    for time in (0.0, 0.83, 2.2):
        pose = sample(clip, time, document.character.skeleton, None, document.character.rig)
        assert [pose.values[ref] for ref in HEAD] == pytest.approx(list(HEAD.values()))
    assert clip.curves is before.character.clips[0].curves
    off = edits.switch_layer(document, clip.id, clip.layers[0].id, False)
    assert np.array_equal(shown(off, 0.83), shown(before, 0.83))
    assert np.abs(shown(document, 0.83) - shown(before, 0.83)).max() > 0.01
    gone = edits.drop_layer(document, clip.id, clip.layers[0].id)
    assert np.array_equal(shown(gone, 0.83), shown(before, 0.83))


def test_it_is_baked_and_exported_as_it_plays():
    character = layered().character
    baked = baked_clip(character, character.clips[0])
    for time in (0.0, 0.9, 3.1):
        told = evaluate(character, sample(baked, time, character.skeleton)).joints
        live = evaluate(character, sample(character.clips[0], time, character.skeleton, None, character.rig)).joints
        assert np.abs(told - live).max() < 1e-3 * character.height


def test_it_goes_along_with_a_new_rest():
    document = layered()
    after = edits.rest_in_t(document)
    clip = after.character.clips[0]
    assert set(HEAD) <= set(clip.layers[0].curves)
    for time in (0.0, 1.1, 2.9):
        old, new = shown(document, time), shown(after, time)
        index = after.character.skeleton.index
        for joint in ("spine.head", "arm.l.end", "leg.r.end"):
            gap = np.linalg.norm(old[document.character.skeleton.index[joint]][:3, 3] - new[index[joint]][:3, 3])
            assert gap < 2e-3 * document.character.height, (joint, time)


def test_it_is_kept_in_the_project_and_an_older_one_has_none(tmp_path):
    document = layered()
    save_project(tmp_path / "w.pegloom", document)
    (layer,) = open_project(tmp_path / "w.pegloom").character.clips[0].layers
    assert layer.on
    assert {ref: curve.at(1.0) for ref, curve in layer.curves.items()} == pytest.approx(HEAD)
    assert wick().character.clips[0].layers == ()


def test_ids_of_layers_are_never_used_again():
    document = layered()
    clip = document.character.clips[0]
    first = clip.layers[0].id
    document = edits.drop_layer(document, clip.id, first)
    document, second = edits.lay_over(document, clip.id, HEAD)
    assert second != first


TURNED = tuple(("arm.l.upper.fk", f"rotate_{axis}") for axis in "xyz")


def keyed(mode, amount=1.0):
    """Wick's clip with the upper arm turned otherwise at two moments, in a layer."""
    document = wick()
    clip = document.character.clips[0].id
    document, layer = edits.add_layer(document, clip, "arm out", mode=mode)
    document = edits.weigh_layer(document, clip, layer, amount)
    wanted = []
    for time, more in ((0.5, 0.35), (2.0, -0.25)):
        pose = sample(document.character.clip(clip), time, document.character.skeleton, document.character.pose, document.character.rig)
        assert isinstance(pose, Pose)
        pose = Pose({**pose.values, **{ref: pose.values.get(ref, 0.0) + more for ref in TURNED}})
        document = edits.key_layer(document, clip, layer, time, ("arm.l.upper.fk",), pose)
        wanted.append((time, evaluate(document.character, pose).joints))
    return document, clip, layer, wanted


@pytest.mark.parametrize("mode", list(LayerMode))
@pytest.mark.parametrize("amount", [1.0, 0.6])
def test_keyed_in_a_layer_the_clip_shows_the_pose_in_hand(mode, amount):
    document, clip, layer, wanted = keyed(mode, amount)
    for time, joints in wanted:
        assert np.abs(shown(document, time) - joints).max() < 1e-9
    assert document.character.clip(clip).curves is wick().character.clips[0].curves or document.character.clip(clip).curves == wick().character.clips[0].curves
    nothing = edits.weigh_layer(document, clip, layer, 0.0)
    assert np.array_equal(shown(nothing, 0.5), shown(wick(), 0.5))
    with pytest.raises(EditError, match="no say at this frame"):
        edits.key_layer(nothing, clip, layer, 0.5, ("arm.l.upper.fk",), Pose())


@pytest.mark.parametrize("mode", list(LayerMode))
def test_another_way_to_meet_what_is_below_shows_the_same_at_its_keys(mode):
    document, clip, layer, wanted = keyed(LayerMode.TURN)
    other = edits.set_layer_mode(document, clip, layer, mode)
    assert other.character.clip(clip).layers[0].mode is mode
    for time, joints in wanted:
        assert np.abs(shown(other, time) - joints).max() < 1e-9


@pytest.mark.parametrize("mode", [LayerMode.TURN, *(pytest.param(m, marks=pytest.mark.full) for m in (LayerMode.SET, LayerMode.ADD))])
def test_a_layer_of_each_kind_goes_along_with_a_new_rest(mode):
    document, clip, _, _ = keyed(mode, 0.6)
    after = edits.rest_in_t(document)
    assert after.character.clip(clip).layers[0].mode is mode
    index, before = after.character.skeleton.index, document.character.skeleton.index
    for time in (0.0, 0.5, 1.4, 2.0, 3.3):
        old, new = shown(document, time), shown(after, time)
        for joint in ("arm.l.end", "spine.head", "leg.r.end"):
            gap = np.linalg.norm(old[before[joint]][:3, 3] - new[index[joint]][:3, 3])
            assert gap < 4e-3 * document.character.height, (joint, time)


def test_mixed_down_it_plays_as_before_and_one_undo_away(tmp_path):
    document, clip, _, _ = keyed(LayerMode.TURN, 0.6)
    mixed = edits.mix_down(document, clip)
    assert mixed.character.clip(clip).layers == ()
    for frame in range(0, 120, 7):
        assert np.abs(shown(mixed, frame / 30) - shown(document, frame / 30)).max() < 1e-5
    with pytest.raises(EditError, match="nothing to mix"):
        edits.mix_down(mixed, clip)


def test_what_lies_above_is_named_before_a_key_would_not_show():
    document, clip, layer, _ = keyed(LayerMode.TURN)
    document, upper = edits.lay_over(document, clip, {TURNED[0]: 0.3})
    with pytest.raises(EditError, match="lies above and moves"):
        edits.key_layer(document, clip, layer, 0.0, ("arm.l.upper.fk",), Pose())
    below = edits.order_layer(document, clip, upper, 0)
    assert [one.id for one in below.character.clip(clip).layers] == [upper, layer]
    edits.key_layer(below, clip, layer, 0.0, ("arm.l.upper.fk",), Pose())
    alone = edits.set_layer(document, clip, upper, alone=True)
    with pytest.raises(EditError, match="shown alone"):
        edits.key_layer(alone, clip, layer, 0.0, ("body",), Pose())


def test_mode_amount_and_being_alone_are_kept_in_the_project(tmp_path):
    document, clip, layer, _ = keyed(LayerMode.TURN, 0.6)
    document = edits.weigh_layer(document, clip, layer, 0.1, time=1.5)
    document = edits.set_layer(document, clip, layer, name="wider", alone=True)
    save_project(tmp_path / "w.pegloom", document)
    (kept,) = open_project(tmp_path / "w.pegloom").character.clips[0].layers
    assert (kept.name, kept.mode, kept.alone) == ("wider", LayerMode.TURN, True)
    assert kept.amount.at(1.5) == pytest.approx(0.1)
    assert kept.amount.at(0.0) == pytest.approx(0.6)
