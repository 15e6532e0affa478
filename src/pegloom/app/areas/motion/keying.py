"""Keys picked on the strip or in the curves, and what is done with them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CLIP, CONTROL_PICKED, WITH_RIG
from pegloom.app.context import Context
from pegloom.app.state.settings import Setting
from pegloom.app.state.state import State
from pegloom.core.curves import Curve, Run
from pegloom.core.curves.curve import Beyond, Slope
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.layers import Layer
from pegloom.core.rig.channels import Quantity
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.edits import KeyAt
from pegloom.document.model import Document

CURVES = "motion.curves"
"""Id under which the curves are open."""
Ref = tuple[str, str]


@dataclass(frozen=True, slots=True)
class KeySettings(Setting):
    """picked : keys in hand. snap : whether moved keys stand on frames. tolerance : degrees and centimetres reduced keys may be
    off. share : where between its neighbours a key is put. off : channels whose curves are not shown."""

    ID = "keys"
    PASSING = frozenset({"picked", "off"})

    picked: frozenset[KeyAt] = frozenset()
    snap: bool = True
    tolerance: float = 0.2
    share: float = 0.5
    off: frozenset[Ref] = frozenset()
    trails: bool = False
    ghosts: bool = False


def settings(state: State) -> KeySettings:
    return state.settings.of(KeySettings)


def curves_in_hand(state: State) -> dict[Ref, Curve]:
    """The curves keys are set in: of the clip, or of the layer in hand."""
    held = _held_by(state)
    return {} if held is None else dict(held.curves)


def layer_id(state: State) -> str:
    return "" if state.layer is None else state.layer.id


def _held_by(state: State) -> Clip | Layer | None:
    """Whose keys are in hand: the clip's, or those of the layer."""
    return state.clip if state.layer is None else state.layer


def picked_keys(state: State) -> tuple[KeyAt, ...]:
    """The keys in hand that are still there. Asked for at every drawing: a capture has ten thousand."""
    picked, held = settings(state).picked, _held_by(state)
    if not picked or held is None:
        return ()
    if _LAST.picked is not picked or _LAST.held is not held:
        there = {(ref[0], ref[1], t) for ref in {(k.control, k.channel) for k in picked} if ref in held.curves for t in np.round(held.curves[ref].times, 5).tolist()}
        _LAST.keys = tuple(k for k in picked if (k.control, k.channel, round(k.time, 5)) in there)
        _LAST.picked, _LAST.held = picked, held
    return _LAST.keys


@dataclass
class _Last:
    """What was asked for last, and the answer."""

    picked: frozenset[KeyAt] | None = None
    held: Clip | Layer | None = None
    keys: tuple[KeyAt, ...] = ()


_LAST = _Last()


def pick(c: Context, keys: Iterable[KeyAt], *, add: bool = False, toggle: bool = False) -> None:
    some = frozenset(keys)
    have = settings(c.state).picked
    c.store.put_setting(KeySettings, picked=have ^ some if toggle else have | some if add else some)


def shown_refs(state: State) -> list[Ref]:
    """Channels whose curves are looked at: of the picked controls, else of the picked keys."""
    curves = curves_in_hand(state)
    controls = state.selection.ids if state.selection.kind == "control" else ()
    chosen = [ref for ref in curves if ref[0] in controls]
    if not chosen:
        keyed = {(k.control, k.channel) for k in picked_keys(state)}
        chosen = [ref for ref in curves if ref in keyed]
    return chosen


def change(c: Context, name: str, edit: Callable[[Document, str, tuple[KeyAt, ...], str], Any], then: Callable[[Any], None] | None = None) -> bool:
    """An edit of the keys in hand as one step."""
    clip, keys, layer = c.state.clip, picked_keys(c.state), layer_id(c.state)
    if clip is None or not keys:
        c.say("Pick keys first: click or box them on the strip", error=True)
        return False
    return c.try_edit(name, lambda d: edit(d, clip.id, keys, layer), then)


def moved(c: Context, seconds: float, value: float = 0.0, *, copy: bool = False) -> None:
    """Move or copy the keys in hand; those that came of it are in hand then."""
    keys, rate = picked_keys(c.state), c.state.rate
    if not keys:
        return
    if settings(c.state).snap:
        # The first of them comes to stand on a frame, the others as far off as they were.
        first = min(k.time for k in keys)
        seconds = round((first + seconds) * rate) / rate - first
    seconds = max(seconds, -min(k.time for k in keys))
    if copy:
        done = change(c, f"Copy {counted(len(keys), 'key')}", lambda d, clip, some, layer: edits.copy_keys(d, clip, some, seconds=seconds, layer=layer))
    elif abs(seconds) < 1e-9 and value == 0.0:
        return
    else:
        done = change(c, f"Move {counted(len(keys), 'key')}", lambda d, clip, some, layer: edits.shift_keys(d, clip, some, seconds=seconds, value=value, layer=layer))
    if done:
        pick(c, (k._replace(time=k.time + seconds) for k in keys))


