"""What the actions on weights share."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pegloom.app.actions.locks import around_locks
from pegloom.app.context import Context, Edit
from pegloom.core.arrays import IntArray
from pegloom.document.model import Document, Part

LARGE = 30_000
"""Bound vertices from which a change of many rows is a job: it would hold the window for longer than 100 ms."""


def picked(c: Context) -> dict[str, IntArray]:
    """Picked vertices by part."""
    return {p: v for p, v in c.state.vertices.items() if len(v)}


def count_picked(c: Context) -> int:
    return sum(len(v) for v in c.state.vertices.values())


def joint_name(c: Context, joint: str) -> str:
    return c.skeleton.joint(joint).name


def change(c: Context, name: str, edit: Edit, then: Callable[[Any], None] | None = None) -> None:
    """Edit weights around the locked joints: of large meshes as a job with progress."""
    skin = c.character.skin
    large = skin is not None and sum(weights.vertex_count for weights in skin.weights.values()) >= LARGE
    c.change(name, around_locks(c, edit), slow=large, doing=name, then=then)


def on_vertices(c: Context, name: str, edit: Callable[[Document, str, IntArray], Document]) -> None:
    """Edit the rows of the picked vertices of every bound part."""
    bound, chosen = c.character.require_skin().weights, picked(c)

    def run(document: Document) -> Document:
        for part_id, vertices in chosen.items():
            if part_id in bound:
                document = edit(document, part_id, vertices)
        return document

    change(c, name, run)


def parts(c: Context) -> list[Part]:
    """Bound parts of the selection; without one all of them."""
    character, chosen = c.character, picked(c)
    bound = character.require_skin().weights
    return [p for p in character.included if p.id in bound and (not chosen or p.id in chosen)]
