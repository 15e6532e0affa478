"""The cards of Weights, one module a card."""

from collections.abc import Callable
from functools import partial

from pegloom.app.areas.weights.cards.bends import BendCard
from pegloom.app.areas.weights.cards.bind import BindCard
from pegloom.app.areas.weights.cards.brush import BrushCard
from pegloom.app.areas.weights.cards.flesh import FleshCard
from pegloom.app.areas.weights.cards.influences import InfluenceCard
from pegloom.app.areas.weights.cards.mirror_transfer import MirrorTransferCard
from pegloom.app.areas.weights.cards.pull import PullCard
from pegloom.app.areas.weights.cards.relax import RelaxCard
from pegloom.app.areas.weights.cards.selection import SelectionCard
from pegloom.app.areas.weights.cards.weaves import WeaveCard
from pegloom.app.context import Context
from pegloom.app.panels.snagcard import SnagCard
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (
    BindCard, BendCard, FleshCard, PullCard, BrushCard, InfluenceCard, SelectionCard, WeaveCard, MirrorTransferCard, RelaxCard,
    partial(
        SnagCard, area="weights",
        sound="No strays; all weights add up to 1. How the skin bends is told under Trouble spots.",
    ),
)  # fmt: skip

__all__ = ["CARDS"]
