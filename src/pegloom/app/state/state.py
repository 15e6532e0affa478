"""All the window knows, as one frozen record. What it is made of are records too; a change makes new ones."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, fields, replace
from enum import StrEnum
from pathlib import Path
from types import MappingProxyType
from typing import Any

from pegloom.app.state.hiding import HIDDEN_CONTROL, HIDDEN_PART, NO_FACES, hidden_part, without_faces
from pegloom.app.state.settings import NO_SETTINGS, Setting, Settings
from pegloom.checks import Snag
from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.layers import Layer
from pegloom.core.motion.trials import Trial, trials_of
from pegloom.core.rig.pose import Pose
from pegloom.document.history import Draft
from pegloom.document.model import Character, Document, KeptPose, Part
from pegloom.document.world import common_time, scene_length, scene_rate
from pegloom.scene.brushes import Brush, Painting
from pegloom.scene.display import Display
from pegloom.scene.ground import Tone
from pegloom.scene.lenses import Lens

RANGE_TEST = "range test"
CAPTURE = "capture desk"
"""What the strip plays where a live performance is shown."""
SCENE = "all figures"
"""What the strip plays where every figure plays its clip on the common time."""
TRIAL_FRAMES = 40
"""Frames of the range test each trial takes: there and back."""


class Area(StrEnum):
    """Ids of the areas that ship. Others may be added; nothing outside `areas` may depend on which there are."""

    MESH = "mesh"
    JOINTS = "joints"
    WEIGHTS = "weights"
    CONTROLS = "controls"
    MOTION = "motion"
    HANDOVER = "handover"


class Tool(StrEnum):
    """Ids of the tools that ship; an area may bring others."""

    PICK = "pick"
    MOVE = "move"
    TURN = "turn"
    GROW = "grow"
    BRUSH = "brush"
    SELECT = "select"
    DRAW = "draw"
    POINTS = "points"
    SKIN = "skin"
    PULL = "pull"


@dataclass(frozen=True, slots=True)
class BrushSettings(Brush, Setting):
    """The brush is a setting like any other: it has defaults, and what the user keeps as usual."""

    ID = "brush"


@dataclass(frozen=True, slots=True)
class HandSettings(Setting):
    """What goes for the hand's work in every area.

    both_sides : what is done to one side is done to the other.
    with_children : joints below go along with one that is moved.
    auto_key : a pose over a clip is written as a key at once.
    looping : what is played begins again at its end.
    """

    ID = "hand"

    both_sides: bool = True
    with_children: bool = False
    auto_key: bool = False
    looping: bool = True


class Axes(StrEnum):
    """Along what a handle moves and turns."""

    OWN = "own"
    PARENT = "parent"
    WORLD = "world"
    VIEW = "view"


@dataclass(frozen=True, slots=True)
class PosingSettings(Setting):
    """axes : along which controls are moved and turned.
    snapping : drags snap without Ctrl, and with it do not.
    move_step, turn_step : what they snap to, centimetres and degrees.
    """

    ID = "posing"

    axes: Axes = Axes.OWN
    snapping: bool = False
    move_step: float = 1.0
    turn_step: float = 5.0


@dataclass(frozen=True, slots=True)
class LayerSettings(Setting):
    """layer : the layer that keys are set in, "" for the clip's own keys."""

    ID = "layers"
    PASSING = frozenset({"layer"})

    layer: str = ""


@dataclass(frozen=True, slots=True)
class PickSettings(Setting):
    """The pick card.

    open : whether it is there. apart : in a window of its own.
    page : which of its pages.
    both : a press picks the partner, too.
    arranging : a drag moves buttons.
    """

    ID = "pick"
    PASSING = frozenset({"open", "page", "arranging"})

    open: bool = False
    apart: bool = False
    page: str = ""
    both: bool = False
    arranging: bool = False


@dataclass(frozen=True, slots=True)
class GroundSettings(Setting):
    """The ground the figure stands on in the view."""

    ID = "ground"

    tone: Tone = Tone.SLATE


@dataclass(frozen=True, slots=True)
class MarkSettings(Setting):
    """size : of all joints' marks in the view, as a factor."""

    ID = "marks"

    size: float = 1.0


