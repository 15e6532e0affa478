"""Motion of other bodies brought in, paired, carried over, corrected."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QTimer

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.areas.motion.bringing import BringSettings, led
from pegloom.app.context import Context
from pegloom.app.jobs import Job
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget import ChainPair, Pairing, Source, moments_of, part_title, stood
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.edits.borrow import Lent
from pegloom.document.model import Character, Document
from pegloom.files.motion import read_sources
from pegloom.files.own_pairings import keep_own, own_for
from pegloom.files.pairings import read_pairing, write_pairing

PAIRING = "motion.pairing"
"""Id of its pane."""
WIGGLE_TICK, WIGGLE_TICKS = 40, 36


class Onto(Enum):
    """What borrowed motion is told by."""

    JOINTS = "the joints"
    CONTROLS = "the controls"


@dataclass(frozen=True, slots=True)
class BorrowSettings(Setting):
    """source : in hand, its id. onto : what the motion is told by. in_place, plant, touch, mirror : see CarryOptions.
    part : whether a range is taken; first, last : frames of it. over : whether the source is drawn over the result.
    picked : the part in hand in the pairing; wiggled, phase : the source's joint that moves.
    """

    ID = "borrow"
    PASSING = frozenset({"source", "part", "first", "last", "picked", "wiggled", "phase"})

    source: str = ""
    onto: Onto = Onto.JOINTS
    in_place: bool = False
    plant: bool = True
    touch: bool = True
    mirror: bool = False
    part: bool = False
    first: int = 0
    last: int = 100
    over: bool = False
    picked: str = ""
    wiggled: str = ""
    phase: int = 0


def settings(state: State) -> BorrowSettings:
    return state.settings.of(BorrowSettings)


def pairing_open(state: State) -> bool:
    return PAIRING in state.viewing.panes


def source_in_hand(state: State) -> Source | None:
    """The source chosen, else the one the clip on the strip was made from, else the last one."""
    character = state.character
    if character is None or not character.sources:
        return None
    wanted = settings(state).source or (state.clip.borrowed.source if state.clip is not None and state.clip.borrowed is not None else "")
    return next((s for s in character.sources if s.id == wanted), character.sources[-1])


def pairing_in_hand(state: State) -> Pairing | None:
    """The pairing of the source in hand."""
    source, character = source_in_hand(state), state.character
    if source is None or character is None or character.skeleton is None:
        return None
    return edits.known_pairing(character, source)


def chain_in_hand(state: State) -> ChainPair | None:
    pairing = pairing_in_hand(state)
    return pairing.of(settings(state).picked) if pairing is not None else None


def borrowed_clip(state: State) -> Clip | None:
    """The clip on the strip, where it was made from the source in hand."""
    clip, source = state.clip, source_in_hand(state)
    return clip if clip is not None and clip.borrowed is not None and source is not None and clip.borrowed.source == source.id else None


def bring(c: Context) -> None:
    """Read files, pair their skeletons, carry each clip over at once."""
    paths = [Path(p) for p in c.ask.open_takes()]
    if paths:
        bring_files(c, paths)


def bring_files(c: Context, paths: list[Path]) -> None:
    def work(progress: Progress) -> object:
        found: list[Source] = []
        said: list[str] = []
        for k, path in enumerate(paths):
            progress(k / len(paths), f"reading {path.name}")
            try:
                sources, notes = read_sources(path)
            except PegLoomError as error:
                if len(paths) == 1:
                    raise
                said.append(str(error))
                continue
            found += sources
            said += notes
        return found, said

    def done(result: Any) -> None:
        found, said = result
        if found:
            _carry_new(c, found, said)
        else:
            c.say("; ".join(said) or "nothing was read", error=True)

    names = paths[0].name if len(paths) == 1 else counted(len(paths), "file")
    c.jobs.start(Job(f"Reading {names}", work, done))


def stand(c: Context) -> None:
    """The source in hand as a figure of joints alone beside the character: seen, placed, exported as others are."""
    source = source_in_hand(c.state)
    assert source is not None

    def then(_: object) -> None:
        c.say(f"{source.name} stands beside; show, hide and place it in Figures")
        c.view.show_all()

    c.try_edit(f"Stand {source.name} beside", lambda d: edits.stand_source(d, source.id)[0], then)


def lend(c: Context) -> None:
    """What another figure of the document does, carried over to the one in hand."""
    others = [one for one in c.state.document.characters if one is not c.state.character and one.skeleton is not None and one.clips]
    chosen = 0
    if len(others) > 1:
        chosen = c.ask.one_of("Whose motion", [f"{one.name}: {_lent_clip(one)}" for one in others])
        if chosen < 0:
            return

    def work(_: Progress) -> Source:
        return edits.motion_of(others[chosen])

    c.jobs.start(Job(f"Reading what {others[chosen].name} does", work, lambda source: _carry_new(c, [source], [])))


def _lent_clip(one: Character) -> str:
    return next((clip.name for clip in one.clips if clip.id == one.figure.clip), one.clips[0].name)


def _lends(state: State) -> bool:
    return any(one is not state.character and one.skeleton is not None and one.clips for one in state.document.characters)


def _options(state: State) -> CarryOptions:
    own, source = settings(state), source_in_hand(state)
    first = last = None
    if own.part and source is not None:
        times = moments_of(source.clip)
        first, last = (float(times[min(max(k, 0), len(times) - 1)]) for k in (own.first, max(own.last, own.first)))
    return CarryOptions(own.in_place, first, last, own.plant, own.touch, mirror=own.mirror)


def _onto_controls(c: Context) -> tuple[bool, tuple[str, ...] | None]:
    rig = c.character.rig
    if rig is None or settings(c.state).onto is Onto.JOINTS:
        return False, None
    return True, led(rig, c.state.settings.of(BringSettings).limbs)


def _carry_new(c: Context, sources: list[Source], said: list[str]) -> None:
    options = replace(_options(c.state), first=None, last=None)
    controls, on_ik = _onto_controls(c)
    skeleton = c.skeleton

    def edit(document: Document, progress: Progress) -> tuple[Document, list[Lent]]:
        document, ids = edits.add_sources(document, sources)
        made = []
        for k, source_id in enumerate(ids):
            progress(k / len(ids), f"carrying {sources[k].name} over")
            known = own_for(sources[k].skeleton, skeleton)
            document, _ = edits.pair_source(document, source_id, known=known)
            document, lent = edits.borrow(document, source_id, options=options, controls=controls, on_ik=on_ik)
            made.append(lent)
        return document, made

    def then(made: list[Lent]) -> None:
        c.player.play_source(made[0].clip)
        clip = c.character.clip(made[0].clip)
        pairing = pairing_in_hand(c.state) if clip.borrowed is not None else None
        doubtful = [p for p in pairing.chains if p.source and not p.sure] if pairing is not None else []
        c.store.put_setting(BorrowSettings, source=clip.borrowed.source if clip.borrowed else "", picked=doubtful[0].part if doubtful else "")
        if doubtful:
            c.store.put(panes=c.state.viewing.panes | {PAIRING})
            QTimer.singleShot(0, c.view.show_all)
        words = [told(made[0])] if len(made) == 1 else [f"{counted(len(made), 'clip')} carried over"]
        if doubtful:
            words.append(f"look at the pairing: {doubtful[0].why}")
        c.say("; ".join([*words, *said]))

    name = f"Borrow {sources[0].name}" if len(sources) == 1 else f"Borrow {counted(len(sources), 'clip')}"
    c.job(name, edit, title=name, then=then)


def told(lent: Lent) -> str:
    """How well it went, in one line."""
    figures = lent.carried.figures
    line = f"Carried over: feet slide {figures.slide_mm:.1f} mm, the floor is held within {figures.floor_mm:.1f} mm"
    return f"{line}; worst: {part_title(figures.worst.part)} {figures.worst.what}" if figures.worst is not None else line


def borrow(c: Context) -> None:
    """Carry the source in hand over as another clip."""
    source = source_in_hand(c.state)
    assert source is not None
    options, (controls, on_ik) = _options(c.state), _onto_controls(c)
    known = own_for(source.skeleton, c.skeleton)

    def edit(document: Document, progress: Progress) -> tuple[Document, Lent]:
        document, _ = edits.pair_source(document, source.id, known=known)
        return edits.borrow(document, source.id, options=options, controls=controls, on_ik=on_ik, progress=progress)

    def then(lent: Lent) -> None:
        c.player.play_source(lent.clip)
        c.say(told(lent))

    c.job(f"Borrow {source.name}", edit, title=f"Carrying {source.name} over", then=then)


def borrow_again(c: Context) -> None:
    """Tell the clip on the strip anew with what the card says now."""
    clip = c.state.clip
    assert clip is not None
    options = _options(c.state)

    def edit(document: Document, progress: Progress) -> tuple[Document, Lent]:
        return edits.borrow_again(document, clip.id, options=options, progress=progress)

    c.job(f"Borrow {clip.name} anew", edit, title=f"Carrying {clip.name} over", then=lambda lent: c.say(told(lent)))


def drop(c: Context) -> None:
    source = source_in_hand(c.state)
    assert source is not None
    c.store.put_setting(BorrowSettings, source="")
    c.store.put(panes=c.state.viewing.panes - {PAIRING})
    c.try_edit(f"Take {source.name} away", lambda d: edits.drop_source(d, source.id), lambda _: c.say("Clips made from it stay"))


def toggle_pairing(c: Context) -> None:
    """Open the pairing, or close it; a source that was not read yet is read beside the window's own work."""
    if pairing_open(c.state):
        c.store.put(panes=c.state.viewing.panes - {PAIRING})
        QTimer.singleShot(0, c.view.show_all)
        return
    source, pairing = source_in_hand(c.state), pairing_in_hand(c.state)
    if source is not None and pairing is not None:
        _once_read(c, source, pairing, lambda: _open_pairing(c))


