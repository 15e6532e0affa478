"""Pull the skin: what must not change while it is led, and what the last pull brought."""

from __future__ import annotations

from pegloom.app.areas.weights.settings import PullSettings
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import slider, tick
from pegloom.core.said import counted


class PullCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Pull the skin", "weights.pull", is_open=False,
            sentence="In a pose that bends badly, drag the skin where it belongs: the weights follow, other poses stay as far as they can.",
        )  # fmt: skip
        self.body.addWidget(action_button(c.actions.qactions["tool.pull"], role="main"))
        self.field("Reach", slider(self, PullSettings, "radius", 0.02, 0.4, self._centimetres, name="weights.pull.radius"))
        self.body.addWidget(tick(self, HandSettings, "both_sides", "Both sides", name="weights.pull.both"))
        self.body.addWidget(tick(self, PullSettings, "still", "What is selected must not move", name="weights.pull.still", tip="Selected vertices keep their weights: paint them with Q"))
        self.body.addWidget(tick(self, PullSettings, "keep_width", "Keep the limb's width there", name="weights.pull.width"))
        self.body.addWidget(tick(self, PullSettings, "under_cloth", "Stay under the cloth", name="weights.pull.cloth", tip="Skin that cloth covers is led no farther out than that"))
        self.body.addWidget(tick(self, PullSettings, "shape", "A shape takes what is left", name="weights.pull.shape", tip="What weights cannot reach becomes a corrective shape of this pose"))
        self.row(action_button(c.actions.qactions["weave.compare"], "Compare along the seam"))
        self.report = label("", "caption", wrap=True, name="weights.pull.report")
        self.body.addWidget(self.report)

    def _centimetres(self, share: float) -> str:
        character = self.c.state.character
        return f"{100 * share * (character.height if character else 1):.0f} cm"

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(PullSettings), state.vertices, state.character.height if state.character is not None else 0.0)

    def show_state(self, state: State) -> None:
        chosen, some = state.settings.of(PullSettings), sum(len(v) for v in state.vertices.values())
        self.note.setText(f"{counted(some, 'vertex', 'vertices')} stay" if chosen.still and some else "")
        self.report.setVisible(bool(chosen.report))
        self.report.setText(chosen.report)
