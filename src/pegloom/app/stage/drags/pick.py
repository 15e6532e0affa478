"""A press on something picks it; on nothing it begins a box. What a drag of the picked thing does, areas say."""

from __future__ import annotations

from collections.abc import Callable

from pegloom.app.stage.drags.box import BoxDrag
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView

Begin = Callable[[StageView, str, str, Pointer], "Drag | None"]
"""begin(view, kind, id, pointer): the drag of a thing that has just been picked."""


class PickTool(StageTool):
    """begin : what a drag does, by the kind of thing.
    vertices : a box picks them.
    parts : a press picks parts.
    """

    id = "pick"

    def __init__(self, begin: dict[str, Begin] | None = None, *, vertices: bool = False, parts: bool = False) -> None:
        self.begin, self.vertices, self.parts = begin or {}, vertices, parts

    def wants(self, view: StageView, at: Pointer) -> bool:
        return True

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        c = view.c
        kind, found = view.thing_at(at.x, at.y)
        if found and kind != "part":
            picked = c.state.selection
            if at.shift or found not in picked.ids or kind != picked.kind:
                c.store.select(kind, found, add=at.shift)
            begin = self.begin.get(kind)
            return begin(view, kind, found, at) if begin is not None else None
        if kind == "part" and self.parts:
            c.store.select("part", found, add=at.shift)
            return None
        return BoxDrag(view, at, vertices=self.vertices)
