"""A rig for other hands: closed and opened up, kept from animators; poses kept, sets, the pick card, own bodies."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.shapes import shape_lines
from pegloom.document import edits
from pegloom.document.edits.standing import transformed
from pegloom.document.model import Character, Document, Image
from pegloom.document.told.verbs import run_steps
from pegloom.files.bodies import known_bodies, path_of, read_body, write_body
from pegloom.files.project import open_project, save_project
from pegloom.scene.pick_card import BODY, FACE, LEFT_HAND, RIGHT_HAND, card_pages
from tests.support.figures import shipped


@pytest.fixture(scope="module")
def wick():
    return edits.set_pose(edits.build_controls(shipped("wick")), Pose())


def again(document, tmp_path):
    save_project(tmp_path / "a.pegloom", document)
    return open_project(tmp_path / "a.pegloom")


# Looks


def test_a_look_is_changed_kept_through_rebuilds_and_saved(wick, tmp_path):
    looks = {"shape": Shape.STAR, "size": 1.5, "stretch": (1.0, 1.0, 2.0), "thickness": 2.0, "offset": (0.1, 0.0, 0.2), "tilt": (0.3, 0.0, 0.0), "colour": "#6FA0F2"}
    document = edits.shape_controls(wick, ("spine.chest", "spine.head"), **looks)
    before = wick.character.rig
    for one in (document, edits.build_controls(document), again(document, tmp_path)):
        for name in ("spine.chest", "spine.head"):
            control, built = one.character.rig.control(name), before.control(name)
            assert control.shape is Shape.STAR and control.colour == "#6FA0F2" and control.thickness == 2.0
            assert control.size == pytest.approx(1.5 * built.size)
            assert control.stretch == pytest.approx(np.array(built.stretch) * [1, 1, 2])
            assert control.offset == pytest.approx((0.1, 0.0, 0.2)) and control.tilt == pytest.approx((0.3, 0.0, 0.0))
    plain = edits.shape_as_built(document, ("spine.chest", "spine.head")).character.rig
    assert all(plain.control(n) == before.control(n) for n in ("spine.chest", "spine.head"))
    joints = evaluate_rig(document.character.skeleton, document.character.rig, Pose()).joints
    assert np.abs(joints - document.character.skeleton.world).max() < 1e-12, "a look moves nothing"


def test_lines_of_its_own_are_drawn_copied_and_seen_in_a_mirror(wick, tmp_path):
    document = edits.draw_shape(wick, "arm.l.goal")
    control = document.character.rig.control("arm.l.goal")
    assert control.lines
    bent = tuple(tuple((x + 0.4 * (k == 0), y, z) for k, (x, y, z) in enumerate(line)) for line in control.lines)
    document = edits.shape_controls(document, ("arm.l.goal",), lines=bent)
    document = edits.shape_across(document, ("arm.l.goal",))
    for one in (document, again(document, tmp_path)):
        rig = one.character.rig
        here, there = ([line @ c.matrix[:3, :3].T + c.matrix[:3, 3] for line in shape_lines(c)] for c in map(rig.control, ("arm.l.goal", "arm.r.goal")))
        for a, b in zip(here, there, strict=True):
            assert np.abs(a * [-1, 1, 1] - b).max() < 2e-3
    alike = edits.copy_shape(document, "arm.l.goal", ("leg.l.goal", "leg.r.goal")).character.rig
    for name in ("leg.l.goal", "leg.r.goal"):
        for a, b in zip(shape_lines(alike.control("arm.l.goal")), shape_lines(alike.control(name)), strict=True):
            assert np.abs(a - b).max() < 1e-12
    library = edits.shape_controls(document, ("arm.l.goal",), shape=Shape.CUBE).character.rig.control("arm.l.goal")
    assert library.lines == () and library.shape is Shape.CUBE


@pytest.mark.parametrize("wrong", [
    {"size": 0.0}, {"size": 100.0}, {"thickness": -1.0}, {"stretch": (1.0, 0.0, 1.0)}, {"colour": "red"}, {"colour": "#12345"},
    {"lines": (((0.0, 0.0, 0.0),),)}, {"lines": (((0.0, 0.0, 0.0), (float("nan"), 0.0, 0.0)),)},
])  # fmt: skip
def test_a_look_that_is_none_is_refused(wick, wrong):
    with pytest.raises(EditError):
        edits.shape_controls(wick, ("body",), **wrong)


# Poses, sets


def test_a_pose_is_kept_put_on_by_an_amount_and_for_some_controls_alone(wick, tmp_path):
    posed = edits.set_channels(edits.set_channels(wick, "spine.chest", rotate_x=0.6), "arm.l.goal", move_x=-0.2)
    document, made = edits.keep_pose(posed, "bow", picture=Image("p", "image/png", b"x"))
    document = again(edits.set_pose(document, Pose()), tmp_path)
    kept = document.character.poses[-1]
    assert kept.id == made and kept.name == "bow" and not kept.part
    half = edits.apply_pose(document, "bow", 0.5).character.pose.values
    assert half["spine.chest", "rotate_x"] == pytest.approx(0.3) and half["arm.l.goal", "move_x"] == pytest.approx(-0.1)
    some = edits.apply_pose(document, "bow", 1.0, ("spine.chest",)).character.pose.values
    assert dict(some) == {("spine.chest", "rotate_x"): pytest.approx(0.6)}
    # All of a pose: what rested in it comes to rest.
    other = edits.set_channels(document, "spine.head", rotate_y=0.4)
    assert ("spine.head", "rotate_y") not in edits.apply_pose(other, "bow").character.pose.values
    part, _ = edits.keep_pose(posed, "chest", ("spine.chest",))
    assert part.character.poses[-1].part
    head = edits.set_channels(edits.set_pose(part, Pose()), "spine.head", rotate_y=0.4)
    assert edits.apply_pose(head, "chest").character.pose.values["spine.head", "rotate_y"] == 0.4
    renamed = edits.rename_pose(document, "bow", "deep bow")
    assert [p.name for p in edits.drop_pose(renamed, "deep bow").character.poses] == [p.name for p in wick.character.poses]
    for wrong in (lambda: edits.apply_pose(document, "none"), lambda: edits.keep_pose(posed, " "), lambda: edits.apply_pose(document, "bow", 2.0)):
        with pytest.raises(EditError):
            wrong()


def test_a_pose_is_pasted_across_and_taken_to_the_other_side(wick):
    posed = edits.set_channels(wick, "leg.l.goal", move_x=0.1, move_y=0.2)
    values = {("leg.l.goal", "move_x"): 0.1, ("leg.l.goal", "move_y"): 0.2}
    across = edits.paste_pose(wick, values, mirrored=True).character.pose.values
    assert across == {("leg.r.goal", "move_x"): pytest.approx(-0.1), ("leg.r.goal", "move_y"): pytest.approx(0.2)}
    both = edits.pose_across(posed, ("leg.l.goal",)).character.pose.values
    assert both["leg.l.goal", "move_y"] == 0.2 and both["leg.r.goal", "move_y"] == pytest.approx(0.2)
    with pytest.raises(EditError):
        edits.pose_across(posed, ("body",))
    turned = edits.set_channels(edits.set_channels(posed, "spine.chest", rotate_x=0.2), "arm.l.upper.fk", rotate_x=0.2)
    rested = edits.rest_controls(turned, ("spine.chest",), below=True).character.pose.values
    assert set(rested) == {("leg.l.goal", "move_x"), ("leg.l.goal", "move_y")}, "what hangs on the chest rests, a foot does not"


def test_sets_are_kept_saved_and_forgotten(wick, tmp_path):
    document = again(edits.keep_set(wick, "hands", ("arm.l.goal", "arm.r.goal")), tmp_path)
    assert document.character.control_sets["hands"] == ("arm.l.goal", "arm.r.goal")
    assert "hands" not in edits.drop_set(document, "hands").character.control_sets
    for wrong in (lambda: edits.keep_set(wick, "", ("body",)), lambda: edits.keep_set(wick, "x", ()), lambda: edits.drop_set(wick, "x")):
        with pytest.raises(EditError):
            wrong()


# The pick card


def test_the_card_has_every_control_once_and_pages_for_hands_and_face(wick):
    pages = card_pages(wick.character)
    assert [p.key for p in pages] == [BODY, FACE, LEFT_HAND, RIGHT_HAND]
    every = [b.control for p in pages for b in p.buttons]
    assert sorted(every) == sorted(c.id for c in wick.character.rig.handles)
    for page in pages:
        assert (page.shade > 0).mean() > 0.05, "the figure is seen"
        assert max(page.wide, page.tall) == pytest.approx(1.0)
        at = np.array([b.middle for b in page.buttons])
        assert ((at >= 0.0) & (at <= [page.wide, page.tall])).all()
        away = np.linalg.norm(at[:, None] - at[None], axis=2) + np.eye(len(at))
        assert away.min() > 0.015, page.key
    body = {b.control: b.middle for b in pages[0].buttons}
    assert body["arm.l.goal"][0] > body["arm.r.goal"][0], "its left is at the viewer's right"
    assert body["spine.head"][1] < body["body"][1] < body["leg.l.goal"][1]


@pytest.mark.parametrize("name", ["dumble", "harl", "winch", "lantern"])
def test_every_figure_has_a_card(name):
    character = shipped(name).character
    pages = card_pages(character)
    assert sorted(b.control for p in pages for b in p.buttons) == sorted(c.id for c in character.rig.handles)
    if name == "dumble":
        # Longer than wide: seen from the side, left and right apart.
        body = {b.control: b.middle for b in pages[0].buttons}
        assert np.linalg.norm(body["leg.l.goal"] - body["leg.r.goal"]) > 0.03


def test_a_moved_button_stays_where_it_was_put_through_saves_and_rebuilds(wick, tmp_path):
    document = edits.place_button(wick, "spine.head", 0.2, 0.1)
    for one in (document, again(document, tmp_path), edits.build_controls(document)):
        body = next(p for p in card_pages(one.character) if p.key == BODY)
        assert next(b for b in body.buttons if b.control == "spine.head").middle == pytest.approx((0.2, 0.1))
    both = edits.place_button(wick, "arm.l.goal", 0.5, 0.4, across=0.6)
    body = next(p for p in card_pages(both.character) if p.key == BODY)
    assert next(b for b in body.buttons if b.control == "arm.r.goal").middle == pytest.approx((0.1, 0.4))
    moved = edits.place_button(wick, "spine.head", 0.5, 0.5, page=FACE)
    assert "spine.head" in {b.control for p in card_pages(moved.character) if p.key == FACE for b in p.buttons}
    assert edits.lay_out_card(both).character.card == ()
    dropped = edits.drop_control(document, "spine.head")
    assert all(b.control != "spine.head" for p in card_pages(dropped.character) for b in p.buttons)
    with pytest.raises(EditError):
        edits.place_button(wick, "spine.head", 3.0, 0.0)


# Closed


BUILDING = (
    {"edit": "build_controls"}, {"edit": "shape_controls", "control_ids": ["body"], "size": 2.0}, {"edit": "drop_controls"},
    {"edit": "switch_channels", "controls": ["body"], "channels": ["move_x"], "locked": True}, {"edit": "mirror_rig", "source": "left"},
    {"edit": "rename_joint", "joint_id": "l_hand", "name": "paw"}, {"edit": "keep_from_animators", "control_ids": ["body"]},
    {"edit": "add_channel", "control": "body", "title": "new"}, {"edit": "drop_control", "control_id": "l_hand_goal"},
)  # fmt: skip
POSING = (
    {"edit": "set_channels", "control_id": "body", "move_y": -0.1}, {"edit": "keep_pose", "name": "low"}, {"edit": "rest_controls"},
    {"edit": "add_clip", "name": "new"}, {"edit": "keep_set", "name": "s", "control_ids": ["body"]},
    {"edit": "place_button", "control_id": "body", "x": 0.5, "y": 0.5}, {"edit": "mirror_pose"},
)  # fmt: skip


@pytest.mark.parametrize("step", BUILDING, ids=[s["edit"] for s in BUILDING])
def test_a_closed_rig_is_not_built(wick, step):
    closed = edits.close_rig(wick)
    with pytest.raises(EditError, match="closed"):
        run_steps(closed, [step])
    opened, _ = run_steps(closed, [{"edit": "open_up"}, step])
    assert not opened.character.closed


@pytest.mark.parametrize("step", POSING, ids=[s["edit"] for s in POSING])
def test_a_closed_rig_is_posed_and_animated(wick, step, tmp_path):
    document, _ = run_steps(edits.close_rig(wick), [step])
    assert again(document, tmp_path).character.closed


def test_opening_up_says_what_may_break(wick):
    document, _ = edits.keep_pose(edits.set_channels(wick, "body", move_y=-0.1), "low")
    closed = edits.close_rig(document)
    assert "poses kept by name" in edits.at_stake(closed.character) and "expressions" in edits.at_stake(closed.character)
    assert not edits.open_up(closed).character.closed
    with pytest.raises(EditError):
        edits.open_up(wick)
    with pytest.raises(EditError):
        edits.close_rig(wick.with_character(replace(wick.character, rig=None)))


def test_what_is_kept_from_animators_stays_so_and_is_no_less_there(wick, tmp_path):
    document = again(edits.keep_from_animators(wick, ("arm.l.pole", "arm.r.pole")), tmp_path)
    rig = edits.build_controls(document).character.rig
    assert rig.control("arm.l.pole").hidden and rig.control("arm.r.pole").hidden
    assert not edits.keep_from_animators(document, ("arm.l.pole",), False).character.rig.control("arm.l.pole").hidden


# Own bodies


def bare(character, scale):
    """The same mesh without anything made on it, in another size."""
    raw = Character("raw", "another", parts=character.parts, materials=character.materials, images=character.images, standing=character.standing)
    return Document((transformed(raw, np.diag([scale, scale, scale, 1.0])),))


@pytest.fixture(scope="module")
def made(wick):
    document = edits.shape_controls(wick, ("arm.l.goal", "arm.r.goal"), shape=Shape.STAR, offset=(0.05, 0.0, 0.0))
    document = edits.rename_control(document, "spine.chest", "barrel")
    document = edits.set_spaces(document, "spine.head", {"as the body": "body"})
    document, _ = edits.keep_pose(edits.set_channels(document, "body", move_y=-0.1), "low")
    return edits.set_pose(document, Pose())


def test_a_body_is_worn_by_another_mesh_with_its_pegs_found_anew(made, tmp_path):
    write_body(tmp_path / "w.body.json", edits.body_of(made.character, "postman's"))
    body = read_body(tmp_path / "w.body.json")
    worn, said = edits.wear_body(bare(made.character, 1.4), body)
    assert said.startswith("postman's is worn")
    one, old = worn.character, made.character
    assert {j.name for j in one.skeleton.joints} == {j.name for j in old.skeleton.joints}
    assert [c.name for c in one.rig.controls] == [c.name for c in old.rig.controls]
    assert edits.waiting_changes(one) == ()
    for joint in old.skeleton.joints:
        gap = np.array(one.skeleton.joint(joint.id).position) / 1.4 - np.array(joint.position)
        assert np.linalg.norm(gap) < 0.03, joint.name
    assert one.rig.control("arm.l.goal").shape is Shape.STAR
    assert one.rig.control("arm.l.goal").offset[0] == pytest.approx(0.07, abs=0.012)
    assert one.rig.control("spine.chest").name == "barrel"
    assert len(one.rig.couplings) == len(old.rig.couplings) and len(one.rig.constraints) == len(old.rig.constraints)
    low = next(p for p in one.poses if p.name == "low")
    assert low.values["body", "move_y"] == pytest.approx(-0.14)
    assert np.abs(evaluate_rig(one.skeleton, one.rig, Pose()).joints - one.skeleton.world).max() < 1e-9
    assert dict(one.control_sets) == dict(old.control_sets)


@pytest.mark.parametrize("name", ["dumble", "harl", "winch", "lantern"])
def test_every_kind_of_body_is_worn(name, tmp_path):
    document = edits.build_controls(shipped(name))
    write_body(tmp_path / "b.body.json", edits.body_of(document.character))
    worn, said = edits.wear_body(bare(document.character, 0.5), read_body(tmp_path / "b.body.json"))
    one = worn.character
    assert [c.id for c in one.rig.controls] == [c.id for c in document.character.rig.controls]
    height = one.height
    assert all(np.linalg.norm(np.array(j.position)) < 3.0 * height for j in one.skeleton.joints), said
    assert np.abs(evaluate_rig(one.skeleton, one.rig, Pose()).joints - one.skeleton.world).max() < 1e-9


def broken(tree, how):
    how(tree)
    return json.dumps(tree)


@pytest.mark.parametrize("how", [
    lambda t: t.update(format="other"), lambda t: t.update(version=9), lambda t: t.update(height=-1), lambda t: t.update(height="tall"),
    lambda t: t.update(body=[]), lambda t: t["body"].update(parts=[1]), lambda t: t["body"].update(pegs=None), lambda t: t["body"].update(rig_changes=3),
    lambda t: t["body"]["pegs"]["pegs"][0].update(position=[1, 2]), lambda t: t["body"].update(unheard_of=1), lambda t: t["body"]["pegs"].update(kits=[]),
    lambda t: t["body"].update(skin={}) or t["body"].update(skin={"method": "x"}), lambda t: t.update(arrays="x"),
])  # fmt: skip
def test_a_body_that_is_none_is_refused_with_its_place(made, tmp_path, how):
    path = tmp_path / "b.body.json"
    write_body(path, edits.body_of(made.character))
    path.write_text(broken(json.loads(path.read_text()), how))
    with pytest.raises(MeshFileError) as caught:
        read_body(path)
    assert "b.body.json" in str(caught.value)


def test_names_lead_nowhere_else_and_own_bodies_are_listed(made, tmp_path):
    for name in ("../../etc/passwd", "a/b", "..", "", "Wick's body", "x" * 300):
        assert path_of(name, tmp_path).parent == tmp_path
    write_body(path_of("Wick's body", tmp_path), edits.body_of(made.character))
    assert list(known_bodies(tmp_path)) == ["Wick's body"]
    for text in ("", "[1, 2", "null", '{"format": NaN}'):
        (tmp_path / "c.body.json").write_text(text)
        with pytest.raises(MeshFileError):
            read_body(tmp_path / "c.body.json")


def test_what_comes_from_a_file_is_no_body(made):
    with pytest.raises(EditError, match="pegs"):
        edits.body_of(replace(made.character, pegs=None))
    with pytest.raises(EditError):
        edits.body_of(replace(made.character, adopted=made.character.skeleton))
