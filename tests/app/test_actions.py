"""Each action that changes the character, run as its button, key or palette row runs it: what changes, what stays, and
that one undo brings back the very document that was there."""

from dataclasses import dataclass, field, replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QComboBox

from pegloom.app.state.state import RANGE_TEST, Area, Tool
from pegloom.core.geometry.mesh import weld
from pegloom.core.skeleton.axes import crooked_axes
from pegloom.core.skeleton.body import body_of
from pegloom.core.skin.weights import dense_over, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.edits.skeleton import turn_joints
from pegloom.document.model import Document
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project
from pegloom.scene.brushes import Painting
from pegloom.scene.display import Display
from tests.app.conftest import find
from tests.document.test_detail_levels import levels
from tests.support.figures import DEMO, wick

LEFT_ARM = "arm.l.upper"
NEWEST = "the joint drawn last"


def columns(character, part="part0"):
    ids = [j.id for j in character.skeleton.joints]
    return dense_over(character.skin.weights[part], ids), ids


def joints(character):
    return {j.id for j in character.skeleton.joints}


def shoulder(character):
    """A patch of the body's vertices about the left shoulder."""
    at = np.array(character.skeleton.joint(LEFT_ARM).position)
    mesh = character.parts[0].mesh
    near = np.linalg.norm(mesh.points - at, axis=1) < 0.07
    g = weld(mesh)
    return np.flatnonzero(np.isin(g.group, g.group[near]))


@dataclass
class Case:
    action: str
    check: object
    area: Area = Area.WEIGHTS
    pick: tuple = ()
    vertices: bool = False
    before: object = None
    setting: object = None
    after: object = field(default=None)


def twisted(document):
    turn = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    axes = document.character.skeleton.joint("arm.l.lower").matrix[:3, :3]
    return turn_joints(document, {"arm.l.lower": axes @ turn})


def lopsided(document):
    x, y, z = document.character.pegs.position("l_knee")
    return edits.place_peg(document, "l_knee", (x + 0.02, y, z), both_sides=False)


def eared(document):
    return edits.add_kit(document, "ear", "spine.head")[0]


def lone_feather(document):
    return edits.draw_joint(document, (0.06, 1.62, 0.0), parent="spine.head", name="l_feather", both_sides=False)[0]


def spread(document):
    """A crumb of the foot on the shoulder, and a fifth influence's worth of others."""
    character = document.character
    some = shoulder(character)[:20]
    return edits.fill_weight(document, "part0", "leg.l.end", some, 0.004, both_sides=False)


def one_axis(before, after, joint="arm.l.lower"):
    a, b = (c.skeleton.joint(joint).matrix[:3, :3] for c in (before, after))
    assert not np.allclose(a, b)
    assert np.allclose(before.skeleton.joint(joint).position, after.skeleton.joint(joint).position)


def more_joints(count):
    def check(before, after, hand):
        assert len(joints(after)) == len(joints(before)) + count
        assert row_sums_hold(after.skin.weights["part0"])

    return check


def weights_changed_only_at_vertices(before, after, hand):
    was, _ = columns(before)
    now, _ = columns(after)
    changed = np.flatnonzero(np.abs(now - was).max(axis=1) > 1e-9)
    mesh = before.parts[0].mesh
    chosen = shoulder(before)
    mirrored = np.flatnonzero(
        np.linalg.norm(mesh.points * [-1, 1, 1] - np.array(before.skeleton.joint(LEFT_ARM).position), axis=1) < 0.09
    )
    assert len(changed)
    assert np.isin(changed, np.concatenate([chosen, mirrored])).all()
    assert row_sums_hold(after.skin.weights["part0"])


def averaged(before, after, hand):
    weights_changed_only_at_vertices(before, after, hand)
    now, _ = columns(after)
    rows = now[shoulder(before)]
    assert np.abs(rows - rows[0]).max() < 1e-9


def arm_given_to_clavicle(before, after, hand):
    was, ids = columns(before)
    now, _ = columns(after)
    arm, heir = ids.index(LEFT_ARM), ids.index("arm.l.clavicle")
    assert now[:, arm].max() == 0
    assert np.allclose(now[:, heir], was[:, heir] + was[:, arm], atol=1e-6)


