"""What the left button does in Mesh: turn the figure, drag its centre line, pick parts."""

from __future__ import annotations

from pegloom.app.context import Context
from pegloom.app.stage.drags import DocumentDrag, PickTool
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.app.state.state import Tool
from pegloom.core.arrays import FloatArray
from pegloom.document import edits
from pegloom.document.model import Character, Document
from pegloom.scene import drawing
from pegloom.scene.handles import MOVE_SNAP, on_view_plane
from pegloom.scene.picking import NEAR_ENOUGH, line_distance

DEGREES_A_PIXEL = 0.5
TURN_SNAP = 15.0


def depth_of(character: Character) -> float:
    """Metres before the figure where its centre line is drawn."""
    points = character.all_points()
    return float(points[:, 2].max()) + 0.02 * character.height if len(points) else 0.3


def line_of(c: Context) -> FloatArray | None:
    """The centre line (k, 3) where it is shown."""
    character = c.state.character
    if not c.state.viewing.middle_shown or character is None or character.standing is None:
        return None
    return drawing.middle_line(character.standing.middle, character.height, depth_of(character))


class TurnDrag(DocumentDrag):
    """The figure turned about its upright."""

    def drafted(self, at: Pointer) -> Document:
        degrees = DEGREES_A_PIXEL * (at.x - self.start[0])
        self.degrees = round(degrees / TURN_SNAP) * TURN_SNAP if at.ctrl else degrees
        return edits.turn_by(self.base, self.degrees, draft=True)

    def keep(self, moved: Document) -> None:
        """What is built already is built anew for it, which takes a moment: as a job."""
        degrees, rigged = self.degrees, self.c.character.skeleton is not None
        # The draft goes first: a job that is cancelled or fails leaves what was there.
        self.c.store.drop_draft()
        self.c.change(
            f"Rotate {degrees:+.0f}°", lambda d: edits.turn_by(d, degrees), slow=rigged,
            doing="joints, controls and motion go along",
        )  # fmt: skip


class TurnTool(StageTool):
    id = "turn"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return view.c.state.tooling.tool == Tool.TURN

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        return TurnDrag(view.c, at.at)


class MiddleDrag(DocumentDrag):
    """The centre line dragged sideways."""

    def __init__(self, view: StageView, point: FloatArray, at: Pointer) -> None:
        super().__init__(view.c, at.at)
        self.camera, self.size, self.point = view.camera, view.size_in_points, point
        self.grab = on_view_plane(self.camera, point, at.x, at.y, self.size)

    def drafted(self, at: Pointer) -> Document:
        away = on_view_plane(self.camera, self.point, at.x, at.y, self.size) - self.grab
        place = float(self.point[0] + away[0])
        return edits.set_middle(self.base, round(place / MOVE_SNAP) * MOVE_SNAP if at.ctrl else place)

    def keep(self, moved: Document) -> None:
        self.c.store.commit("Drag the centre line", moved)


class MiddleTool(StageTool):
    id = "middle"

    def wants(self, view: StageView, at: Pointer) -> bool:
        return bool(self.hover(view, at.x, at.y)[0])

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        line = line_of(view.c)
        return MiddleDrag(view, line.mean(axis=0), at) if line is not None else None

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        line = line_of(view.c)
        near = line is not None and line_distance(line, x, y, view.camera, view.size_in_points) < NEAR_ENOUGH
        return ("middle", "The centre line: drag it") if near else ("", "")


TOOLS: tuple[StageTool, ...] = (TurnTool(), MiddleTool(), PickTool(parts=True))
