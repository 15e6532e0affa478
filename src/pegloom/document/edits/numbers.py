"""Weights by number and by influence: rows averaged, copied, pasted; a joint dropped, replaced, added to a part."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import place_neighbours, weld
from pegloom.core.skin.brush import changed_rows, limited
from pegloom.core.skin.weights import Weights, dense, dense_over, from_dense, with_rows
from pegloom.document.edits.skins import with_weights
from pegloom.document.meeting import borders_carried
from pegloom.document.model import Character, Document

SLIGHT = 0.05
"""A joint that nowhere on a part holds more than this is not relevant to it."""


def row_of(document: Document, part_id: str, vertices: IntArray) -> Mapping[str, float]:
    """The mean row of some vertices as joint id -> weight, for pasting elsewhere. Raises EditError for none."""
    weights = _weights(document.require_character(), part_id)
    if not len(vertices):
        raise EditError("select a vertex to copy from first")
    row = dense(weights)[np.asarray(vertices, dtype=np.int64)].mean(axis=0)
    return MappingProxyType({j: float(w) for j, w in zip(weights.joint_ids, row, strict=True) if w > 1e-9})


def paste_row(
    document: Document, part_id: str, vertices: IntArray, row: Mapping[str, float], *, share: float = 1.0,
    locked: Collection[str] = (),
) -> Document:  # fmt: skip
    """Give vertices one row of weights, or go `share` of the way there. Locked joints keep what they hold.

    Raises EditError for a row that holds nothing, names an unknown joint, or has only locked ones.
    """
    character = document.require_character()
    skeleton = character.skeleton
    weights = _weights(character, part_id)
    unknown = [j for j in row if skeleton is None or j not in skeleton.index]
    if unknown:
        raise EditError(f"the copied row names a joint that is not here: {unknown[0]}")
    wanted = {j: w for j, w in row.items() if w > 0 and j not in locked}
    if not wanted:
        raise EditError("the copied row holds nothing that may be pasted here")
    ids = (*weights.joint_ids, *[j for j in wanted if j not in weights.joint_ids])
    values = dense_over(weights, ids)
    some = whole_places(character, part_id, vertices)
    lock = np.array([j in locked for j in ids])
    goal = np.zeros(len(ids))
    for joint, weight in wanted.items():
        goal[ids.index(joint)] = weight
    goal /= goal.sum()
    free = 1.0 - values[some][:, lock].sum(axis=1)
    goal_rows = goal[None, :] * free[:, None]
    goal_rows[:, lock] = values[some][:, lock]
    rows = values[some] + share * (goal_rows - values[some])
    return _with(
        document, part_id, with_rows(weights, ids, some, limited(rows, _limit(character, part_id), locked=lock), locked=lock)
    )


def average_rows(document: Document, part_id: str, vertices: IntArray, *, locked: Collection[str] = ()) -> Document:
    """Give vertices the mean of their rows."""
    return paste_row(document, part_id, vertices, row_of(document, part_id, vertices), locked=locked)


def set_number(
    document: Document, part_id: str, vertices: int | IntArray, joint_id: str, value: float,
    *, locked: Collection[str] = (),
) -> Document:  # fmt: skip
    """A number of the table: a joint's weight on a vertex or several (and those at their places); the others make
    room by their shares. Raises EditError for an unknown joint, a locked one, or a number out of 0 to 1."""
    character = document.require_character()
    skeleton, weights = character.skeleton, _weights(character, part_id)
    if skeleton is None or joint_id not in skeleton.index:
        raise EditError(f"there is no joint {joint_id}")
    if not 0.0 <= value <= 1.0:
        raise EditError("a weight is from 0 to 1")
    ids = weights.joint_ids if joint_id in weights.joint_ids else (*weights.joint_ids, joint_id)
    mesh = character.part(part_id).mesh
    g = weld(mesh)
    values = dense_over(weights, ids)[g.first]
    lock = np.array([j in locked for j in ids])
    column, places = ids.index(joint_id), np.unique(g.group[np.atleast_1d(vertices)])
    parent = skeleton.joint(joint_id).parent
    heir = ids.index(parent) if parent in ids else column
    wanted = np.full(len(places), float(value))
    result = changed_rows(values, column, places, wanted, neighbours=place_neighbours(mesh), heir=heir, locked=lock)
    values[places] = limited(result, _limit(character, part_id), keep=column if value > 0 else None, locked=lock)
    mine = np.flatnonzero(np.isin(g.group, places))
    return _with(document, part_id, with_rows(weights, ids, mine, values[g.group[mine]], locked=lock))


def drop_influence(document: Document, part_id: str, joint_id: str, vertices: IntArray | None = None) -> Document:
    """Take a joint off a part, or off some of its vertices; the others there take its share, else the neighbours',
    else its parent. Raises EditError where it holds nothing."""
    character = document.require_character()
    weights, skeleton = _weights(character, part_id), character.skeleton
    assert skeleton is not None
    some = np.arange(weights.vertex_count) if vertices is None else whole_places(character, part_id, vertices)
    holding = weights.column(joint_id)[some] > 0
    if not holding.any():
        raise EditError(f"{_name(character, joint_id)} holds nothing there")
    parent = skeleton.joint(joint_id).parent
    ids = weights.joint_ids if parent is None or parent in weights.joint_ids else (*weights.joint_ids, parent)
    mesh = character.part(part_id).mesh
    g = weld(mesh)
    values = dense_over(weights, ids)[g.first]
    column = ids.index(joint_id)
    places = np.unique(g.group[some[holding]])
    rest = values.copy()
    rest[places, column] = 0.0
    bare = rest.sum(axis=1) <= 1e-9
    ring = place_neighbours(mesh)
    while bare.any():
        # What held nothing else takes its neighbours' mean, ring by ring, from the side that does.
        rows = np.flatnonzero(bare)
        mean = np.asarray(ring[rows] @ rest)
        mean[:, column] = 0.0
        ready = mean.sum(axis=1) > 1e-9
        if not ready.any():
            rest[rows, ids.index(parent) if parent is not None else (column + 1) % len(ids)] = 1.0
            break
        rest[rows[ready]] = mean[ready] / mean[ready].sum(axis=1, keepdims=True)
        bare[rows[ready]] = False
    rest /= rest.sum(axis=1, keepdims=True)
    rest[places] = limited(rest[places], _limit(character, part_id))
    return _with(document, part_id, from_dense(rest[g.group], ids))


def replace_influence(
    document: Document, part_id: str, old_id: str, new_id: str, vertices: IntArray | None = None
) -> Document:
    """Give all one joint holds on a part, or on some vertices, to another."""
    character = document.require_character()
    weights, skeleton = _weights(character, part_id), character.skeleton
    if skeleton is None or new_id not in skeleton.index:
        raise EditError(f"there is no joint {new_id}")
    if old_id == new_id:
        raise EditError("choose another joint to take over")
    if old_id not in weights.joint_ids:
        raise EditError(f"{_name(character, old_id)} holds nothing there")
    ids = weights.joint_ids if new_id in weights.joint_ids else (*weights.joint_ids, new_id)
    values = dense_over(weights, ids)
    some = np.arange(len(values)) if vertices is None else whole_places(character, part_id, vertices)
    values[some, ids.index(new_id)] += values[some, ids.index(old_id)]
    values[some, ids.index(old_id)] = 0.0
    return _with(document, part_id, from_dense(values, ids))


def irrelevant_joints(weights: Weights) -> tuple[str, ...]:
    """Joints that nowhere hold more than SLIGHT of a part, though they hold something."""
    most = dense(weights).max(axis=0)
    return tuple(j for j, w in zip(weights.joint_ids, most, strict=True) if 0 < w <= SLIGHT)


def drop_irrelevant(document: Document, part_id: str) -> tuple[Document, tuple[str, ...]]:
    """Only relevant joints stay influences of a part. Returns the document and the joints dropped."""
    character = document.require_character()
    weights = _weights(character, part_id)
    gone = irrelevant_joints(weights)
    if not gone:
        return document, ()
    values = dense(weights).copy()
    values[:, [weights.joint_ids.index(j) for j in gone]] = 0.0
    bare = values.sum(axis=1) <= 0
    values[bare] = dense(weights)[bare]
    kept = [c for c in range(values.shape[1]) if values[:, c].any()]
    result = from_dense(values[:, kept], [weights.joint_ids[c] for c in kept])
    return _with(document, part_id, result), gone


def prune_tiny(document: Document, part_id: str, least: float = 0.005) -> tuple[Document, int]:
    """Drop weights under `least` from a part. Returns the document and how many vertices changed."""
    weights = _weights(document.require_character(), part_id)
    values = dense(weights).copy()
    tiny = (values > 0) & (values < least) & (values.max(axis=1, keepdims=True) >= least)
    touched = int(tiny.any(axis=1).sum())
    if not touched:
        return document, 0
    values[tiny] = 0.0
    return _with(document, part_id, from_dense(values, weights.joint_ids)), touched


def keep_vertices(document: Document, name: str, vertices: Mapping[str, IntArray]) -> Document:
    """Keep a vertex selection by name; the same name is replaced. Raises EditError for none selected or no name."""
    character = document.require_character()
    chosen = {p: np.unique(v) for p, v in vertices.items() if len(v)}
    if not name.strip() or not chosen:
        raise EditError("select vertices and give the selection a name")
    for values in chosen.values():
        values.setflags(write=False)
    sets = {**character.vertex_sets, name.strip(): MappingProxyType(chosen)}
    return document.with_character(replace(character, vertex_sets=MappingProxyType(sets)))


def drop_vertices(document: Document, name: str) -> Document:
    """Forget a kept selection. Raises EditError for an unknown one."""
    character = document.require_character()
    if name not in character.vertex_sets:
        raise EditError(f"there is no kept selection {name}")
    sets = {k: v for k, v in character.vertex_sets.items() if k != name}
    return document.with_character(replace(character, vertex_sets=MappingProxyType(sets)))


def whole_places(character: Character, part_id: str, vertices: IntArray) -> IntArray:
    """Vertices with all others at their places, so that seams move as one."""
    g = weld(character.part(part_id).mesh)
    return np.flatnonzero(np.isin(g.group, g.group[np.asarray(vertices, dtype=np.int64)]))


def _weights(character: Character, part_id: str) -> Weights:
    if character.skin is None or part_id not in character.skin.weights:
        raise EditError(f"{character.part(part_id).name} is not bound yet; bind first")
    return character.skin.weights[part_id]


def _limit(character: Character, part_id: str) -> int:
    assert character.skin is not None
    return character.skin.limit(part_id)


def _name(character: Character, joint_id: str) -> str:
    skeleton = character.skeleton
    return skeleton.joint(joint_id).name if skeleton is not None and joint_id in skeleton.index else joint_id


def _with(document: Document, part_id: str, weights: Weights) -> Document:
    character = document.require_character()
    assert character.skin is not None
    changed = document.with_character(replace(character, skin=with_weights(character.skin, {part_id: weights})))
    return borders_carried(document, changed)
