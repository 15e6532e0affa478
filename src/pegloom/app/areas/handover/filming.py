"""A film of what the strip plays, from where the view looks."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER
from pegloom.app.context import Context
from pegloom.app.state.hiding import HIDDEN_PART
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import SCENE, GroundSettings, State
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.document.model import Document
from pegloom.document.world import scene_length
from pegloom.files.film import ENDINGS, first_of
from pegloom.render.film import make_film
from pegloom.scene.lenses import rgb
from pegloom.scene.shot import Backdrop, Shot, check


class FilmSize(Enum):
    """Sizes to choose from. The member's value says it to a person."""

    HD = "1280 × 720"
    FULL = "1920 × 1080"
    SQUARE = "1080 × 1080"
    UPRIGHT = "1080 × 1920"
    SMALL = "640 × 360"
    OWN = "another"


@dataclass(frozen=True, slots=True)
class FilmSettings(Setting):
    """size : of FilmSize; wide, high : pixels where it is another. rate : frames a second, 0 for the clip's own. colour : behind
    a plain backdrop. said : what the last film came to.
    """

    ID = "film"
    PASSING = frozenset({"said"})

    size: FilmSize = FilmSize.HD
    wide: int = 1280
    high: int = 720
    rate: float = 0.0
    backdrop: Backdrop = Backdrop.VIEW
    colour: str = "#2A303C"
    controls: bool = False
    labels: bool = False
    said: str = ""


def pixels_of(own: FilmSettings) -> tuple[int, int]:
    """Width and height."""
    if own.size is FilmSize.OWN:
        return own.wide, own.high
    wide, high = (int(v) for v in own.size.value.split("×"))
    return wide, high


def filmed(state: State) -> str | None:
    """Id of the clip a film is made of, "" for all figures; None where the strip plays neither."""
    if state.clip is not None:
        return state.clip.id
    if state.clock.source == SCENE or len(state.document.characters) > 1:
        return ""
    return None


def shot_of(c: Context) -> Shot | None:
    """The shot that the card and the view tell; None where the strip plays nothing."""
    state, own = c.state, c.state.settings.of(FilmSettings)
    clip = filmed(state)
    if clip is None:
        return None
    first, last = state.played if state.clip is not None or state.clock.source == SCENE else (0.0, scene_length(state.document))
    hidden = frozenset(t.removeprefix(HIDDEN_PART) for t in state.viewing.hidden if t.startswith(HIDDEN_PART))
    r, g, b, *_ = rgb(own.colour)
    tone = None if "ground" in state.viewing.hidden else state.settings.of(GroundSettings).tone
    return Shot(
        c.view.camera.world, pixels_of(own), first, last, own.rate or state.rate, clip, state.viewing.display, own.controls, hidden, own.backdrop,
        (float(r), float(g), float(b)), tone, own.labels, own.labels,
    )  # fmt: skip


def film(c: Context) -> None:
    """Ask where, and film what the strip plays."""
    shot = shot_of(c)
    if shot is None:
        c.say("Pick a clip on the strip first: it is what is filmed", error=True, offer="area.motion")
        return
    check(shot)
    see_through = shot.backdrop is Backdrop.SEE_THROUGH
    name = c.state.clip.name if c.state.clip is not None else c.state.document.name
    path = c.ask.save_file("Film", f"{name}{'.png' if see_through else '.mp4'}", "*.png" if see_through else "*.mp4 *.png")
    if not path:
        return
    chosen = Path(path)
    if chosen.suffix.lower() not in ENDINGS:
        chosen = chosen.with_name(f"{chosen.name}{'.png' if see_through else '.mp4'}")
    there = first_of(chosen) if chosen.suffix.lower() == ".png" else None
    if there is not None and not c.ask.confirm(f"Pictures of that name are there, as {there.name}.", yes="Write over them", no="Leave them"):
        return

    def work(document: Document, progress: Progress) -> int:
        return make_film(chosen, document, shot, over=there is not None, progress=progress)

    def done(_: Document, frames: Any) -> None:
        said = f"{counted(int(frames), 'frame')} in {chosen.name}"
        c.store.put_setting(FilmSettings, said=said)
        c.say(f"Filmed: {said}")

    c.work_on(f"Filming {chosen.name}", work, done)


ACTIONS = (
    Action("film.make", "Film what the strip plays", "File", "An MP4 or a sequence of pictures, from where the view looks", film, key="Ctrl+Shift+M", needs=WITH_CHARACTER),
)  # fmt: skip
