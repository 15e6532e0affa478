"""The characters of this document: which is in hand, which are seen, where they stand, who carries whom, what they play."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.areas.motion import figuring
from pegloom.app.areas.motion.figuring import FiguresSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import fill, narrow
from pegloom.app.widgets.layouts import side_by_side
from pegloom.app.widgets.numbers import NumberBox
from pegloom.core.motion.together import LARGEST, SMALLEST, Stand
from pegloom.core.said import counted
from pegloom.document.model import Character, Document
from pegloom.document.world import clip_of, prefixes

ROW = 20
"""Pixels a row of the list is high."""
MOST_ROWS = 6
FAR = 1e4
"""Metres a figure is put from the middle at most."""


class FiguresCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Figures", "motion.figures", is_open=False,
            sentence="Several characters in one document; one is in hand, a double click in the view takes another. Ticked ones are seen and exported.",
        )  # fmt: skip
        q = c.actions.qactions
        self.list = QListWidget()
        self.list.setObjectName("figures.list")
        self.list.setAccessibleName("Characters of this document")
        self.list.itemChanged.connect(self._ticked)
        self.list.itemClicked.connect(self._take)
        self.list.itemActivated.connect(self._take)
        self.body.addWidget(self.list)
        self.row(action_button(q["figures.bring"], "Bring in"), action_button(q["character.duplicate"], "Duplicate"), action_button(q["figures.drop"], "Remove"))
        self.about = QWidget()
        column = QVBoxLayout(self.about)
        column.setContentsMargins(0, 2, 0, 0)
        column.setSpacing(6)
        whole, self.body = self.body, column
        self._named()
        self._placed()
        self._plays()
        self._carried()
        self.body = whole
        self.body.addWidget(self.about)
        self.seen: tuple[object, ...] = ()

    # What it is made of

    def _named(self) -> None:
        self.name, self.prefix = QLineEdit(), QLineEdit()
        self.name.setObjectName("figures.name")
        self.name.editingFinished.connect(lambda: figuring.rename(self.c, self.name.text()))
        self.field("Name", self.name)
        self.prefix.setObjectName("figures.prefix")
        self.prefix.setToolTip("Goes before this character's names where several are exported, so that none meet")
        self.prefix.editingFinished.connect(lambda: figuring.prefix(self.c, self.prefix.text()))
        self.field("Prefix", self.prefix)

    def _placed(self) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(4)
        self.places: list[NumberBox] = []
        for k, (text, tip) in enumerate((("Across", "Metres along the world's X"), ("Up", "Metres above the ground"), ("Ahead", "Metres along the world's Z"))):
            box = self._number(f"figures.at{k}", text, -FAR, FAR, " m", 0.1, 2, lambda _: self._moved())
            box.setToolTip(tip)
            self.places.append(box)
        self.turned = self._number("figures.turned", "Turned", -360.0, 360.0, "°", 15.0, 1, lambda v: figuring.place(self.c, heading=float(np.radians(v))))
        self.sized = self._number("figures.size", "Size", SMALLEST, LARGEST, " ×", 0.1, 3, lambda v: figuring.place(self.c, scale=v))
        across, up, ahead = self.places
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        for k, (text, box) in enumerate((("Across", across), ("Ahead", ahead), ("Up", up), ("Turned", self.turned), ("Size", self.sized))):
            row, column = divmod(k, 2)
            grid.addWidget(label(text, "soft"), row, 2 * column)
            grid.addWidget(box, row, 2 * column + 1)
        grid.addWidget(action_button(self.c.actions.qactions["figures.place"], "In the view"), 2, 2, 1, 2)
        self.where = label("", "caption", wrap=True)
        self.body.addLayout(grid)
        self.body.addWidget(self.where)

    def _plays(self) -> None:
        self.clip = QComboBox()
        narrow(self.clip)
        self.clip.setObjectName("figures.clip")
        self.clip.activated.connect(lambda _: figuring.play(self.c, clip=self.clip.currentData()))
        self.field("Plays", self.clip)
        self.start = self._number("figures.start", "From", -FAR, FAR, " s", 0.1, 2, lambda v: figuring.play(self.c, start=v))
        self.loops = QCheckBox("Again and again")
        self.loops.setObjectName("figures.loops")
        self.loops.setAccessibleName("Again and again")
        self.loops.clicked.connect(lambda on: figuring.play(self.c, loops=on))
        self.field("From", self.start)
        self.row(self.loops, action_button(self.c.actions.qactions["figures.play"], "Play all"))

    def _carried(self) -> None:
        self.stands = QVBoxLayout()
        self.stands.setSpacing(3)
        self.body.addLayout(self.stands)
        self.carrier, self.joint = QComboBox(), QComboBox()
        for box, name, field in ((self.carrier, "figures.carrier", "carrier"), (self.joint, "figures.joint", "joint")):
            narrow(box)
            box.setObjectName(name)
            box.setAccessibleName("Of another figure" if field == "carrier" else "Its joint")
            box.activated.connect(partial(self._chosen, box, field))
        self.carry_row = QWidget()
        column = QVBoxLayout(self.carry_row)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        whole, self.body = self.body, column
        self.field("Of another", self.carrier)
        self.field("Its joint", self.joint)
        q = self.c.actions.qactions
        self.row(action_button(q["figures.carry"], "Carries this"), action_button(q["figures.set_down"], "Set down now"))
        self.row(action_button(q["figures.follow"], "Picked control follows it"), action_button(q["hold.let_go"], "Let go"))
        self.body = whole
        self.body.addWidget(self.carry_row)

    def _number(self, name: str, said: str, low: float, high: float, unit: str, step: float, decimals: int, told: Callable[[float], object]) -> NumberBox:
        box = NumberBox()
        box.setObjectName(name)
        box.setAccessibleName(said)
        box.setDecimals(decimals)
        box.setRange(low, high)
        box.setSuffix(unit)
        box.setSingleStep(step)
        box.setKeyboardTracking(False)
        box.setProperty("role", "narrow")
        # As wide as the card has room for, not as what it might come to say.
        box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        box.valueChanged.connect(told)
        return box

    # What the user does

    def _ticked(self, item: QListWidgetItem) -> None:
        if not self.showing:
            figuring.show(self.c, item.data(Qt.ItemDataRole.UserRole), item.checkState() == Qt.CheckState.Checked)

    def _take(self, item: QListWidgetItem) -> None:
        figuring.take(self.c, item.data(Qt.ItemDataRole.UserRole))

    def _moved(self) -> None:
        if not self.showing:
            x, y, z = (box.value() for box in self.places)
            figuring.place(self.c, at=(x, y, z))

    def _chosen(self, box: QComboBox, field: str, _: int) -> None:
        changes = {field: box.currentData()}
        if field == "carrier":
            changes["joint"] = ""
        self.c.store.put_setting(FiguresSettings, **changes)

    # What it shows

    def key(self, state: State) -> tuple[object, ...]:
        return (*state.document.characters, state.document.active, state.settings.of(FiguresSettings), self._number_of_stand(state))

    @staticmethod
    def _number_of_stand(state: State) -> int:
        return state.character.figure.stand_at(state.common_time) if state.character is not None else 0

    def show_state(self, state: State) -> None:
        document, one = state.document, state.character
        self.note.setText(str(len(document.characters)) if len(document.characters) > 1 else "one")
        self._list(document)
        self.about.setVisible(one is not None)
        if one is None:
            return
        if not self.name.hasFocus():
            self.name.setText(one.name)
        self.prefix.setPlaceholderText(prefixes(document)[one.id])
        if not self.prefix.hasFocus():
            self.prefix.setText(one.prefix)
        number = self._number_of_stand(state)
        stand = one.figure.stands[number]
        for box, value in zip(self.places, stand.stance.at, strict=True):
            box.show_number(value)
        self.turned.show_number(float(np.degrees(stand.stance.heading)))
        self.sized.show_number(stand.stance.scale)
        self.where.setText("Told from the joint that carries it at this moment" if stand.carrier else "")
        self.where.setVisible(bool(stand.carrier))
        fill(self.clip, [("its pose", ""), *((clip.name, clip.id) for clip in one.clips)])
        self.clip.setCurrentIndex(max(self.clip.findData(one.figure.clip), 0))
        self.start.show_number(one.figure.start)
        self.loops.setChecked(one.figure.loops)
        moves = clip_of(one) is not None
        self.start.setEnabled(moves)
        self.loops.setEnabled(moves)
        self._stands(document, one, number)
        self._carriers(state, document, one)

    def _list(self, document: Document) -> None:
        self.list.blockSignals(True)
        self.list.clear()
        for k, one in enumerate(document.characters):
            clip = clip_of(one)
            item = QListWidgetItem(f"{one.name}{f'  —  {clip.name}' if clip is not None else ''}")
            item.setData(Qt.ItemDataRole.UserRole, one.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if one.figure.shown else Qt.CheckState.Unchecked)
            item.setToolTip(f"{counted(len(one.parts), 'part')}, {counted(len(one.clips), 'clip')}; click takes it in hand, the tick shows and hides it")
            self.list.addItem(item)
            item.setSelected(k == document.active)
        self.list.setFixedHeight(ROW * min(max(len(document.characters), 1), MOST_ROWS) + 4)
        self.list.blockSignals(False)

    def _stands(self, document: Document, one: Character, now: int) -> None:
        clear(self.stands)
        if len(one.figure.stands) == 1 and not one.figure.stands[0].carrier:
            return
        for k, stand in enumerate(one.figure.stands):
            said = label(_said(document, stand), "soft" if k != now else "")
            if k == 0:
                self.stands.addLayout(side_by_side(label("At first", "soft"), said, stretch=0))
                continue
            at = QDoubleSpinBox()
            at.setObjectName(f"figures.stand{k}")
            at.setAccessibleName(f"Handed on, {k}")
            at.setRange(0.0, FAR)
            at.setDecimals(2)
            at.setSuffix(" s")
            at.setKeyboardTracking(False)
            at.setValue(stand.start)
            at.setFixedWidth(82)
            at.valueChanged.connect(partial(figuring.time_stand, self.c, k))
            drop = button("×", f"figures.drop_stand{k}", partial(figuring.drop_stand, self.c, k), role="plain", tip="Forget this moment; what was before goes on")
            drop.setAccessibleName(f"Forget moment {k}")
            line = side_by_side(at, said, drop, stretch=0)
            line.setStretch(1, 1)
            self.stands.addLayout(line)

    def _carriers(self, state: State, document: Document, one: Character) -> None:
        others = [c for c in document.characters if c.id != one.id]
        self.carry_row.setVisible(bool(others))
        own = state.settings.of(FiguresSettings)
        fill(self.carrier, [("choose", ""), *((c.name, c.id) for c in others)])
        self.carrier.setCurrentIndex(max(self.carrier.findData(own.carrier), 0))
        by = next((c for c in others if c.id == own.carrier), None)
        joints = by.skeleton.joints if by is not None and by.skeleton is not None else ()
        fill(self.joint, [("itself", ""), *((j.name, j.id) for j in joints)])
        self.joint.setCurrentIndex(max(self.joint.findData(own.joint), 0))


def _said(document: Document, stand: Stand) -> str:
    """Who carries it, in words."""
    by = next((c for c in document.characters if c.id == stand.carrier), None)
    if by is None:
        return "in the world"
    joint = by.skeleton.joint(stand.joint).name if by.skeleton is not None and stand.joint in by.skeleton.index else ""
    return f"{by.name.split(',')[0]}{f', {joint}' if joint else ''}"
