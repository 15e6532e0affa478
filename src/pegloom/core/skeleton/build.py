"""From pegs to joints: each kit lays its joints along its pegs, with clean, mirrored axes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.transforms import (
    frame,
    matrix_quaternion,
    normalised,
    quaternion_about,
    rotation_matrix,
)
from pegloom.core.skeleton.joints import Joint, JointKind, Quaternion, Side, Skeleton, Vector
from pegloom.core.skeleton.kits import Kit, role_in_kit
from pegloom.core.skeleton.patterns import pattern
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.tolerances import PREBEND

AS_STOOD: Quaternion = (0.0, 0.0, 0.0, 1.0)
"""The turn of a body that stands as it did when its joints were made."""

BULGES = {
    "back": (0.0, 0.0, -1.0),
    "front": (0.0, 0.0, 1.0),
    "up": (0.0, 1.0, 0.0),
    "down": (0.0, -1.0, 0.0),
    "out": (1.0, 0.0, 0.0),
}
"""Which way a limb's middle points when it folds, for the left side."""


def kits_in(pegs: PegSet) -> tuple[Kit, ...]:
    """The kits of a peg set; one from an early project has none of its own and is its pattern's."""
    if pegs.kits or not pegs.pattern:
        return pegs.kits
    return pattern(pegs.pattern).kits(fingers=pegs.fingers)


def build_joints(pegs: PegSet, base: Skeleton | None = None, *, front: Quaternion = AS_STOOD) -> Skeleton:
    """Joints of a body from its pegs: clean axes, mirrored bend axes, ids by limb kit.

    base : joints that are there already (a file's), which kits may hang on.
    front : how the body's own up and ahead are turned now (x y z w): which way straight limbs bend goes with it.

    Raises ShapeError naming a missing peg, or a kit that hangs on nothing.
    """
    turn = rotation_matrix(front)
    # Laid out as the body first stood, then turned: so a turned body's joints are the turned joints.
    at = {peg.name: np.array(peg.position) @ turn for peg in pegs.pegs}
    joints: list[Joint] = list(base.joints) if base is not None else []
    result: set[str] = {j.id for j in joints}
    waiting = list(kits_in(pegs))
    while waiting:
        ready = [kit for kit in waiting if not kit.attach or kit.attach in result]
        if not ready:
            kit = waiting[0]
            raise ShapeError(f"the kit {kit.id} hangs on {kit.attach}, which is not there; attach it elsewhere")
        for kit in ready:
            new = _chain(kit, at, pegs)
            joints += new if front == AS_STOOD or kit.kind == "root" else [turned(j, turn) for j in new]
            result |= {j.id for j in new}
        waiting = [kit for kit in waiting if kit not in ready]
    return Skeleton(tuple(joints))


def turned(joint: Joint, turn: FloatArray) -> Joint:
    """The joint with all of it turned about the origin by a (3, 3)."""

    def place(at: Vector) -> Vector:
        x, y, z = (turn @ np.array(at)).tolist()
        return (x, y, z)

    x, y, z, w = matrix_quaternion(turn @ rotation_matrix(joint.rotation)).tolist()
    tail = None if joint.tail is None else place(joint.tail)
    return replace(joint, position=place(joint.position), rotation=(x, y, z, w), tail=tail)


def peg_line(kit: Kit, at: dict[str, FloatArray], pegs: PegSet) -> FloatArray:
    """Places (p, 3) of a kit's pegs. Raises ShapeError naming a missing one."""
    missing = next((p for p in kit.pegs if p not in at), None)
    if missing is not None:
        raise ShapeError(f"the peg {missing} is missing from the {pegs.pattern} pattern's pegs")
    return np.array([at[p] for p in kit.pegs]).reshape(-1, 3)


def along(line: FloatArray, place: float) -> FloatArray:
    """The point at a place along a polyline (p, 3): 1.5 is half way from its second point to its third."""
    i = int(np.clip(np.floor(place), 0, max(len(line) - 2, 0)))
    if len(line) == 1:
        return np.asarray(line[0])
    return np.asarray(line[i] + (place - i) * (line[i + 1] - line[i]))


