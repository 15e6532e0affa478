"""The Mesh and Joints areas through the real window."""

from dataclasses import replace

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QDoubleSpinBox, QLineEdit, QMenu, QPushButton, QSpinBox, QWidget

from pegloom.app.areas.joints.chain_names import NAMES
from pegloom.app.areas.mesh.tools import depth_of
from pegloom.app.demos import DEMOS
from pegloom.app.state.state import Area, Tool
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joints import Origin, Side, Skeleton
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Part, Subdivision
from tests.app.conftest import find
from tests.support import creatures
from tests.support.figures import DEMO, as_mesh, capsule_figure, document_of, toed_human, unrigged_wick, wick


def widget(hand, kind, name):
    found = find(hand.window, kind, name)
    assert found is not None, name
    return found


def open_card(hand, name):
    from pegloom.app.widgets.card import Card

    card = widget(hand, Card, name)
    if not card.is_open:
        card.head.click()
    hand.bot.wait(20)
    hand.window.benches[hand.session.area].ensureWidgetVisible(card)
    return card


def choose(box: QComboBox, data) -> None:
    index = box.findData(data)
    assert index >= 0
    box.setCurrentIndex(index)
    box.activated.emit(index)


@pytest.mark.parametrize("name", DEMOS)
def test_every_demo_opens_from_the_welcome(hand, name):
    hand.click(f"welcome.demo_{name}")
    hand.until(lambda: hand.session.character is not None)
    assert hand.session.character.rig is not None
    assert hand.session.area is Area.CONTROLS
    assert not hand.window.frame_.welcome.isVisible()


def test_an_animal_is_stood_up_and_given_pegs_as_the_shape_says(hand, tmp_path):
    made, _ = creatures.four_legged()
    made.apply_scale(100)
    made.apply_transform(np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1.0]]))
    made.export(tmp_path / "dog.stl")
    hand.window.open_path(tmp_path / "dog.stl")
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    hand.click("button.mesh.stand_up")
    assert hand.session.character.standing.up == "+Z"
    assert hand.session.ghost is not None, "the pose before is shown as a ghost"
    hand.click("button.mesh.turn_left")
    hand.click("button.mesh.turn_right")
    hand.session.go(Area.JOINTS)
    assert hand.session.ghost is None
    hand.click("button.joints.find_pegs")
    hand.idle()
    pegs = hand.session.character.pegs
    assert pegs.pattern == "four-legged"
    assert {"l_hock", "nose", "tail_tip"} <= set(pegs.by_name)
    hand.click("button.joints.build")
    assert "leg.l.end" in hand.session.character.skeleton.index


