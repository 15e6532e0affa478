"""Layers mixed down into keys, and the layer that lies between two motions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve, Run, curve
from pegloom.core.curves.keys import reduced
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.motion.layers import LayerMode, added_turn, longer
from pegloom.core.rig.channels import ROTATE
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.refs import ChannelRef

HEARD = 0.05
"""The least amount at which what a layer shows tells what it holds."""
EXACT = 1e-6
"""What a channel of a mixed clip may differ from what played, in its own unit."""


def moments_of(clip: Clip, curves: tuple[Curve, ...]) -> FloatArray:
    """Times (k,) seconds, rising: a clip's frames, and the keys of some curves."""
    frames = np.arange(int(np.floor(clip.length * clip.rate + 1e-6)) + 1) / clip.rate
    keys = np.concatenate([np.zeros(0), *(c.times for c in curves)])
    apart = np.abs(keys[:, None] - frames[None]).min(axis=1) > 1e-6 if len(keys) else np.zeros(0, dtype=bool)
    return np.unique(np.concatenate([frames, keys[apart]]))


def flattened(clip: Clip, rig: ControlRig) -> Clip:
    """The clip with its layers mixed into its own keys; channels no layer touches keep theirs, others are keyed at frames
    as far as they need it. Layers that do not play stay, and so do those others while one is shown alone."""
    over = clip.playing
    touched = {ref for layer in over for ref in layer.curves if ref in rig.slots.index}
    for layer in over:
        if layer.mode is LayerMode.TURN:
            # Turns that follow each other move all three angles.
            touched |= set(angles_of(rig, layer.curves))
    if not touched:
        return replace(clip, layers=tuple(one for one in clip.layers if one not in over))
    times = moments_of(clip, clip.every_curve)
    values = values_at(clip, times, rig)
    curves: dict[tuple[str, str], Curve] = dict(clip.own)
    jumping = {ref for layer in over for ref, one in layer.curves.items() if (one.runs == Run.STEP).any()}
    for ref in touched:
        own = clip.own.get(ref)
        step = ref in jumping or (own is not None and bool((own.runs == Run.STEP).any()))
        curves[ChannelRef(*ref)] = _told(times, values[:, rig.slots.index[ref]], step=step)
    return replace(clip, curves=MappingProxyType(curves), layers=tuple(one for one in clip.layers if one not in over))


def difference(
    below: Clip, above: Clip, rig: ControlRig, mode: LayerMode, chosen: frozenset[tuple[str, str]] | None = None, amount: Curve | None = None
) -> Mapping[tuple[str, str], Curve]:
    """Curves of the layer that, laid over `below` by an amount (None: all of it), shows `above`.

    chosen : channels it may hold, and what turns with them. Where the amount is below HEARD it tells nothing of the
    layer, and its values run on from those beside.
    """
    times = moments_of(above, (*below.every_curve, *above.every_curve))
    share = np.ones(len(times)) if amount is None else amount.at_all(times)
    if (share >= HEARD).any():
        times, share = times[share >= HEARD], share[share >= HEARD]
    share = np.maximum(share, HEARD)[:, None]
    low, high = values_at(below, times, rig), values_at(above, times, rig)
    wanted = [ref for ref in rig.slots.index if chosen is None or ref in chosen]
    moved = {ref for ref in wanted if np.abs(high[:, rig.slots.index[ref]] - low[:, rig.slots.index[ref]]).max() > EXACT}
    told = layer_values(rig, mode, low, high, wanted, share)
    flat = {ref for ref, values in told.items() if np.abs(values).max() <= EXACT}
    kept = (ref for ref in told if (ref in (chosen or moved) if mode is LayerMode.SET else ref not in flat))
    return MappingProxyType({ref: _told(times, told[ref]) for ref in kept})


def layer_values(
    rig: ControlRig, mode: LayerMode, low: FloatArray, high: FloatArray, refs: list[tuple[str, str]], share: FloatArray | float = 1.0
) -> dict[tuple[str, str], FloatArray]:
    """What a layer of a mode holds (k,) by channel, so that by its share (k, 1) values `low` (k, v) under it come to `high` (k, v).

    TURN also tells the other angles of the controls that turn.
    """
    more = (high - low) / share
    if mode is LayerMode.SET:
        more += low
    elif mode is LayerMode.TURN:
        refs = [*refs, *(ref for ref in angles_of(rig, refs) if ref not in refs)]
        for control in dict.fromkeys(control for control, key in refs if key in ROTATE):
            slots = [rig.slots.index.get((control, key), -1) for key in ROTATE]
            if min(slots) >= 0:
                more[:, slots] = longer(added_turn(low[:, slots], high[:, slots]), 1.0 / share)
    return {ref: more[:, rig.slots.index[ref]] for ref in refs}


def angles_of(rig: ControlRig, refs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
    """All three angles of every control that some channels turn."""
    controls = dict.fromkeys(control for control, key in refs if key in ROTATE)
    return [ref for control in controls for key in ROTATE if (ref := ChannelRef(control, key)) in rig.slots.index]


def _told(times: FloatArray, values: FloatArray, *, step: bool = False) -> Curve:
    """Keys for values (k,) at times (k,), no more than they need."""
    if step:
        changes = np.flatnonzero(np.concatenate([[True], np.diff(values) != 0]))
        return curve(times[changes], values[changes], Run.STEP)
    return reduced(curve(times, values, Run.LINEAR), EXACT)
