"""A part once more, to try another way beside the first."""

from __future__ import annotations

from dataclasses import replace

from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.skins import each_skin, with_weights
from pegloom.document.model import Document, Skin


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
