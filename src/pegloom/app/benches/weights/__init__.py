"""The Weights bench, one module a card."""

from __future__ import annotations

from pegloom.app.benches.bench import Bench
from pegloom.app.benches.weights.bends import BendCard
from pegloom.app.benches.weights.bind import BindCard
from pegloom.app.benches.weights.brush import BrushCard
from pegloom.app.benches.weights.carry import CarryCard
from pegloom.app.benches.weights.influences import InfluenceCard
from pegloom.app.benches.weights.relax import RelaxCard
from pegloom.app.benches.weights.selection import SelectionCard
from pegloom.app.benches.weights.weaves import WeaveCard
from pegloom.app.quality import QualityWatch
from pegloom.app.snagcard import SnagCard


class WeightsBench(Bench):
    """Bind, look, refine."""

    title, line = "Weights", "who moves what, how much"

    def build(self) -> None:
        session, actions = self.session, self.actions
        self.bind = BindCard(session, actions)
        self.bends = BendCard(session, actions)
        self.weaves = WeaveCard(session, actions)
        self.brush = BrushCard(session, actions)
        self.selection = SelectionCard(session, actions)
        self.influence_list = InfluenceCard(session, actions)
        self.carry = CarryCard(session, actions)
        self.relax = RelaxCard(session, actions)
        self.snags = SnagCard(
            session, actions, "weights", "No strays, no rows out of order; how the skin bends is told under Bends."
        )
        self.cards = (
            self.bind, self.bends, self.brush, self.influence_list, self.selection, self.weaves, self.carry, self.relax,
            self.snags,
        )  # fmt: skip
        for card in self.cards:
            self.column.addWidget(card)

    def follow(self, watch: QualityWatch) -> None:
        self.bends.follow(watch)

    def show_document(self) -> None:
        for card in self.cards:
            card.show_document()


__all__ = ["WeightsBench"]
