"""Finders: where a pattern's pegs belong in a mesh, one module a body plan."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import FindError
from pegloom.core.geometry.mesh import bounds
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.find.birds import find_winged
from pegloom.core.skeleton.find.creatures import find_four_legged, find_many_legged, find_serpent
from pegloom.core.skeleton.find.evenness import Evenness, Found, even_out
from pegloom.core.skeleton.find.face import find_face
from pegloom.core.skeleton.find.figures import find_flat, find_prop, fit_usual
from pegloom.core.skeleton.find.guess import guess_pattern
from pegloom.core.skeleton.find.hand import bent_fingers, find_hand
from pegloom.core.skeleton.find.human import find_human_pegs
from pegloom.core.skeleton.find.shape import Shape
from pegloom.core.skeleton.kits import Kit, shown_kits
from pegloom.core.skeleton.patterns import Pattern, peg_order
from pegloom.core.skeleton.pegs import Peg, PegSet

FINDERS = {
    "four-legged": find_four_legged,
    "winged": find_winged,
    "many-legged": find_many_legged,
    "serpent": find_serpent,
    "flat": find_flat,
    "prop": find_prop,
    "face": find_face,
}


def find_pegs_in(
    points: FloatArray, triangles: IntArray, plan: Pattern, *, fingers: int | None = None, pairs: int | None = None,
    middle: float = 0.0, progress: Progress = silent,
) -> PegSet:  # fmt: skip
    """Place a pattern's pegs in a stood-up mesh. What its finder cannot say stands at the pattern's usual places.

    points (n, 3) metres, Y up, facing +Z; triangles (t, 3); middle: x of the mirror plane. Raises FindError for an
    empty mesh.
    """
    if plan.finder == "human":
        pegs = find_human_pegs(points, triangles, fingers=fingers, middle=middle, progress=progress)
        return replace(pegs, pattern=plan.name, kits=shown_kits(plan.kits(fingers=pegs.fingers), pegs.by_name))
    low, high = bounds(points)
    if len(triangles) == 0 or float((high - low).max()) <= 0:
        raise FindError("the mesh is empty, so no landmarks can be found; open a mesh with faces")
    progress(0.05, "filling the body")
    shape = Shape(points, triangles, middle=middle)
    progress(0.4, "looking for the ends")
    found: Found = {}
    number = 0
    finder = FINDERS.get(plan.finder)
    if plan.finder == "many-legged":
        count, found = find_many_legged(shape, pairs)
        kits = plan.kits(pairs=pairs or count)
    elif plan.finder == "hand":
        number, found = find_hand(shape, fingers)
        bends = bent_fingers({name: place for name, (place, _) in found.items()})
        shown = {f"l_{finger}_bend" for finger in bends}
        kits = shown_kits(plan.kits(fingers=number), shown)
    else:
        kits = plan.kits()
        if finder is not None:
            found = finder(shape, kits)  # type: ignore[operator]
    progress(0.8, "placing pegs")
    names = peg_order(kits)
    usual = fit_usual(shape, plan, kits)
    places = {n: found.get(n) or (usual[n], 0.2) for n in names}
    apart: frozenset[str] = frozenset()
    if plan.finder not in ("serpent", "prop", "hand"):
        places, apart = even_out(places, Evenness(points, triangles, middle=middle, size=shape.longest))
    progress(1.0, "pegs placed")
    result = tuple(Peg(n, _rounded(places[n][0]), float(np.clip(places[n][1], 0.0, 1.0))) for n in names)
    return PegSet(plan.name, number, result, kits, apart=apart)


def _rounded(p: FloatArray) -> tuple[float, float, float]:
    return (round(float(p[0]), 6), round(float(p[1]), 6), round(float(p[2]), 6))


__all__ = ["Kit", "find_human_pegs", "find_pegs_in", "guess_pattern"]
