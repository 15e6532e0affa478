"""What can be done with the characters of one document beside each other: brought in, placed, carried, played together."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CONTROL_PICKED, RIG, WITH_CHARACTER
from pegloom.app.actions.posing import layer_in_hand, posed_over
from pegloom.app.context import Context
from pegloom.app.demos import DEMO, DEMOS
from pegloom.app.state.hiding import HIDDEN_CONTROL, HIDDEN_PART
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import SCENE, State
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.edits.performers import TALL
from pegloom.document.model import Document
from pegloom.document.world import clip_of
from pegloom.files.figures import read_figures
from pegloom.files.project import SUFFIX

PLACE = "place"
"""Id of the tool that puts figures about on the ground."""


@dataclass(frozen=True, slots=True)
class FiguresSettings(Setting):
    """carrier, joint : who carries the figure in hand from now on, by ids."""

    ID = "figures"
    PASSING = frozenset({"carrier", "joint"})
    carrier: str = ""
    joint: str = ""


def several(state: State) -> bool:
    return len(state.document.characters) > 1


def bring(c: Context) -> None:
    """Ask for a file whose characters come beside those that are there."""
    path = c.ask.open_figure()
    if path:
        bring_path(c, Path(path))


def bring_path(c: Context, path: Path) -> None:
    """All characters of a project, the one of a mesh, or motion as joints alone, beside those that are there."""

    def work(base: Document, progress: Progress) -> tuple[Document, tuple[str, ...]]:
        progress(0.1, f"reading {path.name}")
        found = read_figures(path, tall=base.character.height if base.character is not None else TALL)
        progress(0.9, "standing them beside each other")
        return edits.add_figures(base, found)

    def then(made: tuple[str, ...]) -> None:
        names = ", ".join(edits.figure_of(c.state.document, one).name for one in made)
        c.store.put(source="", time=0.0)
        c.say(f"{names} stands beside the others now, and is in hand" if len(made) == 1 else f"{names} stand beside the others now")
        c.view.show_all()

    c.job("Bring in another character", work, title=f"Reading {path.name}", then=then)


def take(c: Context, character: str) -> None:
    """Another character in hand; the view and the moment stay."""
    one, state = edits.figure_of(c.state.document, character), c.state
    if state.character is one:
        return
    time, source, playing = state.common_time, state.clock.source, state.clock.playing

    def then(_: object) -> None:
        clip = clip_of(one)
        if source == SCENE:
            c.store.put(source=SCENE, time=time, playing=playing)
        elif clip is not None:
            c.player.play_source(clip.id, one.figure.own_time(time, clip.length))
        else:
            c.store.put(source="", time=time)
        # What is hidden is told by parts of the one that was in hand.
        hidden = c.state.viewing.hidden
        c.store.put(hidden=frozenset(t for t in hidden if not t.startswith((HIDDEN_PART, HIDDEN_CONTROL))))
        c.say(f"{one.name} is in hand")

    c.try_edit(f"To {one.name}", lambda d: edits.take_character(d, one.id), then)


def next_character(c: Context) -> None:
    """The next of the document's characters in hand."""
    document = c.state.document
    take(c, document.characters[(document.active + 1) % len(document.characters)].id)


def drop(c: Context) -> None:
    """Take the character in hand out of the document."""
    one = c.character
    c.try_edit(f"Remove {one.name}", lambda d: edits.drop_character(d, one.id), lambda _: c.say(f"{one.name} is gone; one undo brings it back"))


def show(c: Context, character: str, shown: bool) -> None:
    one = edits.figure_of(c.state.document, character)
    if one.figure.shown is not shown:
        c.try_edit(f"{'Show' if shown else 'Hide'} {one.name}", lambda d: edits.show_figure(d, character, shown))


def rename(c: Context, name: str) -> None:
    one = c.character
    if name.strip() != one.name:
        c.try_edit(f"Rename {one.name}", lambda d: edits.rename_character(d, one.id, name))


def prefix(c: Context, text: str) -> None:
    one = c.character
    if text.strip() != one.prefix:
        c.try_edit(f"Prefix of {one.name}", lambda d: edits.prefix_figure(d, one.id, text))


def place(c: Context, *, at: tuple[float, float, float] | None = None, heading: float | None = None, scale: float | None = None) -> None:
    """Put the figure in hand somewhere; what is not given stays."""
    one, time = c.character, c.state.common_time
    c.try_edit(f"Place {one.name}", lambda d: edits.place_figure(d, one.id, at=at, heading=heading, scale=scale, time=time))


