"""A control that follows something of another character: always there, keyed without a jump, exported as it is seen."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.document.stand_ins import refreshed
from pegloom.document.world import frame_in, joints_in, seen_in, world_of
from pegloom.files.project import open_project, save_project
from pegloom.files.writing import write_together
from tests.support.figures import shipped, wick
from tests.support.outside import Outside

HAND = "l_hand_goal"


def keyed(document, channels, *, length=2.0, name="way"):
    """A clip of the character in hand in which some channels go from rest at 0 to these values at its end."""
    document, clip = edits.add_clip(document, name, length=length)
    for time, share in ((0.0, 0.0), (length, 1.0)):
        for (control, key), value in channels.items():
            document = edits.set_pose(document, Pose({(control, key): share * value}))
            document = edits.key_controls(document, clip, time, (control,))
    document = edits.set_pose(document, Pose())
    return edits.play_figure(document, document.require_character().id, clip), clip


@pytest.fixture(scope="module")
def pair():
    """Wick in hand with a still clip, and Dumble who walks away turning; Wick stands turned and larger."""
    document, (dumble,) = edits.add_figures(wick(), shipped("dumble").characters)
    root = next(c.id for c in edits.figure_of(document, dumble).rig.controls if c.id.endswith("root") or c.name == "root")
    document, _ = keyed(document, {(root, "move_x"): 0.6, (root, "move_z"): 0.5, (root, "rotate_y"): 0.8})
    document = edits.place_figure(document, dumble, at=(0.9, 0.0, 0.3), heading=0.4)
    document = edits.take_character(document, document.characters[0].id)
    own = document.require_character()
    document = edits.place_figure(document, own.id, at=(0.2, 0.0, -0.1), heading=0.5, scale=1.25)
    document, clip = edits.add_clip(document, "holds on", length=2.0)
    document = edits.play_figure(document, own.id, clip)
    snout = next(j.id for j in edits.figure_of(document, dumble).skeleton.joints if "head" in j.id)
    return document, dumble, snout, clip


def world_at(document, character, joint, time):
    one = edits.figure_of(document, character)
    return world_of(document, time)[one.id] @ joints_in(one, time)[one.skeleton.index[joint]]


def control_at(document, control, time):
    own = document.require_character()
    return world_of(document, time)[own.id] @ frame_in(own, time).controls[own.rig.index[control]]


def test_the_stand_in_is_always_where_the_other_s_joint_is(pair):
    document, dumble, snout, _ = pair
    document, made = edits.stand_in(document, dumble, snout)
    assert edits.stand_in(document, dumble, snout)[1] == made, "one for each thing"
    for time in (0.0, 1 / 3, 1.0, 1.7, 2.0):
        told, true = control_at(document, made, time), world_at(document, dumble, snout, time)
        assert np.allclose(told[:3, 3], true[:3, 3], atol=1e-4 if time in (0.0, 1.0, 2.0) else 2e-3)
        # Not as large as the other, as everything in a hand.
        a, b = told[:3, :3] / np.cbrt(np.linalg.det(told[:3, :3])), true[:3, :3] / np.cbrt(np.linalg.det(true[:3, :3]))
        assert np.allclose(a, b, atol=2e-3)


def test_a_hand_takes_hold_at_a_moment_without_a_jump_and_stays_on(pair):
    document, dumble, snout, clip = pair
    goal = document.require_character().rig
    hand = next(c.id for c in goal.controls if c.name == HAND)
    before = document
    document = edits.follow_figure(document, hand, dumble, snout, clip=clip, time=0.8)
    for time in (0.0, 0.5, 0.75):
        assert np.allclose(control_at(document, hand, time), control_at(before, hand, time), atol=1e-6)
    held = np.linalg.inv(world_at(document, dumble, snout, 0.8)) @ control_at(document, hand, 0.8)
    assert np.allclose(control_at(document, hand, 0.8), control_at(before, hand, 0.8), atol=1e-4), "no jump"
    for time in (1.0, 1.4, 2.0):
        now = np.linalg.inv(world_at(document, dumble, snout, time)) @ control_at(document, hand, time)
        assert np.allclose(now[:3, 3], held[:3, 3], atol=2e-3)
    document = edits.let_go(document, hand, clip=clip, time=1.4)
    there = control_at(document, hand, 1.4)
    assert np.allclose(control_at(document, hand, 2.0), there, atol=1e-4), "it stays behind"


def test_what_the_other_does_later_is_followed_and_saved_and_delivered(pair, tmp_path):
    document, dumble, snout, clip = pair
    hand = next(c.id for c in document.require_character().rig.controls if c.name == HAND)
    document = edits.follow_figure(document, hand, dumble, snout, clip=clip, time=0.0)
    held = np.linalg.inv(world_at(document, dumble, snout, 0.0)) @ control_at(document, hand, 0.0)
    moved = refreshed(edits.place_figure(document, dumble, at=(1.4, 0.1, 0.0), heading=1.2))
    now = np.linalg.inv(world_at(moved, dumble, snout, 1.0)) @ control_at(moved, hand, 1.0)
    assert np.allclose(now[:3, 3], held[:3, 3], atol=1e-4)
    assert refreshed(moved) is moved, "nothing to do, nothing made"
    save_project(tmp_path / "a.pegloom", moved)
    back = open_project(tmp_path / "a.pegloom")
    assert back.require_character().stand_ins == moved.require_character().stand_ins
    assert np.allclose(control_at(back, hand, 1.3), control_at(moved, hand, 1.3), atol=1e-9)
    # By other code, from the file: the hand's joint keeps its place in the snout's.
    write_together(tmp_path / "a.glb", edits.place_figure(document, dumble, at=(1.0, 0.0, 0.4), heading=0.4))
    told = Outside(tmp_path / "a.glb")
    number = [a.name for a in told.gltf.animations].index("all figures")
    ours, theirs = told.joint_worlds, {}
    own, other = moved.characters
    wrist = own.skeleton.joint("arm.l.end").name
    nose = edits.figure_of(moved, dumble).skeleton.joint(snout).name
    for time in (0.2, 1.0, 1.9):
        a = next(v for n, v in ours(time, number, 0).items() if n.endswith(f"_{wrist}"))
        b = next(v for n, v in ours(time, number, 1).items() if n.endswith(f"_{nose}"))
        theirs[time] = (np.linalg.inv(b) @ a)[:3, 3]
    reach = edits.place_figure(document, dumble, at=(1.0, 0.0, 0.4), heading=0.4)
    reach = refreshed(reach)
    for time, place in theirs.items():
        worlds = world_of(reach, time)
        a = worlds[own.id] @ joints_in(reach.characters[0], time)[own.skeleton.index["arm.l.end"]]
        b = worlds[dumble] @ joints_in(reach.characters[1], time)[other.skeleton.index[snout]]
        assert np.allclose((np.linalg.inv(b) @ a)[:3, 3], place, atol=5e-3)


def test_it_stays_where_it_was_while_it_is_carried_by_who_follows_it(pair):
    document, dumble, snout, _ = pair
    document = edits.carry_figure(document, dumble, document.require_character().id, "spine.chest", time=1.0)
    document, made = edits.stand_in(document, dumble, snout)
    own = document.require_character()
    frames = [frame_in(own, t).controls[own.rig.index[made]] for t in (0.5, 0.999, 1.5, 2.0)]
    assert not np.allclose(frames[0], frames[1], atol=1e-3)
    assert np.allclose(frames[1], frames[2], atol=2e-3) and np.allclose(frames[2], frames[3], atol=1e-9)


def test_two_cannot_follow_each_other_and_what_there_is_not_is_refused(pair):
    document, dumble, snout, _ = pair
    document, made = edits.stand_in(document, dumble, snout)
    own = document.require_character().id
    with pytest.raises(EditError, match="neither can follow the other"):
        edits.stand_in(edits.take_character(document, dumble), own)
    for figure, joint, said in ((own, "", "follows itself"), (dumble, "none", "no joint"), ("nobody", "", "no character")):
        with pytest.raises(EditError, match=said):
            edits.stand_in(document, figure, joint)
    # Who is gone leaves the motion that was.
    alone = refreshed(edits.drop_character(document, dumble))
    assert alone.require_character().rig.control(made).helper
    dropped = edits.drop_stand_in(document, made)
    assert dropped.require_character().stand_ins == ()
    with pytest.raises(EditError, match="stands in for nothing"):
        edits.drop_stand_in(dropped, made)


def test_a_choice_shows_another_character_in_the_place_of_a_part(pair, tmp_path):
    document, dumble, _, clip = pair
    own = document.require_character()
    root = own.rig.controls[0].id
    document, key = edits.add_channel(document, root, "guise", quantity=Quantity.CHOICE, options=("postman", "tapir"))
    hat = next(p for p in own.parts if "hat" in p.name)
    document, _ = edits.show_by(document, hat.name, root, key, when=0)
    document, made = edits.show_by(document, f"figure:{edits.figure_of(document, dumble).name}", root, key, when=1)
    for time, value in ((0.0, 0.0), (1.0, 1.0)):
        document = edits.set_pose(document, Pose({(root, key): value}))
        document = edits.key_controls(document, clip, time, (root,))
    document = edits.set_pose(document, Pose())
    own = document.require_character()
    assert [one.character.id for one in seen_in(document, 0.5)] == [own.id]
    assert [one.character.id for one in seen_in(document, 1.5)] == [own.id, dumble]
    assert f"part:{hat.id}" in seen_in(document, 1.5)[0].frame.unseen
    # A name that is not there is refused, and who comes into another document brings its choice along.
    with pytest.raises(EditError, match="no other character"):
        edits.show_by(document, "figure:nobody", root, key)
    moved, ids = edits.add_figures(shipped("winch"), document.characters)
    assert any(s.thing == f"figure:{ids[1]}" for s in edits.figure_of(moved, ids[0]).rig_changes.own_shows)
    assert ids[1] not in {one.character.id for one in seen_in(moved, 0.5)} and ids[1] in {one.character.id for one in seen_in(moved, 1.5)}
    notes = write_together(tmp_path / "a.glb", document)
    assert any("shown by a channel" in line for line in notes)
    assert made not in {s.id for s in edits.drop_output(document, made).require_character().rig.shows}
