"""Posing by the skin: the mesh itself is taken hold of and led; a click pins a hand or a foot where it is."""

from __future__ import annotations

import numpy as np

from pegloom.app.actions.posing import commit_pose, show_pose
from pegloom.app.context import Context
from pegloom.app.stage.tools import Drag, Pointer, StageTool, StageView, far
from pegloom.app.state.state import PosingSettings, Tool
from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import triangulate, vertex_normals
from pegloom.core.rig.by_skin import PROBES, Grab, Obstacle, limb_end, obstacle, standing_ends
from pegloom.core.rig.pose import JointPose, Pose
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Part, PartKind
from pegloom.scene.handles import MOVE_SNAP, on_view_plane
from pegloom.scene.picking import Hit

NEAR = 0.025
"""Shares of the height: what is so near what is led at the press is its own neighbour, and not run into."""
DEEPER = 0.004
"""Shares of the distance to the eye a pixel leads toward the eye or away, with Shift held."""


def strongest(character: Character, part: Part, vertices: IntArray) -> str:
    """The joint that moves some vertices of a part most, "" where nothing is bound."""
    weights = character.skin.weights.get(part.id) if character.skin is not None else None
    if weights is None or not weights.joint_ids:
        return ""
    total = np.asarray(weights.matrix()[vertices].sum(axis=0)).ravel()
    return weights.joint_ids[int(np.argmax(total))]


def mains(character: Character, part: Part) -> IntArray:
    """The joint (n,) that moves each vertex of a part most, as its row in the skeleton; -1 where there is none."""
    weights, skeleton = character.skin.weights.get(part.id) if character.skin is not None else None, character.skeleton
    if weights is None or skeleton is None or not weights.joint_ids:
        return np.full(part.mesh.vertex_count, -1, dtype=np.int64)
    rows = np.array([skeleton.index.get(j, -1) for j in weights.joint_ids], dtype=np.int64)
    best = np.asarray(weights.matrix().argmax(axis=1)).ravel()
    return np.asarray(rows[best])


def _below(skeleton: Skeleton, joint: str) -> set[int]:
    """Rows of a joint and all that hang on it."""
    found = {joint}
    for one in skeleton.joints:
        if one.parent in found:
            found.add(one.id)
    return {skeleton.index[j] for j in found}


def _limb_start(skeleton: Skeleton, joint: str) -> str:
    """Where the limb of a joint begins: the last joint above it that has no other limb beside it."""
    while True:
        above = skeleton.joint(joint).parent
        if above is None or sum(not c.aside for c in skeleton.children(above)) != 1:
            return joint
        joint = above


