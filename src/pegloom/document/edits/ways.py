"""The ways a body may be made to bend, each tried on a copy: what is compared before one is taken."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.skin.flesh.judge import WORSE
from pegloom.document.edits.flesh import fit_to_flesh, is_flesh
from pegloom.document.edits.helpers import add_helpers
from pegloom.document.edits.shapes import add_shapes
from pegloom.document.edits.weaves import set_dual, set_relax
from pegloom.document.model import Character, Document


@dataclass(frozen=True, slots=True, eq=False)
class Way:
    """id, title : as they are called. plays : what can play it. document : with it; None where it could not be had. why : that is so."""

    id: str
    title: str
    plays: str
    document: Document | None
    why: str = ""


def _fitted(document: Document, influences: int | None, worse: float, progress: Progress) -> Document:
    return fit_to_flesh(document, influences=influences, worse=worse, progress=progress)[0]


def _helped(document: Document, influences: int | None, worse: float, progress: Progress) -> Document:
    return add_helpers(document, influences=influences, worse=worse, progress=progress)[0]


def _shaped(document: Document, influences: int | None, worse: float, progress: Progress) -> Document:
    return add_shapes(document, worse=worse, progress=progress)[0]


def _dual(document: Document, influences: int | None, worse: float, progress: Progress) -> Document:
    for part in _body(document.require_character()):
        document = set_dual(document, part, 1.0)
    return document


def _relaxed(document: Document, influences: int | None, worse: float, progress: Progress) -> Document:
    for part in _body(document.require_character()):
        document = set_relax(document, part)
    return document


def _body(character: Character) -> list[str]:
    weights = character.require_skin().weights
    found = [p.id for p in character.at_level(0) if p.id in weights and is_flesh(p, weights[p.id])]
    if not found:
        raise EditError("there is no bound part of skin")
    return found


EVERYWHERE, BAKED = "every engine", "no engine: baked into plain weights when it is exported"
WAYS: dict[str, tuple[str, str, Callable[[Document, int | None, float, Progress], Document]]] = {
    "fitted": ("Fitted to flesh", EVERYWHERE, _fitted),
    "helpers": ("With helper joints", EVERYWHERE, _helped),
    "shapes": ("With corrective shapes", "engines that play morph targets; baked into each clip", _shaped),
    "dual": ("Dual quaternions", "some engines; baked into plain weights for the others", _dual),
    "relaxed": ("Surface relax", BAKED, _relaxed),
}
"""What each is called, what plays it, and how it is made."""


def ways_to_bend(
    document: Document, which: Collection[str] | None = None, *, influences: int | None = None, worse: float = WORSE, progress: Progress = silent
) -> tuple[Way, ...]:
    """The document as it is bound, and with each way of bending better.

    which : of WAYS; None for all. influences, worse : as of `fit_to_flesh`. Raises EditError without weights, Cancelled from `progress`.
    """
    character = document.require_character()
    before, chosen = character.require_skin(), [w for w in WAYS if which is None or w in which]
    had = "with what is on it" if before.relax or before.dual or character.helpers else "as it is"
    found = [Way("bound", "As bound" if had == "as it is" else "As it is now", BAKED if before.relax else EVERYWHERE, document)]
    for number, way in enumerate(chosen):
        title, plays, make = WAYS[way]
        share = part_of(progress, number / len(chosen), (number + 1) / len(chosen))
        try:
            made = make(document, influences, worse, share)
        except EditError as error:
            found.append(Way(way, title, plays, None, str(error)))
            continue
        if way == "helpers":
            more = len(made.require_character().helpers) - len(character.helpers)
            plays = f"{plays}, with {more} more joints"
        if way == "shapes":
            plays = f"{plays}, {len(made.require_character().shapes)} targets"
        found.append(Way(way, title, plays, made))
    progress(1.0, "tried")
    return tuple(found)


__all__ = ["WAYS", "Way", "ways_to_bend"]
