"""Layers over a clip: made, named, ordered, weighed, keyed, mixed down."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve, curve
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.motion.layers import Layer, LayerMode, whole
from pegloom.core.motion.mixing import angles_of, flattened, layer_values
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.motion import free_of, with_clip
from pegloom.document.model import Character, Document

LEAST = 1e-3
"""An amount below this has no say, and nothing can be keyed through it."""


def add_layer(document: Document, clip_id: str, name: str = "", *, mode: LayerMode = LayerMode.TURN) -> tuple[Document, str]:
    """An empty layer over a clip. Returns the document and the layer's id. Raises EditError for sampled motion."""
    document, clip, made = _fresh(document, clip_id)
    layer = Layer(made, name.strip() or f"layer {len(clip.layers) + 1}", mode=mode)
    return with_clip(document, replace(clip, layers=(*clip.layers, layer))), made


def lay_over(document: Document, clip_id: str, values: Mapping[tuple[str, str], float]) -> tuple[Document, str]:
    """A layer that holds channels (control id, key) at values over a whole clip; the keys under it stay. Returns the
    document and the layer's id."""
    document, clip, made = _fresh(document, clip_id)
    constant: dict[tuple[str, str], Curve] = {ChannelRef(*ref): curve([0.0], [value]) for ref, value in values.items()}
    layer = Layer(made, f"layer {len(clip.layers) + 1}", MappingProxyType(constant))
    return with_clip(document, replace(clip, layers=(*clip.layers, layer))), made


def set_layer(
    document: Document, clip_id: str, layer_id: str, *, name: str | None = None, on: bool | None = None, alone: bool | None = None
) -> Document:
    """Another name for a layer, whether it plays, whether it is shown alone. Raises EditError for a name that is empty."""
    clip, layer = _found(document, clip_id, layer_id)
    if name is not None and not name.strip():
        raise EditError("a layer needs a name")
    changed = replace(
        layer, name=layer.name if name is None else name.strip(), on=layer.on if on is None else on,
        alone=layer.alone if alone is None else alone,
    )  # fmt: skip
    return _with_layer(document, clip, changed)


def switch_layer(document: Document, clip_id: str, layer_id: str, on: bool) -> Document:
    """Let a layer play, or not."""
    return set_layer(document, clip_id, layer_id, on=on)


def drop_layer(document: Document, clip_id: str, layer_id: str) -> Document:
    """Take a layer away; the clip plays as it is keyed."""
    clip, layer = _found(document, clip_id, layer_id)
    return with_clip(document, replace(clip, layers=tuple(one for one in clip.layers if one is not layer)))


def order_layer(document: Document, clip_id: str, layer_id: str, place: int) -> Document:
    """Put a layer at a place, 0 the lowest."""
    clip, layer = _found(document, clip_id, layer_id)
    others = [one for one in clip.layers if one is not layer]
    others.insert(min(max(place, 0), len(others)), layer)
    return with_clip(document, replace(clip, layers=tuple(others)))


def weigh_layer(document: Document, clip_id: str, layer_id: str, amount: float, *, time: float | None = None) -> Document:
    """A layer's amount, 0 to 1: at every time, or keyed at one (seconds)."""
    clip, layer = _found(document, clip_id, layer_id)
    if not 0.0 <= amount <= 1.0:
        raise EditError(f"a layer has a say of 0 to 1, not {amount:g}")
    weighed = curve([0.0], [amount]) if time is None else layer.amount.with_key(time, amount)
    return _with_layer(document, clip, replace(layer, amount=weighed))


def set_layer_mode(document: Document, clip_id: str, layer_id: str, mode: LayerMode) -> Document:
    """Let a layer set, add or turn; at each of its keys it shows what it showed."""
    clip, layer = _found(document, clip_id, layer_id)
    if layer.mode is mode or not layer.curves:
        return _with_layer(document, clip, replace(layer, mode=mode))
    rig = document.require_character().require_rig()
    times = np.unique(np.concatenate([c.times for c in layer.curves.values()]))
    below = replace(clip, layers=_below(clip, layer))
    low = values_at(below, times, rig)
    high = values_at(replace(below, layers=(*below.layers, replace(layer, on=True, alone=False, amount=whole()))), times, rig)
    refs = [ref for ref in layer.curves if ref in rig.slots.index]
    if layer.mode is LayerMode.TURN:
        refs += [ref for ref in angles_of(rig, refs) if ref not in refs]
    told = layer_values(rig, mode, low, high, refs)
    curves: dict[tuple[str, str], Curve] = {}
    for ref, values in told.items():
        old = layer.curves.get(ref)
        curves[ref] = curve(times, values) if old is None else replace(curve(times, values), runs=old.runs[_runs(old, times)], first=old.first, last=old.last)
    waiting = {ref: one for ref, one in layer.curves.items() if ref not in rig.slots.index}
    return _with_layer(document, clip, replace(layer, mode=mode, curves=MappingProxyType({**waiting, **curves})))