def scaled(c: Context, about: float, factor: float) -> None:
    """Draw the keys in hand apart or together about a time."""
    keys, rate = picked_keys(c.state), c.state.rate
    if not keys or factor <= 0.0 or abs(factor - 1.0) < 1e-9:
        return
    snap = settings(c.state).snap
    found: list[KeyAt] = []

    def edit(d: Document, clip: str, some: tuple[KeyAt, ...], layer: str) -> Document:
        d = edits.scale_keys(d, clip, some, about=about, factor=factor, layer=layer)
        now = [k._replace(time=max(about + (k.time - about) * factor, 0.0)) for k in some]
        if snap:
            d = edits.snap_keys(d, clip, now, layer=layer)
            now = [k._replace(time=round(k.time * rate) / rate) for k in now]
        found.extend(now)
        return d

    if change(c, f"Scale {counted(len(keys), 'key')} in time", edit):
        pick(c, found)


def drop(c: Context) -> None:
    keys = picked_keys(c.state)
    change(c, f"Remove {counted(len(keys), 'key')}", lambda d, clip, some, layer: edits.drop_keys(d, clip, some, layer=layer), lambda _: pick(c, ()))


def snap(c: Context) -> None:
    rate = c.state.rate

    def then(_: Any) -> None:
        pick(c, (k._replace(time=round(k.time * rate) / rate) for k in settings(c.state).picked))

    change(c, "Keys onto frames", lambda d, clip, some, layer: edits.snap_keys(d, clip, some, layer=layer), then)


def copy_here(c: Context) -> None:
    """The keys in hand once more, the first of them at the present frame."""
    keys = picked_keys(c.state)
    if keys:
        moved(c, c.state.snapped_time - min(k.time for k in keys), copy=True)


def select(c: Context, *, controls: bool = True, here: bool = False) -> None:
    """Keys of the picked controls, or of all; those at this frame alone."""
    clip, state = c.state.clip, c.state
    assert clip is not None
    ids = state.selection.ids if controls and state.selection.kind == "control" else None
    at = state.snapped_time
    half = 0.5 / state.rate
    span = {"first": at - half, "last": at + half} if here else {}
    pick(c, edits.keys_in(clip, layer=layer_id(state), controls=ids, **span))


def set_slope(c: Context, kind: Slope) -> None:
    words = {Slope.AUTO: "by itself", Slope.LEVEL: "level", Slope.ONE: "one", Slope.TWO: "two"}
    change(c, f"Slopes: {words[kind]}", lambda d, clip, some, layer: edits.slope_keys(d, clip, some, kind, layer=layer))


def set_run(c: Context, run: Run) -> None:
    words = {Run.SMOOTH: "smooth", Run.LINEAR: "straight", Run.STEP: "held"}
    change(c, f"Keys run {words[run]}", lambda d, clip, some, layer: edits.run_keys(d, clip, some, run, layer=layer))


def set_value(c: Context, value: float) -> None:
    change(c, "Value of keys", lambda d, clip, some, layer: edits.value_keys(d, clip, some, value, layer=layer))


def set_ends(c: Context, *, first: Beyond | None = None, last: Beyond | None = None) -> None:
    clip, refs, layer = c.state.clip, shown_refs(c.state), layer_id(c.state)
    if clip is not None and refs:
        c.try_edit("Curves beyond their ends", lambda d: edits.ends_of_curves(d, clip.id, refs, first=first, last=last, layer=layer))


def reduce(c: Context) -> None:
    """Fewer keys of the shown channels, of all where none is shown: off by the tolerance at most, degrees or centimetres."""
    clip, refs, layer = c.state.clip, shown_refs(c.state), layer_id(c.state)
    assert clip is not None
    rig, tolerance = c.character.require_rig(), settings(c.state).tolerance
    every = refs or list(curves_in_hand(c.state))
    turns = [r for r in every if r in rig.slots.index and rig.slots.channels[rig.slots.index[r]].quantity is Quantity.ANGLE]
    others = [r for r in every if r not in set(turns)]

    def edit(d: Document) -> tuple[Document, tuple[int, int]]:
        d, (a, b) = edits.reduce_keys(d, clip.id, float(np.radians(tolerance)), channels=turns, layer=layer)
        d, (e, f) = edits.reduce_keys(d, clip.id, tolerance / 100.0, channels=others, layer=layer)
        return d, (a + e, b + f)

    c.try_edit("Reduce keys", edit, lambda told: c.say(f"{told[0]} keys became {told[1]}, nowhere off by more than {tolerance:g}° or {tolerance:g} cm"))


