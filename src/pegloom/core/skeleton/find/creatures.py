"""Finders for animals: four legs, many legs, none; birds have a room of their own (birds.py).

They read the ends of the solid (shape.py), sort them into feet, head, tail and wings by where they stand, and lay
pegs along the branches by their bends, and by usual shares of length where nothing bends (proportions: W. Ellenberger,
H. Dittrich, H. Baum, "An Atlas of Animal Anatomy for Artists", 1956). The body faces +Z.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.standing import ground_contact
from pegloom.core.skeleton.find.shape import Line, Shape, Tip
from pegloom.core.skeleton.kits import Kit

BROAD = (1.15, 1.5)
"""How many times as broad as its middle a body is over its hind legs, from where on its thighs hide their bones."""
ROOT_INSIDE = 0.3
"""How far inside the trunk's rear a tail may begin, in heights of the trunk."""
TAIL_SURE = 0.48
"""A tail grows out of the rump, and where in it its bones begin is seen from outside only so far."""

Found = dict[str, tuple[FloatArray, float]]


def feet_of(shape: Shape, tips: list[Tip], *, below: float = 0.2) -> list[Tip]:
    """Tips that stand on the floor."""
    return [t for t in tips if t.place[1] - shape.low[1] < below * shape.height]


def on_middle(shape: Shape, tip: Tip, share: float = 0.12) -> bool:
    """Whether a tip lies about the mirror plane."""
    return bool(abs(tip.place[0] - shape.middle) < max(share * float(shape.size[0]) / 2, 2.5 * shape.cell))


def _quarter_feet(shape: Shape, feet: list[Tip]) -> dict[str, FloatArray]:
    """Foot places by quarter: lf, rf, lh, rh; from tips, else from the lowest solid of each quarter."""
    low = shape.centres[:, 1] < shape.low[1] + 0.06 * shape.height
    cells = shape.centres[low & shape.part]
    z_mid = (cells[:, 2].min() + cells[:, 2].max()) / 2 if len(cells) else 0.0
    found: dict[str, FloatArray] = {}
    for name, left, fore in (("lf", 1, 1), ("rf", -1, 1), ("lh", 1, -1), ("rh", -1, -1)):
        tips = [t for t in feet if (t.place[0] - shape.middle) * left > 0 and (t.place[2] - z_mid) * fore > 0]
        mine = cells[((cells[:, 0] - shape.middle) * left > 0) & ((cells[:, 2] - z_mid) * fore > 0)]
        if len(mine):
            found[name] = np.array([mine[:, 0].mean(), shape.low[1], mine[:, 2].mean()])
        elif tips:
            found[name] = tips[0].place
    return found


def leg_column(shape: Shape, foot: FloatArray, top: float) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Middles (m, 3), radii (m,) and heights (m,) of one leg, layer by layer up from its foot to y = top."""
    index, centres = shape.graph_cells.index, shape.centres
    side = 1.0 if foot[0] > shape.middle else -1.0
    own = ((centres[:, 0] - shape.middle) * side > -0.5 * shape.cell) & shape.part
    layers = np.arange(index[:, 1].min(), index[:, 1].max() + 1)
    middles: list[tuple[float, float, float]] = []
    radii: list[float] = []
    heights: list[float] = []
    here = np.array([foot[0], foot[2]])
    reach = 0.14 * shape.longest
    for layer in layers:
        y = shape.solid.origin[1] + (layer + 0.5) * shape.cell
        if y > top:
            break
        cells = centres[(index[:, 1] == layer) & own][:, [0, 2]]
        near = cells[np.linalg.norm(cells - here, axis=1) < reach]
        if len(near) == 0:
            continue
        if len(middles) > 2:
            # Stay on this leg: cells joined to where it was a layer below.
            near2 = near[np.linalg.norm(near - here, axis=1) < 2.2 * radii[-1] + 2 * shape.cell]
            near = near2 if len(near2) else near
        here = near.mean(axis=0)
        middles.append((here[0], y, here[1]))
        radii.append(float(np.sqrt(len(near) * shape.cell**2 / np.pi)))
        heights.append(y)
    return np.array(middles).reshape(-1, 3), np.array(radii), np.array(heights)


def at_height(middles: FloatArray, heights: FloatArray, y: float) -> FloatArray:
    return np.array([np.interp(y, heights, middles[:, 0]), y, np.interp(y, heights, middles[:, 2])])


def _belly(shape: Shape, z: float) -> float:
    """Height of the trunk's underside over z, on the mirror plane."""
    span = shape.span_y(shape.middle, z)
    return span[0] if span else shape.low[1] + 0.45 * shape.height