def key_layer(
    document: Document, clip_id: str, layer_id: str, time: float, control_ids: tuple[str, ...], pose: Pose
) -> Document:
    """Key all free channels of some controls in a layer at a time, so that the clip shows a pose there. What has no keys
    keeps the values of the pose in hand, as it does when the clip plays.

    Raises EditError where the layer has no say at that time, or another one above it has one on the same channels.
    """
    rig = document.require_character().require_rig()
    return key_in_layer(document, clip_id, layer_id, time, [ChannelRef(one, key) for one in control_ids for key in free_of(rig, one)], pose)


def key_in_layer(document: Document, clip_id: str, layer_id: str, time: float, channels: Sequence[tuple[str, str]], pose: Pose) -> Document:
    """As `key_layer`, of some channels."""
    character = document.require_character()
    clip, layer = _found(document, clip_id, layer_id)
    rig = character.require_rig()
    refs = list(channels)
    share = layer.amount.at(time)
    if not layer.on or share < LEAST:
        raise EditError(f"{layer.name} has no say at this frame; switch it on, or give it an amount, before it is keyed")
    _nothing_above(clip, layer, refs, rig)
    moment = np.array([float(time)])
    low = values_at(replace(clip, layers=_below(clip, layer)), moment, rig, character.pose)
    high = rig.slots.vector(pose)[None]
    told = layer_values(rig, layer.mode, low, high, refs, share)
    curves = dict(layer.curves)
    for ref, values in told.items():
        value = float(values[0])
        there = curves.get(ref)
        curves[ref] = there.with_key(time, value) if there is not None else curve([time], [value])
    return _with_layer(document, clip, replace(layer, curves=MappingProxyType(curves)))


def mix_down(document: Document, clip_id: str) -> Document:
    """The layers that play become keys of the clip itself; those that do not stay."""
    character = document.require_character()
    clip = _keyed(character, clip_id)
    if not clip.playing:
        raise EditError(f"no layer of {clip.name} plays; there is nothing to mix")
    return with_clip(document, flattened(clip, character.require_rig()))


def _nothing_above(clip: Clip, layer: Layer, refs: list[tuple[str, str]], rig: ControlRig) -> None:
    if any(one.alone for one in clip.playing) and not layer.alone:
        raise EditError(f"another layer is shown alone; {layer.name} can be keyed when it plays")
    place = clip.layers.index(layer)
    for one in clip.layers[place + 1 :]:
        shared = [ref for ref in refs if ref in one.curves]
        if one in clip.playing and shared:
            control = shared[0][0]
            name = rig.control(control).name if control in rig.index else "the rig as a whole"
            raise EditError(f"{one.name} lies above and moves {name} too; switch it off, or key that one")


def _below(clip: Clip, layer: Layer) -> tuple[Layer, ...]:
    """What plays under a layer while it is keyed."""
    return tuple(one for one in clip.playing if clip.layers.index(one) < clip.layers.index(layer))


def _runs(old: Curve, times: FloatArray) -> np.ndarray:
    return np.clip(np.searchsorted(old.times, times + 1e-9, side="right") - 1, 0, len(old.times) - 1)


def _fresh(document: Document, clip_id: str) -> tuple[Document, Clip, str]:
    character = document.require_character()
    clip = _keyed(character, clip_id)
    every = (layer.id for one in character.clips for layer in one.layers)
    character, (made,) = fresh_ids(character, "layer", every, first=0)
    return document.with_character(character), clip, made


def _keyed(character: Character, clip_id: str) -> Clip:
    clip = character.clip(clip_id)
    if clip.tracks:
        raise EditError(f"{clip.name} holds sampled motion of joints; bring it onto the controls first")
    return clip


def _found(document: Document, clip_id: str, layer_id: str) -> tuple[Clip, Layer]:
    clip = document.require_character().clip(clip_id)
    for layer in clip.layers:
        if layer.id == layer_id:
            return clip, layer
    raise EditError(f"{clip.name} has no layer {layer_id}")


def _with_layer(document: Document, clip: Clip, layer: Layer) -> Document:
    return with_clip(document, replace(clip, layers=tuple(layer if one.id == layer.id else one for one in clip.layers)))