def arm_taken_off(before, after, hand):
    now, ids = columns(after)
    assert now[:, ids.index(LEFT_ARM)].max() == 0
    assert np.allclose(now.sum(axis=1), 1.0)


def reduced(before, after, hand):
    assert most_influences(after.skin.weights["part0"]) <= 2
    assert most_influences(before.skin.weights["part0"]) > 2


def no_crumbs(before, after, hand):
    now, _ = columns(after)
    assert now[now > 0].min() >= 0.005 - 1e-9


def choose_heir(hand):
    hand.session.go(Area.WEIGHTS)
    box = hand.value("weights.heir")
    box.setCurrentIndex(box.findData("arm.l.clavicle"))


def two_influences(hand):
    hand.session.go(Area.WEIGHTS)
    hand.value("weights.influences").setValue(2)


CASES = [
    Case("axes.aim", lambda b, a, h: one_axis(b, a), Area.JOINTS, ("joint", "arm.l.lower"), before=twisted),
    Case("axes.square", lambda b, a, h: one_axis(b, a), Area.JOINTS, ("joint", "arm.l.lower"), before=twisted),
    Case("axes.mend", lambda b, a, h: crooked_axes(a.skeleton) or one_axis(b, a), Area.JOINTS, before=twisted),
    Case("axes.match", lambda b, a, h: one_axis(b, a), Area.JOINTS, ("joint", "arm.l.lower", "arm.l.upper")),
    Case("axes.align", lambda b, a, h: one_axis(b, a), Area.JOINTS, ("joint", "arm.l.upper"), before=twisted),
    Case("axes.mirror", lambda b, a, h: one_axis(b, a, "arm.r.lower"), Area.JOINTS, ("joint", "arm.l.lower"), before=twisted),
    Case("joints.insert", more_joints(2), Area.JOINTS, ("joint", "arm.l.lower")),
    Case("joints.split", more_joints(2), Area.JOINTS, ("joint", "leg.l.lower")),
    Case("joints.extend", more_joints(2), Area.JOINTS, ("joint", "leg.l.toes")),
    Case("joints.duplicate", more_joints(2), Area.JOINTS, ("joint", "leg.l.end")),
    Case("joints.mirror", more_joints(1), Area.JOINTS, ("joint", NEWEST), before=lone_feather),
    Case("joints.delete", more_joints(-2), Area.JOINTS, ("joint", "arm.l.clavicle")),
    Case("joints.delete_branch", more_joints(-4), Area.JOINTS, ("joint", "leg.l.end")),
    Case(
        "joints.float",
        lambda b, a, h: a.skeleton.joint("arm.l.upper").floating or pytest.fail("it does not float"),
        Area.JOINTS,
        ("joint", "arm.l.upper"),
    ),
    Case(
        "joints.even",
        lambda b, a, h: max(edits.side_gaps(a.pegs).values()) < 1e-9 or pytest.fail("the sides differ"),
        Area.JOINTS,
        before=lopsided,
    ),
    Case("rest.pose", lambda b, a, h: b.skeleton is not a.skeleton or pytest.fail("no new rest"), Area.JOINTS),
    Case("rest.t", lambda b, a, h: b.skeleton is not a.skeleton or pytest.fail("no new rest"), Area.JOINTS),
    Case("mesh.even_out", lambda b, a, h: b.parts[0].mesh is not a.parts[0].mesh or pytest.fail("the same"), Area.MESH),
    Case("mesh.remove", lambda b, a, h: len(a.parts) == len(b.parts) - 1 or pytest.fail("still there"), Area.MESH, ("part", "part1")),
    Case("parts.hide", lambda b, a, h: not a.part("part1").included or pytest.fail("still in"), Area.MESH, ("part", "part1")),
    Case(
        "parts.show",
        lambda b, a, h: all(p.included for p in a.parts) or pytest.fail("some are out"),
        Area.MESH,
        before=lambda d: edits.include_part(d, "part1", False),
    ),
    Case("weights.smooth", weights_changed_only_at_vertices, vertices=True, pick=("joint", LEFT_ARM)),
    Case("weights.fill", weights_changed_only_at_vertices, vertices=True, pick=("joint", LEFT_ARM)),
    Case("vertices.average", averaged, vertices=True),
    Case("influence.drop", arm_taken_off, pick=("joint", LEFT_ARM)),
    Case("influence.replace", arm_given_to_clavicle, pick=("joint", LEFT_ARM), setting=choose_heir),
    Case("weights.reduce", reduced, setting=two_influences),
    Case("weights.prune", no_crumbs, before=spread),
    Case("weave.keep", lambda b, a, h: len(a.weaves) == len(b.weaves) + 1 or pytest.fail("no weave")),
    Case("trial.keep", lambda b, a, h: len(a.trials) == len(b.trials) + 1 or pytest.fail("no trial")),
    Case("relax.put", lambda b, a, h: a.skin.relax or pytest.fail("no relax")),
    Case("motion.new_clip", lambda b, a, h: len(a.clips) == len(b.clips) + 1 or pytest.fail("no clip"), Area.MOTION),
    Case("motion.trial_clip", lambda b, a, h: len(a.clips) == len(b.clips) + 1 or pytest.fail("no clip"), Area.MOTION),
    Case("keys.write_all", lambda b, a, h: any(c.curves for c in a.clips) or pytest.fail("no key"), Area.MOTION),
    Case(
        "controls.arms_ik",
        lambda b, a, h: [a.pose.values[f"arm.{s}.goal", "blend"] for s in "lr"] == [1.0, 1.0] or pytest.fail("not in IK"),
        Area.CONTROLS,
    ),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=[c.action for c in CASES])
