"""Versions of the project in hand: one more kept, one compared with what is in hand, one taken back as a step."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.areas.handover.settings import VersionSettings
from pegloom.app.context import Context
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.document.model import Document
from pegloom.document.told.differences import differences
from pegloom.files.project import open_project, save_project
from pegloom.files.versions import Kept, keep_version, versions

NONE_YET = "No version of this project is kept yet"


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

    def work(document: Document, progress: Progress) -> Kept:
        progress(0.1, f"writing {path.name}")
        save_project(path, document)
        progress(0.6, "keeping it")
        return keep_version(path, note)

    def done(document: Document, kept: Any) -> None:
        c.store.put(saved=document)
        if c.store.history.present is document:
            c.autosave.clear()
        c.store.put_setting(VersionSettings, report=f"Kept: {said(kept)}")
        c.say(f"Version {kept.number} is kept: {kept.note}")

    c.work_on("Keeping a version", work, done, must_end=True)


def _chosen(c: Context, title: str) -> Kept | None:
    found = versions(_project(c))[::-1]
    if not found:
        raise EditError(NONE_YET)
    number = c.ask.one_of(title, [said(one) for one in found])
    return found[number] if number >= 0 else None


def compare(c: Context) -> None:
    """Say what is in hand and was not in a version, by names, millimetres and weights."""
    one = _chosen(c, "Compare with a version")
    if one is None:
        return

    def work(document: Document, progress: Progress) -> list[str]:
        progress(0.1, f"reading version {one.number}")
        before = open_project(one.path)
        progress(0.4, "comparing")
        return differences(before, document)

    def done(_: Document, lines: Any) -> None:
        head = f"Since version {one.number} ({one.note or 'no note'}):"
        c.store.put_setting(VersionSettings, report="\n".join([head, *(lines or ["nothing differs"])]))
        c.say(f"{head} {lines[0] if lines else 'nothing differs'}")

    c.work_on(f"Comparing with version {one.number}", work, done)


def take_back(c: Context) -> None:
    """What a version holds takes the place of what is in hand, as one step that can be undone."""
    one = _chosen(c, "Take a version back")
    if one is None:
        return
    name = f"Version {one.number}"

    def work(_: Document, progress: Progress) -> Document:
        progress(0.1, f"reading version {one.number}")
        return open_project(one.path)

    def done(base: Document, found: Any) -> None:
        if c.land(base, name, found):
            c.say(f"{name} is in hand again; Undo brings back what was")

    c.work_on(f"Reading version {one.number}", work, done)


ACTIONS = (
    Action("handover.keep_version", "Keep a version", "File", "Save, and keep the project as it is now, numbered and with a note", keep, needs=WITH_CHARACTER),
    Action("handover.compare_version", "Compare with a version", "File", "What differs from a version that was kept", compare, needs=WITH_CHARACTER),
    Action("handover.take_version", "Take a version back", "File", "A version in the place of what is in hand, as one step", take_back, needs=WITH_CHARACTER),
)  # fmt: skip
