"""The pick card arranged by hand."""

from __future__ import annotations

from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.document.edits.rig.changing import rigged
from pegloom.document.model import CardButton, Document


def place_button(
    document: Document, control_id: str, x: float, y: float, *, page: str = "", across: float | None = None
) -> Document:
    """Put a control's button elsewhere on the pick card. x, y : shares of the page's longer way, y down.

    page : another page than its own. across : how wide the page is, where its partner is to stand mirrored in the middle.
    """
    character, _, rig = rigged(document)
    rig.control(control_id)
    if not (-0.5 <= x <= 1.5 and -0.5 <= y <= 1.5):
        raise EditError("a button stands on its page: x and y are 0 to 1")
    put = {control_id: CardButton(control_id, x, y, page)}
    other = rig.other_side(control_id)
    if across is not None and other is not None and other != control_id:
        put[other] = CardButton(other, across - x, y, page)
    kept = tuple(b for b in character.card if b.control not in put)
    return document.with_character(replace(character, card=(*kept, *put.values())))


def lay_out_card(document: Document, control_ids: tuple[str, ...] = ()) -> Document:
    """Some buttons, or with () all, where they are laid out by themselves again."""
    character, _, _ = rigged(document)
    kept = tuple(b for b in character.card if control_ids and b.control not in control_ids)
    return document.with_character(replace(character, card=kept))
