"""What a press in the view begins: tools in order, the first that wants it takes it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from pegloom.app.context import Context
from pegloom.core.arrays import FloatArray, IntArray
from pegloom.document.model import Part
from pegloom.scene.camera import Camera
from pegloom.scene.picking import Hit
from pegloom.scene.stroke import Facing, MaskStroke, Stroke

AnyStroke = Stroke | MaskStroke | None
Size = tuple[int, int]
START_AFTER = 3.0
"""Pixels: a press that moves less only picks."""


@dataclass(frozen=True, slots=True)
class Pointer:
    """Where the pointer is (pixels) and what is held with it.

    even : the key that evens out is held.
    """

    x: float
    y: float
    shift: bool = False
    ctrl: bool = False
    alt: bool = False
    even: bool = False

    @property
    def at(self) -> tuple[float, float]:
        return self.x, self.y


class Drag(Protocol):
    """What a pressed button does until it is let go."""

    def move(self, at: Pointer) -> None: ...
    def release(self) -> None: ...
    def cancel(self) -> None: ...


class StageView(Protocol):
    """What tools, marks and painters may use of the view.

    hovered : id of what is under the pointer.
    grip : of the handle's part there.
    brush_hit : the surface under the pointer, where it is looked for.
    stroke : the stroke under way.
    painted : the last one that ended.
    """

    c: Context
    camera: Camera
    pointer: tuple[float, float] | None
    hovered: str
    grip: str
    brush_hit: tuple[Part, Hit] | None
    stroke: AnyStroke
    painted: Stroke | None
    drag: Drag | None

    @property
    def size_in_points(self) -> Size: ...
    def update(self) -> None: ...
    def pickable(self) -> str: ...
    def things(self, kind: str) -> tuple[list[str], FloatArray]: ...
    def thing_at(self, x: float, y: float) -> tuple[str, str]: ...
    def surface_at(self, x: float, y: float) -> tuple[Part, Hit] | None: ...
    def seeds(self, x: float, y: float) -> list[tuple[Part, IntArray]]: ...
    def facing(self, part: Part) -> Facing | None: ...
    def vertex_under(self, part: Part, hit: Hit) -> int: ...


class StageTool:
    """One thing the left button does.

    wants : whether a press here is this tool's.
    press : begins a drag, or does it all at once and returns None.
    hover : (id, words) of what it would take hold of under the pointer; ("", "") for nothing.
    through : whether other things under the pointer are passed by while it is in hand.
    """

    id = ""

    def wants(self, view: StageView, at: Pointer) -> bool:
        raise NotImplementedError

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        raise NotImplementedError

    def double(self, view: StageView, at: Pointer) -> bool:
        """A double click. Returns whether it was this tool's."""
        return False

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        return "", ""

    def through(self, view: StageView) -> bool:
        return False


def far(a: tuple[float, float], b: tuple[float, float]) -> bool:
    """Whether a press has become a drag."""
    return bool(np.hypot(a[0] - b[0], a[1] - b[1]) >= START_AFTER)
