"""Control shapes sized from the mesh: a ring clears the limb it goes round, and keeps apart from its neighbours.

The mesh is cut across the bone where the ring lies. From the bone, rays in the plane meet the skin and what is worn over
it. Only what lies nearest to bones of the same limb counts: not the trunk beside an arm.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property

import numpy as np
from numba import njit
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.transforms import (
    euler_quaternion,
    matrix_quaternion,
    quaternion_euler,
    rotation_matrix,
)
from pegloom.core.rig.controls import Control, ControlRig, Shape
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.rig.solvers import LIMBS
from pegloom.core.skeleton.joints import Side, Skeleton

RAYS = 48
HITS = 10
"""Layers a ray is followed through."""
CLEAR, CLEAR_BY = 1.14, 0.005
"""A ring is so much wider than what it goes round, and so much more in shares of the height."""
LAYER = 0.4
"""What is worn lies at most this much farther out than what is under it, as a share of that."""
ODD = 3.0
"""A ray that goes on so much farther than most runs into something else."""
ALONG_BONE = 9
"""Places along a bone by which it is told what of the mesh is its own."""
SEEN = 0.6
"""Share of the rays that must meet something for a place to lie inside."""
PLACES = (0.42, 0.5, 0.34, 0.58, 0.26, 0.66, 0.2, 0.74)
"""Where along its bone a ring may lie, the first one first."""
APART = 0.004
"""Shares of the height that lines of neighbours keep apart."""
UNEVEN = 0.12
"""Share by which a body's two sides must differ for their shapes to."""
FLAT = 0.12
"""A figure less deep than this share of how wide and tall it is, is a drawing."""
FEET = 0.12
"""What reaches lower than this share of the height stands on the ground."""


@njit(cache=True)
def section_hits(points, triangles, centre, right, up, normal, rays, most):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Distances (rays, most) from a centre (3,) to where rays in a plane meet the triangles, not in order; inf for none.

    right, up, normal (3,) : the plane's axes. Ray k leads to the angle 2 pi k / rays from right to up.
    """
    found = np.full((rays, most), np.inf)
    n = len(points)
    height, x, y = np.empty(n), np.empty(n), np.empty(n)
    for i in range(n):
        dx, dy, dz = points[i, 0] - centre[0], points[i, 1] - centre[1], points[i, 2] - centre[2]
        height[i] = dx * normal[0] + dy * normal[1] + dz * normal[2]
        x[i] = dx * right[0] + dy * right[1] + dz * right[2]
        y[i] = dx * up[0] + dy * up[1] + dz * up[2]
    ends = np.empty((2, 2))
    step = 2 * np.pi / rays
    for t in range(len(triangles)):
        count = 0
        for e in range(3):
            a, b = triangles[t, e], triangles[t, (e + 1) % 3]
            if (height[a] > 0.0) != (height[b] > 0.0) and count < 2:
                s = height[a] / (height[a] - height[b])
                ends[count, 0], ends[count, 1] = x[a] + s * (x[b] - x[a]), y[a] + s * (y[b] - y[a])
                count += 1
        if count < 2:
            continue
        first = np.arctan2(ends[0, 1], ends[0, 0])
        sweep = np.arctan2(ends[1, 1], ends[1, 0]) - first
        if sweep > np.pi:
            sweep -= 2 * np.pi
        elif sweep < -np.pi:
            sweep += 2 * np.pi
        low, high = (first, first + sweep) if sweep >= 0 else (first + sweep, first)
        ex, ey = ends[1, 0] - ends[0, 0], ends[1, 1] - ends[0, 1]
        for k in range(int(np.ceil(low / step)), int(np.floor(high / step)) + 1):
            c, s = np.cos(k * step), np.sin(k * step)
            across = c * ey - s * ex
            if abs(across) < 1e-15:
                continue
            r = (ends[0, 0] * ey - ends[0, 1] * ex) / across
            if r <= 0.0:
                continue
            row, worst = k % rays, 0
            for h in range(1, most):
                if found[row, h] > found[row, worst]:
                    worst = h
            if r < found[row, worst]:
                found[row, worst] = r
    return found


def section_radii(
    points: FloatArray, triangles: IntArray, centre: FloatArray, right: FloatArray, up: FloatArray, normal: FloatArray,
) -> FloatArray | None:
    """How far the surface reaches around a place, per ray (RAYS,), nan where nothing is met; None where the place does not
    lie inside."""
    reach = _reached(section_hits(points, triangles, centre, right, up, normal, RAYS, HITS), LAYER)
    met = np.isfinite(reach)
    if met.mean() < SEEN:
        return None
    usual = float(np.sort(reach[met])[int(0.4 * met.sum())])
    return np.asarray(np.where(met, np.minimum(reach, ODD * usual), np.nan))


@njit(cache=True)
def _reached(hits, layer):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How far (rays,) the first skin and what lies close over it reach, of where rays meet the surface (rays, most)."""
    result = np.empty(len(hits))
    for k in range(len(hits)):
        row = np.sort(hits[k])
        reach = row[0]
        for h in range(1, len(row)):
            # A coat over it, but not the next limb.
            if row[h] <= reach + 0.25 * row[0] and row[h] <= row[0] * (1.0 + layer):
                reach = row[h]
        result[k] = reach
    return result


