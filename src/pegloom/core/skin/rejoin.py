"""Weights brought along when the skeleton changes: what a removed joint held, what an added one takes.

Rows always keep their sum, so a vertex never moves at rest and never loses its hold.
"""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.joints import Joint, Skeleton, section_start
from pegloom.core.skin.weights import Weights, dense_over, limited_rows, with_rows, without_columns


def smooth_step(x: FloatArray) -> FloatArray:
    """0 below -1, 1 above 1, smooth between."""
    t = np.clip((x + 1.0) / 2.0, 0.0, 1.0)
    return np.asarray(t * t * (3.0 - 2.0 * t))


def share_of(points: FloatArray, skeleton: Skeleton, joint: Joint, before: Skeleton) -> FloatArray:
    """Share (n,) of its parent's weight an added joint takes: what lies beyond it, along its bone.

    A joint put into a bone, between two that were there `before`, takes all beyond its own place; one that begins a
    branch (an ear) what lies around the branch, no farther than it is long or two of its bones are.
    """
    here = np.array(joint.position)
    children = [c for c in skeleton.children(joint.id) if not c.aside]
    ends = [np.array(c.position) for c in children] + ([np.array(joint.tail)] if joint.tail else [])
    if not ends:
        return np.zeros(len(points))
    end = ends[0]
    length = float(np.linalg.norm(end - here))
    if length < 1e-9:
        return np.zeros(len(points))
    direction = (end - here) / length
    away = points - here
    beyond = smooth_step((away @ direction) / (0.22 * length))
    parent = skeleton.joint(joint.parent) if joint.parent else None
    inserted = False
    if parent is not None:
        way = here - np.array(parent.position)
        inserted = any(_old_below(skeleton, c, before) for c in children) and float(normalised(way) @ direction) > 0.5
    if inserted:
        return beyond
    line = _branch(skeleton, joint)
    bones = np.linalg.norm(np.diff(line, axis=0), axis=1)
    length = float(min(bones.sum(), 2.0 * bones.max()))
    distance = closest_on_segments(points, line[:-1], line[1:])[1].min(axis=1)
    return np.asarray(beyond * (1.0 - smooth_step((distance - 0.75 * length) / (0.25 * length))))


def _old_below(skeleton: Skeleton, joint: Joint, before: Skeleton) -> bool:
    """Whether a joint, or one that hangs on it, was there before."""
    return joint.id in before.index or any(_old_below(skeleton, c, before) for c in skeleton.children(joint.id))


def _branch(skeleton: Skeleton, joint: Joint) -> FloatArray:
    """Places (p, 3) from a joint down the first of what hangs on it, and so on, to the last one's end."""
    line = [np.array(joint.position)]
    while True:
        children = [c for c in skeleton.children(joint.id) if not c.aside]
        if not children:
            return np.array(line if joint.tail is None else [*line, np.array(joint.tail)])
        joint = children[0]
        line.append(np.array(joint.position))


def spread_over_chain(points: FloatArray, total: FloatArray, places: FloatArray) -> FloatArray:
    """A chain's weight (n,) shared out over its joints: (n, c), rows adding to `total`.

    places (c + 1, 3): the joints and the tail. Each vertex goes to the bone it lies beside, blended into the next
    over a quarter of a bone at each joint.
    """
    starts, ends = places[:-1], places[1:]
    bone = ends - starts
    length = np.maximum(np.linalg.norm(bone, axis=1), 1e-9)
    t = np.einsum("ncd,cd->nc", points[:, None] - starts[None], bone) / length**2
    near = np.linalg.norm(points[:, None] - (starts + np.clip(t, 0, 1)[..., None] * bone), axis=2)
    # A running place along the chain: the nearest bone's number and how far along it.
    best = np.argmin(near, axis=1)
    rows = np.arange(len(points))
    place = best + np.clip(t[rows, best], 0.0, 1.0)
    count = len(starts)
    shares = np.zeros((len(points), count))
    shares[:, 0] = 1.0
    for k in range(1, count):
        over = smooth_step((place - k) / 0.3)
        shares[:, k] = over
        shares[:, k - 1] -= over
    return np.asarray(np.clip(shares, 0.0, 1.0) * total[:, None])


