"""What the left button does in Joints: draw joints, place pegs, move joints."""

from __future__ import annotations

import numpy as np

from pegloom.app.areas.joints.chain_names import NAMES
from pegloom.app.context import Context
from pegloom.app.stage.drags import PickTool, Placing, PointDrag
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import Tool
from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import triangulate
from pegloom.document import edits
from pegloom.scene.handles import MOVE_SNAP, on_view_plane
from pegloom.scene.picking import hit_surface, middle_of_surface, nearest_dot

NEAR_THE_MIDDLE = 0.015
"""A joint drawn this near to the middle, as a share of the height, is put on it."""


class DrawTool(StageTool):
    """One click begins at a joint, or lays the next one."""

    id = "draw"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return view.c.state.tooling.tool == Tool.DRAW

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        c, size = view.c, view.size_in_points
        ids, points = view.things("joint")
        found = nearest_dot(points, at.x, at.y, view.camera, size) if ids else None
        if found is not None and not at.shift:
            c.store.select("joint", ids[found])
            c.say(f"Drawing on from {c.skeleton.joint(ids[found]).name}")
            return None
        parent = c.state.selection.lead if c.state.selection.kind == "joint" else None
        place = self._place(view, at)
        if place is None:
            base = points[ids.index(parent)] if parent is not None and parent in ids else np.array(view.camera.target)
            place = on_view_plane(view.camera, base, at.x, at.y, size)
        if at.ctrl:
            place = np.round(place / MOVE_SNAP) * MOVE_SNAP
        both = c.state.hand.both_sides
        if both and abs(place[0]) < NEAR_THE_MIDDLE * c.character.height:
            place = place * [0.0, 1.0, 1.0]
        x, y, z = (float(v) for v in place)
        c.try_edit(
            "Draw a joint", lambda d: edits.draw_joint(d, (x, y, z), parent=parent, both_sides=both),
            lambda result: c.store.select("joint", result),
        )  # fmt: skip
        return None

    @staticmethod
    def _place(view: StageView, at: Pointer) -> FloatArray | None:
        """In the middle of the nearest surface under the pointer, with Shift on it; None beside the mesh."""
        ray = view.camera.ray(at.x, at.y, *view.size_in_points)
        found: list[FloatArray] = []
        for part in view.c.state.shown_parts:
            triangles = triangulate(part.mesh).vertices
            if at.shift:
                hit = hit_surface(ray, part.mesh.points, triangles)
                option = None if hit is None else hit.point
            else:
                option = middle_of_surface(ray, part.mesh.points, triangles)
            if option is not None:
                found.append(option)
        return min(found, key=lambda p: float(np.linalg.norm(p - ray.origin)), default=None)


def placing(c: Context, kind: str, found: str) -> Placing:
    """What a drag of a peg or a joint does, in the view or in the slice window."""
    both, along = c.state.hand.both_sides, c.state.hand.with_children
    if kind == "peg":
        sides = " (both sides)" if both and found[:2] in ("l_", "r_") else ""
        return Placing(lambda d, p: edits.place_peg(d, found, p, both_sides=both), f"Place {found}{sides}")
    return Placing(
        lambda d, p: edits.move_joint(d, found, p, both_sides=both, with_children=along),
        f"Move {c.skeleton.joint(found).name}",
    )


def place_peg(view: StageView, kind: str, found: str, at: Pointer) -> Drag | None:
    """The drag of a peg."""
    point = np.array(view.c.character.require_pegs().by_name[found].position)
    return PointDrag(view.c, view.camera, view.size_in_points, point, at.at, placing(view.c, kind, found))


def move_joint(view: StageView, kind: str, found: str, at: Pointer) -> Drag | None:
    """The drag of a joint, with the Move tool."""
    if view.c.state.tooling.tool != Tool.MOVE:
        return None
    point = np.array(view.c.skeleton.joint(found).position)
    return PointDrag(view.c, view.camera, view.size_in_points, point, at.at, placing(view.c, kind, found))


TOOLS: tuple[StageTool, ...] = (NAMES, DrawTool(), PickTool({"peg": place_peg, "joint": move_joint}))
