"""Constraints and spaces: make, change, drop, switch."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample, with_keys
from pegloom.core.rig.changes import references
from pegloom.core.rig.channels import MOVE, ROTATE, Channel, Quantity
from pegloom.core.rig.constraints import Constraint, Follow, Target, kept_offset
from pegloom.core.rig.controls import ControlRig, with_values
from pegloom.core.rig.evaluate import evaluate_rig, place_control
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.solvers import belongs
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.controls import posed, set_pose, switch_limb
from pegloom.document.edits.layers import key_in_layer
from pegloom.document.edits.rig.changing import (
    HOLD,
    control_id,
    fewer_channels,
    free_key,
    fresh,
    more_channels,
    name_of,
    node,
    rigged,
    with_changes,
    without_values,
)
from pegloom.document.model import Document

OFFSETS = ("rest", "posed", "none")
SPACE = "follow_"
"""Keys of a space's channel begin with it."""


def constrain(
    document: Document, held: str | NodeRef, targets: Sequence[str | NodeRef], follow: Follow = Follow.PARENT, *,
    axes: str = "xyz", name: str = "", keep: bool = True, weights: Sequence[float] | None = None, as_posed: bool = False,
    up: str | NodeRef | None = None,
) -> tuple[Document, str]:  # fmt: skip
    """Make a control or joint follow others; nothing moves. Gives the constraint's id.

    held, targets, up : by id or name.
    keep : whether the offset between them stays; without, the held node goes onto its targets.
    weights : of each target at rest; evenly shared where not told.
    as_posed : the offset of the pose in hand is kept instead of that at rest.
    Raises EditError where it would close a loop (named), or what it holds is worked out by a solver.
    """
    character, skeleton, rig = rigged(document)
    holds = node(skeleton, rig, held, held=True)
    follows = [node(skeleton, rig, t) for t in targets]
    if not follows:
        raise EditError("choose what is to be followed first: at least one target")
    if len(set(follows)) != len(follows):
        raise EditError("one target is named twice")
    shares = list(weights) if weights is not None else [1.0 / len(follows)] * len(follows)
    if len(shares) != len(follows) or any(not 0 <= s <= 1 for s in shares):
        raise EditError("each target has one weight of 0 to 1")
    document, (made,) = fresh(document, HOLD)
    owner, stem = _owner(holds), made.replace(".", "")
    said = name or f"{name_of(skeleton, rig, holds)} {follow.value}"
    # Beside the control it holds a channel needs no more than a word; among those of the whole rig it says of what.
    word = name or (follow.value if owner != BOARD else said)
    channels = [Channel(f"{stem}_amount", f"{word}: amount", Quantity.SHARE, 1.0, 0.0, 1.0)]
    made_targets = []
    for k, (target, share) in enumerate(zip(follows, shares, strict=True)):
        key = f"{stem}_{k + 1}"
        channels.append(Channel(key, f"{word}: {name_of(skeleton, rig, target)}", Quantity.SHARE, share, 0.0, 1.0))
        offset = None if keep else tuple(np.eye(4).ravel().tolist())
        if keep and as_posed and follow is not Follow.AIM:
            offset = _as_posed(skeleton, rig, posed(character), holds, target, follow)
        made_targets.append(Target(target, ChannelRef(owner, key), offset))
    up_node = None if up is None else node(skeleton, rig, up)
    constraint = Constraint(
        made, holds, follow, tuple(made_targets), ChannelRef(owner, f"{stem}_amount"), said, axes, up_node=up_node,
        aim=None if keep or follow is not Follow.AIM else (0.0, 1.0, 0.0),
    )  # fmt: skip
    return _put(document, constraint, owner, channels), made


def _owner(held: NodeRef) -> str:
    return held.id if held.kind is NodeKind.BASE else BOARD


