"""What a fixed frame rate costs a gait: how far planted feet roll between two frames that are joined straight."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from pegloom.core.motion.gait.making import Walker
from pegloom.core.motion.gait.numbers import Gait
from pegloom.core.motion.gait.steps import legs_of
from pegloom.core.motion.gait.straight import places_between
from pegloom.core.motion.retarget.chains import parts_of
from pegloom.core.motion.retarget.plant import Sole
from pegloom.core.skeleton.joints import Skeleton

RATES = (24.0, 30.0, 60.0, 120.0)
"""Frames a second that are usual."""
SHARES = (0.25, 0.5, 0.75)
"""Of the way from a frame to the next, at which it is looked at."""
OF_LEG = 1.1e-3
"""Of the legs' length: a roll nobody sees; 1 mm of a grown person's."""


def rolled(walker: Walker, rate: float) -> float:
    """Metres the point a foot stands on strays, between frames at a rate, from where it stands at them."""
    seconds = walker.course.seconds
    times = np.linspace(0.0, seconds, max(round(seconds * rate), 2) + 1)
    figure, steps, _ = walker.figure(times)
    joints = [foot.joints[min(3, len(foot.joints) - 1)] for foot in walker.feet]
    rows, places = figure.rows(), figure.at[:, joints]
    stands = np.stack([step.flat[1:] & step.flat[:-1] for step in steps], axis=1)
    worst = 0.0
    for share in SHARES:
        straight = (1.0 - share) * places[:-1] + share * places[1:]
        off = np.linalg.norm(places_between(walker.skeleton, rows, share, joints) - straight, axis=-1)
        worst = max(worst, float(np.where(stands, off, 0.0).max(initial=0.0)))
    return worst


def rolls_of(gait: Gait, skeleton: Skeleton, soles: Mapping[str, Sole], rates: Sequence[float] = RATES) -> dict[float, float]:
    """Metres of roll by frame rate, over one stride."""
    walker = Walker(gait, skeleton, soles=soles)
    return {rate: rolled(walker, rate) for rate in rates}


def proposed(rolls: Mapping[float, float], skeleton: Skeleton) -> float:
    """The lowest rate at which nobody sees feet roll; the highest where they do at all."""
    legs = list(legs_of(parts_of(skeleton)).values())
    at, index = skeleton.positions, skeleton.index
    high = float(np.mean([at[index[c[0]], 1] - at[:, 1].min() for c in legs])) if legs else 1.0
    return next((rate for rate in sorted(rolls) if rolls[rate] <= OF_LEG * high), max(rolls))
