"""Clips taken from the shelf, and clips put after one another."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.joined import joined, tracks_of
from pegloom.core.motion.origin import ClipOrigin
from pegloom.core.motion.retarget import Source, pair, sign_of, stood
from pegloom.core.motion.retarget.carrying import path_of, retarget
from pegloom.core.motion.retarget.chains import parts_of
from pegloom.core.motion.retarget.mirror import mirrored
from pegloom.core.motion.retell import posed_at
from pegloom.core.motion.shelf.card import ClipCard
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.baking import baked_clip
from pegloom.document.edits.borrow import Lent, add_sources, borrow, flesh_here, known_pairing, soles_here
from pegloom.document.edits.clips import speed_clip
from pegloom.document.edits.ids import free_name, fresh_ids
from pegloom.document.edits.motion import with_clip
from pegloom.document.model import Character, Document

SAME = 1e-4
"""Share of the size that two joints of one body differ at most."""


def take_clip(
    document: Document, card: ClipCard, source: Source, *, options: CarryOptions | None = None, speed: float = 1.0, controls: bool = False,
    on_ik: tuple[str, ...] | None = None, progress: Progress = silent,
) -> tuple[Document, Lent]:  # fmt: skip
    """Carry a clip of the shelf over to the character, with what the shelf says of it.

    speed : how many times as fast. Raises EditError where nothing of it goes with this body.
    """
    character = document.require_character()
    held = next((s for s in character.sources if s.name == source.name and s.origin == source.origin and sign_of(s.skeleton) == sign_of(source.skeleton)), None)
    if held is not None:
        source_id = held.id
    else:
        document, (source_id,) = add_sources(document, [source])
    options = _on(character, source, replace(options or CarryOptions(), at_zero=not card.own))
    document, lent = borrow(document, source_id, options=options, controls=controls, on_ik=on_ik, progress=part_of(progress, 0.0, 0.95))
    clip = document.require_character().clip(lent.clip)
    document = with_clip(document, replace(clip, origin=ClipOrigin(card.origin, card.licence, card.may_deliver, card.id, card.partner)))
    if speed != 1.0:
        document = speed_clip(document, lent.clip, speed)
    return document, lent


def looked_at(character: Character, source: Source, *, options: CarryOptions | None = None) -> Clip:
    """A clip of the shelf as this character would play it, on the joints; nothing is kept. Raises EditError as `take_clip`."""
    skeleton, rig = character.require_skeleton(), character.rig
    found = known_pairing(character, source) or pair(stood(source).skeleton, skeleton, own=source.skeleton, name=source.name)
    done = retarget(
        source, skeleton, found, options=_on(character, source, options or CarryOptions(at_zero=True)), soles=soles_here(character), flesh=flesh_here(character),
        limits=rig.limits if rig is not None else (),
    )  # fmt: skip
    return done.clip


def _on(character: Character, source: Source, options: CarryOptions) -> CarryOptions:
    """Motion of the very body needs no planting."""
    return replace(options, plant=False, touch=False) if same_body(source.skeleton, character.require_skeleton()) else options


def same_body(one: Skeleton, other: Skeleton) -> bool:
    """Whether two skeletons have the same joints by name at the same places: motion of the one needs nothing to be the other's."""
    theirs = {joint.name: joint.position for joint in other.joints}
    if len(one.joints) != len(theirs) or any(joint.name not in theirs for joint in one.joints):
        return False
    gaps = [np.abs(np.array(joint.position) - theirs[joint.name]).max() for joint in one.joints]
    return float(max(gaps, default=0.0)) < SAME * max(float(np.ptp(other.positions, axis=0).max()), 1e-9)


def mirror_clip(document: Document, clip_id: str) -> tuple[Document, str]:
    """Another clip, of joints, whose sides are exchanged. Returns the document and the new clip's id."""
    character = document.require_character()
    clip = character.clip(clip_id)
    told = baked_clip(character, clip)
    if not told.tracks:
        raise EditError(f"{clip.name} moves nothing; there is nothing to mirror")
    other = mirrored(character.require_skeleton(), told)
    return _added(document, replace(other, borrowed=None, gait=None, origin=clip.origin), f"{clip.name}, other side")


def stay_clip(document: Document, clip_id: str) -> tuple[Document, str]:
    """Another clip, of joints, that stays in place: its way over the ground is taken out, its sway is not. Returns the document and
    the new clip's id."""
    character = document.require_character()
    clip, skeleton = character.clip(clip_id), character.require_skeleton()
    told = baked_clip(character, clip)
    if not told.tracks:
        raise EditError(f"{clip.name} moves nothing; it stays in place already")
    trunk = parts_of(skeleton).get("trunk")
    base = skeleton.index[trunk[0]] if trunk else 0
    times = np.arange(round(clip.length * clip.rate) + 1) / clip.rate
    worlds = posed_at(told, skeleton, times)
    worlds[:, :, :3, 3] -= path_of(worlds[:, base, :3, 3], times)[:, None]
    stayed = replace(told, tracks=tracks_of(skeleton, worlds, times, base), borrowed=None, gait=None, layers=(), origin=clip.origin)
    return _added(document, stayed, f"{clip.name}, in place")


def join_clips(document: Document, first_id: str, second_id: str, *, seconds: float = 0.3) -> tuple[Document, str]:
    """Another clip, of joints: one, and then another that goes on from where it has come to, flowing into each other over
    some seconds. Returns the document and the new clip's id. Raises EditError where one of them moves nothing."""
    character = document.require_character()
    skeleton = character.require_skeleton()
    told = [baked_clip(character, character.clip(i)) for i in (first_id, second_id)]
    for clip in told:
        if not clip.tracks:
            raise EditError(f"{clip.name} moves nothing; there is nothing to join")
    trunk = parts_of(skeleton).get("trunk")
    one = joined(told[0], told[1], skeleton, skeleton.index[trunk[0]] if trunk else 0, seconds)
    origins = [c.origin for c in told if c.origin is not None]
    kept = next((o for o in origins if not o.may_deliver), origins[0] if origins else None)
    return _added(document, replace(one, origin=replace(kept, shelf="", partner="") if kept is not None else None), one.name)


def _added(document: Document, clip: Clip, name: str) -> tuple[Document, str]:
    character = document.require_character()
    character, (made,) = fresh_ids(character, "clip", (c.id for c in character.clips), first=0)
    title = free_name(name, (c.name for c in character.clips))
    return document.with_character(replace(character, clips=(*character.clips, replace(clip, id=made, name=title)))), made
