"""What the left button does in Weights: the seam, the reach, strokes, picking joints and vertices."""

from __future__ import annotations

import numpy as np

from pegloom.app.areas.weights.pulling import PullTool
from pegloom.app.areas.weights.strokes import BrushTool, SelectTool
from pegloom.app.stage.drags import DocumentDrag, PickTool
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import Tool
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.picking import line_distance

SEAM_NEAR, REACH_NEAR = 7, 6
"""Pixels within which they are taken hold of."""


class SeamTool(StageTool):
    """The compare seam dragged across the view."""

    id = "seam"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return bool(self.hover(view, at.x, at.y)[0])

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        return SeamDrag(view)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        seam = view.c.state.viewing.seam * view.size_in_points[0]
        near = view.c.frames.other is not None and abs(x - seam) < SEAM_NEAR
        return ("seam", "The seam: drag it to compare") if near else ("", "")


class SeamDrag:
    def __init__(self, view: StageView) -> None:
        self.c, self.width = view.c, view.size_in_points[0]
        self.before = view.c.state.viewing.seam

    def move(self, at: Pointer) -> None:
        self.c.store.put(seam=float(np.clip(at.x / self.width, 0.02, 0.98)))

    def release(self) -> None:
        pass

    def cancel(self) -> None:
        self.c.store.put(seam=self.before)


class ReachTool(StageTool):
    """The drawn reach of the active joint pulled wider or narrower; the brush paints through it."""

    id = "reach"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return bool(self.hover(view, at.x, at.y)[0])

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        return ReachDrag(view, at)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        c, size = view.c, view.size_in_points
        if c.state.tooling.tool in (Tool.BRUSH, Tool.SELECT, Tool.PULL):
            return "", ""
        if not any(line_distance(line, x, y, view.camera, size) < REACH_NEAR for line in c.frames.reach()):
            return "", ""
        joint = c.state.viewing.influence
        factor, metres = c.character.reaches.get(joint, 1.0), c.frames.reach_radius
        return "reach", f"Reach of {c.skeleton.joint(joint).name}: {factor:.2f}, {100 * metres:.1f} cm; drag it"


class ReachDrag(DocumentDrag):
    """Away from its bone, or toward it."""

    def __init__(self, view: StageView, at: Pointer) -> None:
        super().__init__(view.c, at.at)
        c, skeleton, frame = view.c, view.c.skeleton, view.c.frames.frame()
        assert frame is not None
        self.joint = c.state.viewing.influence
        self.factor = self.reached = c.character.reaches.get(self.joint, 1.0)
        ends = [skeleton.index[child.id] for child in skeleton.children(self.joint)] or [skeleton.index[self.joint]]
        places = np.array([frame.joints[skeleton.index[self.joint]][:3, 3], frame.joints[ends[0]][:3, 3]])
        self.bone = view.camera.project(places, *view.size_in_points)[:, :2]
        self.away = max(self._away(at), 4.0)

    def _away(self, at: Pointer) -> float:
        """Pixels from the bone."""
        a, b = self.bone
        here, way = np.array(at.at), b - a
        t = float(np.clip((here - a) @ way / max(float(way @ way), 1e-9), 0.0, 1.0))
        return float(np.hypot(*(here - a - t * way)))

    def drafted(self, at: Pointer) -> Document:
        factor = float(np.clip(self.factor * self._away(at) / self.away, 0.1, 10.0))
        self.reached = (round(factor * 4) / 4 or 0.25) if at.ctrl else factor
        return edits.set_reach(self.base, self.joint, self.reached, both_sides=self.c.state.hand.both_sides)

    def keep(self, moved: Document) -> None:
        self.c.store.commit(f"Reach of {self.c.skeleton.joint(self.joint).name} {self.reached:.2f}", moved)


TOOLS: tuple[StageTool, ...] = (SeamTool(), PullTool(), ReachTool(), SelectTool(), BrushTool(), PickTool(vertices=True))
