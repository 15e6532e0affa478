"""The shelf of clips: searched, looked at on the character in the view, taken."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QTimer

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CLIP, WITH_JOINTS
from pegloom.app.areas.motion.borrowing import BorrowSettings, Onto
from pegloom.app.areas.motion.bringing import BringSettings, led
from pegloom.app.context import Context
from pegloom.app.jobs import Job, Order
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.core.arrays import FloatArray
from pegloom.core.errors import PegLoomError
from pegloom.core.jobs import Progress
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.gait.steps import body_kind
from pegloom.core.motion.retarget import Source, moments_of
from pegloom.core.motion.retarget.chains import kind_of, parts_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.shelf.card import KINDS, ClipCard
from pegloom.document import edits
from pegloom.document.edits.borrow import Lent
from pegloom.document.model import Character, Document
from pegloom.files.reports import unforeseen
from pegloom.files.shelf import Shelf

SHELF = "motion.shelf"
"""Id of its pane."""
LOOKED_AT = "looked at"
"""Id of the clip that is looked at: it is in no document that is kept."""
MOMENTS = 25
"""Moments a small figure is drawn at."""
ALL, FAVOURITES, RECENT, OWN = "", "favourites", "recent", "own"


@dataclass(frozen=True, slots=True)
class ShelfSettings(Setting):
    """words : searched for. group : ALL, FAVOURITES, RECENT, OWN or a kind. picked : id of the clip in hand. like : id of the clip
    whose like is shown. mirror, in_place, speed, part, first, last : how it is taken. seconds : over which clips are joined.
    other : id of the character that plays the clip belonging to it, where two do.
    kept : counts changes of what is kept beside the document.
    """

    ID = "clip_shelf"
    PASSING = frozenset({"words", "picked", "like", "mirror", "part", "first", "last", "kept", "speed", "group", "other"})

    words: str = ""
    group: str = ALL
    picked: str = ""
    like: str = ""
    mirror: bool = False
    in_place: bool = False
    speed: float = 1.0
    part: bool = False
    first: int = 0
    last: int = 60
    seconds: float = 0.3
    other: str = ""
    kept: int = 0


class Row(NamedTuple):
    """A clip in the list, the heading over it, and the words that led to it."""

    card: ClipCard
    heading: str
    matched: tuple[str, ...]


def settings(state: State) -> ShelfSettings:
    return state.settings.of(ShelfSettings)


@lru_cache(maxsize=1)
def shelf() -> Shelf:
    """The one shelf of this program."""
    return Shelf()


def shelf_open(state: State) -> bool:
    return SHELF in state.viewing.panes


def rows_of(own: ShelfSettings, body: str = "people") -> list[Row]:
    """What the list shows: what was found, or what is alike, or all by kind, those for this body first."""
    one = shelf()
    if own.like:
        return [Row(f.card, f"moves like {one.card(own.like).title}", ()) for f in one.finder.like(own.like, 24)]
    if own.words.strip():
        found = [Row(f.card, "found", f.matched) for f in one.finder.find(own.words, 40)]
        return [r for r in found if _in_group(r.card, own.group)]
    if own.group in (FAVOURITES, RECENT):
        known = {c.id: c for c in one.cards}
        some = one.favourites if own.group == FAVOURITES else one.recent
        return [Row(known[i], own.group, ()) for i in some if i in known]
    cards = [c for c in one.cards if _in_group(c, own.group)]
    order = {kind: k for k, kind in enumerate(KINDS)}
    cards.sort(key=lambda c: (c.own is False, order.get(c.kinds[0], len(order)) if c.kinds else len(order), c.body != body))
    return [Row(c, "my own" if c.own else c.kinds[0] if c.kinds else "other", ()) for c in cards]


def body_here(state: State) -> str:
    """Which of the shelf's bodies the character is most like."""
    skeleton = state.character.skeleton if state.character is not None else None
    if skeleton is None:
        return "people"
    parts = parts_of(skeleton)
    if not any(kind_of(p) == "leg" for p in parts):
        return "prop"
    return {"two": "people", "bird": "bird", "four": "four legs"}.get(body_kind(parts), "people")


def _in_group(card: ClipCard, group: str) -> bool:
    one = shelf()
    if group == FAVOURITES:
        return card.id in one.favourites
    if group == RECENT:
        return card.id in one.recent
    return group == ALL or (group == OWN and card.own) or group in card.kinds