def find_four_legged(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs of a four-legged body."""
    h, low = shape.height, shape.low[1]
    tips = shape.tips(0.02 * shape.longest)
    feet = [t for t in feet_of(shape, tips) if not on_middle(shape, t, 0.06)]
    quarters = _quarter_feet(shape, feet)
    found: Found = {}
    if len(quarters) < 4:
        return found
    ground = ground_contact(shape.points, 0, 1, 1, shape.middle, shape.longest, 0.06)
    sure = 0.8 if len(feet) >= 4 or ground.pairs >= 2 else 0.45
    front_z = (quarters["lf"][2] + quarters["rf"][2]) / 2
    hind_z = (quarters["lh"][2] + quarters["rh"][2]) / 2
    stride = max(front_z - hind_z, 0.1 * shape.longest)
    between = [_belly(shape, z) for z in np.linspace(hind_z + 0.3 * stride, front_z - 0.3 * stride, 5)]
    belly = float(np.median(between))
    spans = [shape.span_y(shape.middle, z) for z in np.linspace(hind_z + 0.2 * stride, front_z - 0.2 * stride, 5)]
    backs = [span[1] for span in spans if span is not None]
    back = float(np.median(backs)) if backs else low + 0.7 * h
    leg = max(belly - low, 0.15 * h)
    trunk = max(back - belly, 0.1 * h)
    rump = _rump(shape, hind_z, belly, back)
    broad = _breadth(shape, hind_z) / max(_breadth(shape, 0.5 * (hind_z + front_z)), shape.cell)
    stand = _Stand(belly, leg, trunk, sure, float(np.interp(broad, BROAD, (1.0, 0.6))))
    for s in ("l", "r"):
        _hind_leg(shape, found, s, quarters[s + "h"], stand, rump)
        _fore_leg(shape, found, s, quarters[s + "f"], stand)
    _lying_spine(shape, found, hind_z, front_z, belly, back, sure)
    _head_and_tail(shape, found, tips, front_z, hind_z, back, belly)
    _tail_at_rump(found, rump, trunk, stand.thighs)
    return found


def _rump(shape: Shape, hind_z: float, belly: float, back: float) -> float:
    """z of the trunk's rear end, the tail left out: where it is still half as thick as its middle."""
    z = hind_z
    step = shape.cell
    while z > shape.low[2]:
        span = shape.span_y(shape.middle, z)
        if span is None or min(span[1], back) - max(span[0], belly) < 0.45 * (back - belly):
            break
        z -= step
    return float(z)


def _breadth(shape: Shape, z: float) -> float:
    """How broad the body is over z, legs included, metres."""
    near = (np.abs(shape.centres[:, 2] - z) < 1.5 * shape.cell) & shape.part
    near &= shape.centres[:, 1] > shape.low[1] + 0.4 * shape.height
    return float(np.ptp(shape.centres[near, 0])) + shape.cell if near.any() else shape.cell


def _tail_at_rump(found: Found, rump: float, trunk: float, sure: float) -> None:
    """A tail's root kept at the trunk's rear: where the back runs on into the tail, its line tells of no root."""
    if "tail" not in found:
        return
    root, tip = found["tail"][0], found["tail_tip"][0]
    most = rump + ROOT_INSIDE * trunk
    if root[2] > most > tip[2]:
        share = (most - tip[2]) / (root[2] - tip[2])
        found["tail"] = (tip + share * (root - tip), 0.5 * sure)
        found["tail_middle"] = (tip + 0.5 * share * (root - tip), 0.5 * sure)
    else:
        found["tail"] = (root, min(found["tail"][1], TAIL_SURE) * sure)


def _lying_spine(
    shape: Shape, found: Found, hind_z: float, front_z: float, belly: float, back: float, sure: float
) -> None:
    def spine(z: float, share: float) -> FloatArray:
        span = shape.span_y(shape.middle, z) or (belly, back)
        low = max(span[0], belly - 0.15 * (back - belly))
        high = min(span[1], back + 0.25 * (back - belly))
        return np.array([shape.middle, low + share * (high - low), z])

    hip = found["l_hip"][0]
    hips_z = 0.5 * (hind_z + hip[2])
    chest_z = front_z - 0.02 * (front_z - hind_z)
    found["hips"] = (spine(hips_z, 0.66), sure)
    found["loin"] = (spine(hips_z + 0.3 * (chest_z - hips_z), 0.7), sure)
    found["back"] = (spine(hips_z + 0.62 * (chest_z - hips_z), 0.7), sure)
    found["chest"] = (spine(chest_z, 0.66), 0.7 * sure)


@dataclass(frozen=True, slots=True)
class _Stand:
    """How an animal stands on its legs: height of the belly, length of the legs, height of the trunk; how sure.

    thighs : a factor on what lies within the thighs: under a broad rump bones are a guess.
    """

    belly: float
    leg: float
    trunk: float
    sure: float
    thighs: float


def _hind_leg(shape: Shape, found: Found, s: str, foot: FloatArray, stand: _Stand, rump: float) -> None:
    belly, leg, trunk, sure = stand.belly, stand.leg, stand.trunk, stand.sure
    middles, radii, heights = leg_column(shape, foot, belly + 0.35 * trunk)
    low = shape.low[1]
    if len(middles) < 6:
        return
    hip_y = belly + 0.55 * trunk
    whole = hip_y - low
    low_part = heights < low + 0.12 * leg
    sole = middles[low_part] if low_part.any() else middles[:2]
    front = _front_of(shape, foot, low + 0.07 * leg)
    paw_y = low + 0.1 * leg
    paw = at_height(middles, heights, paw_y)
    # The hock is where the leg's line runs farthest back from the straight line paw to knee; the knee farthest ahead.
    knee_guess = low + 0.62 * whole
    span = (heights > low + 0.16 * whole) & (heights < low + 0.46 * whole)
    hock_y, bent = low + 0.31 * whole, False
    if span.sum() >= 3:
        top = at_height(middles, heights, min(knee_guess, heights[-1]))
        t = (heights[span] - paw_y) / max(top[1] - paw_y, 1e-9)
        line_z = paw[2] + t * (top[2] - paw[2])
        off = line_z - middles[span][:, 2]
        best = int(np.argmax(off))
        if off[best] > 0.025 * whole:
            hock_y, bent = float(heights[span][best]), True
    hock = at_height(middles, heights, hock_y)
    knee_y = hock_y + 0.5 * (hip_y - hock_y)
    up = (heights > hock_y + 0.25 * (hip_y - hock_y)) & (heights < hock_y + 0.75 * (hip_y - hock_y))
    knee = at_height(middles, heights, min(knee_y, heights[-1]))
    if up.sum() >= 3:
        ahead = middles[up][:, 2] - np.interp(heights[up], [hock_y, hip_y], [hock[2], knee[2]])
        if ahead.max() > 0.02 * whole:
            knee_y = 0.5 * knee_y + 0.5 * float(heights[up][int(np.argmax(ahead))])
            knee = at_height(middles, heights, min(knee_y, heights[-1]))
    knee[1] = knee_y
    knee[2] += 0.25 * float(np.interp(knee_y, heights, radii))
    thigh = at_height(middles, heights, min(belly - 0.02 * leg, heights[-1]))
    hip = shape.inside(np.array([0.85 * thigh[0] + 0.15 * shape.middle, hip_y, min(rump + 0.45 * trunk, knee[2])]))
    toe = np.array([sole[:, 0].mean(), low + 0.03 * leg, max(front, paw[2] + 0.05 * leg)])
    found[f"{s}_hip"] = (hip, 0.75 * sure * stand.thighs)
    found[f"{s}_knee"] = (knee, 0.8 * sure * stand.thighs)
    found[f"{s}_hock"] = (hock, (1.0 if bent else 0.7) * sure)
    found[f"{s}_paw"] = (paw, 0.85 * sure)
    found[f"{s}_toe"] = (toe, sure)


def _bend_back(middles: FloatArray, heights: FloatArray, low: float, high: float, least: float) -> float | None:
    """Height between two where a leg's line lies farthest behind the straight one, by `least` metres or more, or None."""
    rows = np.flatnonzero((heights > low) & (heights < high))
    if len(rows) < 5:
        return None
    z = middles[rows][:, 2]
    back = np.interp(heights[rows], heights[rows[[0, -1]]], z[[0, -1]]) - z
    best = int(np.argmax(back))
    return float(heights[rows[best]]) if back[best] > least and 0 < best < len(rows) - 1 else None


def _front_of(shape: Shape, foot: FloatArray, y: float) -> float:
    near = (
        (shape.centres[:, 1] < y)
        & (np.abs(shape.centres[:, 0] - foot[0]) < 0.08 * shape.longest)
        & (np.abs(shape.centres[:, 2] - foot[2]) < 0.16 * shape.longest)
    )
    return float(shape.centres[near, 2].max()) - 0.5 * shape.cell if near.any() else float(foot[2])


def _fore_leg(shape: Shape, found: Found, s: str, foot: FloatArray, stand: _Stand) -> None:
    belly, leg, trunk, sure = stand.belly, stand.leg, stand.trunk, stand.sure
    middles, radii, heights = leg_column(shape, foot, belly + 0.2 * trunk)
    low = shape.low[1]
    if len(middles) < 6:
        return
    paw = at_height(middles, heights, low + 0.1 * leg)
    elbow_y = belly + 0.06 * trunk
    free = min(belly - 0.05 * leg, heights[-1])
    bend = _bend_back(middles, heights, low + 0.4 * leg, min(belly, heights[-1]), 0.03 * leg)
    if bend is not None:
        # A leg that is seen to bend back under the trunk bends at its elbow.
        elbow_y = free = bend
    elbow = at_height(middles, heights, free)
    elbow[1] = elbow_y
    radius = float(np.interp(free, heights, radii))
    wrist_y = low + 0.46 * (elbow_y - low)
    wrist = at_height(middles, heights, wrist_y)
    elbow[2] -= 0.3 * radius
    shoulder_y = belly + 0.42 * trunk
    span = shape.span_y(float(elbow[0]), float(elbow[2]))
    x = elbow[0] * 0.95 + 0.05 * shape.middle
    front = elbow[2] + 0.75 * radius + 0.1 * leg
    shoulder = shape.inside(np.array([x, shoulder_y, front]))
    top = (span[1] if span else belly + trunk) - 0.12 * trunk
    blade = np.array(
        [shape.middle + 0.6 * (x - shape.middle), max(top, shoulder_y + 0.2 * trunk), elbow[2] + 0.02 * leg]
    )
    blade = shape.inside(blade)
    sole = middles[heights < low + 0.12 * leg]
    tip = _front_of(shape, foot, low + 0.07 * leg)
    toe = np.array([sole[:, 0].mean() if len(sole) else foot[0], low + 0.03 * leg, max(tip, paw[2] + 0.05 * leg)])
    found[f"{s}_blade"] = (blade, 0.65 * sure)
    found[f"{s}_shoulder"] = (shoulder, 0.7 * sure)
    found[f"{s}_elbow"] = (elbow, (0.6 if bend is None else 0.9) * sure)
    found[f"{s}_wrist"] = (wrist, 0.85 * sure)
    found[f"{s}_fore_paw"] = (paw, sure)
    found[f"{s}_fore_toe"] = (toe, sure)


def _head_and_tail(
    shape: Shape, found: Found, tips: list[Tip], front_z: float, hind_z: float, back: float, belly: float
) -> None:
    middle = [t for t in tips if on_middle(shape, t)]
    nose = max(
        (t for t in middle if t.place[2] > front_z - 0.05 * shape.longest), key=lambda t: t.place[2], default=None
    )
    chest = found["chest"][0]
    if nose is not None:
        _neck_and_head(shape, found, nose, chest, tips)
    else:
        span = shape.centres[np.abs(shape.centres[:, 0] - shape.middle) < 2 * shape.cell]
        ahead = span[int(np.argmax(span[:, 2]))]
        for name, t in (("neck", 0.2), ("throat", 0.4), ("head", 0.6), ("nose", 0.98)):
            found[name] = (shape.inside(chest + t * (ahead - chest)), 0.35)
    tails = [t for t in middle if t.place[2] < hind_z + 0.02 * shape.longest and (nose is None or t.node != nose.node)]
    tail = min(tails, key=lambda t: t.place[2] + 0.3 * abs(t.place[1] - back), default=None)
    hips = found["hips"][0]
    if tail is not None and tail.length > 0.04 * shape.longest:
        line = shape.line(tail, until=tail.length + 2 * shape.cell)
        length = shape.root(line, tail.length)
        found["tail"] = (line.at(length * 0.97), 0.8)
        found["tail_middle"] = (line.at(length * 0.5), 0.8)
        found["tail_tip"] = (line.at(0.3 * shape.cell), 0.85)
    else:
        rear = shape.centres[
            (np.abs(shape.centres[:, 0] - shape.middle) < 2 * shape.cell) & (shape.centres[:, 1] > belly)
        ]
        end = rear[int(np.argmin(rear[:, 2]))] if len(rear) else hips - [0, 0, 0.1 * shape.longest]
        end = np.array([shape.middle, max(end[1], hips[1] - 0.1 * shape.height), end[2]])
        for name, t in (("tail", 0.55), ("tail_middle", 0.78), ("tail_tip", 0.97)):
            found[name] = (hips + t * (end - hips), 0.3)


def _neck_and_head(shape: Shape, found: Found, nose: Tip, chest: FloatArray, tips: list[Tip]) -> None:
    """The line from the nose back into the chest: narrow is the neck, wide before it the head."""
    _, nearest = min(
        (float(np.linalg.norm(c - chest)), i)
        for i, c in enumerate(shape.centres[:: max(len(shape.centres) // 4000, 1)])
    )
    way_nose = shape.ways(nose.node)
    step = max(len(shape.centres) // 4000, 1)
    chest_node = nearest * step
    total = float(way_nose[chest_node])
    keep = np.flatnonzero(
        np.isfinite(way_nose)
        & (way_nose < total)
        & (np.abs(shape.centres[:, 0] - shape.middle) < 0.25 * float(shape.size[0]) + 3 * shape.cell)
    )
    # Only what lies ahead of the chest: legs and back are no neck.
    keep = keep[(shape.centres[keep] - chest) @ _unit(nose.place - chest) > 0]
    line: Line = shape.line(nose, cells=keep, until=total)
    share = line.along / total
    window = np.flatnonzero((share > 0.3) & (share < 0.85))
    ears = [
        t
        for t in tips
        if not on_middle(shape, t) and t.place[1] > chest[1] and np.linalg.norm(t.place - nose.place) < 0.8 * total
    ]
    if len(window) >= 3:
        cost = line.areas[window] / max(float(np.median(line.areas[window])), 1e-12) + 1.2 * np.abs(share[window] - 0.6)
        narrow = float(line.along[window[int(np.argmin(cost))]])
    else:
        narrow = 0.55 * total
    head_at = min(narrow, 0.62 * total)
    sure = 0.75
    left = [t for t in ears if t.place[0] > shape.middle]
    right = [t for t in ears if t.place[0] < shape.middle]
    if left and right:
        pair = []
        for side in (left, right):
            ear = max(side, key=lambda t: t.place[1])
            ear_line = shape.line(ear, until=ear.length + shape.cell)
            pair.append(ear_line)
            s = "l" if ear.place[0] > shape.middle else "r"
            found[f"{s}_ear"] = (ear_line.at(shape.root(ear_line, ear.length) * 0.95), 0.8)
            found[f"{s}_ear_tip"] = (ear_line.at(0.3 * shape.cell), 0.85)
        roots = (found["l_ear"][0] + found["r_ear"][0]) / 2
        # The skull sits on the neck close behind and under the ears.
        near = int(np.argmin(np.linalg.norm(line.places - roots, axis=1)))
        head_at = float(np.clip(line.along[near] + 0.06 * total, 0.2 * total, 0.75 * total))
    head = line.at(head_at)
    neck_at = total * 0.9 if head_at < 0.7 * total else head_at + 0.6 * (total - head_at)
    neck = line.at(neck_at)
    for name in ("head", "neck"):
        place = head if name == "head" else neck
        span = shape.span_y(shape.middle, float(place[2]))
        if span is not None and name == "neck":
            place[1] = min(max(place[1], span[0] + 0.5 * (span[1] - span[0])), span[1] - shape.cell)
    found["head"] = (np.array([shape.middle, head[1], head[2]]), sure)
    found["neck"] = (np.array([shape.middle, neck[1], neck[2]]), sure)
    throat = line.at(0.5 * (head_at + neck_at))
    found["throat"] = (np.array([shape.middle, throat[1], throat[2]]), sure)
    found["nose"] = (np.array([shape.middle, nose.place[1], nose.place[2]]), 0.9)
    skull = nose.place - head
    found["jaw"] = (shape.inside(head + 0.18 * skull + [0, -0.16 * float(np.linalg.norm(skull)), 0]), 0.45)
    found["chin"] = (shape.inside(head + 0.86 * skull + [0, -0.12 * float(np.linalg.norm(skull)), 0]), 0.45)


def _unit(v: FloatArray) -> FloatArray:
    return np.asarray(v / max(float(np.linalg.norm(v)), 1e-12))


def find_many_legged(shape: Shape, pairs: int | None) -> tuple[int, Found]:
    """How many pairs of legs there are, and the pegs of a body with as many (or with `pairs`)."""
    tips = shape.tips(0.05 * shape.longest)
    found: Found = {}
    ground = feet_of(shape, tips, below=0.3)
    left = sorted((t for t in ground if t.place[0] > shape.middle + shape.cell), key=lambda t: -t.place[2])
    right = sorted((t for t in ground if t.place[0] < shape.middle - shape.cell), key=lambda t: -t.place[2])
    count = max(min(len(left), len(right)), 1)
    wanted = pairs or count
    body_cells = shape.centres[shape.depth > 0.45 * float(shape.depth.max())]
    middle_cells = shape.centres[np.abs(shape.centres[:, 0] - shape.middle) < 2 * shape.cell]
    body = shape.centres[shape.core]
    feet_z = [t.place[2] for t in (*left, *right)] or [body[2]]
    roots = []
    for s, side in (("l", left), ("r", right)):
        for number, tip in enumerate(side[:wanted], 1):
            line = shape.line(tip, until=tip.length + 2 * shape.cell)
            end = shape.root(line, tip.length)
            root = line.at(end)
            along = line.along[line.along <= end]
            ys = line.places[: len(along), 1]
            # The knee stands highest; the ankle half way from there to the ground.
            top = int(np.argmax(np.where((along > 0.25 * end) & (along < 0.9 * end), ys, -1e9))) if len(along) else 0
            knee_at = float(along[top]) if len(along) else 0.6 * end
            name = f"{s}_leg{number}"
            root = _sunk(shape, root, line.at(knee_at))
            roots.append(root)
            found[f"{name}_hip"] = (root, 0.75)
            found[f"{name}_knee"] = (line.at(knee_at), 0.75)
            found[f"{name}_ankle"] = (line.at(0.45 * knee_at), 0.65)
            found[f"{name}_foot"] = (line.at(0.3 * shape.cell), 0.85)
    root_z = float(np.mean([r[2] for r in roots])) if roots else float(np.mean(feet_z))
    front = max((t for t in tips if on_middle(shape, t) and t.place[2] > root_z), key=lambda t: t.length, default=None)
    rear = max((t for t in tips if on_middle(shape, t) and t.place[2] < root_z), key=lambda t: t.length, default=None)
    root_front = max((r[2] for r in roots), default=body[2])
    root_back = min((r[2] for r in roots), default=body[2])
    base = np.array([shape.middle, float(np.median(body_cells[:, 1])), root_z])
    found["body"] = (shape.inside(base), 0.7)
    mouth = front.place if front is not None else middle_cells[int(np.argmax(middle_cells[:, 2]))]
    mouth = np.array([shape.middle, mouth[1], mouth[2]])
    chest = np.array([shape.middle, base[1], 0.5 * root_front + 0.5 * root_z])
    found["chest"] = (shape.inside(chest), 0.65)
    head_z = root_front + 0.3 * (mouth[2] - root_front)
    found["head"] = (shape.inside(np.array([shape.middle, 0.5 * (base[1] + mouth[1]), head_z])), 0.6)
    found["mouth"] = (mouth, 0.75 if front is not None else 0.45)
    end_ = rear.place if rear is not None else middle_cells[int(np.argmin(middle_cells[:, 2]))]
    end_ = np.array([shape.middle, end_[1], end_[2]])
    start = np.array([shape.middle, base[1], min(root_back, base[2])])
    found["abdomen"] = (shape.inside(start + 0.2 * (end_ - start)), 0.6)
    found["abdomen_tip"] = (end_, 0.75 if rear is not None else 0.45)
    return count, found


SUNK = 0.45
"""How far from the middle a leg turns in the body, as a share of where it leaves it."""


def _sunk(shape: Shape, root: FloatArray, knee: FloatArray) -> FloatArray:
    """A leg's root moved on along its own line to where it turns, inside the body, by its own length at most."""
    way = root - knee
    aside = abs(float(root[0]) - shape.middle)
    inward = -float(way[0]) * np.sign(root[0] - shape.middle)
    if inward < 1e-9:
        return root
    step = min((1.0 - SUNK) * aside / inward, 2.5)
    return shape.inside(root + step * way)


def find_serpent(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs along one long body: from end to end of the solid, the head at the thicker end, else at the front."""
    first = int(np.argmax(shape.far))
    way = np.where(shape.part, shape.ways(first), -1.0)
    way[~np.isfinite(way)] = -1.0
    second = int(np.argmax(way))
    from_first = way
    from_second = np.where(shape.part, shape.ways(second), -1.0)
    total = float(from_first[second])
    # Sections by share of the way between both ends, so that the line runs in the middle of every bend.
    share = np.clip(from_first / np.maximum(from_first + from_second, 1e-9), 0.0, 1.0)
    keep = np.flatnonzero(shape.part & np.isfinite(share))
    count = int(np.clip(total / (1.5 * shape.cell), 8, 400))
    bins = np.minimum((share[keep] * count).astype(np.int64), count - 1)
    number = np.bincount(bins, minlength=count)
    full = np.flatnonzero(number > 0)
    line = np.stack(
        [np.bincount(bins, weights=shape.centres[keep, a], minlength=count)[full] / number[full] for a in range(3)], 1
    )
    place = (full + 0.5) / count
    near_first = _mean(number[full][(place > 0.03) & (place < 0.14)])
    near_second = _mean(number[full][(place > 0.86) & (place < 0.97)])
    thicker = abs(near_first - near_second) > 0.12 * max(near_first, near_second, 1e-9)
    head_first = near_first > near_second if thicker else line[0][2] > line[-1][2]
    names = [p for kit in kits for p in kit.pegs]
    rope = "rope_tip" in names
    if rope:  # a rope is held at its upper end
        head_first = bool(line[0][1] >= line[-1][1])
    if not head_first:
        line, place = line[::-1], 1.0 - place[::-1]
    ends = (
        (shape.centres[first], shape.centres[second]) if head_first else (shape.centres[second], shape.centres[first])
    )

    def at(t: float) -> FloatArray:
        return np.array([np.interp(t, place, line[:, k]) for k in range(3)])

    sure = 0.85 if thicker or rope else 0.45
    if rope:
        shares = {"rope": 0.0, "rope_1": 0.25, "rope_2": 0.5, "rope_3": 0.75, "rope_tip": 1.0}
    else:
        shares = {"nose": 0.0, "head": 0.06, "neck": 0.1, "tail_tip": 1.0}
        shares |= {f"body_{k}": 0.1 + 0.9 * k / 6 for k in range(1, 6)}
    found: Found = {}
    for name, t in shares.items():
        found[name] = (at(t), sure)
    found["rope" if rope else "nose"] = (ends[0], sure)
    found["rope_tip" if rope else "tail_tip"] = (ends[1], sure)
    return found


def _mean(values: np.ndarray) -> float:
    return float(values.mean()) if len(values) else 0.0