def _once_read(c: Context, source: Source, pairing: Pairing, then: Callable[[], None]) -> None:
    def work(progress: Progress) -> object:
        progress(0.2, f"reading {source.name}")
        return stood(source, pairing.rest)

    c.jobs.start(Job(f"Reading {source.name}", work, lambda _: then()))


def _open_pairing(c: Context) -> None:
    c.store.put(panes=c.state.viewing.panes | {PAIRING})
    # When the pane has its place: both bodies in sight.
    QTimer.singleShot(0, c.view.show_all)


def toggle_over(c: Context) -> None:
    link = c.state.clip.borrowed if c.state.clip is not None else None
    source = next((s for s in c.character.sources if link is not None and s.id == link.source), None)
    pairing = next((p for p in c.character.pairings if link is not None and p.id == link.pairing), None)
    if settings(c.state).over or source is None or pairing is None:
        c.store.put_setting(BorrowSettings, over=False)
        return
    _once_read(c, source, pairing, lambda: c.store.put_setting(BorrowSettings, over=True))


def go_to_worst(c: Context) -> None:
    """To the frame at which the clip is worst, with its part picked in the pairing."""
    clip = c.state.clip
    assert clip is not None and clip.borrowed is not None and clip.borrowed.measured is not None
    measured = clip.borrowed.measured
    c.player.stop()
    c.player.go_to(measured.worst_at)
    c.store.put_setting(BorrowSettings, picked=measured.worst_part, over=True)