def test_the_mesh_is_turned_by_dragging_and_back_by_undo(hand):
    hand.window.open_path(DEMO / "dumble.obj")
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    hand.click("button.mesh.stand_up")
    before = hand.session.character.parts[0].mesh.points.copy()
    hand.key(Qt.Key.Key_R)
    assert hand.session.tool is Tool.TURN
    middle = QPoint(hand.stage.width() // 2, hand.stage.height() // 2)
    hand.drag(middle, (60, 0), modifiers=Qt.KeyboardModifier.ControlModifier)
    after = hand.session.character.parts[0].mesh.points
    # 60 pixels are 30 degrees, a step of 15 with Ctrl; the middle of the body stays over the ground's middle.
    turn = np.radians(30)
    for sign in (1, -1):
        c, s = np.cos(sign * turn), np.sin(sign * turn)
        turned = before @ np.array([[c, 0, -s], [0, 1, 0], [s, 0, c]])
        off = after - turned
        if np.ptp(off, axis=0).max() < 1e-6:
            break
    else:
        pytest.fail("the mesh is not turned by 30 degrees about its upright")
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert np.allclose(hand.session.character.parts[0].mesh.points, before)


def test_a_unit_is_offered_and_taken(hand):
    made = capsule_figure()
    made.apply_scale(100)
    document = edits.bring_in(Document(), (Part("part0", "figure", as_mesh(made)),), name="figure")
    hand.session.start_with(document, None)
    box = widget(hand, QComboBox, "mesh.units")
    texts = [box.itemText(i) for i in range(box.count())]
    assert any(t.startswith("centimetres? then 1.7") for t in texts)
    choose(box, box.itemData(next(i for i, t in enumerate(texts) if t.startswith("centimetres"))))
    assert hand.session.character.height == pytest.approx(1.75, abs=0.02)


def test_the_centre_line_is_dragged_in_the_view(hand):
    document = edits.stand_up(edits.bring_in(Document(), (Part("part0", "f", as_mesh(capsule_figure())),), name="f"))
    hand.session.start_with(document, None)
    hand.session.set_view(middle_shown=True)
    hand.stage.look_along("z")
    hand.stage.show_all()
    character = hand.session.character
    from pegloom.scene import drawing

    line = drawing.middle_line(0.0, character.height, depth_of(character))
    x, y, _ = hand.stage.camera.project(line.mean(axis=0), *hand.stage.size_in_points)[0]
    hand.drag(QPoint(int(x), int(y)), (25, 0))
    assert hand.session.character.standing.middle > 0.01
    assert hand.session.history.undo_name == "Drag the centre line"
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert hand.session.character.standing.middle == 0.0


def test_a_snag_is_mended_where_it_is_listed(hand):
    made = capsule_figure()
    made.faces = made.faces.copy()
    made.faces[::5] = made.faces[::5][:, ::-1]
    document = edits.bring_in(Document(), (Part("part0", "figure", as_mesh(made)),), name="figure")
    hand.session.start_with(document, None)
    hand.until(lambda: find(hand.window, QPushButton, "mesh.show.part0.inward-faces") is not None)
    hand.click("mesh.show.part0.inward-faces")
    hand.click("mesh.fix.part0.inward-faces")
    hand.idle()
    assert hand.session.history.undo_name == "Turn faces outward: figure"
    hand.until(lambda: hand.session.c.state.snags_known)
    hand.bot.wait(60)
    assert find(hand.window, QPushButton, "mesh.fix.part0.inward-faces") is None


def test_parts_are_split_joined_and_smoothed(hand):
    document = edits.bring_in(Document(), (Part("part0", "figure", as_mesh(capsule_figure())),), name="figure")
    hand.session.start_with(document, None)
    hand.session.select("part", "part0")
    open_card(hand, "mesh.picked")
    choose(widget(hand, QComboBox, "mesh.smooth"), Subdivision.LOOP)
    assert hand.session.character.parts[0].smooth is Subdivision.LOOP
    hand.bot.wait(80)
    surface = hand.stage.renderer.surfaces["part0"]
    assert surface.mesh.vertex_count > 3 * hand.session.character.parts[0].mesh.vertex_count
    hand.click("button.mesh.split")
    parts = hand.session.character.parts
    assert len(parts) == 17
    hand.session.select("part", *[p.id for p in parts])
    hand.click("button.mesh.join")
    assert len(hand.session.character.parts) == 1


def test_the_mesh_is_replaced_under_the_finished_rig(rigged, tmp_path):
    before = rigged.session.character
    rigged.session.go(Area.MESH)
    rigged.window.answers.open_path = str(DEMO / "wick.obj")
    rigged.click("button.mesh.replace")
    rigged.idle()
    rigged.until(lambda: rigged.session.history.undo_name == "Revised by wick.obj")
    after = rigged.session.character
    assert after.skeleton is before.skeleton
    assert after.rig is before.rig
    assert all(after.skin.weights[p] is w for p, w in before.skin.weights.items())


def test_a_peg_is_dragged_in_the_slice_window_onto_its_proper_depth(hand):
    made, _ = creatures.four_legged()
    document = edits.stand_up(creatures.document(made), keep_size=True)
    pegs = edits.find_pegs(document, plan="four-legged")
    document = edits.set_pegs(document, pegs)
    x, y, z = pegs.position("l_wrist")
    document = edits.place_peg(document, "l_wrist", (x + 0.02, y, z))
    hand.session.start_with(document, None)
    hand.session.go(Area.JOINTS)
    hand.session.select("peg", "l_wrist")
    slice_ = find(hand.window, QWidget, "slice")
    assert slice_.isVisible()
    cut = slice_.view.cuts[0]
    assert not slice_.view.sound
    scale = slice_.square(0).width() / 2 / cut.reach
    start = slice_.square(0).center().toPoint()
    end = QPointF(start.x() + cut.proper[0] * scale + 2, start.y() - cut.proper[1] * scale + 2)
    QTest.mousePress(slice_, Qt.MouseButton.LeftButton, pos=start)
    from PyQt6.QtCore import QEvent
    from PyQt6.QtGui import QMouseEvent

    def lead(share):
        here = QPointF(start) + (end - QPointF(start)) * share
        event = QMouseEvent(QEvent.Type.MouseMove, here, QPointF(slice_.mapToGlobal(here.toPoint())), Qt.MouseButton.NoButton,
                            Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)  # fmt: skip
        QApplication.sendEvent(slice_, event)

    stored = hand.session.history.present
    lead(0.5)
    assert hand.session.document is not stored
    hand.c.actions.run("edit.cancel")
    lead(1.0)
    QTest.mouseRelease(slice_, Qt.MouseButton.LeftButton, pos=end.toPoint())
    assert hand.session.document is hand.session.history.present is stored, "Esc drops this drag like any other"
    hand.session.settle()
    QTest.mousePress(slice_, Qt.MouseButton.LeftButton, pos=start)
    lead(0.5)
    lead(1.0)
    QTest.mouseRelease(slice_, Qt.MouseButton.LeftButton, pos=end.toPoint())
    assert hand.session.history.undo_name == "Place l_wrist (both sides)"
    hand.session.settle()
    assert slice_.view.sound
    left, right = (np.array(hand.session.character.pegs.position(p)) for p in ("l_wrist", "r_wrist"))
    assert np.allclose(left * [-1, 1, 1], right)


def test_centring_is_shown_before_it_is_done(hand):
    document = edits.stand_up(edits.bring_in(Document(), (Part("part0", "f", as_mesh(capsule_figure())),), name="f"))
    document = edits.set_pegs(document, edits.find_pegs(document, fingers=0))
    x, y, z = document.character.pegs.position("l_knee")
    hand.session.start_with(edits.place_peg(document, "l_knee", (x + 0.05, y, z)), None)
    hand.session.go(Area.JOINTS)
    hand.click("button.joints.centre")
    assert hand.session.moves
    assert hand.session.history.undo_name is None, "the first press only shows"
    hand.click("button.joints.centre")
    assert hand.session.moves == ()
    assert abs(hand.session.character.pegs.position("l_knee")[0] - x) < 0.02


def test_a_joint_and_its_peg_both_moved_are_asked_about_and_settled(rigged):
    """The snag of the Joints bench: Show, back to the pegs, or keep the move; each undone by one step."""
    session = rigged.session
    rigged.session.go(Area.JOINTS)
    x, y, z = session.character.skeleton.joint("arm.l.lower").position
    session.try_edit("Move", lambda d: edits.move_joint(d, "arm.l.lower", (x, y + 0.02, z), both_sides=False))
    px, py, pz = session.character.pegs.position("l_elbow")
    session.try_edit("Place", lambda d: edits.place_peg(d, "l_elbow", (px - 0.05, py, pz), both_sides=False))
    card = find(rigged.window, QWidget, "joints.snags")
    rigged.until(lambda: any(s.code == "parted-move" for s in session.snags))
    card.set_open(True)
    rigged.bot.wait(30)
    bench = rigged.window.benches[Area.JOINTS]
    assert bench.horizontalScrollBar().maximum() == 0, "nothing scrolls sideways"
    target = rigged.stage.camera.looks_at
    rigged.click("snag.show.parted-move")
    assert rigged.stage.camera.looks_at != target
    rigged.click("snag.joints.keep_moves")
    assert session.history.undo_name == "Keep moves by hand"
    assert not edits.parted_moves(session.character)
    session.undo()
    rigged.until(lambda: any(s.code == "parted-move" for s in session.snags))
    rigged.bot.wait(30)
    rigged.click("snag.fix.parted-move")
    assert session.history.undo_name == "Joints back to their pegs"
    recipe = edits.build_joints(session.document.with_character(session.character)).character
    assert not edits.parted_moves(recipe)
    assert session.character.joint_overrides["arm.l.lower"].move == (0.0, 0.0, 0.0)


def test_joints_are_drawn_changed_and_dropped_with_mouse_and_keys(rigged):
    session = rigged.session
    rigged.session.go(Area.JOINTS)
    session.set_view(hidden=frozenset({"pegs"}))
    rigged.stage.look_along("z")
    rigged.stage.show_all()
    before = len(session.character.skeleton.joints)
    rigged.key(Qt.Key.Key_J)
    assert session.tool is Tool.DRAW
    head = rigged.at("joint", "spine.head")
    QTest.mouseClick(rigged.stage, Qt.MouseButton.LeftButton, pos=head)
    assert session.selection.lead == "spine.head"
    QTest.mouseClick(rigged.stage, Qt.MouseButton.LeftButton, pos=head + QPoint(14, -34))
    assert len(session.character.skeleton.joints) == before + 2, "both sides at once"
    made = session.selection.lead
    place = session.character.skeleton.joint(made).position
    assert session.character.skeleton.joint(session.character.skeleton.other_side(made)).position[0] == pytest.approx(
        -place[0]
    )
    rigged.key(Qt.Key.Key_Escape)
    assert session.tool is Tool.PICK
    session.select("joint", made)
    x = widget(rigged, QDoubleSpinBox, "tag.x")
    x.setFocus()
    x.lineEdit().selectAll()
    QTest.keyClicks(x, "6.5")
    QTest.keyClick(x, Qt.Key.Key_Return)
    assert session.character.skeleton.joint(made).position[0] == pytest.approx(0.065)
    rigged.stage.setFocus()
    rigged.key(Qt.Key.Key_Delete)
    assert made not in session.character.skeleton.index
    assert len(session.character.skeleton.joints) == before


def test_a_kit_is_added_cut_and_removed(rigged):
    session = rigged.session
    rigged.session.go(Area.JOINTS)
    open_card(rigged, "joints.kits")
    session.select("joint", "spine.hips")
    choose(widget(rigged, QComboBox, "joints.kit_kind"), "tail")
    rigged.click("button.joints.add_kit")
    assert "tail.4" in session.character.skeleton.index
    assert session.selection.kind == "peg"
    choose(widget(rigged, QComboBox, "joints.kit"), "tail")
    widget(rigged, QSpinBox, "joints.count").setValue(7)
    assert "tail.7" in session.character.skeleton.index
    rigged.click("button.joints.remove_kit")
    assert not any(j.startswith("tail") for j in session.character.skeleton.index)
    assert session.character.rig is not None


def test_names_are_changed_by_pattern_with_a_preview(rigged):
    rigged.session.go(Area.JOINTS)
    open_card(rigged, "joints.names")
    widget(rigged, QLineEdit, "joints.rename.find").setText("l_*")
    widget(rigged, QLineEdit, "joints.rename.put").setText("port_*")
    rigged.session.settle()
    preview = rigged.value("joints.rename.preview").text()
    assert "l_thigh  →  port_thigh" in preview or "port_" in preview
    rigged.click("joints.rename.apply")
    assert rigged.session.character.skeleton.by_name("port_forearm") is not None


def test_a_joint_dropped_on_another_hangs_there(rigged):
    drawer = rigged.window.drawer
    drawer.tree.hang("arm.l.clavicle", "spine.spine")
    skeleton = rigged.session.character.skeleton
    assert skeleton.joint("arm.l.clavicle").parent == "spine.spine"
    assert skeleton.joint("arm.r.clavicle").parent == "spine.spine"
    assert rigged.session.history.undo_name.startswith("Parent l_clavicle to")


def test_a_lasso_takes_what_it_goes_round(rigged):
    rigged.session.go(Area.JOINTS)
    rigged.stage.look_along("z")
    rigged.stage.show_all()
    rigged.session.select("")
    place = rigged.at("peg", "l_wrist")
    stage = rigged.stage
    corners = [QPoint(-60, -50), QPoint(70, -50), QPoint(70, 70), QPoint(-60, 70)]
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier, place + corners[0])
    for corner in [*corners[1:], corners[0]]:
        rigged._move(place + corner, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier)
    QTest.mouseRelease(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.AltModifier, place + corners[0])
    assert "l_wrist" in rigged.session.selection.ids
    assert "r_wrist" not in rigged.session.selection.ids


