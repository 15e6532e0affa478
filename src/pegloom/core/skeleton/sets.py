"""Which joints a receiver gets, and what carries the skin and motion of those it does not get."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from enum import Enum

from pegloom.core.skeleton.joints import JointKind, Skeleton
from pegloom.core.skeleton.uses import Use, words


class JointGroup(Enum):
    """Joints that some receivers do without."""

    ENDS = "end markers"
    HELPERS = "helpers"
    TWIST = "twist joints"
    FACE = "face joints"


FACE_WORDS = frozenset({
    "jaw", "eye", "eyeball", "pupil", "eyelid", "lid", "brow", "eyebrow", "lip", "lips", "mouth", "cheek", "tongue", "teeth", "nose", "nostril",
    "squint", "sneer", "face",
})  # fmt: skip
"""Words that say a joint moves a face."""


def in_group(skeleton: Skeleton, uses: Mapping[str, Use], group: JointGroup) -> frozenset[str]:
    """Ids of the joints of a group. uses : of every joint, see `uses_of`."""
    if group is JointGroup.TWIST:
        return frozenset(j.id for j in skeleton.joints if j.kind is JointKind.TWIST or {"twist", "roll"} & words(j.name))
    if group is JointGroup.FACE:
        # A whole face hangs together: what hangs on a joint of the face is the face's.
        found: set[str] = set()
        for joint in skeleton.joints:
            if joint.parent in found or words(joint.name) & FACE_WORDS:
                found.add(joint.id)
        return frozenset(found)
    wanted = Use.END if group is JointGroup.ENDS else Use.HELPER
    return frozenset(j for j, use in uses.items() if use is wanted)


def carriers(skeleton: Skeleton, gone: Collection[str]) -> dict[str, str]:
    """What carries each joint that goes: the nearest one above it that stays, by id.

    A joint with nothing above it that stays has no carrier and has to stay itself; it is not in the result.
    """
    found: dict[str, str] = {}
    for joint in skeleton.joints:
        if joint.id in gone and joint.parent is not None:
            above = found.get(joint.parent, joint.parent)
            if above not in gone or above not in found:
                found[joint.id] = above
    return found
