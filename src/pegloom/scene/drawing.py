"""From a document and what is selected to the lines and dots of the stage."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.skeleton.axes import clean_matrix
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.joints import Origin, Side, Skeleton, other_side_name
from pegloom.core.skeleton.pegs import PegSet
from pegloom.document.model import Character
from pegloom.scene.camera import Camera
from pegloom.scene.drawlist import DrawList
from pegloom.scene.handles import Handle, HandleKind, handle_lines
from pegloom.scene.lenses import rgb

SIDE_COLOURS = {Side.LEFT: "#43B7A6", Side.RIGHT: "#E5A04A", Side.CENTRE: "#B793E0"}
LINEN, LINE, INK = rgb("#F2ECE0"), rgb("#3A4358"), rgb("#14171F")
AXES = {"x": rgb("#E4574F"), "y": rgb("#6BBF59"), "z": rgb("#5B8DEF"), "view": rgb("#F2ECE0")}


@dataclass(frozen=True, slots=True)
class Marks:
    """What of the scene is selected or under the pointer, by id.

    size : factor on all joints' marks. sizes : on those of single joints.
    """

    selected: frozenset[str] = frozenset()
    hovered: str = ""
    size: float = 1.0
    sizes: Mapping[str, float] = field(default_factory=dict)


def side_colour(side: Side) -> FloatArray:
    return rgb(SIDE_COLOURS[side])


def side_colour_name(thing: str, character: Character | None, kind: str) -> str:
    """The colour (#RRGGBB) of the side a peg or a joint is on."""
    side = Side.CENTRE
    if kind == "peg":
        side = {"l_": Side.LEFT, "r_": Side.RIGHT}.get(thing[:2], Side.CENTRE)
    elif character is not None and character.skeleton is not None and thing in character.skeleton.index:
        side = character.skeleton.joint(thing).side
    return SIDE_COLOURS[side]


def draw_ground(draw: DrawList, height: float) -> None:
    """A woven grid: a metre in ten, threads passing over and under; a metre stick beside the character."""
    size = 1.0 if height <= 3 else float(np.ceil(height / 2))
    step = size / 10 * (1 if height <= 3 else 2)
    count = round(size / step)
    for k in range(-count, count + 1):
        at = k * step
        strong = k % 10 == 0
        alpha = 0.85 if strong else 0.42
        edge = count * step
        for swap in (False, True):
            ends = np.array([[at, 0.0, -edge], [at, 0.0, edge]])
            # Over and under: each thread dips at every second crossing.
            points = np.linspace(ends[0], ends[1], 2 * count + 1)
            keep = points[:, [2, 1, 0]] if swap else points
            for i in range(len(keep) - 1):
                if (i + k + swap) % 2 == 0 or strong:
                    draw.behind.add(keep[i : i + 2], LINE, 1.6 if strong else 1.0, alpha)
                else:
                    draw.behind.add(keep[i : i + 2], LINE, 1.0, alpha * 0.55)


def draw_stick(draw: DrawList, height: float, aside: float) -> None:
    """The metre stick: decimetre marks up to the character's height."""
    x, z = -aside, 0.0
    top = max(height, 0.1)
    unit = 0.1 if top < 5 else 1.0
    draw.through.add(np.array([[x, 0, z], [x, top, z]]), LINEN, 1.4, 0.6)
    for k in range(int(top / unit) + 1):
        wide = (0.05 if k % 10 == 0 else 0.022) * max(top / 1.7, 0.3)
        draw.through.add(np.array([[x, k * unit, z], [x + wide, k * unit, z]]), LINEN, 1.2, 0.55)


def draw_skeleton(draw: DrawList, skeleton: Skeleton, worlds: FloatArray, marks: Marks, *, alpha: float = 1.0) -> None:
    """Cords of three strands and joints with rings, in side colours."""
    sizes = _cord_radius(skeleton)
    worlds = shown_axes(skeleton, worlds)
    for i, joint in enumerate(skeleton.joints):
        colour = side_colour(joint.side)
        chosen = joint.id in marks.selected
        parent = int(skeleton.parents[i])
        floating = parent >= 0 and skeleton.joints[parent].parent is None and len(skeleton.joints) > 2
        floating = floating or joint.floating
        if parent >= 0 and not floating:
            parent_id = skeleton.joints[parent].id
            parent_picked = parent_id in marks.selected
            shade = side_colour(
                skeleton.joints[parent].side if skeleton.joints[parent].side is joint.side else joint.side
            )
            _cord(draw, worlds[parent], worlds[i], sizes[i], shade, parent_picked, alpha)
        if joint.tail is not None and not skeleton.children(joint.id):
            tail = np.linalg.inv(skeleton.world[i]) @ np.append(joint.tail, 1.0)
            end = worlds[i].copy()
            end[:3, 3] = (worlds[i] @ tail)[:3]
            _cord(draw, worlds[i], end, sizes[i] * 0.8, colour, chosen, alpha * 0.8)
        place = worlds[i][:3, 3]
        small = (3.4 if joint.role in ("finger", "toe") else 5.0) * marks.size * marks.sizes.get(joint.id, 1.0)
        if chosen:
            draw.dots.add(place, colour, small + 9.0, hollow=2.0, alpha=0.5)
            _axes(draw, worlds[i], sizes[i] * 3.2)
        if joint.id == marks.hovered:
            draw.dots.add(place, LINEN, small + 3.5, hollow=1.0, alpha=0.9)
        draw.dots.add(place, colour, small + (1.2 if chosen else 0.0), hollow=1.0, alpha=alpha)


def shown_axes(skeleton: Skeleton, worlds: FloatArray) -> FloatArray:
    """Posed worlds (j, 4, 4) with clean axes where a file's joint has its own: those stay for the way back."""
    if not any(j.origin is Origin.FILE for j in skeleton.joints):
        return worlds
    clean = np.array([clean_matrix(skeleton, j) for j in skeleton.joints])
    return np.asarray(worlds @ skeleton.inverse_world @ clean)


def draw_plaques(draw: DrawList, pegs: PegSet, skeleton: Skeleton, height: float) -> None:
    """A small plaque over each thumb's end: with the right roll it lies flat on the nail."""
    for kit in kits_in(pegs):
        if kit.bend != "thumb" or kit.joints[-1] not in skeleton.index:
            continue
        joint = skeleton.joint(kit.joints[-1])
        world = joint.matrix
        tip = np.array(joint.tail if joint.tail else joint.position)
        middle = tip + world[:3, 2] * 0.009 * height - world[:3, 1] * 0.006 * height
        a, b = world[:3, 0] * 0.007 * height, world[:3, 1] * 0.009 * height
        corners = np.array([middle + a + b, middle - a + b, middle - a - b, middle + a - b, middle + a + b])
        draw.over.add(corners, side_colour(joint.side), 2.2, 0.95)
        draw.over.add(np.array([tip, middle]), side_colour(joint.side), 1.2, 0.7)


def reach_lines(skeleton: Skeleton, joint_id: str, radius: float, worlds: FloatArray) -> list[FloatArray]:
    """A joint's reach as the outline of a tube around its bones: rings and staves, in the pose."""
    i = skeleton.index[joint_id]
    joint = skeleton.joints[i]
    ends = [c.position for c in skeleton.children(joint_id)] or [joint.tail or joint.position]
    motion = worlds[i] @ skeleton.inverse_world[i]
    here = np.array(joint.position)
    turn = np.linspace(0, 2 * np.pi, 41)
    lines = []
    for end in ends:
        way = np.array(end) - here
        axis = normalised(way) if np.linalg.norm(way) > 1e-9 else np.array([0.0, 1.0, 0.0])
        right = any_perpendicular(axis)
        up = np.cross(axis, right)
        ring = radius * (np.cos(turn)[:, None] * right + np.sin(turn)[:, None] * up)
        rings = [here + t * way + ring for t in (0.0, 0.5, 1.0)]
        lines += [*rings, *(np.stack([rings[0][k], rings[2][k]]) for k in (0, 10, 20, 30))]
    return [line @ motion[:3, :3].T + motion[:3, 3] for line in lines]


def draw_reach(draw: DrawList, lines: list[FloatArray], side: Side, *, held: bool) -> None:
    for line in lines:
        draw.over.add(line, side_colour(side), 2.2 if held else 1.3, alpha=0.95 if held else 0.6)


def draw_ghost(draw: DrawList, lines: FloatArray) -> None:
    """The pose before: faint edges (s, 2, 3)."""
    for line in lines:
        draw.behind.add(line, LINEN, 1.0, 0.16)


def draw_middle(draw: DrawList, middle: float, height: float, depth: float, held: bool) -> None:
    """The centre line: a dashed frame of the mirror plane, a thick line at the front to drag."""
    for a, b in (((0, -depth), (height, -depth)), ((height, -depth), (height, depth)), ((0, depth), (0, -depth))):
        start, end = np.array([middle, a[0], a[1]]), np.array([middle, b[0], b[1]])
        for k in range(0, 20, 2):
            draw.through.add(
                np.array([start + (end - start) * k / 20, start + (end - start) * (k + 1) / 20]), LINEN, 1.0, 0.5
            )
    front = np.array([[middle, 0, depth], [middle, height, depth]])
    draw.over.add(front, rgb("#B793E0"), 4.0 if held else 2.2, 0.95)


def middle_line(middle: float, height: float, depth: float) -> FloatArray:
    """The line of the mirror plane that can be dragged (2, 3)."""
    return np.array([[middle, 0.0, depth], [middle, height, depth]])


def draw_moves(draw: DrawList, moves: list[tuple[FloatArray, FloatArray]]) -> None:
    """Proposed moves: a line from where a peg stands to where it belongs, a ring there."""
    for here, goal in moves:
        draw.over.add(np.array([here, goal]), LINEN, 2.2, 0.9)
        draw.dots.add(goal, LINEN, 6.0, hollow=1.0, alpha=0.95)


def _cord_radius(skeleton: Skeleton) -> FloatArray:
    lengths = np.full(len(skeleton.joints), 0.05)
    for i, parent in enumerate(skeleton.parents):
        if parent >= 0:
            lengths[i] = float(np.linalg.norm(skeleton.positions[i] - skeleton.positions[parent]))
    return np.clip(lengths * 0.07, 0.0015, 0.014)


CORD_STEPS = np.linspace(0.0, 1.0, 7)[:, None]
CORD_BULGE = 0.35 + 1.3 * np.sin(np.pi * CORD_STEPS) ** 0.8
STRANDS = np.array([[1.0, 0.0], [-0.5, 0.87], [-0.5, -0.87]])
"""Each strand's direction in the x and z axes of a joint."""


def _cord(
    draw: DrawList, start: FloatArray, end: FloatArray, radius: float, colour: FloatArray, chosen: bool, alpha: float
) -> None:
    """Three strands, each from one axis of the parent to the same axis of the child; x, the bend axis, is brighter."""
    centre = start[:3, 3] + CORD_STEPS * (end[:3, 3] - start[:3, 3])
    away_start, away_end = STRANDS @ start[:3, [0, 2]].T, STRANDS @ end[:3, [0, 2]].T
    for k in range(3):
        strand = centre + radius * CORD_BULGE * ((1 - CORD_STEPS) * away_start[k] + CORD_STEPS * away_end[k])
        bright = 1.0 if k == 0 else 0.62
        shade = colour * 0.75 + 0.25 * LINEN if k == 0 else colour * 0.8
        draw.over.add(strand, shade, (2.6 if chosen else 1.7) * (1.0 if k == 0 else 0.8), alpha * bright)


def _axes(draw: DrawList, world: FloatArray, length: float) -> None:
    for k, name in enumerate("xyz"):
        axis = world[:3, k] / max(float(np.linalg.norm(world[:3, k])), 1e-9)
        draw.over.add(np.array([world[:3, 3], world[:3, 3] + axis * length]), AXES[name], 2.0, 0.9)


def draw_pegs(draw: DrawList, pegs: PegSet, marks: Marks, height: float) -> None:
    """Pegs: full dots with a short stem upward; weak guesses hollow and with a linen ring."""
    digits = {name for kit in pegs.kits if kit.kind in ("finger", "toe") for name in kit.pegs}
    for peg in pegs.pegs:
        other = other_side_name(peg.name)
        side = Side.CENTRE if other is None else (Side.LEFT if peg.name.startswith("l_") else Side.RIGHT)
        colour, place = side_colour(side), np.array(peg.position)
        fine = peg.name in digits
        radius = 4.0 if fine else 6.5
        if peg.name in marks.selected:
            draw.dots.add(place, colour, radius + 10, hollow=2.0, alpha=0.55)
        stem = np.array([place, place + [0.0, 0.012 * height * (0.6 if fine else 1.0), 0.0]])
        draw.over.add(stem, colour, 2.0, 0.9)
        weak = peg.weak
        if peg.name == marks.hovered or weak:
            draw.dots.add(place, LINEN, radius + 3, hollow=1.0, alpha=0.9)
        draw.dots.add(place, colour, radius, hollow=1.0 if weak else 0.0)


def draw_handle(draw: DrawList, handle: Handle, camera: Camera, hovered: str, allowed: str = "xyz") -> None:
    """The grips of a handle; the one under the pointer thicker. allowed: the axes that may be used."""
    for grip, line in handle_lines(handle, camera):
        if grip != "view" and grip not in allowed:
            continue
        if grip == "view" and handle.kind is not HandleKind.MOVE and allowed != "xyz":
            continue
        strong = grip == hovered
        draw.over.add(line, AXES[grip], 4.0 if strong else 2.4, 1.0 if grip != "view" or strong else 0.55)
        if handle.kind is HandleKind.MOVE and grip != "view":
            draw.dots.add(line[1], AXES[grip], 6.0 if strong else 5.0)
        if handle.kind is HandleKind.GROW and grip != "view":
            draw.dots.add(line[1], AXES[grip], 6.5, hollow=1.0)
