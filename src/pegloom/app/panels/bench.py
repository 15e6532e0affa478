"""The column of a work area's cards, made from its spec."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from pegloom.app.context import Context
from pegloom.app.spec import AreaSpec
from pegloom.app.state.state import State
from pegloom.app.widgets import button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.panel import Panel
from pegloom.checks import Severity


class Head(Panel):
    """The area's title, and how many snags it has."""

    def __init__(self, c: Context, spec: AreaSpec, bench: Bench) -> None:
        super().__init__(c)
        self.spec = spec
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(label(spec.title, "area"))
        line.addStretch(1)
        self.line = label(spec.line, "caption")
        self.line.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom)
        line.addWidget(self.line)
        self.doubts = button("0 snags", f"{spec.id}.doubts", bench.show_snags, role="doubts")
        self.doubts.setToolTip("Go to them, below in this column")
        self.doubts.hide()
        line.addWidget(self.doubts)
        self.listed = bench.snag_card is not None
        self.bench = bench

    def key(self, state: State) -> tuple[object, ...]:
        return (state.snags, *(card.wanted(state) for card in self.bench.cards))

    def show_state(self, state: State) -> None:
        for card in self.bench.cards:
            card.setVisible(card.wanted(state))
        count = sum(s.area == self.spec.id for s in state.snags if s.severity is not Severity.NOTE)
        self.doubts.setText("1 snag" if count == 1 else f"{count} snags")
        self.doubts.setAccessibleName(f"{self.doubts.text()}: go to the list")
        self.doubts.setVisible(count > 0 and self.listed)
        self.line.setVisible(not self.doubts.isVisibleTo(self))


class Bench(QScrollArea):
    """Scrolls up and down alone."""

    def __init__(self, c: Context, spec: AreaSpec) -> None:
        super().__init__()
        self.c, self.spec = c, spec
        self.setObjectName(f"bench.{spec.id}")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        self.column = QVBoxLayout(inner)
        self.column.setContentsMargins(8, 10, 8, 10)
        self.column.setSpacing(8)
        self.cards: tuple[Card, ...] = tuple(make(c) for make in spec.cards)
        self.head = Head(c, spec, self)
        self.column.addWidget(self.head)
        for card in self.cards:
            self.column.addWidget(card)
        self.column.addStretch(1)
        self.setWidget(inner)

    @property
    def snag_card(self) -> Card | None:
        """The card that lists what is wrong."""
        return next((card for card in self.cards if card.lists_snags), None)

    def show_snags(self) -> None:
        """Unfold the card that lists the snags and bring it into sight."""
        card, inner = self.snag_card, self.widget()
        if card is None or inner is None:
            return
        card.set_open(True)
        card.look()
        self.column.activate()
        inner.adjustSize()
        self.ensureWidgetVisible(card.content, 0, 12)
        self.ensureWidgetVisible(card.head, 0, 12)
