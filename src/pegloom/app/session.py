"""One session: the present document, its history, what is selected, what is shown. All views hang on its signals."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from pegloom.app.jobs import Job, JobRunner
from pegloom.app.ladder import read_ladder
from pegloom.app.recent import remember
from pegloom.app.snagwatch import SnagWatch
from pegloom.core.errors import PegLoomError, TooLargeError
from pegloom.core.jobs import Progress
from pegloom.core.motion.clips import Clip, sample
from pegloom.core.motion.trials import Trial, trial_amount, trials_of
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.skeleton.body import body_of
from pegloom.core.skin.quality import bones_at, gauge_of
from pegloom.document import edits
from pegloom.document.evaluate import PosedFrame, evaluate
from pegloom.document.history import History
from pegloom.document.model import Character, Document, KeptPose, Part
from pegloom.files.choosing import Take, taken, worth_asking
from pegloom.files.imported import Imported
from pegloom.files.project import SUFFIX, open_project, save_project
from pegloom.files.reading import read_mesh
from pegloom.render.renderer import Display
from pegloom.scene.drawing import reach_lines
from pegloom.scene.lenses import Lens

RANGE_TEST = "range test"
TRIAL_FRAMES = 40
"""Frames of the range test each trial takes: there and back."""


MUCH = 1 << 40
"""Bytes a file may unpack to once the user has said so."""
AS_SEEN = -1
"""Number of fingers that says: as many as the hands show."""


class Area(Enum):
    MESH = "Mesh"
    JOINTS = "Joints"
    WEIGHTS = "Weights"
    CONTROLS = "Controls"
    MOTION = "Motion"
    HANDOVER = "Handover"


class Tool(Enum):
    PICK = "pick"
    MOVE = "move"
    TURN = "turn"
    GROW = "grow"
    BRUSH = "brush"
    SELECT = "select"
    DRAW = "draw"


class BrushMode(Enum):
    ADD = "Add"
    TAKE = "Take"
    SET = "Set"
    SCALE = "Scale"
    EVEN = "Even"
    SHARPEN = "Sharpen"
    ALONG = "Rings"

    @property
    def says(self) -> str:
        """What a stroke does, for a person."""
        return {
            BrushMode.ADD: "add weight",
            BrushMode.TAKE: "take weight away",
            BrushMode.SET: "bring to the ladder's value",
            BrushMode.SCALE: "multiply: over .5 on the ladder grows, under it shrinks",
            BrushMode.EVEN: "even out toward the neighbours",
            BrushMode.SHARPEN: "make the blend crisper",
            BrushMode.ALONG: "one weight around each ring of the limb",
        }[self]


class Painting(Enum):
    """What a stroke changes."""

    WEIGHTS = "weights"
    DUAL = "dual quaternion share"
    RELAX = "surface relax share"


@dataclass(frozen=True)
class Brush:
    """radius: share of the height. strength: a dab's. value: what Set aims at. hardness: share of the radius at full force."""

    mode: BrushMode = BrushMode.ADD
    radius: float = 0.045
    strength: float = 0.5
    value: float = 1.0
    hardness: float = 0.25
    front: bool = True
    """Only vertices turned to the eye are painted."""
    through: bool = False
    """The far side under the pointer is painted as well."""


@dataclass(frozen=True)
class Selection:
    """kind: "", peg, joint, control or part; ids: what is selected, the last one leading."""

    kind: str = ""
    ids: tuple[str, ...] = ()

    @property
    def lead(self) -> str:
        return self.ids[-1] if self.ids else ""


