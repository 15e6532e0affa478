"""The cards of Controls, one module a card: some for building, at most four for posing."""

from collections.abc import Callable

from pegloom.app.areas.controls.cards.build import BuildCard
from pegloom.app.areas.controls.cards.channels import ChannelCard
from pegloom.app.areas.controls.cards.check import CheckCard
from pegloom.app.areas.controls.cards.couplings import CouplingCard
from pegloom.app.areas.controls.cards.face import ExpressionCard, FaceCard, HandleCard
from pegloom.app.areas.controls.cards.family import FamilyCard
from pegloom.app.areas.controls.cards.follows import FollowsCard
from pegloom.app.areas.controls.cards.hold import HoldCard
from pegloom.app.areas.controls.cards.ik import IkCard
from pegloom.app.areas.controls.cards.kits import KitRigCard
from pegloom.app.areas.controls.cards.limbs import LimbsCard
from pegloom.app.areas.controls.cards.limits import LimitCard
from pegloom.app.areas.controls.cards.mirror import MirrorCard
from pegloom.app.areas.controls.cards.pose import PoseCard
from pegloom.app.areas.controls.cards.shape import ShapeCard
from pegloom.app.areas.controls.cards.shelf import ShelfCard
from pegloom.app.areas.controls.cards.springs import SpringCard
from pegloom.app.areas.controls.cards.work import WorkCard
from pegloom.app.areas.controls.settings import Work
from pegloom.app.areas.controls.working import working
from pegloom.app.context import Context
from pegloom.app.panels.snagcard import SnagCard
from pegloom.app.widgets.card import Card


def _when(make: Callable[[Context], Card], what: Work) -> Callable[[Context], Card]:
    """A card that is there while the area is for that."""

    def made(c: Context) -> Card:
        card = make(c)
        card.wanted = working(what)
        return card

    return made


def _snags(c: Context) -> Card:
    """Who poses is told of snags where there are some."""
    card = SnagCard(c, "controls", "Nothing is wrong with the controls.")
    card.wanted = lambda state: working(Work.BUILD)(state) or any(s.area == "controls" for s in state.snags)
    return card


BUILDING = (BuildCard, KitRigCard, IkCard, HoldCard, ChannelCard, CouplingCard, SpringCard, LimitCard, MirrorCard, ShapeCard, CheckCard, FamilyCard)
POSING = (PoseCard, LimbsCard, FollowsCard, ShelfCard)
FACE = (FaceCard, ExpressionCard, HandleCard)
CARDS: tuple[Callable[[Context], Card], ...] = (
    WorkCard, *(_when(card, Work.BUILD) for card in BUILDING), *(_when(card, Work.POSE) for card in POSING),
    *(_when(card, Work.FACE) for card in FACE),
    _snags,
)  # fmt: skip

__all__ = ["CARDS"]
