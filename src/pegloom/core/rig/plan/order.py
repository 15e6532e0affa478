"""The one graph of slots, nodes and solvers, and its order."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from graphlib import CycleError, TopologicalSorter

from pegloom.core.errors import EditError

Needs = Mapping[int, set[int]]
"""What each vertex needs before it."""


def in_order(needs: Needs, name: Callable[[int], str], hint: Callable[[list[int]], str] = lambda _: "") -> list[int]:
    """Every vertex after what it needs. Raises EditError naming the members of a loop, and what `hint` says of them."""
    try:
        return list(TopologicalSorter(needs).static_order())
    except CycleError as error:
        loop: list[str] = []
        # Told in the order things are worked out; a control and its base are one thing to a person.
        for vertex in reversed(error.args[1]):
            said = name(vertex)
            if not loop or loop[-1] != said:
                loop.append(said)
        if loop[0] != loop[-1] or len(loop) == 1:
            loop.append(loop[0])
        raise EditError("controls depend on each other in a loop: " + " > ".join(loop) + hint(list(error.args[1]))) from error
