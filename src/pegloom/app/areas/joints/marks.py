"""What is drawn in the view in Joints."""

from __future__ import annotations

from pegloom.app.stage.tools import StageView
from pegloom.app.state.state import MarkSettings
from pegloom.scene import drawing
from pegloom.scene.drawlist import DrawList


def skeleton(view: StageView, draw: DrawList) -> None:
    """Joints and cords, fainter under pegs."""
    character, frame = view.c.state.character, view.c.frames.frame()
    if character is None or frame is None or character.skeleton is None:
        return
    if "joints" not in view.c.state.viewing.hidden:
        faint = character.pegs is not None
        drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks_of(view), alpha=0.55 if faint else 0.95)


def pegs(view: StageView, draw: DrawList) -> None:
    """Pegs, the planes of their bends, and moves that are proposed."""
    state, character = view.c.state, view.c.state.character
    if character is None:
        return
    if character.pegs is not None and character.skeleton is not None:
        drawing.draw_plaques(draw, character.pegs, character.skeleton, character.height)
    if state.viewing.moves:
        drawing.draw_moves(draw, list(state.viewing.moves))
    if character.pegs is not None and "pegs" not in state.viewing.hidden:
        drawing.draw_pegs(draw, character.pegs, marks_of(view), character.height)


def marks_of(view: StageView) -> drawing.Marks:
    """What is picked and what is under the pointer, and how large joints are drawn."""
    state = view.c.state
    sizes = state.character.mark_sizes if state.character is not None else {}
    return drawing.Marks(frozenset(state.selection.ids), view.hovered, state.settings.of(MarkSettings).size, sizes)
