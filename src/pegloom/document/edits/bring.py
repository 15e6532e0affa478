"""Motion brought from joints onto controls and back."""

from __future__ import annotations

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, silent
from pegloom.core.motion.onto_controls import Brought, onto_controls
from pegloom.document.baking import baked_clip
from pegloom.document.edits.motion import with_clip
from pegloom.document.model import Document


def to_controls(
    document: Document, clip_id: str, *, on_ik: tuple[str, ...] | None = None, progress: Progress = silent
) -> tuple[Document, Brought]:
    """Make sampled motion of joints keys of the controls, at the clip's frames; see `onto_controls`. Returns the document
    and how near it comes. on_ik : ids of the limbs whose goals lead, the others on FK; None: as the rig rests.

    Raises EditError for a clip of keys, or where there are no controls.
    """
    character = document.require_character()
    clip, rig = character.clip(clip_id), character.require_rig()
    if not clip.tracks:
        raise EditError(f"{clip.name} is on controls already")
    unknown = sorted(set(on_ik or ()) - {s.id for s in rig.solvers})
    if unknown:
        raise EditError(f"there is no IK limb {unknown[0]}")
    part_ids = {part.name: part.id for part in character.parts}
    told = onto_controls(clip, character.require_skeleton(), rig, on_ik=on_ik, part_ids=part_ids, progress=progress)
    return with_clip(document, told.clip), told


def to_joints(document: Document, clip_id: str) -> Document:
    """Make a clip of keys sampled motion of every joint, with what solvers, couplings and springs do in it; layers that
    play are in it, others are gone. Raises EditError for one that is sampled, or holds nothing."""
    character = document.require_character()
    clip = character.clip(clip_id)
    character.require_rig()
    if clip.tracks or not clip.every_curve:
        raise EditError(f"{clip.name} {'is on joints already' if clip.tracks else 'holds no motion to bake'}")
    return with_clip(document, baked_clip(character, clip))
