"""The plan: steps over nodes and slots."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.memo import by_identity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.kernels.walk import LIMIT, RIDE, TURN
from pegloom.core.rig.plan.nodes import NodeTable
from pegloom.core.rig.plan.order import in_order
from pegloom.core.rig.refs import ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.slots import SlotTable
from pegloom.core.rig.solvers import KINDS, Packed, Rests
from pegloom.core.skeleton.joints import Skeleton


@dataclass(frozen=True, eq=False)
class Plan:
    """What a rig on a skeleton runs as. It is never written to: each call brings its own scratch.

    steps (s, 5) : what to do, the node or slot it gives, the node it stands on (-1 for the world), where its numbers
        begin in ints and floats; see `kernels/walk.py`.
    local (n, 4, 4) : each node in what it rides on, at rest.
    solvers : each solver's numbers by id.
    order : controls as they are worked out.
    """

    slots: SlotTable
    nodes: NodeTable
    steps: IntArray
    ints: IntArray
    floats: FloatArray
    local: FloatArray
    rests: Rests
    solvers: Mapping[str, Packed]
    order: tuple[int, ...]

    @property
    def arrays(self) -> tuple[IntArray, IntArray, FloatArray, FloatArray]:
        """What the walk takes first: steps, ints, floats, local."""
        return self.steps, self.ints, self.floats, self.local


@by_identity
def make_plan(skeleton: Skeleton, rig: ControlRig) -> Plan:
    """Order everything so that whatever a node needs comes first.

    Raises
    ------
    EditError
        Nodes depend on each other in a loop (the error names its members), or refer to something missing, or two things
        work out the same node.
    """
    nodes, slots = NodeTable(skeleton, rig), rig.slots
    rest, count = nodes.rests(), len(nodes)
    bases = nodes.controls + nodes.joints

    def slot(ref: tuple[str, str]) -> int:
        if ref not in slots.index:
            raise EditError(f"the rig refers to {ChannelRef(*ref)}, which is not there")
        return slots.index[ref]

    def vertex(ref: NodeRef | ChannelRef) -> int:
        return count + slot(ref) if isinstance(ref, ChannelRef) else nodes.number(ref)

    def place(ref: NodeRef) -> FloatArray:
        return np.eye(4) if ref.kind is NodeKind.WORLD else rest[nodes.number(ref)]

    rests = Rests(nodes.number, slot, place)
    parents = np.full(count, -1)
    needs: dict[int, set[int]] = {count + i: set() for i in range(len(slots.channels))}
    for i, control in enumerate(rig.controls):
        parents[bases + i] = nodes.number(control.parent)
        parents[i] = bases + i
        needs[i] = {bases + i, *(count + int(s) for s in slots.rows[i] if s >= 0)}
    parents[nodes.controls : bases] = np.where(skeleton.parents >= 0, skeleton.parents + nodes.controls, -1)
    driven: dict[int, int] = {}
    for drive in rig.drives:
        joint = nodes.number(NodeRef(NodeKind.JOINT, drive.joint))
        if joint in driven:
            raise EditError(f"joint {drive.joint} is driven twice")
        driven[joint] = nodes.number(drive.node)
    solved: dict[int, int] = {}
    for row, solver in enumerate(rig.solvers):
        kind = KINDS[type(solver)]
        first, *more = (nodes.number(n) for n in kind.writes(solver))
        for joint in (first, *more):
            if joint in solved or joint in driven:
                raise EditError(f"{nodes.name(joint)} is worked out twice, once by {solver.id}")
            solved[joint] = row
        needs[first] = {v for v in map(vertex, kind.reads(solver)) if v >= 0}
        if parents[first] >= 0:
            needs[first].add(int(parents[first]))
        needs |= {joint: {first} for joint in more}
    for joint, node in driven.items():
        parents[joint] = node
    for n in range(nodes.controls, count):
        if n not in solved:
            needs[n] = {int(parents[n])} if parents[n] >= 0 else set()
    order = in_order(needs, nodes)
    local = rest.copy()
    riding = np.flatnonzero(parents >= 0)
    local[riding] = np.linalg.inv(rest)[parents[riding]] @ rest[riding]
    return _packed(skeleton, rig, rests, parents, order, local, solved)


def _packed(
    skeleton: Skeleton, rig: ControlRig, rests: Rests, parents: IntArray, order: list[int], local: FloatArray,
    solved: Mapping[int, int],
) -> Plan:  # fmt: skip
    nodes, slots = NodeTable(skeleton, rig), rig.slots
    count = len(nodes)
    steps: list[tuple[int, int, int, int, int]] = []
    ints: list[int] = []
    floats: list[float] = []
    known: dict[str, Packed] = {}
    for v in order:
        where = (len(ints), len(floats))
        if v >= count:
            low, high = slots.low[v - count], slots.high[v - count]
            if np.isfinite(low) or np.isfinite(high):
                steps.append((LIMIT, v - count, -1, *where))
                floats += [float(low), float(high), float(slots.soft[v - count])]
        elif v < nodes.controls:
            steps.append((TURN, v, int(parents[v]), *where))
            ints += slots.rows[v].tolist()
        elif v not in solved:
            steps.append((RIDE, v, int(parents[v]), *where))
        else:
            solver = rig.solvers[solved[v]]
            kind = KINDS[type(solver)]
            if nodes.number(kind.writes(solver)[0]) == v:
                packed = known[solver.id] = kind.pack(solver, rests)
                steps.append((kind.OPCODE, v, -1, *where))
                ints += packed.ints
                floats += packed.floats.tolist()
    return Plan(
        slots, nodes, np.asarray(frozen(np.array(steps, dtype=np.int64).reshape(-1, 5))),
        np.asarray(frozen(np.array(ints, dtype=np.int64))), np.asarray(frozen(np.array(floats, dtype=np.float64))),
        np.asarray(frozen(local)), rests, known, tuple(v for v in order if v < nodes.controls),
    )  # fmt: skip
