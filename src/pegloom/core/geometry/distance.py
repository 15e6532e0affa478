"""Distances from points to segments and surfaces."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray


def closest_on_segments(points: FloatArray, starts: FloatArray, ends: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Nearest point on each segment from each point.

    Parameters
    ----------
    points : (n, 3). starts, ends : (s, 3); a segment of no length counts as a point.

    Returns
    -------
    nearest : (n, s, 3). distance : (n, s) metres.
    """
    along = ends - starts
    length2 = np.maximum((along**2).sum(axis=1), 1e-24)
    t = np.einsum("nsd,sd->ns", points[:, None, :] - starts[None], along) / length2
    nearest = starts + np.clip(t, 0.0, 1.0)[..., None] * along
    return nearest, np.linalg.norm(points[:, None, :] - nearest, axis=2)
