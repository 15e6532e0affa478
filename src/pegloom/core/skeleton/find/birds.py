"""The finder for birds and other winged bodies on two legs: wings spread or folded, a neck, a beak, a tail."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.skeleton.find.creatures import Found, at_height, feet_of, leg_column, on_middle
from pegloom.core.skeleton.find.shape import Shape, Tip
from pegloom.core.skeleton.kits import Kit


def find_winged(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs of a bird: two feet, wings spread or folded, a neck and a beak ahead, a tail behind."""
    tips = shape.tips(0.04 * shape.longest)
    found: Found = {}
    low, h = shape.low[1], shape.height
    feet = [
        t
        for t in feet_of(shape, tips, below=0.15)
        if abs(t.place[0] - shape.middle) < 0.3 * shape.size[0] + 2 * shape.cell
    ]
    body = shape.centres[shape.core]
    lateral = sorted((t for t in tips if t.place[1] > low + 0.2 * h), key=lambda t: -abs(t.place[0] - shape.middle))
    spread = 0.2 * shape.longest
    wings = [t for t in lateral if abs(t.place[0] - shape.middle) > spread]
    middle = [t for t in tips if on_middle(shape, t, 0.1) and t.place[1] > low + 0.2 * h]
    beak = max(
        (t for t in middle if t.place[2] > body[2] or t.place[1] > body[1] + 0.25 * h),
        key=lambda t: t.place[2] + t.place[1],
        default=None,
    )
    tail = min((t for t in middle if t.place[2] < body[2]), key=lambda t: t.place[2], default=None)
    thick = float(shape.depth[shape.core])
    hips = np.array([shape.middle, body[1] + 0.1 * thick, body[2] - 0.9 * thick])
    chest = np.array([shape.middle, body[1] + 0.25 * thick, body[2] + 0.9 * thick])
    found["hips"] = (shape.inside(hips), 0.45)
    found["back"] = (shape.inside(body + [0, 0.3 * thick, 0]), 0.6)
    found["chest"] = (shape.inside(chest), 0.45)
    if beak is not None:
        way = shape.ways(beak.node)
        total = float(way[shape.core])
        cells = np.flatnonzero(way < total - 0.8 * thick)
        line = shape.line(beak, cells=cells, until=total)
        # The skull is the widest set in the branch's outer part; the neck begins where it grows into the body.
        outer = (line.along > 0.06 * total) & (line.along < 0.5 * total)
        head_at = 0.25 * total
        if outer.sum() >= 3:
            widest = int(np.argmax(np.where(outer, line.areas, -1)))
            head_at = float(line.along[widest])
        after = np.flatnonzero(line.along > head_at + 0.15 * total)
        usual = float(np.median(line.areas[after])) if len(after) else 1.0
        grown = [i for i in after if line.areas[i] > 2.2 * usual]
        neck_at = float(line.along[grown[0]]) if grown else 0.9 * (total - 0.8 * thick)
        neck_at = float(np.clip(neck_at, head_at + 0.1 * total, total))
        for name, t in (("neck", 0.0), ("throat", 1 / 3), ("nape", 2 / 3), ("head", 1.0)):
            place = line.at(neck_at + t * (head_at - neck_at))
            # Along a neck without bends only its ends are told by the shape.
            found[name] = (np.array([shape.middle, place[1], place[2]]), 0.8 if name in ("neck", "head") else 0.4)
        found["beak"] = (np.array([shape.middle, beak.place[1], beak.place[2]]), 0.9)
        skull = found["beak"][0] - found["head"][0]
        found["jaw"] = (shape.inside(found["head"][0] + 0.3 * skull - [0, 0.3 * shape.cell, 0]), 0.4)
        found["chin"] = (shape.inside(found["head"][0] + 0.9 * skull - [0, 0.3 * shape.cell, 0]), 0.4)
    if tail is not None:
        line = shape.line(tail, until=tail.length + shape.cell)
        found["tail"] = (line.at(0.95 * shape.root(line, tail.length)), 0.7)
        found["tail_tip"] = (line.at(0.3 * shape.cell), 0.8)
    for s, sign in (("l", 1.0), ("r", -1.0)):
        mine = [t for t in wings if (t.place[0] - shape.middle) * sign > 0]
        if mine:
            _wing(shape, found, s, mine[0], sign, thick)
        else:
            _folded_wing(shape, found, s, sign, hips, chest, thick)
        foot = [t for t in feet if (t.place[0] - shape.middle) * sign > 0]
        _bird_leg(shape, found, s, foot, body, thick, sign)
    return found


