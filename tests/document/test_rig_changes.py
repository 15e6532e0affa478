"""What is changed by hand on a built rig: kept through rebuilds, waiting where its control is gone, offered, not forced."""

from dataclasses import replace

import numpy as np
import pytest

from pegloom.checks.snags import find_snags
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import with_keys
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.controls import RECIPE, Shape
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig, KitSolver
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.figures import rigged_capsules


def still(document):
    """No joint moves at rest, whatever was built."""
    character = document.character
    frame = evaluate(character, Pose())
    assert np.abs(frame.joints - character.skeleton.world).max() < 1e-9
    return document


def moved_peg(document, name="l_elbow", by=(0.0, 0.02, 0.03)):
    x, y, z = np.array(document.character.pegs.by_name[name].position) + by
    return edits.place_peg(document, name, (x, y, z))


CHANGES = {
    "shape": lambda d: edits.shape_controls(d, ("arm.l.goal",), shape=Shape.PIN, size=2.0),
    "name": lambda d: edits.rename_control(d, "arm.l.goal", "left grip"),
    "rest": lambda d: edits.place_rest(d, "arm.l.goal", move=(0.0, 0.0, 0.1), turn=(0.4, 0.0, 0.2)),
    "limits": lambda d: edits.change_channel(d, "arm.l.goal", "move_x", ChannelChange(limits=(-0.2, 0.3), soft=0.05)),
    "lock": lambda d: edits.change_channel(d, "arm.l.goal", "rotate_x", ChannelChange(locked=True, title="roll")),
}


@pytest.mark.parametrize("name", CHANGES)
def test_a_change_moves_no_joint_and_is_there_after_every_rebuild(name, tmp_path):
    before = rigged_capsules()
    document = still(CHANGES[name](before))
    told = document.character.rig.control("arm.l.goal")
    assert told != before.character.rig.control("arm.l.goal")
    again = still(edits.build_controls(edits.drop_controls(document))).character.rig.control("arm.l.goal")
    assert again == told
    pegs = still(moved_peg(document)).character.rig.control("arm.l.goal")
    assert (pegs.shape, pegs.name, pegs.channels) == (told.shape, told.name, told.channels)
    save_project(tmp_path / "a.pegloom", document)
    assert open_project(tmp_path / "a.pegloom").character.rig.control("arm.l.goal") == told
    turned = still(edits.turn_by(edits.stand_up(document, height=3.0), 90.0))
    assert turned.character.rig_changes.controls.keys() == document.character.rig_changes.controls.keys()
    forgotten = edits.forget_changes(document, "arm.l.goal").character.rig.control("arm.l.goal")
    assert forgotten == before.character.rig.control("arm.l.goal")


def test_a_moved_rest_goes_along_with_what_was_built():
    document = CHANGES["rest"](rigged_capsules())
    bare = rigged_capsules()
    for made, plain in ((document, bare), (moved_peg(document, "l_wrist"), moved_peg(bare, "l_wrist"))):
        here, there = (d.character.rig.control("arm.l.goal").matrix for d in (made, plain))
        assert np.allclose((np.linalg.inv(there) @ here)[:3, 3], [0.0, 0.0, 0.1])


def test_a_moved_rest_whose_recipe_moved_is_asked_about_and_kept_or_forgotten():
    document = CHANGES["rest"](rigged_capsules())
    assert edits.parted_rests(document.character) == {}
    moved = moved_peg(document, "l_wrist")
    (gap,) = edits.parted_rests(moved.character).values()
    assert gap == pytest.approx(np.linalg.norm([0.0, 0.02, 0.03]), rel=0.2)
    assert "parted-control" in {s.code for s in find_snags(moved.character)}
    for done in (edits.keep_rests(moved, ("arm.l.goal",)), edits.forget_changes(moved, "arm.l.goal")):
        assert "parted-control" not in {s.code for s in find_snags(still(done).character)}
    larger = edits.stand_up(document, height=3.0)
    assert edits.parted_rests(larger.character) == {}, "seen goes along with size and place"