def understood(words: str) -> str:
    """What a search was understood as, in words."""
    if not words.strip():
        return ""
    meant = [m for m in shelf().lexicon.meant(words) if m.how >= 0.45]
    told = [f"{', '.join(m.words)} = {m.concept}" if m.words != (m.concept,) else m.concept for m in meant[:6]]
    return "understood: " + " · ".join(told) if told else "no word of it is known here; other words may be"


# Small figures


class Figure(NamedTuple):
    """Bones to be drawn: places (k, n, 2) of joints from the side and front, upward, within 0 to 1; which joints are joined; the
    head, -1 where there is none."""

    places: FloatArray
    bones: tuple[tuple[int, int], ...]
    head: int = -1


@lru_cache(maxsize=400)
def figure_of(card_id: str) -> Figure:
    """The small figure of a clip; some hundredths of a second."""
    source = shelf().source(card_id)
    skeleton, clip = source.skeleton, source.clip
    times = np.linspace(0.0, clip.length, MOMENTS)
    at = posed_at(clip, skeleton, times)[..., :3, 3]
    parts = parts_of(skeleton)
    small = {skeleton.index[j] for p, chain in parts.items() if kind_of(p) == "finger" for j in chain}
    base = skeleton.index[parts["trunk"][0]] if parts.get("trunk") else 0
    # It stays in its frame: the way over the ground is not for a small picture.
    middle = at[:, base][:, [0, 2]]
    middle = middle - middle.mean(axis=0)
    spread = float(np.abs(middle).max())
    at = at.copy()
    if spread > 0.25 * float(np.ptp(skeleton.positions[:, 1])):
        at[..., 0] -= middle[:, 0, None]
        at[..., 2] -= middle[:, 1, None]
    turn = np.radians(-40.0)
    flat = np.stack([at[..., 0] * np.cos(turn) - at[..., 2] * np.sin(turn), at[..., 1]], axis=-1)
    kept = [j for j in range(len(skeleton.joints)) if j not in small]
    number = {j: k for k, j in enumerate(kept)}
    bones = tuple((number[int(skeleton.parents[j])], number[j]) for j in kept if int(skeleton.parents[j]) in number and (int(skeleton.parents[j]) > 0 or base == 0))
    flat = flat[:, kept]
    used = sorted({k for bone in bones for k in bone}) or list(range(len(kept)))
    low, high = flat[:, used].reshape(-1, 2).min(axis=0), flat[:, used].reshape(-1, 2).max(axis=0)
    size = max(float((high - low).max()), 1e-6)
    head = number.get(skeleton.index[parts["head"][0]], -1) if parts.get("head") else -1
    return Figure((flat - 0.5 * (low + high)) / size * 0.9 + 0.48, bones, head)


# Looking and taking


def pick(c: Context, card_id: str) -> None:
    """A clip in hand; it plays on the character in the view."""
    c.store.put_setting(ShelfSettings, picked=card_id)
    look(c)


def look(c: Context) -> None:
    """Play the clip in hand on this character; nothing is kept."""
    own = settings(c.state)
    character = c.state.stored.character
    if not own.picked or character is None or character.skeleton is None:
        return
    picked, mirror, in_place, speed = own.picked, own.mirror, own.in_place, own.speed

    def work() -> Clip:
        options = CarryOptions(in_place=in_place, mirror=mirror, at_zero=not shelf().card(picked).own)
        return _at_speed(edits.looked_at(character, shelf().source(picked), options=options), speed)

    def done(result: object) -> None:
        now = settings(c.state)
        if (now.picked, now.mirror, now.in_place, now.speed) != (picked, mirror, in_place, speed) or not shelf_open(c.state) or c.state.stored.character is not character:
            return
        if isinstance(result, Clip):
            _show(c, result)
        elif isinstance(result, BaseException):
            why = str(result) if isinstance(result, PegLoomError) else unforeseen(result)
            c.say(f"{shelf().card(picked).title} does not go onto this body: {why}", error=True)

    c.background.put(Order.LOOK, work, done)


def _at_speed(clip: Clip, speed: float) -> Clip:
    if speed == 1.0:
        return clip
    return replace(clip, length=clip.length / speed, tracks=replace(clip.tracks, times=clip.tracks.times / speed))


def _show(c: Context, clip: Clip) -> None:
    document = c.store.history.present
    character = document.require_character()
    c.store.draft(document.with_character(replace(character, clips=(*character.clips, replace(clip, id=LOOKED_AT, name=f"look: {clip.name}")))))
    c.store.put(source=LOOKED_AT, time=0.0, part=None, playing=True)


