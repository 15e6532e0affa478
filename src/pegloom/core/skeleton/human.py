"""The human pattern: which pegs there are, what each means, and the joints they make."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import frame, matrix_quaternion, normalised
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.tolerances import PREBEND

PATTERN = "human"
CENTRE_PEGS = ("hips", "waist", "chest", "neck", "head", "crown")
SIDE_PEGS = ("clavicle", "shoulder", "elbow", "wrist", "palm", "hip", "knee", "ankle", "ball", "toe")
FINGERS = ("thumb", "index", "middle", "ring", "little")

SENTENCES = {
    "hips": "In the middle of the pelvis, a hand's breadth above the crotch, toward the back.",
    "waist": "In the spine at the height of the navel, toward the back.",
    "chest": "In the spine between the shoulder blades, toward the back.",
    "neck": "Where the neck leaves the shoulders, in the spine.",
    "head": "Where the skull sits on the neck, about at the height of the ear lobes.",
    "crown": "On the top of the skull.",
    "clavicle": "Beside the notch of the throat, where the collarbone begins.",
    "shoulder": "In the middle of the ball of the upper arm, just under the outer end of the collarbone.",
    "elbow": "In the crook's middle, a little toward the point of the elbow.",
    "wrist": "In the middle of the narrowest place between forearm and hand.",
    "palm": "At the knuckle of the middle finger.",
    "hip": "In the ball of the thigh, outward from the crotch and a little above it.",
    "knee": "In the middle of the knee, a little behind the kneecap.",
    "ankle": "Between the two ankle bones.",
    "ball": "At the ball of the foot, where the toes bend.",
    "toe": "At the tip of the big toe.",
}


def finger_names(count: int) -> tuple[str, ...]:
    """Which fingers a hand with `count` of them has; one means a mitten."""
    return {
        0: (),
        1: ("mitten",),
        2: ("thumb", "mitten"),
        3: ("thumb", "index", "middle"),
        4: ("thumb", "index", "middle", "little"),
        5: FINGERS,
    }[count]


def peg_names(fingers: int) -> tuple[str, ...]:
    """All pegs of the pattern; sided ones as l_ and r_."""
    sided = [*SIDE_PEGS]
    for finger in finger_names(fingers):
        sided += [f"{finger}_base", f"{finger}_tip"]
    return CENTRE_PEGS + tuple(f"{side}_{name}" for name in sided for side in ("l", "r"))


def sentence(peg: str) -> str:
    """Where a peg goes, for a person."""
    base = peg[2:] if peg[:2] in ("l_", "r_") else peg
    if base.endswith("_base"):
        return f"In the knuckle of the {base[:-5]}, on the wrist side of the crease."
    if base.endswith("_tip"):
        return f"At the tip of the {base[:-4]}."
    return SENTENCES[base]


def build_joints(pegs: PegSet) -> Skeleton:
    """Joints of a human from its pegs: clean axes, mirrored bend axes, ids by limb kit.

    Raises ShapeError naming a missing peg.
    """
    at = {name: np.array(pegs.position(name)) for name in peg_names(pegs.fingers)}
    joints: list[Joint] = [_joint("root", "c_root", None, np.zeros(3), at["hips"], [1, 0, 0], keep_level=True)]
    joints += _trunk(at)
    for side, sign in (("l", 1.0), ("r", -1.0)):
        joints += _arm(at, side)
        for finger in finger_names(pegs.fingers):
            joints += _finger(at, side, sign, finger)
    for side in ("l", "r"):
        joints += _leg(at, side)
    return Skeleton(tuple(joints))


def _joint(
    joint_id: str,
    name: str,
    parent: str | None,
    position: FloatArray,
    aim_at: FloatArray,
    bend: object,
    *,
    leaf: bool = False,
    keep_level: bool = False,
) -> Joint:
    aim = np.array([0.0, 1.0, 0.0]) if keep_level else aim_at - position
    turn = matrix_quaternion(frame(aim, np.asarray(bend, dtype=np.float64)))
    side = {"l": Side.LEFT, "r": Side.RIGHT}.get(name[0], Side.CENTRE)
    x, y, z = (float(v) for v in position)
    tail = tuple(float(v) for v in aim_at) if leaf else None
    return Joint(joint_id, name, parent, side, (x, y, z), tuple(float(v) for v in turn), tail)  # type: ignore[arg-type]


def _trunk(at: dict[str, FloatArray]) -> list[Joint]:
    chain = [("hips", "hips"), ("spine", "waist"), ("chest", "chest"), ("neck", "neck"), ("head", "head")]
    ends = ["waist", "chest", "neck", "head", "crown"]
    parent, joints = "root", []
    for (kit, peg), end in zip(chain, ends, strict=True):
        leaf = kit == "head"
        joints.append(_joint(f"spine.{kit}", f"c_{kit}", parent, at[peg], at[end], [1, 0, 0], leaf=leaf))
        parent = f"spine.{kit}"
    return joints


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


def _arm(at: dict[str, FloatArray], s: str) -> list[Joint]:
    shoulder, elbow, wrist, palm = (at[f"{s}_{n}"] for n in ("shoulder", "elbow", "wrist", "palm"))
    bend = limb_bend_axis(shoulder, elbow, wrist, np.array([0.0, 0.0, -1.0]))
    kit = f"arm.{s}"
    return [
        _joint(f"{kit}.clavicle", f"{s}_clavicle", "spine.chest", at[f"{s}_clavicle"], shoulder, bend),
        _joint(f"{kit}.upper", f"{s}_upper_arm", f"{kit}.clavicle", shoulder, elbow, bend),
        _joint(f"{kit}.lower", f"{s}_forearm", f"{kit}.upper", elbow, wrist, bend),
        _joint(f"{kit}.end", f"{s}_hand", f"{kit}.lower", wrist, palm, bend, leaf=True),
    ]


def _finger(at: dict[str, FloatArray], s: str, sign: float, finger: str) -> list[Joint]:
    base, tip, wrist = at[f"{s}_{finger}_base"], at[f"{s}_{finger}_tip"], at[f"{s}_wrist"]
    hand = normalised(at[f"{s}_palm"] - wrist)
    # Fingers fold toward the palm, about the axis across the knuckles; the thumb folds across the hand.
    across = _across_the_hand(at, s)
    bend = np.cross(across, hand) if finger == "thumb" else across * -sign
    kit = f"hand.{s}.{finger}"
    points = [base, base + 0.45 * (tip - base), base + 0.75 * (tip - base), tip]
    parent, joints = f"arm.{s}.end", []
    for number in range(3):
        joint_id = f"{kit}.{number + 1}"
        joints.append(
            _joint(
                joint_id,
                f"{s}_{finger}_{number + 1}",
                parent,
                points[number],
                points[number + 1],
                bend,
                leaf=number == 2,
            )
        )
        parent = joint_id
    return joints


def _across_the_hand(at: dict[str, FloatArray], s: str) -> FloatArray:
    names = [n for n in ("index_base", "middle_base", "ring_base", "little_base") if f"{s}_{n}" in at]
    if len(names) >= 2:
        return normalised(at[f"{s}_{names[0]}"] - at[f"{s}_{names[-1]}"])
    return np.array([0.0, 0.0, 1.0])


def _leg(at: dict[str, FloatArray], s: str) -> list[Joint]:
    hip, knee, ankle, ball, toe = (at[f"{s}_{n}"] for n in ("hip", "knee", "ankle", "ball", "toe"))
    bend = limb_bend_axis(hip, knee, ankle, np.array([0.0, 0.0, 1.0]))
    kit = f"leg.{s}"
    return [
        _joint(f"{kit}.upper", f"{s}_thigh", "spine.hips", hip, knee, bend),
        _joint(f"{kit}.lower", f"{s}_shin", f"{kit}.upper", knee, ankle, bend),
        _joint(f"{kit}.end", f"{s}_foot", f"{kit}.lower", ankle, ball, bend),
        _joint(f"{kit}.toes", f"{s}_toes", f"{kit}.end", ball, toe, bend, leaf=True),
    ]
