"""A revised mesh or motion of the character in hand: looked at, shown, taken in; its file watched, taken in again by one press."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.areas.mesh.settings import ReportSettings
from pegloom.app.context import Context
from pegloom.app.state.kept import keep_watched
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of
from pegloom.document import edits
from pegloom.document.edits.revised import Arrived, Row, Taking
from pegloom.document.model import Document
from pegloom.files.arrived import read_arrived


def revise(c: Context) -> None:
    """Ask for the file, and show what it would change."""
    path = c.ask.open_revised()
    if path:
        look_at(c, Path(path), ask=True)


def again(c: Context) -> None:
    """The watched file as it is now; asked about only where parts are new in it or gone."""
    path = c.revised.path
    if path is None:
        raise EditError("No file is watched yet: open a mesh, or take in a revised file; its file is watched from then on")
    look_at(c, path, ask=False)


def look_at(c: Context, path: Path, *, ask: bool) -> None:
    """Read a file and work out what it would change; then show that, or take it in where it needs no answer."""
    keep = c.snapshots.ready(f"taking in {path.name}", c.state.path)

    def work(document: Document, progress: Progress) -> tuple[Arrived, Taking, list[Row], Document | None, tuple[str, ...]]:
        keep(document)
        progress(0.1, f"reading {path.name}")
        arrived = read_arrived(path, document.require_character())
        progress(0.4, "looking for what stands for what")
        taking = edits.propose(document, arrived)
        rows = edits.foretold(document, arrived, taking)
        try:
            made, report = edits.take_in(document, arrived, taking, progress=part_of(progress, 0.5, 1.0))
        except EditError as error:  # nothing of it would be taken as proposed; a person may choose otherwise
            return arrived, taking, rows, None, (str(error),)
        return arrived, taking, rows, made, report

    def done(base: Document, result: Any) -> None:
        arrived, taking, rows, made, report = result
        if made is None and not ask:
            c.revised.follow(path)
            c.say(report[0])
            return
        if not ask and all(row.kind != "gone" and not row.said.startswith("new,") for row in rows):
            _land(c, path, base, made, report)
            return
        if made is not None and c.store.history.present is base:
            c.store.draft(made)
        chosen = c.ask.choose_revised(base.require_character(), arrived, taking, rows)
        c.store.drop_draft()
        if chosen is None:
            c.say(f"{path.name} was not taken in; all is as it was")
        elif chosen == taking and made is not None:
            _land(c, path, base, made, report)
        else:
            c.job(f"Revised by {path.name}", lambda document, progress: edits.take_in(document, arrived, chosen, progress=progress), then=lambda told: _told(c, path, told))

    c.work_on(f"Reading {path.name}", work, done)


def _land(c: Context, path: Path, base: Document, made: Document, report: tuple[str, ...]) -> None:
    if c.land(base, f"Revised by {path.name}", made):
        _told(c, path, report)


def _told(c: Context, path: Path, report: tuple[str, ...]) -> None:
    lines = report if isinstance(report, tuple) else (report,)
    c.revised.follow(path)
    if c.state.path is not None:
        keep_watched(c.state.path, path)
    c.store.put_setting(ReportSettings, report=lines, of=c.character.parts)
    c.say("; ".join(lines[:3]))


ACTIONS = (
    Action("mesh.replace", "Take in a revised file", "Mesh", "A changed mesh or motion of this character: shown first, by part and joint name; all work stays", revise, needs=WITH_CHARACTER),
    Action("file.take_again", "Take the watched file in again", "Mesh", "As it is now, in one press", again, needs=WITH_CHARACTER),
)  # fmt: skip
