"""How far each place is from each joint's bones, through the body: straight where it sees them, else the way inside."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.distance import closest_on_segments
from pegloom.core.geometry.mesh import Mesh, vertex_normals, weld
from pegloom.core.geometry.solid import Solid, cell_graph, sight_inside
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton.joints import Side, Skeleton, bone_segments
from pegloom.core.skin.bind.surface import SIGHT

LEAF_SHARE = 0.6
"""A leaf without an end of its own is taken to go on by this share of its parent's bone, or to the skin."""
ONWARD = 0.64
"""Cosine of the angle to which a child still goes on from the bone before it."""
OUTWARD = 3.0
"""How much farther (times one more) a bone counts that lies straight out of the skin: another limb held close."""
SHEET = 2.5
"""Cells of wall under a place up to which it lies on a sheet (a skirt, a cape, a sleeve) rather than on a body."""
HOLLOW = 1.25
"""How much farther a bone counts that is reached from a sheet through the air under it."""
FAR_ROUND = (1.5, 2.5)
"""How many times as far as the nearest bone is straight the way inside must be for that air to count, fading in."""
FLAT = 3.0
"""How many times as broad as its middle half width a limb is that counts as a sheet."""
REACH_OF_SIZE = 0.3
"""Share of the whole body's diagonal (not of one part's) beyond which the way inside is not followed."""
MOST_SAMPLES, LONGEST = 96, 2000
"""Places of a bone in a hollow from which the wall is looked for, and steps along any one bone, at most."""
COARSEST = 64
"""Cells along the longest side of the grid in which ways are followed."""


@dataclass(frozen=True, slots=True, eq=False)
class BodyDistances:
    """distance (g, j) metres; in_sight (g, j); radius (j,) of each joint's limb, metres; hangs (g,) 0 to 1: how far a
    place lies on cloth that hangs round a limb, so that the limb's own thickness says nothing of it."""

    distance: FloatArray
    in_sight: BoolArray
    radius: FloatArray
    hangs: FloatArray


def joint_segments(skeleton: Skeleton, joints: list[int], solid: Solid) -> tuple[FloatArray, FloatArray, IntArray]:
    """Segments (s, 3) to (s, 3) of some joints and the row of `joints` that owns each; bare leaves extended."""
    starts, ends, owner = bone_segments(skeleton)
    row = {joint: k for k, joint in enumerate(joints)}
    keep = np.array([o in row for o in owner])
    starts, ends, rows = starts[keep], ends[keep].copy(), np.array([row[o] for o in owner[keep]], dtype=np.int64)
    for k in np.flatnonzero(np.linalg.norm(ends - starts, axis=1) < 1e-9):
        if not skeleton.children(skeleton.joints[joints[rows[k]]].id):
            end = _end_of(joints[rows[k]], skeleton, solid)
            ends[k] = starts[k] if end is None else end
    for number, joint in enumerate(joints):
        if ends_here(skeleton, joint, joints) and skeleton.children(skeleton.joints[joint].id):
            tail = skeleton.joints[joint].tail
            end = np.array(tail) if tail is not None else _end_of(joint, skeleton, solid)
            if end is not None:
                starts = np.concatenate([starts, skeleton.positions[[joint]]])
                ends = np.concatenate([ends, end[None]])
                rows = np.append(rows, number)
    return starts, ends, rows


def ends_here(skeleton: Skeleton, joint: int, joints: list[int]) -> bool:
    """Whether a limb ends at a joint: it has no children, or several on the middle of which none goes on from it.

    A head holds a jaw, ears, eyes, and yet its own bone reaches to the crown or the snout. With its own tail one child
    is enough to say so; without, one child off the line is a bend. The first of `joints` (a body's hub) ends nothing.
    """
    own = skeleton.joints[joint]
    children = skeleton.children(own.id)
    if not children:
        return True
    if (
        int(skeleton.parents[joint]) not in joints
        or own.side is not Side.CENTRE
        or (own.tail is None and len(children) == 1)
    ):
        return False
    origin = skeleton.positions[joint]
    onward = origin - skeleton.positions[int(skeleton.parents[joint])]
    if own.tail is not None:
        onward = np.array(own.tail) - origin
    for child in children:
        way = np.array(child.position) - origin
        if child.side is Side.CENTRE and way @ onward > ONWARD * np.linalg.norm(way) * np.linalg.norm(onward):
            return False
    return True