COMMON_SETTINGS: tuple[type[Setting], ...] = (HandSettings, PosingSettings, PickSettings, LayerSettings, BrushSettings, GroundSettings, MarkSettings)
"""Those that belong to no one area."""
KINDS = ("part", "joint", "peg", "control")
"""Of things that `State.ids_of` knows."""
NO_VERTICES: Mapping[str, IntArray] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Selection:
    """What is picked.

    kind : "", peg, joint, control or part.
    ids : the last one leads.
    """

    kind: str = ""
    ids: tuple[str, ...] = ()

    @property
    def lead(self) -> str:
        return self.ids[-1] if self.ids else ""


@dataclass(frozen=True, slots=True, eq=False)
class Viewing:
    """How things are shown.

    animators : the view as animators have it: what is kept from them neither shown nor picked, nothing built.
    hidden : kinds of things neither shown nor picked: joints, pegs, controls, mesh, ground; and parts and controls, as
        `hidden_part` and `hidden_control` call them. Nothing of it touches the character.
    hidden_faces : which faces (f,) of a part are not shown either, by part.
    level : the detail level shown and picked.
    influence : the joint whose weight is shown and painted.
    compared : the weave shown right of the seam, or "".
    seam : where the seam stands, as a share of the view's width.
    panes : ids of the panes that are open.
    ghost : edges (s, 2, 3) of the figure before standing up, shown for a while.
    moves : proposed moves (from, to) of pegs and joints, shown in the view.
    """

    display: Display = Display.CLAY
    lens: Lens = Lens.NONE
    wire_over: bool = False
    clean_view: bool = False
    animators: bool = False
    hidden: frozenset[str] = frozenset()
    hidden_faces: Mapping[str, BoolArray] = field(default_factory=lambda: NO_FACES)
    level: int = 0
    influence: str = ""
    compared: str = ""
    seam: float = 0.5
    reach_shown: bool = False
    middle_shown: bool = False
    panes: frozenset[str] = frozenset()
    ghost: FloatArray | None = None
    moves: tuple[tuple[FloatArray, FloatArray], ...] = ()


@dataclass(frozen=True, slots=True)
class Clock:
    """What the strip plays.

    source : "" for the pose of the document, RANGE_TEST, SCENE, a kept trial's id or a clip's.
    time : seconds.
    part : the range (seconds) that is played and shown, of the source; None for all of it.
    shown_rate : pictures a second that playing comes to, where that is fewer than it should; 0 where it holds.
    """

    source: str = ""
    time: float = 0.0
    playing: bool = False
    part: tuple[float, float] | None = None
    shown_rate: float = 0.0


