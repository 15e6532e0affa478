"""Open, import, save, recover: each reads and writes on a thread."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QTimer

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.context import Context
from pegloom.app.demos import DEMO, DEMOS, is_demo
from pegloom.app.jobs import Job
from pegloom.app.state.kept import keep_watched, remember, watched_of
from pegloom.core.errors import PegLoomError, TooLargeError
from pegloom.core.jobs import Progress
from pegloom.core.motion.clips import sample
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.gathered import gather
from pegloom.files.import_choice import ImportChoice, taken, worth_asking
from pegloom.files.imported import Imported
from pegloom.files.leftovers import LeftOver, left_over, of_project, refuse, taken_over, when_told
from pegloom.files.project import SUFFIX, open_project, save_project
from pegloom.files.reading import read_mesh
from pegloom.scene.display import Display

SHOWN = 1500
"""Milliseconds until what was opened stands in the view, finely drawn."""
MUCH = 1 << 40
"""Bytes a file may unpack to once the user has said so."""


def open_file(c: Context, *, choose: bool = False) -> None:
    """Ask for a file and open it."""
    path = c.ask.open_file()
    if path:
        open_path(c, Path(path), choose=choose)


def open_path(c: Context, path: Path, *, choose: bool = False) -> None:
    """Open a mesh or a project; a newer autosave of a project is offered. choose: ask what comes in even of a plain
    mesh."""
    if not may_leave(c):
        return
    if path.suffix.lower() != SUFFIX:
        _read(c, path, choose, None)
        return
    found = of_project(path, c.autosave.folder)
    if found is not None and c.ask.confirm(
        f"There is newer unsaved work of {path.name}, kept {when_told(found.when)}.",
        yes="Open the unsaved work", no="Open it as saved",
    ):
        recover(c, found)
        return
    open_saved(c, path)


def may_leave(c: Context) -> bool:
    """Whether the present document may be left: it is saved, or the user says so."""
    if c.state.character is None or not c.state.unsaved:
        return True
    return c.ask.confirm(f"{c.state.document.name} has unsaved changes.", yes="Leave it without saving", no="Stay here")


def _keeper(c: Context, path: Path) -> Callable[[], None]:
    """Keeps a snapshot of what is left for another file, on that job's thread; nothing where it is saved, or nothing is open."""
    if c.state.character is None or not c.state.unsaved:
        return lambda: None
    take, left = c.snapshots.ready(f"opening {path.name}", c.state.path), c.store.history.present
    return lambda: take(left)


def open_saved(c: Context, path: Path, *, most: int | None = None, said: str = "", copy: bool = False) -> None:
    """Open a project as it was saved. copy : without its place, so that saving asks for one."""
    keep = _keeper(c, path)

    def work(progress: Progress) -> object:
        keep()
        progress(0.1, f"reading {path.name}")
        try:
            return open_project(path) if most is None else open_project(path, most=most)
        except TooLargeError as error:
            return error

    def done(result: object) -> None:
        if isinstance(result, TooLargeError):
            if _trusted(c, result):
                open_saved(c, path, most=MUCH, said=said, copy=copy)
            return
        assert isinstance(result, Document)
        _leave(c)
        # A demo is shown in its colours; saving it asks for a place of its own.
        demo = is_demo(path)
        more = {"display": Display.TEXTURED} if demo else {}
        c.store.start_with(result, None if demo or copy else path, **more)
        c.revised.follow(None if demo or copy else watched_of(path))
        if not copy:
            remember(path)
            picture_later(c, path)
        notes = result.character.import_notes if result.character is not None else ()
        mended = [line for line in notes if line.startswith("mended:")]
        c.say(said or "; ".join([f"Opened {path.name}", *mended[:3]]), error=bool(said))
        arrive(c)

    c.jobs.start(Job(f"Opening {path.name}", work, done))


def arrive(c: Context) -> None:
    """A project has just opened: where its work goes on."""
    character = c.state.character
    if character is None:
        return
    c.enter([area for area in c.areas if area.opens(character)][-1].id)
    c.view.show_all()


def _leave(c: Context) -> None:
    """Before another document is current: this one's unsaved work is saved or given up."""
    c.store.leaving.emit()


def _trusted(c: Context, error: TooLargeError) -> bool:
    """Whether a file may take more memory than its size grants."""
    if c.ask.confirm(f"{error.file}: {error.what}. It may take all the memory there is.", yes="Open it all the same", no="Leave it closed"):
        return True
    c.say(str(error), error=True)
    return False


