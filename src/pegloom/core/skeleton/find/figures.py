"""Finders for cut-outs, props and faces, and the usual places of a pattern fitted to any mesh."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.skeleton.find.shape import Shape
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.patterns import Pattern, peg_order, usual_place

Found = dict[str, tuple[FloatArray, float]]


def fit_usual(shape: Shape, plan: Pattern, kits: tuple[Kit, ...]) -> dict[str, FloatArray]:
    """The pattern's usual places stretched to the mesh's box, and brought inside."""
    names = peg_order(kits)
    raw = {n: np.array(usual_place(plan, kits, n, 1.0)) for n in names}
    table = np.array(list(raw.values())).reshape(-1, 3)
    low, high = table.min(axis=0), table.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    half = max(abs(low[0]), abs(high[0]), 1e-9)
    result = {}
    for name, place in raw.items():
        share = (place - low) / span
        x = shape.middle + place[0] / half * 0.47 * float(shape.size[0])
        y = shape.low[1] + (0.02 + 0.96 * share[1]) * float(shape.size[1])
        z = shape.low[2] + (0.03 + 0.94 * share[2]) * float(shape.size[2])
        if high[2] - low[2] < 1e-6:
            z = (shape.low[2] + shape.high[2]) / 2
        result[name] = shape.inside(np.array([x, y, z]))
    return result


def find_flat(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs of a cut-out: ends in its plane, the upper pair arms or wings, the lower pair legs."""
    found: Found = {}
    tips = shape.tips(0.06 * shape.longest)
    body = shape.centres[shape.core]
    z = float(np.median(shape.centres[:, 2]))
    on = [t for t in tips if abs(t.place[0] - shape.middle) < 0.1 * float(shape.size[0]) + 2 * shape.cell]
    crown = max(on, key=lambda t: t.place[1], default=None)
    column = shape.centres[np.abs(shape.centres[:, 0] - shape.middle) < 2 * shape.cell]
    top = crown.place[1] if crown is not None and crown.place[1] > body[1] else float(column[:, 1].max())
    bottom = float(column[:, 1].min())
    thick = float(shape.depth[shape.core])

    def middle(y: float) -> FloatArray:
        return np.array([shape.middle, y, z])

    found["crown"] = (middle(top - 0.5 * shape.cell), 0.8)
    found["head"] = (middle(body[1] + 0.55 * (top - body[1])), 0.55)
    found["chest"] = (middle(body[1] + 0.1 * (top - body[1])), 0.55)
    found["hips"] = (middle(bottom + 0.45 * (body[1] - bottom)), 0.5)
    for s, sign in (("l", 1.0), ("r", -1.0)):
        mine = [t for t in tips if (t.place[0] - shape.middle) * sign > 0.08 * float(shape.size[0])]
        if not mine:
            continue
        mine.sort(key=lambda t: -t.length)
        best = sorted(mine[:2], key=lambda t: -t.place[1])
        pairs = [("shoulder", "elbow", "hand", best[0])]
        if len(best) > 1:
            pairs.append(("hip", "knee", "foot", best[1]))
        elif best[0].place[1] < body[1]:
            pairs = [("hip", "knee", "foot", best[0])]
        for root, bend, end, tip in pairs:
            line = shape.line(tip, until=tip.length + shape.cell)
            reach = min(max(tip.length, 0.6 * (tip.far - thick)), float(line.along[-1]))
            for name, t in ((root, 0.97), (bend, 0.5)):
                place = line.at(t * reach)
                found[f"{s}_{name}"] = (np.array([place[0], place[1], z]), 0.65)
            found[f"{s}_{end}"] = (np.array([tip.place[0], tip.place[1], z]), 0.85)
    return found


def find_prop(shape: Shape, kits: tuple[Kit, ...]) -> Found:
    """Pegs of a thing with one moving part: the base low in the middle; the pin where it is narrowest between its ends.

    A wheel's hub is the middle of its round part. What moves cannot be seen in a shape at rest, so these are weak.
    """
    names = {p for kit in kits for p in kit.pegs}
    long = int(np.argmax(shape.size))
    low, high = shape.low[long], shape.high[long]
    index = shape.graph_cells.index[:, long]
    area = np.bincount(index, minlength=int(index.max()) + 1).astype(np.float64)
    where = np.arange(len(area))
    axis = shape.solid.origin[long] + (where + 0.5) * shape.cell

    def middle_at(value: float) -> FloatArray:
        near = np.abs(shape.centres[:, long] - value) < 1.5 * shape.cell
        place = shape.centres[near].mean(axis=0) if near.any() else shape.centres.mean(axis=0)
        place[long] = value
        return np.asarray(place)

    window = (axis > low + 0.25 * (high - low)) & (axis < low + 0.75 * (high - low)) & (area > 0)
    narrow = float(axis[window][int(np.argmin(area[window]))]) if window.any() else (low + high) / 2
    start, end = middle_at(low + 0.03 * (high - low)), middle_at(high - 0.03 * (high - low))
    found: Found = {}
    if "hub" in names:
        hub = shape.centres.mean(axis=0)
        round_ = shape.size.argsort()[::-1][:2]
        rim = hub.copy()
        rim[round_[-1]] = shape.high[round_[-1]] - shape.cell
        base = np.array([hub[0], shape.low[1], hub[2]])
        return {"base": (base, 0.4), "hub": (hub, 0.45), "rim": (rim, 0.45)}
    pin = middle_at(narrow)
    for first, hinge, last in (("base", "pin", "leaf_tip"), ("sleeve", "mouth", "rod_tip")):
        if hinge in names:
            found = {first: (start, 0.4), hinge: (pin, 0.4), last: (end, 0.4)}
    return found
