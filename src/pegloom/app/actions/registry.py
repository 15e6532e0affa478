"""Every action, declared once: menu, palette, buttons and the shortcut sheet all use the same QAction."""

from __future__ import annotations

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget

from pegloom.app.actions.action import Action
from pegloom.app.actions.trade_words import TRADE_WORDS
from pegloom.app.context import Context
from pegloom.app.state.kept import keep_keys
from pegloom.app.state.state import State, only_time
from pegloom.core.errors import PegLoomError

HELD = {"A": "held with the brush it evens out", "Esc": "it leaves what is under way"}
"""Keys that are no action's to have, and why."""


class Actions:
    """The registry. Duplicate ids and shortcuts are refused; the user's own keys stand before the declared ones."""

    def __init__(self, owner: QWidget, c: Context) -> None:
        self.owner, self.c = owner, c
        self.entries: dict[str, Action] = {}
        self.qactions: dict[str, QAction] = {}
        self.own: dict[str, str] = {}

    def add(self, *actions: Action) -> None:
        """Declare actions. Raises ValueError for an id or a shortcut already taken."""
        for action in actions:
            if action.id in self.entries:
                raise ValueError(f"two actions are called {action.id}")
            taken = [a.id for a in self.entries.values() if action.key and a.key == action.key]
            if taken:
                raise ValueError(f"{action.key} belongs to {taken[0]} already, {action.id} wants it too")
            qaction = QAction(action.title, self.owner)
            qaction.setObjectName(action.id)
            qaction.triggered.connect(lambda _=False, a=action.id: self.run(a))
            self.owner.addAction(qaction)
            qaction.setCheckable(action.on is not None)
            self.entries[action.id], self.qactions[action.id] = action, qaction
            self._put(action.id)

    def key(self, action_id: str) -> str:
        """The key of an action as it stands: the user's own, else the declared one; "" for none."""
        return self.own.get(action_id, self.entries[action_id].key)

    def rebind(self, action_id: str, keys: str) -> str:
        """Put an action on other keys ("" for none). Why it is refused, or ""."""
        keys = QKeySequence(keys).toString()
        if keys in HELD:
            return f"{keys} cannot be given: {HELD[keys]}."
        taken = [a for a in self.entries.values() if keys and a.id != action_id and self.key(a.id) == keys]
        if taken:
            return f"{keys} belongs to {taken[0].title}; give that another key first."
        own = {a: k for a, k in self.own.items() if a != action_id}
        if keys != self.entries[action_id].key:
            own[action_id] = keys
        self.rebind_all(own)
        return ""

    def rebind_all(self, own: dict[str, str], *, keep: bool = True) -> None:
        """The user's keys anew. What names no action, or a key that is taken or held, is passed by."""
        before, self.own = self.own, {}
        plain = {a.id: a.key for a in self.entries.values() if a.key and a.id not in own}
        used = set(plain.values()) | set(HELD)
        passed_by = []
        for action_id, keys in own.items():
            if action_id in self.entries and (not keys or keys not in used):
                self.own[action_id] = keys
                used.add(keys)
            elif action_id in self.entries:
                passed_by.append(action_id)
        for action_id in passed_by:
            # Back on its usual key, unless another has taken that meanwhile.
            if self.entries[action_id].key in used:
                self.own[action_id] = ""
            used.add(self.entries[action_id].key)
        for action_id in {*before, *self.own}:
            if action_id in self.entries:
                self._put(action_id)
        self.c.stale.emit()
        if keep:
            keep_keys(self.own)

    def _put(self, action_id: str) -> None:
        self.qactions[action_id].setShortcut(QKeySequence(self.key(action_id)))
        self._say_state(self.c.state, action_id)

    def follow(self) -> None:
        """Tips and marks follow the state from now on."""
        self.c.store.changed.connect(self._changed)
        self._look(self.c.state)

    def _changed(self, old: State, new: State) -> None:
        if not only_time(old, new):
            self._look(new)

    def _look(self, state: State) -> None:
        for action_id in self.entries:
            self._say_state(state, action_id)

    def _say_state(self, state: State, action_id: str) -> None:
        action, qaction, keys = self.entries[action_id], self.qactions[action_id], self.key(action_id)
        missing = action.missing(state)
        text = f"{action.tip}  ({keys})" if keys else action.tip
        text += f"\nNot yet: {missing.says}" if missing is not None else ""
        if qaction.toolTip() != text:
            qaction.setToolTip(text)
        if action.on is not None and qaction.isChecked() is not (on := action.on(state)):
            qaction.setChecked(on)

    def run(self, action_id: str) -> None:
        """Run an action, or say what is missing and offer what would bring it about."""
        action = self.entries[action_id]
        missing = action.missing(self.c.state)
        try:
            if missing is not None:
                offer = missing.offer if missing.offer != action_id else ""
                self.c.say(missing.says, error=True, offer=offer)
                return
            action.run(self.c)
        except PegLoomError as error:
            self.c.say(str(error), error=True)
        finally:
            if action.on is not None:
                # A click has flipped the mark; what is on or off is told by the state.
                self.qactions[action_id].setChecked(action.on(self.c.state))

    def find(self, text: str) -> list[Action]:
        """Actions that all words of the text begin a word of, of their title, menu, tip or what the trade says; best first.

        Best is what begins words of the title, first of all its first.
        """
        words = words_in(text)
        scored = []
        for action in self.entries.values():
            title, trade = words_in(action.title), words_in(TRADE_WORDS.get(action.id, ""))
            rest = words_in(f"{action.menu} {action.tip}")
            ranks = [
                min((rank + at for rank, group in enumerate((title[:1], title, trade, rest)) if (at := _begun(word, group)) < 1), default=None)
                for word in words
            ]  # fmt: skip
            if None not in ranks:
                scored.append((sum(r for r in ranks if r is not None), len(title) if words else 0, action.title, action))
        return [row[-1] for row in sorted(scored, key=lambda row: row[:3])]


def words_in(text: str) -> list[str]:
    """Words of a text as they are compared: lower case, what a hyphen joins also as one."""
    found = []
    for word in text.lower().replace("…", " ").split():
        bare = word.strip(".,;:()'\"“”?")
        found += [bare, *bare.split("-")] if "-" in bare else [bare]
        if "-" in bare:
            found.append(bare.replace("-", ""))
    return [word for word in found if word]


def _begun(word: str, words: list[str]) -> float:
    """How far back among some words (0 to 1) the first is that another begins; 1 for none."""
    return next((k / (len(words) + 1) for k, other in enumerate(words) if other.startswith(word)), 1.0)
