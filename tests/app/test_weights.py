"""The Weights area through the real window: a bad shoulder mended, weaves compared, numbers typed, relax baked."""

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QLineEdit, QListWidget, QMenu, QTableView, QWidget

from pegloom.app.areas.weights.cards.bends import MOST
from pegloom.app.areas.weights.numbers import number_of
from pegloom.app.areas.weights.settings import BindSettings, PaceSettings
from pegloom.app.demos import DEMO
from pegloom.app.dialogs.pairing_sheet import PairingSheet
from pegloom.app.state.kept import USUAL_LADDER, keep_ladder, read_ladder, read_usual
from pegloom.app.state.state import RANGE_TEST, Area, Tool
from pegloom.core.errors import EditError
from pegloom.core.skin.weights import row_sums_hold
from pegloom.document import edits
from pegloom.files.project import open_project
from pegloom.scene.brushes import Painting
from pegloom.scene.display import Display
from pegloom.scene.lenses import Lens
from tests.app.conftest import find, widgets
from tests.support.figures import wick


@pytest.fixture
def lesson(hand):
    hand.session.open(DEMO / "lesson.pegloom")
    hand.session.set_view(display=Display.CLAY)
    hand.key(Qt.Key.Key_3)
    assert hand.session.area is Area.WEIGHTS
    hand.bot.wait(60)
    hand.bench = hand.window.benches[Area.WEIGHTS]
    return hand


def open_card(hand, card) -> None:
    """Fold all but one card, and bring it into sight."""
    for other in hand.bench.cards:
        other.set_open(other is card)
    hand.bot.wait(30)
    hand.bench.ensureWidgetVisible(card)
    hand.bot.wait(30)


def pixel_of(hand, point) -> QPoint:
    x, y, _ = hand.stage.camera.project(np.asarray(point), *hand.stage.size_in_points)[0]
    return QPoint(round(x), round(y))


def measured(hand, joint: str = "arm.l.upper"):
    """The quality graph's row of a joint, once it is complete."""
    hand.session.select("joint", joint)
    watch = hand.window.c.quality
    hand.until(lambda: len(watch.row(joint)) > 0 and None not in watch.row(joint))
    return watch.row(joint)


def choose(widget: QListWidget, text: str) -> None:
    item = next(widget.item(i) for i in range(widget.count()) if widget.item(i).text().startswith(text))
    QTest.mouseClick(widget.viewport(), Qt.MouseButton.LeftButton, pos=widget.visualItemRect(item).center())


