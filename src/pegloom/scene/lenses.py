"""Lenses: what is judged by eye, as colours on the surface."""

from __future__ import annotations

from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_edges, weld
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.measures import vertex_strain
from pegloom.core.skin.weights import Weights, dense, dense_over
from pegloom.document.model import Part
from pegloom.document.strays import judged_strays


class Lens(Enum):
    NONE = "none"
    INFLUENCE = "influence"
    ALL = "all influences"
    STRAIN = "strain"
    VOLUME = "volume"
    DIFFERENCE = "difference"
    COUNT = "influences per vertex"
    STRAYS = "strays"
    DELIVERED = "delivered"
    """How far the delivered file strays, as it was last measured."""


RAMP = ("#1B2036", "#39409A", "#A8457F", "#E2704E", "#F1CE6A")
"""Weight 0 to 1: ink, indigo, rose, orange, straw; lightness rises all the way."""
SQUEEZED, CLAY, STRETCHED = "#3F7FBF", "#8C8A94", "#D98A3D"
STRAY = "#E2664F"
COUNTED = 0.005
"""A weight under this is not counted as an influence by the lens."""
STRAIN_FULL = 1.0
"""Strain (log2) at which the colour is full: half or twice the length."""


def rgb(colour: str) -> FloatArray:
    """#RRGGBB as three numbers 0..1."""
    return np.array([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])


def influence_values(weights: Weights, joint_id: str) -> FloatArray:
    """(n, 4): the weight in the first column, 1 in the last; the shader draws ramp and contours."""
    values = np.zeros((weights.vertex_count, 4))
    values[:, 0] = weights.column(joint_id)
    values[:, 3] = 1.0
    return values


def hue(number: int) -> FloatArray:
    """A colour far from those of neighbouring numbers: golden-angle hues, alternating lightness."""
    h = (number * 0.381966) % 1.0
    light = (0.62, 0.5, 0.72)[number % 3]
    channel = np.abs(((h * 6 + np.array([0.0, 4.0, 2.0])) % 6) - 3) - 1
    pure = np.clip(channel, 0, 1)
    return np.asarray(0.5 * light + 0.55 * light * pure + 0.12)


def all_influences(weights: Weights) -> FloatArray:
    """(n, 4) colours: each joint's own, mixed by weight."""
    palette = np.array([hue(i) for i in range(len(weights.joint_ids))])
    return np.column_stack([dense(weights) @ palette, np.ones(weights.vertex_count)])


def count_colours(weights: Weights, limit: int) -> FloatArray:
    """(n, 4) colours: how many joints move each vertex, in steps of the ramp from 1 to `limit`; more is as `limit`."""
    count = (dense(weights) > COUNTED).sum(axis=1)
    palette = np.array([step_colour(k, limit) for k in range(1, limit + 1)])
    return np.column_stack([palette[np.clip(count, 1, limit) - 1], np.ones(len(count))])


def step_colour(step: int, steps: int) -> FloatArray:
    """The ramp's colour (3,) of step 1 to `steps`."""
    t = (step - 1) / max(steps - 1, 1)
    ramp = np.array([rgb(colour) for colour in RAMP])
    at = np.linspace(0, 1, len(RAMP))
    return np.array([np.interp(t, at, ramp[:, k]) for k in range(3)])


def strain_colours(part: Part, posed: FloatArray) -> FloatArray:
    """(n, 4) colours: squeezed blue, unchanged clay, stretched orange, safe for colour-blind eyes."""
    g = weld(part.mesh)
    strain = vertex_strain(part.mesh.points[g.first], posed[g.first], place_edges(part.mesh))[g.group]
    return _diverging(strain)


def _diverging(log2: FloatArray) -> FloatArray:
    t = np.clip(log2 / STRAIN_FULL, -1, 1)[:, None]
    clay, low, high = rgb(CLAY), rgb(SQUEEZED), rgb(STRETCHED)
    colour = np.where(t < 0, clay + (low - clay) * -t, clay + (high - clay) * t)
    return np.column_stack([colour, np.ones(len(log2))])


def volume_colours(
    part: Part, weights: Weights, skeleton: Skeleton, posed: FloatArray, joints: FloatArray
) -> FloatArray:
    """(n, 4) colours of the thickness kept. Thinner is blue, as at rest clay, swollen orange; full at half and twice."""
    return _diverging(np.log2(np.clip(thickness_kept(part, weights, skeleton, posed, joints), 0.05, 20.0)))


