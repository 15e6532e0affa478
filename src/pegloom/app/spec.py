"""What a work area is: a value. The window, the view, the rail and the palette are made from these and know no area."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import Enum
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt

from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.core.arrays import FloatArray
from pegloom.document.model import Character

if TYPE_CHECKING:
    from PyQt6.QtGui import QPainter

    from pegloom.app.actions.action import Action
    from pegloom.app.context import Context
    from pegloom.app.stage.tools import StageTool, StageView
    from pegloom.app.widgets.card import Card
    from pegloom.app.widgets.panel import Panel
    from pegloom.checks.snags import Snag
    from pegloom.scene.drawlist import DrawList


SHOWN_AS: Mapping[str, str] = MappingProxyType({"peg": "pegs", "joint": "joints", "control": "controls"})
"""By which word in `AreaSpec.shows` a kind that is picked is shown or hidden."""


class Place(Enum):
    """Where a pane stands."""

    SIDE = "beside the view"
    LOWER = "under the view"
    OVER = "over the view"
    WINDOW = "a window of its own"


def unchanged(c: Context) -> None:
    return


def always(state: State) -> bool:
    return True


def never(character: Character) -> bool:
    return False


def nothing(state: State) -> Mapping[str, Any]:
    return {}


def nothing_beside(c: Context) -> FloatArray | None:
    return None


def no_hint(state: State) -> str:
    return ""


def no_words(view: StageView, kind: str, found: str) -> str:
    return ""


def empty(character: Character) -> float:
    return 0.0


@dataclass(frozen=True, slots=True)
class Pane:
    """Something wider than a card; made when it is first shown.

    shown : whether it is wanted in a state.
    size : pixels across (SIDE) or down (LOWER) to begin with.
    middle : of those over the view, in its middle below; the others stand at its lower left.
    closed : of a window of its own, what follows when it is closed.
    """

    id: str
    title: str
    place: Place
    make: Callable[[Context], Panel]
    shown: Callable[[State], bool] = always
    size: int = 0
    middle: bool = False
    closed: Callable[[Context], None] = unchanged


@dataclass(frozen=True, slots=True)
class Lane:
    """A row of the strip, under the ruler, that shares its time."""

    id: str
    make: Callable[[Context], Panel]
    height: int
    shown: Callable[[State], bool] = always


@dataclass(frozen=True, slots=True)
class Fix:
    """An action offered where a snag names it as its fix.

    action : its id.
    text : on the button.
    others : (action id, text) of what may be right instead.
    of_subject : it is for the peg or joint of its snag alone, which is picked first.
    prepare : puts into the settings which snag it is for, before it or one of the others runs.
    """

    action: str
    text: str
    others: tuple[tuple[str, str], ...] = ()
    of_subject: bool = False
    prepare: Callable[[Context, Snag], None] | None = None


@dataclass(frozen=True, slots=True)
class Step:
    """A step of the road from a mesh to a delivery.

    action : id of what does it.
    missing : whether it is still to be done.
    says : "build joints", after "Next:".
    note : what to think of before, "" for nothing.
    guide : what it is about, for who does it for the first time; "" for what explains itself.
    """

    action: str
    missing: Callable[[State], bool]
    says: Callable[[State], str]
    note: Callable[[State], str] = no_hint
    guide: str = ""


@dataclass(frozen=True, slots=True)
class AreaSpec:
    """A work area.

    id, title, line : "joints", "Joints", "place them inside the mesh".
    actions : what can be done in it.
    fixes : which of them mend snags, and how that is offered.
    settings : the records its cards show and its actions read.
    springs_back : whether a dragged control is a trial that goes back on release.
    cards : the bench, in order.
    panes, lanes, tools : what else it brings into the window.
    picks : kinds a click picks, the first one first.
    passes_by : kinds of these that are neither drawn nor picked in a state.
    shows : kinds the chips offer to hide.
    marks : what is drawn in the view.
    painters : what is painted over it.
    hint : what the mouse does now; <action.id> stands for that action's key.
    words : what is said of the thing under the pointer.
    fullness : of the rail's peg, 0 to 1.
    enter : what of the state changes on coming in.
    steps : its part of the road, in order.
    opens : whether a project with this character is opened here; the last area that says so has it.
    at_rest : the view shows the rest, whatever pose is current.
    weighing : weights are looked at: lenses, the seam.
    lenses : the chips offer lenses.
    mesh_always : the mesh cannot be hidden.
    boards : reference pictures show.
    pins : snags are pinned where they are.
    marks_face_the_eye : the marks depend on the camera.
    beside : places (n, 3) of what stands beside the character; "show all" shows them, too.
    wheels : what the wheel does with a key held: (key, wheel(context, steps)).
    frames_new_meshes : the camera goes to a mesh that has changed.
    """

    id: str
    title: str
    line: str
    actions: tuple[Action, ...] = ()
    fixes: tuple[Fix, ...] = ()
    settings: tuple[type[Setting], ...] = ()
    springs_back: Callable[[State], bool] = lambda _: False
    cards: tuple[Callable[[Context], Card], ...] = ()
    panes: tuple[Pane, ...] = ()
    lanes: tuple[Lane, ...] = ()
    tools: tuple[StageTool, ...] = ()
    picks: tuple[str, ...] = ()
    passes_by: Callable[[State], frozenset[str]] = lambda _: frozenset()
    shows: tuple[str, ...] = ()
    marks: tuple[Callable[[StageView, DrawList], None], ...] = ()
    painters: tuple[Callable[[QPainter, StageView], None], ...] = ()
    hint: Callable[[State], str] = no_hint
    words: Callable[[StageView, str, str], str] = no_words
    fullness: Callable[[Character], float] = empty
    enter: Callable[[State], Mapping[str, Any]] = nothing
    steps: tuple[Step, ...] = ()
    opens: Callable[[Character], bool] = never
    at_rest: bool = False
    weighing: bool = False
    lenses: bool = False
    mesh_always: bool = False
    boards: bool = True
    pins: bool = False
    marks_face_the_eye: bool = False
    beside: Callable[[Context], FloatArray | None] = nothing_beside
    wheels: tuple[tuple[Qt.KeyboardModifier, Callable[[Context, float], None]], ...] = ()
    frames_new_meshes: bool = False
