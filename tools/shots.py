#!/usr/bin/env python3
"""Take one picture of every main view into docs/screenshots, from the demo data, at 1280 x 800."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QScrollArea

from pegloom.app.areas.controls.editing import edit_hold, open_hold
from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.areas.handover.actions import choose_target
from pegloom.app.areas.motion.borrowing import BorrowSettings
from pegloom.app.areas.motion.gaits import put_points
from pegloom.app.areas.motion.keying import KeySettings
from pegloom.app.areas.motion.shelving import ShelfSettings, look
from pegloom.app.areas.weights.settings import FleshSettings
from pegloom.app.demos import DEMO
from pegloom.app.main import make_application
from pegloom.app.panels.graph import QualityGraph
from pegloom.app.state.state import RANGE_TEST, SCENE, Area, Selection, Tool
from pegloom.app.widgets.card import Card
from pegloom.app.window import Window
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.render.film import make_film
from pegloom.scene.display import Display
from pegloom.scene.lenses import Lens
from pegloom.scene.shot import Shot

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT))

from tests.support.session import Session  # noqa: E402

OUT = ROOT / "docs" / "screenshots"


def settle(app: QApplication, seconds: float = 0.5) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        app.processEvents()
        time.sleep(0.005)


def main() -> None:
    out = Path(sys.argv[1]) if len(sys.argv) > 1 else OUT
    out.mkdir(parents=True, exist_ok=True)
    app = make_application(["pegloom"])
    window = Window()
    window.show()
    settle(app)

    def shoot(name: str) -> None:
        window.frame_.note.hide()
        settle(app, 0.6)
        image = window.screen().grabWindow(window.winId())
        image.save(str(out / f"{name}.png"))
        print(out / f"{name}.png")

    shoot("welcome")
    s = Session(window)
    s.open(DEMO / "wick.obj")
    settle(app, 1)
    s.run("mesh.stand_up")
    settle(app, 0.5)
    shoot("mesh")
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(display=Display.TEXTURED)
    window.stage.show_all()
    s.select("control", "arm.l.goal")
    shoot("controls")
    window.store.put(saved=s.history.present)
    s.open(DEMO / "winch.pegloom")
    settle(app, 1)
    s.put_setting(WorkSettings, work=Work.BUILD)
    rig = s.character.rig
    turned = with_values(rig, with_values(rig, Pose(), "boom.hinge", rotate_z=0.35), "wheel.wheel", rotate_z=0.8)
    s.commit("Swing the boom", edits.set_pose(s.history.present, turned))
    settle(app, 1)
    window.stage.show_all()
    s.select("control", "bell.hinge")
    edit_hold(window.c)
    settle(app, 0.8)
    shoot("controls_build")
    open_hold(window.c, "")
    window.store.put(saved=s.history.present)
    s.put_setting(WorkSettings, work=Work.FACE)
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    faces = s.character.expressions
    s.select("control", next(c.id for c in s.character.rig.controls if c.name == "mouth"))
    for face in reversed(faces):
        rest = edits.set_pose(s.history.present, Pose())
        s.commit(face.name, edits.apply_expression(rest, face.id))
        window.stage.show_selection()
        settle(app, 0.5)
        kept, _ = edits.keep_expression(s.history.present, face.name, picture=window.stage.small_picture())
        s.commit("A picture", kept)
    only(window, "face.expressions")
    settle(app, 0.5)
    shoot("face")
    s.put_setting(WorkSettings, work=Work.POSE)
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.go(Area.JOINTS)
    s.set_view(display=Display.SEE_THROUGH)
    s.select("peg", "l_elbow")
    window.stage.show_all()
    shoot("joints")
    s.open(DEMO / "dumble.pegloom")
    settle(app, 1)
    s.set_view(display=Display.SEE_THROUGH)
    s.go(Area.JOINTS)
    only(window, "joints.kits", "joints.change")
    s.select("joint", "snout.2")
    window.stage.show_all()
    settle(app, 0.5)
    only(window, "joints.find", "joints.pegs", "joints.build")
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(display=Display.CLAY)
    s.go(Area.WEIGHTS)
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    s.set_view(lens=Lens.INFLUENCE, tool=Tool.BRUSH)
    window.stage.show_all()
    settle(app, 4)
    shoot("weights")
    s.set_view(lens=Lens.STRAIN, tool=Tool.PICK)
    s.play_source(RANGE_TEST, (8 * 40 + 20) / 30)
    s.set_view(lens=Lens.VOLUME)
    s.select("joint", "arm.l.upper")
    measured(app, window)
    graph = window.findChild(QualityGraph)
    while not graph.watch.finished:
        settle(app, 0.2)
    only(window, "weights.bends", "weights.brush")
    graph._go_to_dip(min(graph.dips(), key=lambda k: graph.watch.row("arm.l.upper")[k].area))
    only(window, "weights.flesh")
    told = edits.fit_to_flesh(s.history.present, worse=0.1)
    s.commit("Fit to flesh", told[0])
    window.store.put_setting(FleshSettings, worse=10.0, report="; ".join(f"{r.part}: {r.says}" for r in told[1]))
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    first = next(w for w in s.character.weaves if w.name == "before the fit")
    s.set_view(compared=first.id, lens=Lens.STRAIN, seam=0.47)
    window.stage.show_all()
    measured(app, window)
    shoot("compare")
    s.set_view(compared="")
    lesson(app, window, shoot)
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(lens=Lens.NONE)
    s.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED)
    s.play_source(s.character.clips[0].id, 2.0)
    s.select("control", "arm.l.lower.fk", "spine.head")
    s.put_setting(KeySettings, trails=True, ghosts=True)
    window.c.actions.run("keys.curves")
    settle(app, 1)
    clip = s.character.clips[0]
    s.put_setting(KeySettings, picked=frozenset(edits.keys_in(clip, controls={"arm.l.lower.fk"}, first=1.6, last=2.4)))
    window.stage.show_all()
    settle(app, 4)
    shoot("motion")
    s.put_setting(KeySettings, trails=False, ghosts=False)
    window.c.actions.run("keys.curves")
    window.store.put(saved=s.history.present)
    s.open(DEMO / "pier.pegloom")
    settle(app, 1)
    s.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED, lens=Lens.NONE)
    window.store.put(selection=Selection())
    s.set_view(hidden=frozenset({"controls"}))
    s.play_source(next(c.id for c in s.character.clips if c.name == "heave and wave"), 3.9)
    s.put_setting(BorrowSettings, picked="arm.l")
    window.c.actions.run("borrow.pairing")
    only(window, "motion.borrow")
    settle(app, 1)
    window.stage.show_all()
    settle(app, 3)
    shoot("pairing")
    window.c.actions.run("borrow.pairing")
    s.put_setting(BorrowSettings, picked="")
    s.play_source(next(c.id for c in s.character.clips if c.name == "walk"), 0.9)
    s.set_view(hidden=frozenset())
    only(window, "motion.gait")
    put_points(window.c, ((0.0, 0.0), (0.5, 1.3), (-0.5, 2.4)))
    while window.c.live.busy:
        settle(app, 0.1)
    window.c.actions.run("gait.way")
    settle(app, 1)
    window.c.player.go_to(0.9)
    window.stage.show_all()
    to_card(window, "motion.gait")
    settle(app, 5)
    shoot("gait")
    window.c.actions.run("gait.way")
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED, lens=Lens.NONE)
    window.c.actions.run("shelf.open")
    s.put_setting(ShelfSettings, words="jemand läuft müde nach Hause", picked="walk_tired")
    look(window.c)
    settle(app, 4)
    window.c.player.stop()
    window.c.player.go_to(2.3)
    window.stage.show_all()
    settle(app, 3)
    shoot("shelf")
    window.c.actions.run("shelf.open")
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.go(Area.CONTROLS)
    s.put_setting(WorkSettings, work=Work.POSE)
    s.commit("Picking up", edits.apply_pose(s.history.present, "picking up"))
    window.store.put(tool=Tool.SKIN, pins=frozenset({"arm.r.end"}))
    only(window, "controls.pose")
    window.stage.show_all()
    settle(app, 1)
    shoot("skin")
    s.run("view.animators")
    s.run("pick.card")
    window.store.put(tool=Tool.PICK, pins=frozenset())
    s.commit("Striding", edits.apply_pose(s.history.present, "striding"))
    s.select("control", "leg.r.goal", "leg.l.goal")
    only(window, "controls.poses")
    settle(app, 1)
    window.stage.show_all()
    settle(app, 0.5)
    shoot("pick_card")
    s.run("pick.card")
    s.run("view.animators")
    s.go(Area.HANDOVER)
    window.store.put(saved=s.history.present)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.go(Area.HANDOVER)
    s.set_view(display=Display.TEXTURED)
    choose_target(window.c, "real-time")
    s.run("handover.prove")
    while window.c.jobs.busy:
        settle(app, 0.2)
    only(window, "handover.proof")
    s.run("handover.where")
    settle(app, 1)
    shoot("handover")
    window.store.put(saved=s.history.present)
    together(app, window, shoot)
    desk(app, window, shoot)
    window.close()


def together(app: QApplication, window: Window, shoot: Callable[[str], None]) -> None:
    """Four figures in one document, the pannier on its way; and a film of it beside what is committed."""
    s = Session(window)
    s.open(DEMO / "pannier.pegloom")
    settle(app, 1)
    s.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED, lens=Lens.NONE, hidden=frozenset({"controls"}))
    only(window, "motion.figures")
    window.c.actions.run("character.next")
    window.c.actions.run("character.next")
    window.c.actions.run("character.next")
    s.play_source(SCENE, 3.6)
    window.stage.camera = replace(window.stage.camera, yaw=2.55, pitch=0.16)
    window.stage.show_all()
    settle(app, 3)
    to_card(window, "motion.figures")
    settle(app, 2)
    shoot("figures")
    film = ROOT / ".cache" / "pannier.mp4"
    shot = Shot(window.stage.camera.world, (640, 360), 0.0, window.c.state.length, 15.0, named=True, counted=True)
    print(f"{film}: {make_film(film, s.document, shot)} frames")
    s.set_view(hidden=frozenset())
    window.store.put(saved=s.history.present)


def desk(app: QApplication, window: Window, shoot: Callable[[str], None]) -> None:
    """The simulated capture desk on Wick, in the middle of a take."""
    s = Session(window)
    s.open(DEMO / "wick.pegloom")
    settle(app, 1)
    s.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED, lens=Lens.NONE)
    window.stage.camera = replace(window.stage.camera, yaw=0.35, pitch=0.12)
    window.c.actions.run("desk.open")
    window.c.actions.run("desk.simulate")
    while window.c.frames.captured is None:
        settle(app, 0.1)
    only(window, "motion.clips")
    settle(app, 3)
    window.c.actions.run("desk.record")
    settle(app, 3.2)
    window.stage.show_all()
    shoot("desk")
    window.c.actions.run("desk.record")
    while window.c.jobs.busy:
        settle(app, 0.1)
    window.c.actions.run("desk.simulate")
    window.c.actions.run("desk.open")
    window.store.put(saved=s.history.present)


def to_card(window: Window, name: str) -> None:
    """Scroll the bench so that a card begins at its top."""
    card = cards(window)[name]
    for area in window.findChildren(QScrollArea):
        bar = area.verticalScrollBar()
        if bar is not None and area.isAncestorOf(card):
            bar.setValue(card.y())


def cards(window: Window) -> dict[str, Card]:
    """The present area's cards by name."""
    return {card.objectName(): card for card in window.benches[window.c.state.area].cards}


