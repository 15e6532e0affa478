"""What a character's joints are for: what a person said, what skeleton and names tell, and what only the body can tell."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.geometry.mesh import triangulate
from pegloom.core.geometry.winding import winding_numbers
from pegloom.core.skeleton.joints import Joint, Origin
from pegloom.core.skeleton.uses import Use, uses_of
from pegloom.document.model import Character

INSIDE = 0.4
"""Winding number from which a place lies in the body, were its surface open here and there."""
BESIDE = 0.02
"""Share of the body's height within which a joint by the skin is not off it."""


def said_of(character: Character) -> Mapping[str, Use]:
    """What is known beside the skeleton itself: a person's word, and roots of their own off the body as helpers.

    To be asked together with the skeleton (core/skeleton/uses): bind, depth, snags, tree and export all do.
    """
    off = {joint.id: Use.HELPER for joint in _lone_roots(character) if _off_the_body(character, joint)}
    return {**off, **character.uses} if off else character.uses


def uses_in(character: Character) -> Mapping[str, Use]:
    """The use of every joint of a character, by id; nothing without joints."""
    return {} if character.skeleton is None else uses_of(character.skeleton, said_of(character))


def _lone_roots(character: Character) -> list[Joint]:
    """Roots a file brought that carry nothing, beside others."""
    skeleton = character.skeleton
    if skeleton is None:
        return []
    found = [
        joint
        for joint in skeleton.joints
        if joint.parent is None and joint.origin is Origin.FILE and not skeleton.children(joint.id)
    ]
    return found if len(found) < len(skeleton.joints) else []


def _off_the_body(character: Character, joint: Joint) -> bool:
    place, turns = np.array([joint.position], dtype=np.float64), 0.0
    near = BESIDE * character.height
    parts = [part for part in character.included if part.mesh.face_count]
    for part in parts:
        if (np.linalg.norm(part.mesh.points - place, axis=1) < near).any():
            return False
        turns += abs(float(winding_numbers(place, part.mesh.points, triangulate(part.mesh).vertices)[0]))
    return bool(parts) and turns < INSIDE
