"""A part or a whole character once more, to try another way beside the first."""

from __future__ import annotations

from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.skins import each_skin, with_weights
from pegloom.document.model import Document, Skin

MOST = 16
"""Characters of one document."""


def duplicate_part(document: Document, part_id: str) -> tuple[Document, str]:
    """A part once more, with its weights. Gives the copy's id."""
    character = document.require_character()
    part = character.part(part_id)
    character, (made,) = fresh_ids(character, "part", (p.id for p in character.parts), first=0)
    names = {p.name for p in character.parts}
    name = next(n for n in (f"{part.name} {k}" for k in range(2, len(names) + 3)) if n not in names)
    copy = replace(part, id=made, name=name)

    def more(skin: Skin) -> Skin:
        return with_weights(skin, {**skin.weights, made: skin.weights[part_id]}) if part_id in skin.weights else skin

    character = each_skin(character, more)
    return document.with_character(replace(character, parts=(*character.parts, copy))), made


def duplicate_character(document: Document, name: str = "") -> tuple[Document, str]:
    """The character in hand once more, with all of it; the copy is in hand then. Gives the copy's id."""
    character = document.require_character()
    if len(document.characters) >= MOST:
        raise EditError(f"a project holds at most {MOST} characters; remove one first")
    ids = {c.id for c in document.characters}
    names = {c.name for c in document.characters}
    made = next(i for i in (f"character{k}" for k in range(2, len(ids) + 3)) if i not in ids)
    said = name.strip() or next(n for n in (f"{character.name} {k}" for k in range(2, len(names) + 3)) if n not in names)
    copy = replace(character, id=made, name=said)
    return replace(document, characters=(*document.characters, copy), active=len(document.characters)), made


def take_character(document: Document, character_id: str) -> Document:
    """Another of the document's characters in hand. Raises EditError for one there is not."""
    for k, character in enumerate(document.characters):
        if character_id in (character.id, character.name):
            return replace(document, active=k)
    raise EditError(f"there is no character {character_id}; there are {', '.join(c.name for c in document.characters)}")


def drop_character(document: Document, character_id: str) -> Document:
    """Take a character out; the last one stays."""
    left = tuple(c for c in document.characters if character_id not in (c.id, c.name))
    if len(left) == len(document.characters):
        raise EditError(f"there is no character {character_id}")
    if not left:
        raise EditError("the last character stays")
    return replace(document, characters=left, active=min(document.active, len(left) - 1))
