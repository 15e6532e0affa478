"""A collapsible card of a bench."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QToolButton, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.state.kept import keep_usual
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import JOINT, State
from pegloom.app.theme import put_icon
from pegloom.app.widgets.layouts import side_by_side
from pegloom.app.widgets.panel import Panel
from pegloom.app.widgets.texts import Note, label


class Card(Panel):
    """A head with a title and a note, a sentence, and what it holds.

    wanted : whether it is there in a state.
    A card that has settings carries a menu that puts them back to their defaults or keeps them as usual, one or all.
    """

    lists_snags = False
    """Whether it is the card that lists what is wrong in its area."""

    def __init__(
        self, c: Context, title: str, name: str, *, sentence: str = "", is_open: bool = True
    ) -> None:
        super().__init__(c)
        self.setObjectName(name)
        self.setProperty("role", "card")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(10, 7, 10, 9)
        outer.setSpacing(5)
        head = QHBoxLayout()
        head.setSpacing(4)
        self.head = QToolButton()
        self.head.setProperty("role", "cardhead")
        self.head.setText(title)
        self.head.setObjectName(f"{name}.head")
        self.head.setAccessibleName(f"{title}: fold or unfold")
        self.head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.head.clicked.connect(lambda: self.set_open(not self.is_open))
        self.note = Note()
        self.more = QToolButton()
        self.more.setProperty("role", "cardhead")
        self.more.setObjectName(f"{name}.settings")
        self.more.setAccessibleName(f"Settings of {title}: defaults and usual ones")
        self.more.setToolTip("Put settings back to their defaults, or keep them as your usual ones")
        put_icon(self.more, "sliders-horizontal")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(self.more)
        menu.setObjectName(f"{name}.settings.menu")
        menu.aboutToShow.connect(self._fill_menu)
        self.more.setMenu(menu)
        self.menu = menu
        self.more.hide()
        self.head_line = head
        head.addWidget(self.head)
        head.addStretch(1)
        head.addWidget(self.note)
        head.addWidget(self.more)
        outer.addLayout(head)
        self.content = QWidget()
        self.body = QVBoxLayout(self.content)
        self.body.setContentsMargins(0, 0, 0, 0)
        self.body.setSpacing(6)
        if sentence:
            self.body.addWidget(label(sentence, "caption", wrap=True))
        outer.addWidget(self.content)
        self.kind = self.held_id = ""
        self.other_kinds: tuple[str, ...] = ()
        self.wanted: Callable[[State], bool] = lambda _: True
        self.is_open = True
        self.set_open(is_open)

    def set_open(self, is_open: bool) -> None:
        self.is_open = is_open
        self.content.setVisible(is_open)
        put_icon(self.head, "chevron-down" if is_open else "chevron-right")
        self.more.setVisible(is_open and bool(self.settings_shown))

    def row(self, *widgets: QWidget, stretch: int = 1) -> QHBoxLayout:
        """Widgets side by side."""
        line = side_by_side(*widgets, stretch=stretch)
        self.body.addLayout(line)
        return line

    def field(self, text: str, widget: QWidget) -> None:
        """A labelled setting."""
        line = QHBoxLayout()
        line.setSpacing(8)
        caption = label(text, "soft")
        caption.setFixedWidth(76)
        widget.setAccessibleName(text)
        line.addWidget(caption)
        line.addWidget(widget, 1)
        self.body.addLayout(line)

    # A subject

    def stays_on(self, kind: str, *others: str) -> None:
        """The card is about one picked thing of a kind, or of some: a pin in its head lets it stay on that while others are picked."""
        self.kind, self.other_kinds = kind, others
        self.pin = QToolButton()
        self.pin.setProperty("role", "cardhead")
        self.pin.setObjectName(f"{self.objectName()}.pin")
        self.pin.setCheckable(True)
        put_icon(self.pin, "pin")
        self.pin.setAccessibleName(f"{self.head.text()}: stay on this {kind}")
        self.pin.setToolTip(f"Stay on this {kind} while other things are picked")
        self.pin.clicked.connect(self._pin)
        self.head_line.insertWidget(self.head_line.indexOf(self.more), self.pin)

    def _pin(self, on: bool) -> None:
        self.held_id = self.subject_id(self.c.state) if on else ""
        self.pin.setChecked(bool(self.held_id))
        self.look_anew()

    def subject_id(self, state: State) -> str:
        """Id of what the card is about: what it stays on, as long as that is there, else what is picked; "" for nothing.
        A joint is told as `joint:` and its id where the card is about other things, too."""
        ids = state.ids_of(self.kind)
        if self.held_id in ids:
            return self.held_id
        if self.held_id.removeprefix(JOINT) in self._joints(state) and self.held_id.startswith(JOINT):
            return self.held_id
        picked = state.selection
        if picked.kind == "joint" and picked.lead in self._joints(state):
            return f"{JOINT}{picked.lead}"
        return picked.lead if picked.kind == self.kind and picked.lead in ids else ""

    def _joints(self, state: State) -> Collection[str]:
        return state.ids_of("joint") if "joint" in self.other_kinds else ()

    # Settings

    def bound(self) -> None:
        """A field was bound to a setting: the card's menu is for it too."""
        self.more.setVisible(self.is_open)

    def _kinds(self) -> tuple[type[Setting], ...]:
        return tuple(dict.fromkeys(kind for kind, _, _ in self.settings_shown))

    def _fill_menu(self) -> None:
        menu = self.menu
        menu.clear()
        menu.addAction("All back to their defaults", self.reset_all)
        menu.addAction("All back to my defaults", self.take_usual)
        menu.addAction("Keep all as my defaults", self.keep_all)
        menu.addSeparator()
        settings = self.c.state.settings
        for kind, name, _ in self.settings_shown:
            if name in kind.PASSING:
                continue
            word = self.field_word(kind, name)
            inner = menu.addMenu(word)
            assert inner is not None
            inner.addAction("Back to its default", partial(self.reset, kind, name))
            inner.addAction("Keep as my default", partial(self.keep, kind, name))
            changed = getattr(settings.of(kind), name) != getattr(kind(), name)
            inner.setTitle(f"{word}  •" if changed else word)

    def field_word(self, kind: type[Setting], name: str) -> str:
        """What a field is called on the screen."""
        widget = self.field_widgets.get((kind, name))
        said = widget.accessibleName() if widget is not None else ""
        return said or name.replace("_", " ")

    def reset(self, kind: type[Setting], name: str) -> None:
        """One setting back to its default."""
        self.c.store.put_setting(kind, **{name: getattr(kind(), name)})

    def keep(self, kind: type[Setting], name: str) -> None:
        """One setting kept as the user's usual one."""
        settings = self.c.state.settings
        self._keep(kind, {name: getattr(settings.of(kind), name)})

    def reset_all(self) -> None:
        """All back to the defaults that ship."""
        for kind in self._kinds():
            record = kind()
            self.c.store.put_setting(kind, **{n: getattr(record, n) for k, n, _ in self.settings_shown if k is kind})

    def take_usual(self) -> None:
        """All back to the user's usual ones."""
        for kind in self._kinds():
            record = self.c.state.settings.usual_of(kind)
            self.c.store.put_setting(kind, **{n: getattr(record, n) for k, n, _ in self.settings_shown if k is kind})

    def keep_all(self) -> None:
        """All as they stand kept as usual."""
        for kind in self._kinds():
            record = self.c.state.settings.of(kind)
            self._keep(kind, {n: getattr(record, n) for k, n, _ in self.settings_shown if k is kind})
        self.c.say("Kept: these settings stand so from now on")

    def _keep(self, kind: type[Setting], values: dict[str, object]) -> None:
        now = self.c.state.settings
        record = replace(now.usual_of(kind), **{n: v for n, v in values.items() if n not in kind.PASSING})  # type: ignore[type-var]
        self.c.store.put(settings=now.with_usual(record))
        keep_usual(self.c.state.settings)