def limb_of_each(skeleton: Skeleton) -> IntArray:
    """Number (j,) of the limb each joint is of: the topmost of its side above it; 0 for the trunk."""
    found = np.zeros(len(skeleton.joints), dtype=np.int64)
    for i, joint in enumerate(skeleton.joints):
        above = int(skeleton.parents[i])
        if joint.side is Side.CENTRE:
            continue
        same = above >= 0 and skeleton.joints[above].side is joint.side
        found[i] = found[above] if same else i + 1
    return found


def nearest_limbs(skeleton: Skeleton, points: FloatArray, limbs: IntArray) -> IntArray:
    """The limb (n,) whose bones lie nearest to each point (n, 3)."""
    places, owners = [], []
    for i, joint in enumerate(skeleton.joints):
        start = np.array(joint.position)
        ends = [np.array(c.position) for c in skeleton.children(joint.id)] or [np.array(joint.tail or joint.position)]
        for end in ends:
            places.append(start + np.linspace(0.0, 1.0, ALONG_BONE)[:, None] * (end - start))
            owners.append(np.full(ALONG_BONE, limbs[i]))
    nearest = cKDTree(np.concatenate(places)).query(points)[1]
    return np.asarray(np.concatenate(owners)[nearest])


class _Fit:
    def __init__(self, rig: ControlRig, skeleton: Skeleton, points: FloatArray, triangles: IntArray, height: float) -> None:
        self.rig, self.skeleton, self.height = rig, skeleton, height
        self.points = np.ascontiguousarray(points, dtype=np.float64)
        self.triangles = np.ascontiguousarray(triangles, dtype=np.int64)
        self.joint_of = {control: joint for joint, control in rig.turned_by.items()}
        # Each limb goes round its own mesh: the trunk beside an arm, the other leg beside a thigh are none of it.
        self.limbs = limb_of_each(skeleton)
        owner = nearest_limbs(skeleton, self.points, self.limbs)[self.triangles]
        self.own = {
            limb: np.ascontiguousarray(self.triangles[(owner == limb).any(axis=1)]) for limb in np.unique(self.limbs).tolist()
        }  # fmt: skip
        self.done: list[FloatArray] = []
        self.centres: list[FloatArray] = []
        self.radii_done: list[float] = []
        self.low = float(self.points[:, 1].min())

    def radii(self, centre: FloatArray, right: FloatArray, up: FloatArray, joint: str = "") -> FloatArray | None:
        """joint : of whose limb alone the mesh is looked at; "" for all of it."""
        triangles = self.own[int(self.limbs[self.skeleton.index[joint]])] if joint in self.skeleton.index else self.triangles
        return section_radii(self.points, triangles, centre, right, up, np.cross(right, up))

    def flat_points(self, centre: FloatArray, right: FloatArray, up: FloatArray, joint: str = "") -> FloatArray | None:
        """The outline around a place (k, 2) in a plane's axes; None where there is none."""
        radii = self.radii(centre, right, up, joint)
        if radii is None:
            return None
        angle = np.arange(RAYS) * 2 * np.pi / RAYS
        flat = np.stack([radii * np.cos(angle), radii * np.sin(angle)], axis=1)
        return np.asarray(flat[np.isfinite(radii)])

    def clearing(self, flat: FloatArray, *, square: bool = False) -> tuple[FloatArray, FloatArray]:
        """Middle (2,) and half widths (2,) of the ellipse, or the rectangle, that goes round an outline (k, 2)."""
        low, high = flat.min(axis=0), flat.max(axis=0)
        middle, half = (low + high) / 2, np.maximum((high - low) / 2, 0.15 * float((high - low).max()) / 2 + 1e-6)
        if not square:
            half = half * float(np.linalg.norm((flat - middle) / half, axis=1).max())
        return middle, half * CLEAR + CLEAR_BY * self.height

    def crowded(self, control: Control) -> float:
        """How near a control's lines come to those placed before, in metres."""
        mine = self.world_lines(control)
        # Its partner stands across the middle.
        near = float("inf") if control.side is Side.CENTRE else max(2.0 * float((mine[:, 0] * (1 if control.side is Side.LEFT else -1)).min()), 0.0)
        centre = mine.mean(axis=0)
        radius = float(np.linalg.norm(mine - centre, axis=1).max())
        if self.done:
            apart = np.linalg.norm(np.array(self.centres) - centre, axis=1) - np.array(self.radii_done) - radius
            for k in np.flatnonzero(apart < min(near, 2 * APART * self.height)):
                near = min(near, float(np.asarray(cKDTree(self.done[int(k)]).query(mine)[0]).min()))
        return near

    def world_lines(self, control: Control) -> FloatArray:
        return np.concatenate([line @ control.matrix[:3, :3].T + control.matrix[:3, 3] for line in shape_lines(control)])

    def kept(self, control: Control) -> Control:
        lines = self.world_lines(control)
        centre = lines.mean(axis=0)
        self.done.append(lines)
        self.centres.append(centre)
        self.radii_done.append(float(np.linalg.norm(lines - centre, axis=1).max()))
        return control

    def ring(self, control: Control, joint: str) -> Control:
        """A ring round the limb, or over a finger an arc; where rings would cross, too, an arc on the side that is free."""
        finger = self.skeleton.joint(joint).role in ("finger", "toe")
        rings: list[Control] = []
        best: tuple[float, Control] | None = None

        def tried() -> Iterator[Control]:
            for share in PLACES[:2] if finger else PLACES:
                ring = self.around(control, share, less=0.8 if finger else 0.0)
                if ring is not None:
                    rings.append(ring)
                    # Over a finger's back: the palm's side is where it curls to.
                    yield replace(ring, shape=Shape.ARC, tilt=(0.0, np.pi, 0.0)) if finger else ring
            for tilt in () if finger else (np.pi, 0.0, np.pi / 2, -np.pi / 2):
                yield from (replace(ring, shape=Shape.ARC, tilt=(0.0, tilt, 0.0)) for ring in rings)

        for made in tried():
            gap = self.crowded(made)
            if gap >= APART * self.height:
                return made
            if best is None or gap > best[0]:
                best = (gap, made)
        return control if best is None else best[1]

    def around(self, control: Control, share: float, *, less: float) -> Control | None:
        """The ring that clears the limb at a share of its bone. less : of CLEAR_BY."""
        frame, along = control.matrix, control.offset[1] / PLACES[0]
        flat = self.flat_points(frame[:3, 3] + frame[:3, 1] * share * along, frame[:3, 2], frame[:3, 0], self.joint_of[control.id])
        if flat is None:
            return None
        # Rays were led from z to x, so that the bone's axis is the plane's normal.
        middle, half = self.clearing(flat[:, ::-1])
        half = half - CLEAR_BY * less * self.height
        size = float(half.mean())
        return replace(
            control, size=size, stretch=(float(half[0] / size), 1.0, float(half[1] / size)),
            offset=(float(middle[0]), share * along, float(middle[1])),
        )  # fmt: skip

    def over_skin(self, control: Control) -> Control:
        """A shape that stands on the skin above its bone, apart from the ring of the limb it carries."""
        frame, up = control.matrix, np.array([0.0, 1.0, 0.0])
        middle = frame[:3, 3] + frame[:3, 1] * control.offset[1] * 0.8 / PLACES[0]
        side = frame[:3, 1] - up * float(frame[:3, 1] @ up)
        if np.linalg.norm(side) < 1e-6:
            return control
        right = side / np.linalg.norm(side)
        radii = self.radii(middle, right, up)
        if radii is None:
            return control
        above = radii[RAYS // 4 - 2 : RAYS // 4 + 1]
        if not np.isfinite(above).any():
            return control
        away = float(np.nanmin(above)) + 0.035 * self.height
        place = frame[:3, :3].T @ (middle + up * away - frame[:3, 3])
        # Its face to the front: across what leads from back to front.
        axes = np.stack([right, np.cross(up, right), up], axis=1)
        tilt = quaternion_euler(matrix_quaternion(frame[:3, :3].T @ axes))
        return replace(control, offset=_three(place), tilt=_three(tilt))

    def foot(self, joint: str) -> FloatArray:
        """The lowest place (3,) of a joint, those below it and their tails."""
        places, below = [], [joint]
        while below:
            one = self.skeleton.joint(below.pop())
            places += [np.array(one.position), *([] if one.tail is None else [np.array(one.tail)])]
            below += [child.id for child in self.skeleton.children(one.id)]
        return np.asarray(min(places, key=lambda p: float(p[1])))

    def standing(self, control: Control, joint: str) -> Control:
        """The goal of a leg as a sole round the foot on the ground."""
        frame, lowest = control.matrix, self.foot(joint)
        place = self.skeleton.positions[self.skeleton.index[joint]]
        ahead, right = np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0])
        flat, inside = None, place
        for share in (0.0, 0.5, 0.3, 0.75, 1.0):
            inside = place + share * (lowest - place)
            inside[1] = self.low + max(0.45 * (min(float(place[1]), self.low + FEET * self.height / 2) - self.low), 0.012 * self.height)
            flat = self.flat_points(inside, ahead, right, joint)
            if flat is not None:
                break
        if flat is None:
            return control
        middle, half = self.clearing(flat[:, ::-1], square=True)
        size = float(half.mean())
        ground = np.array([inside[0] + middle[0], self.low + 0.002 * self.height, inside[2] + middle[1]])
        axes = frame[:3, :3].T
        return replace(
            control, shape=Shape.SOLE, size=size, stretch=(float(half[0] / size), 1.0, float(half[1] / size)),
            offset=_three(axes @ (ground - frame[:3, 3])), tilt=_three(quaternion_euler(matrix_quaternion(axes))),
        )  # fmt: skip

    def held(self, control: Control, joint: str) -> Control:
        """The goal of a hand as a cube that clears it."""
        i = self.skeleton.index[joint]
        world = self.skeleton.world[i]
        flat = self.flat_points(world[:3, 3] + world[:3, 1] * 0.3 * control.size, world[:3, 2], world[:3, 0], joint)
        if flat is None:
            return control
        most = float(np.linalg.norm(flat, axis=1).max())
        return replace(control, size=float(np.clip(1.5 * most, 0.7 * control.size, 1.6 * control.size)))

    def body(self, control: Control) -> Control:
        """A level plate round the hips."""
        place = control.matrix[:3, 3]
        flat = self.flat_points(place, np.array([0.0, 0.0, 1.0]), np.array([1.0, 0.0, 0.0]))
        if flat is None:
            return control
        middle, half = self.clearing(flat[:, ::-1], square=True)
        half = half + 0.012 * self.height
        size = float(half.mean())
        return replace(
            control, shape=Shape.PLATE, size=size, stretch=(float(half[0] / size), 1.0, float(half[1] / size)),
            offset=(float(middle[0]), 0.0, float(middle[1])),
        )  # fmt: skip

    @cached_property
    def flat(self) -> bool:
        """Whether the figure is a drawing: a ring round a piece of it would be seen from its edge alone."""
        wide, tall, deep = np.ptp(self.points, axis=0)
        return bool(deep < FLAT * min(wide, tall))

    def facing(self, control: Control) -> Control:
        """A shape that faces the front, before a drawing."""
        frame = control.matrix[:3, :3]
        axes = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])
        middle = control.matrix[:3, 3] + frame @ np.array(control.offset)
        ahead = float(self.points[:, 2].max()) + 0.01 * self.height - middle[2]
        return replace(
            control, tilt=_three(quaternion_euler(matrix_quaternion(frame.T @ axes))),
            offset=_three(np.array(control.offset) + frame.T @ np.array([0.0, 0.0, ahead])),
        )  # fmt: skip

    def root(self, control: Control) -> Control:
        """A ring on the ground round all that stands on it."""
        place = control.matrix[:3, 3]
        feet = self.points[self.points[:, 1] < self.low + FEET * self.height][:, [0, 2]]
        if len(feet) < 3:
            return control
        low, high = feet.min(axis=0) - place[[0, 2]], feet.max(axis=0) - place[[0, 2]]
        middle, half = (low + high) / 2, (high - low) / 2
        half = np.maximum(half * 1.42 + 0.02 * self.height, max(0.62 * float(half.max() * 1.42) + 0.02 * self.height, 0.17 * self.height))
        size = float(half.mean())
        away = control.matrix[:3, :3].T @ np.array([middle[0], 0.0, middle[1]])
        return replace(control, size=size, stretch=(float(half[0] / size), 1.0, float(half[1] / size)), offset=_three(away))


