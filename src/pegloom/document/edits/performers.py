"""Sources of motion that stand among the figures as bodies of joints alone, and motion lent by one figure to another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.retarget.bare import bare_body, size_of
from pegloom.core.motion.together import Figure
from pegloom.document.baking import baked_clip
from pegloom.document.edits.borrow import add_sources, source_of
from pegloom.document.edits.figures import add_figures, figure_of, take_character
from pegloom.document.model import Character, Document

TALL = 1.75
"""Metres that a source of motion stands, where neither its file nor anybody beside it tells."""


def performer_of(source: Source, tall: float = TALL) -> Character:
    """A source as a figure: its joints, its motion, no parts. tall : metres, where its file tells no height of a body.

    Raises EditError where nothing moves.
    """
    skeleton, clip = bare_body(source, size_of(source, tall))
    clip = replace(clip, id="clip0", name=source.name)
    return Character("performer", source.name, skeleton=skeleton, adopted=skeleton, clips=(clip,), figure=Figure(clip=clip.id))


def add_performers(document: Document, sources: Sequence[Source]) -> tuple[Document, tuple[str, ...]]:
    """Motion of other bodies as figures of their own, beside those that are there.

    Who is in hand stays so, where there is one. Returns the document and their ids.
    """
    active = document.character
    made = [performer_of(source, active.height if active is not None else TALL) for source in sources]
    document, ids = add_figures(document, made)
    return (take_character(document, active.id) if active is not None else document), ids


def stand_source(document: Document, source_id: str) -> tuple[Document, str]:
    """A source of the character in hand as a figure beside it: shown, hidden, placed and exported as others are. The source
    stays. Returns the document and the figure's id."""
    source = source_of(document.require_character(), source_id)
    document, (made,) = add_performers(document, [source])
    return document, made


def motion_of(character: Character, clip_id: str = "") -> Source:
    """A clip of a character, or the one it plays beside the others, as a source for another. Raises EditError for none."""
    skeleton = character.require_skeleton()
    clip = character.clip(clip_id or character.figure.clip or (character.clips[0].id if character.clips else ""))
    told = baked_clip(character, clip)
    if not told.tracks:
        raise EditError(f"{clip.name} of {character.name} moves nothing; there is nothing to lend")
    plain = replace(told, borrowed=None, gait=None, layers=(), morphs=())
    return Source("", f"{clip.name} of {character.name.split(',')[0]}", skeleton, plain, character.name)


def lend_motion(document: Document, lender: str, clip_id: str = "") -> tuple[Document, str]:
    """What another figure does becomes a source of the character in hand. Returns the document and the source's id.

    clip_id : of the other's; "" for the one it plays. Raises EditError where that is the one in hand, or moves nothing.
    """
    other = figure_of(document, lender)
    if other is document.require_character():
        raise EditError("another figure lends its motion, not the one in hand")
    source = motion_of(other, clip_id)
    document, (made,) = add_sources(document, [source])
    return document, made
