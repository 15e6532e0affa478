"""Body pattern: which body is looked for."""

from __future__ import annotations

from pegloom.app.areas.joints.settings import AS_SEEN, AUTO, PatternSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, whole
from pegloom.core.said import counted
from pegloom.files.bodies import known_bodies
from pegloom.files.patterns import known_patterns


class PatternCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Body pattern", "joints.find", sentence="Which body it is; its landmarks are looked for in the shape."
        )
        q = c.actions.qactions
        self.patterns = known_patterns()
        options = [("as the shape says", AUTO), *((plan.title, name) for name, plan in self.patterns.items())]
        tips = ("The one whose limbs fit best", *(plan.sentence for plan in self.patterns.values()))
        self.field("Pattern", choice(self, PatternSettings, "pattern", options, name="joints.pattern", tips=tips))
        fingers = whole(self, PatternSettings, "fingers", AS_SEEN, 5, name="joints.fingers", special="as seen")
        pairs = whole(self, PatternSettings, "pairs", 0, 12, name="joints.pairs", special="as seen")
        for box, word in ((fingers, "Fingers"), (pairs, "Leg pairs")):
            box.setFixedWidth(71)
            box.setAccessibleName(word)
        line = self.row(label("Fingers", "soft"), fingers, label("Leg pairs", "soft"), pairs, stretch=0)
        line.addStretch(1)
        self.row(action_button(q["joints.find_pegs"], role="main"), action_button(q["joints.lay_out"], "Lay out"))
        self.bodies = choice(self, PatternSettings, "body", [("none yet", "")], name="joints.own_body")
        self.field("Own bodies", self.bodies)
        self.row(action_button(q["body.wear"], "Wear"), action_button(q["body.keep"], "Keep this"))
        self.row(action_button(q["body.share"], "Save as a file…"), action_button(q["body.take"], "Load a file…"))
        self.listed: tuple[str, ...] = ()
        self.had_pegs = False

    def key(self, state: State) -> tuple[object, ...]:
        return (state.character.pegs,) if state.character is not None else ()

    def show_state(self, state: State) -> None:
        known = tuple(known_bodies())
        if known != self.listed:
            self.listed = known
            fill(self.bodies, [("choose one" if known else "none yet", ""), *((name, name) for name in known)])
            self.bodies.setCurrentIndex(max(self.bodies.findData(state.settings.of(PatternSettings).body), 0))
        pegs = state.character.pegs if state.character is not None else None
        title = self.patterns[pegs.pattern].title if pegs is not None and pegs.pattern in self.patterns else ""
        self.note.setText(f"{title}, {counted(len(pegs.pegs), 'peg')}" if pegs is not None else "")
        # Once found the pattern makes room for the pegs; the card stays where the user puts it then.
        if (pegs is not None) is not self.had_pegs:
            self.had_pegs = pegs is not None
            self.set_open(not self.had_pegs)