def _alike(left: Control, right: Control) -> Control:
    """The right one of a pair looks as the left one does in a mirror, unless the body itself is not even."""
    if left.shape is right.shape and abs(left.size - right.size) > UNEVEN * left.size:
        return right
    turn = right.matrix[:3, :3].T @ np.diag([-1.0, 1.0, 1.0]) @ left.matrix[:3, :3]
    own = rotation_matrix(euler_quaternion(np.array(left.tilt)))
    return replace(
        right, shape=left.shape, size=left.size, stretch=_three(np.abs(turn) @ np.array(left.stretch)),
        offset=_three(turn @ np.array(left.offset)), tilt=_three(quaternion_euler(matrix_quaternion(turn @ own @ turn.T))),
    )  # fmt: skip


def _three(v: FloatArray) -> tuple[float, float, float]:
    return (float(v[0]), float(v[1]), float(v[2]))


def fit_shapes(rig: ControlRig, skeleton: Skeleton, points: FloatArray, triangles: IntArray, height: float) -> ControlRig:
    """The rig with shapes sized from a mesh at rest: points (n, 3) metres, triangles (t, 3). What finds nothing to go by
    keeps its size."""
    if not len(points) or not len(triangles):
        return rig
    fit = _Fit(rig, skeleton, points, triangles, height)
    goals = {s.goal.id: s.joints[-1] for s in rig.solvers if isinstance(s, LIMBS)}
    fitted: dict[str, Control] = {}
    for control in rig.controls:
        joint, made = fit.joint_of.get(control.id, ""), control
        if control.helper:
            continue
        if control.id == "root":
            made = fit.root(control)
        elif control.id == "inner":
            continue
        elif fit.flat:
            made = fit.facing(control) if control.shape in (Shape.CIRCLE, Shape.SQUARE) else control
        elif control.id in goals:
            low = fit.foot(goals[control.id])[1] < fit.low + FEET * height
            made = fit.standing(control, goals[control.id]) if low else fit.held(control, goals[control.id])
        elif control.shape is Shape.TRIANGLE:
            made = fit.over_skin(control)
        elif control.shape is Shape.CIRCLE and joint and control.offset[1] > 0:
            made = fit.ring(control, joint)
        elif control.id == "body":
            made = fit.body(control)
        other = fitted.get(rig.other_side(control.id) or "")
        if other is not None and other.id != control.id and control.side is Side.RIGHT:
            made = _alike(other, made)
        fitted[control.id] = fit.kept(made)
    ring = fitted.get("root")
    inner = next((c for c in rig.controls if c.id == "inner"), None)
    if ring is not None and inner is not None:
        # Ahead of the feet, inside the ring.
        half = ring.size * ring.stretch[2]
        width = 0.24 * min(ring.size * ring.stretch[0], half)
        place = ring.matrix[:3, :3] @ np.array(ring.offset) + ring.matrix[:3, 3] - inner.matrix[:3, 3]
        place = place + np.array([0.0, 0.0, 0.72 * half])
        fitted["inner"] = replace(inner, size=width, offset=_three(inner.matrix[:3, :3].T @ place))
    return replace(rig, controls=tuple(fitted.get(c.id, c) for c in rig.controls))