def _put(document: Document, constraint: Constraint, owner: str, channels: Sequence[Channel]) -> Document:
    character, _, rig = rigged(document)
    changes = character.rig_changes
    others = [c.order for c in rig.constraints if c.held == constraint.held and c.id != constraint.id]
    if others and all(c.id != constraint.id for c in rig.constraints):
        # A new one starts from what those before it give.
        constraint = replace(constraint, order=max(others) + 1)
    kept = tuple(c for c in changes.own_constraints if c.id != constraint.id)
    return with_changes(
        document, own_constraints=(*kept, constraint), own_channels=more_channels(changes.own_channels, owner, channels),
        dropped=changes.dropped - {constraint.id},
    )  # fmt: skip


def _as_posed(skeleton: Skeleton, rig: ControlRig, pose: Pose, held: NodeRef, target: NodeRef, follow: Follow) -> tuple[float, ...]:
    frame = evaluate_rig(skeleton, rig, pose)

    def place(ref: NodeRef) -> np.ndarray:
        if ref.kind is NodeKind.WORLD:
            return np.eye(4)
        if ref.kind is NodeKind.JOINT:
            return np.asarray(frame.joints[skeleton.index[ref.id]])
        return np.asarray((frame.bases if ref.kind is NodeKind.BASE else frame.controls)[rig.index[ref.id]])

    if held.kind is NodeKind.JOINT:
        parent = skeleton.joint(held.id).parent
        carrier = np.eye(4) if parent is None else frame.joints[skeleton.index[parent]]
    else:
        carrier = place(rig.control(held.id).parent)
    return kept_offset(follow, place(target), place(held), carrier)


def change_constraint(
    document: Document, constraint_id: str, *, follow: Follow | None = None, axes: str | None = None, name: str | None = None,
    order: int | None = None, up: str | NodeRef | None = None, offset: str | None = None,
) -> Document:  # fmt: skip
    """Another kind, axes, name, place among those on the same node, or what says where up is ("none" for nothing).

    offset : what is kept between what is held and what it follows: as they stand at "rest", as they are "posed" now, or "none".
        Aims keep none.
    """
    character, skeleton, rig = rigged(document)
    constraint = _constraint(rig, constraint_id)
    if offset is not None:
        if offset not in OFFSETS:
            raise EditError(f"an offset is kept from {', '.join(OFFSETS)}, not {offset}")
        kind, none = follow or constraint.follow, tuple(np.eye(4).ravel().tolist())

        def kept(target: Target) -> tuple[float, ...] | None:
            if offset == "posed" and kind is not Follow.AIM:
                return _as_posed(skeleton, rig, posed(character), constraint.held, target.node, kind)
            return none if offset == "none" else None

        constraint = replace(constraint, targets=tuple(replace(t, offset=kept(t)) for t in constraint.targets))
    changed = replace(
        constraint, follow=follow or constraint.follow, axes=constraint.axes if axes is None else axes,
        name=constraint.name if name is None else name.strip() or constraint.name,
        order=constraint.order if order is None else order,
        up_node=constraint.up_node if up is None else None if up == "none" else node(skeleton, rig, up),
    )  # fmt: skip
    return _put(document, changed, _owner(constraint.held), ())


def add_target(document: Document, constraint_id: str, target: str | NodeRef, weight: float = 0.0) -> Document:
    """One more thing to follow; nothing moves at rest."""
    _, skeleton, rig = rigged(document)
    constraint = _constraint(rig, constraint_id)
    found, owner = node(skeleton, rig, target), _owner(constraint.held)
    if any(t.node == found for t in constraint.targets):
        raise EditError(f"{constraint.name} follows {name_of(skeleton, rig, found)} already")
    stem = constraint.amount.key.removesuffix("_amount")
    used = {t.weight.key for t in constraint.targets}
    key = next(f"{stem}_{k}" for k in range(1, len(used) + 2) if f"{stem}_{k}" not in used)
    channel = Channel(key, f"{constraint.name}: {name_of(skeleton, rig, found)}", Quantity.SHARE, weight, 0.0, 1.0)
    changed = replace(constraint, targets=(*constraint.targets, Target(found, ChannelRef(owner, key))))
    return _put(document, changed, owner, [channel])


