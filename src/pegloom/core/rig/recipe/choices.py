"""How each limb kit is to be built: what the user chose, kept beside the pegs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from types import MappingProxyType

from pegloom.core.skeleton.kits import Kit


class KitSolver(Enum):
    USUAL = "usual"
    """IK where the kit has a limb: of three bones for a hind leg, of two for all others."""
    NONE = "none"
    """A turner on each joint."""
    LIMB = "limb"
    """IK of two bones."""
    HOCK = "hock"
    """IK of three bones: with a hock."""
    CHAIN = "chain"
    """IK of all the kit's joints toward one goal."""
    CURVE = "curve"
    """The kit's joints along a smooth curve."""


@dataclass(frozen=True, slots=True)
class KitRig:
    """solver : what bends the kit's limb.
    ik_at_rest : whether it starts with IK; None as the kit has it.
    spaces : what its goal may follow beside the root, of SPACES; None as is usual.
    roll : whether a leg's goal has heel, ball and toe roll, bank and swings.
    curl : whether its hand has curl and spread of the fingers.
    twist : whether the twist of its bones is spread over the twist joints along them.
    rolls : whether a wheel turns with the way it goes.
    one_axis : whether a hinge or wheel turns about its pin alone.
    """

    solver: KitSolver = KitSolver.USUAL
    ik_at_rest: bool | None = None
    spaces: tuple[str, ...] | None = None
    roll: bool = True
    curl: bool = True
    twist: bool = True
    rolls: bool = False
    one_axis: bool = False


USUAL_KIT = KitRig()
NO_RECIPE: Mapping[str, KitRig] = MappingProxyType({})


SPACES = ("world", "body", "chest", "head")
"""What a recipe's goals may follow beside the root."""
USUAL_SPACES: Mapping[str, tuple[str, ...]] = MappingProxyType({"arm": SPACES, "leg": ("world", "body")})
"""By kind of limb."""


def solver_of_kit(kit: Kit, recipe: Mapping[str, KitRig]) -> KitSolver:
    """What bends a kit: what was chosen, as far as its joints allow it."""
    chosen = recipe.get(kit.id, USUAL_KIT).solver
    if chosen is KitSolver.USUAL:
        chosen = KitSolver.HOCK if kit.kind == "hind leg" else KitSolver.LIMB
    if chosen is KitSolver.HOCK and not hock_joints(kit):
        chosen = KitSolver.LIMB
    if chosen is KitSolver.LIMB and len(kit.ik) != 3:
        return KitSolver.NONE
    if chosen in (KitSolver.CHAIN, KitSolver.CURVE) and len(kit.joints) < 3:
        return KitSolver.NONE
    return chosen


def hock_joints(kit: Kit) -> tuple[str, ...]:
    """The four joints of a limb with a hock; none where the kit has no joint beyond it."""
    if len(kit.ik) != 3 or kit.ik[2] not in kit.joints:
        return ()
    after = kit.joints[kit.joints.index(kit.ik[2]) + 1 :]
    return (*kit.ik, after[0]) if after else ()


def joints_bent(kit: Kit, recipe: Mapping[str, KitRig]) -> tuple[str, ...]:
    """The joints a kit's solver works out."""
    chosen = solver_of_kit(kit, recipe)
    if chosen is KitSolver.NONE:
        return ()
    if chosen is KitSolver.LIMB:
        return kit.ik
    return hock_joints(kit) if chosen is KitSolver.HOCK else kit.joints


def has_ik(kit: Kit, recipe: Mapping[str, KitRig]) -> bool:
    """Whether a kit's limb is bent by IK toward a goal with a pole."""
    return solver_of_kit(kit, recipe) in (KitSolver.LIMB, KitSolver.HOCK)
