"""Brush: strokes on the posed surface."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QInputDialog, QPushButton

from pegloom.app.actions import Actions
from pegloom.app.ladder import keep_ladder
from pegloom.app.session import BrushMode, Painting, Session, Tool
from pegloom.app.widgets import Card, Choices, SliderRow, action_button, label
from pegloom.scene.lenses import Lens


class BrushCard(Card):
    def __init__(self, session: Session, actions: Actions) -> None:
        super().__init__("Brush", "weights.brush")
        self.session = session
        modes = list(BrushMode)
        self.rows = [
            Choices("weights.brush", [(m.value, m) for m in some], self._take_brush) for some in (modes[:4], modes[4:])
        ]
        self.buttons = {mode: made for row in self.rows for mode, made in row.buttons.items()}
        for mode, made in self.buttons.items():
            made.setToolTip(mode.says[0].upper() + mode.says[1:])
        for row in self.rows:
            row.group.setExclusive(False)
            self.body.addWidget(row)
        self.painting = QComboBox()
        self.painting.setObjectName("weights.painting")
        for option in Painting:
            self.painting.addItem(option.value, option)
        self.painting.activated.connect(lambda _: self._paint(self.painting.currentData()))
        self.field("Paints", self.painting)
        self.size = SliderRow("weights.brush.size", 0.005, 0.2, self._centimetres, lambda v: self._set(radius=v))
        self.strength = SliderRow(
            "weights.brush.strength", 0.05, 1.0, lambda v: f"{v:.2f}", lambda v: self._set(strength=v)
        )
        self.edge = SliderRow("weights.brush.edge", 0.0, 0.95, _edge_word, lambda v: self._set(hardness=v))
        self.field("Size", self.size)
        self.field("Strength", self.strength)
        self.field("Edge", self.edge)
        ladder = QHBoxLayout()
        ladder.setSpacing(3)
        self.ladder: list[QPushButton] = []
        for number, value in enumerate(session.ladder):
            step = QPushButton()
            step.setObjectName(f"weights.ladder.{value:g}")
            step.setCheckable(True)
            step.setStyleSheet("padding: 3px 0px;")
            step.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            step.clicked.connect(lambda _=False, n=number: self._set(value=session.ladder[n]))
            step.customContextMenuRequested.connect(lambda _, n=number: self._ask(n))
            self.ladder.append(step)
            ladder.addWidget(step, 1)
        self.body.addLayout(ladder)
        self.both = QCheckBox("Both sides")
        self.both.setObjectName("weights.both")
        self.both.clicked.connect(lambda on: session.set_view(both_sides=on))
        self.front = QCheckBox("Front only")
        self.front.setObjectName("weights.front")
        self.front.setToolTip("Only vertices turned to the eye are painted")
        self.front.clicked.connect(lambda on: self._set(front=on, through=session.brush.through and not on))
        self.through = QCheckBox("Through")
        self.through.setObjectName("weights.through")
        self.through.setToolTip("The far side under the pointer is painted as well")
        self.through.clicked.connect(lambda on: self._set(through=on, front=session.brush.front and not on))
        self.row(self.both, self.front, self.through, stretch=0)
        self.gives = label("", "caption", wrap=True, name="weights.rule")
        self.body.addWidget(self.gives)
        self.fill = action_button(actions.qactions["weights.fill"], "Fill", role="main")
        self.row(
            self.fill,
            action_button(actions.qactions["weights.smooth"], "Smooth"),
            action_button(actions.qactions["weights.mirror"], "Mirror"),
        ).setSpacing(5)

    def set_ladder(self, number: int, value: float) -> None:
        """Put a value of the user's own on a step of the ladder."""
        values = list(self.session.ladder)
        values[number] = value
        keep_ladder(tuple(values))
        self.session.set_view(ladder=tuple(values))

    def _ask(self, number: int) -> None:
        now = self.session.ladder[number]
        value, sure = QInputDialog.getDouble(self, "A step of the ladder", "Value, 0 to 1", now, 0.0, 1.0, 3)
        if sure:
            self.set_ladder(number, value)

    def _centimetres(self, share: float) -> str:
        character = self.session.character
        return f"{100 * share * (character.height if character else 1):.1f} cm"

    def _set(self, **values: object) -> None:
        self.session.set_view(brush=replace(self.session.brush, **values))

    def _take_brush(self, mode: BrushMode) -> None:
        self.session.set_view(brush=replace(self.session.brush, mode=mode), tool=Tool.BRUSH)

    def _paint(self, painting: Painting) -> None:
        self.session.set_view(painting=painting, lens=Lens.INFLUENCE, tool=Tool.BRUSH)

    def show_document(self) -> None:
        session, character = self.session, self.session.character
        brush = session.brush
        for mode, made in self.buttons.items():
            made.setChecked(session.tool is Tool.BRUSH and mode is brush.mode)
        self.painting.setCurrentIndex(list(Painting).index(session.painting))
        self.size.set(brush.radius)
        self.strength.set(brush.strength)
        self.edge.set(brush.hardness)
        for step, value in zip(self.ladder, session.ladder, strict=True):
            text = f"{value:.3g}"
            step.setText(text.lstrip("0") if 0 < value < 1 else text)
            step.setAccessibleName(f"Value {value:g}")
            step.setToolTip("Right-click to put a value of your own here")
            step.setChecked(abs(value - brush.value) < 1e-9)
        self.both.setChecked(session.both_sides)
        self.front.setChecked(brush.front)
        self.through.setChecked(brush.through)
        chosen = sum(len(v) for v in session.vertices.values())
        self.note.setText(f"inside {chosen} vertices" if chosen else "anywhere")
        self.fill.setText("Fill both sides" if session.both_sides and chosen else "Fill")
        skeleton = character.skeleton if character else None
        if session.painting is not Painting.WEIGHTS:
            self.gives.setText(f"A stroke changes the {session.painting.value}, 0 to 1; the lens shows it.")
        elif not skeleton or session.influence not in skeleton.index:
            self.gives.setText("Take a joint: click one in the view or the list.")
        else:
            name = skeleton.joint(session.influence).name
            if session.influence in session.locked:
                self.gives.setText(f"{name} is locked: take off its lock in the list, or take another joint.")
                return
            self.gives.setText(f"{name} takes from and gives to the others by their shares; locked ones keep theirs.")


def _edge_word(hardness: float) -> str:
    return "soft" if hardness < 0.34 else "firm" if hardness < 0.7 else "hard"