def drop_target(document: Document, constraint_id: str, target: str | NodeRef) -> Document:
    """One thing less to follow; the last goes with its constraint."""
    _, skeleton, rig = rigged(document)
    constraint, found = _constraint(rig, constraint_id), node(skeleton, rig, target)
    left = tuple(t for t in constraint.targets if t.node != found)
    if len(left) == len(constraint.targets):
        raise EditError(f"{constraint.name} does not follow {name_of(skeleton, rig, found)}")
    if not left:
        return drop_constraint(document, constraint_id)
    return _put(document, replace(constraint, targets=left), _owner(constraint.held), ())


def drop_constraint(document: Document, constraint_id: str) -> Document:
    """Take a constraint out, with its channels; nothing moves at rest. A built one stays out when controls are built again."""
    character, _, rig = rigged(document)
    constraint, changes = _constraint(rig, constraint_id), character.rig_changes
    keys = [constraint.amount.key, *(t.weight.key for t in constraint.targets)]
    owner = _owner(constraint.held)
    own = any(c.id == constraint_id for c in changes.own_constraints)
    document = without_values(document, owner, keys)
    return with_changes(
        document, own_constraints=tuple(c for c in changes.own_constraints if c.id != constraint_id),
        own_channels=fewer_channels(changes.own_channels, owner, keys),
        dropped=changes.dropped if own and constraint_id.startswith(HOLD) else changes.dropped | {constraint_id},
    )  # fmt: skip


def _constraint(rig: ControlRig, constraint_id: str) -> Constraint:
    for constraint in rig.constraints:
        if constraint_id in (constraint.id, constraint.name):
            return constraint
    raise EditError(f"there is no constraint {constraint_id}")


def set_spaces(document: Document, control: str, spaces: Mapping[str, str | NodeRef], *, axes: str = "xyz") -> Document:
    """What a control may follow, by name; nothing moves, all of them rest at 0. No spaces: it has none any more.

    With fewer axes it takes only those moves: "y" for a hand that takes the hips' rise alone.
    """
    _, skeleton, rig = rigged(document)
    held = control_id(rig, control)
    before = spaces_of(rig, held, axes)
    if before is not None:
        document = drop_constraint(document, before.id)
        _, skeleton, rig = rigged(document)
    if not spaces:
        return document
    taken = {c.key for c in rig.control(held).channels}
    targets, channels = [], []
    for name, told in spaces.items():
        channel, target = _space(held, name, node(skeleton, rig, told), axes, taken)
        taken.add(channel.key)
        channels.append(channel)
        targets.append(target)
    document, (made,) = fresh(document, HOLD)
    stem = made.replace(".", "")
    channels.append(Channel(f"{stem}_amount", "spaces", Quantity.SHARE, 1.0, 0.0, 1.0, shown=False))
    constraint = Constraint(
        made, node(skeleton, rig, held, held=True), Follow.PARENT, tuple(targets), ChannelRef(held, f"{stem}_amount"),
        f"spaces of {rig.control(held).name}", axes, spaces=True,
    )  # fmt: skip
    return _put(document, constraint, held, channels)


def add_space(document: Document, control: str, name: str, told: str | NodeRef, *, axes: str = "xyz") -> Document:
    """One more thing a control may follow, beside those it has; the others keep their channels and keys."""
    _, skeleton, rig = rigged(document)
    held = control_id(rig, control)
    there = spaces_of(rig, held, axes)
    if there is None:
        return set_spaces(document, held, {name: told}, axes=axes)
    if any(t.name == name for t in there.targets):
        raise EditError(f"{rig.control(held).name} may follow {name} already")
    channel, target = _space(held, name, node(skeleton, rig, told), axes, {c.key for c in rig.control(held).channels})
    return _put(document, replace(there, targets=(*there.targets, target)), held, [channel])