JOINT = "joint:"
"""What a joint's id begins with where controls are told besides."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """A field that waits to be filled by a pick in the view.

    kinds : of thing: joint, control, part; "point" for a place on the surface, told as its three numbers.
    setting, field : what its id becomes; with several kinds a joint is told as `joint:` and its id.
    says : what the field is called.
    """

    kinds: tuple[str, ...]
    setting: type[Setting]
    field: str
    says: str

    def told(self, kind: str, thing: str) -> str:
        """What is written for a thing."""
        return f"{JOINT}{thing}" if kind == "joint" and len(self.kinds) > 1 else thing


@dataclass(frozen=True, slots=True, eq=False)
class Tooling:
    """What the hand holds.

    locked : joints whose weights no edit touches.
    copied : a row of weights for pasting.
    pose : channel values for pasting, by control id and key.
    pins : joints that stay where they are while the body is posed by its skin.
    ladder : the user's fixed values for the brush.
    pressure : of a pen, 0 to 1; 1 for a mouse.
    wanted : the field the next pick fills.
    """

    tool: str = Tool.PICK
    painting: Painting = Painting.WEIGHTS
    locked: frozenset[str] = frozenset()
    copied: Mapping[str, float] | None = None
    pose: Mapping[tuple[str, str], float] | None = None
    pins: frozenset[str] = frozenset()
    ladder: tuple[float, ...] = ()
    pressure: float = 1.0
    wanted: Wanted | None = None


@dataclass(frozen=True, slots=True, eq=False)
class State:
    """The whole.

    document : as shown: the stored one, or a drag's draft of it.
    stored : as the last step left it.
    saved : as it was saved last.
    posed_over : what was posed over a clip and is not a key yet.
    area : id of the work area.
    vertices : picked vertices by part.
    at_rest : whether the area shows the rest, whatever pose is current.
    weighing : whether the area is about weights: they are compared and reached for there.
    dragging : whether a drag in the view is under way.
    snags : those found last.
    snags_known : whether they are those of the present character.
    """

    document: Document
    stored: Document
    saved: Document
    path: Path | None = None
    posed_over: Draft | None = None
    area: str = ""
    at_rest: bool = True
    weighing: bool = False
    dragging: bool = False
    selection: Selection = Selection()
    vertices: Mapping[str, IntArray] = field(default_factory=lambda: NO_VERTICES)
    viewing: Viewing = Viewing()
    clock: Clock = Clock()
    tooling: Tooling = Tooling()
    settings: Settings = NO_SETTINGS
    snags: tuple[Snag, ...] = ()
    snags_known: bool = False

    @property
    def character(self) -> Character | None:
        return self.document.character

    @property
    def draft_pose(self) -> Pose | None:
        """What is laid over the clip that is looked at."""
        draft = self.posed_over
        return draft.pose if draft is not None and draft.clip == self.clock.source else None

    @property
    def hand(self) -> HandSettings:
        """How the hand works."""
        return self.settings.of(HandSettings)

    @property
    def brush(self) -> BrushSettings:
        """How the brush is set."""
        return self.settings.of(BrushSettings)

    @property
    def unsaved(self) -> bool:
        return self.stored is not self.saved

    @property
    def shown_parts(self) -> tuple[Part, ...]:
        """The parts in the view: of the detail level looked at, without what is hidden."""
        if self.character is None:
            return ()
        parts, viewing = self.character.at_level(self.viewing.level), self.viewing
        if not viewing.hidden and not viewing.hidden_faces:
            return parts
        shown = (part for part in parts if hidden_part(part.id) not in viewing.hidden)
        return tuple(
            without_faces(part, mask) if (mask := viewing.hidden_faces.get(part.id)) is not None and len(mask) == part.mesh.face_count
            else part for part in shown
        )  # fmt: skip

    @property
    def something_hidden(self) -> bool:
        """Whether a part, faces of one, or controls are hidden in the view."""
        return bool(self.viewing.hidden_faces) or any(t.startswith((HIDDEN_PART, HIDDEN_CONTROL)) for t in self.viewing.hidden)

    def ids_of(self, kind: str) -> Collection[str]:
        """Ids of all things of a kind (see KINDS) that there are."""
        one = self.character
        if one is None:
            return ()
        if kind == "part":
            return [part.id for part in one.parts]
        if kind == "joint":
            return one.skeleton.index if one.skeleton is not None else ()
        if kind == "peg":
            return one.pegs.by_name if one.pegs is not None else ()
        return one.rig.index if kind == "control" and one.rig is not None else ()

    @property
    def clip(self) -> Clip | None:
        """The clip the strip plays."""
        some = self.character.clips if self.character is not None else ()
        return next((clip for clip in some if clip.id == self.clock.source), None)

    @property
    def layer(self) -> Layer | None:
        """The layer over the strip's clip that keys are set in; None for the clip's own keys."""
        clip, wanted = self.clip, self.settings.of(LayerSettings).layer
        return next((one for one in clip.layers if one.id == wanted), None) if clip is not None and wanted else None

    @property
    def common_time(self) -> float:
        """Seconds of the time that all figures share: the strip's, told from where the clip on it begins there."""
        return self.clock.time if self.character is None else common_time(self.character, self.clock.source, self.clock.time)

    @property
    def kept_pose(self) -> KeptPose | None:
        """The user's own trial pose that the strip plays."""
        some = self.character.trials if self.character is not None else ()
        return next((trial for trial in some if trial.id == self.clock.source), None)

    @property
    def trials(self) -> tuple[Trial, ...]:
        """The trials that move the present skeleton."""
        character = self.character
        return trials_of(character.skeleton) if character is not None and character.skeleton is not None else ()

    @property
    def rate(self) -> float:
        """Frames a second of what the strip plays."""
        if self.clock.source == SCENE:
            return scene_rate(self.document)
        return self.clip.rate if self.clip is not None else 30.0

    @property
    def length(self) -> float:
        """Seconds of what the strip plays."""
        if self.clock.source == SCENE:
            return scene_length(self.document)
        if self.clock.source == RANGE_TEST:
            return len(self.trials) * TRIAL_FRAMES / self.rate
        if self.kept_pose is not None:
            return TRIAL_FRAMES / self.rate
        return self.clip.length if self.clip is not None else 2.0

    @property
    def played(self) -> tuple[float, float]:
        """From where to where (seconds) is played and shown."""
        if self.clock.part is None:
            return 0.0, self.length
        first, last = (min(max(t, 0.0), self.length) for t in self.clock.part)
        return (first, last) if last - first > 1e-6 else (0.0, self.length)

    @property
    def snapped_time(self) -> float:
        """The present time on a whole frame."""
        return round(self.clock.time * self.rate) / self.rate


