"""What the slice window shows: the mesh cut at a peg or joint from two directions, and where it belongs there."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.slices import cut, section_at
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.depth import depth_of, has_rule, limb_direction, rule_of
from pegloom.core.skeleton.joint_depth import joint_depth_moves
from pegloom.core.skeleton.joints import Origin, Skeleton
from pegloom.core.skeleton.pegs import PegSet


@dataclass(frozen=True, slots=True, eq=False)
class Cut:
    """One picture of the window.

    lines : outlines (k, 2) around the peg at 0, 0; proper (2,) or None.
    right, up (3,) : its axes in space.
    reach : metres from the middle to its edge.
    title : what it is cut along.
    """

    lines: tuple[FloatArray, ...]
    proper: FloatArray | None
    right: FloatArray
    up: FloatArray
    reach: float
    title: str


@dataclass(frozen=True, slots=True, eq=False)
class SliceView:
    """Both cuts at a place (3,), and the proper place (3,) if there is one."""

    place: FloatArray
    proper: FloatArray | None
    cuts: tuple[Cut, Cut]
    sound: bool


def slice_at(
    points: FloatArray, triangles: IntArray, place: FloatArray, direction: FloatArray, bulge: FloatArray,
    *, proper: FloatArray | None = None, sound: bool = True, level: bool = False,
) -> SliceView:  # fmt: skip
    """Cut across `direction` and lengthwise. level: the first cut is level, the trunk's way."""
    across = np.array([0.0, 1.0, 0.0]) if level else normalised(direction)
    out = bulge - across * float(bulge @ across)
    up = normalised(out) if np.linalg.norm(out) > 0.1 else any_perpendicular(across)
    right = np.cross(up, across)
    first = _cut(points, triangles, place, right, up, across, proper, "level" if level else "across")
    # Lengthwise: the plane that holds the limb and the way it bulges.
    second = _cut(points, triangles, place, up, across, np.cross(up, across), proper, "lengthwise", reach=first.reach)
    return SliceView(place, proper, (first, second), sound)


def _cut(
    points: FloatArray, triangles: IntArray, place: FloatArray, right: FloatArray, up: FloatArray, normal: FloatArray,
    proper: FloatArray | None, title: str, *, reach: float | None = None,
) -> Cut:  # fmt: skip
    lines = []
    for outline in cut(points, triangles, place, normal):
        away = outline.points - place
        flat = np.stack([away @ right, away @ up], axis=1)
        lines.append(np.concatenate([flat, flat[:1]]) if outline.closed else flat)
    if reach is None:
        # The outline around or beside the place fills the window.
        near = [
            float(np.abs(line).max()) for line in lines if np.linalg.norm(line, axis=1).min() < 0.15 * _span(points)
        ]
        reach = float(
            np.clip(1.25 * min(near, default=0.1 * _span(points)), 0.01 * _span(points), 0.35 * _span(points))
        )
    where = None if proper is None else np.array([(proper - place) @ right, (proper - place) @ up])
    return Cut(tuple(lines), where, right, up, reach, title)


def _span(points: FloatArray) -> float:
    return float(np.ptp(points, axis=0).max())


def slice_peg(points: FloatArray, triangles: IntArray, pegs: PegSet, peg: str) -> SliceView | None:
    """The slice window's pictures for a peg, its proper depth by the pattern's rule."""
    pegs = replace(pegs, kits=kits_in(pegs))
    kit = next((k for k in pegs.kits if peg in k.pegs), None)
    if kit is None or len(points) == 0:
        return None
    line = np.array([pegs.position(p) for p in kit.pegs])
    i = kit.pegs.index(peg)
    depth = depth_of(points, triangles, pegs, kit, peg) if has_rule(pegs, peg) else None
    rule = rule_of(pegs, peg)[0]
    direction = limb_direction(line, i)
    return slice_at(
        points, triangles, line[i], direction, np.array([0.0, 0.0, 1.0]) if rule != "upright" else np.array([0.0, 1.0, 0.0]),
        proper=None if depth is None else depth.place, sound=depth is None or depth.sound, level=rule == "trunk",
    )  # fmt: skip


def slice_joint(points: FloatArray, triangles: IntArray, skeleton: Skeleton, joint_id: str) -> SliceView | None:
    """The slice window's pictures for a joint; of an unknown part it belongs in the middle of the cut across it."""
    if len(points) == 0:
        return None
    joint = skeleton.joint(joint_id)
    world = joint.matrix
    moves = joint_depth_moves(points, triangles, skeleton, [joint_id]) if joint.origin is not Origin.KIT else ()
    if moves:
        place = np.array(moves[0].place)
        return slice_at(points, triangles, world[:3, 3], world[:3, 1], world[:3, 2], proper=place, sound=False)
    section = section_at(points, triangles, world[:3, 3], world[:3, 1])
    sound = section is not None and section.holds
    other = skeleton.other_side(joint_id)
    both = (world[:3, 3] + skeleton.positions[skeleton.index[other or joint_id]]) / 2
    if section is not None and section.holds and other not in (None, joint_id) and section.goes_round(both):
        section = None  # of a cut round both sides, a hip's through the pelvis, the middle is no joint's place
    proper = section.centre if section is not None else None
    return slice_at(points, triangles, world[:3, 3], world[:3, 1], world[:3, 2], proper=proper, sound=sound)
