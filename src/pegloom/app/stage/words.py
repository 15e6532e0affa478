"""What is said of a thing under the pointer, by its kind."""

from __future__ import annotations

from pegloom.app.stage.tools import StageView
from pegloom.scene.drawing import out_of_use


def words_of(view: StageView, kind: str, found: str) -> str:
    """The name of a thing, and what keeps a control from being used."""
    character = view.c.state.character
    if character is None:
        return ""
    if kind == "control" and character.rig is not None:
        control, limb = character.rig.control(found), character.rig.limb_of(found)
        if found in out_of_use(character.rig, view.c.frames.control_pose) and limb is not None:
            side = "IK" if found in limb.fk else "FK"
            return f"{control.name}: out of use while this limb is on {side}; move its blend slider"
        return control.name
    if kind == "joint" and character.skeleton is not None:
        return character.skeleton.joint(found).name
    return found.replace("_", " ") if kind == "peg" else ""
