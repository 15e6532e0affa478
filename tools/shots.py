#!/usr/bin/env python3
"""Take one picture of every main view into docs/screenshots, from the demo data, at 1280 x 800."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QApplication

from pegloom.app.main import make_application
from pegloom.app.session import RANGE_TEST, Area, Tool
from pegloom.app.verbs import DEMO
from pegloom.app.window import Window
from pegloom.core.skin.bind import BindMethod
from pegloom.document import edits
from pegloom.render.renderer import Display
from pegloom.scene.lenses import Lens

OUT = Path(__file__).parents[1] / "docs" / "screenshots"


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
        window.session.said.emit("", False)
        window.frame_.note.hide()
        settle(app, 0.6)
        image = window.screen().grabWindow(window.winId())
        image.save(str(out / f"{name}.png"))
        print(out / f"{name}.png")

    shoot("welcome")
    s = window.session
    window.open_path(DEMO / "wick.obj")
    settle(app, 4)
    window.actions_.run("mesh.stand_up")
    settle(app, 0.5)
    shoot("mesh")
    s.saved = s.history.present
    window.open_path(DEMO / "dumble.obj")
    settle(app, 4)
    window.actions_.run("mesh.stand_up")
    window.actions_.run("mesh.turn_left")
    s.set_view(middle_shown=True)
    settle(app, 0.5)
    window.stage.show_all()
    bench = window.benches[Area.MESH]
    for card in (bench.bring, bench.parts, bench.stand_card):
        card.set_open(False)
    bench.halves_card.set_open(True)
    shoot("mesh_dumble")
    for card in (bench.bring, bench.parts, bench.stand_card):
        card.set_open(True)
    bench.halves_card.set_open(False)
    s.set_view(middle_shown=False)
    s.saved = s.history.present
    window.open_path(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(display=Display.TEXTURED)
    window.stage.show_all()
    s.select("control", "body")
    shoot("controls")
    window.go(Area.JOINTS)
    s.set_view(display=Display.SEE_THROUGH)
    s.select("peg", "l_elbow")
    window.stage.show_all()
    shoot("joints")
    window.open_path(DEMO / "dumble.pegloom")
    settle(app, 1)
    s.set_view(display=Display.SEE_THROUGH)
    window.go(Area.JOINTS)
    joints = window.benches[Area.JOINTS]
    for card in (joints.find_card, joints.pegs_card, joints.build_card):
        card.set_open(False)
    joints.kits_card.set_open(True)
    joints.change_card.set_open(True)
    s.select("joint", "snout.2")
    window.stage.show_all()
    settle(app, 0.5)
    shoot("joints_dumble")
    for card in (joints.find_card, joints.pegs_card, joints.build_card):
        card.set_open(True)
    joints.kits_card.set_open(False)
    joints.change_card.set_open(False)
    window.open_path(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(display=Display.CLAY)
    window.go(Area.WEIGHTS)
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    s.set_view(lens=Lens.INFLUENCE, tool=Tool.BRUSH)
    window.stage.show_all()
    settle(app, 4)
    shoot("weights")
    s.set_view(lens=Lens.STRAIN, tool=Tool.PICK)
    s.play_source(RANGE_TEST, (8 * 40 + 20) / 30)
    shoot("strain")
    weights = window.benches[Area.WEIGHTS]
    s.set_view(lens=Lens.VOLUME)
    s.select("joint", "arm.l.upper")
    measured(app, window)
    ruler = window.strip.ruler
    while not ruler.watch.finished:
        settle(app, 0.2)
    for card in weights.cards:
        card.set_open(card in (weights.bends, weights.brush))
    ruler._go_to_dip(min(ruler.dips(), key=lambda k: ruler.watch.row("arm.l.upper")[k].area))
    shoot("graph")
    weights.bends.set_open(False)
    for card in weights.cards:
        card.set_open(card is weights.weaves)
    s.commit("Bind by reach", edits.bind(s.history.present, method=BindMethod.BY_REACH))
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    first = s.character.weaves[0]
    s.set_view(compared=first.id, lens=Lens.STRAIN, seam=0.47)
    window.stage.show_all()
    measured(app, window)
    shoot("compare")
    s.set_view(compared="")
    lesson(app, window, shoot)
    oilskin(app, window, shoot)
    s.saved = s.history.present
    window.open_path(DEMO / "wick.pegloom")
    settle(app, 1)
    s.set_view(lens=Lens.NONE)
    window.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED)
    s.play_source(s.character.clips[0].id, 2.0)
    s.select("control", "arm.r.lower.fk")
    window.stage.show_all()
    settle(app, 4)
    shoot("motion")
    s.saved = s.history.present
    window.open_path(DEMO / "harl.pegloom")
    settle(app, 1)
    window.stage.show_all()
    settle(app, 1)
    shoot("heron")
    window.go(Area.HANDOVER)
    s.saved = s.history.present
    window.open_path(DEMO / "wick.pegloom")
    settle(app, 1)
    window.go(Area.HANDOVER)
    shoot("handover")
    s.saved = s.history.present
    window.close()


def measured(app: QApplication, window: Window) -> None:
    """Wait until the quality graph of the joint in hand is complete."""
    watch = window.strip.ruler.watch
    settle(app, 0.3)
    while True:
        row = watch.row(watch.region) if watch.region else watch.whole
        if row and None not in row and None not in watch.before:
            return
        settle(app, 0.2)


def lesson(app: QApplication, window: Window, shoot: Callable[[str], None]) -> None:
    """The bad shoulder: as it is, after the strays, after the weave."""
    s = window.session
    s.saved = s.history.present
    window.open_path(DEMO / "lesson.pegloom")
    settle(app, 1)
    window.go(Area.WEIGHTS)
    weights = window.benches[Area.WEIGHTS]
    for card in weights.cards:
        card.set_open(card is weights.snags)
    s.set_view(display=Display.CLAY, lens=Lens.STRAIN)
    s.select("joint", "arm.l.upper")
    s.play_source(RANGE_TEST, 20 / 30)
    window.stage.show_all()
    measured(app, window)
    settle(app, 1)
    shoot("lesson_1")
    body = s.character.parts[0]
    s.commit("Drop stray weights", edits.drop_strays(s.history.present)[0])
    s.commit("Bind segment, then soften", edits.bind(s.history.present))
    fresh = s.character.weaves[-1].id
    s.commit("Take a weave back", edits.take_weave(s.history.present, s.character.weaves[0].id))
    points = body.mesh.points
    s.vertices = {body.id: np.flatnonzero((points[:, 0] > 0.08) & (points[:, 1] > 0.84) & (points[:, 1] < 1.25))}
    for card in weights.cards:
        card.set_open(card is weights.weaves)
    s.set_view(lens=Lens.INFLUENCE, compared=fresh, seam=0.56)
    measured(app, window)
    weights.weaves.list.setCurrentRow(len(s.character.weaves) - 1)
    shoot("lesson_2")
    s.set_view(compared="", lens=Lens.STRAIN)
    s.commit("The weave there", edits.mix_weave(s.history.present, fresh, s.vertices))
    s.vertices = {}
    for card in weights.cards:
        card.set_open(card is weights.brush)
    s.set_view(tool=Tool.BRUSH)
    measured(app, window)
    settle(app, 1)
    shoot("lesson_3")
    s.set_view(tool=Tool.PICK)


def oilskin(app: QApplication, window: Window, shoot: Callable[[str], None]) -> None:
    """Wick in his oilskin, a row of numbers beside him."""
    s = window.session
    s.saved = s.history.present
    window.open_path(DEMO / "oilskin.pegloom")
    settle(app, 1)
    window.go(Area.MOTION)
    s.set_view(display=Display.TEXTURED, lens=Lens.NONE)
    s.play_source(s.character.clips[0].id, 1.6)
    window.stage.show_all()
    measured(app, window)
    shoot("oilskin")
    window.go(Area.WEIGHTS)
    coat = next(p for p in s.character.parts if p.name == "coat")
    s.vertices = {coat.id: np.flatnonzero((coat.mesh.points[:, 0] > 0.1) & (coat.mesh.points[:, 1] > 1.0))}
    s.play_source(RANGE_TEST, 20 / 30)
    s.select("joint", "arm.l.clavicle")
    s.set_view(numbers_shown=True, lens=Lens.INFLUENCE, display=Display.CLAY)
    settle(app, 1)
    window.stage.show_all()
    settle(app, 1)
    shoot("numbers")
    s.set_view(numbers_shown=False)
    s.vertices = {}


if __name__ == "__main__":
    main()
