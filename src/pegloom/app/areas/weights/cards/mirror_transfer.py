"""Mirror and transfer: weights across the middle, and from one part to another."""

from __future__ import annotations

from pegloom.app.areas.weights.actions.across import transfer_between
from pegloom.app.areas.weights.settings import MirrorSettings, TransferSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, line, number, tick
from pegloom.core.skin.mirror import Way


class MirrorTransferCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(c, "Mirror and transfer", "weights.carry", is_open=False)
        q = c.actions.qactions
        self.field("Mirror", choice(self, MirrorSettings, "way", [(w.value, w) for w in Way], name="weights.way"))
        tolerance = number(
            self, MirrorSettings, "tolerance", 0.0, 20.0, name="weights.tolerance", suffix=" cm", special="exact pairs"
        )
        tolerance.setToolTip("How far from its mirrored place a vertex may stand and still count as the partner")
        self.field("Tolerance", tolerance)
        self.body.addWidget(
            tick(self, MirrorSettings, "by_place", "Pair joints by place, not by name", name="weights.by_place")
        )
        self.body.addWidget(
            tick(self, MirrorSettings, "only", "Only onto the selected vertices", name="weights.mirror_only")
        )
        mirror = action_button(q["weights.mirror"], "Mirror weights", role="main")
        mirror.setObjectName("weights.carry.mirror")
        self.row(mirror, action_button(q["weights.unmatched"], "Unmatched"))
        self.source = choice(self, TransferSettings, "source", (), name="weights.transfer.from")
        self.target = choice(self, TransferSettings, "target", (), name="weights.transfer.to")
        for box, field, word in ((self.source, "source", "Read from"), (self.target, "target", "Write to")):
            self.field(word, filled_by_pick(self, box, TransferSettings, field, "part", word))
            box.setAccessibleName(word)
        self.body.addWidget(
            tick(
                self, TransferSettings, "fill", "Fill smoothly where nothing is near", name="weights.transfer.fill"
            )
        )
        self.body.addWidget(
            tick(
                self, TransferSettings, "leave_out", "Leave out the selected vertices", name="weights.transfer.leave_out",
                tip="Of the part that is read: hair that hangs on the shoulders, say",
            )
        )
        self.body.addWidget(action_button(q["weights.transfer"], "Transfer", role="main"))
        without = line(self, TransferSettings, "without", name="weights.transfer.without", hint="hair, hat")
        self.field("Without", without)
        self.body.addWidget(action_button(q["weights.read_from"], "Read from another character…"))
        self.report = label("", "caption", wrap=True, name="weights.transfer.report")
        self.body.addWidget(self.report)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.parts, one.skin) if one is not None else ()
        return (*pieces, *transfer_between(state), state.settings.of(TransferSettings).report)

    def show_state(self, state: State) -> None:
        one = state.character
        parts = [(p.name, p.id) for p in one.parts] if one is not None else []
        bound = one.skin.weights if one is not None and one.skin is not None else {}
        fill(self.source, [p for p in parts if p[1] in bound])
        fill(self.target, parts)
        source, target = transfer_between(state)
        self.source.setCurrentIndex(self.source.findData(source))
        self.target.setCurrentIndex(self.target.findData(target))
        self.report.setText(state.settings.of(TransferSettings).report)
