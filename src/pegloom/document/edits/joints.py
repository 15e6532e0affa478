"""Pegs and joints: find, place, build, move. Building again keeps what was changed by hand."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import triangulate
from pegloom.core.geometry.transforms import euler_quaternion, quaternion_product
from pegloom.core.jobs import Progress, silent
from pegloom.core.rig.limbs.human import build_human_rig
from pegloom.core.skeleton import pegs as peg_moves
from pegloom.core.skeleton.find_human import find_human_pegs
from pegloom.core.skeleton.human import build_joints as joints_of_pegs
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.skin.weights import Weights, dense, from_dense
from pegloom.document.edits.rebuild import apply_control_overrides
from pegloom.document.model import Character, Document, JointOverride, PartKind


def find_pegs(document: Document, *, fingers: int = 5, progress: Progress = silent) -> PegSet:
    """The human pattern's pegs as the mesh's own shape says. Raises EditError or FindError when it cannot."""
    character = document.require_character()
    if not 0 <= fingers <= 5:
        raise EditError(f"a hand has 0 to 5 fingers, not {fingers}")
    parts = [p for p in character.included if p.kind in (PartKind.SKIN, PartKind.CLOTH) and p.mesh.face_count]
    if not parts:
        raise EditError("no part is skin; say which part is the body, then find pegs")
    points = np.concatenate([p.mesh.points for p in parts])
    offsets = np.cumsum([0, *[p.mesh.vertex_count for p in parts]])
    triangles = np.concatenate([triangulate(p.mesh).vertices + o for p, o in zip(parts, offsets, strict=False)])
    middle = character.standing.middle if character.standing else 0.0
    return find_human_pegs(points, triangles, fingers=fingers, middle=middle, progress=progress)


def set_pegs(document: Document, pegs: PegSet) -> Document:
    """Put all pegs; joints that were built from pegs are built again."""
    return _rebuilt(document, replace(document.require_character(), pegs=pegs))


def place_peg(document: Document, name: str, position: Vector, *, both_sides: bool = True) -> Document:
    """Move one peg (and its partner); joints, controls and weights that hang on it follow."""
    character = document.require_character()
    if character.pegs is None:
        raise EditError("there are no pegs yet; find pegs first")
    middle = character.standing.middle if character.standing else 0.0
    moved = peg_moves.move_peg(character.pegs, name, position, both_sides=both_sides, middle=middle)
    return _rebuilt(document, replace(character, pegs=moved))


def build_joints(document: Document) -> Document:
    """Joints from the pegs. Weights, controls and clips of an earlier build stay; hand-made changes come again."""
    character = document.require_character()
    if character.pegs is None:
        raise EditError("there are no pegs to build joints from; find pegs first")
    return document.with_character(_with_skeleton(character, joints_of_pegs(character.pegs)))


def rename_joint(document: Document, joint_id: str, name: str) -> Document:
    """Give a joint another name. Raises EditError for an empty name or one already taken."""
    character = document.require_character()
    skeleton = _skeleton(character)
    name = name.strip()
    if not name:
        raise EditError("a joint needs a name")
    holder = skeleton.by_name(name)
    if holder is not None and holder.id != joint_id:
        raise EditError(f"another joint is called {name} already")
    return _override(document, joint_id, name=name)


def move_joint(document: Document, joint_id: str, position: Vector, *, both_sides: bool = True) -> Document:
    """Put a joint elsewhere without moving its children. Kept through rebuilds, relative to its pegs."""
    character = document.require_character()
    skeleton = _skeleton(character)
    other = skeleton.other_side(joint_id)
    targets = {joint_id: np.array(position, dtype=np.float64)}
    middle = character.standing.middle if character.standing else 0.0
    if both_sides and other is not None and other != joint_id:
        targets[other] = np.array([2 * middle - position[0], position[1], position[2]])
    for target, place in targets.items():
        base = _recipe(character).joint(target)
        inside = np.linalg.inv(base.matrix) @ np.append(place, 1.0)
        move = (float(inside[0]), float(inside[1]), float(inside[2]))
        document = _override(document, target, move=move)
    return document


def _recipe(character: Character) -> Skeleton:
    if character.pegs is not None:
        return joints_of_pegs(character.pegs)
    return _skeleton(character)


def _skeleton(character: Character) -> Skeleton:
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return character.skeleton


def _override(document: Document, joint_id: str, *, name: str | None = None, move: Vector | None = None) -> Document:
    character = document.require_character()
    if character.pegs is None:  # joints from a file have no recipe: the change is made on them
        skeleton = _skeleton(character)
        changed = []
        for joint in skeleton.joints:
            if joint.id == joint_id and name is not None:
                joint = replace(joint, name=name)
            if joint.id == joint_id and move is not None:
                x, y, z, _ = (joint.matrix @ np.append(np.array(move), 1.0)).tolist()
                joint = replace(joint, position=(x, y, z))
            changed.append(joint)
        return document.with_character(replace(character, skeleton=Skeleton(tuple(changed))))
    there = character.joint_overrides.get(joint_id, JointOverride())
    new = replace(there, name=name if name is not None else there.name, move=move if move is not None else there.move)
    overrides = MappingProxyType({**character.joint_overrides, joint_id: new})
    return _rebuilt(document, replace(character, joint_overrides=overrides))


def _rebuilt(document: Document, character: Character) -> Document:
    if character.skeleton is not None and character.pegs is not None:
        character = _with_skeleton(character, joints_of_pegs(character.pegs))
    return document.with_character(character)


def _with_skeleton(character: Character, recipe: Skeleton) -> Character:
    """Overrides on top of the recipe; weights and controls brought along."""
    joints = []
    for joint in recipe.joints:
        change = character.joint_overrides.get(joint.id)
        if change is not None:
            x, y, z, _ = (joint.matrix @ np.append(np.array(change.move), 1.0)).tolist()
            turn = quaternion_product(joint.rotation, euler_quaternion(change.turn))
            joint = replace(
                joint, name=change.name or joint.name, position=(x, y, z),
                rotation=tuple(float(v) for v in turn),  # type: ignore[arg-type]
            )  # fmt: skip
        joints.append(joint)
    skeleton = Skeleton(tuple(joints))
    old = character.skeleton
    skin = character.skin
    if skin is not None and old is not None:
        weights = {part: carry_weights(w, old, skeleton) for part, w in skin.weights.items()}
        skin = replace(skin, weights=MappingProxyType(weights))
    rig = character.rig
    if rig is not None:
        rig = apply_control_overrides(build_human_rig(skeleton, character.height), character.control_overrides)
    return replace(character, skeleton=skeleton, skin=skin, rig=rig)


def carry_weights(weights: Weights, old: Skeleton, new: Skeleton) -> Weights:
    """Weights on a changed skeleton: what a removed joint held goes to its nearest remaining parent."""
    if all(joint in new.index for joint in weights.joint_ids):
        return weights
    kept = [j for j in weights.joint_ids if j in new.index]
    values = dense(weights)
    result = {joint: values[:, weights.joint_ids.index(joint)].copy() for joint in kept}
    for column, joint in enumerate(weights.joint_ids):
        if joint in new.index:
            continue
        heir = old.joint(joint).parent
        while heir is not None and heir not in new.index:
            heir = old.joint(heir).parent
        heir = heir or new.joints[0].id
        result[heir] = result.get(heir, np.zeros(len(values))) + values[:, column]
    return from_dense(np.stack(list(result.values()), axis=1), list(result))