PARTS = ("viewing", "clock", "tooling")
_RECORDS: dict[str, type] = {"viewing": Viewing, "clock": Clock, "tooling": Tooling}
OWNER: dict[str, str] = {f.name: part for part in PARTS for f in fields(_RECORDS[part])}
"""Which part of the state a field belongs to; no two parts have a field of one name."""
OWN = frozenset(f.name for f in fields(State))


def with_values(state: State, **values: Any) -> State:
    """The state with some fields changed, its own or those of its parts. Raises AttributeError for an unknown name."""
    own: dict[str, Any] = {}
    inner: dict[str, dict[str, Any]] = {}
    for name, value in values.items():
        if name in OWN:
            own[name] = value
        elif name in OWNER:
            inner.setdefault(OWNER[name], {})[name] = value
        else:
            raise AttributeError(f"the state has no {name}")
    for part, some in inner.items():
        now = own.get(part, getattr(state, part))
        if any(getattr(now, name) is not value for name, value in some.items()):
            own[part] = replace(now, **some)
    if all(getattr(state, name) is value for name, value in own.items()):
        return state
    return replace(state, **own)


def only_time(old: State, new: State) -> bool:
    """Whether nothing has changed but the time that is played, as it does many times a second."""
    if replace(old.clock, time=new.clock.time) != new.clock:
        return False
    return all(getattr(old, name) is getattr(new, name) for name in OWN if name != "clock")


def without_stale(state: State, before: Character | None) -> State:
    """What is picked or played and no longer there let go: vertices of parts that have become others, joints, controls,
    a compared weave, a clip."""
    character = state.character
    if character is before:
        return state
    changes: dict[str, Any] = {}
    source = state.clock.source
    played = {c.id for c in character.clips} | {t.id for t in character.trials} if character is not None else set()
    if source not in ("", RANGE_TEST, SCENE, CAPTURE) and source not in played:
        changes |= {"source": "", "time": 0.0}
    counts = {p.id: p.mesh.vertex_count for p in character.parts} if character is not None else {}
    had = {p.id: p.mesh.vertex_count for p in before.parts} if before is not None else {}
    kept = {p: v for p, v in state.vertices.items() if len(v) and p in counts and had.get(p) in (None, counts[p])}
    if len(kept) != len(state.vertices):
        changes["vertices"] = MappingProxyType(kept)
    faces = {p.id: p.mesh.face_count for p in character.parts} if character is not None else {}
    masks = {p: m for p, m in state.viewing.hidden_faces.items() if faces.get(p) == len(m)}
    if len(masks) != len(state.viewing.hidden_faces):
        changes["hidden_faces"] = MappingProxyType(masks)
    gone = {t for t in state.viewing.hidden if t.startswith(HIDDEN_PART) and t[len(HIDDEN_PART) :] not in faces}
    controls = character.rig.index if character is not None and character.rig is not None else {}
    gone |= {t for t in state.viewing.hidden if t.startswith(HIDDEN_CONTROL) and t[len(HIDDEN_CONTROL) :] not in controls}
    if gone:
        changes["hidden"] = state.viewing.hidden - gone
    compared = state.viewing.compared
    if compared and (character is None or all(w.id != compared for w in character.weaves)):
        changes["compared"] = ""
    if character is None:
        return with_values(state, influence="", selection=Selection(), **changes)
    joints, picked = state.ids_of("joint"), state.selection
    if state.tooling.pins - set(joints):
        changes["pins"] = state.tooling.pins & set(joints)
    if state.viewing.influence and state.viewing.influence not in joints:
        changes["influence"] = next(iter(joints), "")
    things = state.ids_of(picked.kind) if picked.kind in KINDS else picked.ids
    ids = tuple(i for i in picked.ids if i in things)
    if ids != picked.ids:
        changes["selection"] = Selection(picked.kind, ids) if ids else Selection()
    return with_values(state, **changes)