def test_a_bad_shoulder_is_mended(lesson):
    hand, session = lesson, lesson.session
    body = session.character.parts[0]
    # The strays first: the snag says so, its fix frees them.
    open_card(hand, hand.card("weights.snags"))
    hand.until(lambda: session.c.state.snags_known)
    hand.bot.wait(30)
    hand.click("snag.fix.stray-weights")
    assert "stray" in session.history.undo_name.lower()
    belt = session.character.skin.weights[body.id].column("arm.l.lower")[
        (body.mesh.points[:, 1] < 0.85) & (np.abs(body.mesh.points[:, 0]) < 0.16)
    ]
    assert belt.max() < 0.05
    # The range test shows where it hurts; a click on the worst dip goes there.
    choose(hand.window.strip.list, "Range test")
    assert session.source == RANGE_TEST
    bad = max(f.stretch for f in measured(hand))
    assert bad > 3.0
    ruler = find(hand.window, QWidget, "strip.quality")
    dips = ruler.dips()
    assert dips
    worst = max(dips, key=lambda k: ruler.watch.row("arm.l.upper")[k].stretch)
    session.go_to(1.0)
    QTest.mouseClick(ruler, Qt.MouseButton.LeftButton, pos=QPoint(round(ruler.x_of(ruler.watch.times[worst])), 50))
    assert session.time == pytest.approx(ruler.watch.times[worst])
    # A fresh bind is a weave; the old weights come back and take the fresh ones at the shoulder only.
    open_card(hand, hand.card("weights.bind"))
    hand.click("button.weights.bind")
    hand.idle()
    fresh = session.character.skin
    names = [w.name for w in session.character.weaves]
    assert names == ["weights before", "segment, then soften"]
    open_card(hand, hand.card("weights.weaves"))
    choose(hand.card("weights.weaves").list, "weights before")
    hand.click("button.weave.take")
    assert session.character.skin is not fresh
    choose(hand.card("weights.weaves").list, "segment")
    session.play_source("", 0.0)
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.bot.wait(30)
    session.set_view(hidden=frozenset({"joints"}))
    frame = session.frame().points[body.id]
    area = np.flatnonzero(
        (body.mesh.points[:, 0] > 0.08) & (body.mesh.points[:, 1] > 0.84) & (body.mesh.points[:, 1] < 1.25)
    )
    corners = [pixel_of(hand, p) for p in frame[area]]
    left, right = min(p.x() for p in corners) - 3, max(p.x() for p in corners) + 3
    top, bottom = min(p.y() for p in corners) - 3, max(p.y() for p in corners) + 3
    while hand.stage.surface_at(right, top) is not None:
        top -= 4
    hand.drag(QPoint(right, top), (left - right, bottom - top))
    assert len(session.vertices[body.id]) > 200
    hand.click("button.weave.mix")
    assert "vertices" in session.history.undo_name
    session.play_source(RANGE_TEST, 20 / 30)
    session.vertices = {}
    mended = max(f.stretch for f in measured(hand))
    assert mended < 0.6 * bad
    assert row_sums_hold(session.character.skin.weights[body.id])
    # Far from the shoulder it is still the old weave.
    legs = body.mesh.points[:, 1] < 0.6
    old = session.character.weaves[0].skin.weights[body.id]
    for joint in ("leg.l.upper", "leg.l.lower"):
        now = session.character.skin.weights[body.id].column(joint)[legs]
        assert np.allclose(now, old.column(joint)[legs], atol=1e-9)


def test_the_seam_parts_two_weaves_in_one_pose(lesson):
    hand, session = lesson, lesson.session
    open_card(hand, hand.card("weights.bind"))
    hand.click("button.weights.bind")
    hand.idle()
    session.play_source(RANGE_TEST, 20 / 30)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    session.set_view(hidden=frozenset({"joints", "ground"}), lens=Lens.NONE)
    session.select("")
    hand.bot.wait(60)
    alone = hand.stage.grabFramebuffer()
    open_card(hand, hand.card("weights.weaves"))
    choose(hand.card("weights.weaves").list, "weights before")
    hand.click("button.weave.compare")
    assert session.other is not None
    session.set_view(seam=0.5)
    hand.bot.wait(60)
    both = hand.stage.grabFramebuffer()
    half = both.width() // 2

    def differing(a, b, columns) -> int:
        return sum(a.pixel(x, y) != b.pixel(x, y) for x in columns for y in range(0, a.height(), 3))

    # Left of the seam nothing changed; right of it stands the spoiled shoulder.
    assert differing(alone, both, range(0, half - 8, 3)) == 0
    assert differing(alone, both, range(half + 8, both.width(), 3)) > 100
    # The seam is dragged; what is right of it follows.
    x = round(0.5 * hand.stage.width())
    hand.drag(QPoint(x, 400), (200, 0))
    assert session.seam == pytest.approx((x + 200) / hand.stage.width(), abs=0.01)
    session.set_view(lens=Lens.DIFFERENCE)
    assert "mm" in session.difference_said
    hand.click("button.weave.compare")
    assert session.other is None


