"""Twist spread over the twist joints of a bone, by swing and twist."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.rig.kernels import walk
from pegloom.core.rig.refs import ChannelRef, NodeRef
from pegloom.core.rig.solvers.packing import Packed, Rests
from pegloom.core.skeleton.joints import Vector


@dataclass(frozen=True, slots=True)
class TwistSpread:
    """of, against : joints; the part of `of`'s turn from rest in `against` that goes about the bone is what is spread, up
        to half a turn either way.
    axis : of the bone, in `of`'s own axes.
    joints, shares : how much of it each twist joint takes about that axis; less than 0 where it rides on `of` and is to
        turn back.
    amount : channel of how much it counts; None: wholly.
    """

    id: str
    of: NodeRef
    against: NodeRef
    axis: Vector
    joints: tuple[str, ...]
    shares: tuple[float, ...]
    name: str = ""
    amount: ChannelRef | None = None


def checked(spread: TwistSpread) -> None:
    """Raises EditError for a spread that cannot be."""
    if len(spread.joints) != len(spread.shares) or not spread.joints:
        raise EditError(f"{spread.name or spread.id} has not one share for each of its twist joints")
    if float(np.linalg.norm(spread.axis)) < 1e-9:
        raise EditError(f"{spread.name or spread.id} spreads a turn about no axis")


def pack(spread: TwistSpread, rests: Rests, k: int) -> Packed:
    """The numbers of its twist joint k."""
    of, joint = rests.place(spread.of)[:3, :3], rests.joint(spread.joints[k])[:3, :3]
    axis = np.array(spread.axis) / np.linalg.norm(spread.axis)
    rest = rests.place(spread.against)[:3, :3].T @ of
    amount = -1 if spread.amount is None else rests.slot(spread.amount)
    floats = np.concatenate([axis, rest.ravel(), joint.T @ of @ axis, [spread.shares[k]]])
    return Packed(walk.TWIST, (rests.node(spread.of), rests.node(spread.against), amount), floats)