def only(window: Window, *names: str) -> None:
    """Unfold these cards and fold the others."""
    for name, card in cards(window).items():
        card.set_open(name in names)


def measured(app: QApplication, window: Window) -> None:
    """Wait until the quality graph of the joint in hand is complete."""
    watch = window.c.quality
    settle(app, 0.3)
    while True:
        row = watch.row(watch.region) if watch.region else watch.whole
        if row and None not in row and None not in watch.before:
            return
        settle(app, 0.2)


def lesson(app: QApplication, window: Window, shoot: Callable[[str], None]) -> None:
    """The bad shoulder as it comes, its skin being pulled where it belongs."""
    s = Session(window)
    window.store.put(saved=s.history.present)
    s.open(DEMO / "lesson.pegloom")
    settle(app, 1)
    s.go(Area.WEIGHTS)
    only(window, "weights.snags")
    s.set_view(display=Display.CLAY, lens=Lens.STRAIN)
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    window.stage.show_all()
    measured(app, window)
    s.run("tool.pull")
    only(window, "weights.pull")
    settle(app, 1)
    stage = window.stage
    places = window.c.frames.frame().points[window.c.character.parts[0].id]
    torn = places[np.linalg.norm(window.c.character.parts[0].mesh.points - [0.16, 0.95, 0.07], axis=1).argmin()]
    x, y, _ = stage.camera.project(torn[None], *stage.size_in_points)[0]
    start = QPoint(int(x), int(y))
    # The wish is drawn while the button is down.
    QTest.mouseMove(stage, start)
    QTest.mousePress(stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    for k in range(1, 9):
        here = QPointF(start + QPoint(0, -4 * k))
        app.sendEvent(stage, QMouseEvent(QEvent.Type.MouseMove, here, QPointF(stage.mapToGlobal(here)), Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier))
    settle(app, 0.3)
    shoot("lesson_1")
    QTest.keyClick(stage, Qt.Key.Key_Escape)
    s.run("tool.pull")


if __name__ == "__main__":
    main()