def test_an_action_does_what_it_says_in_one_step(hand, case):
    document = wick()
    if case.before is not None:
        document = case.before(document)
    hand.session.start_with(document, None)
    hand.session.go(case.area)
    if case.pick:
        kind, *things = case.pick
        hand.session.select(kind, *(document.character.own_joints[-1].id if t == NEWEST else t for t in things))
    if case.vertices:
        hand.session.set_view(vertices={"part0": shoulder(document.character)})
    if case.setting is not None:
        case.setting(hand)
    base = hand.session.history.present
    action = hand.window.actions_.entries[case.action]
    assert action.missing(hand.c.state) is None, "it can be run now"
    hand.window.actions_.qactions[case.action].trigger()
    hand.idle()
    done = hand.session.history.present
    assert done is not base, "it made a step"
    case.check(base.character, done.character, hand)
    assert hand.session.frame() is not None
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert hand.session.history.present is base, "one undo brings back the very document"
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert hand.session.history.present is done


def test_the_selection_grows_shrinks_and_takes_shells_and_rims(rigged):
    run = lambda name: rigged.session.run(name)  # noqa: E731
    rigged.session.go(Area.WEIGHTS)
    start = shoulder(rigged.session.character)
    count = lambda: sum(len(v) for v in rigged.session.vertices.values())  # noqa: E731
    rigged.session.set_view(vertices={"part0": start})
    run("vertices.grow")
    grown = count()
    assert grown > len(start)
    assert np.isin(start, rigged.session.vertices["part0"]).all()
    run("vertices.shrink")
    assert len(start) - 5 <= count() <= grown - 1
    run("vertices.rim")
    rim = count()
    assert 0 < rim < len(start)
    run("vertices.shell")
    shell = count()
    body = rigged.session.character.parts[0].mesh.vertex_count
    assert shell > 0.5 * body
    rigged.session.set_view(vertices={"part0": start})
    run("vertices.others")
    assert count() == body - len(start), "the rest of its part"
    assert rigged.session.history.undo_name is None, "selecting is no step"