def test_changes_are_forgotten_without_building_controls():
    document = edits.drop_controls(CHANGES["name"](rigged_capsules()))
    assert edits.forget_changes(document, "arm.l.goal").character.rig is None


def test_dropping_a_control_leaves_what_rode_on_it():
    document = edits.set_channels(rigged_capsules(), "spine.chest", rotate_x=0.2)
    for control in ("inner", "spine.chest", "arm.l.goal", "leg.r.pole", "arm.r.lower.fk"):
        document = still(edits.drop_control(document, control))
        assert control not in document.character.rig.index
    rig = document.character.rig
    assert {limb.id for limb in rig.limbs} == {"leg.l"}, "a limb without its goal, pole or FK control is FK"
    assert rig.control("body").parent.id == "root"
    posed = edits.set_channels(document, "arm.l.upper.fk", rotate_x=0.6)
    elbow = document.character.skeleton.index["arm.l.lower"]
    assert np.abs(evaluate(posed.character).joints - evaluate(document.character).joints)[elbow].max() > 0.05
    back = still(edits.forget_changes(document, "arm.l.goal"))
    assert {limb.id for limb in back.character.rig.limbs} == {"leg.l", "arm.l"}


def test_a_kit_may_be_built_without_ik_and_its_keys_and_changes_wait():
    document = CHANGES["limits"](rigged_capsules())
    document, clip_id = edits.add_clip(document, "wave")
    clip = with_keys(document.character.clip(clip_id), 0.5, "arm.l.goal", {"move_x": 0.1})
    document = document.with_character(replace(document.character, clips=(clip,)))
    plain = still(edits.set_kit_rig(document, "arm.l", KitRig(KitSolver.NONE)))
    assert "arm.l" not in {limb.id for limb in plain.character.rig.limbs}
    assert "arm.l.goal" not in plain.character.rig.index
    codes = {s.code: s.message for s in find_snags(plain.character)}
    assert "arm.l.goal" in codes["waiting-changes"]
    assert "channel arm.l.goal move x" in codes["waiting-keys"]
    still(moved_peg(plain))
    back = still(edits.set_kit_rig(plain, "arm.l", KitRig()))
    assert back.character.rig.control("arm.l.goal") == document.character.rig.control("arm.l.goal")
    assert not {"waiting-changes", "waiting-keys"} & {s.code for s in find_snags(back.character)}
    assert back.character.rig_recipe == {}
    with pytest.raises(EditError, match="no limb kit"):
        edits.set_kit_rig(document, "fin", KitRig())


def test_where_a_limb_starts_is_the_recipes_choice():
    document = still(edits.set_kit_rig(rigged_capsules(), "arm.l", KitRig(ik_at_rest=True)))
    assert document.character.rig.value(Pose(), ("arm.l.goal", "blend")) == 1.0


@pytest.mark.parametrize(("change", "words"), [
    (ChannelChange(limits=(0.3, 0.1)), "lower limit"), (ChannelChange(limits=(0.1, 0.3)), "leave the rest"), (ChannelChange(soft=-1.0), "eases"),
])  # fmt: skip
def test_limits_that_make_no_sense_are_refused(change, words):
    with pytest.raises(EditError, match=words):
        edits.change_channel(rigged_capsules(), "body", "move_y", change)


