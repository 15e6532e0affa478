"""The order in which controls, solvers and joints are worked out, planned once per skeleton and rig."""

from __future__ import annotations

from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import normalised
from pegloom.core.memo import by_identity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.solve import solve_plan
from pegloom.core.skeleton.joints import Skeleton

CONTROL, DRIVEN, FOLLOWS, LIMB = 0, 1, 2, 3


@dataclass(frozen=True, eq=False)
class Plan:
    """Steps over nodes (controls, then joints).

    steps (s, 4): kind, node, parent node (-1 for the world), row in `limbs`. local (nodes, 4, 4): parent_from_node
    at rest. limbs (l, 10): upper, lower, end joint nodes; their FK controls; parent of upper; goal, pole, goal's
    control row. frames (l, 3, 3, 3), bends (l, 5): see `solve_plan.limb`. end_offset (l, 4, 4): goal_from_end.
    """

    steps: IntArray
    local: FloatArray
    limbs: IntArray
    frames: FloatArray
    bends: FloatArray
    end_offset: FloatArray
    controls: int


@by_identity
def make_plan(skeleton: Skeleton, rig: ControlRig) -> Plan:
    """Order everything so that whatever a node needs comes first.

    Raises
    ------
    EditError
        Nodes depend on each other in a loop (the error names it), or refer to something missing.
    """
    count = len(rig.controls)
    rest = np.concatenate([np.array([c.rest for c in rig.controls]).reshape(-1, 4, 4), skeleton.world])
    names = [f"control:{c.id}" for c in rig.controls] + [f"joint:{j.id}" for j in skeleton.joints]
    number = {name: i for i, name in enumerate(names)}

    def node(name: str) -> int:
        if name and name not in number:
            raise EditError(f"the rig refers to {name.replace(':', ' ')}, which is not there")
        return number[name] if name else -1

    driver = {node(f"joint:{joint}"): node(f"control:{control}") for joint, control in rig.drivers}
    in_limb: dict[int, int] = {}
    rows, needs = [], {}
    for row, limb in enumerate(rig.limbs):
        joints = [node(f"joint:{j}") for j in limb.joints]
        fk = [node(f"control:{c}") for c in limb.fk]
        goal, pole = node(f"control:{limb.goal}"), node(f"control:{limb.pole}")
        parent = int(skeleton.parents[joints[0] - count])
        parent_node = parent + count if parent >= 0 else -1
        rows.append([*joints, *fk, parent_node, goal, pole, goal])
        needs[joints[0]] = {*fk, goal, pole, *([parent_node] if parent_node >= 0 else [])}
        for j in joints[1:]:
            needs[j] = {joints[0]}
        in_limb.update(dict.fromkeys(joints, row))
    parents = np.full(len(names), -1)
    for i, control in enumerate(rig.controls):
        parents[i] = node(control.parent)
        needs[i] = {int(parents[i])} if parents[i] >= 0 else set()
    for j in range(len(skeleton.joints)):
        here = count + j
        if here in in_limb:
            continue
        parent = int(skeleton.parents[j])
        parents[here] = driver.get(here, parent + count if parent >= 0 else -1)
        needs[here] = {int(parents[here])} if parents[here] >= 0 else set()
    try:
        order = list(TopologicalSorter(needs).static_order())
    except CycleError as error:
        raise EditError(
            "controls depend on each other in a loop: " + " > ".join(names[i] for i in error.args[1])
        ) from error
    local = rest.copy()
    for i, parent in enumerate(parents):
        if parent >= 0:
            local[i] = np.linalg.inv(rest[parent]) @ rest[i]
    steps = []
    for i in order:
        if i in in_limb:
            row = in_limb[i]
            if rows[row][0] == i:
                steps.append([LIMB, i, -1, row])
            continue
        kind = CONTROL if i < count else (DRIVEN if i in driver else FOLLOWS)
        steps.append([kind, i, int(parents[i]), -1])
    limbs = np.array(rows, dtype=np.int64).reshape(-1, 10)
    frames, bends, offsets = _limb_rest(rest, limbs)
    order_rows = np.array(steps, dtype=np.int64).reshape(-1, 4)
    return Plan(frozen(order_rows), frozen(local), frozen(limbs), frozen(frames), frozen(bends), frozen(offsets), count)


ASIDE = 1e-12
"""Share of a limb's length: a middle joint nearer to the line from end to end stands on it."""


def _limb_rest(rest: FloatArray, limbs: IntArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """What makes the solver give back the rest exactly: bones and the pole's plane in each joint's own axes, and how
    far the limb's own plane is turned from that."""
    frames = np.zeros((len(limbs), 3, 3, 3))
    bends = np.zeros((len(limbs), 5))
    offsets = np.zeros((len(limbs), 4, 4))
    spare = np.array([1.0, 0.0, 0.0])
    for row, limb in enumerate(limbs):
        upper, lower, end = (rest[limb[k]] for k in range(3))
        start, middle, tip = upper[:3, 3], lower[:3, 3], end[:3, 3]
        first, second, direction = (normalised(v) for v in (middle - start, tip - middle, tip - start))
        normal = solve_plan.plane_normal(direction, rest[limb[8]][:3, 3] - start, spare)
        aside = np.cross(direction, middle - start)
        a, b = float(np.linalg.norm(middle - start)), float(np.linalg.norm(tip - middle))
        if np.linalg.norm(aside) > ASIDE * (a + b):
            bends[row, 0] = solve_plan.signed_angle(normal, normalised(aside), direction)
        apart, along = float(np.linalg.norm(tip - start)), float((middle - start) @ direction)
        bends[row, 1] = solve_plan.fold_of(apart, a, b)
        bends[row, 2:] = np.array([apart, along, float(np.linalg.norm(aside))]) / (a + b)
        for k, (joint, bone) in enumerate(((upper, first), (lower, second))):
            plane = solve_plan.square_to(normal, bone, spare)
            frames[row, k] = joint[:3, :3].T @ solve_plan.aim_frame(bone, plane)
        frames[row, 2, 0] = upper[:3, :3].T @ normal
        offsets[row] = np.linalg.inv(rest[limb[7]]) @ end
    return frames, bends, offsets
