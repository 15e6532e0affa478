"""Python's garbage collection kept on the UI thread.

A collection may start wherever memory is asked for, on the threads that bind and measure too. If it then finds a
widget that hangs in a ring of references, the widget dies on the wrong thread and takes the program with it. So
while a window is open, rings are collected by its clock only.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

EVERY = 700
"""Milliseconds."""


class Collector(QObject):
    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        gc.disable()
        self.timer = QTimer(self)
        self.timer.setInterval(EVERY)
        self.timer.timeout.connect(self.collect)
        self.timer.start()

    def collect(self) -> None:
        """What is due, by Python's own thresholds: the youngest generation nearly always, the old one seldom."""
        counts, limits = gc.get_count(), gc.get_threshold()
        for generation in (2, 1, 0):
            if counts[generation] > limits[generation]:
                gc.collect(generation)
                return

    def stop(self) -> None:
        """Leave collecting to Python again."""
        self.timer.stop()
        gc.enable()
