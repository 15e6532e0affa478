"""Controls from limb kits: root, body, a turner on each joint, FK and IK on limbs, whatever the body plan."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import rotation_matrix
from pegloom.core.rig.channels import MOVE, ROTATE, SCALE
from pegloom.core.rig.controls import Control, ControlRig, Drive, Shape
from pegloom.core.rig.recipe.builder import HUMAN_SIZES, Builder, level
from pegloom.core.rig.recipe.choices import NO_RECIPE, USUAL_KIT, KitRig, KitSolver, joints_bent, solver_of_kit
from pegloom.core.rig.recipe.comfort import add_feet, add_hands
from pegloom.core.rig.recipe.limb import add_chain, add_curve, add_limb
from pegloom.core.rig.recipe.machines import add_machines
from pegloom.core.rig.recipe.spaces import add_eyes, add_spaces
from pegloom.core.rig.recipe.twist import add_twists
from pegloom.core.rig.refs import WORLD, control_node, joint_node
from pegloom.core.skeleton.build import AS_STOOD
from pegloom.core.skeleton.joints import Joint, Quaternion, Side, Skeleton, Vector
from pegloom.core.skeleton.kits import Kit

NO_PEGS: Mapping[str, Vector] = MappingProxyType({})


def build_rig(
    skeleton: Skeleton, height: float, kits: tuple[Kit, ...], recipe: Mapping[str, KitRig] = NO_RECIPE, *,
    front: Quaternion = AS_STOOD, pegs: Mapping[str, Vector] = NO_PEGS,
) -> ControlRig:  # fmt: skip
    """Controls for a skeleton of any body plan.

    height : metres, sizes the shapes.
    recipe : how each kit is to be built, by id; one not named as is usual.
    front : how the body's own up and ahead are turned now (x y z w).
    pegs : places of pegs by name, for what no joint says: a heel.

    Every control reads zero at rest and no joint moves. Joints no kit knows (added by hand, from a file) get a
    turner each. Raises EditError for a skeleton without joints.
    """
    if not skeleton.joints:
        raise EditError("there are no joints to build controls on; build joints first")
    b = Builder(skeleton, height, rotation_matrix(front))
    both = MOVE + ROTATE
    roots = [j for j in skeleton.joints if j.parent is None]
    first = roots[0]
    low = abs(first.position[1]) < 0.08 * height and bool(skeleton.children(first.id))
    carries = first.id == "root" or low
    b.add("root", "root control", Side.CENTRE, WORLD, level(np.zeros(3)), Shape.CIRCLE, 0.26, (*both, SCALE))
    b.add("inner", "inner root", Side.CENTRE, control_node("root"), level(np.zeros(3)), Shape.ARROW, 0.17, both)
    if carries:
        # The root joint rides on the root control in its own axes, whatever they are.
        b.controls[0] = _with_rest(b.controls[0], skeleton.joint(first.id))
        b.drives.append(Drive(first.id, control_node("root")))
        b.taken_names.add(first.id)
    base = [c for c in skeleton.joints if c.parent == first.id] if carries else [first]
    slides = {j for kit in kits if kit.slides for j in kit.joints}
    bent = {kit.id: joints_bent(kit, recipe) for kit in kits}
    bent = {kit: joints for kit, joints in bent.items() if joints and all(j in skeleton.index for j in joints)}
    by_kit = {kit.id: kit for kit in kits}
    ik = {joint: by_kit[kit] for kit, joints in bent.items() for joint in joints}
    limb_joints = {joint for kit in kits for joint in kit.ik}
    between = _between(skeleton, kits)
    if base:
        lead = base[0]
        b.add("body", "body", Side.CENTRE, control_node("inner"), level(b.place(lead.id)), Shape.SQUARE, 0.15, both,
              drives=lead.id)  # fmt: skip
    done: set[str] = set()
    for joint in skeleton.joints:
        kit = ik.get(joint.id)
        if kit is not None:
            if joint.id == bent[kit.id][0] and kit.id not in done:
                done.add(kit.id)
                _bent(b, kit, bent[kit.id], recipe)
            continue
        if joint.id in b.taken_names or joint.id in between:
            continue
        if joint.parent is None or (carries and joint.parent == first.id):
            # A second skeleton's root beside the first one's has the name of the control that carries all.
            own = f"{joint.id}.own" if any(c.id == joint.id for c in b.controls) else joint.id
            b.turner(own, joint.id, control_node("inner"), channels=both, shape=Shape.SQUARE)
            continue
        keys = (*ROTATE, "move_y") if joint.id in slides else ROTATE
        shape = Shape.TRIANGLE if joint.role in ("clavicle", "blade") else Shape.CIRCLE
        size = HUMAN_SIZES.get(joint.id, 0.045 if shape is Shape.TRIANGLE else None)
        if joint.role == "finger":
            size = 0.014
        elif joint.id in ("leg.l.toes", "leg.r.toes"):
            size = 0.04
        by_hand = joint.id in limb_joints
        own = f"{joint.id}.fk" if by_hand else joint.id
        b.turner(own, joint.id, joint_node(joint.parent), size, shape=shape, channels=keys, clean=not by_hand)
    add_feet(b, kits, recipe, pegs)
    add_hands(b, kits, recipe)
    add_machines(b, kits, recipe)
    add_twists(b, kits, recipe)
    add_spaces(b, kits, recipe)
    add_eyes(b, kits)
    return ControlRig(
        tuple(b.controls), tuple(b.drives), tuple(b.solvers), constraints=tuple(b.constraints), couplings=tuple(b.couplings),
        twists=tuple(b.twists),
    )  # fmt: skip


def _bent(b: Builder, kit: Kit, joints: tuple[str, ...], recipe: Mapping[str, KitRig]) -> None:
    """The controls of a kit that a solver bends."""
    chosen = solver_of_kit(kit, recipe)
    if chosen is KitSolver.CHAIN:
        add_chain(b, kit)
    elif chosen is KitSolver.CURVE:
        add_curve(b, kit)
    else:
        how = recipe.get(kit.id, USUAL_KIT)
        add_limb(b, kit, joints, ik_at_rest=kit.ik_at_rest if how.ik_at_rest is None else how.ik_at_rest)


def _with_rest(control: Control, joint: Joint) -> Control:
    return replace(control, rest=tuple(level(np.array(joint.position)).ravel().tolist()))


def _between(skeleton: Skeleton, kits: tuple[Kit, ...]) -> set[str]:
    """Joints inside IK limbs that ride along: twist and helper joints, and joints put in between later."""
    found = {j.id for j in skeleton.joints if j.aside}
    for kit in kits:
        if len(kit.ik) == 3 and all(j in skeleton.index for j in kit.ik):
            for low in kit.ik[1:]:
                above = skeleton.joint(low).parent
                while above is not None and above not in kit.ik:
                    found.add(above)
                    above = skeleton.joint(above).parent
    return found


