"""What an action may ask for: the state, questions to the user, long work, the view, and other actions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from pegloom.app.jobs import Background, Job, JobRunner
from pegloom.app.spec import AreaSpec
from pegloom.app.state.frames import Frames
from pegloom.app.state.kept import keep_usual
from pegloom.app.state.player import Player
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import Selection, State, Tool
from pegloom.app.state.store import Store
from pegloom.checks.ways import Told
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights
from pegloom.document.edits.revised import Arrived, Row, Taking
from pegloom.document.model import Character, Document, Image
from pegloom.files.import_choice import ImportChoice
from pegloom.files.imported import Imported
from pegloom.files.leftovers import LeftOver
from pegloom.scene.camera import Camera

if TYPE_CHECKING:
    from PyQt6.QtGui import QAction

    from pegloom.app.actions.action import Action
    from pegloom.app.stage.tools import Drag, Pointer
    from pegloom.app.watch.autosave import Autosave
    from pegloom.app.watch.desk import Desk
    from pegloom.app.watch.live import LiveEdit
    from pegloom.app.watch.quality import QualityWatch
    from pegloom.app.watch.revised import RevisedFile
    from pegloom.app.watch.snapshots import Snapshots
    from pegloom.app.widgets.panel import Refresher

Edit = Callable[[Document], Any]
"""Makes a new document of one; or that and something besides, as a tuple."""


class Ask(Protocol):
    """Questions to the user; tests hand in their own answers."""

    def open_file(self) -> str: ...
    def open_revised(self) -> str: ...
    def open_sculpted(self) -> str: ...
    def choose_revised(self, character: Character, arrived: Arrived, taking: Taking, rows: list[Row]) -> Taking | None: ...
    def choose_way(self, told: tuple[Told, ...]) -> int: ...
    def open_master(self) -> str: ...
    def open_figure(self) -> str: ...
    def open_picture(self) -> str: ...
    def open_motion(self) -> str: ...
    def open_takes(self) -> list[str]: ...
    def open_pairing(self) -> str: ...
    def open_expressions(self) -> str: ...
    def open_body(self) -> str: ...
    def choose_import(self, imported: Imported) -> ImportChoice | None: ...
    def pair_joints(self, other: Character, ours: Skeleton) -> dict[str, str] | None: ...
    def name(self, title: str, suggestion: str) -> str: ...
    def one_of(self, title: str, options: list[str]) -> int: ...
    def save_file(self, title: str, name: str, kind: str) -> str: ...
    def confirm(self, question: str, yes: str, no: str) -> bool: ...
    def pictured(self, title: str, words: str, rows: list[tuple[str, bytes]], ways: list[str]) -> tuple[int, int]: ...
    def show_folder(self, folder: Path) -> None: ...
    def recover(self, found: list[LeftOver]) -> int: ...


class View(Protocol):
    """What may be asked of the view."""

    camera: Camera

    def update(self) -> None: ...
    def show_all(self) -> None: ...
    def show_selection(self) -> None: ...
    def show_point(self, point: np.ndarray) -> None: ...
    def look_along(self, axis: str) -> None: ...
    def toggle_perspective(self) -> None: ...
    def small_picture(self) -> Image: ...
    def influence_at_pointer(self) -> str: ...
    def hold(self, drag: Drag) -> None: ...
    def move_drag(self, at: Pointer) -> None: ...
    def end_drag(self) -> None: ...
    def cancel_drag(self) -> bool: ...
    def stroke_made(self) -> Weights | None: ...
    def back(self) -> bool: ...
    def forward(self) -> bool: ...


class Frame(Protocol):
    """What may be asked of the window around."""

    def close(self) -> bool: ...
    def show_history(self) -> None: ...
    def show_keys(self) -> None: ...
    def find_action(self) -> None: ...
    def close_popups(self) -> bool: ...
    def toggle_theme(self) -> None: ...
    def show_snags(self, area: str) -> None: ...


class Registry(Protocol):
    """What may be asked of the actions."""

    entries: dict[str, Action]
    qactions: dict[str, QAction]

    def run(self, action_id: str) -> None: ...
    def key(self, action_id: str) -> str: ...


class Context(QObject):
    """Handed to every action and panel. `view`, `frame`, `actions` and the watchers are put in by whoever makes the window;
    tests put in their own."""

    said = pyqtSignal(str, bool, str)
    """said(text, is_error, offer): a note for the user; offer: the id of an action that would help."""

    stale = pyqtSignal()
    """What panels show may be wrong though the state is the same: an edit was refused, keys were changed."""

    view: View
    frame: Frame
    actions: Registry
    autosave: Autosave
    snapshots: Snapshots
    revised: RevisedFile
    quality: QualityWatch
    background: Background
    live: LiveEdit
    desk: Desk
    refresher: Refresher | None = None
    """Made with the first panel."""

    def __init__(
        self, store: Store, ask: Ask, jobs: JobRunner, areas: tuple[AreaSpec, ...], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self.store, self.ask, self.jobs, self.areas = store, ask, jobs, areas
        self.frames, self.player = Frames(store), Player(store)
        store.refused.connect(self._refused)
        jobs.failed.connect(lambda text: self.say(text, error=True))
        jobs.waiting.connect(self.say)

    def _refused(self, why: str) -> None:
        """A step the rig is closed to: what leads out is offered."""
        self.stale.emit()
        self.say(why, error=True, offer="view.animators" if self.state.viewing.animators else "rig.open_up")

    # Short ways

    @property
    def state(self) -> State:
        return self.store.state

    @property
    def character(self) -> Character:
        """The present character. Raises EditError where nothing is open."""
        return self.store.state.document.require_character()

    @property
    def skeleton(self) -> Skeleton:
        """Its skeleton. Raises EditError where there is none."""
        return self.store.state.document.require_character().require_skeleton()

    @property
    def area(self) -> AreaSpec:
        """The present work area."""
        return self.area_named(self.store.state.area)

    def area_named(self, area_id: str) -> AreaSpec:
        return next((a for a in self.areas if a.id == area_id), self.areas[0])

    # Saying and going

    def say(self, text: str, *, error: bool = False, offer: str = "") -> None:
        """A note for the user."""
        self.said.emit(text, error, offer)

    def go(self, area_id: str) -> None:
        """Go to a work area, unless it is the present one."""
        if area_id != self.store.state.area:
            self.enter(area_id)

    def enter(self, area_id: str, **values: Any) -> None:
        """Come into a work area, also into the present one anew."""
        spec, state = self.area_named(area_id), self.store.state
        picked = state.selection if state.selection.kind in spec.picks else Selection()
        before = state.clock.source
        if state.viewing.animators and "control" not in spec.picks:
            values = {"animators": False, **values}
            self.say(f"Left the Animator's view: {spec.title} is not for animators")
        self.store.put(
            **{
                "area": spec.id, "tool": Tool.PICK, "ghost": None, "moves": (), "wanted": None, "at_rest": spec.at_rest,
                "weighing": spec.weighing, "selection": picked, **spec.enter(state), **values,
            }
        )  # fmt: skip
        if before and not self.store.state.clock.source:
            self.say("Showing the current pose; trials are on the strip")

    def keep_setting(self, kind: type[Setting], **values: Any) -> None:
        """A setting put, and kept as the user's usual one for sessions to come."""
        self.store.put_setting(kind, **values)
        settings = self.store.state.settings
        self.store.put(settings=settings.with_usual(replace(settings.usual_of(kind), **values)))  # type: ignore[type-var]
        keep_usual(self.store.state.settings)

    # Changing the document

    def try_edit(self, name: str, edit: Edit, then: Callable[[Any], None] | None = None) -> bool:
        """An edit as one step, at once; what is wrong is said where it cannot be done. then: gets what the edit made
        besides the document."""
        try:
            document, result = _parted(edit(self.store.history.present))
            if not self.store.commit(name, document):
                return False
        except PegLoomError as error:
            self.store.drop_draft()
            self.stale.emit()
            self.say(str(error), error=True)
            return False
        if then is not None:
            then(result)
        return True

    def attempt(self, do: Callable[[], object]) -> None:
        """Do something for a button of a card; what is wrong is said."""
        try:
            do()
        except PegLoomError as error:
            self.say(str(error), error=True)

    def preview(self, edit: Edit) -> PegLoomError | None:
        """Show what an edit would make of the document as it is kept, without a step; what is wrong, where it cannot be done."""
        try:
            document, _ = _parted(edit(self.store.history.present))
        except PegLoomError as error:
            return error
        self.store.draft(document)
        return None

    def change(
        self, name: str, edit: Edit, *, slow: bool = False, doing: str = "", then: Callable[[Any], None] | None = None
    ) -> None:
        """An edit as one step, and then `then`: at once, or where it is `slow` as a job that tells what it is `doing`."""
        if not slow:
            self.try_edit(name, edit, then)
            return

        def work(document: Document, progress: Progress) -> Any:
            progress(0.2, doing)
            return edit(document)

        self.job(name, work, then=then)

    def job(
        self, name: str | Callable[[Any], str], edit: Callable[[Document, Progress], Any], *, title: str = "", then: Callable[[Any], None] | None = None,
    ) -> None:  # fmt: skip
        """A slow edit on a thread, landed as one step; a job before it is waited for. A snapshot is kept before it begins.

        name : of the step, or what gives it from what was made besides the document.
        title : of the job, where it is not the name.
        """

        def done(base: Document, result: object) -> None:
            document, output = _parted(result)
            called = name if isinstance(name, str) else name(output)
            if document is base or not self.land(base, called, document):
                return
            if then is not None:
                then(output)

        called = title or str(name)
        keep = self.snapshots.ready(called, self.store.state.path)

        def work(document: Document, progress: Progress) -> Any:
            keep(document)
            return edit(document, progress)

        self.work_on(called, work, done)

    def work_on(
        self, title: str, work: Callable[[Document, Progress], Any], done: Callable[[Document, Any], None], *, must_end: bool = False,
    ) -> None:  # fmt: skip
        """A job over the document as it stands when its turn comes: work(document, progress), then done(document, result)."""
        base: list[Document] = []
        self.jobs.start(
            Job(
                title, lambda progress: work(base[0], progress), lambda result: done(base[0], result),
                begin=lambda: base.append(self.store.history.present), must_end=must_end,
            )
        )  # fmt: skip

    def land(self, base: Document, name: str, document: Document) -> bool:
        """What a job made of `base` becomes one step, or is offered when the document has moved on meanwhile."""
        if self.store.history.present is base or self.ask.confirm(
            f"{name} has finished, but the document was changed meanwhile. Its result would take the place of that; "
            "what was done meanwhile is one undo away.", yes="Take the result", no="Keep what I changed",
        ):
            return self.store.commit(name, document)
        return False


def _parted(result: Any) -> tuple[Document, Any]:
    """A document, and what came with it."""
    if not isinstance(result, tuple):
        return result, None
    document, *more = result
    return document, more[0] if len(more) == 1 else tuple(more)
