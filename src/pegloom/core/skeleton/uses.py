"""What each joint of a foreign skeleton is for: a bone that skin follows, a helper, the end of its parent's bone.

Told by place first: a joint that stands at another chain's joint, hung on something that chain hangs on (a target on
the spine, standing at the wrist; a foot's under the root), is no bone of its parent. Then by name: what steers or marks
a place says so. Everything that works on bones (bind, trials, depth, snags) asks here, and a person has the last word.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping
from dataclasses import replace
from enum import Enum

import numpy as np

from pegloom.core.memo import by_identity
from pegloom.core.skeleton.joints import Joint, JointKind, Origin, Skeleton
from pegloom.core.skeleton.names import words_of


class Use(Enum):
    BONE = "bone"
    HELPER = "helper"
    """Steers others or marks a place; no skin follows it."""
    END = "end"
    """Says where its parent's bone ends, and is none itself."""


class HandedJoints(Enum):
    """Which joints a file that is handed over gets."""

    ALL = "all"
    WITHOUT_HELPERS = "without helpers"
    BONES = "bones alone"


AT = 0.006
"""Share of the skeleton's size within which two joints stand at one place."""
STEERS = frozenset({"ik", "effector", "locator", "pole", "ctrl", "control", "controller", "goal", "target", "aim"})
"""Words of a joint that steers others or marks a place, whatever else its name says."""
MARKS = frozenset({"tag", "socket", "attach", "attachment", "mount"})
"""Words that say so beside the name of the joint above (head, tag_head) or of what is held there."""
HELD = frozenset({"weapon", "item", "prop", "tool", "camera", "l", "r", "left", "right"})
SAY_NOTHING = frozenset({"", "b", "c", "j", "jnt", "joint", "bone", "node", "scene", "main", "rig", "skeleton"})
"""Words that may stand beside them; a tail_root is a tail's, and holds its skin."""
ENDS = frozenset({"end", "nub", "null"})
"""Words of a joint that only says where its parent ends."""
SHARED = 0.8
"""Share of the joints whose names hold a word for it to be the character's own."""


def words(name: str) -> set[str]:
    """A name's words, taken apart at capitals, too."""
    return {word for word in words_of(name).split() if not word.isdigit()}


def shared_words(skeleton: Skeleton) -> set[str]:
    """Words that nearly all names share: they are the character's, and say nothing."""
    counts = Counter(word for joint in skeleton.joints for word in words(joint.name))
    return {word for word, count in counts.items() if count > SHARED * len(skeleton.joints)}


@by_identity
def told_uses(skeleton: Skeleton) -> Mapping[str, Use]:
    """The use of every joint by id, as place and name tell it. A joint built here is a bone."""
    shared = shared_words(skeleton)
    size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-12) if skeleton.joints else 1.0
    uses: dict[str, Use] = {}
    for joint in reversed(skeleton.joints):
        below = skeleton.children(joint.id)
        use = Use.HELPER if joint.kind is JointKind.HALFWAY else Use.BONE
        if joint.origin is not Origin.KIT and not joint.aside:
            holds = [c for c in below if uses[c.id] is Use.BONE]
            own = words(joint.name) - shared
            if not holds and joint.parent is not None:
                use = _of_an_end(skeleton, joint, own, size)
            elif not holds and (own & STEERS or _stands_at_anothers(skeleton, joint, size)):
                use = Use.HELPER
        uses[joint.id] = use
    # At least one joint holds the skin, whatever they are called.
    return uses if any(use is Use.BONE for use in uses.values()) else dict.fromkeys(uses, Use.BONE)


def _of_an_end(skeleton: Skeleton, joint: Joint, own: set[str], size: float) -> Use:
    """The use of a joint with no bones below it, which hangs on another."""
    parent = skeleton.joint(joint.parent or "")
    known = MARKS | HELD | SAY_NOTHING | words(parent.name)
    if _stands_at_anothers(skeleton, joint, size):
        return Use.HELPER
    if own & STEERS or (own & MARKS and own <= known):
        return Use.HELPER
    return Use.END if own & ENDS else Use.BONE


def _stands_at_anothers(skeleton: Skeleton, joint: Joint, size: float) -> bool:
    """Whether a joint stands where a joint of another chain does that comes of the same ancestor by more bones."""
    here = skeleton.positions[skeleton.index[joint.id]]
    near = np.flatnonzero(np.linalg.norm(skeleton.positions - here, axis=1) < AT * size)
    if len(near) < 2:
        return False
    above = _up(skeleton, joint)
    for k in near.tolist():
        other = skeleton.joints[k]
        if other.id == joint.id or other.id in above or joint.id in _up(skeleton, other):
            continue
        line = _up(skeleton, other)
        if joint.parent is None:
            # A root of its own at a joint of the body.
            if other.parent is not None and not skeleton.children(joint.id):
                return True
            continue
        # The other's way from what both hang on has bones between; this one's has none.
        if joint.parent in line and line.index(joint.parent) >= 1:
            return True
    return False


def _up(skeleton: Skeleton, joint: Joint) -> list[str]:
    """Ids of all that a joint hangs on, the nearest first."""
    found = []
    above = joint.parent
    while above is not None:
        found.append(above)
        above = skeleton.joint(above).parent
    return found


def uses_of(skeleton: Skeleton, said: Mapping[str, Use]) -> Mapping[str, Use]:
    """The use of every joint: what a person `said`, else what is told."""
    told = told_uses(skeleton)
    return {**told, **{j: use for j, use in said.items() if j in told}} if said else told


def bones_of(skeleton: Skeleton, said: Mapping[str, Use], *, keep: Collection[str] = ()) -> Skeleton:
    """The skeleton of bones alone: without helpers, and ends told as the tails of what they end.

    keep : ids that stay whatever they are. What hangs on one that goes hangs on what it hung on.
    """
    uses = uses_of(skeleton, said)
    gone = {j for j, use in uses.items() if use is not Use.BONE and j not in keep}
    if not gone:
        return skeleton
    ends = {j.parent: j.position for j in skeleton.joints if j.id in gone and uses[j.id] is Use.END}
    result = []
    for joint in skeleton.joints:
        if joint.id in gone:
            continue
        parent = joint.parent
        while parent is not None and parent in gone:
            parent = skeleton.joint(parent).parent
        alone = not any(c.id not in gone for c in skeleton.children(joint.id))
        tail = ends[joint.id] if joint.id in ends and joint.tail is None and alone else joint.tail
        result.append(replace(joint, parent=parent, tail=tail))
    return Skeleton(tuple(result)) if result else skeleton


def not_handed_over(
    skeleton: Skeleton, said: Mapping[str, Use], which: HandedJoints, held: Collection[str] = ()
) -> tuple[str, ...]:
    """Ids of the joints that stay behind where only some are handed over, in the skeleton's order.

    held : ids of joints that skin follows: they go, whatever they are, and so does all they hang on.
    """
    uses = uses_of(skeleton, said)
    stays = {HandedJoints.ALL: set(), HandedJoints.WITHOUT_HELPERS: {Use.HELPER}, HandedJoints.BONES: {Use.HELPER, Use.END}}
    wanted = {j.id for j in skeleton.joints if uses[j.id] not in stays[which] or j.id in held}
    for joint in reversed(skeleton.joints):
        if joint.id in wanted and joint.parent is not None:
            wanted.add(joint.parent)
    return tuple(j.id for j in skeleton.joints if j.id not in wanted)