def test_hidden_kinds_are_neither_shown_nor_picked(rigged):
    rigged.session.go(Area.JOINTS)
    place = rigged.at("peg", "l_elbow")
    assert rigged.stage.thing_at(place.x(), place.y()) == ("peg", "l_elbow")
    rigged.click("stage.show.pegs")
    rigged.click("stage.show.joints")
    assert rigged.stage.thing_at(place.x(), place.y()) == ("", "")


def test_the_mesh_is_hidden_from_the_skeleton_but_never_where_it_is_worked_on(rigged):
    rigged.session.go(Area.JOINTS)
    rigged.session.set_view(hidden=frozenset({"joints", "pegs", "ground"}))
    rigged.bot.wait(40)
    x, y, _ = rigged.stage.camera.project(np.array([0.0, 0.9, 0.1]), *rigged.stage.size_in_points)[0]
    with_mesh = rigged.stage.grabFramebuffer()
    assert rigged.stage.surface_at(x, y) is not None
    rigged.session.set_view(hidden=rigged.session.hidden | {"mesh"})
    rigged.bot.wait(40)
    without = rigged.stage.grabFramebuffer()
    ratio = with_mesh.width() / rigged.stage.width()
    at = QPoint(round(x * ratio), round(y * ratio))
    assert with_mesh.pixelColor(at).lightness() > without.pixelColor(at).lightness() + 20
    assert rigged.stage.surface_at(x, y) is None
    rigged.session.go(Area.WEIGHTS)
    assert rigged.stage.surface_at(x, y) is not None


