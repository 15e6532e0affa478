"""Kinds of solver. This is the only place, beside the compiled walk, that lists them.

A kind is one module here: its record, what it reads and writes, its numbers for the walk, and back from joints to its
controls. Planner, evaluator, edits and files name none.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Protocol, TypeAlias

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.refs import ChannelRef, NodeRef
from pegloom.core.rig.solvers import limb
from pegloom.core.rig.solvers.limb import LimbIk
from pegloom.core.rig.solvers.packing import Packed, Rests

Solver: TypeAlias = LimbIk


class SolverKind(Protocol):
    """What a kind's module has."""

    OPCODE: int

    def reads(self, solver: Solver) -> tuple[NodeRef | ChannelRef, ...]:
        """Nodes and channels that must be known first; a parent of the joints it writes goes without saying."""

    def writes(self, solver: Solver) -> tuple[NodeRef, ...]:
        """Nodes it works out. The first is where its step stands; none of them has another step."""

    def belongs(self, solver: Solver) -> Mapping[str, str]:
        """The joint each of its controls goes along with, by control id; without one of them it cannot be solved."""

    def pack(self, solver: Solver, rests: Rests) -> Packed:
        """Its numbers in the plan's pools."""

    def back(
        self, solver: Solver, packed: Packed, rests: Rests, joints: Sequence[FloatArray]
    ) -> Mapping[str, FloatArray]:
        """Where its controls stand (k, 4, 4), by id, so that with amount 1 its joints stand at `joints` (k, 4, 4) each."""


KINDS: Mapping[type, SolverKind] = MappingProxyType({LimbIk: limb})


def belongs(solver: Solver) -> Mapping[str, str]:
    """The joint each of a solver's controls goes along with, by control id."""
    return KINDS[type(solver)].belongs(solver)


__all__ = ["KINDS", "LimbIk", "Packed", "Rests", "Solver", "SolverKind", "belongs"]