def _read(c: Context, path: Path, choose: bool, most: int | None) -> None:
    def work(base: Document, progress: Progress) -> object:
        progress(0.1, f"reading {path.name}")
        try:
            return read_mesh(path, most=most)
        except TooLargeError as error:
            return error

    def done(base: Document, result: object) -> None:
        if isinstance(result, TooLargeError):
            if _trusted(c, result):
                _read(c, path, choose, MUCH)
            return
        assert isinstance(result, Imported)
        choice = c.ask.choose_import(result) if choose or worth_asking(result) else ImportChoice()
        if choice is None:
            c.say(f"{path.name} stays where it is")
            return
        _import(c, path, result, choice, base)

    c.work_on(f"Opening {path.name}", work, done)


def _import(c: Context, path: Path, imported: Imported, choice: ImportChoice, base: Document) -> None:
    """What was chosen of a file becomes the document."""

    keep = _keeper(c, path)

    def work(progress: Progress) -> object:
        keep()
        progress(0.2, "looking at how it stands")
        some = taken(imported, choice)
        document = edits.bring_in(
            Document(), some.parts, name=path.stem, materials=some.materials, images=some.images,
            skeleton=some.skeleton, weights=some.weights, clips=some.clips, notes=some.notes,
        )  # fmt: skip
        if choice.rest_from_clip and some.clips and some.skeleton is not None:
            progress(0.7, "taking the first frame as the rest")
            document = edits.set_rest(document, sample(some.clips[0], 0.0, some.skeleton))
        return document, tuple(some.notes)

    def done(result: Any) -> None:
        document, notes = result
        present = c.store.history.present
        if present is not base and present is not c.state.saved and not c.ask.confirm(
            f"{c.state.document.name} was changed while {path.name} was read.", yes="Leave it without saving", no="Keep what I changed",
        ):
            c.say(f"{path.name} was not opened; your work stands as it was")
            return
        _leave(c)
        c.store.start_with(document, None)
        c.enter(c.areas[0].id)
        c.revised.follow(None if is_demo(path) else path)
        remember(path)
        picture_later(c, path)
        c.say("; ".join([f"Opened {path.name}", *notes[:3]]))

    c.jobs.start(Job(f"Opening {path.name}", work, done))


def picture_later(c: Context, path: Path) -> None:
    """A picture for the list of recent files, once the view shows what was opened."""
    shown = c.store.history.present

    def take() -> None:
        if c.store.history.present is shown:
            remember(path, c.autosave.picture())

    # A child of the context: it is gone with the window.
    timer = QTimer(c)
    timer.setSingleShot(True)
    timer.timeout.connect(take)
    timer.timeout.connect(timer.deleteLater)
    timer.start(SHOWN)


def show_folder(c: Context) -> None:
    """Where the project lies, in the desktop's own program."""
    if c.state.path is None:
        c.say("The project has no place yet; save it first", error=True)
    else:
        c.ask.show_folder(c.state.path.parent)


def save_gathered(c: Context) -> None:
    """A copy elsewhere, its pictures as files beside it; the project stays where it is."""
    path = c.ask.save_file("Save a copy with its pictures", f"{c.character.name} copy{SUFFIX}", f"*{SUFFIX}")
    if not path:
        return
    place = Path(path)

    def work(document: Document, progress: Progress) -> object:
        progress(0.1, f"writing {place.name}")
        return gather(place, document)

    def done(_: Document, made: Any) -> None:
        files, notes = made
        c.say("; ".join([f"Saved {files[0].name} and {counted(len(files) - 1, 'picture')} beside it", *notes]))

    c.work_on(f"Saving a copy as {place.name}", work, done, must_end=True)


def save(c: Context) -> None:
    """Save the project where it is, or ask where."""
    if c.state.path is None:
        save_as(c)
    else:
        save_to(c, c.state.path)


def save_as(c: Context) -> None:
    path = c.ask.save_file("Save the project", f"{c.character.name}{SUFFIX}", f"*{SUFFIX}")
    if path:
        chosen = Path(path)
        save_to(c, chosen if chosen.suffix == SUFFIX else chosen.with_suffix(SUFFIX))