def test_a_pattern_stands_without_a_mesh(hand):
    hand.session.set_view(pattern="serpent")
    hand.click("welcome.pattern")
    assert hand.session.character.pegs.pattern == "serpent"
    hand.click("button.joints.build")
    assert "body.12" in hand.session.character.skeleton.index
    assert hand.session.character.parts == ()


def test_the_rest_is_changed_after_all_else(rigged):
    rigged.session.go(Area.JOINTS)
    open_card(rigged, "joints.rest")
    clips = [c.name for c in rigged.session.character.clips]
    rigged.click("button.rest.t")
    rigged.idle()
    skeleton = rigged.session.character.skeleton
    a, b = (np.array(skeleton.joint(j).position) for j in ("arm.l.upper", "arm.l.end"))
    assert abs((b - a)[1]) < 1e-6
    assert [c.name for c in rigged.session.character.clips] == clips
    rigged.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert rigged.session.character.skeleton is not skeleton


def test_a_clips_first_frame_becomes_the_rest_and_its_motion_stays(hand):
    hand.session.open(DEMO / "wick.pegloom")
    hand.until(lambda: hand.session.character is not None)
    before = hand.session.character
    clip = before.clips[0]

    def worlds(character, seconds):
        pose = sample(character.clips[0], seconds, character.skeleton, None, character.rig)
        return evaluate(character, pose).joints[:, :3, 3]

    keys = (0.0, 0.4, 1.2, 1.9, 2.7, 3.2)  # between keys the curves' own way may differ
    assert set(keys) <= set(clip.key_times)
    first = worlds(before, 0.0)
    hand.session.go(Area.JOINTS)
    open_card(hand, "joints.rest")
    hand.click("button.rest.a")
    hand.idle()
    posed = hand.session.character
    assert not np.allclose(posed.skeleton.positions, before.skeleton.positions, atol=0.02)
    hand.click("button.rest.first")
    hand.idle()
    after = hand.session.character
    assert np.allclose(after.skeleton.positions, first, atol=1e-6), "the rest stands as the clip began"
    for time in keys:
        assert np.allclose(worlds(after, time), worlds(before, time), atol=1e-4), time
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert hand.session.character is posed


