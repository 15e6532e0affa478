"""Weights across the mirror plane."""

from __future__ import annotations

from enum import Enum

import numpy as np
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.skeleton.joints import Skeleton


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
    none; joint_partners (j,) column across, its own index for a centre joint. Vertices on the plane share evenly
    between the two sides. Returns new values and the vertices of the receiving half without a partner.

    Raises EditError when a joint that carries weight there has no partner.
    """
    swapped = values[:, joint_partners]
    if (joint_partners < 0).any():
        lost = np.flatnonzero(joint_partners < 0)
        if (values[:, lost] > 0).any():
            raise EditError("a joint that carries weight has no partner on the other side; name the pair alike")
        swapped[:, lost] = 0.0
    side = {Way.LEFT_TO_RIGHT: points_x, Way.RIGHT_TO_LEFT: -points_x, Way.AVERAGED: -np.abs(points_x)}[way]
    middle = partners == np.arange(len(values))
    receiving = (side < 0) & ~middle
    has = receiving & (partners >= 0)
    result = values.copy()
    result[has] = swapped[partners[has]]
    if way is Way.AVERAGED:
        result[has] = 0.5 * (values[has] + swapped[partners[has]])
    result[middle] = 0.5 * (values[middle] + swapped[middle])
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
    """The joint across for each joint: by its name, or by where it stands; a joint on the plane is its own."""
    if not by_place:
        return {j.id: skeleton.other_side(j.id) for j in skeleton.joints}
    places = skeleton.positions
    size = max(float(np.ptp(places, axis=0).max(initial=0.0)), 1e-9)
    found = cKDTree(places).query(places * [-1.0, 1.0, 1.0] + [2 * middle, 0.0, 0.0])
    distance, nearest = np.asarray(found[0]), np.asarray(found[1])
    ids = [j.id for j in skeleton.joints]
    agree = (distance < 0.03 * size) & (nearest[nearest] == np.arange(len(ids)))
    return {own: (ids[int(nearest[i])] if agree[i] else None) for i, own in enumerate(ids)}
