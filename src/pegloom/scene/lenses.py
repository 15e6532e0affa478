"""Lenses: what is judged by eye, as colours on the surface."""

from __future__ import annotations

from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.skin.measures import vertex_strain
from pegloom.core.skin.weights import Weights, dense
from pegloom.document.model import Part


class Lens(Enum):
    NONE = "none"
    INFLUENCE = "influence"
    ALL = "all influences"
    STRAIN = "strain"
    COUNT = "joints a vertex"


RAMP = ("#1B2036", "#39409A", "#A8457F", "#E2704E", "#F1CE6A")
"""Weight 0 to 1: ink, indigo, rose, orange, straw; lightness rises all the way."""
SQUEEZED, CLAY, STRETCHED = "#3F7FBF", "#8C8A94", "#D98A3D"
COUNTED = 0.005
"""A weight under this is not counted as an influence by the lens."""
STRAIN_FULL = 1.0
"""Strain (log2) at which the colour is full: half or twice the length."""


def rgb(colour: str) -> FloatArray:
    """#RRGGBB as three numbers 0..1."""
    return np.array([int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])


def influence_values(weights: Weights, joint_id: str) -> FloatArray:
    """(n, 4): the weight in the first column, 1 in the last; the shader draws ramp and contours."""
    values = np.zeros((weights.vertex_count, 4))
    values[:, 0] = weights.column(joint_id)
    values[:, 3] = 1.0
    return values


def hue(number: int) -> FloatArray:
    """A colour far from those of neighbouring numbers: golden-angle hues, alternating lightness."""
    h = (number * 0.381966) % 1.0
    light = (0.62, 0.5, 0.72)[number % 3]
    channel = np.abs(((h * 6 + np.array([0.0, 4.0, 2.0])) % 6) - 3) - 1
    pure = np.clip(channel, 0, 1)
    return np.asarray(0.5 * light + 0.55 * light * pure + 0.12)


def all_influences(weights: Weights) -> FloatArray:
    """(n, 4) colours: each joint's own, mixed by weight."""
    palette = np.array([hue(i) for i in range(len(weights.joint_ids))])
    return np.column_stack([dense(weights) @ palette, np.ones(weights.vertex_count)])


def count_colours(weights: Weights, limit: int) -> FloatArray:
    """(n, 4) colours: how many joints move each vertex, in steps of the ramp from 1 to `limit`; more is as `limit`."""
    count = (dense(weights) > COUNTED).sum(axis=1)
    palette = np.array([step_colour(k, limit) for k in range(1, limit + 1)])
    return np.column_stack([palette[np.clip(count, 1, limit) - 1], np.ones(len(count))])


def step_colour(step: int, steps: int) -> FloatArray:
    """The ramp's colour (3,) of step 1 to `steps`."""
    t = (step - 1) / max(steps - 1, 1)
    ramp = np.array([rgb(colour) for colour in RAMP])
    at = np.linspace(0, 1, len(RAMP))
    return np.array([np.interp(t, at, ramp[:, k]) for k in range(3)])


def strain_colours(part: Part, posed: FloatArray) -> FloatArray:
    """(n, 4) colours: squeezed blue, unchanged clay, stretched orange, safe for colour-blind eyes."""
    g = weld(part.mesh)
    strain = vertex_strain(part.mesh.points[g.first], posed[g.first], place_edges(part.mesh))[g.group]
    t = np.clip(strain / STRAIN_FULL, -1, 1)[:, None]
    clay, low, high = rgb(CLAY), rgb(SQUEEZED), rgb(STRETCHED)
    colour = np.where(t < 0, clay + (low - clay) * -t, clay + (high - clay) * t)
    return np.column_stack([colour, np.ones(len(posed))])