def test_what_was_recognised_in_a_file_s_skeleton_is_named_and_said_otherwise(hand):
    """The chains are listed and named in the view; one bone said to be another moves its whole limb and the other side's."""
    skeleton = wick().character.skeleton
    number = {j.id: f"b{k}" for k, j in enumerate(skeleton.joints) if j.id != "root"}
    joints = [
        replace(j, id=number[j.id], name=number[j.id], parent=number.get(j.parent), side=Side.CENTRE, origin=Origin.FILE, role="")
        for j in skeleton.joints if j.id != "root"
    ]  # fmt: skip
    mesh = max(unrigged_wick().character.included, key=lambda part: part.mesh.vertex_count)
    document = edits.bring_in(Document(), (mesh,), name="other", skeleton=Skeleton(tuple(joints)))
    session = hand.session
    session.start_with(document, None)
    session.go(Area.JOINTS)
    hand.card("joints.body").set_open(True)
    rows = hand.value("joints.body_chains")
    hand.until(lambda: rows.count() >= 6)
    told = [rows.item(k).text() for k in range(rows.count())]
    assert any(text.startswith("left leg") for text in told), told
    rows.itemClicked.emit(rows.item(next(k for k, text in enumerate(told) if text.startswith("left leg"))))
    assert number["leg.l.lower"] in session.selection.ids
    session.select("joint", number["leg.l.lower"])
    box = hand.value("joints.body_part")
    hand.until(lambda: "left shin" in box.itemText(0))
    box.setCurrentIndex(box.findData("leg.l.upper"))
    box.activated.emit(box.currentIndex())
    found = body_of(session.character.skeleton).joint_of
    assert found["leg.l.upper"] == number["leg.l.lower"]
    assert found["leg.r.upper"] == number["leg.r.lower"]
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert body_of(session.character.skeleton).joint_of["leg.l.upper"] == number["leg.l.upper"]
    # The same by a click on a name in the view.
    stage = hand.window.stage
    hand.until(lambda: any(name.text == "left arm" for _, name in NAMES.shown))
    where = next(box for box, name in NAMES.shown if name.text == "left arm").center()
    QTest.mouseClick(stage, Qt.MouseButton.LeftButton, pos=where.toPoint())
    hand.until(lambda: stage.findChild(QMenu, "joints.chain_menu") is not None)
    assert number["arm.l.lower"] in session.selection.ids
    menu = stage.findChild(QMenu, "joints.chain_menu")
    next(a for a in menu.actions() if a.text() == "None of these").trigger()
    menu.close()
    hand.until(lambda: not [r for r in body_of(session.character.skeleton).joint_of if r.startswith("arm")])
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    # Joints built here are known: nothing is asked of them.
    session.start_with(wick(), None)
    session.select("joint", "leg.l.lower")
    hand.until(lambda: not box.isEnabled())


