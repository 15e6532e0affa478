#!/usr/bin/env python3
"""Small pictures of the demos' kept poses and expressions, taken in the real window.

    .venv/bin/python tools/demo_pictures.py     (with a display; xvfb-run does)
"""

from __future__ import annotations

import os
import time

from PyQt6.QtWidgets import QApplication

from pegloom.app.demos import DEMO
from pegloom.app.main import make_application
from pegloom.app.state.state import Area
from pegloom.app.window import Window
from pegloom.core.rig.pose import Pose
from pegloom.document import edits
from pegloom.files.project import open_project, save_project
from pegloom.scene.display import Display

DEMOS = ("wick", "dumble", "harl", "winch", "lantern")


def settle(app: QApplication, seconds: float = 0.4) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        app.processEvents()
        time.sleep(0.005)


def main() -> None:
    app = make_application(["pegloom"])
    window = Window()
    window.show()
    settle(app)
    store = window.store
    for name in DEMOS:
        document = open_project(DEMO / f"{name}.pegloom")
        pose = document.require_character().pose
        store.start_with(edits.set_pose(document, Pose()), None)
        window.c.enter(Area.CONTROLS)
        store.put(display=Display.TEXTURED, hidden=frozenset({"controls", "joints"}))
        window.stage.show_all()
        settle(app)
        result = document
        for kept in document.require_character().poses:
            store.draft(edits.apply_pose(edits.set_pose(document, Pose()), kept.id))
            window.stage.show_all()
            settle(app)
            posed = edits.apply_pose(edits.set_pose(result, Pose()), kept.id)
            result, _ = edits.keep_pose(posed, kept.name, picture=window.stage.small_picture())
        head = next((c.id for c in document.require_character().require_rig().controls if c.name == "mouth"), "")
        for face in document.require_character().expressions:
            store.draft(edits.apply_expression(edits.set_pose(document, Pose()), face.id))
            store.select("control", head)
            window.stage.show_selection()
            settle(app)
            result, _ = edits.keep_expression(edits.apply_expression(edits.set_pose(result, Pose()), face.id), face.name, picture=window.stage.small_picture())
        store.drop_draft()
        save_project(DEMO / f"{name}.pegloom", edits.set_pose(result, pose))
        print(name, len(document.require_character().poses), "poses,", len(document.require_character().expressions), "expressions")
        store.put(saved=store.history.present, hidden=frozenset())
    os._exit(0)


if __name__ == "__main__":
    main()
