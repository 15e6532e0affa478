"""Twist spread over the twist joints a skeleton has, from a kit or from a file."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.geometry.transforms import normalised
from pegloom.core.rig.recipe.builder import Builder
from pegloom.core.rig.recipe.choices import USUAL_KIT, KitRig
from pegloom.core.rig.refs import joint_node
from pegloom.core.rig.twists import TwistSpread
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, twist_joints
from pegloom.core.skeleton.kits import Kit


def add_twists(b: Builder, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig]) -> None:
    """A spread for each bone with twist joints along it, unless its kit goes without."""
    firsts = {kit.ik[0] for kit in kits if len(kit.ik) == 3}
    kit_of = {joint: kit.id for kit in kits for joint in (*kit.joints, *kit.ik)}
    taken = {d.joint for d in b.drives} | {j for s in b.solvers for j in s.joints}
    for joint in b.skeleton.joints:
        along = [t for t in twist_joints(b.skeleton, joint.id) if t.id not in taken]
        if not along or not recipe.get(kit_of.get(joint.id, ""), USUAL_KIT).twist:
            continue
        found = spread_along(b.skeleton, joint, tuple(along), turns_itself=joint.id in firsts)
        if found is not None:
            b.twists.append(found)


def spread_along(skeleton: Skeleton, joint: Joint, along: tuple[Joint, ...], *, turns_itself: bool) -> TwistSpread | None:
    """How the twist of a joint's bone is spread over the joints along it; None where the bone leads nowhere.

    turns_itself : what twists is the joint in what it hangs on (an upper arm, a thigh), and its twist joints turn back;
        else it is the joint at the bone's end (a hand in the forearm, a head in the neck), and they turn along.
    """
    ends = [c for c in skeleton.children(joint.id) if not c.aside and not c.floating]
    if not ends or (turns_itself and joint.parent is None):
        return None
    start = np.array(joint.position)
    # The bone leads to what lies farthest along its twist joints.
    way = np.mean([np.array(t.tail or t.position) for t in along], axis=0) - start
    end = max(ends, key=lambda c: float((np.array(c.position) - start) @ way))
    bone = np.array(end.position) - start
    length = float(np.linalg.norm(bone))
    if length < 1e-9:
        return None
    places = [float((np.array(t.position) - start) @ bone) / length**2 for t in along]
    if all(t.origin is Origin.KIT for t in along):
        places = [(k + 1) / (len(along) + 1) for k in range(len(along))]
    of = joint if turns_itself else end
    shares = tuple(float(np.clip(p, 0.0, 1.0)) - (1.0 if turns_itself else 0.0) for p in places)
    against = joint.parent if turns_itself else joint.id
    assert against is not None
    x, y, z = (of.matrix[:3, :3].T @ normalised(bone)).tolist()
    return TwistSpread(
        f"{joint.id}.twist", joint_node(of.id), joint_node(against), (x, y, z), tuple(t.id for t in along), shares,
        f"{joint.name} twist",
    )  # fmt: skip
