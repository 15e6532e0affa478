"""Weaves: versions of the weights, compared along the seam, taken back, mixed."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDoubleSpinBox, QListWidget, QListWidgetItem

from pegloom.app.actions import Actions
from pegloom.app.session import Session
from pegloom.app.widgets import Card, action_button, label, tip
from pegloom.document import edits
from pegloom.document.edits.weaves import kept_as


class WeaveCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__(
            "Weaves", "weights.weaves",
            sentence="Versions of the weights. Compare one along the seam; take it back, or only here.",
            is_open=False,
        )  # fmt: skip
        self.session = session
        self.list = QListWidget()
        self.list.setObjectName("weights.weaves.list")
        self.list.setAccessibleName("Weaves")
        self.list.setFixedHeight(96)
        self.list.itemChanged.connect(self._rename)
        self.body.addWidget(self.list)
        self.row(
            action_button(actions.qactions["weave.keep"], "Keep"),
            action_button(actions.qactions["weave.take"], "Take back"),
            action_button(actions.qactions["weave.drop"], "Forget"),
        )
        self.compare = action_button(actions.qactions["weave.compare"], "Compare", role="main")
        self.compare.setCheckable(True)
        self.row(self.compare, action_button(actions.qactions["weave.mix"], "Only on selected"))
        self.border = QDoubleSpinBox()
        self.border.setObjectName("weights.weaves.border")
        self.border.setRange(0.0, 50.0)
        self.border.setValue(2.0)
        self.border.setSuffix(" cm")
        self.field("Soft border", self.border)
        self.figure = label("", "caption", wrap=True, name="weights.weaves.figure")
        self.body.addWidget(self.figure)
        self.listed: object = None

    @property
    def chosen(self) -> str:
        """The id of the weave picked in the list, else the compared one, else ""."""
        item = self.list.currentItem()
        return item.data(Qt.ItemDataRole.UserRole) if item is not None else self.session.compared

    def show_document(self) -> None:
        session, character = self.session, self.session.character
        weaves = character.weaves if character else ()
        kept = kept_as(character) if character else None
        self.note.setText(
            f"{len(weaves)}, {'in hand: ' + kept.name if kept else 'in hand: not kept'}" if weaves else "none yet"
        )
        self.compare.setChecked(bool(session.compared))
        key = (weaves, kept, session.compared)
        if self.listed != key:
            self.listed = key
            chosen = self.chosen
            self.list.blockSignals(True)
            self.list.clear()
            for weave in weaves:
                item = QListWidgetItem(weave.name)
                item.setData(Qt.ItemDataRole.UserRole, weave.id)
                marks = [weave.skin.method, f"{weave.skin.influences} a vertex"]
                marks += ["surface relax"] if weave.skin.relax else []
                item.setToolTip(tip(", ".join(marks) + "; double-click to rename"))
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsEditable)
                if weave is kept:
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                self.list.addItem(item)
                if weave.id == chosen:
                    self.list.setCurrentItem(item)
            self.list.blockSignals(False)
        self.figure.setText(session.difference_said if session.compared else "")
        self.figure.setVisible(bool(session.compared))

    def _rename(self, item: QListWidgetItem) -> None:
        weave_id, name = item.data(Qt.ItemDataRole.UserRole), item.text()
        self.listed = None
        if not self.session.try_edit(f"Name a weave {name}", lambda d: edits.rename_weave(d, weave_id, name)):
            self.show_document()