def _chain(kit: Kit, at: dict[str, FloatArray], pegs: PegSet) -> list[Joint]:
    if not kit.joints:
        # Landmarks alone: they say where something is, and no joint stands there.
        return []
    if kit.kind == "root":
        return [make_joint(kit.joints[0], kit.names[0], None, Side.CENTRE, np.zeros(3), np.eye(3))]
    line = peg_line(kit, at, pegs)
    places = [along(line, p) for p in kit.at]
    end = line[-1]
    has_tail = kit.at[-1] < len(line) - 1
    bend = bend_axis(kit, line, at)
    parent: str | None = kit.attach or None
    joints: list[Joint] = []
    for i, (joint_id, name) in enumerate(zip(kit.joints, kit.names, strict=True)):
        if i + 1 < len(places):
            towards = places[i + 1]
        elif has_tail:
            towards = end
        else:
            towards = places[i] + (places[i] - places[i - 1] if i else np.array([0.0, 1.0, 0.0]))
        axes = frame(towards - places[i], bend)
        if kit.roll:
            sign = -1.0 if kit.side is Side.RIGHT else 1.0
            axes = rotation_matrix(quaternion_about(axes[:, 1], kit.roll * sign)) @ axes
        tail = end if has_tail and i + 1 == len(places) else None
        joints.append(make_joint(joint_id, name, parent, kit.side, places[i], axes, tail))
        parent = joint_id
    return joints + _twists(kit, joints)


def _twists(kit: Kit, joints: list[Joint]) -> list[Joint]:
    """Joints along the limb's bones, which share its twist out."""
    result: list[Joint] = []
    by_id = {j.id: j for j in joints}
    for here, following, at_root in kit.twisted_bones if kit.twist else ():
        if here not in by_id or following not in by_id:
            continue
        bone = by_id[here]
        start, end = np.array(bone.position), np.array(by_id[following].position)
        for k in range(1, kit.twist + 1):
            at = k - 1 if at_root else k
            place = start + (end - start) * at / (kit.twist + 1)
            tail = start + (end - start) * (at + 1) / (kit.twist + 1)
            axes = rotation_matrix(bone.rotation)
            name = f"{bone.name}_twist_{k}"
            joint = make_joint(f"{here}.twist{k}", name, here, kit.side, place, axes, tail)
            result.append(replace(joint, kind=JointKind.TWIST, role=""))
    return result


def make_joint(
    joint_id: str, name: str, parent: str | None, side: Side, position: FloatArray, axes: FloatArray,
    tail: FloatArray | None = None,
) -> Joint:  # fmt: skip
    """A kit's joint of plain numbers from arrays: position (3,), axes (3, 3), tail (3,)."""
    turn = tuple(float(v) for v in matrix_quaternion(axes))
    x, y, z = (float(v) for v in position)
    end = None if tail is None else tuple(float(v) for v in tail)
    return Joint(joint_id, name, parent, side, (x, y, z), turn, end, role=role_in_kit(joint_id))  # type: ignore[arg-type]


def bend_axis(kit: Kit, line: FloatArray, at: dict[str, FloatArray]) -> FloatArray:
    """The one axis a kit's joints bend about; left and right behave as in a mirror."""
    sign = -1.0 if kit.side is Side.RIGHT else 1.0
    if kit.bend in BULGES and len(kit.fold) == 3:
        bulge = np.array(BULGES[kit.bend]) * [sign, 1.0, 1.0]
        a, b, c = (line[k] for k in kit.fold)
        return limb_bend_axis(a, b, c, bulge)
    if kit.bend == "facing":
        return np.array([0.0, 0.0, sign])
    if kit.bend in ("finger", "thumb"):
        s = kit.pegs[0][:2]
        across = across_the_hand(at, s)
        if kit.bend == "finger":
            return across * -sign
        if s + "palm" in at and s + "wrist" in at:
            return np.asarray(np.cross(across, normalised(at[s + "palm"] - at[s + "wrist"])))
    return np.array([1.0, 0.0, 0.0])


def limb_bend_axis(start: FloatArray, middle: FloatArray, end: FloatArray, bulge: FloatArray) -> FloatArray:
    """The unit axis a limb bends about: a positive turn folds it.

    From the limb's own plane where it is bent by more than PREBEND toward `bulge`'s half space; else from `bulge`,
    the direction its middle joint points to when it folds (elbow back, knee forward).
    """
    upper, lower = normalised(middle - start), normalised(end - middle)
    wanted = normalised(np.cross(upper, -bulge))
    axis = np.cross(upper, lower)
    if np.linalg.norm(axis) > np.sin(PREBEND) and float(axis @ wanted) > 0.5 * float(np.linalg.norm(axis)):
        return normalised(axis)
    return wanted


def across_the_hand(at: dict[str, FloatArray], s: str) -> FloatArray:
    """From the little finger's knuckle to the index finger's; s is `l_` or `r_`."""
    names = [n for n in ("index_base", "middle_base", "ring_base", "little_base") if s + n in at]
    if len(names) >= 2:
        return normalised(at[s + names[0]] - at[s + names[-1]])
    return np.array([0.0, 0.0, 1.0])
