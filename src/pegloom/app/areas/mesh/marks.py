"""What is drawn in the view in Mesh."""

from __future__ import annotations

from pegloom.app.areas.mesh.tools import depth_of
from pegloom.app.stage.tools import StageView
from pegloom.scene import drawing
from pegloom.scene.drawlist import DrawList


def middle(view: StageView, draw: DrawList) -> None:
    """The centre line."""
    character = view.c.state.character
    if view.c.state.viewing.middle_shown and character is not None and character.standing is not None:
        under_pointer = view.hovered == "middle"
        drawing.draw_middle(draw, character.standing.middle, character.height, depth_of(character), under_pointer)
