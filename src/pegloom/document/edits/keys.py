"""Many keys at once, of a clip or of a layer over it: moved, scaled, copied, removed, snapped, sloped, made fewer."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType
from typing import NamedTuple

import numpy as np

from pegloom.core.curves import Curve, Run
from pegloom.core.curves.curve import SAME_TIME, Beyond, Slope
from pegloom.core.curves.keys import (
    Chosen,
    between,
    copied,
    reduced,
    scaled_in_time,
    scaled_in_value,
    shifted,
    snapped,
    with_slopes,
)
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.refs import ChannelRef
from pegloom.document.edits.motion import keys_of, with_clip
from pegloom.document.model import Document


class KeyAt(NamedTuple):
    """One key: the control, its channel, seconds."""

    control: str
    channel: str
    time: float


Curves = Mapping[tuple[str, str], Curve]


def change_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], change: Callable[[Curve, Chosen], Curve | None], *, layer: str = "") -> Document:
    """Change the curves that hold some keys; `change` gets a curve and which of its keys are meant.

    Raises EditError where none of the keys is there.
    """
    wanted: dict[tuple[str, str], list[float]] = {}
    for key in keys:
        wanted.setdefault((key.control, key.channel), []).append(key.time)

    def changed(curves: Curves) -> Curves:
        result = dict(curves)
        met = False
        for ref, times in wanted.items():
            one = curves.get(ref)
            if one is None:
                continue
            chosen = np.abs(one.times[:, None] - np.array(times)[None]).min(axis=1) <= 10 * SAME_TIME
            if not chosen.any():
                continue
            met = True
            told = change(one, chosen)
            if told is None:
                del result[ref]
            else:
                result[ref] = told
        if not met:
            raise EditError("none of these keys is there; pick some on the strip")
        return MappingProxyType(result)

    return _changed(document, clip_id, layer, changed)


def shift_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], *, seconds: float = 0.0, value: float = 0.0, layer: str = "") -> Document:
    """Move keys in time and in value (metres, radians, shares); what stood where one comes to stand gives way."""
    return _longer(change_keys(document, clip_id, keys, lambda one, chosen: shifted(one, chosen, seconds, value), layer=layer), clip_id, layer)


def scale_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], *, about: float, factor: float, layer: str = "") -> Document:
    """Draw keys apart or together about a time (seconds)."""
    return _longer(change_keys(document, clip_id, keys, lambda one, chosen: scaled_in_time(one, chosen, about, factor), layer=layer), clip_id, layer)


def scale_key_values(document: Document, clip_id: str, keys: Sequence[KeyAt], *, about: float = 0.0, factor: float, layer: str = "") -> Document:
    """Draw keys' values away from a value, or to it."""
    return change_keys(document, clip_id, keys, lambda one, chosen: scaled_in_value(one, chosen, about, factor), layer=layer)


def copy_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], *, seconds: float, layer: str = "") -> Document:
    """Put keys in once more, so much later or, below 0, earlier."""
    return _longer(change_keys(document, clip_id, keys, lambda one, chosen: copied(one, chosen, seconds), layer=layer), clip_id, layer)


def drop_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], *, layer: str = "") -> Document:
    """Remove keys; a channel without any runs as it rests again."""
    return change_keys(document, clip_id, keys, lambda one, chosen: one.some(~chosen), layer=layer)


def snap_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], *, layer: str = "") -> Document:
    """Put keys on the nearest frames."""
    rate = document.require_character().clip(clip_id).rate
    return change_keys(document, clip_id, keys, lambda one, chosen: snapped(one, chosen, rate), layer=layer)


def slope_keys(
    document: Document, clip_id: str, keys: Sequence[KeyAt], kind: Slope, *, before: float | None = None, after: float | None = None, layer: str = ""
) -> Document:
    """Slopes of keys: by itself, level, one, two; before and after (value a second) where they are set by hand."""
    return change_keys(document, clip_id, keys, lambda one, chosen: with_slopes(one, chosen, kind, before, after), layer=layer)


def run_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], run: Run, *, layer: str = "") -> Document:
    """How values run from keys to the next: smooth, straight, held."""
    return change_keys(document, clip_id, keys, lambda one, chosen: replace(one, runs=np.where(chosen, int(run), one.runs)), layer=layer)


