#!/usr/bin/env python3
"""Take one picture of every main view into docs/screenshots, from the demo data, at 1280 x 800."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from PyQt6.QtWidgets import QApplication

from pegloom.app.main import make_application
from pegloom.app.session import RANGE_TEST, Area, Tool
from pegloom.app.verbs import DEMO
from pegloom.app.window import Window
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
    s.play_source(RANGE_TEST, (5 * 40 + 20) / 30)
    shoot("strain")
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


if __name__ == "__main__":
    main()