# Mending the pairing; clips follow


def mend(c: Context, name: str, edit: Callable[[Document, Progress], tuple[Document, tuple[Lent, ...]]]) -> None:
    """A change of the pairing in hand as one step; the clips that follow it are told anew."""

    def then(results: tuple[Lent, ...]) -> None:
        source, pairing = source_in_hand(c.state), pairing_in_hand(c.state)
        if source is not None and pairing is not None:
            keep_own(pairing, source.skeleton, c.skeleton)
        by_hand = sum(1 for clip in c.character.clips if clip.borrowed is not None and pairing is not None and clip.borrowed.pairing == pairing.id) - len(results)
        left = f"; {counted(by_hand, 'clip')} changed by hand {'is' if by_hand == 1 else 'are'} left as {'it is' if by_hand == 1 else 'they are'}" if by_hand > 0 else ""
        c.say((f"{counted(len(results), 'clip')} followed" if results else "Kept") + left)

    c.job(name, edit, title=name, then=then)


def say(c: Context, part: str, joints: tuple[str, ...]) -> None:
    """These joints of the source stand for a part, or none."""
    pairing = pairing_in_hand(c.state)
    if pairing is None:
        return
    both = c.state.hand.both_sides
    c.store.put_setting(BorrowSettings, picked=part)
    mend(c, f"Pair the {part_title(part)}", lambda d, p: edits.say_pair(d, pairing.id, part, joints, both_sides=both, progress=p))


def correct(c: Context, **values: Any) -> None:
    """Amount, turn, reach or planted of the part in hand."""
    pairing, chain = pairing_in_hand(c.state), chain_in_hand(c.state)
    if pairing is None or chain is None or all(getattr(chain, k) == v for k, v in values.items()):
        return
    mend(c, f"Correct the {part_title(chain.part)}", lambda d, p: edits.set_chain(d, pairing.id, chain.part, progress=p, **values))


def rest_here(c: Context) -> None:
    """The source's rest is read from the frame the strip shows."""
    pairing, clip, source = pairing_in_hand(c.state), borrowed_clip(c.state), source_in_hand(c.state)
    assert pairing is not None and source is not None
    start = float(moments_of(source.clip)[0])
    first = clip.borrowed.options.first if clip is not None and clip.borrowed is not None else None
    at = (start if first is None else max(first, start)) + c.state.clock.time
    mend(c, "The source's rest from this frame", lambda d, p: edits.set_source_rest(d, pairing.id, at, progress=p))


def rest_found(c: Context) -> None:
    pairing = pairing_in_hand(c.state)
    assert pairing is not None
    mend(c, "The source's rest as it is found", lambda d, p: edits.set_source_rest(d, pairing.id, None, progress=p))


def pair_anew(c: Context) -> None:
    """Find the pairing again, whatever was said."""
    source = source_in_hand(c.state)
    assert source is not None
    mend(c, "Pair anew", lambda d, p: edits.pair_anew(d, source.id, progress=p))