def goes_on(skeleton: Skeleton, joint: int) -> bool:
    """Whether a joint on the middle goes on from the one it hangs on, by a good part of its way: a neck, a head, a tail."""
    own, above = skeleton.joints[joint], int(skeleton.parents[joint])
    if own.side is not Side.CENTRE or above < 0:
        return False
    origin, tail = skeleton.positions[above], skeleton.joints[above].tail
    over = int(skeleton.parents[above])
    if tail is None and over < 0:
        return True
    onward = np.array(tail) - origin if tail is not None else origin - skeleton.positions[over]
    way = skeleton.positions[joint] - origin
    length, reach = float(np.linalg.norm(way)), float(np.linalg.norm(onward))
    return length > 0.5 * reach and float(way @ onward) > ONWARD * length * reach


def _end_of(joint: int, skeleton: Skeleton, solid: Solid) -> FloatArray | None:
    """Where the bone of a joint that only its parent points (3,) ends: some way on, or at the skin."""
    parent = int(skeleton.parents[joint])
    if parent < 0:
        return None
    start = skeleton.positions[joint]
    bone = start - skeleton.positions[parent]
    length = float(np.linalg.norm(bone))
    if length < 1e-9:
        return None
    direction = bone / length
    if solid.inside(start[None])[0]:
        out = way_out(solid.filled, solid.origin, solid.cell, start[None], direction[None], LEAF_SHARE * length)
        length = min(length, float(out[0]) / LEAF_SHARE)
    return np.asarray(start + direction * LEAF_SHARE * length)


def body_distances(
    mesh: Mesh, skeleton: Skeleton, joints: list[int], solid: Solid, *, progress: Progress = silent
) -> BodyDistances:
    """Distances of the mesh's welded places (g) to the bones of `joints` (j). See the module."""
    g = weld(mesh)
    places = mesh.points[g.first]
    ask(progress)
    normals = _outward(places, vertex_normals(mesh)[g.first], solid)
    ask(progress)
    field = _field_of(skeleton, solid, tuple(joints))
    starts, ends, rows = field.starts, field.ends, field.rows
    straight, distance = (np.empty((g.count, len(joints))) for _ in range(2))
    in_sight: BoolArray = np.zeros((g.count, len(joints)), dtype=bool)
    every = np.arange(g.count)
    ask(progress)
    under = places - normals * (0.75 * solid.cell)
    off, node = (np.asarray(v) for v in field.tree.query(under))

    def measure(column: int) -> None:
        mine = np.flatnonzero(rows == column)
        nearest, apart = closest_on_segments(places, starts[mine], ends[mine])
        best = np.argmin(apart, axis=1)
        own, target = apart[every, best], nearest[every, best]
        near = np.flatnonzero(own < field.limit)
        share = sight_inside(solid.filled, solid.origin, solid.cell, under[near], target[near])
        in_sight[near, column] = share >= SIGHT
        inside = field.way(column)[node] + off
        # Beyond the limit four times that and the straight way, so that nearer still counts as nearer.
        inside = np.where(np.isfinite(inside), inside, 4.0 * field.limit + own)
        through = np.where(in_sight[:, column], own, np.maximum(inside, own))
        # A bone that lies out of the skin belongs to something held close, whatever the cells say.
        away = target - places
        cosine = np.einsum("gd,gd->g", away, normals) / np.maximum(np.linalg.norm(away, axis=1), 1e-12)
        t = np.clip((cosine - 0.15) / 0.4, 0.0, 1.0)
        straight[:, column], distance[:, column] = own, through * (1.0 + OUTWARD * t * t * (3.0 - 2.0 * t))

    # The kernels let go of the interpreter, so two columns are looked at at once; cancelling waits for two at most.
    with ThreadPoolExecutor(2) as pool:
        for first in range(0, len(joints), 2):
            progress(first / len(joints), "looking for the bones in sight")
            list(pool.map(measure, range(first, min(first + 2, len(joints)))))
    ask(progress)
    hangs = _hanging(distance, straight, places, normals, solid)
    distance = distance + hangs[:, None] * (np.minimum(HOLLOW * straight, distance) - distance)
    return BodyDistances(distance, in_sight, field.radius, hangs)


