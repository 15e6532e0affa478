"""A rig in the view: control shapes, what is out of use, threads to what is followed."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.outputs import CONTROL
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.refs import NodeKind, NodeRef
from pegloom.core.rig.shapes import shape_lines
from pegloom.core.rig.solvers import Solver
from pegloom.core.rig.use import out_of_use
from pegloom.scene.drawing import LINEN, Marks, side_colour
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import rgb

APART = 2.6
"""A shape farther from its control than so many times its size stands apart."""


def draw_controls(
    draw: DrawList, rig: ControlRig, worlds: FloatArray, joints: Mapping[str, FloatArray], pose: Shown, marks: Marks,
    unseen: frozenset[str] = frozenset(),
) -> None:  # fmt: skip
    """Control shapes in side colours; what a limb's blend leaves out of use is dimmed. Threads lead to what is followed.

    joints : character_from_joint (4, 4) by id.
    unseen : what a channel hides, `control:` and its id.
    """
    dim = out_of_use(rig, pose)
    for i, control in enumerate(rig.controls):
        if not drawn(control, unseen):
            continue
        chosen = control.id in marks.selected
        alpha = 0.16 if control.id in dim and not chosen else 0.95
        colour = control_colour(control)
        for line in shape_lines(control):
            world = line @ worlds[i][:3, :3].T + worlds[i][:3, 3]
            if chosen:
                draw.over.add(world, colour, 5.0 + 2.0 * control.thickness, 0.28)
            if control.id == marks.hovered:
                draw.over.add(world, LINEN, 2.2 * control.thickness, 0.9)
            draw.through.add(world, colour, (3.4 if chosen else 2.0) * control.thickness, alpha)
        if np.linalg.norm(control.offset) > APART * control.size:
            # A shape that stands apart hangs on what it moves by a thin thread.
            ends = np.array([np.zeros(3), control.offset]) @ worlds[i][:3, :3].T + worlds[i][:3, 3]
            draw.through.add(ends, colour, 1.0, 0.3 * alpha)
    for limb in rig.limbs:
        if limb.pole.id not in dim:
            pole = worlds[rig.index[limb.pole.id]][:3, 3]
            middle = worlds[rig.index[limb.fk[1]]][:3, 3]
            draw.through.add(np.array([pole, middle]), side_colour(rig.control(limb.pole.id).side), 1.0, 0.25)
    _draw_threads(draw, rig, worlds, joints, pose, marks)
    _draw_drivers(draw, rig, worlds, joints, marks)


def drawn(control: Control, unseen: frozenset[str]) -> bool:
    """Whether a control is there to be seen and picked. unseen : what is hidden, `control:` and its id."""
    return not control.helper and f"{CONTROL}{control.id}" not in unseen


def control_colour(control: Control) -> FloatArray:
    """A control's own colour (3,), or its side's."""
    return rgb(control.colour) if control.colour else side_colour(control.side)


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


def _draw_drivers(draw: DrawList, rig: ControlRig, worlds: FloatArray, joints: Mapping[str, FloatArray], marks: Marks) -> None:
    """A dotted thread from a picked control to what drives it, and to what it drives: shorter dashes than what it follows."""
    drawn: set[tuple[str, str]] = set()

    def place(owner: str) -> FloatArray | None:
        if owner in rig.index and not rig.control(owner).helper:
            return np.asarray(worlds[rig.index[owner]][:3, 3])
        found = joints.get(owner)
        return None if found is None else np.asarray(found[:3, 3])

    for one in rig.couplings:
        sources = [r.channel.owner for r in one.readings if r.channel is not None]
        sources += [r.measure.node.id for r in one.readings if r.measure is not None]
        for source in sources:
            pair = (source, one.drives.owner)
            if pair in drawn or source == one.drives.owner or not set(pair) & set(marks.selected):
                continue
            drawn.add(pair)
            here, there = place(source), place(one.drives.owner)
            if here is not None and there is not None:
                for a, b in dashes(here, there, 30):
                    draw.through.add(np.array([a, b]), LINEN, 1.4, 0.6)


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