def test_weights_are_copied_pasted_and_a_selection_is_kept_and_recalled(rigged):
    run = lambda name: rigged.session.run(name)  # noqa: E731
    rigged.session.go(Area.WEIGHTS)
    character = rigged.session.character
    start = shoulder(character)
    rigged.session.set_view(vertices={"part0": start[:1]})
    run("vertices.copy")
    row = columns(character)[0][start[0]]
    chest = np.argsort(np.linalg.norm(character.parts[0].mesh.points - [0.0, 1.15, 0.12], axis=1))[:12]
    rigged.session.set_view(vertices={"part0": np.sort(chest)})
    run("vertices.paste")
    now = columns(rigged.session.character)[0][chest]
    assert np.allclose(now, row, atol=1e-6)
    rigged.value("weights.selection.sets").setEditText("chest patch")
    run("vertices.keep")
    assert "chest patch" in rigged.session.character.vertex_sets
    rigged.session.set_view(vertices={})
    rigged.value("weights.selection.sets").setEditText("chest patch")
    run("vertices.recall")
    assert np.array_equal(np.sort(rigged.session.vertices["part0"]), np.sort(chest))
    run("vertices.forget")
    assert "chest patch" not in rigged.session.character.vertex_sets


def test_selecting_by_weight_takes_just_those(rigged):
    rigged.session.go(Area.WEIGHTS)
    rigged.session.select("joint", LEFT_ARM)
    low, high = (rigged.value(f"weights.selection.{n}").value() for n in ("low", "high"))
    rigged.session.run("vertices.held")
    values, ids = columns(rigged.session.character)
    held = values[:, ids.index(LEFT_ARM)]
    wanted = np.flatnonzero((held >= low - 1e-9) & (held <= high + 1e-9) & (held > 0))
    assert np.isin(rigged.session.vertices["part0"], wanted).all()
    assert len(rigged.session.vertices["part0"]) > 100


def test_views_tools_and_painting_are_taken_by_their_keys(rigged):
    rigged.session.go(Area.WEIGHTS)
    for key, tool in (
        (Qt.Key.Key_B, Tool.BRUSH),
        (Qt.Key.Key_V, Tool.PICK),
        (Qt.Key.Key_M, Tool.MOVE),
        (Qt.Key.Key_Q, Tool.SELECT),
    ):
        rigged.key(key)
        assert rigged.session.tool is tool
    rigged.key(Qt.Key.Key_L)
    assert rigged.session.display is Display.SEE_THROUGH
    rigged.key(Qt.Key.Key_L)
    assert rigged.session.display is Display.CLAY
    for key, name in ((Qt.Key.Key_O, "wire_over"), (Qt.Key.Key_E, "clean_view"), (Qt.Key.Key_U, "both_sides")):
        was = getattr(rigged.session, name)
        rigged.key(key)
        assert getattr(rigged.session, name) is not was
        rigged.key(key)
        assert getattr(rigged.session, name) is was
    size = rigged.session.brush.radius
    rigged.key(Qt.Key.Key_Plus)
    assert rigged.session.brush.radius > size
    rigged.key(Qt.Key.Key_Minus)
    assert rigged.session.brush.radius == pytest.approx(size)
    rigged.session.run("relax.paint_dual")
    assert (rigged.session.painting, rigged.session.tool) == (Painting.DUAL, Tool.BRUSH)
    rigged.key(Qt.Key.Key_P)
    assert not rigged.stage.camera.perspective


def test_time_is_stepped_and_keys_are_gone_to(rigged):
    rigged.session.go(Area.MOTION)
    clip = rigged.session.character.clips[0]
    rigged.session.play_source(clip.id)
    times = clip.key_times
    rigged.key(Qt.Key.Key_PageDown)
    assert rigged.session.time == pytest.approx(times[1] if times[0] < 1e-6 else times[0])
    here = rigged.session.time
    rigged.key(Qt.Key.Key_Right)
    assert rigged.session.time == pytest.approx(here + 1 / rigged.session.rate)
    rigged.key(Qt.Key.Key_Left)
    assert rigged.session.time == pytest.approx(here)
    rigged.key(Qt.Key.Key_PageUp)
    assert rigged.session.time == pytest.approx(times[0])
    keys = len(clip.key_times)
    rigged.session.go_to(here)
    rigged.session.select("")
    rigged.key(Qt.Key.Key_Delete, Qt.KeyboardModifier.ShiftModifier)
    assert len(rigged.session.clip.key_times) == keys - 1