def stop_looking(c: Context) -> None:
    """The document as it is kept again."""
    if c.state.clock.source == LOOKED_AT:
        c.player.stop()
        c.store.drop_draft()


def take(c: Context) -> None:
    """The clip in hand becomes one of this character."""
    own = settings(c.state)
    if not own.picked:
        c.say("Pick a clip on the shelf first")
        return
    card = shelf().card(own.picked)
    stop_looking(c)
    controls = c.state.settings.of(BorrowSettings).onto is Onto.CONTROLS and c.character.rig is not None
    on_ik = led(c.character.require_rig(), c.state.settings.of(BringSettings).limbs) if controls else None

    def edit(document: Document, progress: Progress) -> tuple[Document, Lent]:
        progress(0.05, f"reading {card.title}")
        source = shelf().source(card.id)
        return edits.take_clip(document, card, source, options=_options(own, source), speed=own.speed, controls=controls, on_ik=on_ik, progress=progress)

    def then(lent: Lent) -> None:
        shelf().used(card.id)
        c.store.put_setting(ShelfSettings, kept=settings(c.state).kept + 1)
        c.player.play_source(lent.clip)
        partner = f"; {shelf().card(card.partner).title} belongs to it" if card.partner else ""
        c.say(f"{c.character.clip(lent.clip).name} is a clip of this character now{partner}")

    c.job(f"Take {card.title}", edit, title=f"Taking {card.title}", then=then)


def others(state: State) -> list[Character]:
    """The characters that can play with the one in hand: those with joints."""
    return [one for one in state.document.characters if one is not state.character and one.skeleton is not None]


def take_for_two(c: Context) -> None:
    """The clip in hand becomes one of this character, the one belonging to it one of another, and both stand and play together."""
    own, some = settings(c.state), others(c.state)
    card = shelf().card(own.picked) if own.picked else None
    if card is None or not card.partner:
        c.say("Pick a clip that two play first, as hand over or shake hands", error=True)
        return
    other = next((one for one in some if one.id == own.other), some[0])
    here = c.character
    stop_looking(c)
    onto = c.state.settings.of(BorrowSettings).onto
    controls = onto is Onto.CONTROLS and here.rig is not None and other.rig is not None
    on_ik = led(here.rig, c.state.settings.of(BringSettings).limbs) if controls and here.rig is not None else None

    def edit(document: Document, progress: Progress) -> tuple[Document, tuple[Lent, Lent]]:
        progress(0.02, f"reading {card.title}")
        cards = (card, shelf().card(card.partner))
        sources = (shelf().source(cards[0].id), shelf().source(cards[1].id))
        return edits.take_for_two(document, cards, sources, (here.id, other.id), controls=controls, on_ik=on_ik, options=CarryOptions(mirror=own.mirror), progress=progress)

    def then(lent: tuple[Lent, Lent]) -> None:
        shelf().used(card.id)
        c.store.put_setting(ShelfSettings, kept=settings(c.state).kept + 1)
        c.player.play_source(lent[0].clip)
        c.say(f"{here.name} and {other.name} play together now; “All figures” on the strip shows both")
        c.view.show_all()

    c.job(f"Take {card.title} for two", edit, title=f"Taking {card.title} and its partner", then=then)


def _options(own: ShelfSettings, source: Source) -> CarryOptions:
    if not own.part:
        return CarryOptions(in_place=own.in_place, mirror=own.mirror)
    times = moments_of(source.clip)
    first, last = (float(times[min(max(k, 0), len(times) - 1)]) for k in (own.first, max(own.last, own.first)))
    return CarryOptions(in_place=own.in_place, first=first, last=last, mirror=own.mirror)


def toggle(c: Context) -> None:
    if shelf_open(c.state):
        stop_looking(c)
        c.store.put(panes=c.state.viewing.panes - {SHELF})
    else:
        c.store.put(panes=c.state.viewing.panes | {SHELF})
    QTimer.singleShot(0, c.view.show_all)


def more_like(c: Context) -> None:
    """Clips that move like the one in hand."""
    own = settings(c.state)
    if own.picked:
        like = "" if own.like == own.picked else own.picked
        made_ready(c, lambda: c.store.put_setting(ShelfSettings, like=like, words=""))


def search(c: Context, words: str) -> None:
    """Find clips by words, beside the window's own work; what is alike or kept is shown no more."""
    made_ready(c, lambda: c.store.put_setting(ShelfSettings, words=words, like=""), words)


