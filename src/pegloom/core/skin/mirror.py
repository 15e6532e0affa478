"""Weights across the mirror plane."""

from __future__ import annotations

from enum import Enum

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.skeleton.joints import Origin, Side, Skeleton
from pegloom.core.skeleton.names import other_side_names


class Way(Enum):
    """Which half gives."""

    LEFT_TO_RIGHT = "left to right"
    RIGHT_TO_LEFT = "right to left"
    AVERAGED = "both averaged"


def mirror_rows(
    values: FloatArray, points_x: FloatArray, partners: IntArray, joint_partners: IntArray,
    way: Way = Way.LEFT_TO_RIGHT,
) -> tuple[FloatArray, IntArray]:  # fmt: skip
    """Copy one half's weights to the other, joints swapped for their partners, or give both halves the mean.

    As `mirrored`, with rows that add up to 1."""
    result, lost = mirrored(values, points_x, partners, joint_partners, way)
    return np.asarray(result / result.sum(axis=1, keepdims=True)), lost


def mirrored(
    values: FloatArray, points_x: FloatArray, partners: IntArray, joint_partners: IntArray,
    way: Way = Way.LEFT_TO_RIGHT,
) -> tuple[FloatArray, IntArray]:  # fmt: skip
    """Columns of values copied from one half to the other, or the mean of both.

    values (n, j); points_x (n,) distance from the mirror plane, left positive; partners (n,) vertex across, -1 for
    none; joint_partners (j,) column across, its own index for a centre joint, -1 for none. Vertices on the plane share
    evenly between the two sides. What a joint without one across holds is left: its share stays where it is, and over
    there the others have it. Returns new values and the vertices of the receiving half without a partner.
    """
    swapped = values[:, joint_partners]
    lost = joint_partners < 0
    if lost.any():
        swapped[:, lost] = 0.0
        held, across = values[:, lost].sum(axis=1), swapped.sum(axis=1)
        # A row that only such joints hold has nothing to give.
        gives = across > 0.3
        swapped[gives] /= across[gives, None]
        partners = np.where((partners >= 0) & ~gives[np.maximum(partners, 0)], -1, partners)
    side = {Way.LEFT_TO_RIGHT: points_x, Way.RIGHT_TO_LEFT: -points_x, Way.AVERAGED: -np.abs(points_x)}[way]
    middle = partners == np.arange(len(values))
    receiving = (side < 0) & ~middle
    has = receiving & (partners >= 0)
    result = values.copy()
    result[has] = swapped[partners[has]]
    if way is Way.AVERAGED:
        result[has] = 0.5 * (values[has] + swapped[partners[has]])
    result[middle] = 0.5 * (values[middle] + swapped[middle])
    if lost.any():
        changed = has | middle
        result[np.ix_(changed, ~lost)] *= (1.0 - held[changed])[:, None]
        result[np.ix_(changed, lost)] = values[np.ix_(changed, lost)]
        still = changed & (result.sum(axis=1) <= 0)
        result[still] = values[still]
    return result, np.flatnonzero(receiving & (partners < 0))


def partners_within(mesh: Mesh, middle: float, reach: float | None) -> IntArray:
    """For each vertex (n,) the one across x = middle, -1 where none is within `reach` metres.

    reach None takes only pairs that agree about each other, within the usual tolerance.
    """
    if reach is None:
        return partners(mesh, middle)
    g = weld(mesh)
    places = mesh.points[g.first]
    across = places * [-1.0, 1.0, 1.0] + [2 * middle, 0.0, 0.0]
    distance, nearest = cKDTree(places).query(across)
    found = np.where(distance <= reach, nearest, -1)
    return np.asarray(np.where(found[g.group] >= 0, g.first[np.maximum(found[g.group], 0)], -1))


def joints_across(skeleton: Skeleton, middle: float, *, by_place: bool = False) -> dict[str, str | None]:
    """The joint across for each joint: by its name in any common style and else by where it stands, or by place alone.

    A joint on the plane is its own, also where its name ends in what may be a side's mark. None for one without.
    """
    places = skeleton.positions
    size = max(float(np.ptp(places, axis=0).max(initial=0.0)), 1e-9)
    here = _by_place(skeleton, middle, size)
    if by_place:
        return here
    result: dict[str, str | None] = {}
    for joint, place in zip(skeleton.joints, places, strict=True):
        named = next((j.id for n in other_side_names(joint.name) if (j := skeleton.by_name(n)) is not None), None)
        if joint.origin is Origin.KIT and joint.side is Side.CENTRE:
            named = joint.id
        if named is None and abs(float(place[0]) - middle) < ON_PLANE * size:
            named = joint.id
        result[joint.id] = named or here[joint.id]
    # A pair is one both agree about.
    return {j: other if other is None or result.get(other) in (j, None) else here[j] for j, other in result.items()}


ON_PLANE = 0.008
"""Share of the skeleton's size within which a joint stands on the middle."""


def _by_place(skeleton: Skeleton, middle: float, size: float) -> dict[str, str | None]:
    places = skeleton.positions
    found = cKDTree(places).query(places * [-1.0, 1.0, 1.0] + [2 * middle, 0.0, 0.0])
    distance, nearest = np.asarray(found[0]), np.asarray(found[1])
    ids = [j.id for j in skeleton.joints]
    agree = (distance < 0.03 * size) & (nearest[nearest] == np.arange(len(ids)))
    return {own: (ids[int(nearest[i])] if agree[i] else None) for i, own in enumerate(ids)}
