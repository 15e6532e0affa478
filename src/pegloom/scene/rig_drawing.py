"""A rig in the view: control shapes, what is out of use, threads to what is followed."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.refs import NodeKind, NodeRef
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.rig.solvers import Solver
from pegloom.core.rig.use import out_of_use
from pegloom.scene.drawing import LINEN, Marks, side_colour
from pegloom.scene.drawlist import DrawList


def draw_controls(draw: DrawList, rig: ControlRig, worlds: FloatArray, joints: Mapping[str, FloatArray], pose: Shown, marks: Marks) -> None:
    """Control shapes in side colours; what a limb's blend leaves out of use is dimmed. Threads lead to what is followed.

    joints : character_from_joint (4, 4) by id.
    """
    dim = out_of_use(rig, pose)
    for i, control in enumerate(rig.controls):
        chosen = control.id in marks.selected
        alpha = 0.16 if control.id in dim and not chosen else 0.95
        colour = side_colour(control.side)
        for line in shape_lines(control):
            world = line @ worlds[i][:3, :3].T + worlds[i][:3, 3]
            if chosen:
                draw.over.add(world, colour, 7.0, 0.28)
            if control.id == marks.hovered:
                draw.over.add(world, LINEN, 2.2, 0.9)
            draw.through.add(world, colour, 3.4 if chosen else 2.0, alpha)
    for limb in rig.limbs:
        if limb.pole.id not in dim:
            pole = worlds[rig.index[limb.pole.id]][:3, 3]
            middle = worlds[rig.index[limb.fk[1]]][:3, 3]
            draw.through.add(np.array([pole, middle]), side_colour(rig.control(limb.pole.id).side), 1.0, 0.25)
    _draw_threads(draw, rig, worlds, joints, pose, marks)


def _draw_threads(
    draw: DrawList, rig: ControlRig, worlds: FloatArray, joints: Mapping[str, FloatArray], pose: Shown, marks: Marks
) -> None:
    """A dashed thread from what is held to each thing it follows: strong for what is picked, faint for the rest."""
    values = pose if isinstance(pose, Pose) else Pose()

    def place(ref: NodeRef) -> FloatArray | None:
        if ref.kind in (NodeKind.CONTROL, NodeKind.BASE) and ref.id in rig.index:
            return np.asarray(worlds[rig.index[ref.id]][:3, 3])
        found = joints.get(ref.id)
        return None if found is None else np.asarray(found[:3, 3])

    for constraint in rig.constraints:
        picked = constraint.held.id in marks.selected
        amount = rig.value(values, constraint.amount)
        here = place(constraint.held)
        for target in constraint.targets:
            weight = amount * rig.value(values, target.weight)
            there = place(target.node)
            if here is None or there is None or (weight < 0.01 and not (picked and not constraint.spaces)):
                continue
            for a, b in dashes(here, there):
                draw.through.add(np.array([a, b]), LINEN, 1.8 if picked else 1.2, 0.85 if picked else 0.3)


def dashes(start: FloatArray, end: FloatArray, count: int = 14) -> list[tuple[FloatArray, FloatArray]]:
    """A line as dashes with as long gaps between."""
    steps = np.linspace(0.0, 1.0, 2 * count)[:, None]
    points = start + (end - start) * steps
    return [(points[2 * k], points[2 * k + 1]) for k in range(count)]


def limb_words(solver: Solver) -> str:
    """What a person reads for a solver in a sentence: left arm, snout 1 to snout 4."""
    if solver.name:
        return solver.name
    stem, _, side = solver.id.rpartition(".")
    word = {"l": "left ", "r": "right "}.get(side, "")
    return (word + ((stem if word else solver.id) or solver.id).replace("_", " ").replace(".", " ")).strip()
