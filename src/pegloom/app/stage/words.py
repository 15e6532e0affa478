"""What is said of a thing under the pointer, by its kind."""

from __future__ import annotations

from pegloom.app.stage.tools import StageView
from pegloom.core.rig.use import idle
from pegloom.scene.rig_drawing import limb_words


def words_of(view: StageView, kind: str, found: str) -> str:
    """The name of a thing, and what keeps a control from being used."""
    character = view.c.state.character
    if character is None:
        return ""
    if kind == "control" and character.rig is not None:
        control, solver = character.rig.control(found), idle(character.rig, view.c.frames.control_pose).get(found)
        if solver is not None:
            side = "IK" if found in solver.fk else "FK"
            return f"{control.name}: out of use while {limb_words(solver)} is on {side}; pick it and press Use it"
        return control.name
    if kind == "joint" and character.skeleton is not None:
        return character.skeleton.joint(found).name
    return found.replace("_", " ") if kind == "peg" else ""
