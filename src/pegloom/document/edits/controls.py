"""Build controls from the limb kits, change what was built, pose them, switch and match IK and FK."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.changes import ChannelChange, ControlChange, RigChanges, changed_rig, unchanged, waiting
from pegloom.core.rig.channels import MOVE, TRANSFORM
from pegloom.core.rig.controls import RECIPE, ControlRig, with_values
from pegloom.core.rig.evaluate import evaluate_rig, place_control
from pegloom.core.rig.match import fk_values, ik_values
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.posing import branch, swapped
from pegloom.core.rig.recipe import KitRig
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.solvers import Solver, own_start
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.document.edits.rebuild import controls_of, kits_of, recipe_rig, resting
from pegloom.document.model import Character, Document

NOWHERE: Vector = (0.0, 0.0, 0.0)
PARTED = 5e-3
"""Share of the height a control's recipe may move before a rest moved by hand on it is asked about."""


def build_controls(document: Document) -> Document:
    """Controls from the skeleton's limb kits; nothing moves, every control rests. Hand-made changes come again."""
    character = document.require_character()
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    rig = controls_of(character)
    # A loop is refused by the edit that would close it.
    make_plan(character.skeleton, rig)
    return document.with_character(replace(character, rig=rig))


def drop_controls(document: Document) -> Document:
    """Take the controls away; joints, weights, changes and keys stay for the next build."""
    return document.with_character(replace(document.require_character(), rig=None, pose=Pose()))


def newer_build(character: Character) -> tuple[ControlRig, float] | None:
    """What today's recipe makes of controls an older one built, and how far a control then stands elsewhere at most,
    in millimetres; None where the controls are today's."""
    if character.rig is None or character.skeleton is None or character.rig.built_by >= RECIPE:
        return None
    result = controls_of(character)
    present = character.rig.index
    gaps = [
        float(np.linalg.norm(c.matrix[:3, 3] - character.rig.control(c.id).matrix[:3, 3]))
        for c in result.controls
        if c.id in present
    ]
    return result, 1000.0 * max(gaps, default=0.0)


def waiting_changes(character: Character) -> tuple[str, ...]:
    """What changes made by hand wait for: controls and channels the recipe does not make now."""
    changes = character.rig_changes
    if character.rig is None or changes.empty:
        return ()
    return waiting(recipe_rig(character), changes, resting(character))


def set_kit_rig(document: Document, kit_id: str, how: KitRig) -> Document:
    """How a limb kit is to be built; kept through rebuilds. Raises EditError for a kit there is not."""
    character = document.require_character()
    if all(kit.id != kit_id for kit in kits_of(character)):
        raise EditError(f"there is no limb kit {kit_id}")
    if character.rig is not None and character.rig.built_by < RECIPE:
        raise EditError("an older Peg Loom built these controls; build them anew first")
    recipe = {k: v for k, v in character.rig_recipe.items() if k != kit_id}
    if how != KitRig():
        recipe[kit_id] = how
    changed = document.with_character(replace(character, rig_recipe=MappingProxyType(recipe)))
    if character.rig is None:
        return changed
    bodies = [s for s in character.rig_changes.own_solvers if own_start(s)]
    if not bodies:
        return build_controls(changed)
    # A whole body goes by the limbs there are: it is put on again.
    from pegloom.document.edits.rig.solvers import put_body

    kept = tuple(s for s in character.rig_changes.own_solvers if not own_start(s))
    bare = replace(changed.require_character(), rig_changes=replace(character.rig_changes, own_solvers=kept))
    return put_body(build_controls(changed.with_character(bare)), bodies[0].id, bodies[0].name)


def rename_control(document: Document, control_id: str, name: str) -> Document:
    """Another name for a control; kept through rebuilds. Raises EditError for an empty or taken name."""
    _, _, rig = _rigged(document)
    wanted = name.strip()
    if not wanted or any(c.name == wanted and c.id != control_id for c in rig.controls):
        raise EditError("give the control a name that is not taken yet")
    return _changing(document, control_id, lambda change: replace(change, name=wanted))


def place_rest(document: Document, control_id: str, *, move: Vector = NOWHERE, turn: Vector = NOWHERE) -> Document:
    """Move (metres) and turn (x y z radians) a control's rest in its built axes; kept through rebuilds, no joint moves."""
    character, _, _ = _rigged(document)
    built = recipe_rig(character)
    seen = built.control(control_id).rest if control_id in built.index else None
    return _changing(document, control_id, lambda change: replace(change, rest_move=move, rest_turn=turn, seen=seen))


