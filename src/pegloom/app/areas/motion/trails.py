"""Trails of what is picked, with its keys as dots that are dragged; ghosts of the figure at the keys before and after."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pegloom.app.actions.posing import keyed_at
from pegloom.app.areas.motion.keying import curves_in_hand, layer_id, settings
from pegloom.app.context import Context
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView
from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import quaternion_between, rotation_matrix
from pegloom.core.memo import by_identity, of_the_latest
from pegloom.core.motion.clips import Clip, sample, values_at
from pegloom.core.motion.layers import Layer
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.retarget.source import worlds_of
from pegloom.core.rig.channels import MOVE
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import nodes_at
from pegloom.core.rig.match import values_for
from pegloom.core.rig.refs import NodeKind
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.evaluate import PosedFrame, evaluate
from pegloom.document.model import Character, Document
from pegloom.scene.drawing import LINEN, side_colour
from pegloom.scene.drawlist import DrawList
from pegloom.scene.lenses import rgb
from pegloom.scene.outline import outline

MOST = 4
"""Trails at once."""
MOMENTS = 241
NEAR = 9.0
BEFORE, AFTER = rgb("#7E95C9"), rgb("#D9A05B")
"""Colours of the ghosts before and after: cool and warm, as nothing else in the view is."""
FINEST = 2600
"""Segments of an outline at most."""


class Trail(NamedTuple):
    """Where something goes: moments (k,) and places (k, 3); its keys' times and places. turns : whether a drag turns it."""

    control: str
    times: FloatArray
    places: FloatArray
    keys: FloatArray
    at_keys: FloatArray
    turns: bool


def _end_of(skeleton: Skeleton, rig: ControlRig, control: str) -> tuple[int, FloatArray | None]:
    """The node whose way is shown for a control, and the point in it (None: its own place): of one that only turns, the end of
    the bone it turns."""
    own = rig.control(control)
    number = rig.index[control]
    if any(key in own.free for key in MOVE):
        return number, None
    joint = next((d.joint for d in rig.drives if d.node.kind is NodeKind.CONTROL and d.node.id == control), None)
    joint = joint or next((j for s in rig.solvers for f, j in zip(s.fk, s.joints, strict=False) if f == control), None)
    if joint is None or joint not in skeleton.index:
        return number, None
    told = skeleton.joint(joint)
    child = next((c for c in skeleton.children(joint)), None)
    end = np.array(child.position if child is not None else told.tail if told.tail is not None else told.position)
    if np.linalg.norm(end - np.array(told.position)) < 1e-6:
        return number, None
    return number, np.asarray((np.linalg.inv(own.matrix) @ np.append(end, 1.0))[:3])


@of_the_latest(8)
def _way(clip: Clip, skeleton: Skeleton, rig: ControlRig, control: str, first: float, last: float) -> tuple[FloatArray, FloatArray]:
    times = np.linspace(first, last, MOMENTS)
    return times, _places(clip, skeleton, rig, control, times)


@of_the_latest(8)
def _at_keys(
    clip: Clip, layer: Layer | None, skeleton: Skeleton, rig: ControlRig, control: str, first: float, last: float
) -> tuple[FloatArray, FloatArray]:
    """Times of a control's keys, in the clip or the layer in hand, and where its trail is at each."""
    curves = clip.curves if layer is None else layer.curves
    keys = np.unique(np.round(np.concatenate([np.zeros(0), *(one.times for ref, one in curves.items() if ref[0] == control)]), 6))
    keys = keys[(keys >= first - 1e-6) & (keys <= last + 1e-6)]
    return keys, _places(clip, skeleton, rig, control, keys) if len(keys) else np.zeros((0, 3))


def _places(clip: Clip, skeleton: Skeleton, rig: ControlRig, control: str, times: FloatArray) -> FloatArray:
    number, end = _end_of(skeleton, rig, control)
    nodes = nodes_at(skeleton, rig, values_at(clip, times, rig))[:, number]
    return np.asarray(nodes[:, :3, 3] if end is None else nodes[:, :3, :3] @ end + nodes[:, :3, 3])


@by_identity
def _joint_way(clip: Clip, skeleton: Skeleton, rig: ControlRig | None, joint: str) -> tuple[FloatArray, FloatArray]:
    times = np.linspace(0.0, clip.length, MOMENTS)
    if clip.tracks:
        return times, worlds_of(Source("", "", skeleton, clip), times)[:, skeleton.index[joint], :3, 3]
    assert rig is not None
    return times, nodes_at(skeleton, rig, values_at(clip, times, rig))[:, len(rig.controls) + skeleton.index[joint], :3, 3]