def _wing(shape: Shape, found: Found, s: str, tip: Tip, sign: float, thick: float) -> None:
    line = shape.line(tip, until=tip.length + 2 * shape.cell)
    out = (line.places[:, 0] - shape.middle) * sign
    inside = np.flatnonzero(out < max(0.8 * thick, 2 * shape.cell))
    end = float(line.along[inside[0]]) if len(inside) else float(line.along[-1])
    shoulder = line.at(end)
    found[f"{s}_shoulder"] = (shoulder, 0.5)
    # Where the wing bends in plan: the wrist points forward; else the usual thirds.
    for name, t in (("elbow", 0.72), ("wrist", 0.42)):
        found[f"{s}_{name}"] = (line.at(t * end), 0.6 if name == "elbow" else 0.45)
    found[f"{s}_wing_tip"] = (line.at(0.3 * shape.cell), 0.85)


def _folded_wing(
    shape: Shape, found: Found, s: str, sign: float, hips: FloatArray, chest: FloatArray, thick: float
) -> None:
    """A wing that lies on the body: along its side, folded as birds do, elbow back, wrist ahead. A weak guess."""
    trunk = shape.centres[np.abs(shape.centres[:, 1] - chest[1]) < 0.8 * thick]
    between = trunk[(trunk[:, 2] > hips[2]) & (trunk[:, 2] < chest[2])]
    if len(between) == 0:
        return
    half = max(float(((between[:, 0] - shape.middle) * sign).max()), shape.cell)
    for name, aside, up, back in (
        ("shoulder", 0.7, 0.2, 0.1), ("elbow", 0.85, 0.0, 0.75), ("wrist", 0.9, -0.1, 0.15), ("wing_tip", 0.95, -0.1, 1.1),
    ):  # fmt: skip
        place = chest + back * (hips - chest)
        found[f"{s}_{name}"] = (
            np.array([shape.middle + sign * aside * half, place[1] + up * thick, place[2]]), 0.3,
        )  # fmt: skip


def _bird_leg(shape: Shape, found: Found, s: str, feet: list[Tip], body: FloatArray, thick: float, sign: float) -> None:
    low = shape.low[1]
    centres = shape.centres
    ground = centres[(centres[:, 1] < low + 0.05 * shape.height) & ((centres[:, 0] - shape.middle) * sign > 0)]
    if len(ground) == 0:
        return
    belly = body[1] - thick
    leg = max(belly - low, 0.1 * shape.height)
    ankle_cells = centres[
        (np.abs(centres[:, 1] - (low + 0.15 * leg)) < 1.5 * shape.cell) & ((centres[:, 0] - shape.middle) * sign > 0)
        & (np.abs(centres[:, 0] - shape.middle) < 0.3 * shape.longest)
    ]  # fmt: skip
    near = ankle_cells.mean(axis=0) if len(ankle_cells) else ground.mean(axis=0)
    foot = np.array([near[0], low, near[2]])
    middles, _, heights = leg_column(shape, foot, belly + 0.3 * thick)
    if len(middles) < 4:
        return
    sure = 0.75 if feet else 0.5
    toe = np.array([ground[:, 0].mean(), low + 0.4 * shape.cell, float(ground[:, 2].max()) - 0.3 * shape.cell])
    ball = np.array([near[0], low + 0.06 * leg, near[2]])
    hip = np.array(
        [shape.middle + 0.8 * (middles[-1][0] - shape.middle), body[1] - 0.25 * thick, 0.5 * (middles[-1][2] + body[2])]
    )
    hock_y = low + 0.52 * leg
    span = (heights > low + 0.25 * leg) & (heights < low + 0.85 * leg)
    if span.sum() >= 3:
        top = middles[-1]
        t = (heights[span] - ball[1]) / max(top[1] - ball[1], 1e-9)
        off = ball[2] + t * (top[2] - ball[2]) - middles[span][:, 2]
        if off.max() > 0.03 * leg:
            hock_y = float(heights[span][int(np.argmax(off))])
    hock = at_height(middles, heights, hock_y)
    knee = at_height(middles, heights, min(belly - 0.02 * leg, heights[-1]))
    knee[1] = max(knee[1], hock_y + 0.5 * (hip[1] - hock_y))
    knee = knee + [0.0, 0.0, 0.1 * leg]
    found[f"{s}_hip"] = (hip, 0.6 * sure)
    found[f"{s}_knee"] = (shape.inside(knee), 0.6 * sure)
    found[f"{s}_hock"] = (hock, sure)
    found[f"{s}_ball"] = (ball, sure)
    found[f"{s}_toe"] = (toe, sure)
