"""Anatomy sketches: a small drawing of a body plan with one peg's place marked, as SVG text.

Drawn from the pattern itself (its kits and usual places), so that a pattern somebody wrote has its sketches too.
"""

from __future__ import annotations

import numpy as np

from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.patterns import Pattern, usual_place

SIDE_VIEWS = ("four-legged", "winged", "many-legged", "serpent")
WIDTHS = {"trunk": 0.13, "arm": 0.055, "leg": 0.075, "tail": 0.045, "head": 0.05, "hand": 0.02}
BODY, LINE, MARK = "#3A4458", "#C6BFB1", {"l": "#43B7A6", "r": "#E5A04A", "": "#B793E0"}


def sketch(plan: Pattern, kits: tuple[Kit, ...], peg: str, *, size: int = 96) -> str:
    """SVG of the whole body from its telling side, the peg ringed, and its kit drawn brighter."""
    side_view = plan.finder in SIDE_VIEWS
    names = list(dict.fromkeys(p for kit in kits for p in kit.pegs))
    if not names:
        return ""
    places = {n: np.array(usual_place(plan, kits, n, 1.0)) for n in names}
    flat = {n: np.array([p[2] if side_view else p[0], p[1]]) for n, p in places.items()}
    table = np.array(list(flat.values()))
    low, high = table.min(axis=0), table.max(axis=0)
    span = float(max((high - low).max(), 1e-6))
    room = 0.12 * size

    def xy(p: np.ndarray) -> tuple[float, float]:
        middle = (low + high) / 2
        x = size / 2 + (p[0] - middle[0]) / span * (size - 2 * room)
        y = size / 2 - (p[1] - middle[1]) / span * (size - 2 * room)
        return float(x), float(y)

    drawn: list[str] = []
    for kit in sorted(kits, key=lambda k: peg in k.pegs):
        if len(kit.pegs) < 2:
            continue
        width = WIDTHS.get(kit.part, 0.05) * size * (0.7 if kit.part == "trunk" and plan.finder != "human" else 1.0)
        points = " ".join("{:.1f},{:.1f}".format(*xy(flat[p])) for p in kit.pegs)
        colour = LINE if peg in kit.pegs else BODY
        opacity = 0.55 if peg in kit.pegs else 1.0
        drawn.append(
            f'<polyline points="{points}" fill="none" stroke="{colour}" stroke-opacity="{opacity}" '
            f'stroke-width="{width:.1f}" stroke-linecap="round" stroke-linejoin="round"/>'
        )
    if plan.finder == "human" and {"head", "crown"} <= set(flat):
        x, y = xy((flat["head"] + flat["crown"]) / 2)
        drawn.insert(
            0, f'<ellipse cx="{x:.1f}" cy="{y:.1f}" rx="{0.065 * size:.1f}" ry="{0.075 * size:.1f}" fill="{BODY}"/>'
        )
    if peg in flat:
        x, y = xy(flat[peg])
        mark = MARK[peg[0] if peg[:2] in ("l_", "r_") else ""]
        drawn.append(
            f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{0.075 * size:.1f}" fill="none" stroke="{mark}" stroke-width="1.6"/>'
        )
        drawn.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{0.032 * size:.1f}" fill="{mark}"/>')
    body = "".join(drawn)
    return f'<svg xmlns="http://www.w3.org/2000/svg" width="{size}" height="{size}" viewBox="0 0 {size} {size}">{body}</svg>'
