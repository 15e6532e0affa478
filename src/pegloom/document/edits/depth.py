"""Pegs and joints brought to their proper depth: shown first, then moved."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.slices import section_at
from pegloom.core.geometry.winding import winding_numbers
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.depth import DepthMove, depth_moves, limb_direction
from pegloom.core.skeleton.joint_depth import joint_depth_moves
from pegloom.core.skeleton.joints import Origin, Skeleton, other_side_name
from pegloom.core.skeleton.pegs import PegSet, move_peg
from pegloom.core.skeleton.uses import Use, bones_of
from pegloom.core.skin.bind.surface import weight_joints
from pegloom.core.skin.transfer import nearest_on
from pegloom.document.edits.joints import Surface, middle_of, pegs_of, whole_surface, with_pegs
from pegloom.document.edits.skeleton import move_joint
from pegloom.document.model import Character, Document
from pegloom.document.uses import said_of, uses_in

INSIDE = 0.5
"""Winding number from which a place is inside."""
SLIGHT_OF_SIZE, FAR_OF_SIZE = 4e-4, 0.06
"""Shares of the body's size: how far outside nobody minds, and how far a joint is moved inside at most."""


def proposed_depths(document: Document, names: tuple[str, ...] | None = None) -> tuple[DepthMove, ...]:
    """Where pegs belong in their cross-sections, for those that are not sound; nothing is moved."""
    character = document.require_character()
    return _peg_moves(whole_surface(character), pegs_of(character), names)


@of_the_latest(8)
def _peg_moves(body: Surface, pegs: PegSet, names: tuple[str, ...] | None) -> tuple[DepthMove, ...]:
    moves = depth_moves(body.points, body.triangles, replace(pegs, kits=kits_in(pegs)), names=names)
    known = {move.peg for move in moves}
    # Knuckles and collarbones have no rule of their own; but whatever a joint stands at has to lie inside.
    places, ways = {}, {}
    for kit in kits_in(pegs):
        line = np.array([pegs.position(p) for p in kit.pegs]).reshape(-1, 3)
        for at in kit.at:
            peg = kit.pegs[round(at)] if kit.pegs and abs(at - round(at)) < 1e-9 else ""
            if peg and peg not in known and (names is None or peg in names):
                places[peg], ways[peg] = np.array(pegs.position(peg)), limb_direction(line, round(at))
    return (*moves, *_outside(body, places, ways))


def _outside(body: Surface, places: Mapping[str, FloatArray], ways: Mapping[str, FloatArray]) -> tuple[DepthMove, ...]:
    """Which of some places (3,) lie outside a surface, and the middle of the cut across the way (3,) each goes there."""
    if not places:
        return ()
    names = list(places)
    at = np.array([places[n] for n in names])
    turns = np.abs(winding_numbers(at, body.points, body.triangles))
    gap = nearest_on(at, body.points, body.triangles).distance
    size = float(np.ptp(body.points, axis=0).max())
    found = []
    for name, turn, off in zip(names, turns, gap, strict=True):
        if turn >= INSIDE or off < SLIGHT_OF_SIZE * size:
            continue
        section = section_at(body.points, body.triangles, places[name], ways[name])
        if section is None or float(np.linalg.norm(section.centre - places[name])) > FAR_OF_SIZE * size:
            continue
        x, y, z = section.centre.tolist()
        why = f"{1000 * float(off):.1f} mm outside the mesh"
        found.append(DepthMove(name, (x, y, z), float(np.linalg.norm(section.centre - places[name])), why, outside=True))
    return tuple(found)


def centre_in_mesh(document: Document, names: tuple[str, ...] | None = None, *, both_sides: bool = True) -> Document:
    """Move pegs to their proper depth, as `proposed_depths` shows; sound ones stay, a limb keeps its bend.

    both_sides : the other side's go along, as `with_partners` shows; no other is moved.
    """
    character = document.require_character()
    moves = proposed_depths(document, names)
    if not moves:
        return document
    pegs, middle = pegs_of(character), middle_of(character)
    for move in with_partners(document, moves) if both_sides else moves:
        pegs = move_peg(pegs, move.peg, move.place, both_sides=False, middle=middle)
    return with_pegs(document, character, pegs)