def test_a_rigged_character_is_made_twice_as_tall_and_turned_in_the_window(rigged):
    rigged.session.go(Area.MESH)
    before = rigged.session.character
    rigged.value("mesh.height").setValue(2 * before.height)
    rigged.click("button.mesh.stand_up")
    rigged.idle()
    tall = rigged.session.character
    assert tall.height == pytest.approx(2 * before.height, rel=1e-3)
    assert tall.skeleton.joint("spine.head").position[1] == pytest.approx(
        2 * before.skeleton.joint("spine.head").position[1], rel=1e-3
    )
    assert tall.rig is not None
    rigged.session.run("mesh.turn_left")
    rigged.idle()
    x, _, z = rigged.session.character.skeleton.joint("arm.l.end").position
    assert abs(z) > abs(x), "the left hand has gone round"
    rigged.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    rigged.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert rigged.session.character is before


def test_the_rest_to_hand_over_is_chosen_and_the_work_stays(rigged, tmp_path):
    rigged.session.go(Area.HANDOVER)
    box = find(rigged.window, QComboBox, "handover.rest")
    box.setCurrentIndex(box.findData(edits.DeliveredRest.T_POSE))
    before = rigged.session.history.present
    rigged.window.answers.save_path = str(tmp_path / "wick.glb")
    rigged.click("button.file.export")
    rigged.idle()
    skeleton = read_gltf(tmp_path / "wick.glb").skeleton
    at = {j.name: j.position for j in skeleton.joints}
    assert at["l_hand"][1] == pytest.approx(at["l_upper_arm"][1], abs=1e-4), "the file's arms are level"
    assert rigged.session.history.present is before


def test_a_files_joint_outside_the_mesh_is_shown_where_it_belongs_and_then_moved(hand, tmp_path):
    write_glb(tmp_path / "other.glb", replace(wick().character, clips=()))
    hand.window.open_path(tmp_path / "other.glb")
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    hand.session.go(Area.JOINTS)
    elbow = body_of(hand.session.character.skeleton).joint_of["arm.l.lower"]
    x, y, z = hand.session.character.skeleton.joint(elbow).position
    hand.session.commit("away", edits.move_joint(hand.session.document, elbow, (x, y, z + 0.15)))
    hand.until(lambda: any(s.code == "outside-mesh" for s in hand.session.snags))
    hand.session.select("joint", elbow)
    away = hand.session.history.present
    hand.session.run("joints.centre")
    assert len(hand.session.moves) == 2, "both sides move, so both are shown"
    assert hand.session.history.present is away, "the first press only shows"
    hand.session.run("joints.centre")
    assert not hand.session.moves
    assert np.linalg.norm(np.array(hand.session.character.skeleton.joint(elbow).position) - (x, y, z)) < 0.02
    hand.session.select("joint", body_of(hand.session.character.skeleton).joint_of["spine.chest"])
    said = []
    hand.session.said.connect(lambda text, *_: said.append(text))
    hand.session.run("joints.centre")
    assert said[-1] == "It stands at its proper depth"


def test_a_look_is_copied_from_another_characters_file(rigged):
    rigged.session.go(Area.MESH)
    slot = rigged.value("mesh.slot").currentData()
    before = rigged.session.character
    rigged.window.answers.open_path = str(DEMO / "dumble.pegloom")
    rigged.session.run("mesh.look_from")
    rigged.idle()
    after = rigged.session.character
    theirs = open_project(DEMO / "dumble.pegloom").character
    assert after.materials[slot].name == before.materials[slot].name
    picture = next(i for i in after.images if i.name == after.materials[slot].base_image)
    assert picture.data in {i.data for i in theirs.images}
    assert len(after.images) == len(before.images) + 1
    rigged.session.undo()
    assert rigged.session.character is before


