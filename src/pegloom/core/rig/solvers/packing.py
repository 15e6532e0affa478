"""What a solver's module gets from the plan, and gives it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.refs import NodeRef


@dataclass(frozen=True, slots=True, eq=False)
class Rests:
    """node : number of a node.
    slot : number of a channel.
    place : its character_from_node at rest (4, 4).
    """

    node: Callable[[NodeRef], int]
    slot: Callable[[tuple[str, str]], int]
    place: Callable[[NodeRef], FloatArray]


@dataclass(frozen=True, slots=True, eq=False)
class Packed:
    """A step's numbers: nodes and slots, and floats, as its kernel reads them."""

    ints: tuple[int, ...]
    floats: FloatArray