def between(c: Context, share: float) -> None:
    """A key here on the way from the key before to the key after, for the picked controls."""
    clip, ids, layer, at = c.state.clip, c.state.selection.ids, layer_id(c.state), c.state.snapped_time
    if clip is not None and c.state.selection.kind == "control":
        c.try_edit(f"Between keys, {share:.0%}", lambda d: edits.between_keys(d, clip.id, at, share, ids, layer=layer))


def try_between(c: Context, share: float) -> None:
    """The same, only shown."""
    clip, ids, layer, at = c.state.clip, c.state.selection.ids, layer_id(c.state), c.state.snapped_time
    if clip is not None and c.state.selection.kind == "control":
        c.preview(lambda d: edits.between_keys(d, clip.id, at, share, ids, layer=layer))


def toggle_curves(c: Context) -> None:
    c.store.put(panes=c.state.viewing.panes ^ {CURVES})


def curves_open(state: State) -> bool:
    return CURVES in state.viewing.panes


def range_of_keys(c: Context) -> None:
    keys = picked_keys(c.state)
    c.player.play_part(min(k.time for k in keys), max(k.time for k in keys))


PICKED = Need("picked keys", "Pick keys on the strip first", lambda s: bool(picked_keys(s)))
KEYS = Need("keys in hand", "This clip has no keys", lambda s: bool(curves_in_hand(s)))

ACTIONS = (
    Action("keys.curves", "Curves", "Motion", "The picked controls' channels over time, under the ruler", toggle_curves, key="Shift+U", needs=(CLIP,), on=curves_open),
    Action("keys.pick_controls", "Pick the controls' keys", "Motion", "All keys of the picked controls", select, needs=(CLIP, CONTROL_PICKED)),
    Action("keys.pick_all", "Pick all keys", "Motion", "Of the clip, or of the layer in hand", partial(select, controls=False), needs=(CLIP, KEYS)),
    Action("keys.pick_here", "Pick keys at this frame", "Motion", "Of every control", partial(select, controls=False, here=True), needs=(CLIP, KEYS)),
    Action("keys.copy_here", "Copy keys to here", "Motion", "The first of them at this frame", copy_here, needs=(CLIP, PICKED)),
    Action("keys.drop", "Remove the picked keys", "Motion", "Those picked on the strip", drop, needs=(CLIP, PICKED)),
    Action("keys.snap", "Keys onto frames", "Motion", "Each to the nearest frame", snap, needs=(CLIP, PICKED)),
    Action("keys.reduce", "Reduce keys", "Motion", "Fewer keys, off by the tolerance at most", reduce, needs=(*WITH_RIG, CLIP, KEYS)),
    Action("keys.range", "Range of the picked keys", "Motion", "Only from the first to the last of them is played and shown", range_of_keys, needs=(CLIP, PICKED)),
    Action("keys.auto_slope", "Slope by itself", "Motion", "From the neighbours, never past a key", partial(set_slope, kind=Slope.AUTO), needs=(CLIP, PICKED)),
    Action("keys.level_slope", "Level slope", "Motion", "Flat at the key", partial(set_slope, kind=Slope.LEVEL), needs=(CLIP, PICKED)),
    Action("keys.one_slope", "One slope", "Motion", "Set by hand, the same on both sides", partial(set_slope, kind=Slope.ONE), needs=(CLIP, PICKED)),
    Action("keys.two_slopes", "Two slopes", "Motion", "Set by hand, each side its own", partial(set_slope, kind=Slope.TWO), needs=(CLIP, PICKED)),
    Action("keys.smooth", "Run smooth", "Motion", "From these keys to the next", partial(set_run, run=Run.SMOOTH), needs=(CLIP, PICKED)),
    Action("keys.straight", "Run straight", "Motion", "From these keys to the next", partial(set_run, run=Run.LINEAR), needs=(CLIP, PICKED)),
    Action("keys.held", "Held to the next", "Motion", "From these keys to the next", partial(set_run, run=Run.STEP), needs=(CLIP, PICKED)),
    Action("keys.trails", "Trails", "Motion", "Where picked controls go; drag a key's dot to move it", lambda c: c.store.put_setting(KeySettings, trails=not settings(c.state).trails), needs=(CLIP,), on=lambda s: settings(s).trails),
    Action("keys.ghosts", "Ghosts", "Motion", "The figure at the keys before and after", lambda c: c.store.put_setting(KeySettings, ghosts=not settings(c.state).ghosts), needs=(CLIP,), on=lambda s: settings(s).ghosts),
)  # fmt: skip
