"""The cards of Joints, one module a card."""

from collections.abc import Callable
from functools import partial

from pegloom.app.areas.joints.cards.axes import AxesCard
from pegloom.app.areas.joints.cards.body import BodyCard
from pegloom.app.areas.joints.cards.build import BuildCard
from pegloom.app.areas.joints.cards.change import ChangeCard
from pegloom.app.areas.joints.cards.kits import KitsCard
from pegloom.app.areas.joints.cards.names import NamesCard
from pegloom.app.areas.joints.cards.pattern import PatternCard
from pegloom.app.areas.joints.cards.pegs import PegsCard
from pegloom.app.areas.joints.cards.rest import RestCard
from pegloom.app.context import Context
from pegloom.app.panels.snagcard import SnagCard
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (
    PatternCard, PegsCard, BuildCard, KitsCard, BodyCard, ChangeCard, AxesCard, NamesCard, RestCard,
    partial(SnagCard, area="joints", sound="Nothing is wrong with the joints."),
)  # fmt: skip

__all__ = ["CARDS"]
