"""Follow-through: put chains on springs, settings that several share, bake to keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.curves import Curve, Run, curve
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import values_at
from pegloom.core.motion.follow_through import nodes_of
from pegloom.core.motion.layers import Layer
from pegloom.core.rig.channels import MOVE, ROTATE, Channel, Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.match import values_for
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.core.rig.springs import Spring, SpringGroup
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.controls import posed
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.rig.changing import (
    fewer_channels,
    fresh,
    joint_id,
    more_channels,
    rigged,
    with_changes,
    without_values,
)
from pegloom.document.edits.rig.solvers import turners_of
from pegloom.document.model import Document

SPRING, GROUP = "spring.", "settings."
SETTINGS = ("mass", "stiffness", "damping", "gravity")
USUAL = {"mass": 1.0, "stiffness": 160.0, "damping": 9.0, "gravity": 0.0}
MOST = {"mass": 1e4, "stiffness": 1e6, "damping": 1e4, "gravity": 1e3}


def add_springs(
    document: Document, first: str, last: str = "", *, group: str = "soft", swing: float = 1.0, drift: float = 0.0, name: str = "",
) -> tuple[Document, str]:  # fmt: skip
    """Let a chain of joints follow through, from one to another below it; to its end where no last is told. Nothing moves.

    group : name of the settings it shares with others; they are made where there are none of that name yet.
    swing, drift : how much it turns and how much it moves, 0 to 1.
    Gives the spring's id.
    """
    _, skeleton, rig = rigged(document)
    joints = _line(skeleton, joint_id(skeleton, first), joint_id(skeleton, last) if last else "")
    if not 0 <= swing <= 1 or not 0 <= drift <= 1:
        raise EditError("swing and drift go from 0 to 1")
    document, group_id = _group(document, group)
    document, (made,) = fresh(document, SPRING)
    owner = turners_of(rig).get(joints[0], BOARD)
    stem = made.replace(".", "")
    ends = skeleton.joint(joints[0]).name if len(joints) == 1 else f"{skeleton.joint(joints[0]).name} to {skeleton.joint(joints[-1]).name}"
    said = name.strip() or ends
    word = "" if owner != BOARD else f"{said}: "
    channels = [
        Channel(f"{stem}_amount", f"{word}follow-through", Quantity.SHARE, 1.0, 0.0, 1.0),
        Channel(f"{stem}_swing", f"{word}swing", Quantity.SHARE, swing, 0.0, 1.0),
        Channel(f"{stem}_drift", f"{word}drift", Quantity.SHARE, drift, 0.0, 1.0),
    ]
    amount, swings, drifts = (ChannelRef(owner, c.key) for c in channels)
    spring = Spring(made, joints, group_id, amount, said, swings, drifts)
    changes = document.require_character().rig_changes
    return with_changes(
        document, own_springs=(*changes.own_springs, spring), own_channels=more_channels(changes.own_channels, owner, channels)
    ), made  # fmt: skip


def set_spring_group(
    document: Document, group: str, *, mass: float | None = None, stiffness: float | None = None, damping: float | None = None,
    gravity: float | None = None, name: str | None = None,
) -> Document:  # fmt: skip
    """Other settings of a group of springs, for all that share it; a new group where there is none of that name.

    mass : 1 is as heavy as usual. stiffness : pull back per mass 1, radians a second squared. damping : per mass 1, a second.
    gravity : metres a second squared; what hangs at rest hangs as it was built.
    """
    document, group_id = _group(document, group)
    changes = document.require_character().rig_changes
    told = {"mass": mass, "stiffness": stiffness, "damping": damping, "gravity": gravity}
    for key, value in told.items():
        least = -MOST[key] if key == "gravity" else 1e-3 if key == "mass" else 0.0
        if value is not None and not (np.isfinite(value) and least <= value <= MOST[key]):
            raise EditError(f"{key} goes from {least:g} to {MOST[key]:g}")
    one = next(g for g in changes.own_spring_groups if g.id == group_id)
    own = {c.key: c for c in changes.own_channels.get(BOARD, ())}
    channels = [
        replace(own[getattr(one, key).key], rest=float(value)) for key, value in told.items() if value is not None
    ]
    said = one.name if name is None else name.strip() or one.name
    channels = [replace(c, title=f"{said}: {c.title.rpartition(': ')[2]}") for c in channels]
    groups = tuple(replace(g, name=said) if g.id == group_id else g for g in changes.own_spring_groups)
    return with_changes(document, own_spring_groups=groups, own_channels=more_channels(changes.own_channels, BOARD, channels))


def put_in_group(document: Document, springs: Sequence[str], group: str) -> Document:
    """Let springs take their settings from a group by name; a new one where there is none."""
    _, _, rig = rigged(document)
    ids = {spring_of(rig, s).id for s in springs}
    document, group_id = _group(document, group)
    changes = document.require_character().rig_changes
    return with_changes(document, own_springs=tuple(replace(s, group=group_id) if s.id in ids else s for s in changes.own_springs))


def drop_springs(document: Document, spring: str) -> Document:
    """Take a chain off its springs, with its channels; settings nobody shares any more go, too."""
    character, _, rig = rigged(document)
    one, changes = spring_of(rig, spring), character.rig_changes
    refs = [r for r in (one.amount, one.swing, one.drift) if r is not None]
    document = without_values(document, refs[0].owner, [r.key for r in refs])
    left = tuple(s for s in changes.own_springs if s.id != one.id)
    channels = fewer_channels(changes.own_channels, refs[0].owner, [r.key for r in refs])
    groups = changes.own_spring_groups
    if all(s.group != one.group for s in left):
        gone = [g for g in groups if g.id == one.group]
        keys = [getattr(g, key).key for g in gone for key in SETTINGS]
        channels = fewer_channels(channels, BOARD, keys)
        document = without_values(document, BOARD, keys)
        groups = tuple(g for g in groups if g.id != one.group)
    return with_changes(document, own_springs=left, own_spring_groups=groups, own_channels=channels)


def bake_springs(document: Document, clip: str, *, springs: Sequence[str] = ()) -> tuple[Document, str]:
    """What springs did in a clip becomes a layer of keys on their joints' controls, and they are off in it; the keys under it
    stay. Gives the layer's id.

    springs : some of them; all where none is named.
    Raises EditError for a joint that no control turns.
    """
    character, skeleton, rig = rigged(document)
    chosen = [spring_of(rig, s) for s in springs] or list(rig.springs)
    if not chosen:
        raise EditError("nothing follows through here")
    found = character.clip(clip)
    if found.tracks:
        raise EditError(f"{found.name} holds sampled motion; follow-through is baked on clips of keys")
    turners = turners_of(rig)
    lost = [skeleton.joint(j).name for s in chosen for j in s.joints if j not in turners]
    if lost:
        raise EditError(f"no control turns {', '.join(lost[:4])}; it cannot be keyed")
    times = np.arange(int(np.floor(found.length * found.rate + 1e-6)) + 1) / found.rate
    base = posed(character)
    nodes = nodes_of(skeleton, rig, found, times, base)
    joints = nodes[:, len(rig.controls) :]
    values = values_at(found, times, rig, base)
    slots = rig.slots.index
    off: list[ChannelRef] = [s.amount for s in chosen]
    sprung = {j for s in chosen for j in s.joints}
    # Joints that a solver places are keyed on their FK controls, with the solver off.
    off += [solver.amount for solver in rig.solvers if sprung & set(solver.joints)]
    for ref in off:
        values[:, slots[ref]] = 0.0
    also = {j for solver in rig.solvers if sprung & set(solver.joints) for j in solver.joints if j in turners}
    targets = {}
    for joint in sprung | also:
        i = skeleton.index[joint]
        targets[turners[joint]] = joints[:, i] @ (skeleton.inverse_world[i] @ rig.control(turners[joint]).matrix)
    worked = values_for(skeleton, rig, targets, values, joints=joints)
    curves: dict[tuple[str, str], Curve] = {ref: curve([0.0], [0.0]) for ref in off}
    for control in targets:
        for key in (*MOVE, *ROTATE):
            slot = slots.get((control, key))
            if slot is not None and key in rig.control(control).free:
                curves[ChannelRef(control, key)] = curve(times, worked[:, slot], Run.LINEAR)
    every = (layer.id for c in character.clips for layer in c.layers)
    character, (made,) = fresh_ids(character, "layer", every, first=0)
    layer = Layer(made, "follow-through", MappingProxyType(curves))
    clips = tuple(replace(c, layers=(*c.layers, layer)) if c.id == found.id else c for c in character.clips)
    return document.with_character(replace(character, clips=clips)), made


def spring_of(rig: ControlRig, told: str) -> Spring:
    """A spring told by id or name."""
    for one in rig.springs:
        if told in (one.id, one.name):
            return one
    raise EditError(f"nothing follows through under {told}")


def group_of(rig: ControlRig, told: str) -> SpringGroup | None:
    """Settings told by id or name; None where there are none."""
    return next((g for g in rig.spring_groups if told in (g.id, g.name)), None)


def _group(document: Document, name: str) -> tuple[Document, str]:
    """The id of settings by name, made where there are none."""
    changes = document.require_character().rig_changes
    there = next((g for g in changes.own_spring_groups if name in (g.id, g.name)), None)
    if there is not None:
        return document, there.id
    if not name.strip():
        raise EditError("settings of follow-through need a name")
    document, (made,) = fresh(document, GROUP)
    stem = made.replace(".", "")
    refs = {key: ChannelRef(BOARD, f"{stem}_{key}") for key in SETTINGS}
    channels = [
        Channel(refs[key].key, f"{name.strip()}: {key}", Quantity.LENGTH if key == "gravity" else Quantity.NUMBER, USUAL[key], None if key == "gravity" else 0.0, MOST[key])
        for key in SETTINGS
    ]
    changes = document.require_character().rig_changes
    group = SpringGroup(made, name.strip(), **refs)
    document = with_changes(
        document, own_spring_groups=(*changes.own_spring_groups, group), own_channels=more_channels(changes.own_channels, BOARD, channels)
    )  # fmt: skip
    return document, made


def _line(skeleton: Skeleton, first: str, last: str) -> tuple[str, ...]:
    """Joints from one to another below it, or down to the end of its line. Raises EditError where the line divides."""
    if last:
        found = [last]
        while found[-1] != first:
            parent = skeleton.joint(found[-1]).parent
            if parent is None:
                raise EditError(f"{skeleton.joint(last).name} does not hang on {skeleton.joint(first).name}")
            found.append(parent)
        return tuple(reversed(found))
    line = [first]
    while True:
        below = [c for c in skeleton.children(line[-1]) if not c.aside]
        if not below:
            return tuple(line)
        if len(below) > 1:
            if len(line) > 1:
                return tuple(line)
            raise EditError(f"the line divides at {skeleton.joint(first).name}; name the last joint, too")
        line.append(below[0].id)