class Session(QObject):
    """See the module. `changed(old, new)` after every change of the document, previews included."""

    changed = pyqtSignal(object, object)
    selection_changed = pyqtSignal()
    view_changed = pyqtSignal()
    time_changed = pyqtSignal()
    look_at = pyqtSignal(object)
    """look_at(point): bring a place of the character into the middle of the stage."""
    leaving = pyqtSignal()
    """Another document takes the place of this one now; what it holds is still the present one."""
    said = pyqtSignal(str, bool)
    """said(text, is_error)"""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.history = History(Document())
        self.document = self.history.present
        self.path: Path | None = None
        self.saved: Document = self.document
        self.selection = Selection()
        self.vertices: dict[str, np.ndarray] = {}
        self.locked: frozenset[str] = frozenset()
        self.area = Area.MESH
        self.tool = Tool.PICK
        self.display = Display.CLAY
        self.lens = Lens.NONE
        self.wire_over = False
        self.clean_view = False
        self.both_sides = True
        self.auto_key = False
        self.brush = Brush()
        self.painting = Painting.WEIGHTS
        self.pressure = 1.0
        """Of a pen on a tablet, 0 to 1; 1 for a mouse."""
        self.ladder = read_ladder()
        self.compared = ""
        """The weave shown right of the seam, or "" for none."""
        self.seam = 0.5
        """Where the seam stands, as a share of the stage's width."""
        self.copied: Mapping[str, float] | None = None
        """A row of weights for pasting."""
        self.numbers_shown = False
        self.reach_shown = False
        """Whether the reach of the joint in hand is drawn, to be dragged."""
        self.influence = ""
        self.source = ""
        """What the strip plays: "" the pose in hand, RANGE_TEST, or a clip's id."""
        self.time = 0.0
        self.playing = False
        self.looping = True
        self.fingers = AS_SEEN
        self.pattern = "auto"
        self.pairs = 0
        """Pairs of legs to look for in a many-legged body; 0: as many as the shape shows."""
        self.with_children = False
        self.middle_shown = False
        self.hidden: frozenset[str] = frozenset()
        """Kinds of things not shown and not picked: joints, pegs, controls, ground."""
        self.ghost: np.ndarray | None = None
        """Edges (s, 2, 3) of the pose before standing up, shown for a while."""
        self.moves: list[tuple[np.ndarray, np.ndarray]] = []
        """Proposed peg moves shown in the view."""
        self.level = 0
        """The detail level shown and picked."""
        self.drag_free = True
        """False while a drag on the stage is under way."""
        self.snag_watch = SnagWatch(self)
        self.jobs = JobRunner(self)
        self.choose: Callable[[Imported], Take | None] = lambda _: Take()
        """Asks what of a file comes in; None leaves it."""
        self.confirm: Callable[[str], bool] = lambda _: False
        """A question to the user."""
        self.jobs.failed.connect(lambda text: self.said.emit(text, True))
        self.ticker = QTimer(self)
        self.ticker.setInterval(16)
        self.ticker.timeout.connect(self._tick)
        self._last_tick = 0.0
        self._frame: tuple[Character, Shown, PosedFrame] | None = None
        self._other_frame: tuple[Character, Shown, PosedFrame] | None = None
        self._other: tuple[Character, str, Character] | None = None

    # The document

    @property
    def character(self) -> Character | None:
        return self.document.character

    @property
    def shown_parts(self) -> tuple[Part, ...]:
        """The parts in the view: of the detail level looked at."""
        return self.character.at_level(self.level) if self.character is not None else ()

    def commit(self, name: str, document: Document) -> None:
        """One undoable step."""
        self.history.commit(name, document)
        self._show(document)

    def preview(self, document: Document) -> None:
        """Show a document without a step: the middle of a drag."""
        self._show(document)

    def drop_preview(self) -> None:
        self._show(self.history.present)

    def _show(self, document: Document) -> None:
        old, self.document = self.document, document
        character = document.character
        if old.character is not None and character is None:
            self.selection = Selection()
        if self.source not in ("", RANGE_TEST) and (
            character is None or all(thing.id != self.source for thing in (*character.clips, *character.trials))
        ):
            self.source, self.time = "", 0.0
        picked = self.selection
        self._drop_stale(old.character)
        if self.drag_free:
            self.snag_watch.look(character)
        self.changed.emit(old, document)
        if self.selection is not picked:
            self.selection_changed.emit()

    def _drop_stale(self, before: Character | None) -> None:
        """What is picked and gone: vertices of parts that have become others, joints, controls, a compared weave."""
        character = self.character
        counts = {p.id: p.mesh.vertex_count for p in character.parts} if character is not None else {}
        had = {p.id: p.mesh.vertex_count for p in before.parts} if before is not None else {}
        kept = {p: v for p, v in self.vertices.items() if len(v) and p in counts and had.get(p) in (None, counts[p])}
        if len(kept) != len(self.vertices):
            self.vertices = kept
        if self.compared and (character is None or all(w.id != self.compared for w in character.weaves)):
            self.compared = ""
        if character is None:
            self.influence = ""
            return
        joints = character.skeleton.index if character.skeleton is not None else {}
        if self.influence and self.influence not in joints:
            self.influence = next(iter(joints), "")
        there = {
            "part": counts, "joint": joints, "peg": character.pegs.by_name if character.pegs is not None else {},
            "control": character.rig.index if character.rig is not None else {},
        }.get(self.selection.kind)  # fmt: skip
        if there is not None and any(i not in there for i in self.selection.ids):
            self.selection = replace(self.selection, ids=tuple(i for i in self.selection.ids if i in there))
            if not self.selection.ids:
                self.selection = Selection()

    def undo(self) -> None:
        name = self.history.undo_name
        self._show(self.history.undo())
        if name:
            self.say(f"Undone: {name}")

    def redo(self) -> None:
        name = self.history.redo_name
        self._show(self.history.redo())
        if name:
            self.say(f"Again: {name}")

    def try_edit(self, name: str, edit: Callable[[Document], Document]) -> bool:
        """Run an edit and commit it; say what is wrong when it cannot be done."""
        try:
            self.commit(name, edit(self.history.present))
        except PegLoomError as error:
            self.say(str(error), error=True)
            return False
        return True

    def say(self, text: str, *, error: bool = False) -> None:
        self.said.emit(text, error)

    @property
    def unsaved(self) -> bool:
        return self.document is not self.saved

    # Files

    def open(self, path: Path, *, choose: bool = False) -> None:
        """Open a project at once, a mesh on a thread; choose: ask what comes in even of a plain mesh."""
        if path.suffix.lower() == SUFFIX:
            try:
                try:
                    document = open_project(path)
                except TooLargeError as error:
                    if not self._trusted(error):
                        return
                    document = open_project(path, most=MUCH)
            except PegLoomError as error:
                self.say(str(error), error=True)
                return
            self.leaving.emit()
            self.start_with(document, path)
            remember(path)
            mended = [a for a in document.require_character().arrival if a.startswith("mended:")] if document.character else []
            self.say("; ".join([f"Opened {path.name}", *mended[:3]]))
            return
        self._read(path, choose, None)

    def _trusted(self, error: TooLargeError) -> bool:
        """Whether a file may take more memory than its size grants."""
        if self.confirm(f"{error.file}: {error.what}. Open it all the same? It may take all the memory there is."):
            return True
        self.say(str(error), error=True)
        return False

    def _read(self, path: Path, choose: bool, most: int | None) -> None:
        def work(progress: Progress) -> object:
            progress(0.1, f"reading {path.name}")
            try:
                return read_mesh(path, most=most)
            except TooLargeError as error:
                return error

        def done(result: object) -> None:
            if isinstance(result, TooLargeError):
                if self._trusted(result):
                    self._read(path, choose, MUCH)
                return
            imported: Imported = result  # type: ignore[assignment]
            take = self.choose(imported) if choose or worth_asking(imported) else Take()
            if take is None:
                self.say(f"{path.name} stays where it is")
                return
            self._stand_in(path, imported, take)

        self.jobs.start(Job(f"Opening {path.name}", work, done))

    def _stand_in(self, path: Path, imported: Imported, take: Take) -> None:
        """What was chosen of a file becomes the document."""

        def work(progress: Progress) -> object:
            progress(0.2, "looking at how it stands")
            some = taken(imported, take)
            document = edits.bring_in(
                Document(), some.parts, name=path.stem, materials=some.materials, images=some.images,
                skeleton=some.skeleton, weights=some.weights, clips=some.clips, notes=some.notes,
            )  # fmt: skip
            if take.rest_from_clip and some.clips:
                progress(0.7, "taking the first frame as the rest")
                document = edits.set_rest(document, sample(some.clips[0], 0.0, some.skeleton))
            return document, some.notes

        base = self.history.present

        def done(result: object) -> None:
            document, notes = result  # type: ignore[misc]
            moved_on = self.history.present is not base and self.history.present is not self.saved
            if moved_on and not self.confirm(
                f"{self.document.name} was changed while {path.name} was read. Leave it without saving?"
            ):
                self.say(f"{path.name} was not opened; your work stands as it was")
                return
            self.leaving.emit()
            self.start_with(document, None)
            self.set_area(Area.MESH)
            remember(path)
            self.say("; ".join([f"Opened {path.name}", *notes[:3]]))

        self.jobs.start(Job(f"Opening {path.name}", work, done))

    def start_with(self, document: Document, path: Path | None) -> None:
        """A document just opened: a new history."""
        self.history = History(document)
        self.saved = document
        self.path = path
        self.selection, self.vertices, self.influence, self.level = Selection(), {}, "", 0
        self.source, self.time, self.playing = "", 0.0, False
        self._show(document)
        self.selection_changed.emit()
        self.view_changed.emit()

    def save(self, path: Path) -> bool:
        """Save the project. Returns whether it worked."""
        try:
            save_project(path, self.history.present)
        except PegLoomError as error:
            self.say(str(error), error=True)
            return False
        self.saved, self.path = self.history.present, path
        self.say(f"Saved {path.name}")
        self.changed.emit(self.document, self.document)
        return True

    # What is shown

    def set_area(self, area: Area) -> None:
        self.area = area
        self.tool = Tool.PICK
        character = self.character
        self.ghost, self.moves = None, []
        if area is Area.WEIGHTS:
            if self.lens is Lens.NONE and character is not None and character.skin is not None:
                self.lens = Lens.INFLUENCE
            if not self.influence and character is not None and character.skeleton is not None:
                ids = [j.id for j in character.skeleton.joints]
                arm = body_of(character.skeleton).joint_of.get("arm.l.upper")
                self.influence = arm or ids[min(1, len(ids) - 1)]
        else:
            self.lens = Lens.NONE
        wanted = {
            Area.JOINTS: ("peg", "joint"),
            Area.WEIGHTS: ("joint",),
            Area.CONTROLS: ("control",),
            Area.MOTION: ("control",),
        }.get(area, ("part",))
        if self.selection.kind not in wanted:
            self.selection = Selection()
            self.selection_changed.emit()
        self.view_changed.emit()

    def set_view(self, **values: object) -> None:
        """Change how things are shown: display, lens, tool, brush, both_sides..."""
        for name, value in values.items():
            if not hasattr(self, name):
                raise AttributeError(name)
            setattr(self, name, value)
        self.view_changed.emit()

    def select(self, kind: str, *ids: str, add: bool = False) -> None:
        """Select; with add, toggle into what is selected of the same kind."""
        if add and kind == self.selection.kind:
            kept = [i for i in self.selection.ids if i not in ids]
            new = [i for i in ids if i not in self.selection.ids]
            ids = tuple(kept + new)
        self.selection = Selection(kind if ids else "", tuple(ids))
        if kind == "joint" and ids:
            self.influence = ids[-1]
        self.selection_changed.emit()

    @property
    def at_rest(self) -> bool:
        """Placing pegs and joints shows the rest, whatever pose is in hand."""
        return self.area in (Area.MESH, Area.JOINTS)

    @property
    def clip(self) -> Clip | None:
        character = self.character
        if character is None:
            return None
        return next((clip for clip in character.clips if clip.id == self.source), None)

    @property
    def kept_pose(self) -> KeptPose | None:
        """The user's own trial pose that the strip plays."""
        character = self.character
        if character is None:
            return None
        return next((t for t in character.trials if t.id == self.source), None)

    @property
    def shown_pose(self) -> Shown:
        """The pose on the stage."""
        character = self.character
        if character is None or self.at_rest:
            return Pose()
        if self.source == RANGE_TEST and character.skeleton is not None:
            return range_pose(character, self.time)
        kept = self.kept_pose
        if kept is not None:
            return kept.pose
        clip = self.clip
        if clip is not None and clip.tracks:
            return sample(clip, self.time, character.skeleton)
        return character.pose

    def frame(self) -> PosedFrame | None:
        """What the stage shows, worked out once per document and pose."""
        character = self.character
        if character is None:
            return None
        pose = self.shown_pose
        held = self._frame
        if held is None or held[0] is not character or held[1] is not pose:
            held = (character, pose, evaluate(character, pose))
            self._frame = held
        return held[2]

    @property
    def other(self) -> Character | None:
        """The character with the compared weave's weights; None when nothing is compared."""
        character = self.character
        if character is None or not self.compared or self.area is not Area.WEIGHTS:
            return None
        weave = next((w for w in character.weaves if w.id == self.compared), None)
        if weave is None:
            return None
        if self._other is None or self._other[0] is not character or self._other[1] != weave.id:
            self._other = (character, weave.id, replace(character, skin=weave.skin))
        return self._other[2]

    @property
    def difference_said(self) -> str:
        """How far the compared weave is from what is in hand, in this pose, for a person."""
        other, here, there = self.other, self.frame(), self.other_frame()
        if other is None or here is None or there is None:
            return ""
        apart = [np.linalg.norm(here.points[p] - there.points[p], axis=1) for p in here.points if p in there.points]
        values = np.concatenate(apart) if apart else np.zeros(1)
        rms, worst = 1000 * float(np.sqrt(np.mean(values**2))), 1000 * float(values.max(initial=0.0))
        return f"In this pose {rms:.1f} mm apart (root mean square), {worst:.1f} mm at most."

    def reach(self) -> list[np.ndarray]:
        """The drawn reach of the joint in hand: polylines in space; none where it is not shown."""
        character, frame = self.character, self.frame()
        if not self.reach_shown or self.area is not Area.WEIGHTS or character is None or character.skeleton is None:
            return []
        if self.influence not in character.skeleton.index or frame is None:
            return []
        return reach_lines(character.skeleton, self.influence, self.reach_radius, frame.joints)

    @property
    def reach_radius(self) -> float:
        """Metres the joint in hand reaches: its limb's radius times its factor."""
        character = self.character
        parts = [p for p in character.included if p.mesh.face_count]
        gauges = [gauge_of(p.mesh, character.skeleton, self.influence) for p in parts]
        _, _, length = bones_at(character.skeleton, self.influence)
        # At a limb's root the section is the trunk's; the limb itself is no wider than this.
        radius = min(max((g.radius for g in gauges if g is not None), default=0.03 * character.height), 0.3 * length)
        return radius * character.reaches.get(self.influence, 1.0)

    def other_frame(self) -> PosedFrame | None:
        """What stands right of the seam: the same pose with the compared weave."""
        other = self.other
        if other is None:
            return None
        pose, held = self.shown_pose, self._other_frame
        if held is None or held[0] is not other or held[1] is not pose:
            held = (other, pose, evaluate(other, pose))
            self._other_frame = held
        return held[2]

    # Time

    @property
    def length(self) -> float:
        """Seconds of what the strip plays."""
        if self.source == RANGE_TEST:
            return len(self.trials) * TRIAL_FRAMES / self.rate
        if self.kept_pose is not None:
            return TRIAL_FRAMES / self.rate
        return self.clip.length if self.clip else 2.0

    @property
    def trials(self) -> tuple[Trial, ...]:
        """The trials that move the present skeleton."""
        character = self.character
        return trials_of(character.skeleton) if character is not None and character.skeleton is not None else ()

    @property
    def rate(self) -> float:
        return self.clip.rate if self.clip else 30.0

    def play_source(self, source: str, at: float = 0.0) -> None:
        """Choose what the strip shows."""
        self.source = source
        self.go_to(at)
        self.view_changed.emit()

    def go_to(self, seconds: float) -> None:
        """Go to a time; a key clip puts its pose in hand (not an undo step)."""
        self.time = float(min(max(seconds, 0.0), self.length))
        clip, character = self.clip, self.character
        if clip is not None and clip.curves and character is not None:
            pose = sample(clip, self.time, character.skeleton, character.pose, character.rig)
            self.preview(self.document.with_character(replace(character, pose=pose)))
        self.time_changed.emit()

    def toggle_play(self) -> None:
        self.playing = not self.playing
        if self.playing:
            if not self.source:
                character = self.character
                self.source = character.clips[0].id if character and character.clips else RANGE_TEST
            if self.time >= self.length - 1e-6:
                self.time = 0.0
            self._last_tick = time.monotonic()
            self.ticker.start()
        else:
            self.ticker.stop()
        self.view_changed.emit()

    def _tick(self) -> None:
        now = time.monotonic()
        ahead = self.time + min(now - self._last_tick, 0.2)
        self._last_tick = now
        if ahead >= self.length:
            if not self.looping:
                self.toggle_play()
                ahead = self.length
            else:
                ahead = ahead % max(self.length, 1e-6)
        self.go_to(ahead)

    def commit_pose(self, name: str, pose: Pose, touched: tuple[str, ...]) -> None:
        """A pose change as a step; with auto-key on, keys it as well."""
        document = edits.set_pose(self.history.present, pose)
        clip = self.clip
        if self.auto_key and clip is not None and not clip.tracks:
            document = edits.key_controls(document, clip.id, self.snapped_time, touched)
            name += " and key"
        self.commit(name, document)

    @property
    def snapped_time(self) -> float:
        """The present time on a whole frame."""
        return round(self.time * self.rate) / self.rate


_range_cache: dict[tuple[int, float], tuple[object, Shown]] = {}


def range_pose(character: Character, seconds: float) -> Shown:
    """The range test at a time: each trial goes out and back."""
    frame = seconds * 30.0
    skeleton = character.skeleton
    assert skeleton is not None
    trials = trials_of(skeleton)
    number = min(int(frame // TRIAL_FRAMES), len(trials) - 1)
    within = (frame - number * TRIAL_FRAMES) / TRIAL_FRAMES
    amount = float(0.5 - 0.5 * np.cos(2 * np.pi * min(within, 1.0)))
    key = (id(skeleton), round(frame, 3))
    held = _range_cache.get(key)
    if held is not None and held[0] is skeleton:
        return held[1]
    if len(_range_cache) > 300:
        _range_cache.clear()
    pose = trial_amount(skeleton, trials[number].id, amount)
    _range_cache[key] = (skeleton, pose)
    return pose