def test_weak_guesses_are_walked_one_by_one_and_accepted(hand):
    """The pattern's card folds once pegs are found; each weak guess comes into the middle and is said to be right."""
    session = hand.session
    session.start_with(unrigged_wick(), None)
    hand.session.go(Area.JOINTS)
    assert hand.card("joints.find").is_open
    pegs = edits.find_pegs(edits.stand_up(unrigged_wick()))
    doubt = {"l_knee", "r_knee", "waist"}
    pegs = replace(pegs, pegs=tuple(replace(p, confidence=0.3 if p.name in doubt else 0.8) for p in pegs.pegs))
    session.commit("Pegs", edits.set_pegs(session.document, pegs))
    assert not hand.card("joints.find").is_open
    hand.click("button.joints.next_weak")
    first = session.selection.lead
    assert first in doubt
    hand.click("button.joints.next_weak")
    assert session.selection.lead in doubt - {first}
    while any(peg.weak for peg in session.character.pegs.pegs):
        hand.click("button.joints.accept")
    assert {name: session.character.pegs.position(name) for name in doubt} == {n: pegs.position(n) for n in doubt}
    picked, told = session.selection, []
    session.said.connect(lambda text, *_: told.append(text))
    hand.click("button.joints.next_weak")
    assert session.selection == picked
    assert "weak guess" in told[-1], "a button with nothing to do says why"
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert any(peg.weak for peg in session.character.pegs.pegs)


