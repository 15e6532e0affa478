"""Clips and keys."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from math import pi

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip, moved_keys, with_keys, without_keys
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.model import Document

LENGTHS = (0.01, 3600.0)
"""Seconds a clip may last."""


def add_clip(document: Document, name: str, *, length: float = 2.0, rate: float = 30.0) -> tuple[Document, str]:
    """An empty clip. Returns the document and the clip's id."""
    character = document.require_character()
    character, (clip_id,) = fresh_ids(character, "clip", (clip.id for clip in character.clips), first=0)
    clip = Clip(clip_id, name, rate, length)
    return document.with_character(replace(character, clips=(*character.clips, clip))), clip.id


def key_controls(document: Document, clip_id: str, time: float, control_ids: tuple[str, ...]) -> Document:
    """Key all free channels of some controls at a time, with the values they have in hand; "rig": those of the rig as a whole."""
    character = document.require_character()
    if character.rig is None:
        raise EditError("keys are written on controls; build controls first")
    clip = character.clip(clip_id)
    if clip.tracks:
        raise EditError(f"{clip.name} holds sampled motion; make a new clip for keys")
    rig, pose = character.rig, character.pose if isinstance(character.pose, Pose) else Pose()
    for control_id in control_ids:
        values = {key: rig.value(pose, ChannelRef(control_id, key)) for key in free_of(rig, control_id)}
        clip = with_keys(clip, time, control_id, values)
    return with_clip(document, clip)


def free_of(rig: ControlRig, control_id: str) -> tuple[str, ...]:
    """Keys of the channels of a control that are free; "rig": of those of the rig as a whole."""
    return tuple(c.key for c in rig.board if not c.locked) if control_id == BOARD else rig.control(control_id).free


def remove_keys(
    document: Document, clip_id: str, time: float, control_ids: frozenset[str] | None = None, *, layer: str = ""
) -> Document:
    """Remove keys at a time, of a clip or of a layer over it."""
    return keys_of(document, clip_id, layer, lambda clip: without_keys(clip, time, control_ids))


def move_key(document: Document, clip_id: str, old: float, new: float, *, layer: str = "") -> Document:
    """Move all keys at one time to another, of a clip or of a layer over it."""
    return keys_of(document, clip_id, layer, lambda clip: moved_keys(clip, old, max(new, 0.0)))


def keys_of(document: Document, clip_id: str, layer_id: str, change: Callable[[Clip], Clip]) -> Document:
    """A clip's own keys changed, or those of a layer over it: `change` gets the clip with them as its curves."""
    clip = document.require_character().clip(clip_id)
    layer = next((one for one in clip.layers if one.id == layer_id), None)
    if layer is None:
        return with_clip(document, change(clip))
    changed = change(replace(clip, curves=layer.curves))
    layers = tuple(replace(layer, curves=changed.curves) if one is layer else one for one in clip.layers)
    return with_clip(document, replace(clip, layers=layers, length=changed.length))


def set_length(document: Document, clip_id: str, *, length: float | None = None, rate: float | None = None) -> Document:
    """A clip's length in seconds and frames a second. Raises EditError outside what makes sense."""
    clip = document.require_character().clip(clip_id)
    length = clip.length if length is None else length
    rate = clip.rate if rate is None else rate
    if not LENGTHS[0] <= length <= LENGTHS[1] or not 1 <= rate <= 240:
        raise EditError("a clip lasts 0.01 to 3600 s at 1 to 240 frames a second")
    return with_clip(document, replace(clip, length=length, rate=rate))


def add_trial_clip(document: Document) -> tuple[Document, str]:
    """A short clip that uses IK and FK: a weight shift with a bow and a wave. Sized to the character."""
    character = document.require_character()
    if character.rig is None:
        raise EditError("a sample clip moves controls; build controls first")
    rig, h = character.rig, character.height
    document, clip_id = add_clip(document, "greeting", length=4.0)
    clip = document.require_character().clip(clip_id)
    d = pi / 180
    script: list[tuple[str, str, list[tuple[float, float]]]] = [
        ("body", "move_y", [(0, 0), (0.8, -0.045 * h), (1.6, -0.01 * h), (3.2, -0.02 * h), (4, 0)]),
        ("body", "move_x", [(0, 0), (0.8, 0.02 * h), (1.8, -0.015 * h), (4, 0)]),
        ("spine.spine", "rotate_x", [(0, 0), (0.8, 16 * d), (1.6, 0), (4, 0)]),
        ("spine.chest", "rotate_x", [(0, 0), (0.8, 14 * d), (1.6, -4 * d), (4, 0)]),
        ("spine.head", "rotate_x", [(0, 0), (0.8, 12 * d), (1.6, -6 * d), (4, 0)]),
        ("leg.l.goal", "move_z", [(0, 0), (0.4, 0), (1.2, 0.06 * h), (3.2, 0.06 * h), (4, 0)]),
        ("leg.l.goal", "move_y", [(0, 0), (0.4, 0), (0.8, 0.035 * h), (1.2, 0), (3.2, 0), (3.6, 0.03 * h), (4, 0)]),
        ("arm.l.clavicle", "rotate_x", [(0, 0), (1.6, 4 * d), (3, 4 * d), (4, 0)]),
        ("arm.l.upper.fk", "rotate_y", [(0, 0), (1.5, -78 * d), (3, -78 * d), (4, 0)]),
        ("arm.l.lower.fk", "rotate_x", [(0, 0), (1.5, 105 * d), (1.9, 72 * d), (2.3, 105 * d), (2.7, 72 * d), (3, 95 * d), (4, 0)]),
        ("arm.r.upper.fk", "rotate_z", [(0, 0), (0.8, 14 * d), (3.2, 14 * d), (4, 0)]),
        ("arm.r.lower.fk", "rotate_x", [(0, 0), (0.8, 62 * d), (1.6, 30 * d), (3.2, 30 * d), (4, 0)]),
        ("spine.head", "rotate_z", [(0, 0), (1.6, -7 * d), (3, -7 * d), (4, 0)]),
    ]  # fmt: skip
    for control_id, channel, keys in script:
        if control_id not in rig.index:
            continue
        for time, value in keys:
            clip = with_keys(clip, time, control_id, {channel: value})
    return with_clip(document, replace(clip, length=4.0)), clip_id


def with_clip(document: Document, clip: Clip) -> Document:
    """The document with a clip in the place of the one of its id."""
    character = document.require_character()
    character.clip(clip.id)
    clips = tuple(clip if c.id == clip.id else c for c in character.clips)
    return document.with_character(replace(character, clips=clips))
