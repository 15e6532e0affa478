"""Pegs and joints brought to their proper depth: shown first, then moved."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.depth import DepthMove, depth_moves
from pegloom.core.skeleton.joint_depth import joint_depth_moves
from pegloom.core.skeleton.joints import Origin, Skeleton
from pegloom.core.skeleton.pegs import PegSet, move_peg
from pegloom.document.edits.joints import Surface, middle_of, pegs_of, whole_surface, with_pegs
from pegloom.document.edits.skeleton import move_joint
from pegloom.document.model import Character, Document


def proposed_depths(document: Document, names: tuple[str, ...] | None = None) -> tuple[DepthMove, ...]:
    """Where pegs belong in their cross-sections, for those that are not sound; nothing is moved."""
    character = document.require_character()
    return _peg_moves(whole_surface(character), pegs_of(character), names)


@of_the_latest(8)
def _peg_moves(body: Surface, pegs: PegSet, names: tuple[str, ...] | None) -> tuple[DepthMove, ...]:
    return depth_moves(body.points, body.triangles, replace(pegs, kits=kits_in(pegs)), names=names)


def centre_in_mesh(document: Document, names: tuple[str, ...] | None = None, *, both_sides: bool = True) -> Document:
    """Move pegs to their proper depth, as `proposed_depths` shows; sound ones stay, a limb keeps its bend."""
    character = document.require_character()
    moves = proposed_depths(document, names)
    if not moves:
        return document
    pegs, middle = pegs_of(character), middle_of(character)
    for move in moves:
        pegs = move_peg(pegs, move.peg, move.place, both_sides=both_sides, middle=middle)
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
    return _joint_moves(whole_surface(character), skeleton, free if joints is None else free & frozenset(joints))


def free_joints(character: Character) -> frozenset[str]:
    """Joints no peg stands for and that lie in no bone: drawn, or from a file."""
    between = {own.id for own in character.own_joints if own.between is not None}
    joints = character.skeleton.joints if character.skeleton is not None else ()
    return frozenset(j.id for j in joints if j.origin is not Origin.KIT and j.id not in between)


@of_the_latest(8)
def _joint_moves(body: Surface, skeleton: Skeleton, joints: frozenset[str]) -> tuple[DepthMove, ...]:
    return joint_depth_moves(body.points, body.triangles, skeleton, joints)


def centre_joints(document: Document, joints: Iterable[str] | None = None, *, both_sides: bool = True) -> Document:
    """Move joints no peg stands for to their proper depth, alone, as `proposed_joint_depths` shows."""
    moved: set[str] = set()
    for move in proposed_joint_depths(document, joints):
        skeleton = document.require_character().skeleton
        if move.peg in moved or skeleton is None:
            continue
        document = move_joint(document, move.peg, move.place, both_sides=both_sides)
        moved |= {move.peg, *([skeleton.other_side(move.peg) or ""] if both_sides else [])}
    return document
