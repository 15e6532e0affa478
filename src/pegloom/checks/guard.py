"""Is a rig fit for other hands: every control does something, nothing is loose that must hold, nothing is there for nothing.

Nothing is judged by name where it can be tried: channels are moved and what comes of it is measured.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.rig.across import Across, across_key
from pegloom.core.rig.channels import MOVE, ROTATE, SCALE, Channel, Quantity
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.couplings import Combine
from pegloom.core.rig.evaluate import driven, nodes_at
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.core.rig.solvers import LIMBS, BodyIk, ChainIk
from pegloom.core.rig.springs import reads as spring_reads
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character

STILL = 1e-6
"""Share of the height that what must not move may move."""
FELT = 1e-7
"""Share of the height, or of a turn, from which on a change counts as an effect."""
NUDGES = (1.0, 0.37)
"""What a channel is moved by, in units of its kind: more than one, as a cosine is flat at rest."""
LIKE = 0.12
"""Share by which the shapes of two sides may differ in size."""
MOST_SAID = 4
CHECKS: Mapping[str, str] = MappingProxyType({
    "rest": "Every channel and joint is at rest where nothing is posed",
    "locked": "Nothing is locked that must move",
    "free": "Nothing is free that only others may move",
    "double": "The root carries everything once",
    "effect": "No control and no channel without an effect",
    "unused": "Nothing is there that is not used",
    "names": "Every control has a name of its own",
    "sides": "Left and right agree",
})
"""The checks in order, by their stable word."""


@dataclass(frozen=True, slots=True)
class Finding:
    """check : see CHECKS. control, joint : what to show, "" for none.
    fix : name of an edit that mends it safely, "" for none; arguments : its arguments besides the document.
    fix_says : on its button.
    """

    check: str
    message: str
    control: str = ""
    joint: str = ""
    fix: str = ""
    arguments: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))
    fix_says: str = ""


def guard(character: Character, progress: Progress = silent) -> tuple[Finding, ...]:
    """What is not fit for other hands, check by check. progress : asked between two checks; it may raise Cancelled."""
    if character.rig is None or character.skeleton is None:
        return ()
    found: list[Finding] = []
    for k, check in enumerate(_ALL):
        progress(k / len(_ALL), CHECKS[check.__name__.removeprefix("_")])
        ask(progress)
        found += check(character, character.rig, character.skeleton)
    return tuple(found)


def mended(document: Any, findings: Sequence[Finding]) -> Any:
    """The document with every finding mended that has a safe fix."""
    for one in findings:
        if one.fix:
            document = getattr(edits, one.fix)(document, **one.arguments)
            document = document[0] if isinstance(document, tuple) else document
    return document


def _rest(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    values = rig.slots.vector(Pose())
    came = driven(skeleton, rig, values[None])[0]
    off = np.flatnonzero(np.abs(came - values) > 1e-9)
    for slot in off[:MOST_SAID]:
        owner, key = list(rig.slots.index)[slot]
        yield Finding("rest", f"{_said(rig, owner, key)} reads {came[slot]:.3g} at rest, not {values[slot]:.3g}", owner if owner != BOARD else "")
    nodes = nodes_at(skeleton, rig, values[None])[0]
    gaps = np.linalg.norm(nodes[len(rig.controls) :, :3, 3] - skeleton.positions, axis=1)
    worst = int(np.argmax(gaps)) if len(gaps) else 0
    if len(gaps) and gaps[worst] > STILL * character.height:
        joint = skeleton.joints[worst]
        yield Finding("rest", f"{joint.name} stands {1000 * gaps[worst]:.1f} mm off its rest where nothing is posed", joint=joint.id)
    if isinstance(character.pose, Pose) and any(ref in rig.slots.index and v != rig.slots.rest[rig.slots.index[ref]] for ref, v in character.pose.values.items()):
        yield Finding("rest", "The current pose is not at rest; it is what the next one finds", fix="rest_controls", fix_says="All to rest")


def _locked(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    must: dict[str, tuple[str, ...]] = {}
    for solver in rig.solvers:
        must |= dict.fromkeys(solver.fk, ROTATE)
    for solver in rig.solvers:
        if isinstance(solver, LIMBS):
            must |= {solver.goal.id: MOVE, solver.pole.id: MOVE}
        elif isinstance(solver, ChainIk):
            must[solver.goal.id] = MOVE
    must |= dict.fromkeys(("root", "body"), (*MOVE, *ROTATE))
    joint_of = {control: joint for joint, control in rig.turned_by.items()}
    for control in rig.handles:
        if control.hidden:
            continue
        wanted = [k for k in must.get(control.id, ()) if control.channel(k) is not None]
        shut = [k for k in wanted if k not in control.free]
        arguments = {"controls": (control.id,), "channels": tuple(shut), "locked": False, "shown": True}
        if wanted and len(shut) == len(wanted):
            yield Finding("locked", f"{control.name} cannot be posed: {_keys(shut)} locked", control.id, fix="switch_channels", arguments=arguments, fix_says="Unlock")
        elif not control.free and control.channels:
            what = joint_of.get(control.id, "")
            word = f"; {skeleton.joint(what).name} hangs on it" if what in skeleton.index else ""
            yield Finding("locked", f"{control.name} has no free channel{word}", control.id, fix="keep_from_animators", arguments={"control_ids": (control.id,)}, fix_says="Keep from animators")


def _free(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    for ref, drivers in rig.drivers.items():
        slot = rig.slots.index.get(ref)
        if slot is None or rig.slots.channels[slot].locked or (ref.owner in rig.index and rig.control(ref.owner).helper):
            continue
        if any(d.combine is not Combine.ADD for d in drivers):
            message = f"{_said(rig, *ref)} is set by {drivers[0].name}, and still free: a value put there does nothing"
            yield Finding("free", message, ref.owner, fix="switch_channels", arguments={"controls": (ref.owner,), "channels": (ref.key,), "locked": True}, fix_says="Lock it")
    for control in rig.handles:
        for channel in control.channels:
            if not channel.locked and channel.low is not None and channel.low == channel.high:
                message = f"{_said(rig, control.id, channel.key)} is free, but its limits leave it nowhere to go"
                yield Finding("free", message, control.id, fix="switch_channels", arguments={"controls": (control.id,), "channels": (channel.key,), "locked": True, "shown": False}, fix_says="Lock it")


def _double(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    """The root moved, turned and scaled: everything must come along once."""
    if "root" not in rig.index:
        return
    root = rig.control("root")
    before = evaluate(character, Pose())
    where = root.matrix
    tries: list[tuple[str, dict[tuple[str, str], float], FloatArray]] = []
    shift = np.array([0.31, 0.17, -0.23]) * character.height
    if set(MOVE) <= {c.key for c in root.channels}:
        matrix = np.eye(4)
        matrix[:3, 3] = where[:3, :3] @ shift
        tries.append(("moved", {ChannelRef("root", k): float(v) for k, v in zip(MOVE, shift, strict=True)}, matrix))
    if root.channel(SCALE) is not None:
        matrix = where @ np.diag([1.6, 1.6, 1.6, 1.0]) @ np.linalg.inv(where)
        tries.append(("scaled", {ChannelRef("root", SCALE): 1.6}, matrix))
    for word, values, matrix in tries:
        after = evaluate(character, Pose(values))
        scale = character.height
        for part in character.included:
            points = before.points[part.id] @ matrix[:3, :3].T + matrix[:3, 3]
            gaps = np.linalg.norm(after.points[part.id] - points, axis=1)
            wrong = int((gaps > 1e-5 * scale).sum())
            if wrong:
                own = float(np.median(np.linalg.norm(after.points[part.id] - before.points[part.id], axis=1)))
                how = "stays behind" if own < 1e-4 * scale else f"is carried wrongly, {counted(wrong, 'vertex', 'vertices')}"
                yield Finding("double", f"{part.name} {how} when the root is {word}", "root")
        moved = before.joints[:, :3, 3] @ matrix[:3, :3].T + matrix[:3, 3]
        gaps = np.linalg.norm(after.joints[:, :3, 3] - moved, axis=1)
        for i in np.flatnonzero(gaps > 1e-5 * scale)[:MOST_SAID]:
            joint = skeleton.joints[int(i)]
            yield Finding("double", f"{joint.name} goes {1000 * gaps[i]:.0f} mm astray when the root is {word}: two things carry it, or none", joint=joint.id)


def _effect(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    dead = without_effect(rig, skeleton, character.height)
    for control in rig.handles:
        gone = [k for k in control.free if ChannelRef(control.id, k) in dead]
        if not gone or control.hidden:
            continue
        if len(gone) == len(control.free):
            own = any(o.control.id == control.id for o in character.rig_changes.own_controls)
            fix, says = ("drop_control", "Remove it") if own else ("keep_from_animators", "Keep from animators")
            arguments: dict[str, Any] = {"control_id": control.id} if own else {"control_ids": (control.id,)}
            yield Finding("effect", f"{control.name} moves nothing", control.id, fix=fix, arguments=arguments, fix_says=says)
        else:
            arguments = {"controls": (control.id,), "channels": tuple(gone), "locked": True, "shown": False}
            yield Finding("effect", f"{control.name}: {_keys(gone)} {'does' if len(gone) == 1 else 'do'} nothing", control.id, fix="switch_channels", arguments=arguments, fix_says="Lock and hide")
    for channel in rig.board:
        ref = ChannelRef(BOARD, channel.key)
        if not channel.locked and ref in dead:
            yield Finding("effect", f"the rig's {channel.title} does nothing", fix="switch_channels", arguments={"controls": (BOARD,), "channels": (channel.key,), "locked": True, "shown": False}, fix_says="Lock and hide")


def without_effect(rig: ControlRig, skeleton: Skeleton, height: float) -> frozenset[tuple[str, str]]:
    """Free channels that change nothing: no joint, morph, visibility or width, whatever limbs are on and however they stand."""
    slots = rig.slots
    rows = [k for k, c in enumerate(slots.channels) if not c.locked]
    refs = list(slots.index)
    outputs = [slots.index[r] for r in (*(m.channel for m in rig.morphs), *(s.channel for s in rig.shows), *(x for w in rig.widths for x in (w.across, w.through))) if r in slots.index]
    dead = set(rows)
    for values in _stances(rig, skeleton, height):
        some = sorted(dead)
        if not some:
            break
        tries = np.repeat(values[None], len(NUDGES) * len(some), axis=0)
        for t, nudge in enumerate(NUDGES):
            for k, slot in enumerate(some):
                tries[t * len(some) + k, slot] = _nudged(slots.channels[slot], values[slot], nudge, height)
        base = nodes_at(skeleton, rig, values[None])[0, len(rig.controls) :]
        nodes = nodes_at(skeleton, rig, tries)[:, len(rig.controls) :]
        felt = np.abs(nodes[:, :, :3, 3] - base[None, :, :3, 3]).max(axis=(1, 2), initial=0.0) > FELT * height
        felt |= np.abs(nodes[:, :, :3, :3] - base[None, :, :3, :3]).max(axis=(1, 2, 3), initial=0.0) > FELT
        if outputs:
            came, before = driven(skeleton, rig, tries), driven(skeleton, rig, values[None])[0]
            felt |= np.abs(came[:, outputs] - before[outputs]).max(axis=1) > 1e-9
        for t in range(len(NUDGES)):
            dead -= {some[k] for k in np.flatnonzero(felt[t * len(some) : (t + 1) * len(some)])}
    # How a chain swings is felt only in time.
    groups = {g.id: g for g in rig.spring_groups}
    in_time = {ref for s in rig.springs for ref in spring_reads(s, groups[s.group])}
    found = {refs[k] for k in dead if refs[k] not in in_time}
    # A turn is told by three numbers together.
    turned = {o for o, key in refs if key in ROTATE and (o, key) not in found and not slots.channels[slots.index[o, key]].locked}
    return frozenset(ref for ref in found if not (ref[1] in ROTATE and ref[0] in turned))


def _nudged(channel: Channel, value: float, nudge: float, height: float) -> float:
    if channel.quantity in (Quantity.SWITCH, Quantity.CHOICE):
        return 1.0 - value if channel.quantity is Quantity.SWITCH else (value + 1.0) % max(len(channel.options), 2)
    step = {Quantity.LENGTH: 0.11 * height, Quantity.ANGLE: 0.6, Quantity.FACTOR: 0.3}.get(channel.quantity, 0.5)
    low = -np.inf if channel.low is None else channel.low
    high = np.inf if channel.high is None else channel.high
    both = [float(min(max(value + way * nudge * step, low), high)) for way in (1.0, -1.0)]
    return max(both, key=lambda v: abs(v - value))


def _stances(rig: ControlRig, skeleton: Skeleton, height: float) -> Iterator[FloatArray]:
    """Channel values to try from: at rest, everything on IK, on FK, spaces in use, posed at random."""
    rest = rig.slots.vector(Pose())
    index = rig.slots.index
    yield rest
    random = np.random.default_rng(7)
    for blend in (1.0, 0.0):
        values = rest.copy()
        for solver in rig.solvers:
            if solver.amount in index and (not isinstance(solver, BodyIk)):
                values[index[solver.amount]] = blend
        yield values
        # Far bent, for what only begins beyond some angle; then a little, from which single things are tried.
        for far in (1.6, 0.5):
            bent = values.copy()
            for slot, channel in enumerate(rig.slots.channels):
                if channel.locked:
                    continue
                if channel.quantity is Quantity.ANGLE:
                    bent[slot] += random.uniform(-far, far)
                elif channel.quantity is Quantity.LENGTH:
                    bent[slot] += random.uniform(-0.08, 0.08) * far * height
            yield _within(rig, bent)
        # What has a channel of its own as far as it goes: a foot rolled all the way up, and back.
        for way in (1.0, -1.0):
            rolled = values.copy()
            for slot, channel in enumerate(rig.slots.channels):
                if channel.quantity is Quantity.ANGLE and channel.key not in ROTATE and not channel.locked and abs(channel.rest) < 1e-9:
                    rolled[slot] += way
            yield _within(rig, rolled)
        # Each space alone, limbs held on.
        for constraint in rig.constraints:
            for target in constraint.targets:
                if target.weight in index:
                    spaced = bent.copy()
                    spaced[index[target.weight]] = 1.0
                    if constraint.amount in index:
                        spaced[index[constraint.amount]] = 1.0
                    yield _within(rig, spaced)
        shares = bent.copy()
        for slot, channel in enumerate(rig.slots.channels):
            # Amounts half way: what only weighs against another one shows.
            if channel.quantity is Quantity.SHARE and not channel.locked and channel.key != "blend":
                shares[slot] = 0.5
        yield _within(rig, shares)
    bodies = [s for s in rig.solvers if isinstance(s, BodyIk)]
    for body in bodies:
        values = rest.copy()
        for solver in rig.solvers:
            values[index[solver.amount]] = 1.0
        for goal in body.goals:
            for key in MOVE:
                if (goal.node.id, key) in index:
                    values[index[goal.node.id, key]] += random.uniform(-0.1, 0.1) * height
        yield _within(rig, values)


def _within(rig: ControlRig, values: FloatArray) -> FloatArray:
    return np.asarray(np.clip(values, rig.slots.low, rig.slots.high))


def _unused(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    left = edits.unused(character)
    for message in left:
        yield Finding("unused", message, fix="remove_unused", fix_says="Remove all unused")
    moved = {m.morph for m in rig.morphs} | {s.morph for s in character.shapes}
    idle = sorted({m.name for p in character.included for m in p.morphs} - moved)
    if idle:
        yield Finding("unused", f"no channel moves the morph {'target' if len(idle) == 1 else 'targets'} {_few(idle)}")


def _names(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    seen: dict[str, str] = {}
    joints = {j.name for j in skeleton.joints}
    for control in rig.handles:
        if control.name in seen:
            yield Finding("names", f"two controls are called {control.name}", control.id)
        if control.name in joints:
            yield Finding("names", f"the control {control.name} has a joint's name", control.id)
        seen[control.name] = control.id


def _sides(character: Character, rig: ControlRig, skeleton: Skeleton) -> Iterator[Finding]:
    across = Across(skeleton, rig)
    for control in rig.handles:
        if control.side is not Side.LEFT and not (control.side is Side.RIGHT and across.control(control.id) is None):
            continue
        other_id = across.control(control.id)
        if other_id is None or other_id == control.id:
            yield Finding("sides", f"{control.name} has no partner on the other side", control.id)
            continue
        other = rig.control(other_id)
        for said in _unlike(across, control, other):
            yield Finding("sides", f"{control.name} and {other.name}: {said}", control.id)


def _unlike(across: Across, one: Control, other: Control) -> Iterator[str]:
    if one.shape is not other.shape or bool(one.lines) != bool(other.lines):
        yield "their shapes differ"
    elif abs(one.size - other.size) > LIKE * max(one.size, other.size):
        yield f"one is {max(one.size, other.size) / min(one.size, other.size):.1f} times as large"
    if one.hidden is not other.hidden:
        yield "only one is kept from animators"
    if bool(one.colour) != bool(other.colour):
        yield "only one has a colour of its own"
    mine = {c.key: c for c in one.channels}
    theirs = {c.key: c for c in other.channels}
    pairs = {key: across_key(across, one.id, other.id, key) for key in mine}
    missing = [k for k, (there, _) in pairs.items() if there not in theirs]
    more = set(theirs) - {there for there, _ in pairs.values()}
    if missing or more:
        yield f"only one has {_keys([*missing, *sorted(more)])}"
    for key, (there, sign) in pairs.items():
        if there not in theirs:
            continue
        a, b = mine[key], theirs[there]
        if (a.locked, a.shown) != (b.locked, b.shown):
            yield f"{key.replace('_', ' ')} is {'locked' if a.locked else 'free' if b.locked else 'shown' if a.shown else 'hidden'} on one side only"
        low, high = (b.low, b.high) if sign > 0 else (None if b.high is None else -b.high, None if b.low is None else -b.low)
        if not (_near(a.low, low) and _near(a.high, high)):
            yield f"the limits of {key.replace('_', ' ')} differ"
    driven_here = {r.key for r in across.rig.drivers if r.owner == one.id}
    driven_there = {r.key for r in across.rig.drivers if r.owner == other.id}
    if {pairs[k][0] for k in driven_here if k in pairs} != driven_there:
        yield "couplings drive only one of them, or other channels"
    if len(across.rig.holds_on(one.id)) != len(across.rig.holds_on(other.id)):
        yield "their constraints and spaces differ"


def _near(a: float | None, b: float | None) -> bool:
    return a is b if a is None or b is None else abs(a - b) <= 1e-6 + 1e-3 * max(abs(a), abs(b))


def _said(rig: ControlRig, owner: str, key: str) -> str:
    name = rig.control(owner).name if owner in rig.index else "the rig's"
    return f"{name} {key.replace('_', ' ')}"


def _keys(keys: Sequence[str]) -> str:
    return _few([k.replace("_", " ") for k in keys])


def _few(names: Sequence[str]) -> str:
    return ", ".join(names[:MOST_SAID]) + (f" and {len(names) - MOST_SAID} more" if len(names) > MOST_SAID else "")


_ALL: tuple[Callable[[Character, ControlRig, Skeleton], Iterator[Finding]], ...] = (
    _rest, _locked, _free, _double, _effect, _unused, _names, _sides,
)  # fmt: skip
