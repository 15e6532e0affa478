"""Frames of channel values played on a rig: where every joint and control stands, and what goals were left open."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve, Run, curve
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.follow_through import nodes_of
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import driven, nodes_at
from pegloom.core.rig.outputs import hidden_things, morph_weights
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.core.rig.solvers import LIMBS, BodyIk, SplineIk
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.rig.changing import near
from pegloom.document.model import Character, Document
from pegloom.document.told.account import Names, _limb, rigged

MOST_FRAMES = 4000
MOST_VALUE = 1e6
"""Metres or radians: more is a slip."""
Frames = list[dict[tuple[str, str], float]]


def read_frames(character: Character, told: Any) -> tuple[float, Frames]:
    """Rate and values by control id and channel key, from {"rate": 30, "frames": [{"CONTROL": {"CHANNEL": number}}]}.

    Controls are told by name or id. Raises EditError naming what is not there, and where.
    """
    _, rig = rigged(character)
    if not isinstance(told, dict) or not isinstance(told.get("frames"), list):
        raise EditError('frames are told as {"rate": 30, "frames": [{"CONTROL": {"CHANNEL": number}}]}')
    rate = told.get("rate", 30)
    if isinstance(rate, bool) or not isinstance(rate, (int, float)) or not 0 < rate <= 1000:
        raise EditError("rate is a number of frames a second, more than 0 and up to 1000")
    if len(told["frames"]) > MOST_FRAMES:
        raise EditError(f"{len(told['frames'])} frames are more than the {MOST_FRAMES} that are taken at once")
    known = {c.name: c.id for c in rig.controls} | {c.id: c.id for c in rig.controls} | {BOARD: BOARD}
    known |= {name: told_id for told_id, name in Names(*rigged(character)).controls.items()}
    result: Frames = []
    for k, frame in enumerate(told["frames"]):
        if not isinstance(frame, dict):
            raise EditError(f"frames[{k}] is no object of controls")
        values: dict[tuple[str, str], float] = {}
        for control, channels in frame.items():
            if control not in known:
                raise EditError(f"frames[{k}]: there is no control {str(control)[:60]}{near(str(control), list(known))}")
            if not isinstance(channels, dict):
                raise EditError(f"frames[{k}].{control} is no object of channels")
            for key, value in channels.items():
                ref = (known[control], key)
                if ref not in rig.slots.index:
                    own = [k2 for o, k2 in rig.slots.index if o == known[control]]
                    raise EditError(f"frames[{k}]: {control} has no channel {str(key)[:60]}{near(str(key), own)}")
                if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) <= MOST_VALUE:
                    raise EditError(f"frames[{k}].{control}.{key} is no number of usable size")
                values[ref] = float(value)
        result.append(values)
    return float(rate), result


def values_of(rig: ControlRig, frames: Frames) -> FloatArray:
    """Channel values (k, v) of frames; what one leaves out rests."""
    values = rig.slots.many(Pose(), len(frames))
    for k, frame in enumerate(frames):
        for ref, value in frame.items():
            values[k, rig.slots.index[ref]] = value
    return values


def played(character: Character, frames: Frames, rate: float = 30.0) -> dict[str, Any]:
    """Where joints and controls stand at each frame, row after row, world; and how far goals were missed, metres.

    rate : frames a second, for what follows through.
    """
    skeleton, rig = rigged(character)
    names, count = Names(skeleton, rig), len(rig.controls)
    values = values_of(rig, frames)
    nodes = nodes_at(skeleton, rig, values)
    if rig.springs:
        clip = _clip(rig, rate, frames)
        nodes = nodes_of(skeleton, rig, clip, np.arange(len(frames)) / rate, Pose())
    named = [names.controls[c.id] for c in rig.controls]
    after = driven(skeleton, rig, values)
    missed = open_goals(skeleton, rig, values, nodes)
    notes = [
        f"{names.controls.get(goal, goal)} is missed by up to {float(gaps.max()):.3g} m, at frame {int(np.argmax(gaps))}"
        for goal, gaps in missed.items()
        if gaps.max(initial=0.0) > 1e-4 * character.height
    ]
    return {
        "joints": [names.joints[j.id] for j in skeleton.joints],
        "rest": [m.ravel().tolist() for m in skeleton.world],
        "frames": [
            {
                "world": [m.ravel().tolist() for m in moment[count:]],
                "controls": {name: m.ravel().tolist() for name, m in zip(named, moment[:count], strict=True)},
                "driven": _driven(rig, names, after[k]),
                "missed": {names.controls.get(g, g): float(gaps[k]) for g, gaps in missed.items()},
            }
            for k, moment in enumerate(nodes)
        ],
        "limbs": [_limb(s, names) for s in rig.limbs],
        "notes": notes,
    }  # fmt: skip


def _driven(rig: ControlRig, names: Names, values: FloatArray) -> dict[str, Any]:
    """What couplings made of the channels they drive, weights of morph targets, and what is not seen, at the values (v,)."""
    channels: dict[str, dict[str, float]] = {}
    for ref in rig.drivers:
        channels.setdefault(names.controls.get(ref.owner, ref.owner), {})[ref.key] = float(values[rig.slots.index[ref]])
    morphs = {name: weight for (_, name), weight in morph_weights(rig.morphs, rig.slots, values).items()}
    return {"channels": channels, "morphs": morphs, "unseen": sorted(hidden_things(rig.shows, rig.slots, values))}


def open_goals(skeleton: Skeleton, rig: ControlRig, values: FloatArray, nodes: FloatArray) -> Mapping[str, FloatArray]:
    """How far joints stand from the goals that are wholly in use (k,), metres, by the goal's id.

    values (k, v), nodes (k, c + j, 4, 4) : see `nodes_at`.
    """
    index, count = rig.slots.index, len(rig.controls)
    found: dict[str, FloatArray] = {}
    for solver in rig.solvers:
        if isinstance(solver, SplineIk):
            continue
        on = values[:, index[solver.amount]] >= 1.0
        end = solver.end_goal if isinstance(solver, LIMBS) else None
        pairs = [(g.node.id, g.joint) for g in solver.goals] if isinstance(solver, BodyIk) else [((end or solver.goal).id, solver.joints[-1])]
        for goal, joint in pairs:
            if goal not in rig.index:
                continue
            number = skeleton.index[joint]
            offset = np.linalg.inv(rig.control(goal).matrix) @ skeleton.world[number]
            wanted = (nodes[:, rig.index[goal]] @ offset)[:, :3, 3]
            gaps = np.where(on, np.linalg.norm(nodes[:, count + number, :3, 3] - wanted, axis=1), 0.0)
            # What works the joint out last is what counts.
            found[rig.goal_over.get(goal, goal)] = gaps
    return found


def as_clip(document: Document, rate: float, frames: Frames, name: str = "frames") -> Document:
    """The document with these frames as its one clip, run through evenly between them."""
    character = document.require_character()
    rigged(character)
    rig = character.rig
    assert rig is not None
    return document.with_character(replace(character, clips=(_clip(rig, rate, frames, name),)))


def _clip(rig: ControlRig, rate: float, frames: Frames, name: str = "frames") -> Clip:
    refs = dict.fromkeys(ref for frame in frames for ref in frame)
    times = np.arange(len(frames)) / rate
    curves: dict[tuple[str, str], Curve] = {}
    for ref in refs:
        rest = float(rig.slots.rest[rig.slots.index[ref]])
        curves[ChannelRef(*ref)] = curve(times, [frame.get(ref, rest) for frame in frames], Run.LINEAR)
    return Clip("frames", name, rate, float(times[-1]) if len(times) else 0.0, curves=MappingProxyType(curves))