class SkinDrag:
    """Leads a point of the skin in the plane that faces the eye, with Shift toward the eye and away; shows the pose
    while moving and keeps it on release. A press that does not move pins, or lets go."""

    def __init__(self, view: StageView, at: Pointer, part: Part, hit: Hit, joint: str) -> None:
        self.c, self.camera, self.size, self.start = view.c, view.camera, view.size_in_points, at.at
        self.view, self.joint, self.place = view, joint, hit.point
        c = self.c
        self.base: Pose = c.frames.control_pose
        character, skeleton, rig = c.character, c.skeleton, c.character.require_rig()
        frame = c.frames.frame()
        assert frame is not None
        self.pose: Pose | None = None
        self.parts = [p for p in c.frames.seen_parts if p.kind is not PartKind.PROP]
        self.mains = {p.id: mains(character, p) for p in self.parts}
        mine, limb = _below(skeleton, joint), _below(skeleton, _limb_start(skeleton, joint))
        probes = self._probes(frame, mine, hit)
        self.grab = Grab(skeleton, rig, self.base, joint, hit.point, standing_ends(rig, self.base) | c.state.tooling.pins, probes=probes)
        self.others = self._others(frame, limb, probes)
        self.floor = min((float(frame.points[p.id][:, 1].min()) for p in self.parts), default=0.0)
        self.floor = min(self.floor, 0.0)
        self.deeper = 0.0
        self.last = at.at
        self.moved = (0.0, 0.0)

    def _probes(self, frame: PosedFrame, mine: set[int], hit: Hit) -> FloatArray:
        """Points that move with what is led, spread over it, the one under the pointer among them."""
        some = [frame.points[p.id][np.isin(self.mains[p.id], list(mine))] for p in self.parts]
        every = np.concatenate([np.zeros((0, 3)), *some])
        step = max(len(every) // PROBES, 1)
        return np.concatenate([every[::step][:PROBES], hit.point[None]])

    def _others(self, frame: PosedFrame, limb: set[int], probes: FloatArray) -> dict[str, IntArray]:
        """Vertices by part that may be run into: of other limbs and the trunk, not what touches at the press already."""
        near = NEAR * self.c.character.height
        found = {}
        for part in self.parts:
            other = np.flatnonzero(~np.isin(self.mains[part.id], list(limb)))
            if len(other):
                away = np.sqrt(((frame.points[part.id][other][:, None] - probes[None]) ** 2).sum(axis=2).min(axis=1))
                found[part.id] = other[away > near]
        return found

    def _obstacle(self) -> Obstacle:
        """The body as it stands now: it goes along while it is leaned over."""
        frame = self.c.frames.frame()
        points, normals = [np.zeros((0, 3))], [np.zeros((0, 3))]
        for part in self.parts:
            rows = self.others.get(part.id)
            if frame is not None and rows is not None and len(rows):
                posed = frame.points[part.id]
                points.append(posed[rows])
                normals.append(vertex_normals(part.mesh, posed)[rows])
        return obstacle(np.concatenate(points), np.concatenate(normals), self.floor)

    def move(self, at: Pointer) -> None:
        if self.pose is None and not far(at.at, self.start):
            return
        dx, dy = at.x - self.last[0], at.y - self.last[1]
        self.last = at.at
        if at.shift:
            away = float(np.linalg.norm(self.camera.eye - self.place))
            self.deeper -= dy * DEEPER * away
            self.moved = (self.moved[0] + dx, self.moved[1])
        else:
            self.moved = (self.moved[0] + dx, self.moved[1] + dy)
        x, y = self.start[0] + self.moved[0], self.start[1] + self.moved[1]
        step = on_view_plane(self.camera, self.place, x, y, self.size) - on_view_plane(self.camera, self.place, *self.start, self.size)
        step = step - self.camera.backward * self.deeper
        chosen = self.c.state.settings.of(PosingSettings)
        if at.ctrl is not chosen.snapping:
            unit = chosen.move_step / 100.0 or MOVE_SNAP
            step = np.round(step / unit) * unit
        self.pose = self.grab.led_to(self.place + step, self._obstacle())
        show_pose(self.c, self.pose, self._touched())

    def release(self) -> None:
        if self.pose is None:
            toggle_pin(self.c, limb_end(self.c.skeleton, self.c.character.require_rig(), self.joint))
            return
        if self.c.area.springs_back(self.c.state):
            self.c.store.drop_draft()
            self.c.say("A trial: it sprang back. Choose Pose to keep what you pose")
            return
        name = self.c.skeleton.joint(self.joint).name
        commit_pose(self.c, f"Pose by the skin: {name}", self.pose, self._touched())

    def _touched(self) -> tuple[str, ...]:
        """Controls whose values are others now."""
        assert self.pose is not None
        now, before = self.pose.values, self.base.values
        return tuple(dict.fromkeys(o for o, k in (*now, *before) if abs(now.get((o, k), 0.0) - before.get((o, k), 0.0)) > 1e-9))

    def cancel(self) -> None:
        self.c.store.drop_draft()


def toggle_pin(c: Context, joint: str) -> None:
    """Pin a joint where it is, or let it go."""
    pins, name = c.state.tooling.pins, c.skeleton.joint(joint).name
    gone = joint in pins
    c.store.put(pins=pins - {joint} if gone else pins | {joint})
    c.say(f"{name} is let go" if gone else f"{name} is pinned: it stays where it is while the body is posed by its skin")


class SkinTool(StageTool):
    """The mesh taken hold of."""

    id = "skin"

    def _found(self, view: StageView, x: float, y: float) -> tuple[Part, Hit, str] | None:
        c = view.c
        character = c.state.character
        if c.state.tooling.tool != Tool.SKIN or c.state.tooling.wanted is not None or character is None or character.rig is None:
            return None
        if isinstance(c.frames.pose, JointPose):
            return None
        hit = view.surface_at(x, y)
        if hit is None:
            return None
        joint = strongest(character, hit[0], triangulate(hit[0].mesh).vertices[hit[1].triangle])
        return (*hit, joint) if joint else None

    def wants(self, view: StageView, at: Pointer) -> bool:
        return self._found(view, at.x, at.y) is not None

    def press(self, view: StageView, at: Pointer) -> Drag | None:
        found = self._found(view, at.x, at.y)
        return None if found is None else SkinDrag(view, at, *found)

    def hover(self, view: StageView, x: float, y: float) -> tuple[str, str]:
        found = self._found(view, x, y)
        if found is None:
            return "", ""
        name = view.c.skeleton.joint(found[2]).name
        return f"skin {found[2]}", f"{name}: drag it and the body follows; a click pins the hand or foot where it is"

    def through(self, view: StageView) -> bool:
        return view.c.state.tooling.tool == Tool.SKIN
