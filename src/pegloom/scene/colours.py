"""How far apart colours look, and what a control's own colour may be taken for."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.skeleton.joints import Side
from pegloom.scene.drawing import LINEN, SIDE_COLOURS
from pegloom.scene.lenses import rgb

ALIKE = 0.09
"""Distance in Oklab under which two thin lines are taken for one colour."""
SAID = {Side.LEFT: "the left side's", Side.RIGHT: "the right side's", Side.CENTRE: "the middle's"}


def oklab(colour: FloatArray) -> FloatArray:
    """A colour (3,) of 0 to 1, sRGB, in Oklab: lightness and two axes of hue (Ottosson, "A perceptual color space", 2020)."""
    linear = np.where(colour <= 0.04045, colour / 12.92, ((colour + 0.055) / 1.055) ** 2.4)
    cones = np.array([[0.4122214708, 0.5363325363, 0.0514459929], [0.2119034982, 0.6806995451, 0.1073969566],
                      [0.0883024619, 0.2817188376, 0.6299787005]]) @ linear  # fmt: skip
    return np.asarray(np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099],
                                [0.0259040371, 0.7827717662, -0.8086757660]]) @ np.cbrt(cones))  # fmt: skip


def distance(a: FloatArray, b: FloatArray) -> float:
    """How far apart two colours (3,) look."""
    return float(np.linalg.norm(oklab(a) - oklab(b)))


def taken_for(colour: str, side: Side) -> str:
    """What a control's own colour (#RRGGBB) may be taken for: another side, or what is under the pointer; "" for nothing."""
    own = rgb(colour)
    for other, its in SIDE_COLOURS.items():
        if other is not side and distance(own, rgb(its)) < ALIKE:
            return f"Near {SAID[other]} colour: it may be taken for that side."
    if distance(own, LINEN) < ALIKE:
        return "Near the colour of what is under the pointer: hovering will not show on it."
    if oklab(own)[0] < 0.42:
        return "So dark that it hardly shows on the view's ground."
    return ""