@by_identity
def _leads_to(clip: Clip, skeleton: Skeleton, rig: ControlRig, joint: str) -> str:
    """The control whose trail runs through a joint: the goal of a limb that leads it there, else what turns the bone that ends at
    it; "" where there is none."""
    limb = next((s for s in rig.limbs if s.joints[-1] == joint), None)
    if limb is not None:
        amount = values_at(clip, np.linspace(0.0, clip.length, 9), rig)[:, rig.slots.index[limb.amount]]
        if amount.mean() > 0.5:
            return limb.goal.id
    place = skeleton.positions[skeleton.index[joint]]
    for control in (d.node.id for d in rig.drives if d.node.kind is NodeKind.CONTROL and d.joint == skeleton.joint(joint).parent):
        _, end = _end_of(skeleton, rig, control)
        own = rig.control(control).matrix
        if end is not None and np.linalg.norm(own[:3, :3] @ end + own[:3, 3] - place) < 1e-6:
            return control
    for solver in rig.solvers:
        for control, told in zip(solver.fk, solver.joints, strict=False):
            if told == skeleton.joint(joint).parent:
                return control
    return ""


def trails_of(c: Context) -> list[Trail]:
    """The trails of what is picked: controls of a clip of keys, joints of any."""
    state, character = c.state, c.state.character
    clip = state.clip
    if clip is None or character is None or character.skeleton is None or not settings(state).trails:
        return []
    skeleton, rig = character.skeleton, character.rig
    found = []
    controls = list(state.selection.ids[:MOST]) if state.selection.kind == "control" else []
    if state.selection.kind == "joint":
        for joint in state.selection.ids[:MOST]:
            if joint not in skeleton.index:
                continue
            leads = _leads_to(clip, skeleton, rig, joint) if rig is not None and not clip.tracks else ""
            if leads:
                controls.append(leads)
            elif clip.tracks or rig is not None:
                times, places = _joint_way(clip, skeleton, rig, joint)
                found.append(Trail("", times, places, np.zeros(0), np.zeros((0, 3)), False))
    if clip.tracks or rig is None:
        return found
    first, last = state.played
    for control in controls:
        if control not in rig.index:
            continue
        times, places = _way(clip, skeleton, rig, control, first, last)
        keys, at_keys = _at_keys(clip, state.layer, skeleton, rig, control, first, last)
        found.append(Trail(control, times, places, keys, at_keys, _end_of(skeleton, rig, control)[1] is not None))
    return found


def trail_marks(view: StageView, draw: DrawList) -> None:
    """Trails: brighter ahead of now than behind it, a tick each frame, a dot each key."""
    c = view.c
    character = c.state.character
    now, rate = c.state.clock.time, c.state.rate
    for trail in trails_of(c):
        colour = LINEN
        if trail.control and character is not None and character.rig is not None:
            colour = side_colour(character.rig.control(trail.control).side)
        split = int(np.searchsorted(trail.times, now))
        if split > 0:
            draw.over.add(trail.places[: split + 1], colour, 1.4, 0.4)
        if split < len(trail.places) - 1:
            draw.over.add(trail.places[max(split - 1, 0) :], colour, 1.9, 0.85)
        count = int((trail.times[-1] - trail.times[0]) * rate)
        if 0 < count <= 240:
            at = np.linspace(trail.times[0], trail.times[-1], count + 1)
            for place in np.stack([np.interp(at, trail.times, trail.places[:, j]) for j in range(3)], axis=1):
                draw.dots.add(place, colour, 1.3, alpha=0.8)
        for time, place in zip(trail.keys, trail.at_keys, strict=True):
            here = abs(time - now) < 0.5 / rate
            held = view.hovered == f"trail:{trail.control}:{time:.6f}"
            draw.dots.add(place, LINEN if held else colour, 6.0 if held or here else 4.6, hollow=0.0 if here else 1.0, alpha=0.95)


@of_the_latest(6)
def _ghost(character: Character, clip: Clip, time: float) -> PosedFrame:
    return evaluate(character, sample(clip, time, character.skeleton, None, character.rig))