def proposed_joint_depths(document: Document, joints: Iterable[str] | None = None) -> tuple[DepthMove, ...]:
    """Where joints no peg stands for (drawn, or from a file) belong in their cross-sections; nothing is moved.

    joints : only these. A move's `peg` is the joint's id.
    """
    character = document.require_character()
    skeleton = character.skeleton
    if skeleton is None:
        raise EditError("there are no joints yet; build joints first, or draw one")
    free = free_joints(character)
    body = whole_surface(character)
    moves = _joint_moves(body, skeleton, free if joints is None else free & frozenset(joints))
    return (*moves, *_joints_outside(character, body, {m.peg for m in moves}, joints))


def _joints_outside(
    character: Character, body: Surface, known: Collection[str], joints: Iterable[str] | None
) -> tuple[DepthMove, ...]:
    """Bones outside the mesh that no peg stands for, whatever made them: between pegs, moved by hand, from a file."""
    skeleton = character.skeleton
    assert skeleton is not None
    bones = bones_of(skeleton, said_of(character))
    holds = {bones.joints[k].id for k in weight_joints(bones)}
    at_pegs = set() if character.pegs is None else _joints_at_pegs(character.pegs)
    moved = {j for j, change in character.joint_overrides.items() if any(change.move)}
    wanted = None if joints is None else set(joints)
    places, ways = {}, {}
    for joint in bones.joints:
        skip = joint.id in known or joint.id not in holds or (joint.id in at_pegs and joint.id not in moved)
        if skip or (wanted is not None and joint.id not in wanted):
            continue
        here = np.array(joint.position)
        places[joint.id] = here
        before = here - np.array(bones.joint(joint.parent).position) if joint.parent else np.zeros(3)
        ends = [np.array(c.position) for c in bones.children(joint.id)] + ([np.array(joint.tail)] if joint.tail else [])
        line = np.array([here - before, here, *ends[:1]])
        ways[joint.id] = limb_direction(line, 1)
    return _outside(body, places, ways)


def _joints_at_pegs(pegs: PegSet) -> set[str]:
    return {
        joint for kit in kits_in(pegs) for joint, at in zip(kit.joints, kit.at, strict=True) if abs(at - round(at)) < 1e-9
    }


def with_partners(document: Document, moves: tuple[DepthMove, ...], *, joints: bool = False) -> tuple[DepthMove, ...]:
    """Moves with those of the other side that go along with them; what has a move of its own there keeps it.

    joints : they are of joints; else of pegs.
    """
    character = document.require_character()
    middle = middle_of(character)
    found = {move.peg: move for move in moves}
    for move in moves:
        if joints:
            skeleton = character.skeleton
            other = skeleton.other_side(move.peg) if skeleton is not None else None
        else:
            pegs = pegs_of(character)
            name = other_side_name(move.peg)
            other = name if name in pegs.by_name and move.peg not in pegs.apart else None
        if other is not None and other not in found:
            x, y, z = move.place
            found[other] = replace(move, peg=other, place=(2 * middle - x, y, z), why="with the other side")
    return tuple(found.values())


def free_joints(character: Character) -> frozenset[str]:
    """Joints no peg stands for and that lie in no bone: drawn, or from a file; no helpers and no ends."""
    between = {own.id for own in character.own_joints if own.between is not None}
    joints = character.skeleton.joints if character.skeleton is not None else ()
    uses = uses_in(character)
    return frozenset(
        j.id for j in joints if j.origin is not Origin.KIT and j.id not in between and uses[j.id] is Use.BONE
    )


@of_the_latest(8)
def _joint_moves(body: Surface, skeleton: Skeleton, joints: frozenset[str]) -> tuple[DepthMove, ...]:
    return joint_depth_moves(body.points, body.triangles, skeleton, joints)


def centre_joints(document: Document, joints: Iterable[str] | None = None, *, both_sides: bool = True) -> Document:
    """Move joints no peg stands for to their proper depth, alone, as `proposed_joint_depths` and `with_partners` show."""
    moves = proposed_joint_depths(document, joints)
    for move in with_partners(document, moves, joints=True) if both_sides else moves:
        document = move_joint(document, move.peg, move.place, both_sides=False)
    return document
