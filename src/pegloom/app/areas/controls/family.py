"""A master's rig worn by this character: its changes looked at with what they move, then taken or not."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.context import Context
from pegloom.app.state.kept import MASTERS, keep_watched, watched_of
from pegloom.app.state.settings import Setting
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.edits.bodies import Body
from pegloom.document.edits.family import Followed, lines_of
from pegloom.document.model import Document
from pegloom.files.families import LEAST_MM, read_master
from pegloom.files.patterns import known_patterns
from pegloom.render.portrait import before_and_after
from pegloom.render.studio import NoScreenError

NOTHING = "Nothing of the master has changed for this character"


@dataclass(frozen=True, slots=True)
class FamilySettings(Setting):
    """file : the master's, as it was last looked at. report : what was found, line by line."""

    ID = "family"

    file: str = ""
    report: str = ""


def wear(c: Context) -> None:
    """Choose a master, and wear it."""
    path = c.ask.open_master()
    if path:
        look_at(c, Path(path))


def follow(c: Context) -> None:
    """Look at the master again."""
    if c.character.worn is None:
        raise EditError("This character wears no master yet; Wear a master's rig makes it one of its family")
    told = c.state.settings.of(FamilySettings).file
    known = Path(told) if told else watched_of(c.state.path, MASTERS) if c.state.path is not None else None
    if known is not None and known.is_file():
        look_at(c, known)
    else:
        wear(c)


def look_at(c: Context, path: Path) -> None:
    """What the master changes and moves here; then it is taken, or not."""
    keep = c.snapshots.ready(f"taking over {path.name}", c.state.path)

    def work(document: Document, progress: Progress) -> tuple[Body, Document, Followed, list[tuple[str, bytes]]]:
        keep(document)
        progress(0.05, f"reading {path.name}")
        master = read_master(path)
        if document.require_character().worn is None:
            made, told = edits.wear_master(document, master, plans=known_patterns(), progress=progress)
        else:
            made, told = edits.follow_master(document, master, progress=progress)
        progress(0.7, "drawing what moves")
        return master, made, told, _rows(document, made, told)

    def done(base: Document, result: Any) -> None:
        master, made, told, rows = result
        report = "\n".join(lines_of(told)) or NOTHING
        c.store.put_setting(FamilySettings, file=str(path), report=report)
        if c.state.path is not None:
            keep_watched(c.state.path, path, MASTERS)
        if not told.taken and not told.kept:
            if base.require_character().worn is None:
                c.land(base, f"Wear {master.character.name}", made)
            c.say(NOTHING)
            return
        if c.store.history.present is base:
            c.store.draft(made)
        ways = ["Take it"] if told.taken else []
        ways += ["Take it over my changes"] if told.kept else []
        row, way = c.ask.pictured(f"What {master.character.name} changes here", report, rows or [("Nothing that is kept moves", b"")], ways)
        c.store.drop_draft()
        if row < 0:
            c.say("The rig stays as it was")
        elif told.taken and way == 0:
            _landed(c, base, master, made, report)
        else:
            c.job(
                f"Wear {master.character.name}", lambda document, progress: edits.follow_master(document, master, over=True, progress=progress),
                then=lambda followed: _say(c, "\n".join(lines_of(followed)) or NOTHING),
            )  # fmt: skip

    c.work_on(f"Looking at {path.name}", work, done)


def _landed(c: Context, base: Document, master: Body, made: Document, report: str) -> None:
    if c.land(base, f"Wear {master.character.name}", made):
        _say(c, report)


def _say(c: Context, report: str) -> None:
    c.store.put_setting(FamilySettings, report=report)
    c.say(report.splitlines()[0])


def _rows(before: Document, after: Document, told: Followed) -> list[tuple[str, bytes]]:
    """A row for each pose and clip that goes, with a picture before and after where the machine can draw."""
    moved = [m for m in told.moves if m.why or 1000 * m.metres >= LEAST_MM]
    try:
        pictures = dict(enumerate(before_and_after(before, after, moved)))
    except NoScreenError:
        pictures = {}
    rows = []
    for number, one in enumerate(moved):
        said = one.why or f"goes by up to {1000 * one.metres:.1f} mm"
        rows.append((f"{one.name}\n{said}\n{one.where}", pictures[number][1] if number in pictures else b""))
    return rows


ACTIONS = (
    Action("rig.wear_master", "Wear a master's rig", "Controls", "Of a project or a kept body: recipe, controls, shapes, couplings; pegs stay your own", wear, needs=WITH_CHARACTER),
    Action("rig.follow_master", "Look for changes of the master", "Controls", "What they move in kept poses and clips; then taken or not", follow, needs=WITH_CHARACTER),
)  # fmt: skip
