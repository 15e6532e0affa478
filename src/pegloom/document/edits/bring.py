"""Motion brought from joints onto controls and back."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve
from pegloom.core.curves.keys import reduced
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.motion.layers import Layer, LayerMode
from pegloom.core.motion.mixing import difference
from pegloom.core.motion.onto_controls import Brought, onto_controls
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import joints_at
from pegloom.core.rig.solvers import belongs
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.baking import baked_clip
from pegloom.document.edits.layers import add_layer
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


HEARD = 4e-4
"""Radians, metres or shares below which a channel that came back counts as unchanged: files hold single precision."""


POLE_OF_SIZE = 2e-4
"""Share of the skeleton's size that joints may differ by for a pole's channels to count as saying nothing."""


def come_back(
    document: Document, clip_id: str, returned: Clip, *, name: str = "edited elsewhere", progress: Progress = silent
) -> tuple[Document, str, Brought]:
    """Motion of this clip that was edited elsewhere, sampled on these joints, as a layer that turns the clip into it; what was
    not changed is not in it. Returns the document, the layer's id, and how near the controls come.

    Raises EditError where nothing was changed, or there are no controls.
    """
    character = document.require_character()
    rig, skeleton = character.require_rig(), character.require_skeleton()
    clip = character.clip(clip_id)
    if clip.tracks:
        document, _ = to_controls(document, clip_id, progress=part_of(progress, 0.0, 0.4))
        clip = document.require_character().clip(clip_id)
    if not returned.tracks:
        raise EditError(f"{returned.name} holds no motion of joints")
    times = np.linspace(0.0, clip.length, 24)
    amounts = values_at(clip, times, rig)
    on_ik = tuple(s.id for s in rig.solvers if amounts[:, rig.slots.index[s.amount]].mean() > 0.5)
    plain = replace(returned, id=clip.id, layers=(), morphs=(), borrowed=None)
    told = onto_controls(plain, skeleton, rig, on_ik=on_ik, part_ids={}, progress=part_of(progress, 0.4, 0.9))
    above = replace(told.clip, length=clip.length)
    found = difference(clip, above, rig, LayerMode.TURN)
    # The side of a limb that does not lead stands anywhere in the clip.
    idle: set[str] = set()
    for solver in rig.solvers:
        leads = solver.id in on_ik and solver.id not in told.on_fk
        idle |= set(solver.fk) if leads else set(belongs(solver)) - set(solver.fk)
    kept = {ref: reduced(one, HEARD / 4) for ref, one in found.items() if np.abs(one.values).max() > HEARD and ref[0] not in idle}
    kept = _without_idle_poles(clip, kept, character.require_skeleton(), rig)
    if not kept:
        raise EditError(f"{returned.name} came back as it went; nothing was changed")
    document, layer_id = add_layer(document, clip_id, name)
    clip = document.require_character().clip(clip_id)
    layers = tuple(replace(one, curves=MappingProxyType(kept), mode=LayerMode.TURN) if one.id == layer_id else one for one in clip.layers)
    return with_clip(document, replace(clip, layers=layers)), layer_id, told


def _without_idle_poles(clip: Clip, kept: dict[tuple[str, str], Curve], skeleton: Skeleton, rig: ControlRig) -> dict[tuple[str, str], Curve]:
    """A pole may stand anywhere in its limb's plane: where the joints go the same way without its channels, they are left out."""
    times = np.linspace(0.0, clip.length, 40)

    def joints(curves: dict[tuple[str, str], Curve]) -> FloatArray:
        layer = Layer("came back", "", curves, mode=LayerMode.TURN)
        return joints_at(skeleton, rig, values_at(replace(clip, layers=(*clip.layers, layer)), times, rig))

    size = float(np.ptp(skeleton.positions, axis=0).max())
    wanted = joints(kept)
    for solver in rig.limbs:
        less = {ref: one for ref, one in kept.items() if ref[0] != solver.pole.id}
        if len(less) < len(kept) and np.abs(joints(less) - wanted)[..., :3, 3].max() < POLE_OF_SIZE * size:
            kept = less
    return kept


def to_joints(document: Document, clip_id: str) -> Document:
    """Make a clip of keys sampled motion of every joint, with what solvers, couplings and springs do in it; layers that
    play are in it, others are gone. Raises EditError for one that is sampled, or holds nothing."""
    character = document.require_character()
    clip = character.clip(clip_id)
    character.require_rig()
    if clip.tracks or not clip.every_curve:
        raise EditError(f"{clip.name} {'is on joints already' if clip.tracks else 'holds no motion to bake'}")
    return with_clip(document, baked_clip(character, clip))
