"""Weights a helper joint takes, and gives back."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import Mesh, weld
from pegloom.core.skeleton.joints import JointKind, Skeleton
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.weights import Weights, dense_over, from_dense

EASED, EASINGS, WHOLE = 110, 4, 0.2
"""Shares of the body's diagonal over which the weights are eased, half-passes, and what helpers hold of a place that is eased wholly."""


def sharers(skeleton: Skeleton, of: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Joints that hold the skin above and below a joint: what it hangs on and itself, each with its twist joints."""
    above = skeleton.joint(of).parent
    rows = []
    for joint in (above, of):
        rows.append(() if joint is None else (joint, *(c.id for c in skeleton.children(joint) if c.kind is JointKind.TWIST)))
    return rows[0], rows[1]


def seeded(mesh: Mesh, weights: Weights, skeleton: Skeleton, helpers: Collection[tuple[str, str]], influences: int | None) -> Weights:
    """Weights in which each helper takes what is shared over the joint it stands at, eased along the skin where it took some.

    helpers : (helper, joint). influences : most a vertex.
    """
    ids = list(dict.fromkeys((*weights.joint_ids, *(h for h, _ in helpers))))
    number = {j: k for k, j in enumerate(ids)}
    values = dense_over(weights, ids)
    taken: set[str] = set()
    for helper, of in helpers:
        above, below = ([number[j] for j in some if j in number] for some in sharers(skeleton, of))
        over, under = values[:, above].sum(axis=1), values[:, below].sum(axis=1)
        # Four times their product over their sum is all of it where both hold half, and has no edge there.
        shared = np.minimum(4.0 * over * under / np.maximum(over + under, 1e-12), 2.0 * np.minimum(over, under))
        if shared.max(initial=0.0) < 1e-3:
            continue
        taken.add(helper)
        for some, whole in ((above, over), (below, under)):
            values[:, some] *= (1.0 - 0.5 * shared / np.maximum(whole, 1e-12))[:, None]
        values[:, number[helper]] += shared
    if not taken:
        return weights
    kept = [k for k, j in enumerate(ids) if j in weights.joint_ids or j in taken]
    g = weld(mesh)
    places = values[g.first]
    holds = places[:, [number[h] for h in taken]].sum(axis=1)
    near = nearness(mesh, np.full(g.count, float(np.linalg.norm(np.ptp(mesh.points, axis=0))) / EASED))
    soft = softened(places, near, EASINGS)
    share = np.clip(softened(holds[:, None], near, EASINGS) / WHOLE, 0.0, 1.0)
    values = ((1.0 - share) * places + share * soft)[g.group]
    return from_dense(values[:, kept], [ids[k] for k in kept], influences=influences)


def given_back(weights: Weights, skeleton: Skeleton, helpers: Collection[tuple[str, str]], influences: int | None = None) -> Weights:
    """Weights without helpers: each gives half of what it holds to what lies above its joint, half to what lies below."""
    gone = {h for h, _ in helpers}
    if not gone & set(weights.joint_ids):
        return weights
    every = [j for j in weights.joint_ids if j not in gone]
    more = [j for h, of in helpers if h in weights.joint_ids for j in (skeleton.joint(of).parent, of) if j is not None]
    ids = list(dict.fromkeys((*every, *more)))
    number = {j: k for k, j in enumerate(ids)}
    whole = dense_over(weights, list(dict.fromkeys((*weights.joint_ids, *ids))))
    columns = {j: k for k, j in enumerate(dict.fromkeys((*weights.joint_ids, *ids)))}
    values = whole[:, [columns[j] for j in ids]]
    for helper, of in helpers:
        if helper not in columns:
            continue
        held = whole[:, columns[helper]]
        for joint in (skeleton.joint(of).parent, of):
            some = _beside(values, number, sharers(skeleton, of)[0 if joint != of else 1], joint or of)
            values += 0.5 * held[:, None] * some
    return from_dense(values, ids, influences=influences)


def _beside(values: FloatArray, number: dict[str, int], family: tuple[str, ...], joint: str) -> FloatArray:
    """Shares (n, j) in which a row's joints of a family hold it; the joint itself where none of them does."""
    own = [number[j] for j in family if j in number]
    total = values[:, own].sum(axis=1)
    result = np.zeros_like(values)
    some = total > 1e-9
    result[np.ix_(some, np.array(own))] = values[np.ix_(some, np.array(own))] / total[some, None]
    result[~some, number[joint]] = 1.0
    return result


__all__ = ["given_back", "seeded", "sharers"]