def carry_weights(
    weights: Weights, old: Skeleton, new: Skeleton, points: FloatArray | None = None,
    *, takes: frozenset[str] = frozenset(), chains: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = (),
    influences: int | None = None,
) -> Weights:  # fmt: skip
    """Weights on a changed skeleton.

    What a removed joint held goes to its nearest remaining parent. takes : added joints that take their share of
    their parent's (needs points (n, 3) at rest). chains : (old joints, new joints) of kits cut into another number
    of joints; the whole of their weight is shared out anew. influences : the most a changed row may hold.
    """
    recut = {j for before, after in chains for j in (*before, *after)}
    added = [j for j in new.joints if j.id in takes and j.id not in old.index and j.id not in recut]
    if all(joint in new.index for joint in weights.joint_ids) and not added and not chains:
        return weights
    # Only rows that hold what goes, is cut anew or gives a share are worked on; the others are the very same.
    source = {j for before, _ in chains for j in before}
    source |= {joint for joint in weights.joint_ids if joint not in new.index}
    source |= {j.parent for j in added if j.parent is not None}
    rows = _rows_of(weights, source)
    if not len(rows):
        return without_columns(weights, [joint for joint in weights.joint_ids if joint not in new.index])
    some = None if points is None else points[rows]
    values = np.asarray(weights.matrix()[rows].todense())
    shares = {joint: values[:, c].copy() for c, joint in enumerate(weights.joint_ids)}
    nothing = np.zeros(len(rows))
    families = [set(after) for _, after in chains]
    for before, after in chains:
        total = sum((shares.pop(j) for j in before if j in shares), nothing.copy())
        alive = [j for j in after if j in new.index]
        if some is None or not alive:
            heir = alive[0] if alive else new.joints[0].id
            shares[heir] = shares.get(heir, nothing) + total
            continue
        last = new.joint(alive[-1])
        places = [section_start(new, new.joint(j)) for j in alive]
        ends = [c for c in new.children(last.id) if not c.aside and not last.aside and len(alive) > 1]
        end = ends[0].position if ends and not np.array_equal(places[-1], last.position) else last.tail
        places.append(np.array(end) if end else 2 * places[-1] - places[max(len(places) - 2, 0)])
        for joint, part in zip(alive, spread_over_chain(some, total, np.array(places)).T, strict=True):
            shares[joint] = shares.get(joint, nothing) + part
    result = {joint: v for joint, v in shares.items() if joint in new.index}
    for joint, v in shares.items():
        if joint in new.index:
            continue
        heir_id = old.joint(joint).parent if joint in old.index else None
        while heir_id is not None and heir_id not in new.index:
            heir_id = old.joint(heir_id).parent
        heir_id = heir_id or new.joints[0].id
        result[heir_id] = result.get(heir_id, nothing) + v
    for joint_record in added:
        parent = joint_record.parent
        if some is None or parent is None or parent not in result:
            continue
        moved = result[parent] * share_of(some, new, joint_record, old)
        if moved.max(initial=0.0) > 1e-4:
            result[parent] = result[parent] - moved
            result[joint_record.id] = result.get(joint_record.id, nothing) + moved
            families.append({parent, joint_record.id})
    gone = [joint for joint in weights.joint_ids if joint not in result]
    columns = [*weights.joint_ids, *(joint for joint in result if joint not in weights.joint_ids)]
    stacked = np.stack([result.get(joint, nothing) for joint in columns], axis=1)
    output = np.clip(stacked, 0.0, None)
    if influences is not None:
        _fold(output, [[columns.index(j) for j in some if j in result] for some in _united(families)], influences)
        output = limited_rows(output, influences)
    return without_columns(with_rows(weights, columns, rows, output), gone)


def taken_anew(
    weights: Weights, old: Skeleton, new: Skeleton, points: FloatArray | None, joints: frozenset[str], *,
    influences: int | None = None,
) -> Weights:  # fmt: skip
    """Weights in which joints that took a share of what they hang on take it anew, where they stand in `new`.

    points (n, 3) : at rest. joints : those that moved, with all that hangs on them. Where they hold anything else than
    what they would take at their old places (a bind gave it to them, or a hand), nothing is changed.
    """
    mine = frozenset(j for j in joints if j in old.index and j in new.index)
    if points is None or not mine:
        return weights
    bare = Skeleton(tuple(j for j in old.joints if j.id not in mine))
    if any(j.parent in mine for j in bare.joints):
        return weights
    without = carry_weights(weights, old, bare, influences=influences)
    before = carry_weights(without, bare, old, points, takes=mine, influences=influences)
    columns = tuple(dict.fromkeys((*weights.joint_ids, *before.joint_ids)))
    if np.abs(dense_over(before, columns) - dense_over(weights, columns)).max(initial=0.0) > SAME:
        return weights
    bare = Skeleton(tuple(j for j in new.joints if j.id not in mine))
    return carry_weights(without, bare, new, points, takes=mine, influences=influences)


SAME = 1e-4
"""Weights nearer than this are the same: crumbs come and go as rows are normalised."""


def _united(families: list[set[str]]) -> list[set[str]]:
    """Sets that share a member as one."""
    result: list[set[str]] = []
    for family in families:
        apart = [m for m in result if not m & family]
        result = [*apart, family.union(*(m for m in result if m & family))]
    return result


def _fold(rows: FloatArray, families: list[list[int]], influences: int) -> None:
    """In rows (r, j) of more than `influences` joints, what a family of columns holds gathers on fewer of it, in place.

    So a bone that is cut into more, or gives to a new joint, keeps its whole weight; nothing goes to other limbs.
    """
    for family in families:
        while True:
            own = rows[:, family]
            some = np.flatnonzero(((rows > 0).sum(axis=1) > influences) & ((own > 0).sum(axis=1) > 1))
            if not len(some):
                break
            own = own[some]
            least, most = np.where(own > 0, own, np.inf).argmin(axis=1), own.argmax(axis=1)
            at = np.arange(len(some))
            # Of equals the last one gives.
            least = np.where(least == most, len(family) - 1 - (own[:, ::-1] > 0).argmax(axis=1), least)
            own[at, most] += own[at, least]
            own[at, least] = 0.0
            rows[np.ix_(some, np.array(family))] = own


def _rows_of(weights: Weights, joints: set[str]) -> IntArray:
    """Vertices that hold anything of some joints."""
    mine = np.isin(weights.indices, [c for c, joint in enumerate(weights.joint_ids) if joint in joints])
    return np.unique(np.searchsorted(weights.indptr, np.flatnonzero(mine), side="right") - 1)