def test_dragging_a_peg_carries_sampled_clips_once_on_release(rigged):
    """While it moves, a draft: clips stay the very same. On release one step, as a job; Esc leaves all as it was."""
    character = rigged.session.character
    clip = baked_clip(character, character.clips[0])
    rigged.session.start_with(wick().with_character(replace(character, clips=(clip,))), None)
    rigged.session.go(Area.JOINTS)
    rigged.bot.wait(50)
    session, start = rigged.session, rigged.session.history.present
    place = rigged.at("peg", "l_wrist")
    seen = []
    session.c.store.changed.connect(lambda old, new: new.document is old.document or seen.append(new.document))
    rigged.drag(place, (0, -24))
    drafts = [d for d in seen if d is not start]
    assert len(drafts) >= 4
    assert all(d.character.clips[0] is clip for d in drafts[:4]), "not carried at each move"
    assert drafts[3].character.skeleton.joint("arm.l.end").position[1] > character.skeleton.joint("arm.l.end").position[1]
    rigged.until(lambda: session.history.present is not start)
    rigged.idle()
    now = session.history.present.character
    assert session.document is session.history.present
    assert len(session.history.steps) == 2
    assert now.clips[0] is not clip
    assert now.rig is not character.rig
    assert now.pegs.position("l_wrist") == drafts[-1].character.pegs.position("l_wrist")
    session.undo()
    assert session.history.present is start


def test_finding_again_asks_before_what_was_placed_by_hand_goes(hand):
    session = hand.session
    session.start_with(unrigged_wick(), None)
    session.go(Area.JOINTS)
    hand.c.actions.run("joints.find_pegs")
    session.wait()
    session.select("peg", "l_elbow")
    place = session.character.pegs.position("l_elbow")
    moved = (place[0] + 0.02, place[1], place[2])
    hand.c.try_edit("Place l_elbow", lambda d: edits.place_peg(d, "l_elbow", moved))
    hand.card("joints.find").set_open(True)
    hand.window.answers.take_number = -1
    before = session.document
    hand.c.actions.run("joints.find_pegs")
    session.wait()
    assert session.document is before, "given up"
    assert "2 pegs" in hand.window.answers.offered[-1][0]
    hand.window.answers.take_number = 0
    hand.c.actions.run("joints.find_pegs")
    session.wait()
    assert session.character.pegs.position("l_elbow") == moved
    hand.window.answers.take_number = 1
    hand.c.actions.run("joints.find_pegs")
    session.wait()
    assert session.character.pegs.position("l_elbow") == place


def test_another_number_of_fingers_is_one_box(hand):
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.JOINTS)
    box = find(hand.window, QSpinBox, "joints.finger_count")
    assert box.isVisible() and box.value() == 5
    others = {p.name: p.position for p in session.character.pegs.pegs if not p.name.endswith(("_base", "_tip"))}
    box.setValue(3)
    session.wait()
    assert session.character.pegs.fingers == 3 and "3 fingers" in session.history.undo_name
    assert {n: session.character.pegs.position(n) for n in others} == others
    session.undo()
    assert box.value() == 5