def parted_rests(character: Character) -> dict[str, float]:
    """Controls whose rest was moved by hand and whose recipe has moved since: how far, in metres. They went along."""
    moved = {c: change.seen for c, change in character.rig_changes.controls.items() if change.seen is not None}
    if not moved or character.rig is None:
        return {}
    built = recipe_rig(character)
    found = {}
    for control_id, seen in moved.items():
        if control_id in built.index:
            now = built.control(control_id).matrix
            gap = float(np.linalg.norm(now[:3, 3] - np.array(seen).reshape(4, 4)[:3, 3]))
            if gap > PARTED * character.height:
                found[control_id] = gap
    return found


def keep_rests(document: Document, control_ids: tuple[str, ...]) -> Document:
    """What was moved by hand on some controls is right where it is now, though their recipe has moved."""
    character, _, rig = _rigged(document)
    built, controls = recipe_rig(character), dict(character.rig_changes.controls)
    for control_id in control_ids:
        rig.control(control_id)
        if control_id in controls and control_id in built.index:
            controls[control_id] = replace(controls[control_id], seen=built.control(control_id).rest)
    changes = replace(character.rig_changes, controls=MappingProxyType(controls))
    return document.with_character(replace(character, rig_changes=changes))


def drop_control(document: Document, control_id: str) -> Document:
    """Take one control out; what rode on it rides on what it rode on. Kept through rebuilds."""
    character, _, rig = _rigged(document)
    rig.control(control_id)
    changes = replace(character.rig_changes, dropped=character.rig_changes.dropped | {control_id})
    pose = character.pose
    if isinstance(pose, Pose):
        pose = Pose({ref: v for ref, v in pose.values.items() if ref[0] != control_id})
    return put_changes(set_pose(document, pose), changes)


def forget_changes(document: Document, control_id: str) -> Document:
    """A control as the recipe builds it again: everything changed by hand on it is forgotten, a dropped one returns."""
    character = document.require_character()
    old_changes = character.rig_changes
    changes = replace(
        old_changes,
        controls=MappingProxyType({c: v for c, v in old_changes.controls.items() if c != control_id}),
        channels=MappingProxyType({ref: v for ref, v in old_changes.channels.items() if ref[0] != control_id}),
        dropped=old_changes.dropped - {control_id},
    )
    return put_changes(document, changes)


def change_channel(document: Document, control_id: str, key: str, change: ChannelChange) -> Document:
    """Title, limits, lock of a channel; kept through rebuilds.

    Raises EditError for a channel there is not, limits the wrong way round, or limits that leave its rest out.
    """
    character, _, rig = _rigged(document)
    channel = rig.control(control_id).channel(key)
    if channel is None:
        raise EditError(f"{rig.control(control_id).name} has no channel {key.replace('_', ' ')}")
    low, high = change.limits or (None, None)
    if low is not None and high is not None and low > high:
        raise EditError("the lower limit must not be above the upper one")
    rest = channel.rest if change.rest is None else change.rest
    if (low is not None and low > rest) or (high is not None and high < rest):
        raise EditError(f"the limits must leave the rest, {rest:g}, within them")
    if change.soft is not None and change.soft < 0:
        raise EditError("a limit eases in over 0 or more")
    channels = {**character.rig_changes.channels, ChannelRef(control_id, key): change}
    changes = replace(character.rig_changes, channels=MappingProxyType(channels))
    return put_changes(document, changes)


def put_changes(document: Document, changes: RigChanges) -> Document:
    """Other changes on the controls there are; what an older recipe built stays as it built it."""
    character = document.require_character()
    changed = replace(character, rig_changes=changes)
    if character.rig is None or character.skeleton is None:
        return document.with_character(changed)
    if character.rig.built_by >= RECIPE:
        return build_controls(document.with_character(changed))
    rig = changed_rig(unchanged(character.rig, character.rig_changes, recipe_rig(character)), changes, resting(character))
    make_plan(character.skeleton, rig)
    return document.with_character(replace(changed, rig=rig))


