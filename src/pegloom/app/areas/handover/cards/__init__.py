"""The cards of Handover, one module a card."""

from collections.abc import Callable

from pegloom.app.areas.handover.cards.details import DetailsCard
from pegloom.app.areas.handover.cards.export import ExportCard
from pegloom.app.areas.handover.cards.film import FilmCard
from pegloom.app.areas.handover.cards.left import LeftCard
from pegloom.app.areas.handover.cards.proof import ProofCard
from pegloom.app.areas.handover.cards.save import SaveCard
from pegloom.app.context import Context
from pegloom.app.widgets.card import Card

CARDS: tuple[Callable[[Context], Card], ...] = (ExportCard, DetailsCard, ProofCard, FilmCard, LeftCard, SaveCard)

__all__ = ["CARDS"]
