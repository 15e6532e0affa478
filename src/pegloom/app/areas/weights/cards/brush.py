"""Brush: strokes on the posed surface."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QCheckBox, QComboBox

from pegloom.app.areas.weights.ladder import Ladder
from pegloom.app.context import Context
from pegloom.app.jobs import Order
from pegloom.app.state.state import BrushSettings, HandSettings, State, Tool
from pegloom.app.widgets import Choices, action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import shown_by, slider, tick
from pegloom.core.said import counted
from pegloom.scene.brushes import BrushMode, Painting
from pegloom.scene.lenses import Lens
from pegloom.scene.stroke import get_ready


class BrushCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Brush", "weights.brush")
        modes = list(BrushMode)
        self.rows = [
            Choices("weights.brush", [(m.value, m) for m in some], self._take_brush) for some in (modes[:4], modes[4:])
        ]
        self.buttons = {mode: button_ for row in self.rows for mode, button_ in row.buttons.items()}
        for mode, button_ in self.buttons.items():
            button_.setToolTip(mode.says[0].upper() + mode.says[1:])
        self.rows[0].setAccessibleName("What it does")
        shown_by(self, self.rows[0], BrushSettings, "mode", lambda _: None)
        for row in self.rows:
            row.group.setExclusive(False)
            self.body.addWidget(row)
        self.painting = QComboBox()
        self.painting.setObjectName("weights.painting")
        for option in Painting:
            self.painting.addItem(option.value, option)
        self.painting.activated.connect(lambda _: self._paint(self.painting.currentData()))
        self.field("Paints", self.painting)
        size = slider(self, BrushSettings, "radius", 0.005, 0.2, self._centimetres, name="weights.brush.size")
        strength = slider(
            self, BrushSettings, "strength", 0.05, 1.0, lambda v: f"{v:.2f}", name="weights.brush.strength"
        )
        edge = slider(self, BrushSettings, "hardness", 0.0, 0.95, _edge_word, name="weights.brush.edge")
        self.field("Size", size)
        self.field("Strength", strength)
        self.field("Falloff", edge)
        self.ladder = Ladder(c)
        self.ladder.setObjectName("weights.ladder")
        self.ladder.setAccessibleName("Value")
        self.field("Value", self.ladder)
        shown_by(self, self.ladder, BrushSettings, "value", lambda _: None)
        both = tick(self, HandSettings, "both_sides", "Both sides", name="weights.both")
        self.front = QCheckBox("Front only")
        self.front.setObjectName("weights.front")
        self.front.setToolTip("Only vertices turned to the eye are painted")
        self.front.clicked.connect(lambda on: self._set(front=on, through=c.state.brush.through and not on))
        self.through = QCheckBox("Through")
        self.through.setObjectName("weights.through")
        self.through.setToolTip("The far side under the pointer is painted as well")
        self.through.clicked.connect(lambda on: self._set(through=on, front=c.state.brush.front and not on))
        for field, box in (("front", self.front), ("through", self.through)):
            box.setAccessibleName(box.text())
            shown_by(self, box, BrushSettings, field, box.setChecked)
        self.row(both, self.front, self.through, stretch=0)
        self.gives = label("", "caption", wrap=True, name="weights.rule")
        self.body.addWidget(self.gives)
        self.ready_for: object = None
        self.fill = action_button(c.actions.qactions["weights.fill"], "Fill", role="main")
        self.row(
            self.fill,
            action_button(c.actions.qactions["weights.smooth"], "Smooth"),
            action_button(c.actions.qactions["weights.mirror"], "Mirror weights"),
        ).setSpacing(5)

    def _centimetres(self, share: float) -> str:
        character = self.c.state.character
        return f"{100 * share * (character.height if character else 1):.1f} cm"

    def _set(self, **values: object) -> None:
        self.c.store.put_setting(BrushSettings, **values)

    def _take_brush(self, mode: BrushMode) -> None:
        self.c.store.put_setting(BrushSettings, mode=mode)
        self.c.store.put(tool=Tool.BRUSH)

    def _paint(self, painting: Painting) -> None:
        self.c.store.put(painting=painting, lens=Lens.INFLUENCE, tool=Tool.BRUSH)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.skeleton, one.skin, one.parts) if one is not None else ()
        return (*pieces, state.tooling, state.brush, state.hand, state.viewing.influence, state.vertices, state.dragging)

    def show_state(self, state: State) -> None:
        c, character = self.c, state.character
        self._get_ready(state)
        brush = c.state.brush
        for mode, button_ in self.buttons.items():
            button_.setChecked(c.state.tooling.tool == Tool.BRUSH and mode is brush.mode)
        self.painting.setCurrentIndex(list(Painting).index(c.state.tooling.painting))
        self.ladder.show_values(c.state.tooling.ladder, brush.value)
        chosen = sum(len(v) for v in c.state.vertices.values())
        self.note.setText(f"inside {counted(chosen, 'vertex', 'vertices')}" if chosen else "anywhere")
        self.fill.setText("Fill both sides" if c.state.hand.both_sides and chosen else "Fill")
        skeleton = character.skeleton if character else None
        if c.state.tooling.painting is not Painting.WEIGHTS:
            self.gives.setText(f"A stroke changes the {c.state.tooling.painting.value}, 0 to 1; the lens shows it.")
        elif not skeleton or c.state.viewing.influence not in skeleton.index:
            self.gives.setText("Pick a joint: click one in the view or the list.")
        else:
            name = skeleton.joint(c.state.viewing.influence).name
            if c.state.viewing.influence in c.state.tooling.locked:
                self.gives.setText(f"{name} is locked: take off its lock in the list, or take another joint.")
                return
            self.gives.setText(f"{name} takes from and gives to the others by their shares; locked ones keep theirs.")

    def _get_ready(self, state: State) -> None:
        """With the brush in hand, what the next stroke begins with is worked out while nothing is pressed."""
        one = state.character
        if state.tooling.tool != Tool.BRUSH or state.dragging or one is None or one.skin is None:
            return
        if self.ready_for is not one.skin:
            self.ready_for = one.skin
            result = self.c.view.stroke_made()
            self.c.background.put(Order.AHEAD, partial(get_ready, one, apart_from=result))


def _edge_word(hardness: float) -> str:
    return "soft" if hardness < 0.34 else "firm" if hardness < 0.7 else "hard"
