"""What a rig is, as plain numbers and words for a command line or a script."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.rig.changes import references
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Coupling
from pegloom.core.rig.refs import BOARD, ChannelRef, NodeKind, NodeRef
from pegloom.core.rig.solvers import LIMBS, BendIk, BodyIk, ChainIk, LimbIk, Solver, SplineIk
from pegloom.core.rig.springs import Spring
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.model import Character

KIND_NAMES: Mapping[type, str] = {LimbIk: "limb", BendIk: "hock", ChainIk: "chain", SplineIk: "curve", BodyIk: "whole body"}


class Names:
    """Names of controls and joints as they are printed: unique, with the id beside one that is not."""

    def __init__(self, skeleton: Skeleton, rig: ControlRig) -> None:
        self.controls = unique((c.id, c.name) for c in rig.controls)
        self.joints = unique((j.id, j.name) for j in skeleton.joints)

    def node(self, ref: NodeRef) -> str:
        if ref.kind is NodeKind.WORLD:
            return "world"
        return (self.joints if ref.kind is NodeKind.JOINT else self.controls).get(ref.id, ref.id)

    def channel(self, ref: ChannelRef) -> dict[str, str]:
        return {"control": self.controls.get(ref.owner, ref.owner), "channel": ref.key}


def unique(named: Iterable[tuple[str, str]]) -> dict[str, str]:
    """Names by id, none twice."""
    some = list(named)
    counts = Counter(name for _, name in some)
    return {told: name if counts[name] == 1 else f"{name} ({told})" for told, name in some}


def rigged(character: Character) -> tuple[Skeleton, ControlRig]:
    """Joints and controls. Raises EditError where there are none."""
    if character.skeleton is None or character.rig is None:
        raise EditError("this project has no controls; build them first (the edit build_controls)")
    return character.skeleton, character.rig


def account(character: Character, findings: Iterable[Mapping[str, Any]] = ()) -> dict[str, Any]:
    """Controls, limbs, solvers, constraints and spaces of a rig. findings : what is wrong with it, passed on."""
    skeleton, rig = rigged(character)
    names = Names(skeleton, rig)
    controls = [
        {
            "id": c.id, "name": names.controls[c.id], "side": c.side.value, "parent": names.node(c.parent),
            "kind": _kind(rig, c.id), "shape": c.shape.value, "channels": [_channel(x, c.id, rig) for x in c.channels],
        }
        for c in rig.controls
    ]  # fmt: skip
    if rig.board:
        controls.append({
            "id": BOARD, "name": BOARD, "side": "centre", "parent": "world", "kind": "board", "shape": "",
            "channels": [_channel(x, BOARD, rig) for x in rig.board],
        })  # fmt: skip
    return {
        "controls": controls,
        "limbs": [_limb(s, names) for s in rig.solvers if isinstance(s, LIMBS)],
        "solvers": [_solver(s, names, rig) for s in rig.solvers],
        "constraints": [_constraint(c, names) for c in rig.constraints if not c.spaces],
        "spaces": [_constraint(c, names) for c in rig.constraints if c.spaces],
        "couplings": [_coupling(c, names) for c in rig.couplings],
        "springs": [_spring(s, names, rig) for s in rig.springs],
        "twists": [
            {
                "id": t.id, "name": t.name, "of": names.node(t.of), "against": names.node(t.against),
                "joints": [names.joints[j] for j in t.joints], "shares": list(t.shares),
            }
            for t in rig.twists
        ],
        "morphs": [{"id": m.id, "morph": m.morph, "part": m.part, "driven_by": names.channel(m.channel)} for m in rig.morphs],
        "shows": [{"id": s.id, "thing": s.thing, "when": s.when, "driven_by": names.channel(s.channel)} for s in rig.shows],
        "findings": [dict(f) for f in findings],
    }  # fmt: skip


def _kind(rig: ControlRig, control: str) -> str:
    if rig.control(control).helper:
        return "helper"
    if any(d.node.id == control for d in rig.drives) or any(control in s.fk for s in rig.solvers):
        return "turner"
    for solver in rig.solvers:
        if isinstance(solver, LIMBS):
            if solver.goal.id == control:
                return "goal"
            if solver.pole.id == control:
                return "pole"
        elif any(isinstance(r, NodeRef) and r.kind is NodeKind.CONTROL and r.id == control for r in references(solver)):
            return "curve" if isinstance(solver, SplineIk) else "goal"
    return "carrier"


def _channel(channel: Channel, owner: str, rig: ControlRig) -> dict[str, Any]:
    word = channel.quantity.value
    unit = {"length": "m", "angle": "rad"}.get(word, word)
    drivers = [c.name or c.id for c in rig.drivers.get(ChannelRef(owner, channel.key), ())]
    return {
        "key": channel.key, "title": channel.title, "unit": unit, "rest": channel.rest, "low": channel.low, "high": channel.high,
        "locked": channel.locked, "shown": channel.shown, "driven_by": drivers or None,
        **({"options": list(channel.options)} if channel.options else {}),
    }  # fmt: skip


def _coupling(one: Coupling, names: Names) -> dict[str, Any]:
    readings = []
    for r in one.readings:
        told: dict[str, Any] = {"name": r.name}
        if r.channel is not None:
            told |= names.channel(r.channel)
        elif r.measure is not None:
            told |= {
                "what": r.measure.what.value, "node": names.node(r.measure.node), "other": names.node(r.measure.other),
                "axis": list(r.measure.axis),
            }  # fmt: skip
        readings.append(told)
    curve = [] if one.curve is None else np.stack([one.curve.times, one.curve.values], axis=1).tolist()
    return {
        "id": one.id, "name": one.name, "drives": names.channel(one.drives), "readings": readings, "formula": one.formula, "gain": one.gain,
        "offset": one.offset, "curve": curve, "combine": one.combine.value, "order": one.order,
        "amount": None if one.amount is None else names.channel(one.amount),
    }  # fmt: skip


def _spring(one: Spring, names: Names, rig: ControlRig) -> dict[str, Any]:
    group = next(g for g in rig.spring_groups if g.id == one.group)
    settings = {key: float(rig.slots.rest[rig.slots.index[getattr(group, key)]]) for key in ("mass", "stiffness", "damping", "gravity")}
    told = {key: None if ref is None else names.channel(ref) for key, ref in (("swing", one.swing), ("drift", one.drift))}
    return {
        "id": one.id, "name": one.name, "joints": [names.joints[j] for j in one.joints], "settings": group.name, **settings,
        "amount": names.channel(one.amount), **told,
    }  # fmt: skip


def _limb(solver: LimbIk | BendIk, names: Names) -> dict[str, Any]:
    return {
        "id": solver.id, "kind": KIND_NAMES[type(solver)], "joints": [names.joints[j] for j in solver.joints],
        "goal": names.node(solver.goal), "pole": names.node(solver.pole), "blend": names.channel(solver.amount),
    }  # fmt: skip


def _solver(solver: Solver, names: Names, rig: ControlRig) -> dict[str, Any]:
    told: dict[str, Any] = {
        "id": solver.id, "name": solver.name or solver.id, "kind": KIND_NAMES[type(solver)],
        "joints": [names.joints[j] for j in solver.joints], "fk": [names.controls[c] for c in solver.fk],
        "amount": names.channel(solver.amount),
    }  # fmt: skip
    if isinstance(solver, BodyIk):
        told["goals"] = [{"joint": names.joints[g.joint], "goal": names.controls[rig.goal_over.get(g.node.id, g.node.id)]} for g in solver.goals]
    elif isinstance(solver, SplineIk):
        told["points"] = [names.node(p) for p in solver.points]
    else:
        told["goal"] = names.node(solver.goal)
        if solver.pole is not None:
            told["pole"] = names.node(solver.pole)
    return told


def _constraint(constraint: Constraint, names: Names) -> dict[str, Any]:
    return {
        "id": constraint.id, "name": constraint.name, "held": names.node(constraint.held), "follow": constraint.follow.value,
        "axes": constraint.axes, "amount": names.channel(constraint.amount), "order": constraint.order,
        "targets": [
            {"node": names.node(t.node), "weight": names.channel(t.weight), **({"name": t.name} if t.name else {})}
            for t in constraint.targets
        ],
    }  # fmt: skip
