"""Weaves: versions of the weights, compared along the seam, taken back, mixed."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QListWidget, QListWidgetItem

from pegloom.app.areas.weights.actions.weaves import chosen_weave
from pegloom.app.areas.weights.settings import WeaveSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label, tip
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number
from pegloom.app.widgets.panel import same
from pegloom.document import edits
from pegloom.document.edits.weaves import kept_as


class WeaveCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Weaves", "weights.weaves",
            sentence="Versions of the weights. Compare one along the seam; restore it, or only here.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.list = QListWidget()
        self.list.setObjectName("weights.weaves.list")
        self.list.setAccessibleName("Weaves")
        self.list.setFixedHeight(96)
        self.list.itemChanged.connect(self._rename)
        self.list.currentItemChanged.connect(self._choose)
        self.body.addWidget(self.list)
        self.row(action_button(q["weave.keep"], "Keep weave"), action_button(q["weave.take"], "Restore weave"))
        self.compare = action_button(q["weave.compare"], "Compare", role="main")
        self.compare.setCheckable(True)
        self.row(action_button(q["weave.drop"], "Forget weave"), self.compare)
        self.body.addWidget(action_button(q["weave.mix"], "Restore only on the selected vertices"))
        self.field(
            "Soft border",
            number(self, WeaveSettings, "border", 0.0, 50.0, name="weights.weaves.border", suffix=" cm"),
        )
        self.figure = label("", "caption", wrap=True, name="weights.weaves.figure")
        self.body.addWidget(self.figure)
        self.listed: tuple[object, ...] | None = None

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.weaves, one.skin) if one is not None else ()
        compared = state.viewing.compared
        return (*pieces, compared, chosen_weave(state), self.c.frames.pose if compared else None)

    def show_state(self, state: State) -> None:
        one, compared = state.character, state.viewing.compared
        weaves = one.weaves if one is not None else ()
        kept = kept_as(one) if one is not None else None
        in_hand = f"current: {kept.name}" if kept else "current: not kept"
        self.note.setText(f"{len(weaves)}, {in_hand}" if weaves else "none yet")
        self.compare.setChecked(bool(compared))
        rows = (weaves, kept)
        if self.listed is None or not same(rows, self.listed):
            self.listed = rows
            self.list.blockSignals(True)
            self.list.clear()
            for weave in weaves:
                item = QListWidgetItem(weave.name)
                item.setData(Qt.ItemDataRole.UserRole, weave.id)
                marks = [weave.skin.method, f"{weave.skin.influences} per vertex"]
                marks += ["surface relax"] if weave.skin.relax else []
                item.setToolTip(tip(", ".join(marks) + "; double-click to rename"))
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
                if weave is kept:
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                self.list.addItem(item)
            self.list.blockSignals(False)
        self._mark(chosen_weave(state))
        self.figure.setText(self.c.frames.difference_said if compared else "")
        self.figure.setVisible(bool(compared))

    def _mark(self, chosen: str) -> None:
        self.list.blockSignals(True)
        for row in range(self.list.count()):
            item = self.list.item(row)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) == chosen:
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)

    def _choose(self, item: QListWidgetItem | None) -> None:
        if item is not None and not self.showing:
            self.c.store.put_setting(WeaveSettings, chosen=item.data(Qt.ItemDataRole.UserRole))

    def _rename(self, item: QListWidgetItem) -> None:
        weave_id, name = item.data(Qt.ItemDataRole.UserRole), item.text()
        self.listed = None
        if not self.c.try_edit(f"Name a weave {name}", lambda d: edits.rename_weave(d, weave_id, name)):
            self.look_anew()
