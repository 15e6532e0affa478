"""Follow-through: chains whose tips lag behind and settle, and named settings that several chains share."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.solvers.packing import Packed, Rests

NUMBERS = 9
"""Of a joint's state: where its tip is, how fast it goes, where it belonged a tick before."""


@dataclass(frozen=True, slots=True)
class SpringGroup:
    """Settings by name: channels of mass, of stiffness and damping (per mass 1: radians a second squared, and a second), and
    of gravity (metres a second squared)."""

    id: str
    name: str
    mass: ChannelRef
    stiffness: ChannelRef
    damping: ChannelRef
    gravity: ChannelRef


@dataclass(frozen=True, slots=True)
class Spring:
    """joints : of a chain, base to tip.
    group : id of its settings.
    amount : channel of how much of it shows.
    swing, drift : channels of how much it turns and how much it moves, 0 to 1; None: 1 and 0.
    """

    id: str
    joints: tuple[str, ...]
    group: str
    amount: ChannelRef
    name: str = ""
    swing: ChannelRef | None = None
    drift: ChannelRef | None = None


def reads(spring: Spring, group: SpringGroup) -> tuple[ChannelRef, ...]:
    """Channels that must be known first."""
    some = (spring.amount, spring.swing, spring.drift, group.mass, group.stiffness, group.damping, group.gravity)
    return tuple(c for c in some if c is not None)


def checked(spring: Spring) -> None:
    """Raises EditError for a spring that cannot be."""
    if not spring.joints or len(set(spring.joints)) != len(spring.joints):
        raise EditError(f"{spring.name or spring.id} names no joints, or one twice")


def pack(spring: Spring, group: SpringGroup, rests: Rests, joints: tuple[str, ...], begin: int, *, carried: bool) -> Packed:
    """The numbers of some of its joints. begin : where their state begins.
    carried : a solver placed them, so that each is hung on the one before anew."""
    slots = rests.slots(spring.amount, spring.swing, spring.drift, group.mass, group.stiffness, group.damping, group.gravity)
    ints = (*slots, begin, int(carried), len(joints), *(rests.node_of_joint(j) for j in joints))
    floats = [np.concatenate([_tip(spring, rests, j), rests.joint(j)[:3, :3].ravel()]) for j in joints]
    return Packed(walk.SPRING, ints, np.concatenate(floats))


def _tip(spring: Spring, rests: Rests, joint: str) -> FloatArray:
    """A joint's tip in its own axes: the next joint of the chain, the joint's own end for the last."""
    here, k = rests.joint(joint), spring.joints.index(joint)
    there = rests.joint(spring.joints[k + 1])[:3, 3] if k + 1 < len(spring.joints) else rests.tip(joint)
    if np.linalg.norm(there - here[:3, 3]) < 1e-9 and k > 0:
        there = here[:3, 3] + (here[:3, 3] - rests.joint(spring.joints[k - 1])[:3, 3])
    return np.asarray(here[:3, :3].T @ (there - here[:3, 3]))