def test_what_an_older_recipe_built_stays_and_the_newer_one_is_offered(monkeypatch):
    document = rigged_capsules()
    rig = document.character.rig
    lifted = tuple(
        replace(c, rest=tuple((c.matrix + np.outer([0, 0, 1, 0], [0, 0, 0, 0.02])).ravel().tolist())) if c.id == "arm.l.pole" else c
        for c in rig.controls
    )
    older = replace(rig, controls=lifted, built_by=RECIPE - 1)
    document = still(document.with_character(replace(document.character, rig=older)))
    snag = next(s for s in find_snags(document.character) if s.code == "older-controls")
    assert "20.0 mm" in snag.message
    assert snag.fix == "controls.build"
    pegs = still(moved_peg(document))
    assert pegs.character.rig.built_by == RECIPE - 1, "a rebuild of joints does not put the newer one in place"
    gap = pegs.character.rig.control("arm.l.pole").matrix[:3, 3] - document.character.rig.control("arm.l.pole").matrix[:3, 3]
    assert np.linalg.norm(gap) > 0.01, "it went along with its joint"
    assert len(pegs.character.rig.limbs) == len(rig.limbs)
    fewer = still(edits.delete_joint(document, "arm.l.clavicle"))
    assert fewer.character.rig.built_by == RECIPE - 1
    for rest in (edits.set_rest(edits.set_channels(document, "spine.chest", rotate_x=0.3)), edits.turn_by(document, 30.0)):
        assert still(rest).character.rig.built_by == RECIPE - 1
    taken = still(edits.build_controls(pegs))
    assert taken.character.rig.built_by == RECIPE
    assert "older-controls" not in {s.code for s in find_snags(taken.character)}


@pytest.mark.parametrize("name", CHANGES)
def test_a_change_on_what_an_older_recipe_built_puts_nothing_newer_in_place(name):
    document = rigged_capsules()
    rig = document.character.rig
    lifted = tuple(replace(c, size=1.3 * c.size, offset=(0.0, 0.01, 0.0)) for c in rig.controls)
    older = document.with_character(replace(document.character, rig=replace(rig, controls=lifted, built_by=RECIPE - 1)))
    made = still(CHANGES[name](older))
    assert made.character.rig.built_by == RECIPE - 1
    for control in older.character.rig.controls:
        if control.id != "arm.l.goal":
            assert made.character.rig.control(control.id) == control
    assert made.character.rig.control("arm.l.goal") != older.character.rig.control("arm.l.goal")
    back = edits.forget_changes(made, "arm.l.goal").character.rig.control("arm.l.goal")
    there = older.character.rig.control("arm.l.goal")
    assert np.allclose(back.rest, there.rest, atol=1e-12)
    assert np.allclose((back.size, *back.offset), (there.size, *there.offset))
    assert (back.name, back.shape, back.channels) == (there.name, there.shape, there.channels)
    lost = still(edits.drop_control(made, "arm.l.goal"))
    assert lost.character.rig.built_by == RECIPE - 1
    found = still(edits.forget_changes(lost, "arm.l.goal"))
    assert {limb.id for limb in found.character.rig.limbs} == {limb.id for limb in rig.limbs}
    with pytest.raises(EditError, match="older"):
        edits.set_kit_rig(older, "arm.l", KitRig(KitSolver.NONE))


def test_ids_are_never_used_again():
    document = rigged_capsules()
    document, first = edits.keep_trial(document, "one", Pose())
    document, second = edits.keep_trial(edits.drop_trial(document, first), "two", Pose())
    assert first != second
    document, clip = edits.add_clip(document, "a")
    bare = document.with_character(replace(document.character, clips=()))
    assert edits.add_clip(bare, "b")[1] != clip


def test_a_new_kit_inherits_nothing_that_waits_for_one_that_was_removed():
    document, kit = edits.add_kit(rigged_capsules(), "tail", attach="spine.hips")
    document = edits.build_controls(document)
    last = document.character.skeleton.joints[-1].id
    assert last.startswith(f"{kit}.")
    document = edits.rename_control(edits.shape_controls(document, (last,), size=2.0), last, "tuft")
    gone = edits.remove_kit(document, kit)
    assert any(s.code == "waiting-changes" for s in find_snags(gone.character))
    again, other = edits.add_kit(gone, "tail", attach="spine.hips")
    assert other != kit
    again = still(edits.build_controls(again))
    assert not {c.name for c in again.character.rig.controls} & {"tuft"}