def _changing(document: Document, control_id: str, change: Callable[[ControlChange], ControlChange]) -> Document:
    character, _, rig = _rigged(document)
    rig.control(control_id)
    by_control = character.rig_changes.controls
    controls = MappingProxyType({**by_control, control_id: change(by_control.get(control_id, ControlChange()))})
    changes = replace(character.rig_changes, controls=controls)
    return put_changes(document, changes)


def set_pose(document: Document, pose: Shown) -> Document:
    """Take a pose in hand."""
    return document.with_character(replace(document.require_character(), pose=pose))


def set_channels(document: Document, control_id: str, **channels: float) -> Document:
    """Set some channels of a control. Raises EditError for a channel that is locked."""
    character, _, rig = _rigged(document)
    control = rig.control(control_id)
    for name in channels:
        if name not in control.free:
            raise EditError(f"{control.name} has no free channel {name.replace('_', ' ')}")
    return set_pose(document, with_values(rig, posed(character), control_id, **channels))


def rest_controls(document: Document, control_ids: tuple[str, ...] | None = None, *, below: bool = False) -> Document:
    """Some controls (None: all) back to rest, with `below` all that hangs on them, too. A limb's blend stays where it is when
    only some are named."""
    character, _, rig = _rigged(document)
    if below and control_ids is not None:
        control_ids = branch(rig, control_ids)
    if control_ids is None:
        return set_pose(document, Pose())
    pose = posed(character)
    kept = {ref: v for ref, v in pose.values.items() if ref[0] not in control_ids or ref[1] not in TRANSFORM}
    for control_id in control_ids:
        rig.control(control_id)
    return set_pose(document, Pose(kept))


def posed(character: Character) -> Pose:
    """The pose in hand, by controls; rest where it is told by joints."""
    return character.pose if isinstance(character.pose, Pose) else Pose()


def switch_limb(document: Document, limb_id: str, blend: float) -> Document:
    """Move a limb's blend slider (0 FK, 1 IK) without moving a joint: the side switched to is matched first."""
    character, skeleton, rig = _rigged(document)
    limb, pose = _limb(rig, limb_id), posed(character)
    now = rig.value(pose, limb.amount)
    if blend < 0.5 <= now:
        pose = _matched(fk_values, skeleton, rig, pose, limb)
    elif blend >= 0.5 > now:
        pose = _matched(ik_values, skeleton, rig, pose, limb)
    amount = {limb.amount.key: min(max(blend, 0.0), 1.0)}
    stood = evaluate_rig(skeleton, rig, posed(character)).controls
    pose = with_values(rig, pose, limb.amount.owner, **amount)
    for control in rig.riders_of(limb):
        # Toes that IK keeps flat stay as they are.
        pose = place_control(skeleton, rig, pose, control, stood[rig.index[control.id]], keep=MOVE)
    return set_pose(document, pose)


def match_limb(document: Document, limb_id: str) -> Document:
    """Bring the controls of a limb that are out of use to where its joints stand."""
    character, skeleton, rig = _rigged(document)
    limb, pose = _limb(rig, limb_id), posed(character)
    match = fk_values if rig.value(pose, limb.amount) >= 0.5 else ik_values
    return set_pose(document, _matched(match, skeleton, rig, pose, limb))


def _limb(rig: ControlRig, limb_id: str) -> Solver:
    limb = next((x for x in rig.solvers if x.id == limb_id), None)
    if limb is None:
        raise EditError(f"there is no IK limb {limb_id}")
    return limb


def _matched(
    match: Callable[[Skeleton, ControlRig, FloatArray, Solver], FloatArray],
    skeleton: Skeleton, rig: ControlRig, pose: Pose, limb: Solver,
) -> Pose:  # fmt: skip
    slots = rig.slots
    return slots.pose(match(skeleton, rig, slots.vector(pose)[None], limb)[0])


def mirror_pose(document: Document, control_ids: tuple[str, ...] | None = None) -> Document:
    """The pose seen in a mirror: left and right trade their values. control_ids : of these and their partners alone."""
    character, _, rig = _rigged(document)
    return set_pose(document, swapped(rig, posed(character), control_ids))


def _rigged(document: Document) -> tuple[Character, Skeleton, ControlRig]:
    character = document.require_character()
    if character.skeleton is None or character.rig is None:
        raise EditError("there are no controls yet; build controls first")
    return character, character.skeleton, character.rig