def carry(c: Context) -> None:
    """From now on the figure in hand is carried by the chosen joint of another; it stays where it is."""
    one, own, time = c.character, c.state.settings.of(FiguresSettings), c.state.common_time
    if not own.carrier:
        c.say("Choose who carries it first", error=True)
        return
    by = edits.figure_of(c.state.document, own.carrier)
    c.try_edit(
        f"{by.name} carries {one.name}", lambda d: edits.carry_figure(d, one.id, by.id, own.joint, time=time),
        lambda _: c.say(f"{by.name} carries {one.name} from {time:.2f} s on"),
    )  # fmt: skip


def follow(c: Context) -> None:
    """From now on the picked control follows the chosen joint of another; it stays where it is."""
    one, own, held = c.character, c.state.settings.of(FiguresSettings), c.state.selection.lead
    if not own.carrier:
        c.say("Choose whom it follows first, and which joint of theirs", error=True)
        return
    other, rig = edits.figure_of(c.state.document, own.carrier), one.require_rig()
    clip, time = posed_over(c), c.state.snapped_time
    told, at = (clip.id, time) if clip is not None else ("", 0.0)
    layer = layer_in_hand(c) if told else ""
    name = f"{rig.control(held).name} follows {other.name}"
    c.try_edit(
        name, lambda d: edits.follow_figure(d, held, other.id, own.joint, clip=told, time=at, layer=layer),
        lambda _: c.say(f"{name}{f' from {time:.2f} s on' if told else ''}; nothing jumped. Let go ends it"),
    )  # fmt: skip


def set_down(c: Context) -> None:
    """From now on the figure in hand stands where it is."""
    one, time = c.character, c.state.common_time
    c.try_edit(f"Set {one.name} down", lambda d: edits.set_down(d, one.id, time=time), lambda _: c.say(f"{one.name} stands in the world from {time:.2f} s on"))


def drop_stand(c: Context, number: int) -> None:
    one = c.character
    c.try_edit(f"{one.name} is not handed on there", lambda d: edits.drop_stand(d, one.id, number))


def time_stand(c: Context, number: int, time: float) -> None:
    one = c.character
    c.try_edit(f"When {one.name} is handed on", lambda d: edits.time_stand(d, one.id, number, time))


def play(c: Context, *, clip: str | None = None, start: float | None = None, loops: bool | None = None) -> None:
    """What the figure in hand plays beside the others, and from when on; what is not given stays."""
    one = c.character
    told = replace(one.figure, clip=one.figure.clip if clip is None else clip, start=one.figure.start if start is None else start, loops=one.figure.loops if loops is None else loops)
    if told != one.figure:
        c.try_edit(f"What {one.name} plays", lambda d: edits.play_figure(d, one.id, told.clip, start=told.start, loops=told.loops))


def play_all(c: Context) -> None:
    """All figures play their clips on the common time."""
    time = c.state.common_time
    c.player.play_source(SCENE, time)
    c.player.toggle()


def toggle_place(c: Context) -> None:
    c.store.put(tool="pick" if c.state.tooling.tool == PLACE else PLACE)


def _demo(name: str, title: str) -> Action:
    return Action(
        f"figures.demo_{name}", f"Bring in the demo beside: {title}", "File", "The started demo as another character of this document",
        lambda c: bring_path(c, DEMO / f"{name}{SUFFIX}"), needs=WITH_CHARACTER,
    )  # fmt: skip


SEVERAL = Need("several characters", "There is one character only; bring in another", several, "figures.bring")
WITH_SEVERAL = (*WITH_CHARACTER, SEVERAL)

ACTIONS = (
    Action("figures.bring", "Bring in another character", "File", "From a project, a mesh, or motion without one, beside those that are there", bring, needs=WITH_CHARACTER),
    Action("figures.drop", "Remove this character", "Edit", "Take the character in hand out of the document", drop, needs=WITH_SEVERAL),
    Action("character.next", "Next character", "Edit", "Another of this document's characters in hand", next_character, needs=WITH_SEVERAL),
    Action("figures.place", "Place figures", "Motion", "Drag figures on the ground; Shift turns them", toggle_place, needs=WITH_SEVERAL, on=lambda s: s.tooling.tool == PLACE),
    Action("figures.carry", "Carry from now on", "Motion", "The chosen joint of another carries the figure in hand from this moment", carry, needs=WITH_SEVERAL),
    Action("figures.follow", "Follow another figure", "Motion", "The picked control follows the chosen joint of another, from this moment on", follow, needs=(*WITH_SEVERAL, RIG, CONTROL_PICKED)),
    Action("figures.set_down", "Set down now", "Motion", "From this moment the figure in hand stands in the world, where it is", set_down, needs=WITH_CHARACTER),
    Action("figures.play", "Play all figures", "Motion", "Every figure plays its clip on the common time", play_all, needs=WITH_SEVERAL),
    *(_demo(name, title) for name, title in DEMOS.items()),
)  # fmt: skip
