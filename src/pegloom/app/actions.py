"""Every action, declared once: menu, palette, buttons and the shortcut sheet all use the same QAction."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget


@dataclass(frozen=True)
class Action:
    """id: dotted and unique. why: says what is missing, or "" when it can run now."""

    id: str
    title: str
    menu: str
    run: Callable[[], object]
    tip: str
    shortcut: str = ""
    why: Callable[[], str] = lambda: ""


class Actions:
    """The registry. Duplicate ids and shortcuts are refused."""

    def __init__(self, owner: QWidget, say: Callable[[str], None]) -> None:
        self.owner, self.say = owner, say
        self.entries: dict[str, Action] = {}
        self.qactions: dict[str, QAction] = {}

    def add(self, *actions: Action) -> None:
        """Declare actions. Raises ValueError for an id or a shortcut already taken."""
        for action in actions:
            if action.id in self.entries:
                raise ValueError(f"two actions are called {action.id}")
            taken = [a.id for a in self.entries.values() if action.shortcut and a.shortcut == action.shortcut]
            if taken:
                raise ValueError(f"{action.shortcut} belongs to {taken[0]} already, {action.id} wants it too")
            made = QAction(action.title, self.owner)
            made.setObjectName(action.id)
            made.setToolTip(f"{action.tip}  ({action.shortcut})" if action.shortcut else action.tip)
            if action.shortcut:
                made.setShortcut(QKeySequence(action.shortcut))
            made.triggered.connect(lambda _=False, a=action.id: self.run(a))
            self.owner.addAction(made)
            self.entries[action.id], self.qactions[action.id] = action, made

    def run(self, action_id: str) -> None:
        """Run an action, or say why it cannot."""
        action = self.entries[action_id]
        reason = action.why()
        if reason:
            self.say(reason)
        else:
            action.run()

    def find(self, text: str) -> list[Action]:
        """Actions whose title, menu or tip holds all words of the text; titles first."""
        words = text.lower().split()
        scored = []
        for action in self.entries.values():
            whole = f"{action.title} {action.menu} {action.tip}".lower()
            if all(word in whole for word in words):
                in_title = sum(word in action.title.lower() for word in words)
                scored.append((-in_title, action.title, action))
        return [action for _, _, action in sorted(scored, key=lambda row: row[:2])]
