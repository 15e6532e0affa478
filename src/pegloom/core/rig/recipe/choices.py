"""How each limb kit is to be built: what the user chose, kept beside the pegs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum
from types import MappingProxyType

from pegloom.core.skeleton.kits import Kit


class KitSolver(Enum):
    USUAL = "usual"
    """IK where the kit has a limb of two bones."""
    NONE = "none"
    """A turner on each joint."""


@dataclass(frozen=True, slots=True)
class KitRig:
    """solver : what bends the kit's limb.
    ik_at_rest : whether it starts with IK; None as the kit has it.
    """

    solver: KitSolver = KitSolver.USUAL
    ik_at_rest: bool | None = None


USUAL_KIT = KitRig()
NO_RECIPE: Mapping[str, KitRig] = MappingProxyType({})


def has_ik(kit: Kit, recipe: Mapping[str, KitRig]) -> bool:
    """Whether a kit's limb is bent by IK."""
    return len(kit.ik) == 3 and recipe.get(kit.id, USUAL_KIT).solver is KitSolver.USUAL
