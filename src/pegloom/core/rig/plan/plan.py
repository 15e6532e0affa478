"""The plan: steps over nodes and slots."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.memo import by_identity
from pegloom.core.rig.constraints import Constraint, checked, pack, reads
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import checked as check_coupling
from pegloom.core.rig.couplings import pack as pack_coupling
from pegloom.core.rig.couplings import reads as coupling_reads
from pegloom.core.rig.halfway import halfway_rows
from pegloom.core.rig.kernels.walk import HALFWAY, LIMIT, RIDE, TURN
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.plan.nodes import NodeTable
from pegloom.core.rig.plan.order import in_order
from pegloom.core.rig.refs import ChannelRef, NodeKind, NodeRef, control_node, joint_node
from pegloom.core.rig.slots import SlotTable
from pegloom.core.rig.solvers import KINDS, Packed, Rests, Solver, own_start
from pegloom.core.rig.springs import NUMBERS, Spring, SpringGroup
from pegloom.core.rig.springs import checked as check_spring
from pegloom.core.rig.springs import pack as pack_spring
from pegloom.core.rig.springs import reads as spring_reads
from pegloom.core.rig.twists import TwistSpread
from pegloom.core.rig.twists import checked as check_twist
from pegloom.core.rig.twists import pack as pack_twist
from pegloom.core.skeleton.joints import Skeleton


@dataclass(frozen=True, eq=False)
class Plan:
    """What a rig on a skeleton runs as. It is never written to: each call brings its own scratch.

    steps (s, 5) : what to do, the node or slot it gives, the node it stands on (-1 for the world), where its numbers
        begin in ints and floats; see `kernels/walk.py`.
    local (n, 4, 4) : each node in what it rides on, at rest. After the nodes that records name come the starts of solvers:
        where a solved joint stands on FK.
    solvers : each solver's numbers by id.
    order : controls as they are worked out.
    held : controls whose base a constraint holds.
    state : numbers that what follows through remembers.
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
    held: frozenset[str]
    state: int = 0

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
        Nodes depend on each other in a loop (the error names its members), or refer to something missing, or something
        cannot be worked out twice.
    """
    return _Planner(skeleton, rig).plan()


class _Planner:
    """Vertices: nodes, starts, slots, solvers, one after the other."""

    def __init__(self, skeleton: Skeleton, rig: ControlRig) -> None:
        self.skeleton, self.rig = skeleton, rig
        self.nodes, self.slots = NodeTable(skeleton, rig), rig.slots
        self.rest, self.count = self.nodes.rests(), len(self.nodes)
        self.bases = self.nodes.controls + self.nodes.joints
        self.parents = np.full(self.count, -1)
        self.last: dict[int, int] = {}
        """The last solver that works a joint out, by its row."""
        self.starts: dict[int, int] = {}
        """Where a joint stands on FK before its first solver."""
        self.start_parents: list[int] = []
        self.rests = Rests(
            self.nodes.number, self.slot, self.place, lambda j: rig.limit_of.get(j) or JointLimit(j),
            lambda j: skeleton.joint(j).parent, lambda c: rig.control(c).parent,
            lambda c: tuple(int(s) for s in self.slots.rows[rig.index[c]]), lambda s: float(self.slots.rest[s]), _height(skeleton),
            self.tip,
        )  # fmt: skip

    def tip(self, joint_id: str) -> FloatArray:
        """Where a joint's bone ends at rest (3,)."""
        joint = self.skeleton.joint(joint_id)
        ends = [c.position for c in self.skeleton.children(joint_id) if not c.floating]
        return np.array(ends[0] if ends else joint.tail if joint.tail is not None else joint.position)

    def slot(self, ref: tuple[str, str]) -> int:
        if ref not in self.slots.index:
            raise EditError(f"the rig refers to {ChannelRef(*ref)}, which is not there")
        return self.slots.index[ref]

    def place(self, ref: NodeRef) -> FloatArray:
        return np.eye(4) if ref.kind is NodeKind.WORLD else self.rest[self.nodes.number(ref)]

    def plan(self) -> Plan:
        nodes, rig = self.nodes, self.rig
        for i, control in enumerate(rig.controls):
            self.parents[self.bases + i] = nodes.number(control.parent)
            self.parents[i] = self.bases + i
        above = self.skeleton.parents
        self.parents[nodes.controls : self.bases] = np.where(above >= 0, above + nodes.controls, -1)
        driven = self._driven()
        chosen = [self._start(row, solver, driven) for row, solver in enumerate(rig.solvers)]
        for joint, node in driven.items():
            if joint not in self.last:
                self.parents[joint] = node
        holds = self._holds()
        self._twisted()
        self._sprung()
        self._helped()
        needs = self._needs(chosen, holds)
        self._need_more(needs)
        order = in_order(needs, self._name, self._opening)
        return self._packed(order, chosen, holds)

    def _opening(self, loop: list[int]) -> str:
        """A space that nothing may be in yet, and that would open a loop if it were taken out."""
        for constraint in self.rig.constraints:
            if not constraint.spaces or self.nodes.number(constraint.held) not in loop:
                continue
            for target in constraint.targets:
                if self.nodes.number(target.node) in loop:
                    held = self.nodes.name(self.nodes.number(constraint.held))
                    return f"; {held} may follow {target.name or self.nodes.name(self.nodes.number(target.node))}: without that space it is none"
        return ""

    def _twisted(self) -> None:
        """Which joints take a share of a twist."""
        self.twists: dict[int, tuple[TwistSpread, int]] = {}
        for spread in self.rig.twists:
            check_twist(spread)
            for k, joint in enumerate(spread.joints):
                node = self.nodes.number(joint_node(joint))
                if node in self.twists or node in self.last:
                    raise EditError(f"{self._name(node)} cannot take a share of {spread.name or spread.id}: it is worked out already")
                self.twists[node] = (spread, k)

    def _helped(self) -> None:
        """Which joints are helpers: they follow the joint they stand at, unless a control or a solver turns them."""
        self.helpers: dict[int, tuple[int, int, FloatArray]] = {}
        rows, floats = halfway_rows(self.skeleton)
        first = self.nodes.controls
        for (joint, of, against), some in zip(rows.tolist(), floats, strict=True):
            driven = self.parents[first + joint] != (first + against if against >= 0 else -1)
            if not driven and first + joint not in self.last and first + joint not in self.twists:
                self.helpers[first + joint] = (first + of, first + against if against >= 0 else -1, some)

    def _sprung(self) -> None:
        """Which joints follow through: those that ride or are driven one by one, those of a solver after it, all at once."""
        groups = {g.id: g for g in self.rig.spring_groups}
        self.sprung: dict[int, tuple[Spring, SpringGroup, str, int]] = {}
        self.after: dict[int, tuple[Spring, SpringGroup, tuple[str, ...], int]] = {}
        """What follows through after a solver, by the solver's row."""
        self.state = 0
        taken: set[str] = set()
        for spring in self.rig.springs:
            check_spring(spring)
            said = spring.name or spring.id
            if spring.group not in groups:
                raise EditError(f"{said} takes its settings from {spring.group}, which is not there")
            if taken & set(spring.joints):
                raise EditError(f"{said} takes a joint that follows through already")
            taken |= set(spring.joints)
            by_row: dict[int, list[str]] = {}
            for joint in spring.joints:
                node, begin = self.nodes.number(joint_node(joint)), self.state + NUMBERS * spring.joints.index(joint)
                if node in self.last:
                    by_row.setdefault(self.last[node], []).append(joint)
                else:
                    self.sprung[node] = (spring, groups[spring.group], joint, begin)
            for row, joints in by_row.items():
                solver = self.rig.solvers[row]
                if row in self.after:
                    raise EditError(f"two chains of {solver.name or solver.id} follow through; take them as one")
                self._check_below_of(joints, row, said)
                self.after[row] = (spring, groups[spring.group], tuple(joints), self.state + NUMBERS * spring.joints.index(joints[0]))
            self.state += NUMBERS * len(spring.joints)

    def _check_below_of(self, joints: list[str], row: int, said: str) -> None:
        """What a solver placed below these joints would not come along."""
        solver = self.rig.solvers[row]
        for other in KINDS[type(solver)].writes(solver):
            above = self.skeleton.joint(other.id).parent
            while other.id not in joints and above is not None and above not in joints:
                above = self.skeleton.joint(above).parent
            if other.id not in joints and above is not None:
                raise EditError(f"{said} would leave {self.skeleton.joint(other.id).name} behind, which {solver.name or solver.id} places; take it in")

    def _spring_vertex(self, row: int) -> int:
        return self._solver_vertex(len(self.rig.solvers)) + row

    def _need_more(self, needs: dict[int, set[int]]) -> None:
        """What couplings, twists and springs wait for."""
        for one in self.rig.couplings:
            check_coupling(one)
            needs[self._slot_vertex(self.slot(one.drives))] |= {v for v in map(self._vertex, coupling_reads(one)) if v >= 0}
        for node, (spread, _) in self.twists.items():
            of = [self.nodes.number(spread.of), self.nodes.number(spread.against)]
            amount = [] if spread.amount is None else [self._slot_vertex(self.slot(spread.amount))]
            needs[node] |= {v for v in (*of, *amount) if v >= 0}
        for node, (followed, _, _) in self.helpers.items():
            needs[node].add(followed)
        for node, (spring, group, _, _) in self.sprung.items():
            needs[node] |= {self._vertex(c) for c in spring_reads(spring, group)}
        for row, (spring, group, joints, _) in self.after.items():
            vertex = self._spring_vertex(row)
            needs[vertex] = {self._solver_vertex(row), *(self._vertex(c) for c in spring_reads(spring, group))}
            for joint in joints:
                needs[self.nodes.number(joint_node(joint))] = {vertex}

    def _driven(self) -> dict[int, int]:
        driven: dict[int, int] = {}
        for drive in self.rig.drives:
            joint = self.nodes.number(NodeRef(NodeKind.JOINT, drive.joint))
            if joint in driven:
                raise EditError(f"joint {drive.joint} is driven twice")
            driven[joint] = self.nodes.number(drive.node)
        return driven

    def _start(self, row: int, solver: Solver, driven: Mapping[int, int]) -> tuple[list[int], tuple[int, ...], list[int]]:
        """A solver's joints, the nodes they start from, and the solvers before it."""
        joints = [self.nodes.number(n) for n in KINDS[type(solver)].writes(solver)]
        before = sorted({self.last[j] for j in joints if j in self.last})
        if len(set(joints)) != len(joints) or len(solver.fk) != len(joints):
            raise EditError(f"{solver.name or solver.id} has not one FK control for each of its joints")
        if any(j in driven for j in joints):
            raise EditError(f"{self._name(joints[0])} is driven by a control and worked out by {solver.name or solver.id}")
        if before:
            if any(j not in self.last for j in joints) or own_start(solver):
                raise EditError(f"{solver.name or solver.id} works out joints only some of which another one works out before it")
            self._check_below(solver, joints, before)
            starts = joints
        elif own_start(solver):
            starts = []
        else:
            starts = []
            for joint, fk in zip(joints, solver.fk, strict=True):
                self.starts[joint] = self.count + len(self.start_parents)
                starts.append(self.starts[joint])
                self.start_parents.append(self.nodes.number(control_node(fk)))
        self.last |= dict.fromkeys(joints, row)
        return joints, tuple(starts), before

    def _check_below(self, solver: Solver, joints: list[int], before: list[int]) -> None:
        """What the one before has worked out below these joints would not come along."""
        mine = set(joints)
        for row in before:
            for other in KINDS[type(self.rig.solvers[row])].writes(self.rig.solvers[row]):
                number = self.nodes.number(other)
                if number in mine:
                    continue
                above = self.skeleton.joint(other.id).parent
                while above is not None and self.nodes.number(joint_node(above)) not in mine:
                    above = self.skeleton.joint(above).parent
                if above is not None:
                    raise EditError(
                        f"{solver.name or solver.id} would leave {self._name(number)} behind, which hangs on its joints; take it in"
                    )

    def _holds(self) -> dict[int, list[Constraint]]:
        """Constraints by the node they hold, as they come."""
        rig = self.rig
        found: dict[int, list[Constraint]] = {}
        starts_itself = {fk for s in rig.solvers if own_start(s) for fk in s.fk}
        for k in sorted(range(len(rig.constraints)), key=lambda k: (rig.constraints[k].order, rig.constraints[k].id)):
            constraint = rig.constraints[k]
            checked(constraint)
            held = self.nodes.number(constraint.held)
            said = constraint.name or constraint.id
            if held in self.last:
                raise EditError(
                    f"{said} would hold {self._name(held)}, which {rig.solvers[self.last[held]].name or rig.solvers[self.last[held]].id}"
                    " works out; hold its goal instead"
                )
            if constraint.held.kind is NodeKind.BASE and constraint.held.id in starts_itself:
                raise EditError(f"{said} would hold {self._name(held)}, an FK control of a whole body; hold one of its goals instead")
            found.setdefault(held, []).append(constraint)
        return found

    def _at_rest(self, node: int) -> FloatArray:
        return np.eye(4) if node < 0 else self.rest[node]

    def _vertex(self, ref: NodeRef | ChannelRef) -> int:
        return self._slot_vertex(self.slot(ref)) if isinstance(ref, ChannelRef) else self.nodes.number(ref)

    def _slot_vertex(self, slot: int) -> int:
        return self.count + len(self.start_parents) + slot

    def _solver_vertex(self, row: int) -> int:
        return self._slot_vertex(len(self.slots.channels)) + row

    def _needs(
        self, chosen: list[tuple[list[int], tuple[int, ...], list[int]]], holds: Mapping[int, list[Constraint]]
    ) -> dict[int, set[int]]:
        needs: dict[int, set[int]] = {self._slot_vertex(s): set() for s in range(len(self.slots.channels))}
        for i in range(self.nodes.controls):
            needs[i] = {self.bases + i, *(self._slot_vertex(int(s)) for s in self.slots.rows[i] if s >= 0)}
        for n in range(self.nodes.controls, self.count):
            if n in self.last:
                needs[n] = {self._solver_vertex(self.last[n])}
            else:
                needs[n] = {int(self.parents[n])} if self.parents[n] >= 0 else set()
        for k, parent in enumerate(self.start_parents):
            needs[self.count + k] = {parent}
        for held, some in holds.items():
            needs[held] |= {v for c in some for v in map(self._vertex, reads(c)) if v >= 0}
        for row, (solver, (_, starts, before)) in enumerate(zip(self.rig.solvers, chosen, strict=True)):
            kind = KINDS[type(solver)]
            wants = {v for v in map(self._vertex, kind.reads(solver)) if v >= 0}
            wants |= {self._solver_vertex(b) for b in before}
            if not before:
                wants |= set(starts)
            if own_start(solver):
                wants |= self._own_needs(solver)
            needs[self._solver_vertex(row)] = wants
        return needs

    def _own_needs(self, solver: Solver) -> set[int]:
        """What a solver that takes its FK controls' channels rides on outside itself, and those channels."""
        found: set[int] = set()
        for fk in solver.fk:
            found |= {self._slot_vertex(s) for s in self.rests.rows(fk) if s >= 0}
            carrier = self.rig.control(fk).parent
            inside = (carrier.kind is NodeKind.JOINT and carrier.id in solver.joints) or carrier.id in solver.fk
            if not inside and carrier.kind is not NodeKind.WORLD:
                found.add(self.nodes.number(carrier))
        return found

    def _name(self, vertex: int) -> str:
        if vertex < self.count:
            return self.nodes.name(vertex)
        slots = self._slot_vertex(0)
        if vertex < slots:
            return self.nodes.name(self.start_parents[vertex - self.count])
        if vertex < self._solver_vertex(0):
            owner, key = list(self.slots.index)[vertex - slots]
            named = self.rig.control(owner).name if owner in self.rig.index else owner
            return f"{named} {key.replace('_', ' ')}"
        if vertex >= self._spring_vertex(0):
            spring = self.after[vertex - self._spring_vertex(0)][0]
            return spring.name or spring.id
        solver = self.rig.solvers[vertex - self._solver_vertex(0)]
        return solver.name or solver.id

    def _packed(
        self, order: list[int], chosen: list[tuple[list[int], tuple[int, ...], list[int]]], holds: Mapping[int, list[Constraint]]
    ) -> Plan:
        nodes, slots, rig = self.nodes, self.slots, self.rig
        extra = len(self.start_parents)
        local = np.empty((self.count + extra, 4, 4))
        local[: self.count] = self.rest
        inverse = np.linalg.inv(self.rest)
        riding = np.flatnonzero(self.parents >= 0)
        local[riding] = inverse[self.parents[riding]] @ self.rest[riding]
        joints_of = {start: joint for joint, start in self.starts.items()}
        for k, parent in enumerate(self.start_parents):
            control, joint = self.rest[parent], self.rest[joints_of[self.count + k]]
            local[self.count + k] = np.eye(4) if np.array_equal(control, joint) else inverse[parent] @ joint
        keys = list(slots.index)
        steps: list[tuple[int, int, int, int, int]] = []
        ints: list[int] = []
        floats: list[float] = []
        known: dict[str, Packed] = {}

        def put(packed: Packed, out: int) -> None:
            steps.append((packed.opcode, out, -1, len(ints), len(floats)))
            ints.extend(packed.ints)
            floats.extend(packed.floats.tolist())

        drivers = rig.drivers
        slot_0, solver_0, spring_0 = self._slot_vertex(0), self._solver_vertex(0), self._spring_vertex(0)
        for v in order:
            if v >= spring_0:
                spring, group, joints_of_it, begin = self.after[v - spring_0]
                put(pack_spring(spring, group, self.rests, joints_of_it, begin, carried=True), nodes.number(joint_node(joints_of_it[0])))
            elif v >= solver_0:
                solver = rig.solvers[v - solver_0]
                joints, starts, _ = chosen[v - solver_0]
                packed = known[solver.id] = KINDS[type(solver)].pack(solver, self.rests, starts)
                put(packed, joints[0])
            elif v >= slot_0:
                for one in drivers.get(ChannelRef(*keys[v - slot_0]), ()):
                    put(pack_coupling(one, self.rests), v - slot_0)
                low, high = slots.low[v - slot_0], slots.high[v - slot_0]
                if np.isfinite(low) or np.isfinite(high):
                    steps.append((LIMIT, v - slot_0, -1, len(ints), len(floats)))
                    floats += [float(low), float(high), float(slots.soft[v - slot_0])]
            elif v < nodes.controls:
                steps.append((TURN, v, int(self.parents[v]), len(ints), len(floats)))
                ints += slots.rows[v].tolist()
            elif v >= self.count:
                steps.append((RIDE, v, self.start_parents[v - self.count], len(ints), len(floats)))
            elif v not in self.last:
                steps.append((RIDE, v, int(self.parents[v]), len(ints), len(floats)))
                for constraint in holds.get(v, ()):
                    put(pack(constraint, self.rests, int(self.parents[v]), self._at_rest(int(self.parents[v]))), v)
                if v in self.twists:
                    put(pack_twist(self.twists[v][0], self.rests, self.twists[v][1]), v)
                if v in self.sprung:
                    spring, group, joint, begin = self.sprung[v]
                    put(pack_spring(spring, group, self.rests, (joint,), begin, carried=False), v)
                if v in self.helpers:
                    of, against, some = self.helpers[v]
                    put(Packed(HALFWAY, (of, against), some), v)
        held = frozenset(rig.controls[n - self.bases].id for n in holds if n >= self.bases)
        return Plan(
            slots, nodes, np.asarray(frozen(np.array(steps, dtype=np.int64).reshape(-1, 5))),
            np.asarray(frozen(np.array(ints, dtype=np.int64))), np.asarray(frozen(np.array(floats, dtype=np.float64))),
            np.asarray(frozen(local)), self.rests, known, tuple(v for v in order if v < nodes.controls), held,
            self.state,
        )  # fmt: skip


def _height(skeleton: Skeleton) -> float:
    """How large a skeleton is at rest, metres: the diagonal of its joints' box, never nothing."""
    places = skeleton.positions
    return max(float(np.linalg.norm(places.max(axis=0) - places.min(axis=0))), 1e-6) if len(places) else 1.0
