"""The whole road by hand: from an unrigged OBJ to an export, with mouse and keys through the real window."""

from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QListWidget

from pegloom.app.state.state import RANGE_TEST, Area, Tool
from pegloom.core.skin.weights import row_sums_hold
from pegloom.files.gltf import read_gltf
from pegloom.files.project import open_project
from tests.app.conftest import find
from tests.support.figures import as_mesh, capsule_figure


def test_from_an_unrigged_mesh_to_an_export_and_back(hand, tmp_path):
    window, session = hand.window, hand.session
    made = capsule_figure()
    made.apply_scale(100)
    made.export(tmp_path / "stranger.obj")

    # Open: a mesh in centimetres.
    window.answers.open_path = str(tmp_path / "stranger.obj")
    hand.click("button.file.open")
    hand.until(lambda: session.character is not None)
    hand.idle()
    assert session.character.height > 100
    hand.click("button.mesh.stand_up")
    assert 1.6 < session.character.height < 1.9
    assert session.history.undo_name == "Stand up"

    # Pegs: found, then one dragged; a press alone changes nothing.
    hand.key(Qt.Key.Key_2)
    assert session.area is Area.JOINTS
    hand.value("joints.fingers").setValue(0)
    hand.click("button.joints.find_pegs")
    hand.idle()
    hand.until(lambda: session.character.pegs is not None)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.bot.wait(60)
    before = session.document
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=hand.at("peg", "l_elbow"))
    assert session.selection.ids == ("l_elbow",)
    assert session.document is before
    was = session.character.pegs.position("l_elbow")
    hand.drag(hand.at("peg", "l_elbow"), (0, -12))
    now, other = session.character.pegs.position("l_elbow"), session.character.pegs.position("r_elbow")
    assert now[1] > was[1] + 0.01
    assert np.allclose(np.array(now) * [-1, 1, 1], other)
    hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert session.character.pegs.position("l_elbow") == was

    # Joints and weights.
    hand.click("button.joints.build")
    assert len(session.character.skeleton.joints) > 20
    hand.key(Qt.Key.Key_3)
    hand.click("button.weights.bind")
    hand.idle()
    hand.until(lambda: session.character.skin is not None)

    # Try the poses, mend a shoulder: select by a box, fill, smooth, brush.
    trials = find(window, QListWidget, "strip.trials")
    row = next(i for i in range(trials.count()) if trials.item(i).text().startswith("Arm up"))
    hand.bot.mouseClick(
        trials.viewport(), Qt.MouseButton.LeftButton, pos=trials.visualItemRect(trials.item(row)).center()
    )
    assert session.source == RANGE_TEST
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.bot.wait(60)
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=hand.at("joint", "arm.l.upper"))
    assert session.influence == "arm.l.upper"
    centre = hand.at("joint", "arm.l.clavicle")
    hand.drag(centre + QPoint(-30, -30), (60, 60), modifiers=Qt.KeyboardModifier.ShiftModifier)
    assert sum(len(v) for v in session.vertices.values()) > 5
    hand.click("weights.ladder.0.3")
    bound = session.character.skin
    hand.click("button.weights.fill")
    assert session.character.skin is not bound
    assert session.history.undo_name.startswith("Set l_upper_arm to 0.3 on")
    hand.click("button.weights.smooth")
    assert session.history.undo_name.startswith("Smooth")
    hand.key(Qt.Key.Key_Escape)
    hand.key(Qt.Key.Key_B)
    assert session.tool is Tool.BRUSH
    painted = session.character.skin
    hand.drag(hand.at("joint", "arm.l.upper"), (14, 10))
    assert session.character.skin is not painted
    assert session.history.undo_name == "Brush l_upper_arm (both sides)"
    assert all(row_sums_hold(w) for w in session.character.skin.weights.values())

    # Controls: built without a move; a goal dragged with IK; keys; scrub.
    hand.key(Qt.Key.Key_4)
    hand.click("button.controls.build")
    rest = session.character.skeleton.world
    strip_row = next(i for i in range(trials.count()) if trials.item(i).text().startswith("Current pose"))
    item = trials.item(strip_row)
    trials.scrollToItem(item)
    hand.bot.mouseClick(trials.viewport(), Qt.MouseButton.LeftButton, pos=trials.visualItemRect(item).center())
    assert np.abs(session.frame().joints - rest).max() < 1e-9
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.bot.wait(60)
    hand.bot.mouseClick(hand.stage, Qt.MouseButton.LeftButton, pos=hand.at("control", "leg.l.goal"))
    hand.key(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
    assert session.clip is not None
    hand.key(Qt.Key.Key_5)
    window.strip.ruler.setFocus()
    x = round(window.strip.ruler.x_of(1.0))
    hand.bot.mouseClick(window.strip.ruler, Qt.MouseButton.LeftButton, pos=QPoint(x, 12))
    assert abs(session.time - 1.0) < 0.05
    hand.key(Qt.Key.Key_Z)
    hand.bot.wait(60)
    hand.drag(hand.at("control", "leg.l.goal"), (40, -60))
    lifted = session.c.frames.control_pose.values["leg.l.goal", "move_y"]
    assert lifted > 0.05
    knee = session.frame().joints[session.character.skeleton.index["leg.l.lower"]]
    assert np.abs(knee - rest[session.character.skeleton.index["leg.l.lower"]]).max() > 0.02
    hand.key(Qt.Key.Key_Space, Qt.KeyboardModifier.ShiftModifier)
    assert len(session.clip.key_times) == 2
    x = round(window.strip.ruler.x_of(0.5))
    hand.bot.mouseClick(window.strip.ruler, Qt.MouseButton.LeftButton, pos=QPoint(x, 12))
    halfway = session.c.frames.control_pose.values["leg.l.goal", "move_y"]
    assert 0.2 * lifted < halfway < 0.8 * lifted
    start = session.time
    hand.key(Qt.Key.Key_Space)
    hand.until(lambda: abs(session.time - start) > 0.05)
    hand.key(Qt.Key.Key_Space)
    assert not session.playing

    # Hand over, save, open again.
    hand.key(Qt.Key.Key_6)
    window.answers.save_path = str(tmp_path / "stranger.glb")
    hand.click("button.file.export")
    hand.idle()
    assert len(read_gltf(tmp_path / "stranger.glb").clips) == 1
    window.answers.save_path = str(tmp_path / "stranger.pegloom")
    hand.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    hand.idle()
    saved = open_project(Path(tmp_path / "stranger.pegloom"))
    assert saved.character.clips[0].key_times == session.clip.key_times
    window.answers.open_path = str(tmp_path / "stranger.pegloom")
    hand.key(Qt.Key.Key_O, Qt.KeyboardModifier.ControlModifier)
    hand.idle()
    assert session.character.rig is not None
    assert session.history.undo_name is None


def test_a_bind_can_be_cancelled_and_leaves_nothing(hand):
    from pegloom.document import edits
    from tests.support.figures import document_of

    document = edits.stand_up(document_of(as_mesh(capsule_figure())))
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    hand.session.start_with(document, None)
    hand.key(Qt.Key.Key_3)
    hand.click("button.weights.bind")
    hand.until(lambda: hand.window.frame_.job.isVisible())
    hand.click("job.cancel")
    hand.idle()
    assert hand.session.history.present is document
    assert not hand.window.frame_.job.isVisible()
