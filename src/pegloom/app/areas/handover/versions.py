"""Versions of the project in hand: one more kept, one compared with what is in hand, one taken back as a step."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QProcess

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.areas.handover.settings import VersionSettings
from pegloom.app.context import Context
from pegloom.app.jobs import Job
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.document.model import Document
from pegloom.document.told.differences import differences
from pegloom.files.leftovers import when_told
from pegloom.files.project import open_project, save_project
from pegloom.files.snapshots import snapshots
from pegloom.files.versions import Kept, keep_version, versions

NONE_YET = "No version of this project is kept yet; Keep a version makes the first"


def said(one: Kept) -> str:
    """A version in one line."""
    return f"{one.number}  {one.note or 'no note'}  ({one.when[:16].replace('T', ' ') or 'time unknown'}){'' if one.whole else ', changed since'}"


def _project(c: Context) -> Path:
    if c.state.path is None:
        raise EditError("Save the project first; its versions are kept beside it")
    return c.state.path


def keep(c: Context) -> None:
    """Save the project, and keep it as it is now under the next number."""
    path = _project(c)
    note = c.ask.name("Keep a version", "before the next change")
    if not note:
        return
    picture = c.autosave.picture()

    def work(document: Document, progress: Progress) -> Kept:
        progress(0.1, f"writing {path.name}")
        save_project(path, document)
        progress(0.6, "keeping it")
        return keep_version(path, note, picture)

    def done(document: Document, kept: Any) -> None:
        c.store.put(saved=document)
        if c.store.history.present is document:
            c.autosave.clear()
        c.store.put_setting(VersionSettings, report=f"Kept: {said(kept)}")
        c.say(f"Version {kept.number} is kept: {kept.note}")

    c.work_on("Keeping a version", work, done, must_end=True)


@dataclass(frozen=True, slots=True)
class Earlier:
    """A state of the project that is kept: a version or a snapshot. said : in lines for a row. name : in a few words."""

    path: Path
    said: str
    name: str
    note: str
    picture: bytes


def earlier(project: Path | None, name: str, folder: Path | None = None) -> list[Earlier]:
    """Versions of a project, then the snapshots of it; of a document without a place the snapshots of its name."""
    kept = [] if project is None else versions(project)[::-1]
    taken = [s for s in snapshots(project, folder) if project is not None or (s.project is None and s.name == name)]
    rows = [Earlier(v.path, f"Version {v.number}: {v.note or 'no note'}\n{_when(v)}{'' if v.whole else ', changed since it was kept'}", f"Version {v.number}", v.note, v.picture) for v in kept]
    return rows + [
        Earlier(s.path, f"Snapshot before: {s.before or 'unknown'}\nkept {when_told(s.when)}{'' if s.whole else ', changed since'}", "Snapshot", f"before {s.before}", s.picture)
        for s in taken
    ]  # fmt: skip


def _when(one: Kept) -> str:
    try:
        return f"kept {when_told(datetime.fromisoformat(one.when).timestamp())}"
    except ValueError:
        return "kept at a time unknown"


def _choose(c: Context, title: str, ways: list[str], then: Callable[[Earlier, int], None]) -> None:
    """Look at what there is on a thread, ask for one of it, and go on with that."""
    project, name = c.state.path, c.state.document.name

    def work(progress: Progress) -> list[Earlier]:
        progress(0.2, "reading what is kept")
        return earlier(project, name, c.snapshots.folder)

    def done(found: Any) -> None:
        if not found:
            c.say(NONE_YET, error=True)
            return
        row, way = c.ask.pictured(title, "Versions you kept, then snapshots taken before long work. Each is a whole project.", [(one.said, one.picture) for one in found], ways)
        if row >= 0:
            c.attempt(lambda: then(found[row], way))

    c.jobs.start(Job("Looking at versions", work, done))


def _compare(c: Context, one: Earlier) -> None:
    def work(document: Document, progress: Progress) -> list[str]:
        progress(0.1, f"reading {one.name}")
        before = open_project(one.path)
        progress(0.4, "comparing")
        return differences(before, document)

    def done(_: Document, lines: Any) -> None:
        head = f"Since {one.name} ({one.note or 'no note'}):"
        c.store.put_setting(VersionSettings, report="\n".join([head, *(lines or ["nothing differs"])]))
        c.say(f"{head} {lines[0] if lines else 'nothing differs'}")

    c.work_on(f"Comparing with {one.name}", work, done)


def _take_back(c: Context, one: Earlier) -> None:
    def work(_: Document, progress: Progress) -> Document:
        progress(0.1, f"reading {one.name}")
        return open_project(one.path)

    def done(base: Document, found: Any) -> None:
        if c.land(base, one.name, found):
            c.say(f"{one.name} is in hand again; Undo brings back what was")

    c.work_on(f"Reading {one.name}", work, done)


def _open_beside(c: Context, one: Earlier) -> None:
    started, _ = QProcess.startDetached(sys.executable, ["-m", "pegloom", "open", "--copy", str(one.path)])
    c.say(f"{one.name} opens in a window of its own; saving there asks for another place" if started else "No second window could be started", error=not started)


def compare(c: Context) -> None:
    """Say what is in hand and was not in a version, by names, millimetres and weights."""
    _choose(c, "Compare with a version", ["Compare"], lambda one, _: _compare(c, one))


def take_back(c: Context) -> None:
    """What a version holds takes the place of what is in hand, as one step that can be undone."""
    _choose(c, "Take a version back", ["Take it back"], lambda one, _: _take_back(c, one))


def open_beside(c: Context) -> None:
    """A version in a second window, to be looked at beside this one."""
    _choose(c, "Open a version beside", ["Open it beside"], lambda one, _: _open_beside(c, one))


def every_way(c: Context) -> None:
    """All that is kept of this project, with pictures, and what can be done with it."""
    ways = (_take_back, _open_beside, _compare)
    _choose(c, "Versions and snapshots", ["Take it back", "Open it beside", "Compare"], lambda one, way: ways[way](c, one))


ACTIONS = (
    Action("handover.keep_version", "Keep a version", "File", "Save, and keep the project as it is now, numbered and with a note", keep, needs=WITH_CHARACTER),
    Action("handover.versions", "Versions and snapshots", "File", "What is kept of this project, with pictures: compared, opened beside, taken back", every_way, needs=WITH_CHARACTER),
    Action("handover.open_version", "Open a version beside", "File", "In a window of its own", open_beside, needs=WITH_CHARACTER),
    Action("handover.compare_version", "Compare with a version", "File", "What differs from a version that was kept", compare, needs=WITH_CHARACTER),
    Action("handover.take_version", "Take a version back", "File", "A version in the place of what is in hand, as one step", take_back, needs=WITH_CHARACTER),
)  # fmt: skip
