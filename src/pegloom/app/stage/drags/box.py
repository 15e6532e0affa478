"""A box, or a line drawn round, over vertices or over pegs, joints and controls."""

from __future__ import annotations

import numpy as np

from pegloom.app.stage.tools import START_AFTER, Pointer, StageView
from pegloom.core.arrays import BoolArray, FloatArray
from pegloom.core.rig.shapes import rig_shapes
from pegloom.scene.picking import inside_box, inside_lasso, shapes_inside


class BoxDrag:
    """lasso : a line drawn round, not a box.
    vertices : they are picked, not things.
    """

    def __init__(self, view: StageView, at: Pointer, *, vertices: bool) -> None:
        self.view, self.c = view, view.c
        self.camera, self.size = view.camera, view.size_in_points
        self.start = self.corner = at.at
        self.add, self.lasso, self.vertices = at.shift, at.alt, vertices
        self.kind = view.pickable()
        self.things = view.things(self.kind)
        self.path = [self.start]

    @property
    def drawn(self) -> bool:
        """Whether it is more than a press."""
        return max(max(abs(x - self.start[0]), abs(y - self.start[1])) for x, y in self.path) > START_AFTER

    def move(self, at: Pointer) -> None:
        self.corner = at.at
        self.path.append(self.corner)
        self.view.update()

    def inside(self, points: FloatArray) -> BoolArray:
        """Which points (n, 3) are drawn inside."""
        if self.lasso:
            return np.asarray(inside_lasso(points, self.path, self.camera, self.size))
        return np.asarray(inside_box(points, self.start, self.corner, self.camera, self.size))

    def release(self) -> None:
        store = self.c.store
        if not self.drawn:
            if not self.add:
                store.pick_vertices({})
                store.select("")
            return
        if self.vertices:
            self._take_vertices()
            return
        ids, points = self.things
        inside = self.inside(points) if len(ids) else np.zeros(0, bool)
        chosen = [i for i, within in zip(ids, inside, strict=True) if within]
        rig, frame = self.c.character.rig, self.c.frames.frame()
        if self.kind == "control" and rig is not None and frame is not None:
            # A control is where its shape is drawn, wherever it pivots.
            rows = shapes_inside(rig_shapes(rig), frame.shown, self.inside)
            chosen = [i for i in ids if rig.index[i] in rows]
        store.select(self.kind, *chosen, add=self.add)

    def _take_vertices(self) -> None:
        frame = self.c.frames.frame()
        if frame is None:
            return
        chosen = dict(self.c.state.vertices) if self.add else {}
        for part in self.c.frames.seen_parts:
            inside = np.flatnonzero(self.inside(frame.points[part.id]))
            if len(inside):
                chosen[part.id] = np.union1d(chosen.get(part.id, np.zeros(0, dtype=np.int64)), inside)
        self.c.store.pick_vertices(chosen)

    def cancel(self) -> None:
        self.view.update()