def test_numbers_are_typed_into_the_table(lesson):
    hand, session = lesson, lesson.session
    body = session.character.parts[0].id
    session.vertices = {body: np.arange(4000, 9000)}
    hand.key(Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    hand.bot.wait(60)
    table = find(hand.window, QTableView, "numbers.table")
    assert table.isVisible()
    model = table.model()
    assert model.rowCount() == 5000
    column = 1
    joint = model.joints[column]
    cell = model.index(7, column)
    place = table.visualRect(cell).center()
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=place)
    QTest.mouseDClick(table.viewport(), Qt.MouseButton.LeftButton, pos=place)
    hand.until(lambda: isinstance(QApplication.focusWidget(), QLineEdit))
    editor = QApplication.focusWidget()
    editor.selectAll()
    QTest.keyClicks(editor, "0.25")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    hand.until(lambda: "Type 0.25" in (session.history.undo_name or ""))
    assert session.character.skin.weights[body].column(joint)[4007] == pytest.approx(0.25, abs=1e-3)
    hand.bot.wait(30)
    # Several cells selected take the number together, as one step.
    column = model.joints.index(joint)
    steps = len(session.history.steps)
    for row in range(20, 24):
        table.selectionModel().select(model.index(row, column), table.selectionModel().SelectionFlag.Select)
    model.setData(model.index(21, column), "0.5")
    assert np.allclose(session.character.skin.weights[body].column(joint)[4020:4024], 0.5, atol=1e-3)
    assert len(session.history.steps) == steps + 1
    assert not model.setData(model.index(1, column), "many")
    hand.click("numbers.close")
    hand.bot.wait(30)
    assert not table.isVisible()