def value_keys(document: Document, clip_id: str, keys: Sequence[KeyAt], value: float, *, layer: str = "") -> Document:
    """One value for all these keys."""
    if not np.isfinite(value):
        raise EditError("a key needs a number")
    return change_keys(document, clip_id, keys, lambda one, chosen: replace(one, values=np.where(chosen, value, one.values)), layer=layer)


def ends_of_curves(
    document: Document, clip_id: str, channels: Sequence[tuple[str, str]], *, first: Beyond | None = None, last: Beyond | None = None, layer: str = ""
) -> Document:
    """What curves do before their first and after their last key. Raises EditError where none of them is there."""

    def changed(curves: Curves) -> Curves:
        some = {ref: curves[ref] for ref in channels if ref in curves}
        if not some:
            raise EditError("none of these channels has keys")
        ends = {ref: replace(one, first=first or one.first, last=last or one.last) for ref, one in some.items()}
        return MappingProxyType({**curves, **ends})

    return _changed(document, clip_id, layer, changed)


def reduce_keys(
    document: Document, clip_id: str, tolerance: float, *, channels: Sequence[tuple[str, str]] | None = None, layer: str = ""
) -> tuple[Document, tuple[int, int]]:
    """Fewer keys, nowhere further than a tolerance (metres, radians, shares) from what was. channels : these alone.

    Returns the document, and how many keys there were and are. Raises EditError for a tolerance that is none.
    """
    if not tolerance > 0.0 or not np.isfinite(tolerance):
        raise EditError("keys are reduced within a tolerance above 0")
    count = [0, 0]

    def changed(curves: Curves) -> Curves:
        result = dict(curves)
        for ref, one in curves.items():
            if channels is None or ref in channels:
                result[ref] = reduced(one, tolerance)
                count[0] += len(one.times)
                count[1] += len(result[ref].times)
        return MappingProxyType(result)

    return _changed(document, clip_id, layer, changed), (count[0], count[1])


def between_keys(document: Document, clip_id: str, time: float, share: float, controls: Sequence[str], *, layer: str = "") -> Document:
    """A key at a time on the way from the key before (0) to the key after (1), of all keyed channels of some controls.

    Raises EditError where none of them has keys.
    """

    def changed(curves: Curves) -> Curves:
        some = {ref: one for ref, one in curves.items() if ref[0] in controls}
        if not some:
            raise EditError("these controls have no keys to stand between")
        return MappingProxyType({**curves, **{ChannelRef(*ref): one.with_key(time, between(one, time, share)) for ref, one in some.items()}})

    return _changed(document, clip_id, layer, changed)


def put_key(document: Document, clip_id: str, channel: tuple[str, str], time: float, value: float | None = None, *, layer: str = "") -> Document:
    """A key on a channel's curve; without a value it stands where the curve runs. Raises EditError where there is no curve."""

    def changed(curves: Curves) -> Curves:
        one = curves.get(channel)
        if one is None:
            raise EditError("this channel has no keys yet; set one on its control first")
        return MappingProxyType({**curves, ChannelRef(*channel): one.with_key(time, one.at(time) if value is None else value)})

    return _longer(_changed(document, clip_id, layer, changed), clip_id, layer)


def keys_in(clip: Clip, *, layer: str = "", controls: Collection[str] | None = None, first: float = -np.inf, last: float = np.inf) -> tuple[KeyAt, ...]:
    """Keys of a clip or a layer over it, of some controls, within some seconds."""
    curves = clip.curves if not layer else next((one.curves for one in clip.layers if one.id == layer), {})
    return tuple(
        KeyAt(ref[0], ref[1], float(t))
        for ref, one in curves.items()
        if controls is None or ref[0] in controls
        for t in one.times
        if first - SAME_TIME <= t <= last + SAME_TIME
    )


def _changed(document: Document, clip_id: str, layer: str, change: Callable[[Curves], Curves]) -> Document:
    return keys_of(document, clip_id, layer, lambda clip: replace(clip, curves=change(clip.curves)))


def _longer(document: Document, clip_id: str, layer: str) -> Document:
    """The clip as long as its last key."""
    clip = document.require_character().clip(clip_id)
    curves = clip.curves if not layer else next((one.curves for one in clip.layers if one.id == layer), {})
    last = max((float(one.times[-1]) for one in curves.values()), default=0.0)
    return document if last <= clip.length + SAME_TIME else with_clip(document, replace(clip, length=last))