def made_ready(c: Context, then: Callable[[], None] = lambda: None, words: str = "") -> None:
    """Have the words of the shelf read, and a phrase understood, and then do something."""
    c.background.put(Order.WORDS, lambda: shelf().finder.find(words), lambda _: then())


def favour(c: Context) -> None:
    own = settings(c.state)
    if own.picked:
        shelf().favour(own.picked, own.picked not in shelf().favourites)
        c.store.put_setting(ShelfSettings, kept=own.kept + 1)


def put_own(c: Context) -> None:
    """Files of the user's own onto the shelf."""
    paths = [Path(p) for p in c.ask.open_takes()]
    if not paths:
        return

    def work(progress: Progress) -> object:
        found = []
        for k, path in enumerate(paths):
            progress(k / len(paths), f"reading {path.name}")
            found.append(shelf().put(path))
        return found

    def done(cards: object) -> None:
        assert isinstance(cards, list)
        c.store.put_setting(ShelfSettings, group=OWN, words="", like="", kept=settings(c.state).kept + 1)
        kinds = ", ".join(dict.fromkeys(kind for card in cards for kind in card.kinds)) or "nothing on the shelf"
        c.say(f"On the shelf; by how it moves it is like {kinds}")

    c.jobs.start(Job("Putting clips on the shelf", work, done))


def drop_own(c: Context) -> None:
    own = settings(c.state)
    card = next((k for k in shelf().own_cards if k.id == own.picked), None)
    if card is None:
        c.say("Only clips of your own can be taken off the shelf")
    elif c.ask.confirm(f"Take {card.title} off the shelf? Its file there is deleted; clips made from it stay.", yes="Take it off", no="Keep it"):
        stop_looking(c)
        shelf().drop(card.id)
        c.store.put_setting(ShelfSettings, picked="", kept=own.kept + 1)


def mirror_clip(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None
    c.change(f"Mirror {clip.name}", lambda d: edits.mirror_clip(d, clip.id), slow=True, doing="exchanging the sides", then=c.player.play_source)


def join_clip(c: Context) -> None:
    """The clip on the strip and another after it, flowing into each other, as a third."""
    clip = c.state.clip
    assert clip is not None
    others = [one for one in c.character.clips if one.tracks or one.every_curve]
    chosen = c.ask.one_of(f"Which clip comes after {clip.name}?", [one.name for one in others])
    if chosen < 0:
        return
    other, seconds = others[chosen], settings(c.state).seconds
    c.change(f"{clip.name}, then {other.name}", lambda d: edits.join_clips(d, clip.id, other.id, seconds=seconds), slow=True, doing="joining them", then=c.player.play_source)


OTHERS = Need("another with joints", "Bring in another character with joints first", lambda s: bool(others(s)), "figures.bring")

ACTIONS = (
    Action("shelf.open", "Clip shelf", "Motion", "Clips found in plain words, looked at on this character, taken", toggle, key="Shift+L", needs=WITH_JOINTS, on=shelf_open),
    Action("shelf.take", "Take the clip", "Motion", "The clip picked on the shelf becomes one of this character", take, needs=WITH_JOINTS),
    Action("shelf.for_two", "Take for two", "Motion", "This clip for the character in hand, the one belonging to it for another, both placed", take_for_two, needs=(*WITH_JOINTS, OTHERS)),
    Action("shelf.like", "More like this", "Motion", "Clips that move alike, whatever they are called", more_like, needs=WITH_JOINTS, on=lambda s: bool(settings(s).like)),
    Action("shelf.favour", "Favourite", "Motion", "Keep the clip picked on the shelf among the favourites, or no more", favour, needs=WITH_JOINTS),
    Action("shelf.put", "Put my own on the shelf", "Motion", "BVH, GLB or USD: copied, measured, found like the others", put_own, needs=WITH_JOINTS),
    Action("shelf.drop", "Take my own off the shelf", "Motion", "Clips made from it stay", drop_own, needs=WITH_JOINTS),
    Action("clips.mirror", "Mirror the clip", "Motion", "Another clip whose sides are exchanged", mirror_clip, needs=(*WITH_JOINTS, CLIP)),
    Action("clips.join", "Join with the next", "Motion", "Another clip after this one, from where it has come to, flowing into each other", join_clip, needs=(*WITH_JOINTS, CLIP)),
)  # fmt: skip
