"""Clips as things: named, copied, ordered, dropped, played faster or slower."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.curves import Curve
from pegloom.core.curves.keys import cut, scaled_in_time
from pegloom.core.errors import EditError
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.document.edits.ids import free_name, fresh_ids
from pegloom.document.edits.motion import LENGTHS, with_clip
from pegloom.document.model import Document


def rename_clip(document: Document, clip_id: str, name: str) -> Document:
    """Another name for a clip. Raises EditError for an empty one, or one that another clip has."""
    character = document.require_character()
    clip, wanted = character.clip(clip_id), name.strip()
    if not wanted:
        raise EditError("a clip needs a name")
    if any(one.name == wanted and one.id != clip.id for one in character.clips):
        raise EditError(f"another clip is called {wanted} already")
    return with_clip(document, replace(clip, name=wanted))


def copy_clip(document: Document, clip_id: str) -> tuple[Document, str]:
    """The clip once more, behind it, with a name of its own. Returns the document and the new clip's id."""
    character = document.require_character()
    clip = character.clip(clip_id)
    character, (made,) = fresh_ids(character, "clip", (one.id for one in character.clips), first=0)
    name = free_name(clip.name, (one.name for one in character.clips))
    at = character.clips.index(clip) + 1
    clips = (*character.clips[:at], replace(clip, id=made, name=name), *character.clips[at:])
    return document.with_character(replace(character, clips=clips)), made


def drop_clip(document: Document, clip_id: str) -> Document:
    """Take a clip away."""
    character = document.require_character()
    gone = character.clip(clip_id)
    return document.with_character(replace(character, clips=tuple(one for one in character.clips if one is not gone)))


def order_clip(document: Document, clip_id: str, place: int) -> Document:
    """Put a clip at a place in the list, 0 the first."""
    character = document.require_character()
    clip = character.clip(clip_id)
    others = [one for one in character.clips if one is not clip]
    others.insert(min(max(place, 0), len(others)), clip)
    return document.with_character(replace(character, clips=tuple(others)))


def trim_clip(document: Document, clip_id: str, first: float, last: float) -> Document:
    """Only a stretch of a clip (seconds), told from its beginning on; keys, samples and layers run as they did.

    Raises EditError for a stretch that is none, or lies outside the clip.
    """
    clip = document.require_character().clip(clip_id)
    if not (0.0 <= first < last <= clip.length + 1e-6) or last - first < LENGTHS[0]:
        raise EditError(f"{clip.name} lasts {clip.length:.2f} s; say a stretch within it")

    def every(curves: Mapping[tuple[str, str], Curve]) -> Mapping[tuple[str, str], Curve]:
        return MappingProxyType({ref: cut(one, first, last) for ref, one in curves.items()})

    def stretch(times: FloatArray) -> FloatArray:
        inside = times[(times > first + 1e-9) & (times < last - 1e-9)]
        return np.concatenate([[first], inside, [last]])

    layers = tuple(replace(layer, curves=every(layer.curves), amount=cut(layer.amount, first, last)) for layer in clip.layers)
    tracks = {}
    for joint, some in clip.tracks.items():
        told = [(track, stretch(track.times)) for track in some]
        tracks[joint] = tuple(Track(track.path, frozen(times - first), frozen(track.at_all(times)), track.step) for track, times in told)
    morphs = []
    for morph in clip.morphs:
        times = stretch(morph.times)
        weights = np.array([[w for _, _, w in morph.at(float(t))] for t in times]).reshape(len(times), len(morph.names))
        morphs.append(replace(morph, times=frozen(times - first), weights=frozen(weights)))
    trimmed = replace(clip, length=last - first, curves=every(clip.curves), layers=layers, morphs=tuple(morphs), tracks=joint_tracks(tracks) if tracks else clip.tracks)
    return with_clip(document, trimmed)


def speed_clip(document: Document, clip_id: str, factor: float) -> Document:
    """Play a clip faster (above 1) or slower: all keys and samples of it and of its layers, and its length.

    Raises EditError for a factor that is none, or that makes the clip too short or too long.
    """
    clip = document.require_character().clip(clip_id)
    if not np.isfinite(factor) or not factor > 0.0 or not LENGTHS[0] <= clip.length / factor <= LENGTHS[1]:
        raise EditError(f"a clip is played at a speed above 0, so that it lasts {LENGTHS[0]:g} to {LENGTHS[1]:g} s")

    def faster(one: Curve) -> Curve:
        return scaled_in_time(one, np.ones(len(one.times), dtype=bool), 0.0, 1.0 / factor)

    def every(curves: Mapping[tuple[str, str], Curve]) -> Mapping[tuple[str, str], Curve]:
        return MappingProxyType({ref: faster(one) for ref, one in curves.items()})

    layers = tuple(replace(layer, curves=every(layer.curves), amount=faster(layer.amount)) for layer in clip.layers)
    morphs = tuple(replace(track, times=frozen(track.times / factor)) for track in clip.morphs)
    tracks = replace(clip.tracks, times=frozen(clip.tracks.times / factor)) if clip.tracks else clip.tracks
    changed = replace(clip, length=clip.length / factor, curves=every(clip.curves), layers=layers, morphs=morphs, tracks=tracks)
    return with_clip(document, changed)