def _hanging(
    distance: FloatArray, straight: FloatArray, places: FloatArray, normals: FloatArray, solid: Solid
) -> FloatArray:
    """How far (g,) each place lies on a sheet that hangs round a limb with no bone of its own: it follows what it hangs round.

    The way inside a skirt leads over the waist and would give the hem to the hips. A wing's skin has its own bones about
    as near inside as any straight, and does not hang.
    """
    best, nearest = distance.min(axis=1), np.maximum(straight.min(axis=1), 1e-12)
    start, full = FAR_ROUND
    share = np.clip((best / nearest - start) / (full - start), 0.0, 1.0)
    rows = np.flatnonzero(share > 0)
    most = (SHEET + 1.0) * solid.cell
    wall = way_out(solid.filled, solid.origin, solid.cell, places[rows], -normals[rows], most)
    share[rows[wall > SHEET * solid.cell]] = 0.0
    return np.asarray(share)


def _outward(places: FloatArray, normals: FloatArray, solid: Solid) -> FloatArray:
    """Normals (g, 3) turned out of the solid where a mesh's faces look inward."""
    out = solid.inside(places + normals * 1.6 * solid.cell)
    back = solid.inside(places - normals * 1.6 * solid.cell)
    return np.where((out & ~back)[:, None], -normals, normals)