def test_toes_and_second_knuckles_are_asked_for_in_the_window(hand):
    session = hand.session
    session.start_with(edits.stand_up(document_of(as_mesh(toed_human(5)[0])), keep_size=True), None)
    session.go(Area.JOINTS)
    hand.click("button.joints.find_pegs")
    hand.until(lambda: session.character.pegs is not None and not hand.c.jobs.busy)
    box = hand.value("joints.toe_count")
    hand.until(lambda: box.currentData() == 5)
    box.setCurrentIndex(box.findData(3))
    box.activated.emit(box.currentIndex())
    hand.until(lambda: sum(k.kind == "toe" for k in session.character.pegs.kits) == 6)
    card = hand.card("joints.kits")
    card.set_open(True)
    kit, knuckle = hand.value("joints.kit"), hand.value("joints.bent")
    kit.setCurrentIndex(kit.findData("hand.l.index"))
    kit.activated.emit(kit.currentIndex())
    hand.until(lambda: knuckle.isVisible() and not knuckle.isChecked())
    knuckle.click()
    hand.until(lambda: "r_index_bend" in session.character.pegs.by_name)
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    hand.until(lambda: "r_index_bend" not in session.character.pegs.by_name, timeout=8000)
    hand.until(lambda: not knuckle.isChecked(), timeout=8000)


def test_what_is_typed_goes_to_all_that_is_picked_and_says_where_they_differ(hand):
    """Joints, parts and materials: one step, and a field over several values says so."""
    session = hand.session
    session.start_with(wick(), None)
    session.go(Area.JOINTS)
    session.set_view(both_sides=False)
    session.select("joint", "hand.l.index.1", "hand.l.middle.1", "hand.l.ring.1")
    hand.until(lambda: hand.value("tag.y").isVisible())
    box = hand.value("tag.y")
    hand.until(lambda: box.lineEdit().text() == "several")
    assert not find(hand.window, QLineEdit, "tag.rename").isEnabled()
    at = session.history.at
    box.setValue(80.0)
    hand.until(lambda: session.history.at == at + 1)
    heights = [session.character.skeleton.joint(f"hand.l.{f}.1").position[1] for f in ("index", "middle", "ring")]
    np.testing.assert_allclose(heights, 0.8, atol=1e-9)
    hand.until(lambda: "several" not in box.lineEdit().text())
    assert session.history.undo_name == "Move 3 joints"
    hand.value("tag.mark").setValue(2.0)
    assert session.character.mark_sizes == {f"hand.l.{f}.1": 2.0 for f in ("index", "middle", "ring")}
    with pytest.raises(EditError, match="five times"):
        edits.set_mark_size(session.document, ["arm.l.lower"], 9.0)
    # Of a pair that moves together both are moved once.
    session.set_view(both_sides=True)
    session.select("joint", "arm.l.lower", "arm.r.lower")
    hand.until(lambda: hand.value("tag.z").lineEdit().text() != "several")
    hand.value("tag.z").setValue(3.0)
    places = [session.character.skeleton.joint(f"arm.{s}.lower").position[2] for s in "lr"]
    np.testing.assert_allclose(places, 0.03, atol=1e-6)
    # Parts.
    session.go(Area.MESH)
    card = hand.card("mesh.picked")
    card.set_open(True)
    ids = [part.id for part in session.character.parts[:2]]
    session.select("part", *ids)
    hand.until(lambda: card.note.text().startswith("2 parts"))
    hand.value("mesh.detail").setValue(2)
    assert [session.character.part(i).detail for i in ids] == [2, 2]
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert [session.character.part(i).detail for i in ids] == [0, 0]
    # Materials.
    session.open(DEMO / "oilskin.pegloom")
    hand.until(lambda: len(session.character.materials) > 2)
    session.go(Area.MESH)
    card = hand.card("mesh.materials")
    card.set_open(True)
    slot = hand.value("mesh.slot")
    hand.until(lambda: slot.count() > 2)
    slot.setCurrentIndex(slot.findText("all of them"))
    slot.activated.emit(slot.currentIndex())
    hand.until(lambda: "they differ" in card.note.text())
    card._change("Roughness", roughness=0.9)
    used = {int(s) for p in session.character.parts for s in p.mesh.materials}
    assert {session.character.materials[n].roughness for n in used} == {0.9}
