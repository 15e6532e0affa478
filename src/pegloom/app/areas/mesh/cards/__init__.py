"""The cards of Mesh, one module a card."""

from collections.abc import Callable

from pegloom.app.areas.mesh.cards.bring_in import BringInCard
from pegloom.app.areas.mesh.cards.clean import CleanCard
from pegloom.app.areas.mesh.cards.halves import HalvesCard
from pegloom.app.areas.mesh.cards.materials import MaterialCard
from pegloom.app.areas.mesh.cards.parts import PartsCard
from pegloom.app.areas.mesh.cards.picked import PickedCard
from pegloom.app.areas.mesh.cards.references import ReferenceCard
from pegloom.app.areas.mesh.cards.soundness import SoundnessCard
from pegloom.app.areas.mesh.cards.stand import StandCard
from pegloom.app.context import Context
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (
    BringInCard, StandCard, PartsCard, PickedCard, HalvesCard, SoundnessCard, MaterialCard, ReferenceCard, CleanCard,
)  # fmt: skip

__all__ = ["CARDS"]
