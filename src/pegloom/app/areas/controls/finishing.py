"""A rig made ready for other hands: the Animator's view, the check, closing and opening up."""

from __future__ import annotations

from collections.abc import Callable

from pegloom import checks
from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import WITH_RIG
from pegloom.app.areas.controls.settings import CheckSettings
from pegloom.app.context import Context
from pegloom.app.state.state import Area, State
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Character, Document

POSE_IN = (Area.CONTROLS, Area.MOTION)
"""Areas an animator works in."""


def animators(c: Context) -> None:
    """Into the Animator's view, or out of it."""
    if c.state.viewing.animators:
        c.store.put(animators=False)
        c.say("Left the Animator's view: all can be changed again")
        return
    if c.state.area not in POSE_IN:
        c.go(Area.CONTROLS)
    picked = c.state.selection
    rig = c.character.require_rig()
    kept = tuple(i for i in picked.ids if i in rig.index and not rig.control(i).hidden) if picked.kind == "control" else ()
    c.store.put(animators=True, vertices={})
    c.store.select("control" if kept else "", *kept)
    c.say("The Animator's view: only controls are picked and changed")


def check(c: Context) -> None:
    """Try the whole rig; the card lists what is found."""
    _checked(
        c, lambda found: c.say("The rig is sound: every check holds" if not found else f"{counted(len(found), 'finding')} in the card Check")
    )


def _checked(c: Context, then: Callable[[tuple[checks.Finding, ...]], None]) -> None:
    """The check as a job, its findings put into the card, and then."""

    def work(document: Document, progress: Progress) -> object:
        character = document.require_character()
        return character, checks.guard(character, progress)

    def done(document: Document, result: object) -> None:
        assert isinstance(result, tuple)
        character, found = result
        assert isinstance(character, Character)
        c.store.put_setting(CheckSettings, of=id(character.rig), found=found, done=True)
        then(found)

    c.work_on("Check the rig", work, done)


def mend(c: Context, number: int) -> None:
    """Mend one finding."""
    found = c.state.settings.of(CheckSettings).found
    one = found[number]
    if c.try_edit(one.fix_says or "Mend", lambda d: checks.mended(d, [one])):
        check(c)


def mend_all(c: Context) -> None:
    """Mend all that can be mended safely."""
    some = [f for f in c.state.settings.of(CheckSettings).found if f.fix]
    if not some:
        c.say("Nothing of what was found can be mended without you")
        return

    def edit(document: Document) -> Document:
        # Removing what is unused is one edit for all of it.
        seen: list[tuple[str, str]] = []
        for one in some:
            told = (one.fix, repr(one.arguments))
            if told not in seen:
                seen.append(told)
                document = checks.mended(document, [one])
        return document

    if c.try_edit(f"Mend {counted(len(some), 'finding')}", edit):
        check(c)


def close(c: Context) -> None:
    """Close the rig; what the check finds is said first."""

    def then(found: tuple[checks.Finding, ...]) -> None:
        if found:
            are = "is" if len(found) == 1 else "are"
            question = f"The check finds {counted(len(found), 'thing')} that {are} not ready, the first: {found[0].message}."
            if not c.ask.confirm(question, yes="Close it all the same", no="Look at them first"):
                return
        c.try_edit("Close the rig", edits.close_rig, lambda _: c.say("Closed: it can be posed and animated; building asks to open it up first"))

    _checked(c, then)


def open_up(c: Context) -> None:
    """Open a closed rig up, told what that may break."""
    if c.ask.confirm(f"Open {c.character.name} up? {edits.at_stake(c.character)}", yes="Open it up", no="Leave it closed"):
        c.try_edit("Open the rig up", edits.open_up, lambda _: c.say("Open: everything can be changed again"))


def _open(state: State) -> bool:
    return state.character is not None and not state.character.closed


OPEN = Need("an open rig", "The rig is closed already", _open)
CLOSED = Need("a closed rig", "The rig is not closed", lambda s: s.character is not None and s.character.closed)
FINISHING = (
    Action("view.animators", "Animator's view", "View", "Only controls are picked and changed; what is kept from animators is out of sight", animators, key="Shift+E", needs=WITH_RIG, on=lambda s: s.viewing.animators),
    Action("rig.check", "Check the rig", "Controls", "Whether every control does something and nothing is loose", check, needs=WITH_RIG),
    Action("rig.mend", "Mend what the check found", "Controls", "All that can be mended safely", mend_all, needs=WITH_RIG),
    Action("rig.close", "Close the rig", "Controls", "From then on it is posed and animated, and not built", close, needs=(*WITH_RIG, OPEN)),
    Action("rig.open_up", "Open the rig up", "Controls", "A step that says what it may break", open_up, needs=(*WITH_RIG, CLOSED)),
)  # fmt: skip
