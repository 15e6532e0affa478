"""Help."""

from pegloom.app.actions.action import Action

ACTIONS = (Action("help.sheet", "Mouse and keys", "Help", "The whole table", lambda c: c.frame.show_keys(), key="F1"),)
