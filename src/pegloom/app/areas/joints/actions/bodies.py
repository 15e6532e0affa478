"""Own bodies: kept from the window, shared as files, worn by the next mesh."""

from __future__ import annotations

from pathlib import Path

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER, WITH_PEGS
from pegloom.app.areas.joints.settings import PatternSettings
from pegloom.app.context import Context
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.bodies import ENDING, known_bodies, path_of, read_body, write_body
from pegloom.files.patterns import known_patterns


def keep(c: Context) -> None:
    """This body into the user's own ones, by name."""
    body = edits.body_of(c.character)
    name = c.ask.name("Keep this body as", c.character.name)
    if not name:
        return
    path = path_of(name)
    if path.exists() and not c.ask.confirm(f"There is a body called {name} already.", yes="Put this one in its place", no="Leave that one"):
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    write_body(path, edits.Body(body.character, body.height))
    c.store.put_setting(PatternSettings, body=path.name.removesuffix(ENDING))
    c.stale.emit()
    c.say(f"{name} is kept: choose it on the next mesh, and press Wear")


def share(c: Context) -> None:
    """This body as a file for others."""
    body = edits.body_of(c.character)
    path = c.ask.save_file("Save the body", f"{c.character.name}{ENDING}", f"Bodies (*{ENDING})")
    if path:
        write_body(path, body)
        c.say(f"The body is saved as {Path(path).name}")


def take(c: Context) -> None:
    """A body's file among the user's own ones."""
    path = c.ask.open_body()
    if not path:
        return
    body = read_body(path)
    there = path_of(body.character.name)
    if there.exists() and not c.ask.confirm(f"There is a body called {body.character.name} already.", yes="Put the file's in its place", no="Leave that one"):
        return
    there.parent.mkdir(parents=True, exist_ok=True)
    write_body(there, body)
    c.store.put_setting(PatternSettings, body=there.name.removesuffix(ENDING))
    c.stale.emit()
    c.say(f"{body.character.name} is among your bodies now; press Wear to put it on this mesh")


def wear(c: Context) -> None:
    """The chosen body on this mesh."""
    known = known_bodies()
    name = c.state.settings.of(PatternSettings).body
    if name not in known:
        raise EditError("Choose one of your bodies first; keep one by “Keep this body” on a finished character")
    body = read_body(known[name])

    def edit(document: Document, progress: Progress) -> object:
        return edits.wear_body(document, body, plans=known_patterns(), progress=progress)

    c.job(f"Wear {name}", edit, then=lambda said: c.say(f"{said}. Controls are built; bind the skin next"))


ACTIONS = (
    Action("body.keep", "Keep this body", "Joints", "Pegs, kits, changes, controls, shapes, spaces, names and poses, for the next mesh", keep, needs=WITH_PEGS),
    Action("body.share", "Save this body as a file", "Joints", "For others", share, needs=WITH_PEGS),
    Action("body.take", "Load a body's file", "Joints", "Among your own bodies", take),
    Action("body.wear", "Wear the body", "Joints", "The chosen one of your bodies, its pegs found anew in this mesh", wear, needs=WITH_CHARACTER),
)  # fmt: skip
