"""Strokes of the brush on the posed surface."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.app.actions.needs import ACTIVE_JOINT
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import Tool
from pegloom.core.arrays import IntArray
from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import place_lengths, weld
from pegloom.core.skin.brush import dab
from pegloom.document import edits
from pegloom.scene.brushes import BrushMode, Painting
from pegloom.scene.stroke import MaskStroke, Stroke

DAB_EVERY = 2.5
"""Pixels between two dabs."""


class BrushTool(StageTool):
    id = "brush"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return view.c.state.tooling.tool == Tool.BRUSH

    def through(self, view: StageView) -> bool:
        return view.c.state.tooling.tool == Tool.BRUSH

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        c, hit = view.c, view.surface_at(at.x, at.y)
        state, character = c.state, c.character
        if hit is None:
            return None
        weights = state.tooling.painting is Painting.WEIGHTS
        if weights and not state.viewing.influence:
            c.say(ACTIVE_JOINT.says, error=True, offer=ACTIVE_JOINT.offer)
            return None
        part, both = hit[0], state.hand.both_sides
        inside = state.vertices.get(part.id)
        stroke: Stroke | MaskStroke
        try:
            if weights:
                stroke = Stroke(
                    character, part, state.viewing.influence, both_sides=both, locked=state.tooling.locked,
                    inside=inside, after=view.painted,
                )  # fmt: skip
                view.painted = None
            else:
                of = "dual" if state.tooling.painting is Painting.DUAL else "relax"
                stroke = MaskStroke(character, part, of, both_sides=both, inside=inside)
        except PegLoomError as error:
            c.say(str(error), error=True)
            return None
        view.stroke = stroke
        drag = StrokeDrag(view, stroke)
        drag.move(at)
        return drag


class StrokeDrag:
    """Dabs while it moves, on the surface as the stroke has made it so far; one step at the end."""

    def __init__(self, view: StageView, stroke: Stroke | MaskStroke) -> None:
        self.view, self.c, self.stroke = view, view.c, stroke
        self.last: tuple[float, float] | None = None

    def move(self, at: Pointer) -> None:
        view = self.view
        view.brush_hit = view.surface_at(at.x, at.y)
        if self.last is not None and np.hypot(at.x - self.last[0], at.y - self.last[1]) < DAB_EVERY:
            return
        self.last = at.at
        tools, character = self.c.state.tooling, self.c.character
        brush = self.c.state.brush
        mode = BrushMode.EVEN if at.even else BrushMode.TAKE if at.ctrl else brush.mode
        facing = view.facing(self.stroke.part)
        for part, seed in view.seeds(at.x, at.y):
            if part.id == self.stroke.part.id:
                self.stroke.dab(
                    seed, brush.radius * character.height, mode, strength=brush.strength * tools.pressure,
                    value=brush.value, hardness=brush.hardness, facing=facing,
                )  # fmt: skip
        view.update()

    def release(self) -> None:
        stroke = self.stroke
        if not stroke.touched:
            return
        if isinstance(stroke, MaskStroke):
            put = edits.set_dual_mask if stroke.of == "dual" else edits.set_relax_mask
            self.c.try_edit(
                f"Brush the {self.c.state.tooling.painting.value} of {stroke.part.name}",
                lambda d: put(d, stroke.part.id, stroke.mask),
            )
            return
        skeleton = self.c.skeleton
        sides = " (both sides)" if stroke.other and stroke.other != stroke.joint else ""
        done = self.c.try_edit(
            f"Brush {skeleton.joint(stroke.joint).name}{sides}",
            lambda d: edits.set_part_weights(d, stroke.part.id, stroke.weights()),
        )
        given = stroke.given()[:4] if done else []
        if given:
            said = ", ".join(f"{skeleton.joint(j).name} {w:+.1f}" for j, w in given)
            self.c.say(f"Weight moved, in vertices' worth: {said}")

    def cancel(self) -> None:
        self.view.update()


class SelectTool(StageTool):
    """Vertices picked by painting over them."""

    id = "select"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return view.c.state.tooling.tool == Tool.SELECT

    def through(self, view: StageView) -> bool:
        return view.c.state.tooling.tool == Tool.SELECT

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        return SelectDrag(view, at)


class SelectDrag:
    """Shift adds to what is picked, Ctrl takes out."""

    def __init__(self, view: StageView, at: Pointer) -> None:
        self.view, self.c, self.take = view, view.c, at.ctrl
        self.before: Mapping[str, IntArray] = view.c.state.vertices
        self.chosen = dict(self.before) if at.shift or at.ctrl else {}
        self.radius = view.c.state.brush.radius * view.c.character.height

    def move(self, at: Pointer) -> None:
        for part, seed in self.view.seeds(at.x, at.y):
            g = weld(part.mesh)
            rows, _ = dab(part.mesh.points[g.first], place_lengths(part.mesh), np.unique(g.group[seed]), self.radius)
            touched = np.flatnonzero(np.isin(g.group, rows))
            now = self.chosen.get(part.id, np.zeros(0, dtype=np.int64))
            self.chosen[part.id] = np.setdiff1d(now, touched) if self.take else np.union1d(now, touched)
        self.c.store.pick_vertices(self.chosen)

    def release(self) -> None:
        pass

    def cancel(self) -> None:
        self.c.store.pick_vertices(self.before)