def save(c: Context) -> None:
    source, pairing = source_in_hand(c.state), pairing_in_hand(c.state)
    assert source is not None and pairing is not None
    path = c.ask.save_file("Save the pairing", f"{pairing.name or 'pairing'}.json", "Pairing (*.json)")
    if path:
        c.attempt(lambda: write_pairing(path, pairing, source.skeleton, c.skeleton))


def load(c: Context) -> None:
    source = source_in_hand(c.state)
    assert source is not None
    path = c.ask.open_pairing()
    if not path:
        return

    def put() -> None:
        found = read_pairing(path, source.skeleton, c.skeleton)
        mend(c, f"Open the pairing {Path(path).stem}", lambda d, p: edits.use_pairing(d, found, progress=p))

    c.attempt(put)


def wiggle(c: Context, joint: str = "") -> None:
    """Move a joint of the source to and fro in the view, so that one sees which it is."""
    chain = chain_in_hand(c.state)
    wanted = joint or (chain.source[0] if chain is not None and chain.source else "")
    if not wanted:
        c.say("Pick a joint of the source first: a chain that is paired, or one in the view")
        return
    c.store.put_setting(BorrowSettings, wiggled=wanted, phase=WIGGLE_TICKS)
    QTimer.singleShot(WIGGLE_TICK, lambda: _wiggle_on(c))


def _wiggle_on(c: Context) -> None:
    left = settings(c.state).phase
    if left <= 0:
        return
    c.store.put_setting(BorrowSettings, phase=left - 1, **({"wiggled": ""} if left == 1 else {}))
    QTimer.singleShot(WIGGLE_TICK, lambda: _wiggle_on(c))


SOURCE = Need("motion of another body", "Bring motion in first", lambda s: source_in_hand(s) is not None, offer="borrow.bring")
LENDER = Need("a figure that moves", "Bring in another character with a clip first", _lends, offer="figures.bring")
PAIRED = Need("pairing", "Carry the source over first; it is paired by itself", lambda s: pairing_in_hand(s) is not None, offer="borrow.carry")
FOLLOWS = Need("borrowed clip", "Play a clip that was borrowed", lambda s: s.clip is not None and s.clip.borrowed is not None)
WORST = Need("worst place", "Nothing stands out", lambda s: s.clip is not None and s.clip.borrowed is not None and s.clip.borrowed.measured is not None and bool(s.clip.borrowed.measured.worst))

ACTIONS = (
    Action("borrow.bring", "Bring motion of another body", "Motion", "BVH, GLB or USD of any skeleton; paired and carried over at once", bring, needs=WITH_JOINTS),
    Action("borrow.carry", "Carry the source over", "Motion", "As another clip, with what the card says", borrow, needs=(*WITH_JOINTS, SOURCE)),
    Action("borrow.stand", "Stand the source beside", "Motion", "As a figure of joints alone, that is shown, placed and exported as others are", stand, needs=(*WITH_JOINTS, SOURCE)),
    Action("borrow.lend", "Motion of another figure", "Motion", "What another figure here does, carried over to this one", lend, needs=(*WITH_JOINTS, LENDER)),
    Action("borrow.again", "Carry this clip over anew", "Motion", "With what the card says now; its layers stay", borrow_again, needs=(*WITH_JOINTS, FOLLOWS)),
    Action("borrow.drop", "Take the source away", "Motion", "Clips made from it stay", drop, needs=(SOURCE,)),
    Action("borrow.pairing", "Pairing", "Motion", "Which chain of the source is which part here", toggle_pairing, needs=(*WITH_JOINTS, SOURCE, PAIRED), on=pairing_open),
    Action("borrow.over", "Show the source over the result", "Motion", "Scaled, at this frame", toggle_over, needs=(FOLLOWS,), on=lambda s: settings(s).over),
    Action("borrow.worst", "Go to the worst place", "Motion", "The frame and part that stray most", go_to_worst, needs=(FOLLOWS, WORST)),
    Action("pairing.anew", "Pair anew", "Motion", "Found again by shape and name, whatever was said", pair_anew, needs=(SOURCE, PAIRED)),
    Action("pairing.wiggle", "Wiggle", "Motion", "Move the source's joint to see which it is", wiggle, needs=(SOURCE, PAIRED)),
    Action("pairing.rest_here", "Rest from this frame", "Motion", "The source stands here as the character does at rest", rest_here, needs=(SOURCE, PAIRED)),
    Action("pairing.rest_found", "Rest as found", "Motion", "By its shape: the file's rest, or the frame most like one", rest_found, needs=(SOURCE, PAIRED)),
    Action("pairing.save", "Save the pairing", "Motion", "As JSON", save, needs=(SOURCE, PAIRED)),
    Action("pairing.load", "Open a pairing", "Motion", "Saved before", load, needs=(SOURCE, PAIRED)),
)  # fmt: skip
