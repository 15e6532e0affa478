"""Strays: weights cut off from their joint's main region, or far from it, that nobody thinks of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from scipy.sparse.csgraph import connected_components

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_neighbours, shells, weld
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skin.weights import Weights, dense, from_dense, limited_rows, most_influences, with_rows

LEAST = 0.04
"""A weight under this moves nothing a rigger would see as a stray."""
MAIN_SHARE = 0.1
"""A separate region under this share of the joint's largest one is stray."""
ROUNDS = 6


class Region(Protocol):
    """Some vertices (n,) of what a joint holds."""

    @property
    def joint(self) -> str: ...
    @property
    def vertices(self) -> IntArray: ...


@dataclass(frozen=True, slots=True, eq=False)
class Stray:
    """A region of one joint's weight cut off from its main one. vertices (n,), the largest weight there."""

    joint: str
    vertices: IntArray
    largest: float


def find_strays(mesh: Mesh, weights: Weights, *, least: float = LEAST) -> tuple[Stray, ...]:
    """Regions of a part's weights cut off from their joint's main one, the strongest first.

    least : a weight from which a vertex belongs to a region. A region is joined along the surface; small shells that are wholly one joint's (buttons) are no strays.
    """
    g = weld(mesh)
    values = dense(weights)[g.first]
    neighbours = place_neighbours(mesh)
    label = shells(mesh)[g.first]
    shell_sizes = np.bincount(label)
    found: list[Stray] = []
    for column, joint in enumerate(weights.joint_ids):
        holding = np.flatnonzero(values[:, column] > least)
        if len(holding) < 2:
            continue
        count, region = connected_components(neighbours[holding][:, holding], directed=False)
        if count < 2:
            continue
        total = np.bincount(region, weights=values[holding, column])
        for k in np.flatnonzero(total < MAIN_SHARE * total.max()):
            places = holding[region == k]
            own_shells = np.unique(label[places])
            # A whole shell of its own (an eye, a buckle) belongs where it is.
            if len(places) == shell_sizes[own_shells].sum():
                continue
            vertices = np.flatnonzero(np.isin(g.group, places))
            found.append(Stray(joint, vertices, float(values[places, column].max())))
    return tuple(sorted(found, key=lambda s: -s.largest))


def without_strays(mesh: Mesh, weights: Weights, *, progress: Progress = silent) -> tuple[Weights, int]:
    """The weights with every stray given to the other influences there; also how many vertices changed.

    A vertex held by nothing but strays takes its neighbours' mean. No vertex follows more joints than any did before.
    """
    touched = np.zeros(len(mesh.points), dtype=bool)
    for _ in range(ROUNDS):
        ask(progress)
        # What a stray gave up may leave a remnant of its neighbour's as a stray in turn.
        strays = find_strays(mesh, weights)
        if not strays:
            break
        ask(progress)
        weights = given_up(mesh, weights, strays)
        for stray in strays:
            touched[stray.vertices] = True
    return weights, int(touched.sum())


def given_up(mesh: Mesh, weights: Weights, strays: Sequence[Region]) -> Weights:
    """The weights without some regions of a joint's: given to the others there, else as the neighbours around hold it."""
    g, neighbours = weld(mesh), place_neighbours(mesh)
    chosen = np.unique(np.concatenate([g.group[stray.vertices] for stray in strays]))
    # Only what is touched and what stands around it is looked at: the rows of all others are shared.
    around = np.union1d(chosen, neighbours[chosen].indices)
    before: FloatArray = weights.matrix()[g.first[around]].toarray()
    places = before.copy()
    for stray in strays:
        places[np.searchsorted(around, g.group[stray.vertices]), weights.joint_ids.index(stray.joint)] = 0.0
    bare, most = np.flatnonzero(places.sum(axis=1) < 1e-6), most_influences(weights)
    while len(bare):
        mean = np.asarray(neighbours[around[bare]][:, around] @ places)
        total = mean.sum(axis=1)
        ready = total > 1e-9
        if not ready.any():
            places[bare] = before[bare]
            break
        # A mean of several rows holds more joints than any one of them.
        places[bare[ready]] = limited_rows(mean[ready] / total[ready, None], most)
        bare = bare[~ready]
    vertices = np.flatnonzero(np.isin(g.group, chosen))
    rows = places[np.searchsorted(around, g.group[vertices])]
    return with_rows(weights, weights.joint_ids, vertices, rows)


def reduced(weights: Weights, influences: int) -> tuple[Weights, FloatArray]:
    """Weights cut to their strongest `influences`, and what each vertex lost (n,), 0 to 1."""
    cut = from_dense(dense(weights), weights.joint_ids, influences=influences)
    lost = np.abs(dense(cut) - dense(weights)).sum(axis=1) / 2
    return cut, np.asarray(lost)
