"""Locks held over any edit of weights."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from types import MappingProxyType

from pegloom.core.errors import EditError
from pegloom.core.skin.locks import held
from pegloom.document.model import Document


def with_locks_held(before: Document, after: Document, locked: Collection[str]) -> Document:
    """What an edit made of `before`, but that locked joints hold what they held in every part bound then.

    A weave the edit kept of the result is kept so, too. Parts with other vertices than before are left alone.
    """
    if not locked or not before.characters or not after.characters:
        return after
    old, character = before.require_character().skin, after.require_character()
    new = character.skin
    if old is None or new is None or old is new:
        return after
    weights = dict(new.weights)
    for part, was in old.weights.items():
        now = weights.get(part)
        if now is not None and now is not was and now.vertex_count == was.vertex_count:
            weights[part] = held(was, now, locked, new.limit(part))
    if all(weights[part] is new.weights[part] for part in weights):
        return after
    skin = replace(new, weights=MappingProxyType(weights))
    weaves = tuple(replace(w, skin=skin) if w.skin is new else w for w in character.weaves)
    return after.with_character(replace(character, skin=skin, weaves=weaves))


def require_free(document: Document, joints: Collection[str], locked: Collection[str]) -> None:
    """Raises EditError naming the joints that are locked."""
    skeleton = document.require_character().skeleton
    some = [j for j in joints if j in locked]
    if some:
        names = [skeleton.joint(j).name if skeleton is not None and j in skeleton.index else j for j in some]
        verb = "is" if len(names) == 1 else "are"
        raise EditError(f"{' and '.join(names)} {verb} locked and would change; take off the lock in the list first")
