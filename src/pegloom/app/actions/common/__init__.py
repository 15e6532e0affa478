"""Actions that belong to no work area: files, undo, time, view, tools, help."""

from pegloom.app.actions.action import Action
from pegloom.app.actions.common import edit, file, help, hiding, time, tools, view, walking

ACTIONS: tuple[Action, ...] = (
    *file.ACTIONS, *edit.ACTIONS, *time.ACTIONS, *view.ACTIONS, *hiding.ACTIONS, *tools.ACTIONS, *walking.ACTIONS, *help.ACTIONS,
)  # fmt: skip

__all__ = ["ACTIONS"]