def save_to(c: Context, path: Path) -> None:
    """Save the project as it stands when its turn comes."""
    picture = c.autosave.picture()

    def work(document: Document, progress: Progress) -> None:
        progress(0.1, f"writing {path.name}")
        save_project(path, document)

    def done(document: Document, _: object) -> None:
        c.store.put(saved=document, path=path)
        if c.store.history.present is document:
            c.autosave.clear()
        remember(path, picture)
        keep_watched(path, c.revised.path)
        c.say(f"Saved {path.name}")

    c.work_on(f"Saving {path.name}", work, done, must_end=True)


# Unsaved work that was left behind


def offer_recovery(c: Context, *, again: bool = False) -> bool:
    """After a crash: offer the unsaved work that was left behind. Returns whether some is being opened.

    again : asked for by the user; what was declined before is offered too, and nothing left is said.
    """
    found = [one for one in left_over(c.autosave.folder) if again or not one.refused]
    if not found:
        if again:
            c.say("No unsaved work was left behind")
        return False
    chosen = c.ask.recover(found)
    if chosen < 0:
        for one in found:
            refuse(one, c.autosave.folder)
        return False
    return may_leave(c) and recover(c, found[chosen])


def recover(c: Context, one: LeftOver) -> bool:
    """Open unsaved work and own it from now on; where it is damaged, the last save. Returns whether it is being opened."""
    keeper = taken_over(one, c.autosave.folder)
    if keeper is None:
        c.say(f"Another window has {one.name} open by now", error=True)
        return False

    def work(progress: Progress) -> object:
        progress(0.1, f"reading the unsaved work of {one.name}")
        try:
            return open_project(one.file)
        except PegLoomError as error:
            return error

    owned = False

    def done(result: object) -> None:
        nonlocal owned
        if isinstance(result, PegLoomError):
            refuse(one, c.autosave.folder)
            if one.project is None or not one.project.is_file():
                c.say(f"The unsaved work of {one.name} cannot be opened: {result}", error=True)
                return
            said = f"The unsaved work of {one.project.name} is damaged; the last save was opened instead ({result})"
            open_saved(c, one.project, said=said)
            return
        assert isinstance(result, Document)
        if c.state.character is not None:
            c.autosave.clear()
        owned = True
        c.autosave.new_document(keeper)
        # What was recovered is not in the project yet.
        c.store.start_with(result, one.project, saved=Document())
        c.say(f"Unsaved work of {one.name}, kept {when_told(one.when)}. Save it to keep it for good")
        arrive(c)

    def ended() -> None:
        # Cancelled or damaged: it is anybody's again.
        if not owned:
            keeper.let_go()

    c.jobs.start(Job(f"Opening the unsaved work of {one.name}", work, done, ended=ended))
    return True


def _demo(name: str, title: str) -> Action:
    return Action(
        f"file.demo_{name}", f"Open the demo: {title}", "File", "Started: joints, weights, controls, a clip",
        lambda c: open_path(c, DEMO / f"{name}{SUFFIX}"),
    )  # fmt: skip


def _demo_mesh(name: str, title: str) -> Action:
    return Action(
        f"file.mesh_{name}", f"Open the demo mesh: {title}", "File", "Unrigged, before anything is done",
        lambda c: open_path(c, DEMO / f"{name}.obj"),
    )  # fmt: skip


ACTIONS = (
    Action("file.open", "Open a mesh or project", "File", "Open OBJ, glTF, GLB, PLY, STL, USD, ZIP or a project", open_file, key="Ctrl+O"),
    Action("file.open_choosing", "Open, choosing what comes in", "File", "Parts, skeleton, weights, clips, morph targets, materials", lambda c: open_file(c, choose=True), key="Ctrl+Alt+O"),
    Action("file.save", "Save", "File", "Save the project", save, key="Ctrl+S", needs=WITH_CHARACTER),
    Action("file.save_as", "Save as", "File", "Save the project elsewhere", save_as, key="Ctrl+Shift+S", needs=WITH_CHARACTER),
    Action("file.gather", "Save a copy with its pictures", "File", "Elsewhere, textures and reference pictures as files beside it", save_gathered, needs=WITH_CHARACTER),
    Action("file.show_folder", "Show in its folder", "File", "Where the project lies, in the desktop's file manager", show_folder, needs=WITH_CHARACTER),
    Action("file.recover", "Unsaved work left behind", "File", "What was not saved when the program was stopped", lambda c: offer_recovery(c, again=True)),
    *(_demo(name, title) for name, title in DEMOS.items()),
    *(_demo_mesh(name, title) for name, title in DEMOS.items() if (DEMO / f"{name}.obj").exists()),
)  # fmt: skip
