"""Changes of the skeleton, which weights, weaves and controls go along with."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pegloom.app.context import Context, Edit

MANY_ROWS = 60_000
"""Rows of weights, those of the weaves counted too, from which on a change of the skeleton is a job."""


def change(c: Context, name: str, edit: Edit, then: Callable[[Any], None] | None = None) -> None:
    """Change the skeleton: as a job where many rows of weights have to go along."""
    character = c.character
    skins = [s for s in (character.skin, *(w.skin for w in character.weaves)) if s is not None]
    many = sum(weights.vertex_count for s in skins for weights in s.weights.values()) >= MANY_ROWS
    c.change(name, edit, slow=many, doing="weights, weaves and controls go along", then=then)


def lead_name(c: Context) -> str:
    """The name of the joint picked last."""
    return c.skeleton.joint(c.state.selection.lead).name