def ghost_marks(view: StageView, draw: DrawList) -> None:
    """The outline of the figure at the key before and the key after; not while it plays."""
    c = view.c
    state, character, clip = c.state, c.state.character, c.state.clip
    if clip is None or character is None or not settings(state).ghosts or state.clock.playing:
        return
    curves = curves_in_hand(state)
    ids = state.selection.ids if state.selection.kind == "control" else ()
    times = [one.times for ref, one in curves.items() if not ids or ref[0] in ids]
    if not times:
        return
    every = np.unique(np.round(np.concatenate(times), 6))
    now = state.clock.time
    before, after = every[every < now - 0.5 / state.rate], every[every > now + 0.5 / state.rate]
    for moment, colour in ((before[-1] if len(before) else None, BEFORE), (after[0] if len(after) else None, AFTER)):
        if moment is None:
            continue
        frame = _ghost(character, clip, float(moment))
        for part in character.included:
            if part.id not in frame.points:
                continue
            lines = outline(part.mesh, frame.points[part.id], view.camera)
            for line in lines[:: len(lines) // FINEST + 1]:
                draw.through.add(line, colour, 1.3, 0.55)


class TrailDrag:
    """A key's dot dragged in the plane of the view: the control's key is changed live, and one step when let go."""

    def __init__(self, view: StageView, trail: Trail, number: int, at: Pointer) -> None:
        self.view, self.trail = view, trail
        self.time, self.start = float(trail.keys[number]), trail.at_keys[number]
        self.from_, self.goal = at, self.start
        self.moved = False

    def move(self, at: Pointer) -> None:
        _, tall = self.view.size_in_points
        metres = self.view.camera.metres_a_pixel(self.start, tall)
        self.goal = self.start + metres * ((at.x - self.from_.x) * self.view.camera.right - (at.y - self.from_.y) * self.view.camera.up)
        self.moved = True
        self.view.c.preview(self._edit)

    def _edit(self, document: Document) -> Document:
        return pulled_key(document, self.view.c, self.trail, self.time, self.goal)

    def release(self) -> None:
        c = self.view.c
        c.store.drop_draft()
        if self.moved:
            rig = c.character.require_rig()
            c.try_edit(f"Move {rig.control(self.trail.control).name} on its trail", self._edit)

    def cancel(self) -> None:
        self.view.c.store.drop_draft()


def pulled_key(document: Document, c: Context, trail: Trail, time: float, goal: FloatArray) -> Document:
    """The document with a control's key at a time such that its trail goes through a place there."""
    character = document.require_character()
    skeleton, rig = character.require_skeleton(), character.require_rig()
    clip = next(one for one in character.clips if c.state.clip is not None and one.id == c.state.clip.id)
    values = values_at(clip, np.array([time]), rig)
    number, end = _end_of(skeleton, rig, trail.control)
    target = nodes_at(skeleton, rig, values)[0, number].copy()
    if end is None:
        target[:3, 3] = goal
    else:
        pivot = target[:3, 3]
        now = target[:3, :3] @ end
        q = quaternion_between(now, goal - pivot)
        target[:3, :3] = rotation_matrix(q) @ target[:3, :3]
    told = values_for(skeleton, rig, {trail.control: target[None]}, values)
    return keyed_at(document, clip.id, time, (trail.control,), rig.slots.pose(told[0]), layer_id(c.state))


class TrailTool(StageTool):
    """A press on a key's dot of a trail takes hold of it."""

    id = "trail"

    def _under(self, view: StageView, x: float, y: float) -> tuple[Trail, int] | None:
        best: tuple[float, tuple[Trail, int] | None] = (NEAR, None)
        wide, tall = view.size_in_points
        for trail in trails_of(view.c):
            if not len(trail.keys):
                continue
            pixels = view.camera.project(trail.at_keys, wide, tall)[:, :2]
            gaps = np.linalg.norm(pixels - [x, y], axis=1)
            k = int(np.argmin(gaps))
            if gaps[k] < best[0]:
                best = (float(gaps[k]), (trail, k))
        return best[1]

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._under(view, at.x, at.y) is not None

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        found = self._under(view, at.x, at.y)
        return TrailDrag(view, *found, at) if found is not None else None

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        found = self._under(view, x, y)
        if found is None:
            return "", ""
        trail, k = found
        return f"trail:{trail.control}:{trail.keys[k]:.6f}", f"the key at frame {round(trail.keys[k] * view.c.state.rate)}: drag it"
