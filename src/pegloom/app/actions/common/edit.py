"""Undo, redo, and leaving what is under way."""

from __future__ import annotations

from types import MappingProxyType

from pegloom.app.actions.action import Action
from pegloom.app.context import Context
from pegloom.app.state.state import Selection, Tool


def undo(c: Context) -> None:
    name = c.store.history.undo_name
    c.store.undo()
    if name:
        c.say(f"Undone: {name}")


def redo(c: Context) -> None:
    name = c.store.history.redo_name
    c.store.redo()
    if name:
        c.say(f"Again: {name}")


def cancel(c: Context) -> None:
    """Esc: what floats over the window, the drag, what is proposed, the tool, a pane, else the selection."""
    state = c.state
    if c.frame.close_popups() or c.view.cancel_drag():
        return
    if state.tooling.wanted is not None:
        c.store.put(wanted=None)
    elif state.viewing.moves:
        c.store.put(moves=())
    elif state.tooling.tool != Tool.PICK:
        c.store.put(tool=Tool.PICK)
    elif open_panes := state.viewing.panes & {*(pane.id for pane in c.area.panes), *(lane.id for lane in c.area.lanes)}:
        c.store.put(panes=state.viewing.panes - open_panes)
    else:
        c.store.put(vertices=MappingProxyType({}), selection=Selection())


ACTIONS = (
    Action("edit.undo", "Undo", "Edit", "One step back", undo, key="Ctrl+Z"),
    Action("edit.redo", "Redo", "Edit", "One step forward", redo, key="Ctrl+Shift+Z"),
    Action("edit.steps", "History", "Edit", "Every step that can be undone, to go to any of them", lambda c: c.frame.show_history(), key="Ctrl+H"),
    Action("edit.palette", "Find an action", "Edit", "Search all actions", lambda c: c.frame.find_action(), key="Ctrl+K"),
    Action("edit.cancel", "Cancel", "Edit", "Drop the drag, the brush, the selection", cancel, key="Esc"),
)  # fmt: skip
