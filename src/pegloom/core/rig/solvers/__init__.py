"""Kinds of solver. This is the only place, beside the compiled walk, that lists them.

A kind is one module here: its record, what it reads and writes, its numbers for the walk, and back from joints to its
controls. Planner, evaluator, edits and files name none.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any, Protocol, TypeAlias

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.refs import ChannelRef, NodeRef
from pegloom.core.rig.solvers import bend, body, chain, limb, spline
from pegloom.core.rig.solvers.bend import BendIk
from pegloom.core.rig.solvers.body import BodyGoal, BodyIk
from pegloom.core.rig.solvers.chain import ChainIk
from pegloom.core.rig.solvers.limb import LimbIk
from pegloom.core.rig.solvers.packing import Back, Packed, Rests
from pegloom.core.rig.solvers.spline import SplineIk

Solver: TypeAlias = LimbIk | BendIk | ChainIk | SplineIk | BodyIk
Limb: TypeAlias = LimbIk | BendIk
"""Solvers with a goal and a pole, in closed form."""
LIMBS = (LimbIk, BendIk)


class SolverKind(Protocol):
    """What a kind's module has."""

    def reads(self, solver: Any) -> tuple[NodeRef | ChannelRef, ...]:
        """Nodes and channels that must be known first; what its joints start from goes without saying."""

    def writes(self, solver: Any) -> tuple[NodeRef, ...]:
        """Joints it works out."""

    def belongs(self, solver: Any) -> Mapping[str, str]:
        """The joint each of its controls goes along with, by control id; without one of them it cannot be solved."""

    def pack(self, solver: Any, rests: Rests, starts: tuple[int, ...]) -> Packed:
        """Its numbers in the plan's pools. starts : nodes its joints start from."""

    def back(self, solver: Any, packed: Packed, rests: Rests, joints: Sequence[FloatArray]) -> Back:
        """Where its controls stand so that with amount 1 its joints stand at `joints` (k, 4, 4) each."""


KINDS: Mapping[type, SolverKind] = MappingProxyType({LimbIk: limb, BendIk: bend, ChainIk: chain, SplineIk: spline, BodyIk: body})


def belongs(solver: Solver) -> Mapping[str, str]:
    """The joint each of a solver's controls goes along with, by control id."""
    return KINDS[type(solver)].belongs(solver)


def own_start(solver: Solver) -> bool:
    """Whether it works out by itself what its joints start from."""
    return isinstance(solver, BodyIk)


__all__ = [
    "KINDS", "LIMBS", "Back", "BendIk", "BodyGoal", "BodyIk", "ChainIk", "Limb", "LimbIk", "Packed", "Rests", "Solver",
    "SolverKind", "SplineIk", "belongs", "own_start",
]  # fmt: skip
