"""A new rest: any pose settled into points and joints, everything below kept."""

from __future__ import annotations

from dataclasses import replace
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError, ShapeError
from pegloom.core.geometry.mesh import Mesh, with_points
from pegloom.core.geometry.transforms import matrix_quaternion, rotation_matrix, transform_points
from pegloom.core.motion.retell import carried_clip, carried_pose, controls_of_joints, reposed, reposed_clip
from pegloom.core.motion.stances import a_pose, t_pose
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.pose import JointPose, Pose, Shown
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.weights import Packed, packed
from pegloom.document.baking import baked_clip
from pegloom.document.edits.joints import joint_for_peg
from pegloom.document.edits.rebuild import controls_after, rebuilt
from pegloom.document.edits.skeleton import placed
from pegloom.document.evaluate import part_points
from pegloom.document.model import Character, Document, Part


def set_rest(document: Document, pose: Shown | None = None) -> Document:
    """Make a pose (the one in hand) the rest.

    Points, pegs and joints are settled as posed; weights stay; controls read zero there; clips show the same motion
    as before. Raises EditError without joints.
    """
    character = document.require_character()
    old = character.skeleton
    if old is None:
        raise EditError("there are no joints yet; build joints first")
    pose = character.pose if pose is None else pose
    old_rig = character.rig
    worlds = evaluate_rig(old, old_rig, pose).joints
    matrices = skin_matrices(old, worlds)
    parts = tuple(_settled(character, part, matrices) for part in character.parts)
    clean = {}
    for i, joint in enumerate(old.joints):
        matrix = worlds[i].copy()
        matrix[:3, :3] = rotation_matrix(matrix_quaternion(worlds[i]))
        clean[joint.id] = matrix
    changed = replace(character, parts=parts, pegs=_moved_pegs(character, matrices))
    tails = {
        joint.id: transform_points(matrices[i], np.array(joint.tail))
        for i, joint in enumerate(old.joints)
        if joint.tail is not None
    }
    # The recipe follows its pegs; what it cannot say (a twist) becomes a change on top.
    changed = placed(changed, clean, tails=tails)
    clips, rig = changed.clips, changed.rig
    changed = rebuilt(replace(changed, clips=(), rig=None, skin=changed.skin))
    new = changed.skeleton
    assert new is not None
    changed = replace(changed, clips=tuple(carried_clip(clip, old, new, settled=matrices) for clip in clips))
    # A trial told by joints is a motion of the body like a clip of one moment.
    trials = [
        replace(t, pose=carried_pose(t.pose, old, new, settled=matrices)) if isinstance(t.pose, JointPose) else t
        for t in character.trials
    ]
    if rig is not None and old_rig is not None:
        new_rig = controls_after(changed, old_rig, old)
        # A rest given by joints (T, A) is told in controls first.
        rest = controls_of_joints(pose, old, old_rig) if isinstance(pose, JointPose) else pose
        retold_clips = tuple(reposed_clip(c, old, old_rig, new, new_rig, rest) for c in changed.clips)
        trials = [
            replace(t, pose=reposed(t.pose, old, old_rig, new, new_rig, rest)) if isinstance(t.pose, Pose) else t
            for t in trials
        ]
        changed = replace(changed, rig=new_rig, clips=retold_clips)
    changed = replace(changed, trials=tuple(trials))
    return document.with_character(replace(changed, pose=Pose()))


def _settled(character: Character, part: Part, matrices: FloatArray) -> Part:
    weights = character.skin.weights.get(part.id) if character.skin else None
    if weights is None or character.skeleton is None:
        return part
    columns = np.array([character.skeleton.index[j] for j in weights.joint_ids])
    rows = packed(weights)
    chosen = matrices[columns]
    points = part_points(character, part, matrices)
    linear = chosen.copy()
    linear[:, :3, 3] = 0.0
    normals = None
    if part.mesh.normals is not None:
        corners = Packed(rows.indices[part.mesh.corners], rows.values[part.mesh.corners])
        normals = skin_linear(part.mesh.normals, corners, linear)
        normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-12)
        normals.setflags(write=False)
    mesh: Mesh = with_points(part.mesh, points, normals=normals)
    morphs = tuple(replace(m, deltas=_frozen(skin_linear(m.deltas, rows, linear))) for m in part.morphs)
    return replace(part, mesh=mesh, morphs=morphs)


def _frozen(a: FloatArray) -> FloatArray:
    a.setflags(write=False)
    return a


def _moved_pegs(character: Character, matrices: FloatArray) -> PegSet | None:
    pegs, skeleton = character.pegs, character.skeleton
    if pegs is None or skeleton is None:
        return pegs
    owner: dict[str, str] = {}
    for kit in kits_in(pegs):
        for at, name in enumerate(kit.pegs):
            before = [j for j, place in zip(kit.joints, kit.at, strict=True) if place <= at + 1e-9]
            exact = joint_for_peg(character, name)
            holder = exact.id if exact is not None else (before[-1] if before else kit.attach)
            if holder in skeleton.index and (name not in owner or exact is not None):
                owner[name] = holder
    moved = []
    for peg in pegs.pegs:
        if peg.name in owner:
            place = transform_points(matrices[skeleton.index[owner[peg.name]]], np.array(peg.position))
            peg = replace(peg, position=(float(place[0]), float(place[1]), float(place[2])))
        moved.append(peg)
    return replace(pegs, pegs=tuple(moved))


def rest_in_t(document: Document) -> Document:
    """Make the T-pose the rest: arms straight out to the sides."""
    skeleton = document.require_character().skeleton
    if skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return set_rest(document, t_pose(skeleton))


def rest_in_a(document: Document) -> Document:
    """Make the A-pose the rest: arms straight, 45 degrees down."""
    skeleton = document.require_character().skeleton
    if skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return set_rest(document, a_pose(skeleton))


class DeliveredRest(Enum):
    """The rest a character is handed over in, whatever it is worked on in."""

    AS_IT_STANDS = "as it stands"
    T_POSE = "T-pose"
    A_POSE = "A-pose"
    IN_HAND = "the current pose"


def delivered_together(document: Document, rest: DeliveredRest) -> tuple[Document, list[str]]:
    """`delivered` for all characters of a document; those that cannot rest so stay as they stand. Returns it and a line for each of those."""
    notes = []
    for number, one in enumerate(document.characters):
        try:
            changed = delivered(replace(document, active=number), rest)
        except (EditError, ShapeError) as error:
            notes.append(f"{one.name} is delivered as it stands ({error})")
            continue
        document = replace(changed, active=document.active)
    return document, notes


def delivered(document: Document, rest: DeliveredRest) -> Document:
    """The document as it is handed over in a rest; clips are told in joints first, so that their motion stays.

    Raises EditError without joints, or for T and A without two arms.
    """
    character = document.require_character()
    if rest is DeliveredRest.AS_IT_STANDS:
        return document
    skeleton = character.require_skeleton()
    # What cannot be done is told before the long part of it.
    if rest in (DeliveredRest.T_POSE, DeliveredRest.A_POSE):
        (t_pose if rest is DeliveredRest.T_POSE else a_pose)(skeleton)
    clips = tuple(baked_clip(character, clip) for clip in character.clips)
    document = document.with_character(replace(character, clips=clips))
    if rest is DeliveredRest.T_POSE:
        return rest_in_t(document)
    return rest_in_a(document) if rest is DeliveredRest.A_POSE else set_rest(document)
