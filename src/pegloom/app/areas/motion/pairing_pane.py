"""The pairing: which chain of the source is which part here, with what may be corrected about each."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from pegloom.app.areas.motion.borrowing import (
    BorrowSettings,
    chain_in_hand,
    correct,
    pairing_in_hand,
    pairing_open,
    say,
    settings,
    source_in_hand,
    toggle_pairing,
    wiggle,
)
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.theme import current, put_icon
from pegloom.app.widgets import action_button, button, label
from pegloom.app.widgets.fields import fill, narrow
from pegloom.app.widgets.panel import Panel
from pegloom.core.errors import PegLoomError
from pegloom.core.motion.retarget import ChainPair, Pairing, Source, part_title, stance_of, stood

SURE, DOUBT, NONE = "●", "◌", "○"
"""Marks of a pair: sure, doubtful, nothing paired."""


def wanted(state: State) -> bool:
    return pairing_open(state) and pairing_in_hand(state) is not None


class PairingPane(Panel):
    def __init__(self, c: Context) -> None:
        super().__init__(c)
        self.setObjectName("pairing.pane")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.setSpacing(7)
        head = QHBoxLayout()
        head.addWidget(label("Pairing", "area"))
        head.addStretch(1)
        shut = button("", "pairing.close", lambda: toggle_pairing(c), role="plain", tip="Close (Esc)")
        put_icon(shut, "x")
        head.addWidget(shut)
        column.addLayout(head)
        self.words = label("", "soft", wrap=True, name="pairing.words")
        column.addWidget(self.words)
        self.table = QTableWidget(0, 3)
        self.table.setObjectName("pairing.parts")
        self.table.setAccessibleName("Parts and what stands for them")
        self.table.setHorizontalHeaderLabels(["Part here", "In the source", "Sure"])
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.setColumnWidth(0, 124)
        self.table.setColumnWidth(2, 50)
        rows = self.table.verticalHeader()
        assert rows is not None
        rows.hide()
        rows.setDefaultSectionSize(24)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.itemSelectionChanged.connect(self._picked)
        column.addWidget(self.table, 1)
        self.about = QWidget()
        inner = QVBoxLayout(self.about)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(6)
        self.why = label("", "caption", wrap=True, name="pairing.why")
        inner.addWidget(self.why)
        line = QHBoxLayout()
        self.joint = QComboBox()
        self.joint.setObjectName("pairing.joint")
        self.joint.setAccessibleName("Where the chain begins in the source")
        self.joint.setToolTip("Where the chain begins in the source; the joints below it are filled in")
        narrow(self.joint)
        self.joint.activated.connect(lambda _: self._say(self.joint.currentData()))
        line.addWidget(label("Begins at", "caption"))
        line.addWidget(self.joint, 1)
        inner.addLayout(line)
        line = QHBoxLayout()
        line.addWidget(button("Wiggle", "pairing.wiggle.button", lambda: self._wiggle(), tip="Move it in the view to see which it is"))
        line.addWidget(button("Leave out", "pairing.leave", lambda: self._say(""), tip="The part stays at rest"))
        inner.addLayout(line)
        self.numbers: dict[str, QDoubleSpinBox] = {}
        for title, keys in (("Amount", ("amount",)), ("Turn", ("turn.x", "turn.y", "turn.z")), ("Reach", ("reach",))):
            line = QHBoxLayout()
            caption = label(title, "caption")
            caption.setFixedWidth(58)
            line.addWidget(caption)
            for key in keys:
                line.addWidget(self._number(key, title))
            inner.addLayout(line)
        self.planted = QCheckBox("Contacts hold it")
        self.planted.setObjectName("pairing.planted")
        self.planted.setAccessibleName("Contacts hold it")
        self.planted.clicked.connect(lambda on: correct(c, planted=bool(on)))
        inner.addWidget(self.planted)
        column.addWidget(self.about)
        q = c.actions.qactions
        for pair in (("pairing.rest_here", "Rest from here"), ("pairing.rest_found", "Rest as found")), (("pairing.save", "Save"), ("pairing.load", "Open"), ("pairing.anew", "Pair anew")):
            line = QHBoxLayout()
            line.setSpacing(6)
            for action, text in pair:
                line.addWidget(action_button(q[action], text))
            column.addLayout(line)

    def _number(self, key: str, title: str) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setObjectName(f"pairing.{key}")
        axis = key.rpartition(".")[2] if "." in key else ""
        box.setAccessibleName(f"{title} {axis}".strip())
        box.setKeyboardTracking(False)
        if key.startswith("turn"):
            box.setRange(-180.0, 180.0)
            box.setSingleStep(5.0)
            box.setDecimals(1)
            box.setSuffix("°")
            box.setToolTip(f"Degrees put on the whole chain about the first bone's {axis}")
        else:
            box.setRange(0.0 if key == "amount" else 0.3, 3.0 if key == "amount" else 1.5)
            box.setSingleStep(0.05)
            box.setDecimals(2)
            box.setToolTip("How much of the motion, about its mean" if key == "amount" else "How far the end stands from the base, as a factor")
        box.valueChanged.connect(partial(self._changed, key))
        self.numbers[key] = box
        return box

    def _changed(self, key: str, value: float) -> None:
        chain = chain_in_hand(self.c.state)
        if self.showing or chain is None:
            return
        if key.startswith("turn"):
            turn = list(chain.turn)
            turn["xyz".index(key[-1])] = value
            correct(self.c, turn=(turn[0], turn[1], turn[2]))
        else:
            correct(self.c, **{key: value})

    def _picked(self) -> None:
        rows = self.table.selectedItems()
        if self.showing or not rows:
            return
        part = rows[0].data(Qt.ItemDataRole.UserRole)
        if part != settings(self.c.state).picked:
            self.c.store.put_setting(BorrowSettings, picked=part, wiggled="", phase=0)

    def _say(self, joint: str) -> None:
        part = settings(self.c.state).picked
        if part and not self.showing:
            say(self.c, part, (joint,) if joint else ())

    def _wiggle(self) -> None:
        own = settings(self.c.state)
        wiggle(self.c, own.wiggled or (self.joint.currentData() or ""))

    def key(self, state: State) -> tuple[object, ...]:
        own = settings(state)
        return (pairing_in_hand(state), source_in_hand(state), own.picked, own.wiggled)

    def show_state(self, state: State) -> None:
        pairing, source = pairing_in_hand(state), source_in_hand(state)
        if pairing is None or source is None or state.character is None or state.character.skeleton is None:
            return
        try:
            read = stood(source, pairing.rest)
        except PegLoomError as error:
            self.words.setText(str(error))
            return
        have = sum(1 for p in pairing.chains if p.source)
        doubtful = sum(1 for p in pairing.chains if p.source and not p.sure)
        at = f"frame {round(read.frame * source.clip.rate)}" if read.frame is not None else "its own rest"
        self.words.setText(
            f"{have} of {len(pairing.chains)} parts{f', {doubtful} doubtful' if doubtful else ''}. "
            f"The source is read from {at} ({read.stance}); here the rest is {stance_of(state.character.skeleton)}."
        )
        self._show_parts(pairing, source, settings(state).picked)
        chain = pairing.of(settings(state).picked)
        self.about.setVisible(chain is not None)
        if chain is not None:
            self._show_chain(chain, source, settings(state).wiggled)

    def _show_parts(self, pairing: Pairing, source: Source, picked: str) -> None:
        self.table.setRowCount(len(pairing.chains))
        theme = current()
        for row, pair in enumerate(pairing.chains):
            mark = NONE if not pair.source else SURE if pair.sure else DOUBT
            names = [source.skeleton.joint(j).name for j in pair.source if j in source.skeleton.index]
            shown = names[0] if len(names) == 1 else f"{names[0]} … {names[-1]}" if names else "nothing"
            texts = (f"{mark} {part_title(pair.part)}", shown, "by hand" if pair.by_hand else f"{pair.confidence:.0%}" if names else "")
            for column, text in enumerate(texts):
                item = self.table.item(row, column)
                if item is None:
                    item = QTableWidgetItem()
                    self.table.setItem(row, column, item)
                item.setText(text)
                item.setData(Qt.ItemDataRole.UserRole, pair.part)
                item.setToolTip("; ".join([", ".join(names), *([pair.why] if pair.why else [])]))
                item.setForeground(QColor(theme.text if pair.source and pair.sure else theme.madder if pair.source else theme.soft))
            if pair.part == picked and self.table.currentRow() != row:
                self.table.setCurrentCell(row, 0)

    def _show_chain(self, chain: ChainPair, source: Source, pointed: str) -> None:
        self.why.setText(chain.why or ("paired by hand" if chain.by_hand else "told by shape and name"))
        options = [("nothing", ""), *((j.name, j.id) for j in source.skeleton.joints)]
        fill(self.joint, options)
        wanted_joint = pointed or (chain.source[0] if chain.source else "")
        self.joint.blockSignals(True)
        self.joint.setCurrentIndex(max(self.joint.findData(wanted_joint), 0))
        self.joint.blockSignals(False)
        values = {"amount": chain.amount, "reach": chain.reach, "turn.x": chain.turn[0], "turn.y": chain.turn[1], "turn.z": chain.turn[2]}
        for key, value in values.items():
            if not self.numbers[key].hasFocus() or abs(self.numbers[key].value() - value) > 1e-9:
                self.numbers[key].setValue(value)
        self.planted.setChecked(chain.planted)
