"""The tag of what is selected: a luggage tag with the handful of values that matter here."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence

from PyQt6.QtCore import QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLayoutItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.context import Context
from pegloom.app.panels.tags import TAGS
from pegloom.app.panels.tags.form import Form
from pegloom.app.state.state import PickSettings, Selection, State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import button, label
from pegloom.app.widgets.numbers import NumberBox, ScrubLabel
from pegloom.app.widgets.panel import Panel
from pegloom.core.rig.channels import Quantity


def _put_away(item: QLayoutItem | None) -> None:
    """A field goes later, never at once: it may be its own signal that has the tag built anew."""
    widget = item.widget() if item is not None else None
    if widget is not None:
        widget.hide()
        widget.setObjectName("")
        widget.deleteLater()

Scrub = Callable[[str, float, bool], None]
CLEAR = 36
"""Pixels around its subject that a tag leaves free when it opens."""


class Tag(Panel):
    """A small panel over the stage; drag it by its head.

    holds : what a pinned tag stays with; without, the tag shows what is selected.
    stem : what its widgets' names begin with. `pin_pressed` asks to be pinned, or let go; `others` are the tags to
        keep clear of, `pixel_of` tells where a subject is in the view, which the tag does not cover when it opens.
    """

    pin_pressed = pyqtSignal()
    always = True

    def __init__(
        self, c: Context, stage: QWidget, *, holds: Selection | None = None, stem: str = "tag"
    ) -> None:
        super().__init__(c, stage)
        self.setObjectName(stem)
        self.setProperty("role", "tag")
        self.holds, self.stem = holds, stem
        self.others: Callable[[], list[Tag]] = list
        self.pixel_of: Callable[[Selection], QPoint | None] = lambda _: None
        self.opened: tuple[Selection, QRect] | None = None
        self.setMinimumWidth(232)
        self.grabbed: QPoint | None = None
        self.folded_by_hand: bool | None = None
        """Whether a hand folded or unfolded it; None: it folds by itself where the pick card leaves it little room."""
        self.moved_by_hand = False
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        column.setSpacing(6)
        column.setSizeConstraint(QVBoxLayout.SizeConstraint.SetFixedSize)
        head = QHBoxLayout()
        self.name = label("", "heading", name=f"{stem}.name")
        self.kind = label("", "caption", name=f"{stem}.kind")
        head.addWidget(self.name)
        head.addStretch(1)
        head.addWidget(self.kind)
        tip = "Keep this tag while other things are picked" if holds is None else "Let this tag go"
        self.pin = button("", f"{stem}.pin", self.pin_pressed.emit, role="plain", tip=tip)
        put_icon(self.pin, "pin" if holds is None else "x")
        self.pin.setAccessibleName(tip)
        head.addWidget(self.pin)
        self.fold = button("", f"{stem}.fold", self._toggle, role="plain", tip="Fold or unfold the tag")
        put_icon(self.fold, "chevron-down")
        self.fold.setAccessibleName("Fold or unfold the tag")
        head.addWidget(self.fold)
        column.addLayout(head)
        self.content = QWidget()
        inner = QVBoxLayout(self.content)
        inner.setContentsMargins(0, 0, 0, 0)
        self.form = QFormLayout()
        self.form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        self.form.setHorizontalSpacing(10)
        self.form.setVerticalSpacing(4)
        inner.addLayout(self.form)
        self.fields: dict[str, NumberBox] = {}
        self.choices: dict[str, QComboBox] = {}
        self.drivers: dict[str, str] = {}
        self.groups: dict[str, tuple[QToolButton, int]] = {}
        self.groups_end, self.open_group = 0, ""
        self.texts: dict[str, QLabel] = {}
        self.form_of: Form | None = None
        self.buttons = QHBoxLayout()
        inner.addLayout(self.buttons)
        column.addWidget(self.content)
        self.built_for: tuple[Hashable, ...] = ()
        self.hide()

    def _toggle(self) -> None:
        self.folded_by_hand = not self.content.isHidden()
        self._fold(self.folded_by_hand)
        self.refresh()

    def _fold(self, folded: bool) -> None:
        if folded is not self.content.isHidden():
            self.content.setVisible(not folded)
            put_icon(self.fold, "chevron-right" if folded else "chevron-down")

    @property
    def subject(self) -> Selection:
        """What the tag tells of."""
        return self.holds if self.holds is not None else self.c.state.selection

    @property
    def lead(self) -> str:
        return self.subject.lead

    def key(self, state: State) -> tuple[object, ...]:
        others = tuple((tag.subject.kind, tag.subject.ids) for tag in self.others() if tag.holds is not None)
        return (
            self.subject.kind, self.subject.ids, others, state.character, self.c.frames.control_pose,
            state.viewing.clean_view, state.viewing.panes, state.area, state.settings.of(PickSettings),
        )  # fmt: skip

    def show_state(self, state: State) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the subject, or hide where there is none to tell of."""
        selection, state = self.subject, self.c.state
        form = TAGS.get(selection.kind)
        # A pane beside the view tells more, and leaves less room.
        beside = any(pane.id in state.viewing.panes for pane in self.c.area.panes)
        seen = form is not None and state.character is not None and bool(selection.lead) and not state.viewing.clean_view
        seen = seen and not beside and form is not None and form.there(state, selection.lead)
        if seen and self.holds is None:
            # One tag is enough for one thing.
            seen = not any(tag.holds is not None and tag.subject == selection for tag in self.others())
        if not seen or form is None:
            self.hide()
            self.built_for = ()
            return
        wanted = (selection.kind, selection.lead, form.made_of(self.c, selection.lead))
        if self.built_for != wanted:
            self._empty()
            self.form_of = form(self, self.c, selection.lead)
            self.form_of.build()
            self.built_for = wanted
        if self.folded_by_hand is None and self.holds is None:
            chosen = state.settings.of(PickSettings)
            self._fold(chosen.open and not chosen.apart and any(pane.id == "pick" for pane in self.c.area.panes))
        more = f" and {len(selection.ids) - 1} more" if len(selection.ids) > 1 else ""
        self.kind.setText(selection.kind + more)
        assert self.form_of is not None
        was, self.showing = self.showing, True
        self.form_of.show()
        self.showing = was
        self.show()
        self.fit()
        self.raise_()

    def _empty(self) -> None:
        while self.form.rowCount():
            row = self.form.takeRow(0)
            _put_away(row.labelItem)
            _put_away(row.fieldItem)
        while self.buttons.count():
            _put_away(self.buttons.takeAt(0))
        self.fields, self.texts, self.groups, self.choices, self.drivers = {}, {}, {}, {}, {}

    def group(self, title: str) -> None:
        """What is added from here on folds under a title; one group is open at a time."""
        head = QToolButton()
        head.setProperty("role", "cardhead")
        head.setText(title)
        head.setObjectName(f"{self.stem}.group.{title.lower()}")
        head.setAccessibleName(f"{title}: fold or unfold")
        head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        head.clicked.connect(lambda: self._open(title))
        self.form.addRow(head)
        self.groups[title] = (head, self.form.rowCount())

    def end_groups(self) -> None:
        """All groups are there: show the one that was open last, the first where it is none of these."""
        self.groups_end = self.form.rowCount()
        if self.groups:
            self._open(self.open_group if self.open_group in self.groups else next(iter(self.groups)), toggle=False)

    def _open(self, title: str, *, toggle: bool = True) -> None:
        closes = toggle and self.open_group == title
        self.open_group = "" if closes else title
        starts = [first for _, first in self.groups.values()] + [self.groups_end + 1]
        for k, (name, (head, first)) in enumerate(self.groups.items()):
            shown = name == self.open_group
            put_icon(head, "chevron-down" if shown else "chevron-right")
            for row in range(first, starts[k + 1] - 1):
                self.form.setRowVisible(row, shown)
        self.fit()

    def fit(self) -> None:
        """Take the size of what is shown."""
        layout = self.layout()
        assert layout is not None
        self.content.adjustSize()
        layout.activate()
        self.resize(layout.sizeHint())
        if self.isVisible():
            self.place()

    def field(
        self, key: str, text: str, commit: Callable[[str, float], None], quantity: Quantity = Quantity.NUMBER, *,
        scrub: Scrub | None = None,
    ) -> None:  # fmt: skip
        """A number, given to commit(key, value) when the user changes it. scrub(key, change, over) : what its caption does
        when it is dragged sideways, the change since the press so far."""
        box = NumberBox()
        box.setObjectName(f"{self.stem}.{key}")
        box.setAccessibleName(text)
        box.setRange(-1e6, 1e6)
        box.setDecimals(2)
        box.setSingleStep(0.1 if quantity in (Quantity.SHARE, Quantity.FACTOR) else 1.0)
        box.setKeyboardTracking(False)
        box.setSuffix({Quantity.LENGTH: " cm", Quantity.ANGLE: "°"}.get(quantity, ""))
        box.valueChanged.connect(lambda value, k=key: commit(k, value))
        caption = ScrubLabel(text) if scrub is not None else label(text, "soft")
        if isinstance(caption, ScrubLabel) and scrub is not None:
            step = 0.25 * box.singleStep()
            caption.scrubbed.connect(lambda steps, k=key: scrub(k, step * steps, False))
            caption.ended.connect(lambda k=key, c=caption: scrub(k, step * c.steps, True))
        self.form.addRow(caption, box)
        self.fields[key] = box

    def options(self, key: str, text: str, words: Sequence[str], commit: Callable[[str, float], None]) -> None:
        """One of some options, its number given to commit(key, number)."""
        box = QComboBox()
        box.setObjectName(f"{self.stem}.{key}")
        box.setAccessibleName(text)
        for k, word in enumerate(words):
            box.addItem(word, k)
        box.activated.connect(lambda number, k=key: commit(k, float(number)))
        self.form.addRow(label(text, "soft"), box)
        self.choices[key] = box

    def put_option(self, key: str, number: int) -> None:
        """Show the option of a number."""
        self.choices[key].setCurrentIndex(min(max(number, 0), self.choices[key].count() - 1))

    def driven(self, key: str, words: str, go: Callable[[], None]) -> None:
        """A field that others drive: a thread beside its name says by what, and leads there."""
        box: QWidget | None = self.fields.get(key) or self.choices.get(key)
        if box is None:
            return
        box.setProperty("driven", True)
        box.setToolTip(words)
        self.drivers[key] = words
        caption = self.form.labelForField(box)
        if isinstance(caption, QLabel):
            caption.setTextFormat(Qt.TextFormat.RichText)
            caption.setText(f'<a style="text-decoration:none; color:{current().woad}" href="#">⤷</a> {caption.text()}')
            caption.setToolTip(f"{words}: click the arrow to go there")
            caption.linkActivated.connect(lambda _: go())

    def text(self, key: str, text: str) -> None:
        """A line of words."""
        value = label("", "figure", name=f"{self.stem}.{key}")
        self.form.addRow(label(text, "soft"), value)
        self.texts[key] = value

    def put(self, key: str, value: float, *, several: bool = False) -> None:
        """Show a number, unless the user is typing one. several : it is one of several that differ, which the field says."""
        box = self.fields[key]
        box.show_number(value, several=several)
        box.setToolTip("What is picked differs here; a number goes to all of it" if several else self.drivers.get(key, ""))

    def place(self) -> None:
        """Keep inside the stage; until dragged, in its upper right corner."""
        stage = self.parentWidget()
        assert stage is not None
        if not self.moved_by_hand:
            self.move(self._free_place(stage.size()))
        x = min(max(self.x(), 4), max(stage.width() - self.width() - 4, 4))
        y = min(max(self.y(), 4), max(stage.height() - self.height() - 4, 4))
        self.move(x, y)

    def _free_place(self, stage: QSize) -> QPoint:
        """The upper right corner, or where other tags and the subject leave room: under them, else left of them."""
        taken = [tag.geometry() for tag in self.others() if tag is not self and tag.isVisible()]
        if self.opened is None or self.opened[0] != self.subject:
            # Looked at once: a tag that made way for what is dragged would hop about.
            pixel = self.pixel_of(self.subject)
            self.opened = (self.subject, QRect() if pixel is None else QRect(pixel - QPoint(CLEAR, CLEAR), QSize(2 * CLEAR, 2 * CLEAR)))
        if not self.opened[1].isNull():
            taken.append(self.opened[1])
        right, low = stage.width() - self.width() - 16, stage.height() - self.height() - 16
        spots = [QPoint(right, 64), *(QPoint(right, g.bottom() + 9) for g in taken), QPoint(right, low)]
        spots += [QPoint(g.left() - self.width() - 8, g.top()) for g in taken]
        spots.append(QPoint(16, 96))
        for spot in spots:
            mine = QRect(spot, self.size())
            inside = mine.bottom() < stage.height() - 4 and mine.left() > 4
            if inside and not any(mine.intersects(g) for g in taken):
                return spot
        return spots[0]

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if self.isVisible():
            # It takes its size when its fields are laid out, after it was placed.
            self.place()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() == Qt.MouseButton.LeftButton:
            self.grabbed = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.grabbed is not None:
            self.moved_by_hand = True
            self.move(self.mapToParent(event.position().toPoint()) - self.grabbed)
            self.place()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.grabbed = None
