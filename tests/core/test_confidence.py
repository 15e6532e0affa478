"""What a peg's confidence is worth, over bodies of many builds whose joints are known; and the builds that misled."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest

from pegloom.core.geometry.mesh import triangulate
from pegloom.core.skeleton.find import find_pegs_in
from pegloom.core.skeleton.patterns import shipped_patterns
from pegloom.core.skeleton.pegs import WEAK, PegSet
from tests.support.population import Body, animals, game_figures, humans

TOLERANCE = {"human": 0.025, "four-legged": 0.03, "winged": 0.03}
"""Shares of the height, or of the length, within which a peg is where a rigger would leave it."""


def found_in(body: Body) -> PegSet:
    fingers = 0 if body.pattern == "human" else None
    points, triangles = body.mesh.points, triangulate(body.mesh).vertices
    return find_pegs_in(points, triangles, shipped_patterns()[body.pattern], fingers=fingers)


@lru_cache(maxsize=1)
def judged() -> tuple[list[Body], np.ndarray]:
    """Rows (confidence, whether it lies within the tolerance, its error) of all pegs whose place is known."""
    # Other seeds than those the marks were set by.
    bodies = [*humans(40, 105), *game_figures(14, 106), *animals(16, 107)]
    rows = []
    for body in bodies:
        for name, peg in found_in(body).by_name.items():
            if name in body.at:
                off = float(np.linalg.norm(np.array(peg.position) - body.at[name])) / body.size
                rows.append((peg.confidence, off <= TOLERANCE[body.pattern], off))
    return bodies, np.array(rows)


@pytest.mark.parametrize(("least", "most"), [(0.0, 0.5), (0.5, 0.7), (0.7, 0.84), (0.84, 1.01)])
def test_of_pegs_said_to_be_so_sure_about_so_many_lie_where_they_belong(least, most):
    confidence, within, _ = judged()[1].T
    mine = (confidence >= least) & (confidence < most)
    assert mine.sum() > 150
    assert abs(confidence[mine].mean() - within[mine].mean()) < 0.14


def test_most_of_what_is_found_badly_is_said_to_be_a_guess():
    confidence, _, off = judged()[1].T
    far = off > 0.06
    assert far.sum() > 20
    assert (confidence[far] < WEAK).mean() > 0.75
    # And not because everything is.
    assert (confidence[off < 0.015] >= WEAK).mean() > 0.85


def only(extra: str) -> list[Body]:
    return [body for body in humans(24, 5) if body.name.split()[-1] == extra]


@pytest.mark.parametrize("extra", ["pole", "wings"])
def test_what_a_hand_holds_and_wings_are_not_taken_for_the_arm(extra):
    for body in only(extra):
        pegs = found_in(body)
        for side in "lr":
            off = np.linalg.norm(np.array(pegs.position(f"{side}_wrist")) - body.at[f"{side}_wrist"]) / body.size
            assert off < 0.03 or pegs.by_name[f"{side}_wrist"].weak, (body.name, side, off)
            assert off < 0.06, (body.name, side, off)


def test_a_hat_s_brim_over_the_shoulders_moves_neither_shoulder_nor_arm():
    for body in only("hat"):
        pegs = found_in(body)
        for name in ("l_shoulder", "r_shoulder", "l_wrist", "r_wrist"):
            assert np.linalg.norm(np.array(pegs.position(name)) - body.at[name]) / body.size < 0.04, (body.name, name)


def test_a_tail_begins_at_the_rump_even_where_the_back_runs_on_into_it():
    for body in (b for b in animals(16, 7) if b.pattern == "four-legged"):
        pegs = found_in(body)
        off = np.linalg.norm(np.array(pegs.position("tail")) - body.at["tail"]) / body.size
        assert off < 0.09, (body.name, off)
