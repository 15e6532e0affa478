"""A live performance on the character: heard, shown, recorded, made a clip, and made anew with other settings."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto
from pegloom.app.areas.motion.bringing import BringSettings, led
from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import CAPTURE, State
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.capture import Recording, TakeOptions, TakeReport, taken
from pegloom.document import edits
from pegloom.document.edits.borrow import Lent
from pegloom.document.model import Document
from pegloom.files.desk import PORT

DESK = "motion.desk"
"""Id of its pane."""


class Smooth(Enum):
    """How much a take is smoothed. The member's value says it to a person."""

    NONE = "not at all"
    LIGHT = "a little"
    WELL = "well"
    STRONG = "strongly"

    @property
    def seconds(self) -> float:
        return {Smooth.NONE: 0.0, Smooth.LIGHT: 0.1, Smooth.WELL: 0.2, Smooth.STRONG: 0.4}[self]


@dataclass(frozen=True, slots=True)
class DeskSettings(Setting):
    """port : on loopback. plant : whether feet are held live. follow : whether the view goes along
    with a performer who walks. smooth : of takes. part, first, last : seconds of the take that are kept.
    listening, recording : told by the desk. taken : whether there is a take in hand. clip : id of the clip the last take came to; said : what it is.
    """

    ID = "capture_desk"
    PASSING = frozenset({"part", "first", "last", "listening", "recording", "taken", "clip", "said", "name"})

    port: int = PORT
    plant: bool = True
    follow: bool = True
    smooth: Smooth = Smooth.LIGHT
    part: bool = False
    first: float = 0.0
    last: float = 10.0
    name: str = ""
    listening: bool = False
    recording: bool = False
    taken: bool = False
    clip: str = ""
    said: str = ""


def settings(state: State) -> DeskSettings:
    return state.settings.of(DeskSettings)


def desk_open(state: State) -> bool:
    return DESK in state.viewing.panes


def toggle(c: Context) -> None:
    """Open the pane of the capture desk, or close it and with it what is listened to."""
    if desk_open(c.state):
        if settings(c.state).recording:
            record(c)
        if settings(c.state).listening:
            listen(c)
        c.store.put(panes=c.state.viewing.panes - {DESK})
    else:
        c.store.put(panes=c.state.viewing.panes | {DESK})


def listen(c: Context) -> None:
    """Listen to the desk and show what it sends; or no more."""
    if settings(c.state).listening:
        if settings(c.state).recording:
            record(c)
        c.desk.close()
        c.store.put_setting(DeskSettings, listening=False)
        if c.state.clock.source == CAPTURE:
            c.player.play_source("")
        return
    try:
        c.desk.plant = settings(c.state).plant
        c.desk.open(settings(c.state).port)
    except PegLoomError as error:
        c.say(str(error), error=True)
        return
    c.player.stop()
    c.store.put_setting(DeskSettings, listening=True)
    c.player.play_source(CAPTURE)


def plant(c: Context, on: bool) -> None:
    """Hold feet where the performer's stand, or show the motion as it comes."""
    c.desk.plant = on
    c.store.put_setting(DeskSettings, plant=on)


def record(c: Context) -> None:
    """Record a take; or stop, and what has come is a clip."""
    if not settings(c.state).listening:
        listen(c)
        if not settings(c.state).listening:
            return
    if not settings(c.state).recording:
        c.desk.record()
        c.store.put_setting(DeskSettings, recording=True)
        if c.state.clock.source != CAPTURE:
            c.player.play_source(CAPTURE)
        return
    take = c.desk.stop()
    c.store.put_setting(DeskSettings, recording=False)
    if take is None or len(take) < 2:
        c.say("Nothing came while it was recorded; is the desk sending?", error=True)
        return
    c.store.put_setting(DeskSettings, taken=True, part=False, first=0.0, last=round(take.seconds, 2), clip="")
    _make(c, take, "")


def again(c: Context) -> None:
    """Make the last take anew, as it is set now; the clip keeps its name."""
    take = c.desk.last
    if take is None:
        c.say("There is no take in hand; record one", error=True)
        return
    _make(c, take, settings(c.state).clip)


def _make(c: Context, take: Recording, instead: str) -> None:
    own = settings(c.state)
    options = TakeOptions(own.smooth.seconds, own.first if own.part else None, own.last if own.part else None)
    controls = c.state.settings.of(BorrowSettings).onto is Onto.CONTROLS and c.character.rig is not None
    on_ik = led(c.character.require_rig(), c.state.settings.of(BringSettings).limbs) if controls else None
    times, rows = take.frames()
    name = own.name.strip() or "take"

    def edit(document: Document, progress: Progress) -> tuple[Document, tuple[Lent, TakeReport]]:
        progress(0.05, "filling gaps")
        source, report = taken(take.skeleton, times, rows, take.rate, name=name, options=options)
        document, lent = edits.keep_take(document, source, options=CarryOptions(), controls=controls, on_ik=on_ik, instead=instead, progress=progress)
        return document, (lent, report)

    def then(made: tuple[Lent, TakeReport]) -> None:
        lent, report = made
        clip = c.character.clip(lent.clip)
        said = said_of(clip.name, report, take.rate)
        c.store.put_setting(DeskSettings, clip=lent.clip, said=said)
        if not settings(c.state).recording:
            c.player.play_source(lent.clip)
        c.say(said)

    c.job(f"Take from the capture desk{', made anew' if instead else ''}", edit, title="Making the take a clip", then=then)


def said_of(name: str, report: TakeReport, rate: float) -> str:
    """What a take is, in a sentence."""
    told = [f"{name}: {report.frames / rate:.1f} s, {report.frames} frames"]
    if report.filled:
        told.append(f"{report.filled} filled, the longest gap {report.longest:.2f} s")
    if report.lost > 0.0005:
        told.append(f"{report.lost:.1%} of joints were out of sight")
    if report.moved > 0.0:
        told.append(f"smoothing turned joints by {report.moved:.2f}°")
    return "; ".join(told)


def simulate(c: Context) -> None:
    """Start the simulated desk, and listen; or stop it."""
    on = not c.desk.state.simulated
    c.desk.simulate(on, settings(c.state).port)
    if on and not settings(c.state).listening:
        listen(c)


def back(c: Context) -> None:
    """Show the live performance again, after something else was looked at."""
    c.player.stop()
    c.player.play_source(CAPTURE)


TAKE = Need("take", "Record a take first", lambda s: settings(s).taken, "desk.record")

ACTIONS = (
    Action("desk.open", "Capture desk", "Motion", "A live performance on this character: shown, recorded", toggle, needs=WITH_JOINTS, on=desk_open),
    Action("desk.listen", "Listen to the desk", "Motion", "Show what the capture desk sends on loopback, or no more", listen, needs=WITH_JOINTS, on=lambda s: settings(s).listening),
    Action("desk.record", "Record a take", "Motion", "Record what the desk sends; stopped, it is a clip", record, needs=WITH_JOINTS, on=lambda s: settings(s).recording),
    Action("desk.again", "Make the take anew", "Motion", "The last take once more, as it is set now", again, needs=(*WITH_JOINTS, TAKE)),
    Action("desk.simulate", "Simulated desk", "Motion", "Start the capture desk that ships, or stop it", simulate, needs=WITH_JOINTS),
)  # fmt: skip
