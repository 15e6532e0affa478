"""Flesh: weights fitted to an elastic body, helper joints, and what they brought."""

from __future__ import annotations

from pegloom.app.areas.weights.settings import FleshSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number, tick, whole


class FleshCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Flesh", "weights.flesh", is_open=False,
            sentence="Bends an elastic body through the range test and fits the weights to it. A region that would be worse in any trial keeps its weights.",
        )  # fmt: skip
        q = c.actions.qactions
        self.field("Fit to", whole(self, FleshSettings, "influences", 0, 16, name="weights.flesh.influences", suffix=" per vertex"))
        self.field("Worse by", number(self, FleshSettings, "worse", 0.0, 20.0, name="weights.flesh.worse", suffix=" %"))
        self.body.addWidget(label("0 per vertex: as each part is bound. How much worse a figure may be: more lets more of the fit stay.", "caption", wrap=True))
        self.body.addWidget(tick(self, FleshSettings, "anew", "Bind anew first", name="weights.flesh.anew", tip="Weights that tear are no place to start: what is in hand is kept as a weave"))
        self.body.addWidget(tick(self, FleshSettings, "still", "What is selected keeps its weights", name="weights.flesh.still", tip="Vertices painted by hand, for example: select them with Q or a box"))
        self.body.addWidget(action_button(q["weights.fit_flesh"], role="main"))
        self.body.addWidget(label("Helper joints turn half way with the joint they stand at and keep a bend from caving in.", "caption", wrap=True))
        self.body.addWidget(tick(self, FleshSettings, "digits", "Fingers and toes too", name="weights.flesh.digits"))
        self.row(action_button(q["weights.add_helpers"]), action_button(q["weights.drop_helpers"], "Take away"))
        self.body.addWidget(label("Corrective shapes are morph targets that joints bring in as they turn.", "caption", wrap=True))
        self.field("At most", whole(self, FleshSettings, "most", 1, 40, name="weights.flesh.most", suffix=" shapes"))
        self.row(action_button(q["weights.add_shapes"], "Add shapes"), action_button(q["weights.drop_shapes"], "Take away"))
        self.body.addWidget(action_button(q["weights.sculpt"], "Take a corrected mesh…"))
        self.body.addWidget(action_button(q["weights.ways"]))
        self.row(action_button(q["weave.compare"], "Compare along the seam"))
        self.report = label("", "caption", wrap=True, name="weights.flesh.report")
        self.body.addWidget(self.report)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(FleshSettings).report,)

    def show_state(self, state: State) -> None:
        report = state.settings.of(FleshSettings).report
        self.report.setVisible(bool(report))
        self.report.setText(report)
