"""The cards of Controls, one module a card."""

from collections.abc import Callable
from functools import partial

from pegloom.app.areas.controls.cards.build import BuildCard
from pegloom.app.areas.controls.cards.limbs import LimbsCard
from pegloom.app.areas.controls.cards.pose import PoseCard
from pegloom.app.areas.controls.cards.shape import ShapeCard
from pegloom.app.context import Context
from pegloom.app.panels.snagcard import SnagCard
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (
    BuildCard, PoseCard, LimbsCard, ShapeCard,
    partial(SnagCard, area="controls", sound="Nothing is wrong with the controls."),
)  # fmt: skip

__all__ = ["CARDS"]
