"""Pegs: the list of them, and where the picked one goes."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtSvgWidgets import QSvgWidget
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QListWidget, QListWidgetItem, QSpinBox

from pegloom.app.areas.joints.actions.pegs import set_fingers, set_toes
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import tick
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.joints import Side
from pegloom.core.skeleton.patterns import sentence
from pegloom.core.skeleton.pegs import PegSet, toes_of
from pegloom.document import edits
from pegloom.files.patterns import known_patterns
from pegloom.scene.sketch import sketch

SKETCH = 92
TOES = (0, 2, 3, 4, 5)
"""Numbers of single toes a foot may have."""
AGREE = 1e-4
"""Metres up to which both sides are said to agree."""


class PegsCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Pegs", "joints.pegs", sentence="Drag a peg in the view or in the slice window; a press only selects it."
        )
        q = c.actions.qactions
        self.patterns = known_patterns()
        self.fingers = QSpinBox()
        self.fingers.setObjectName("joints.finger_count")
        self.fingers.setAccessibleName("Fingers of a hand")
        self.fingers.setToolTip("Another number of fingers; all other pegs stay")
        self.fingers.setRange(0, 5)
        self.fingers.setKeyboardTracking(False)
        self.fingers.valueChanged.connect(lambda value: None if self.showing else set_fingers(c, value))
        both = tick(self, HandSettings, "both_sides", "Both sides at once", name="joints.both")
        self.finger_word, self.toe_word = label("Fingers", "soft"), label("Toes", "soft")
        self.toes = QComboBox()
        self.toes.setObjectName("joints.toe_count")
        self.toes.setAccessibleName("Single toes of a foot")
        self.toes.setToolTip("Single toes of each foot; all other pegs stay")
        for number in TOES:
            self.toes.addItem(str(number) if number else "none", number)
        self.toes.activated.connect(lambda _: set_toes(c, self.toes.currentData()))
        self.body.addWidget(both)
        line = self.row(self.finger_word, self.fingers, self.toe_word, self.toes, stretch=0)
        line.addStretch(1)
        self.list = QListWidget()
        self.list.setObjectName("joints.list")
        self.list.setAccessibleName("Pegs")
        self.list.setFixedHeight(134)
        for signal in (self.list.itemClicked, self.list.itemActivated):
            signal.connect(lambda item: c.store.select("peg", item.data(Qt.ItemDataRole.UserRole)))
        self.body.addWidget(self.list)
        place = QHBoxLayout()
        self.sketch = QSvgWidget()
        self.sketch.setObjectName("joints.sketch")
        self.sketch.setAccessibleName("Where the peg goes")
        self.sketch.setFixedSize(SKETCH, SKETCH)
        place.addWidget(self.sketch)
        self.where = label("", "caption", wrap=True, name="joints.sentence")
        self.where.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.where.setTextFormat(Qt.TextFormat.RichText)
        place.addWidget(self.where, 1)
        self.body.addLayout(place)
        self.row(action_button(q["joints.next_weak"]), action_button(q["joints.accept"]))
        self.row(action_button(q["joints.centre"]), action_button(q["joints.even"], "Mirror to right"))
        self.sides = label("", "caption", wrap=True, name="joints.sides")
        self.body.addWidget(self.sides)
        self.listed: PegSet | None = None

    def key(self, state: State) -> tuple[object, ...]:
        pegs = state.character.pegs if state.character is not None else None
        return (pegs, state.selection.kind, state.selection.ids)

    def show_state(self, state: State) -> None:
        pegs = state.character.pegs if state.character is not None else None
        if pegs is not self.listed:
            self.listed = pegs
            self._fill(pegs)
        hands = pegs is not None and has_hands(pegs)
        feet = pegs is not None and has_feet(pegs)
        for shown, widgets in ((hands, (self.fingers, self.finger_word)), (feet, (self.toes, self.toe_word))):
            for widget in widgets:
                widget.setVisible(shown)
        if pegs is not None:
            self.fingers.setValue(pegs.fingers)
            self.toes.setCurrentIndex(max(self.toes.findData(toes_of(pegs)), 0))
        weak = sum(p.weak for p in pegs.pegs) if pegs is not None else 0
        placed = sum(p.by_hand for p in pegs.pegs) if pegs is not None else 0
        self.note.setText((f"{weak} weak, " if weak else "") + f"{placed} placed" if pegs is not None else "")
        lead = state.selection.lead if state.selection.kind == "peg" else ""
        known = pegs is not None and bool(lead) and lead in pegs.by_name
        words = sentence(lead, pegs.pattern) if known and pegs is not None else "Select a peg to read where it goes."
        name = f"<b>{escape(lead.replace('_', ' '))}</b><br>" if known else ""
        self.where.setText(name + escape(words))
        self.sketch.setVisible(pegs is not None)
        self.list.setVisible(pegs is not None)
        if pegs is not None and pegs.pattern in self.patterns:
            drawn = sketch(self.patterns[pegs.pattern], kits_in(pegs), lead, size=SKETCH)
            self.sketch.load(QByteArray(drawn.encode()))
        self.sides.setText(_sides_said(pegs))
        for row in range(self.list.count()):
            item = self.list.item(row)
            assert item is not None
            item.setSelected(item.data(Qt.ItemDataRole.UserRole) in state.selection.ids)
            if item.data(Qt.ItemDataRole.UserRole) == lead:
                self.list.scrollToItem(item)

    def _fill(self, pegs: PegSet | None) -> None:
        bar = self.list.verticalScrollBar()
        row = bar.value() if bar is not None else 0
        self.list.clear()
        for peg in pegs.pegs if pegs is not None else ():
            found = "Weak guess" if peg.weak else f"Found {peg.confidence:.0%}"
            item = QListWidgetItem(f"{peg.name.replace('_', ' ')}    {'Placed' if peg.by_hand else found}")
            item.setData(Qt.ItemDataRole.UserRole, peg.name)
            self.list.addItem(item)
        if bar is not None:
            bar.setValue(row)


def has_hands(pegs: PegSet) -> bool:
    """Whether a body has hands that fingers go on."""
    return any(kit.kind == "finger" or (kit.part == "arm" and kit.ik) for kit in kits_in(pegs))


def has_feet(pegs: PegSet) -> bool:
    """Whether a body has feet that single toes go on."""
    return any(kit.kind == "toe" or (kit.part == "leg" and kit.ik and kit.side is Side.LEFT) for kit in kits_in(pegs))


def _sides_said(pegs: PegSet | None) -> str:
    gaps = edits.side_gaps(pegs) if pegs is not None else {}
    if not gaps:
        return ""
    worst = max(gaps, key=lambda n: gaps[n])
    if gaps[worst] < AGREE:
        return "Both sides agree."
    return f"Sides differ most at {worst[2:].replace('_', ' ')}: {100 * gaps[worst]:.1f} cm."