def thickness_kept(
    part: Part, weights: Weights, skeleton: Skeleton, posed: FloatArray, joints: FloatArray,
    vertices: IntArray | slice = slice(None),
) -> FloatArray:  # fmt: skip
    """Each vertex's distance to its bone, posed over rest, squared: 1 as at rest. joints (j, 4, 4): posed."""
    starts, ends, owners = bones_of(skeleton)
    matrices = joints @ skeleton.inverse_world
    bone = _nearest_bone(part.mesh, weights, skeleton)[vertices]
    index = owners[bone]
    a = np.einsum("nij,nj->ni", matrices[index, :3, :3], starts[bone]) + matrices[index, :3, 3]
    b = np.einsum("nij,nj->ni", matrices[index, :3, :3], ends[bone]) + matrices[index, :3, 3]
    rest = _to_segments(part.mesh.points[vertices], starts[bone], ends[bone])
    now = _to_segments(posed[vertices], a, b)
    floor = 0.002 * max(float(np.ptp(part.mesh.points[:, 1])), 1e-9)
    return np.asarray(((now + floor) / (rest + floor)) ** 2)


def bones_of(skeleton: Skeleton) -> tuple[FloatArray, FloatArray, IntArray]:
    """Bones as starts (b, 3), ends (b, 3) and the joint (b,) each belongs to; a joint without a bone is a point."""
    starts, ends, owners = [], [], []
    for i, joint in enumerate(skeleton.joints):
        places = [c.position for c in skeleton.children(joint.id)] or [joint.tail or joint.position]
        for place in places:
            starts.append(joint.position)
            ends.append(place)
            owners.append(i)
    return np.array(starts), np.array(ends), np.array(owners, dtype=np.int64)


@of_the_latest(4)
def _nearest_bone(mesh: Mesh, weights: Weights, skeleton: Skeleton) -> IntArray:
    """The nearest bone (n,) at rest of the joint that moves a vertex most."""
    starts, ends, owners = bones_of(skeleton)
    columns = np.array([skeleton.index[j] for j in weights.joint_ids])
    strongest = columns[dense(weights).argmax(axis=1)]
    nearest = np.zeros(len(strongest), dtype=np.int64)
    for joint in np.unique(strongest):
        mine = np.flatnonzero(strongest == joint)
        own = np.flatnonzero(owners == joint)
        distance = np.stack([_to_segments(mesh.points[mine], starts[[b]], ends[[b]]) for b in own])
        nearest[mine] = own[distance.argmin(axis=0)]
    return nearest


def _to_segments(points: FloatArray, a: FloatArray, b: FloatArray) -> FloatArray:
    way = b - a
    t = np.einsum("nd,nd->n", points - a, np.broadcast_to(way, points.shape)) / np.maximum(
        (way * way).sum(axis=1), 1e-18
    )
    return np.asarray(np.linalg.norm(points - a - np.clip(t, 0.0, 1.0)[:, None] * way, axis=1))


def difference_of(
    here: FloatArray, other: FloatArray, weights: Weights, others: Weights
) -> tuple[FloatArray, float, bool]:
    """How far two versions are apart: (n,) values, what is full colour, and whether they are metres.

    here, there (n, 3): the posed points. In a pose the distance in metres; where nothing moves, half the sum of the
    weights' differences.
    """
    apart = np.linalg.norm(here - other, axis=1)
    largest = float(apart.max(initial=0.0))
    if largest > 1e-6:
        return apart, largest, True
    ids = list(dict.fromkeys([*weights.joint_ids, *others.joint_ids]))
    rows = [dense_over(own, ids) for own in (weights, others)]
    return np.abs(rows[0] - rows[1]).sum(axis=1) / 2, 1.0, False


def ramp_colours(values: FloatArray, full: float) -> FloatArray:
    """(n, 4) colours of values from 0 to `full` on the ramp."""
    t = np.clip(values / max(full, 1e-12), 0.0, 1.0)
    ramp = np.array([rgb(colour) for colour in RAMP])
    at = np.linspace(0, 1, len(RAMP))
    return np.column_stack([*(np.interp(t, at, ramp[:, k]) for k in range(3)), np.ones(len(values))])


def stray_colours(part: Part, weights: Weights, skeleton: Skeleton) -> FloatArray:
    """(n, 4) colours: sure strays in the snags' colour, doubtful ones in a paler one, everything else dim clay."""
    colours = np.tile(np.append(0.6 * rgb(CLAY), 1.0), (part.mesh.vertex_count, 1))
    for stray in reversed(judged_strays(part.mesh, weights, skeleton)):
        colours[stray.vertices, :3] = rgb(STRAY) if stray.sure else 0.5 * (rgb(STRAY) + rgb(CLAY))
    return colours