def test_pegs_take_the_place_of_a_files_skeleton_only_when_that_is_meant(hand, tmp_path):
    write_glb(tmp_path / "other.glb", replace(wick().character, clips=()))
    hand.window.open_path(tmp_path / "other.glb")
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    hand.session.try_edit("Build controls", edits.build_controls)
    hand.session.go(Area.JOINTS)
    base = hand.session.history.present
    hand.window.answers.yes = False
    hand.click("button.joints.find_pegs")
    hand.idle()
    assert hand.session.history.present is base
    assert "52 joints" in hand.window.answers.asked[-1]
    hand.window.answers.yes = True
    hand.click("button.joints.find_pegs")
    hand.idle()
    assert hand.session.character.skeleton is None
    hand.session.run("joints.build")
    assert not any(j.startswith("file.") for j in joints(hand.session.character))
    hand.session.undo()
    hand.session.undo()
    assert hand.session.history.present is base
    # Kits are hung on the file's own joints without being asked.
    hand.session.select("joint", body_of(base.character.skeleton).joint_of["spine.head"])
    asked = len(hand.window.answers.asked)
    hand.session.run("joints.add_kit")
    assert len(hand.window.answers.asked) == asked
    assert len(joints(hand.session.character)) > 52
    assert hand.session.frame() is not None


def test_a_character_that_came_rigged_has_its_range_test_and_figures(hand, tmp_path):
    write_glb(tmp_path / "other.glb", replace(wick().character, clips=()))
    hand.window.open_path(tmp_path / "other.glb")
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    hand.session.go(Area.WEIGHTS)
    assert hand.session.influence == body_of(hand.session.character.skeleton).joint_of["arm.l.upper"]
    assert {t.id for t in hand.session.trials} >= {"arm_up", "crouch", "elbow", "fist"}
    hand.session.play_source(RANGE_TEST, 20 / 30)
    watch = hand.window.c.quality
    hand.until(lambda: any(f is not None for f in watch.row(hand.session.influence)))
    raised = hand.session.frame().points
    assert max(p[:, 1].max() for p in raised.values()) > 1.02 * hand.session.character.height


def test_what_was_picked_and_is_gone_is_let_go(rigged):
    rigged.session.go(Area.JOINTS)
    rigged.session.select("joint", "leg.l.toes")
    rigged.session.set_view(vertices={"part0": np.array([5, 6])})
    rigged.key(Qt.Key.Key_Delete)
    assert rigged.session.selection.ids == ()
    assert rigged.session.influence in rigged.session.character.skeleton.index
    changed = edits.take_in(rigged.session.document, edits.Arrived("other", (replace(wick().character.parts[1], name="body"),)))[0]
    rigged.session.commit("another body", changed)
    assert not rigged.session.vertices, "vertices of another mesh are no selection of this one"
    rigged.session.commit("nothing", Document())
    assert rigged.session.influence == ""


def test_detail_levels_are_looked_at_one_after_the_other(hand):
    hand.session.start_with(edits.bind(levels()), None)
    hand.session.go(Area.MESH)
    hand.bot.wait(30)
    assert [p.name for p in hand.session.shown_parts] == ["body_LOD0"]
    for name in ("body_LOD1", "body_LOD2", "body_LOD0"):
        hand.session.run("mesh.level")
        hand.bot.wait(30)
        assert [p.name for p in hand.session.shown_parts] == [name]
        assert set(hand.stage.renderer.surfaces) == {hand.session.shown_parts[0].id}
    hand.session.run("mesh.level")
    hand.session.go(Area.WEIGHTS)
    x, y, _ = hand.stage.camera.project(np.array([0.0, 1.2, 0.1]), *hand.stage.size_in_points)[0]
    assert hand.stage.surface_at(x, y)[0].name == "body_LOD1", "what is shown is what is picked and painted"
    hand.session.start_with(wick(), None)
    assert len(hand.session.shown_parts) == len(wick().character.included)


def test_a_rigged_figure_is_turned_by_a_drag_in_one_step(rigged):
    rigged.session.go(Area.MESH)
    rigged.key(Qt.Key.Key_R)
    before = rigged.session.character
    middle = QPoint(rigged.stage.width() // 2, rigged.stage.height() // 2)
    rigged.drag(middle, (60, 0), modifiers=Qt.KeyboardModifier.ControlModifier)
    rigged.idle()
    after = rigged.session.character
    assert after is rigged.session.history.present.character, "no draft is left in the view"
    assert after.skeleton is not before.skeleton
    assert after.rig is not None
    rigged.session.undo()
    assert rigged.session.character is before
