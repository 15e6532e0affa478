"""The one graph of slots and nodes, and its order."""

from __future__ import annotations

from collections.abc import Mapping
from graphlib import CycleError, TopologicalSorter

from pegloom.core.errors import EditError
from pegloom.core.rig.plan.nodes import NodeTable

Needs = Mapping[int, set[int]]
"""What each vertex needs before it. Vertices: nodes by number; slots follow them."""


def in_order(needs: Needs, nodes: NodeTable) -> list[int]:
    """Every vertex after what it needs. Raises EditError naming the members of a loop."""
    try:
        return list(TopologicalSorter(needs).static_order())
    except CycleError as error:
        loop = [_name(vertex, nodes) for vertex in error.args[1]]
        raise EditError("controls depend on each other in a loop: " + " > ".join(loop)) from error


def _name(vertex: int, nodes: NodeTable) -> str:
    if vertex < len(nodes):
        return nodes.name(vertex)
    owner, key = list(nodes.rig.slots.index)[vertex - len(nodes)]
    return f"channel {owner} {key}"
