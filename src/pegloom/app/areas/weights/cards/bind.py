"""Bind: which joints carry which vertices, computed."""

from __future__ import annotations

from pegloom.app.actions.needs import ACTIVE_JOINT
from pegloom.app.areas.weights.actions.bind import size_of_bind
from pegloom.app.areas.weights.settings import BindSettings, PaceSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import SliderRow, action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, tick, whole
from pegloom.core.skin.bind import THROUGH_THE_INSIDE, BindMethod, Detail, likely_seconds
from pegloom.document import edits

BY_DISTANCE = (BindMethod.BY_REACH, BindMethod.THROUGH_BODY)
WITH_REACH = (BindMethod.SEGMENT, *BY_DISTANCE)
"""Methods in which a joint\'s reach counts."""


def said_seconds(seconds: float) -> str:
    """A time for a person: no more exact than it is known."""
    if seconds < 1.5:
        return "1 s"
    if seconds < 10:
        return f"{round(seconds)} s"
    return f"{5 * round(seconds / 5)} s" if seconds < 90 else f"{round(seconds / 60)} min"


class BindCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Bind", "weights.bind",
            sentence="Which joints carry which vertices, computed. One undo step; kept as a weave.",
        )  # fmt: skip
        self.field(
            "Method",
            choice(
                self, BindSettings, "method", [(m.value, m) for m in BindMethod], name="weights.method",
                tips=[m.says for m in BindMethod],
            ),
        )  # fmt: skip
        self.says = label("", "caption", wrap=True, name="weights.method_says")
        self.body.addWidget(self.says)
        self.field("At most", whole(self, BindSettings, "influences", 1, 16, name="weights.influences", suffix=" per vertex"))
        self.detail = choice(self, BindSettings, "detail", [(d.value, d) for d in Detail], name="weights.detail")
        self.field("Detail", self.detail)
        self.reach = SliderRow("weights.reach", 0.2, 3.0, lambda v: f"{v:.2f}", lambda _: None, self._set_reach)
        self.field("Reach", self.reach)
        self.own_branch = tick(
            self, BindSettings, "own_branch", "Own branch only", name="weights.own_branch",
            tip="A vertex follows its nearest joint and those above and below it, no other limb",
        )  # fmt: skip
        self.in_sight = tick(
            self, BindSettings, "in_sight", "In sight only", name="weights.in_sight",
            tip="Only bones the vertex sees through the inside of the body",
        )  # fmt: skip
        self.row(self.own_branch, self.in_sight, stretch=0)
        for field, text, tip in (
            ("some_joints", "Only to the selected joints",
             "Shift-click joints in the view; what the others would hold goes up to these"),
            ("some_parts", "Only the selected vertices' parts",
             "Draw a box over a part first; the other parts keep their weights"),
        ):  # fmt: skip
            self.body.addWidget(tick(self, BindSettings, field, text, name=f"weights.{field}", tip=tip))
        self.body.addWidget(
            tick(
                self, BindSettings, "shown_after", "Move it once it is bound", name="weights.shown_after",
                tip="A few seconds of the range test by itself, and a question",
            )
        )  # fmt: skip
        self.bind = action_button(c.actions.qactions["weights.bind"], role="main")
        self.body.addWidget(self.bind)
        self.was_bound = False

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.skin, one.reaches, one.parts, one.skeleton) if one is not None else ()
        return (*pieces, state.viewing.influence, self.is_open, state.settings.of(PaceSettings))

    def show_state(self, state: State) -> None:
        one, method = state.character, state.settings.of(BindSettings).method
        skin = one.skin if one is not None else None
        self.says.setText(method.says)
        self.reach.setEnabled(method in WITH_REACH)
        self.detail.setEnabled(method in THROUGH_THE_INSIDE)
        self.detail.setToolTip("How finely the inside of the body is looked into: for fingers, and what lies close")
        self._show_time(state)
        self.own_branch.setEnabled(method in BY_DISTANCE)
        self.in_sight.setEnabled(method is BindMethod.BY_REACH)
        self.reach.set(one.reaches.get(state.viewing.influence, 1.0) if one is not None else 1.0)
        self.note.setText(f"{skin.method}, {skin.most}" if skin else "not bound")
        # Once bound the card makes room for the work that follows; it stays where the user puts it then.
        if (skin is not None) is not self.was_bound:
            self.was_bound = skin is not None
            self.set_open(not self.was_bound)
        self._show_reach()

    def _show_time(self, state: State) -> None:
        """How long it is likely to take, on the button that does it."""
        chosen, (vertices, joints) = state.settings.of(BindSettings), size_of_bind(state)
        seconds = likely_seconds(chosen.method, vertices, joints, chosen.detail) * state.settings.of(PaceSettings).of(chosen.method)
        took = "" if not vertices or not joints else f", about {said_seconds(seconds)}"
        self.bind.setText(f"Bind{took}")

    def _show_reach(self) -> None:
        """The drawn reach is there while the card is open on a method it counts in."""
        wanted = self.is_open and self.c.state.settings.of(BindSettings).method in WITH_REACH
        if self.c.state.viewing.reach_shown is not wanted:
            self.c.store.put(reach_shown=wanted)

    def set_open(self, is_open: bool) -> None:
        super().set_open(is_open)
        if hasattr(self, "was_bound"):
            self._show_reach()

    def _set_reach(self, factor: float) -> None:
        c, joint = self.c, self.c.state.viewing.influence
        if c.state.character is None or c.state.character.skeleton is None or not joint:
            c.say(ACTIVE_JOINT.says, error=True, offer=ACTIVE_JOINT.offer)
            return
        both = c.state.hand.both_sides
        name = c.skeleton.joint(joint).name
        c.try_edit(f"Reach of {name} {factor:.2f}", lambda d: edits.set_reach(d, joint, factor, both_sides=both))
