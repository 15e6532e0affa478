"""Build controls from the limb kits, pose them, switch and match IK and FK."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from types import MappingProxyType

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.controls import (
    CHANNELS,
    ControlRig,
    IkLimb,
    Pose,
    Shape,
    Values,
    channel_rows,
    pose_of,
    with_values,
)
from pegloom.core.rig.match import fk_values, ik_values
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.rebuild import controls_of
from pegloom.document.model import Character, ControlOverride, Document


def build_controls(document: Document) -> Document:
    """Controls from the skeleton's limb kits; nothing moves, every control reads zero. Hand-made changes come again."""
    character = document.require_character()
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return document.with_character(replace(character, rig=controls_of(character)))


def drop_controls(document: Document) -> Document:
    """Take the controls away; joints, weights, overrides and keys stay for the next build."""
    return document.with_character(replace(document.require_character(), rig=None, pose=Pose()))


def reshape_control(
    document: Document, control_id: str, *, shape: Shape | None = None, size: float | None = None
) -> Document:
    """Another shape or size (a factor of the built one) for a control; kept through rebuilds."""
    character, _, rig = _rigged(document)
    rig.control(control_id)
    if size is not None and not 0.05 <= size <= 20:
        raise EditError(f"a control's size must be 0.05 to 20 of the built one, not {size:g}")
    there = character.control_overrides.get(control_id, ControlOverride())
    new = replace(there, shape=shape.value if shape else there.shape, size=size if size is not None else there.size)
    overrides = MappingProxyType({**character.control_overrides, control_id: new})
    return build_controls(document.with_character(replace(character, control_overrides=overrides)))


def set_pose(document: Document, pose: Pose) -> Document:
    """Take a pose in hand."""
    return document.with_character(replace(document.require_character(), pose=pose))


def set_channels(document: Document, control_id: str, **channels: float) -> Document:
    """Set some channels of a control. Raises EditError for a channel that is locked."""
    character, _, rig = _rigged(document)
    control = rig.control(control_id)
    for name in channels:
        if name not in control.free:
            raise EditError(f"{control.name} has no free channel {name.replace('_', ' ')}")
    return set_pose(document, with_values(character.pose, control, **channels))


def rest_controls(document: Document, control_ids: tuple[str, ...] | None = None) -> Document:
    """Some controls (None: all) back to zero. A limb's blend stays where it is when only some are named."""
    character, _, rig = _rigged(document)
    if control_ids is None:
        return set_pose(document, Pose())
    pose = character.pose
    for control_id in control_ids:
        control = rig.control(control_id)
        pose = with_values(pose, control, **{name: 0.0 for name in CHANNELS if name != "blend"})
    return set_pose(document, pose)


def switch_limb(document: Document, limb_id: str, blend: float) -> Document:
    """Move a limb's blend slider (0 FK, 1 IK) without moving a joint: the side switched to is matched first."""
    character, skeleton, rig = _rigged(document)
    limb = next((x for x in rig.limbs if x.id == limb_id), None)
    if limb is None:
        raise EditError(f"there is no IK limb {limb_id}")
    goal = rig.control(limb.goal)
    now = character.pose.controls.get(goal.id, goal.zero)[CHANNELS.index("blend")]
    pose = character.pose
    if blend < 0.5 <= now:
        pose = _matched(fk_values, skeleton, rig, pose, limb)
    elif blend >= 0.5 > now:
        pose = _matched(ik_values, skeleton, rig, pose, limb)
    return set_pose(document, with_values(pose, goal, blend=min(max(blend, 0.0), 1.0)))


def match_limb(document: Document, limb_id: str) -> Document:
    """Bring the controls of a limb that are out of use to where its joints stand."""
    character, skeleton, rig = _rigged(document)
    limb = next((x for x in rig.limbs if x.id == limb_id), None)
    if limb is None:
        raise EditError(f"there is no IK limb {limb_id}")
    goal = rig.control(limb.goal)
    now = character.pose.controls.get(goal.id, goal.zero)[CHANNELS.index("blend")]
    match = fk_values if now >= 0.5 else ik_values
    return set_pose(document, _matched(match, skeleton, rig, character.pose, limb))


def _matched(
    match: Callable[[Skeleton, ControlRig, FloatArray, IkLimb], FloatArray],
    skeleton: Skeleton, rig: ControlRig, pose: Pose, limb: IkLimb,
) -> Pose:  # fmt: skip
    return pose_of(rig, match(skeleton, rig, channel_rows(rig, pose)[None], limb)[0])


def mirror_pose(document: Document) -> Document:
    """The pose seen in a mirror: left and right controls trade their values.

    A control's rest frame and its partner's mirrored rest frame differ by a fixed turn; values go through it, so
    that axes that run alike or opposed on the two sides both come out right.
    """
    import numpy as np

    from pegloom.core.geometry.transforms import compose, decompose, euler_quaternion, quaternion_euler

    character, _, rig = _rigged(document)
    flip = np.diag([-1.0, 1.0, 1.0])
    posed: dict[str, Values] = {}
    for control_id, values in character.pose.controls.items():
        other_id = rig.other_side(control_id)
        if other_id is None:
            posed[control_id] = values
            continue
        here, there = rig.control(control_id).matrix[:3, :3], rig.control(other_id).matrix[:3, :3]
        to_other = there.T @ flip @ here
        local = compose(values[:3], euler_quaternion(values[3:6]))
        turned = to_other @ local[:3, :3] @ to_other.T
        matrix = np.eye(4)
        matrix[:3, :3] = turned
        _, q, _ = decompose(matrix)
        move = to_other @ np.array(values[:3])
        angles = quaternion_euler(q)
        posed[other_id] = (
            float(move[0]), float(move[1]), float(move[2]),
            float(angles[0]), float(angles[1]), float(angles[2]), values[6], values[7],
        )  # fmt: skip
    return set_pose(document, Pose(MappingProxyType(posed)))


def _rigged(document: Document) -> tuple[Character, Skeleton, ControlRig]:
    character = document.require_character()
    if character.skeleton is None or character.rig is None:
        raise EditError("there are no controls yet; build controls first")
    return character, character.skeleton, character.rig
