"""Which controls move something now, and where those stand that do not."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import Frame
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.solvers import BodyIk, Solver, belongs
from pegloom.core.skeleton.joints import Skeleton


def out_of_use(rig: ControlRig, pose: Shown) -> frozenset[str]:
    """Controls that move nothing now: see `idle`."""
    return frozenset(idle(rig, pose))


def idle(rig: ControlRig, pose: Shown) -> Mapping[str, Solver]:
    """Controls that move nothing now, each with the solver that leaves it out: goal and pole of one on FK, the FK controls
    of one on IK."""
    found: dict[str, Solver] = {}
    used: set[str] = set()
    values = pose if isinstance(pose, Pose) else Pose()
    for solver in rig.solvers:
        if isinstance(solver, BodyIk):
            # It starts from its FK controls, and its goals are the limbs'.
            continue
        blend, own = rig.value(values, solver.amount), controls_of(solver)
        if blend >= 0.999:
            found |= dict.fromkeys(solver.fk, solver)
        if blend <= 0.001:
            found |= dict.fromkeys(own, solver)
        else:
            used |= own
    for solver in rig.solvers:
        if isinstance(solver, BodyIk) and rig.value(values, solver.amount) > 0.001:
            used |= {rig.goal_over.get(g.node.id, g.node.id) for g in solver.goals if rig.value(values, g.place or solver.amount) > 0.001}
    return {control: solver for control, solver in found.items() if control not in used}


def controls_of(solver: Solver) -> set[str]:
    """Controls a solver has for itself: goals, poles, the points of a curve."""
    return set(belongs(solver)) - set(solver.fk)


def shown_places(skeleton: Skeleton, rig: ControlRig, pose: Shown, frame: Frame) -> FloatArray:
    """Where controls are shown (c, 4, 4): where they stand; FK controls out of use on the joints they would turn, not where
    they were left."""
    if not isinstance(pose, Pose):
        return frame.controls
    away = {control: solver for control, solver in idle(rig, pose).items() if control in solver.fk}
    if not away:
        return frame.controls
    places = frame.controls.copy()
    for control, solver in away.items():
        joint = skeleton.index[dict(zip(solver.fk, solver.joints, strict=True))[control]]
        places[rig.index[control]] = frame.joints[joint] @ (skeleton.inverse_world[joint] @ rig.control(control).matrix)
    return np.asarray(places)