def test_every_brush_mode_paints_one_step_and_stays_on_its_limb(lesson):
    hand, session = lesson, lesson.session
    body = session.character.parts[0]
    session.select("joint", "leg.l.lower")
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    session.set_view(hidden=frozenset({"joints"}), both_sides=False)
    hand.click("weights.ladder.0.55")
    knee = np.array(session.character.skeleton.joint("leg.l.lower").position)
    front = body.mesh.points[np.argmin(np.linalg.norm(body.mesh.points - knee - [0, 0.02, 0.06], axis=1))]
    at = pixel_of(hand, front)
    for name in ("add", "take", "set", "scale", "even", "sharpen", "along"):
        before, at_step = session.character.skin.weights[body.id], session.history.at
        hand.click(f"weights.brush.{name}")
        assert session.tool is Tool.BRUSH
        hand.drag(at + QPoint(-4, -14), (6, 30))
        assert session.history.at == at_step + 1, name
        after = session.character.skin.weights[body.id]
        assert row_sums_hold(after)
        changed = np.zeros(body.mesh.vertex_count, bool)
        for joint in after.joint_ids:
            changed |= np.abs(after.column(joint) - before.column(joint)) > 1e-9
        assert changed.any(), name
        # The other leg is a hand away in space and far along the surface.
        assert not changed[body.mesh.points[:, 0] < -0.01].any(), name
        # Front only: nothing on the back of the knee.
        assert not changed[(body.mesh.points[:, 2] < knee[2] - 0.045)].any(), name
        hand.key(Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    session.set_view(brush=type(session.brush)(through=True, front=False))
    hand.click("weights.brush.add")
    hand.drag(at, (4, 4))
    after = session.character.skin.weights[body.id].column("leg.l.lower")
    back = body.mesh.points[:, 2] < knee[2] - 0.03
    assert (after[back] > before.column("leg.l.lower")[back] + 1e-6).any()


def test_selecting_by_painting_and_growing(lesson):
    hand, session = lesson, lesson.session
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.key(Qt.Key.Key_Q)
    assert session.tool is Tool.SELECT
    chest = pixel_of(hand, session.character.skeleton.joint("spine.chest").position)
    hand.drag(chest, (30, 0))
    body = session.character.parts[0].id
    first = len(session.vertices[body])
    assert first > 20
    hand.key(Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier)
    grown = len(session.vertices[body])
    assert grown > first
    hand.key(Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert first <= len(session.vertices[body]) < grown
    hand.drag(chest, (10, 0), modifiers=Qt.KeyboardModifier.ControlModifier)
    assert len(session.vertices.get(body, ())) < first
    open_card(hand, hand.card("weights.selection"))
    hand.card("weights.selection").sets.setEditText("chest")
    hand.click("button.vertices.keep")
    assert "chest" in session.character.vertex_sets
    kept = session.vertices[body]
    hand.click("button.vertices.others")
    hand.click("button.vertices.recall")
    assert np.array_equal(session.vertices[body], kept)


def test_relax_is_put_on_painted_baked_and_undone(lesson):
    hand, session = lesson, lesson.session
    body = session.character.parts[0].id
    session.play_source(RANGE_TEST, 20 / 30)
    open_card(hand, hand.card("weights.relax"))
    plain = session.frame().points[body].copy()
    hand.click("button.relax.put")
    assert body in session.character.skin.relax
    wanted = session.frame().points[body].copy()
    assert np.abs(wanted - plain).max() > 1e-3
    open_card(hand, hand.card("weights.snags"))
    hand.until(lambda: any("bake it" in s.message for s in session.snags))
    open_card(hand, hand.card("weights.relax"))
    time, pose = session.time, session.character.pose
    hand.click("button.relax.bake")
    assert session.jobs.busy
    hand.idle()
    assert body not in session.character.skin.relax
    assert session.time == time and session.character.pose is pose
    now = session.frame().points[body]
    rms = lambda a, b: float(np.sqrt(np.mean(np.sum((a - b) ** 2, axis=1))))  # noqa: E731
    assert rms(now, wanted) < 0.7 * rms(plain, wanted)
    assert "gap closed" in hand.card("weights.relax").report.text()
    session.undo()
    assert body in session.character.skin.relax
    assert np.array_equal(session.frame().points[body], wanted)
    # Painted: a stroke takes the relax away where it falls.
    session.set_view(painting=Painting.RELAX, lens=Lens.INFLUENCE, tool=Tool.BRUSH)
    session.play_source("", 0.0)
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    session.set_view(hidden=frozenset({"joints"}), tool=Tool.BRUSH)
    chest = pixel_of(hand, session.character.skeleton.joint("spine.chest").position)
    hand.drag(chest, (20, 10), modifiers=Qt.KeyboardModifier.ControlModifier)
    mask = session.character.skin.relax[body].mask
    assert mask is not None and mask.min() < 0.9 and mask.max() == 1.0


def test_a_pose_is_kept_as_a_trial_with_its_picture(lesson, tmp_path):
    hand, session = lesson, lesson.session
    session.play_source(RANGE_TEST, (8 * 40 + 20) / 30)
    posed = session.frame().points[session.character.parts[0].id].copy()
    hand.click("strip.keep")
    kept = session.character.trials[0]
    assert kept.picture.data[:4] == b"\x89PNG"
    assert session.source == kept.id
    assert np.allclose(session.frame().points[session.character.parts[0].id], posed)
    shown = hand.window.strip.list
    row = next(i for i in range(shown.count()) if shown.item(i).text().startswith(kept.name))
    assert not shown.item(row).icon().isNull()
    # It is in the project, and comes back.
    assert session.save(tmp_path / "kept.pegloom")
    hand.window.open_path(tmp_path / "kept.pegloom")
    assert session.character.trials[0].picture.data == kept.picture.data


def test_a_pen_presses_as_hard_as_it_is_pressed(lesson):
    from PyQt6.QtGui import QInputDevice, QPointingDevice, QTabletEvent

    hand, session = lesson, lesson.session
    pen = QPointingDevice(
        "pen", 7, QInputDevice.DeviceType.Stylus, QPointingDevice.PointerType.Pen,
        QInputDevice.Capability.Pressure | QInputDevice.Capability.Position, 1, 1,
    )  # fmt: skip

    def press(kind: QEvent.Type, pressure: float, buttons) -> None:
        at = QPointF(200, 200)
        event = QTabletEvent(
            kind, pen, at, at, pressure, 0.0, 0.0, 0.0, 0.0, 0.0,
            Qt.KeyboardModifier.NoModifier, Qt.MouseButton.NoButton, buttons,
        )  # fmt: skip
        QApplication.sendEvent(hand.stage, event)

    press(QEvent.Type.TabletPress, 0.3, Qt.MouseButton.LeftButton)
    assert session.pressure == pytest.approx(0.3, abs=0.01)
    press(QEvent.Type.TabletRelease, 0.0, Qt.MouseButton.NoButton)
    assert session.pressure == 1.0


def test_pointing_says_the_exact_numbers(lesson):
    hand, session = lesson, lesson.session
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    session.set_view(lens=Lens.STRAIN, hidden=frozenset({"joints"}))
    chest = pixel_of(hand, session.character.skeleton.joint("spine.chest").position)
    event = QMouseEvent(
        QEvent.Type.MouseMove, QPointF(chest), QPointF(hand.stage.mapToGlobal(chest)), Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    QApplication.sendEvent(hand.stage, event)
    hand.until(lambda: "vertex" in hand.window.frame_.hint.words.text())
    text = hand.window.frame_.hint.words.text()
    assert "chest" in text and "of rest" in text


def test_a_reach_is_dragged_in_the_view_and_binds(lesson):
    from pegloom.core.skin.bind import BindMethod

    hand, session = lesson, lesson.session
    session.select("joint", "leg.l.upper")
    open_card(hand, hand.card("weights.bind"))
    assert session.reach(), "the default bind has it, too"
    hand.value("weights.method").setCurrentIndex(list(BindMethod).index(BindMethod.ALONG_SKIN))
    session.settle()
    assert session.reach() == []
    hand.value("weights.method").setCurrentIndex(list(BindMethod).index(BindMethod.BY_REACH))
    session.play_source("", 0.0)
    hand.key(Qt.Key.Key_Z)
    hand.key(Qt.Key.Key_C, Qt.KeyboardModifier.ShiftModifier)
    hand.bot.wait(30)
    lines = session.reach()
    assert lines
    size = hand.stage.size_in_points
    thigh = session.frame().joints[session.character.skeleton.index["leg.l.upper"]][:3, 3]
    spots = [hand.stage.camera.project(line, *size)[:, :2] for line in lines]
    # The outer stave's middle: farthest to the side, below the joint.
    points = np.concatenate([np.linspace(p[0], p[-1], 9)[2:-2] for p in spots if len(p) == 2])
    out = points[np.argmax(points[:, 0])]
    away = pixel_of(hand, thigh)
    assert out[0] > away.x()
    hand.drag(QPoint(round(out[0]), round(out[1])), (25, 0))
    assert session.character.reaches["leg.l.upper"] > 1.2
    assert session.character.reaches["leg.r.upper"] == session.character.reaches["leg.l.upper"]
    assert "Reach of" in session.history.undo_name
    assert hand.card("weights.bind").reach.value == pytest.approx(session.character.reaches["leg.l.upper"], abs=0.01)
    hand.card("weights.bind").own_branch.click()
    hand.click("button.weights.bind")
    hand.idle()
    assert session.character.skin.method == BindMethod.BY_REACH.value
    # Bound, the card folds and takes the drawn reach with it.
    assert session.reach() == [] or hand.card("weights.bind").is_open


def test_weights_go_from_part_to_part_and_across_by_the_card(lesson):
    hand, session = lesson, lesson.session
    body, eyes = session.character.parts[0], session.character.parts[1]
    open_card(hand, hand.card("weights.carry"))
    card = hand.card("weights.carry")
    card.source.setCurrentIndex(card.source.findData(body.id))
    card.target.setCurrentIndex(card.target.findData(eyes.id))
    hand.click("button.weights.transfer")
    hand.idle()
    assert "vertices read" in card.report.text()
    head = session.character.skin.weights[eyes.id].column("spine.head")
    assert head.min() > 0.9
    # The spoiled left shoulder takes the sound right one.
    right = session.character.skin.weights[body.id].column("arm.r.upper").copy()
    hand.value("weights.way").setCurrentIndex(1)
    hand.click("weights.carry.mirror")
    after = session.character.skin.weights[body.id]
    assert after.column("arm.l.upper").sum() == pytest.approx(right.sum(), rel=0.02)
    hand.click("button.weights.unmatched")
    chosen = session.vertices.get(body.id, np.zeros(0))
    assert len(chosen) < 0.05 * body.mesh.vertex_count


def test_weights_are_read_from_another_characters_file(lesson):
    """The shoulder that was spoiled in the lesson is whole in the demo: read from there, joints paired."""
    hand, session = lesson, lesson.session
    body = session.character.parts[0]
    whole = open_project(DEMO / "wick.pegloom").character
    ours, theirs = session.character.skin.weights[body.id], whole.skin.weights[whole.parts[0].id]
    spoiled = np.abs(ours.column("arm.l.upper") - theirs.column("arm.l.upper"))
    assert spoiled.max() > 0.3
    hand.window.ask.open_path = str(DEMO / "wick.pegloom")
    hand.window.ask.pairs = None
    hand.session.run("weights.read_from")
    hand.until(lambda: len(hand.window.ask.offered) == 1)
    assert session.character.skin.weights[body.id] is ours, "left: nothing changes"
    hand.window.ask.pairs = {j.id: j.id for j in whole.skeleton.joints}
    hand.session.run("weights.read_from")
    hand.until(lambda: session.character.skin.weights[body.id] is not ours)
    read = session.character.skin.weights[body.id]
    assert np.abs(read.column("arm.l.upper") - theirs.column("arm.l.upper")).max() < 0.02
    assert "joints of" in hand.card("weights.carry").report.text()
    hand.window.ask.open_path = str(DEMO / "wick.obj")
    hand.session.run("weights.read_from")
    hand.until(lambda: "not bound" in hand.window.frame_.note.text())


def test_the_pairing_sheet_pairs_by_name_and_by_hand(lesson):
    tapir = open_project(DEMO / "dumble.pegloom").character
    ours = lesson.session.character.skeleton
    sheet = PairingSheet(tapir, ours, lesson.window)
    assert sheet.pairs["spine.head"] == "spine.head" and "spine.loin" not in sheet.pairs
    paired = len(sheet.pairs)
    box = find(sheet, QComboBox, "pairing.spine.loin")
    box.setCurrentIndex(box.findData("spine.spine"))
    assert sheet.pairs["spine.loin"] == "spine.spine"
    assert sheet.summary.text().startswith(f"{paired + 1} of ")
    for one in sheet.boxes:
        one.setCurrentIndex(0)
    assert not sheet.pairs and not sheet.read.isEnabled()
    sheet.deleteLater()


def test_snags_are_found_from_the_rail_and_from_the_head_of_the_bench(lesson):
    hand, session = lesson, lesson.session
    rail, bench = hand.window.rail, hand.bench
    hand.until(lambda: session.c.state.snags_known and bool(rail.counts.get(Area.WEIGHTS)))
    session.set_area(Area.MESH)
    open_card(hand, hand.card("weights.brush"))
    QTest.mouseClick(rail, Qt.MouseButton.LeftButton, pos=rail.badge(Area.WEIGHTS).toPoint())
    assert session.area is Area.WEIGHTS and hand.card("weights.snags").is_open
    hand.bot.wait(30)
    fix = find(hand.window, QWidget, "snag.fix.stray-weights")
    assert bench.viewport().rect().contains(fix.mapTo(bench.viewport(), fix.rect().center()))
    bench.verticalScrollBar().setValue(0)
    hand.card("weights.snags").set_open(False)
    assert bench.head.doubts.isVisible() and bench.head.doubts.text() == "1 snag" and not bench.head.line.isVisible()
    hand.click("weights.doubts")
    assert hand.card("weights.snags").is_open
    hand.bot.wait(30)
    fix = find(hand.window, QWidget, "snag.fix.stray-weights")
    assert bench.viewport().rect().contains(fix.mapTo(bench.viewport(), fix.rect().center()))
    hand.click("snag.fix.stray-weights")
    hand.until(lambda: session.c.state.snags_known and not rail.counts.get(Area.WEIGHTS))
    hand.bot.wait(30)
    assert bench.head.line.isVisible() and not bench.head.doubts.isVisible()
    # Where there is no count, the same place of the rail is the area's peg.
    session.set_area(Area.MESH)
    QTest.mouseClick(rail, Qt.MouseButton.LeftButton, pos=rail.badge(Area.WEIGHTS).toPoint())
    assert session.area is Area.WEIGHTS


def test_bad_bends_are_listed_by_trial_with_a_way_there(lesson):
    hand, session = lesson, lesson.session
    open_card(hand, hand.card("weights.bends"))
    hand.click("weights.bends.run")
    assert session.source == RANGE_TEST
    watch, bends = hand.window.c.quality, hand.card("weights.bends")
    # The whole range test of a body: on a busy machine it takes its time.
    hand.until(lambda: watch.finished and not bends.later.isActive(), timeout=240_000)

    def listed():
        """The rows as they stand, once they are laid out."""
        rows = [w for w in widgets(bends, QLabel) if w.property("role") == "snag" and w.isVisible()]
        return [w.text() for w in sorted(rows, key=lambda w: w.mapTo(bends, QPoint(0, 0)).y())]

    hand.until(lambda: len(listed()) == min(len(watch.doubts(bends._group)), MOST))
    hand.bot.wait(50)
    shown = listed()
    assert bends.note.text() == f"{len(watch.doubts(bends._group))} snags"
    assert shown[0].startswith("Arm up: ") and "times as long" in shown[0]
    assert len({text.split(":")[0] for text in shown}) == len(shown), "one row a trial"
    worst = watch.doubts(bends._group)[0]
    assert worst.past == max(d.past for d in watch.doubts(lambda joint, k: (joint, k)))
    hand.click("weights.bends.show.0")
    assert session.influence == worst.joint
    assert session.time == pytest.approx(watch.times[worst.at])
    assert 20 / 30 - 0.3 < session.time < 20 / 30 + 0.3, "the arm is up there"
    # A good bind leaves nothing of the shoulder that is as bad, and the list follows.
    open_card(hand, hand.card("weights.bind"))
    hand.click("button.weights.bind")
    hand.idle()
    open_card(hand, hand.card("weights.bends"))
    hand.until(lambda: watch.finished, timeout=240_000)
    better = watch.doubts(bends._group)
    assert better and better[0].past < 0.5 * worst.past


def test_the_brush_says_what_a_lock_keeps_it_from(lesson):
    hand, session = lesson, lesson.session
    open_card(hand, hand.card("weights.brush"))
    session.select("joint", "arm.l.upper")
    session.set_view(tool=Tool.BRUSH)
    assert "and its other side" in find(hand.window, QLabel, "hint").text()
    session.set_view(locked=frozenset({"arm.r.upper"}))
    assert "alone, its other side is locked" in find(hand.window, QLabel, "hint").text()
    session.set_view(locked=frozenset({"arm.l.upper"}))
    assert "is locked" in hand.card("weights.brush").gives.text()


def test_locks_hold_in_what_the_weights_area_does_and_say_so(hand):
    session, said = hand.session, []
    session.said.connect(lambda text, *_: said.append(text))
    session.start_with(wick(), None)
    session.go(Area.WEIGHTS)
    part = max(session.character.included, key=lambda p: p.mesh.vertex_count).id
    column = session.character.skin.weights[part].column("arm.r.upper")
    session.set_view(locked=frozenset({"arm.r.upper"}))
    for action in ("weights.mirror", "weights.reduce", "weights.prune", "weights.drop_strays", "weights.bind"):
        if action == "weights.reduce":
            session.put_setting(BindSettings, influences=2)
        hand.c.actions.run(action)
        session.wait()
        assert np.array_equal(session.character.skin.weights[part].column("arm.r.upper"), column), action
    session.select("joint", "arm.r.upper")
    session.set_view(influence="arm.r.upper")
    before = session.document
    hand.c.actions.run("influence.drop")
    assert session.document is before and "locked" in said[-1]


@pytest.mark.parametrize("text, number", [("25 %", 0.25), ("25%", 0.25), ("0,25", 0.25), (" 1 ", 1.0), ("12.5 %", 0.125)])
def test_a_percentage_is_a_number(text, number):
    assert number_of(text) == pytest.approx(number)


@pytest.mark.parametrize("text", ["%", "a lot", "25 %%", ""])
def test_what_is_no_number_is_refused(text):
    with pytest.raises(ValueError):
        number_of(text)


def test_rungs_of_the_ladder_are_added_changed_and_removed_and_kept(lesson):
    hand, session = lesson, lesson.session
    open_card(hand, hand.card("weights.brush"))
    ladder = hand.card("weights.brush").ladder
    assert [rung.text() for rung in ladder.rungs] == ["0.1", "0.3", "0.55", "0.8", "1"]
    hand.click("weights.ladder.0.55")
    assert session.brush.value == 0.55 and ladder.rungs[2].isChecked()
    ladder.put((*ladder.values, 0.25, 0.2501))
    hand.until(lambda: [rung.text() for rung in ladder.rungs] == ["0.1", "0.25", "0.3", "0.55", "0.8", "1"])
    hand.click("weights.ladder.0.25")
    assert session.brush.value == 0.25
    ladder._menu(0.1, ladder.rungs[0], QPoint(2, 2))
    menu = ladder.rungs[0].findChild(QMenu, "weights.ladder.menu")
    next(a for a in menu.actions() if a.text().startswith("Remove")).trigger()
    hand.until(lambda: len(ladder.rungs) == 5)
    assert read_ladder() == (0.25, 0.3, 0.55, 0.8, 1.0)
    keep_ladder((True, 2.0))
    assert read_ladder() == USUAL_LADDER, "what is damaged counts as none"


def test_a_bind_says_how_long_it_is_likely_to_take_and_learns_it(lesson):
    hand, session = lesson, lesson.session
    open_card(hand, hand.card("weights.bind"))
    button, detail = hand.card("weights.bind").bind, hand.value("weights.detail")
    hand.until(lambda: button.text() == "Bind, about 4 s")
    detail.setCurrentIndex(detail.findText("finest"))
    detail.activated.emit(detail.currentIndex())
    hand.until(lambda: button.text() == "Bind, about 10 s")
    session.put_setting(PaceSettings, segment=20.0)
    hand.until(lambda: "min" in button.text())
    detail.setCurrentIndex(detail.findText("coarse"))
    detail.activated.emit(detail.currentIndex())
    hand.click("button.weights.bind")
    hand.idle()
    assert session.settings(PaceSettings).segment < 20.0, "it took less than that"
    assert session.settings(PaceSettings).by_reach == 1.0, "of another method nothing was learnt"
    assert read_usual((PaceSettings,)).of(PaceSettings) == session.settings(PaceSettings)
    with pytest.raises(EditError, match="quarter"):
        edits.bind(session.document, detail=9.0)
