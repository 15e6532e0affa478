"""What the last proof of a delivery found, for whoever shows it: the lens of the view, the card that measured it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from pegloom.app.state.settings import Setting


@dataclass(frozen=True, slots=True)
class Proved(Setting):
    """by_vertex : how far each vertex (n,) of a part strayed at most, metres, by part id; empty where nothing was measured.
    worst : metres. where : part, clip, frame.
    """

    ID = "handover.proved"
    PASSING = frozenset({"by_vertex", "worst", "where"})

    by_vertex: Mapping[str, np.ndarray] = field(default_factory=dict, compare=False)
    worst: float = 0.0
    where: str = ""
