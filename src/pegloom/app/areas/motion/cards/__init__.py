"""The cards of Motion, one module a card."""

from collections.abc import Callable
from functools import partial

from pegloom.app.areas.motion.cards.borrow import BorrowCard
from pegloom.app.areas.motion.cards.bring import BringCard
from pegloom.app.areas.motion.cards.clips import ClipsCard
from pegloom.app.areas.motion.cards.figures import FiguresCard
from pegloom.app.areas.motion.cards.gait import GaitCard
from pegloom.app.areas.motion.cards.keys import KeysCard
from pegloom.app.areas.motion.cards.layers import LayersCard
from pegloom.app.areas.motion.cards.time import TimeCard
from pegloom.app.context import Context
from pegloom.app.panels.snagcard import SnagCard
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (
    ClipsCard, KeysCard, LayersCard, BorrowCard, GaitCard, FiguresCard, BringCard, TimeCard, partial(SnagCard, area="motion", sound="Nothing is wrong with the clips."),
)  # fmt: skip

__all__ = ["CARDS"]