def take_hold(document: Document, held: str, by: str, *, clip: str = "", time: float = 0.0, layer: str = "") -> Document:
    """Let something be held from a moment on: a prop by a hand, or a hand's goal by a prop. It stays where it is.

    held : a control. by : a control or joint; it becomes one of what `held` may follow, and the one it follows from then on.
    clip, time : within a clip from `time` (seconds) on, with the keys it needs; else in the pose in hand.
    layer : the one over the clip that gets the keys.
    """
    _, skeleton, rig = rigged(document)
    control, target = control_id(rig, held), node(skeleton, rig, by)
    there = spaces_of(rig, control)
    name = next((t.name for t in there.targets if t.node == target), "") if there is not None else ""
    if not name:
        name = name_of(skeleton, rig, target)
        document = add_space(document, control, name, target)
    return switch_space_at(document, control, name, clip, time, layer=layer) if clip else switch_space(document, control, name)


def let_go(document: Document, held: str, *, clip: str = "", time: float = 0.0, layer: str = "") -> Document:
    """Let what is held go: it follows what it rides on again, and stays where it is. clip, time : as `take_hold` has them."""
    return switch_space_at(document, held, "", clip, time, layer=layer) if clip else switch_space(document, held, "")


def _space(held: str, name: str, followed: NodeRef, axes: str, taken: set[str]) -> tuple[Channel, Target]:
    """One thing a control may follow, resting at 0, and the channel that says how much."""
    plain = "".join(c if c.isalnum() else "_" for c in name.lower()) or "space"
    few = "" if axes == "xyz" else axes
    key = free_key(SPACE + plain + (few and f"_{few}"), taken)
    said = f"follow {name}" + (few and f" along {few}")
    return Channel(key, said, Quantity.SHARE, 0.0, 0.0, 1.0), Target(followed, ChannelRef(held, key), name=name)


def spaces_of(rig: ControlRig, control: str, axes: str = "xyz") -> Constraint | None:
    """The spaces of a control, on those axes."""
    return next((c for c in rig.holds_on(control) if c.spaces and c.axes == axes), None)


@dataclass(frozen=True, slots=True)
class Following:
    """What a control can follow and what it does: its parent's name, the spaces' weights by name, the one that leads ("" for the parent)."""

    parent: str
    weights: Mapping[str, float]
    leads: str


def following(skeleton: Skeleton, rig: ControlRig, pose: Pose, control: str) -> Following | None:
    """What a control follows in a pose, None where it has no spaces."""
    there = spaces_of(rig, control) if control in rig.index else None
    if there is None:
        return None
    weights = {t.name: rig.value(pose, t.weight) for t in there.targets}
    most = max(weights, key=lambda name: weights[name])
    return Following(name_of(skeleton, rig, rig.control(control).parent), weights, most if weights[most] > 0.5 else "")


def switch_space(document: Document, control: str, space: str, *, axes: str = "xyz") -> Document:
    """Let a control follow one of its spaces ("" for none, its own parent), in the pose in hand; it stays where it is."""
    character, skeleton, rig = rigged(document)
    held = control_id(rig, control)
    return set_pose(document, switched(skeleton, rig, posed(character), held, space, axes))


def switched(skeleton: Skeleton, rig: ControlRig, pose: Pose, control: str, space: str, axes: str = "xyz") -> Pose:
    """A pose in which a control follows another of its spaces, and stands where it did."""
    constraint = spaces_of(rig, control, axes)
    if constraint is None:
        raise EditError(f"{rig.control(control).name} has no spaces; give it some first")
    names = [t.name for t in constraint.targets]
    if space and space not in names:
        raise EditError(f"{rig.control(control).name} has no space {space}; it has {', '.join(names)}")
    stands = evaluate_rig(skeleton, rig, pose).controls[rig.index[control]]
    pose = with_values(rig, pose, control, **{t.weight.key: float(t.name == space) for t in constraint.targets})
    return place_control(skeleton, rig, pose, rig.control(control), stands)


