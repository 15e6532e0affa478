"""A joint's limits and stiffness about its three axes, for the card and the pane."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtWidgets import QGridLayout, QSpinBox, QWidget

from pegloom.app.widgets import label
from pegloom.core.rig.limits import JointLimit
from pegloom.core.skeleton.joints import Vector

WHAT = ("low", "high", "stiffness")
MOST = 180


class LimitGrid(QWidget):
    """changed(what, three numbers) is told what was put in: `low`, `high` (radians) or `stiffness` (0 to 1)."""

    def __init__(self, name: str, changed: Callable[[str, Vector], None]) -> None:
        super().__init__()
        self.changed = changed
        self.showing = False
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for column, word in enumerate(("from", "to", "stiff")):
            grid.addWidget(label(word, "caption"), 0, column + 1)
            grid.setColumnStretch(column + 1, 1)
        self.boxes: dict[tuple[str, int], QSpinBox] = {}
        for k, axis in enumerate("xyz"):
            grid.addWidget(label(axis, "soft"), k + 1, 0)
            for column, what in enumerate(WHAT):
                box = QSpinBox()
                box.setObjectName(f"{name}.{what}.{axis}")
                box.setAccessibleName(f"{what} about {axis}")
                box.setKeyboardTracking(False)
                low, high, suffix = {"low": (-MOST, 0, "°"), "high": (0, MOST, "°"), "stiffness": (0, 100, " %")}[what]
                box.setRange(low, high)
                box.setSuffix(suffix)
                box.valueChanged.connect(lambda _, what=what: self._put(what))
                self.boxes[what, k] = box
                grid.addWidget(box, k + 1, column + 1)

    def _put(self, what: str) -> None:
        if self.showing:
            return
        scale = 0.01 if what == "stiffness" else np.pi / 180
        x, y, z = (self.boxes[what, k].value() * scale for k in range(3))
        self.changed(what, (x, y, z))

    def show_limit(self, limit: JointLimit | None) -> None:
        """Show a joint's limits; None: none can be put in."""
        self.showing = True
        for (what, k), box in self.boxes.items():
            value = getattr(limit or JointLimit(""), what)[k] * (100 if what == "stiffness" else 180 / np.pi)
            box.setValue(round(min(max(value, -MOST), MOST)))
            box.setEnabled(limit is not None)
        self.showing = False
