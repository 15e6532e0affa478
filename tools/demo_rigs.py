#!/usr/bin/env python3
"""What is made by hand on the demos' controls: hocks and a whole body, a curve neck, a rope, constraints, spaces."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.document.told.verbs import run_steps
from pegloom.files.project import open_project, save_project

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo"
STEPS: dict[str, list[dict[str, Any]]] = {
    "wick": [
        {"edit": "build_controls"},
        # A hand that takes the body's rise alone, to lean on a rail while he bobs.
        {"edit": "set_spaces", "control": "l_hand_goal", "spaces": {"body's rise": "body"}, "axes": "y"},
        {"edit": "mirror_rig", "source": "left"},
    ],
    "oilskin": [{"edit": "build_controls"}],
    "lesson": [{"edit": "build_controls"}],
    "lantern": [{"edit": "build_controls"}],
    "dumble": [{"edit": "build_controls"}, {"edit": "add_body"}],
    "harl": [{"edit": "build_controls"}, {"edit": "set_kit_rig", "kit_id": "neck", "how": {"solver": "curve"}}],
    "winch": [
        {"edit": "build_controls"},
        {"edit": "set_kit_rig", "kit_id": "rope", "how": {"solver": "curve"}},
        # The bell hangs upright however the boom swings.
        {"edit": "constrain", "held": "bell_hinge_fk", "targets": ["root control"], "follow": "rotation", "name": "bell hangs"},
        # The wheel's crank keeps its grip level with the base.
        {"edit": "constrain", "held": "crank_hinge_fk", "targets": ["body"], "follow": "rotation", "name": "crank stays level"},
    ],
}


def main() -> None:
    for name, steps in STEPS.items():
        document = open_project(DEMO / f"{name}.pegloom")
        if document.require_character().rig_changes.own_constraints or document.require_character().rig_changes.own_solvers:
            print(f"{name}: done already")
            continue
        document, _ = run_steps(document, steps)
        save_project(DEMO / f"{name}.pegloom", document)
        rig = document.require_character().require_rig()
        print(f"{name}: {len(rig.controls)} controls, {len(rig.solvers)} solvers, {len(rig.constraints)} constraints")


if __name__ == "__main__":
    main()