def switch_space_at(document: Document, control: str, space: str, clip_id: str, time: float, *, axes: str = "xyz", layer: str = "") -> Document:
    """The same within a clip, from `time` (seconds) on: keys on the frame before and on this one, so that nothing jumps.

    layer : the one over the clip that gets the keys; "" for the clip itself."""
    _, skeleton, rig = rigged(document)
    held = control_id(rig, control)
    constraint = spaces_of(rig, held, axes)
    if constraint is None:
        raise EditError(f"{rig.control(held).name} has no spaces; give it some first")
    keys = [t.weight.key for t in constraint.targets] + [k for k in (*MOVE, *ROTATE) if k in rig.control(held).free]
    refs = [ChannelRef(held, key) for key in keys]
    return key_switch(document, clip_id, time, refs, lambda pose: switched(skeleton, rig, pose, held, space, axes), layer=layer)


def switch_limb_at(document: Document, limb_id: str, blend: float, clip_id: str, time: float, *, layer: str = "") -> Document:
    """Switch a limb to IK (1) or FK (0) within a clip, from `time` (seconds) on, matched: keys on the frame before and on
    this one, and on the limb's later ones, so that nothing jumps.

    layer : the one over the clip that gets the keys; "" for the clip itself."""
    _, _, rig = rigged(document)
    solver = next((s for s in rig.solvers if limb_id in (s.id, s.name)), None)
    if solver is None:
        raise EditError(f"there is no IK limb {limb_id}")

    def change(pose: Pose) -> Pose:
        return posed(switch_limb(set_pose(document, pose), solver.id, blend).require_character())

    side = set(solver.fk) if blend < 0.5 else set(belongs(solver)) - set(solver.fk)
    own = [ChannelRef(c, key) for c in side for key in rig.control(c).free if key in (*MOVE, *ROTATE)]
    told = [r for r in references(solver) if isinstance(r, ChannelRef) and r.owner in side]
    riders = rig.riders_of(solver)
    own += [ChannelRef(c.id, key) for c in riders for key in c.free if key in ROTATE]
    refs = list(dict.fromkeys([solver.amount, *own, *told]))
    before = [solver.amount, *(r for r in own if r.owner in {c.id for c in riders})]
    return key_switch(document, clip_id, time, refs, change, before=before, watched=set(belongs(solver)) | {c.id for c in riders}, layer=layer)


def key_switch(
    document: Document, clip_id: str, time: float, refs: Sequence[ChannelRef], change: Callable[[Pose], Pose], *,
    before: Sequence[ChannelRef] | None = None, watched: Collection[str] = (), layer: str = "",
) -> Document:  # fmt: skip
    """A change of the pose within a clip from `time` on: channels keyed as they were one frame before, and changed.

    before : the channels that are keyed one frame before; all of them where it is not told.
    watched : controls whose later keys keep their poses, beside the channels' owners: they are changed, too.
    """
    character, skeleton, rig = rigged(document)
    clip = character.clip(clip_id)
    if clip.tracks:
        raise EditError(f"{clip.name} holds sampled motion; make a clip of keys for it first")
    just_before = max(time - 1.0 / clip.rate, 0.0)
    old, here = (sample(clip, t, skeleton, posed(character), rig) for t in (just_before, time))
    assert isinstance(old, Pose) and isinstance(here, Pose)
    owners = {r.owner for r in refs} | set(watched)
    every = [*clip.curves.items(), *(pair for one in clip.playing for pair in one.curves.items())]
    later = {t for (owner, _), keys in every if owner in owners for t in keys.times.tolist() if t > time + 1e-9}
    told_poses = [(time, change(here), refs)]
    for moment in sorted(later):
        there = sample(clip, moment, skeleton, posed(character), rig)
        assert isinstance(there, Pose)
        told_poses.append((moment, change(there), refs))
    if just_before < time:
        told_poses.insert(0, (just_before, old, refs if before is None else before))
    if layer:
        for told, pose, some in told_poses:
            document = key_in_layer(document, clip_id, layer, told, some, pose)
        return document
    for told, pose, some in told_poses:
        for owner in dict.fromkeys(r.owner for r in some):
            clip = with_keys(clip, told, owner, {r.key: rig.value(pose, r) for r in some if r.owner == owner})
    clips = tuple(clip if c.id == clip_id else c for c in character.clips)
    return document.with_character(replace(character, clips=clips))