class BoneField:
    """What of a skeleton in a solid is the same for every part: bones, limb radii, the ways inside from each bone.

    starts, ends (s, 3), rows (s,): the bones and the joint, as a row of `joints`, that owns each. radius (j,).
    """

    def __init__(self, skeleton: Skeleton, solid: Solid, joints: list[int]) -> None:
        self.starts, self.ends, self.rows = joint_segments(skeleton, joints, solid)
        self.radius = limb_radii(self.starts, self.ends, self.rows, len(joints), solid)
        filled, cell = solid.filled, solid.cell
        factor = max(int(max(filled.shape) // COARSEST), 1)
        if factor > 1:
            padded = np.pad(filled, [(0, -s % factor) for s in filled.shape])
            a, b, c = (s // factor for s in padded.shape)
            filled = np.asarray(padded.reshape(a, factor, b, factor, c, factor).any(axis=(1, 3, 5)))
            cell = cell * factor
        cells = cell_graph(filled, cell)
        self.cell = cell
        self.tree = cKDTree(solid.origin + (cells.index + 0.5) * cell)
        self.limit = REACH_OF_SIZE * solid.diagonal
        # Both ways written down once: asked of a half, each search would turn it over anew.
        self._graph = (cells.graph + cells.graph.T).tocsr()
        self._ways: dict[int, FloatArray] = {}

    def way(self, column: int) -> FloatArray:
        """The way inside (cells,) from a joint's bones, metres; inf beyond the limit."""
        if column not in self._ways:
            samples = [
                self.starts[k] + np.linspace(0, 1, self._steps(k) + 1)[:, None] * (self.ends[k] - self.starts[k])
                for k in np.flatnonzero(self.rows == column).tolist()
            ]
            places = np.concatenate(samples)
            gap, sources = (np.asarray(v) for v in self.tree.query(places))
            hollow = np.flatnonzero((gap > 0.9 * self.cell) & (gap < self.limit))
            if len(hollow):
                # A bone in a hollow body (an open sleeve) is about as near to the wall all round it.
                hollow = hollow[:: len(hollow) // MOST_SAMPLES + 1]
                around = self.tree.query_ball_point(places[hollow], 1.3 * gap[hollow] + self.cell)
                sources = np.concatenate([sources, *[np.array(a, dtype=np.int64) for a in around]])
            found = dijkstra(self._graph, indices=np.unique(sources), min_only=True, limit=self.limit)
            self._ways[column] = np.asarray(found)
        return self._ways[column]

    def _steps(self, bone: int) -> int:
        # A bone far longer than the body (a skeleton in other units) needs no more: little of it is near.
        return int(np.clip(np.linalg.norm(self.ends[bone] - self.starts[bone]) / (0.7 * self.cell), 1, LONGEST))


@of_the_latest(1)
def _field_of(skeleton: Skeleton, solid: Solid, joints: tuple[int, ...]) -> BoneField:
    return BoneField(skeleton, solid, list(joints))


def limb_radii(starts: FloatArray, ends: FloatArray, rows: IntArray, count: int, solid: Solid) -> FloatArray:
    """Radius (j,) of each joint's limb: the middle of its half widths square to its bones.

    A half width is the shorter of the two ways out along a line through the bone: of an arm along a trunk the free
    side says how thick it is. A sheet counts as half as thick as it is broad.
    """
    radius = np.full(count, np.inf)
    most = 0.5 * float(max(solid.filled.shape)) * solid.cell
    for column in range(count):
        origins, directions = [], []
        for k in np.flatnonzero(rows == column):
            bone = ends[k] - starts[k]
            length = float(np.linalg.norm(bone))
            if length < 1e-9:
                continue
            a = any_perpendicular(bone)
            b = np.cross(normalised(bone), a)
            for share in np.linspace(0.15, 0.85, 6):
                for turn in np.arange(6) * np.pi / 6:
                    way = np.cos(turn) * a + np.sin(turn) * b
                    origins += [starts[k] + share * bone] * 2
                    directions += [way, -way]
        if origins:
            out = way_out(solid.filled, solid.origin, solid.cell, np.array(origins), np.array(directions), most)
            half = out.reshape(-1, 6, 2).min(axis=2)
            thick, broad = np.median(half, axis=1), 0.5 * half.max(axis=1)
            sheet = (broad > FLAT * thick) & solid.inside(np.array(origins[::12]))
            radius[column] = max(float(np.quantile(np.where(sheet, broad, thick), 0.25)), 0.5 * solid.cell)
    known = np.isfinite(radius)
    radius[~known] = float(np.median(radius[known])) if known.any() else solid.cell
    return radius


@njit(cache=True, nogil=True)
def way_out(filled, origin, cell, starts, directions, most):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Metres (m,) from starts along unit directions to the outside, at most `most`.

    From a start that is outside itself (a hollow sleeve): to the far side of the first wall.
    """
    result = np.empty(len(starts))
    nx, ny, nz = filled.shape
    for m in range(len(starts)):
        t = 0.0
        begun = False
        while t < most:
            x = int(np.floor((starts[m, 0] + t * directions[m, 0] - origin[0]) / cell))
            y = int(np.floor((starts[m, 1] + t * directions[m, 1] - origin[1]) / cell))
            z = int(np.floor((starts[m, 2] + t * directions[m, 2] - origin[2]) / cell))
            inside = 0 <= x < nx and 0 <= y < ny and 0 <= z < nz and filled[x, y, z]
            if begun and not inside:
                break
            begun = begun or inside
            t += 0.4 * cell
        result[m] = min(t, most)
    return result
