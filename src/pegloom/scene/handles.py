"""Move, turn and grow handles: their lines, and what a drag on one means."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised, quaternion_about, rotation_matrix
from pegloom.scene.camera import Camera
from pegloom.scene.picking import line_distance

PIXELS = 74.0
"""Length of a handle's arm on screen."""
MOVE_SNAP, TURN_SNAP = 0.01, np.radians(5.0)


class HandleKind(Enum):
    MOVE = "move"
    TURN = "turn"
    GROW = "grow"


@dataclass(frozen=True, slots=True)
class Handle:
    """A handle at `frame` (4x4, character space). size: metres of its arm."""

    kind: HandleKind
    frame: FloatArray
    size: float


def make_handle(kind: HandleKind, frame: FloatArray, camera: Camera, size: tuple[int, int]) -> Handle:
    """A handle of constant size on screen."""
    turned = np.eye(4)
    turned[:3, :3] = frame[:3, :3] / np.maximum(np.linalg.norm(frame[:3, :3], axis=0), 1e-12)
    turned[:3, 3] = frame[:3, 3]
    return Handle(kind, turned, camera.metres_a_pixel(frame[:3, 3], size[1]) * PIXELS)


def handle_lines(handle: Handle, camera: Camera) -> list[tuple[str, FloatArray]]:
    """(grip, polyline) of each grip: x, y, z, and view for the ring that faces the eye."""
    origin, turn, s = handle.frame[:3, 3], handle.frame[:3, :3], handle.size
    lines: list[tuple[str, FloatArray]] = []
    angle = np.linspace(0, 2 * np.pi, 49)
    for k, name in enumerate("xyz"):
        axis = turn[:, k]
        if handle.kind is HandleKind.TURN:
            a, b = turn[:, (k + 1) % 3], turn[:, (k + 2) % 3]
            ring = origin + s * (np.cos(angle)[:, None] * a + np.sin(angle)[:, None] * b)
            lines.append((name, ring))
        elif handle.kind is HandleKind.MOVE:
            lines.append((name, np.array([origin + axis * 0.24 * s, origin + axis * s])))
        else:
            lines.append((name, np.array([origin + axis * 0.24 * s, origin + axis * 0.8 * s])))
    radius = {HandleKind.TURN: 1.16, HandleKind.MOVE: 0.2, HandleKind.GROW: 1.0}[handle.kind] * s
    ring = origin + radius * (np.cos(angle)[:, None] * camera.right + np.sin(angle)[:, None] * camera.up)
    lines.append(("view", ring))
    return lines


def grip_under(handle: Handle, x: float, y: float, camera: Camera, size: tuple[int, int]) -> str | None:
    """Which grip is under the pointer."""
    found = [(line_distance(line, x, y, camera, size), name) for name, line in handle_lines(handle, camera)]
    distance, name = min(found)
    return name if distance <= 9.0 else None


@dataclass(frozen=True, slots=True)
class HandleDrag:
    """A drag on a grip, from its press. `change` gives a 4x4 in character space to apply to what is held.

    move_step, turn_step : what a drag snaps to, metres and radians.
    """

    handle: Handle
    grip: str
    camera: Camera
    size: tuple[int, int]
    start: tuple[float, float]
    move_step: float = MOVE_SNAP
    turn_step: float = TURN_SNAP

    def change(self, x: float, y: float, *, snap: bool = False) -> FloatArray:
        """The map from where things stood at the press to where they stand now."""
        if self.handle.kind is HandleKind.MOVE:
            return self._move(x, y, snap)
        if self.handle.kind is HandleKind.TURN:
            return self._turn(x, y, snap)
        return self._grow(x, y)

    def _axis(self) -> FloatArray:
        if self.grip == "view":
            return self.camera.backward
        return np.asarray(self.handle.frame[:3, "xyz".index(self.grip)])

    def _move(self, x: float, y: float, snap: bool) -> FloatArray:
        origin = self.handle.frame[:3, 3]
        matrix = np.eye(4)
        if self.grip == "view":
            a = on_view_plane(self.camera, origin, *self.start, self.size)
            delta = on_view_plane(self.camera, origin, x, y, self.size) - a
            if snap:
                delta = np.round(delta / self.move_step) * self.move_step
        else:
            axis = self._axis()
            amount = self._along(x, y, axis) - self._along(*self.start, axis)
            delta = axis * (round(amount / self.move_step) * self.move_step if snap else amount)
        matrix[:3, 3] = delta
        return matrix

    def _along(self, x: float, y: float, axis: FloatArray) -> float:
        """Where along the axis the line of sight passes nearest."""
        ray = self.camera.ray(x, y, *self.size)
        w = ray.origin - self.handle.frame[:3, 3]
        b = float(axis @ ray.direction)
        denominator = 1 - b * b
        if denominator < 1e-4:  # looking down the axis: nothing sensible to say
            return 0.0
        return float((axis @ w - b * (ray.direction @ w)) / denominator)

    def _turn(self, x: float, y: float, snap: bool) -> FloatArray:
        centre = self.camera.project(self.handle.frame[:3, 3], *self.size)[0, :2]
        before = np.arctan2(-(self.start[1] - centre[1]), self.start[0] - centre[0])
        now = np.arctan2(-(y - centre[1]), x - centre[0])
        angle = float((now - before + np.pi) % (2 * np.pi) - np.pi)
        axis = self._axis()
        if float(axis @ (self.camera.eye - self.handle.frame[:3, 3])) < 0:
            angle = -angle
        if snap:
            angle = round(angle / self.turn_step) * self.turn_step
        origin = self.handle.frame[:3, 3]
        matrix = np.eye(4)
        matrix[:3, :3] = rotation_matrix(quaternion_about(axis, angle))
        matrix[:3, 3] = origin - matrix[:3, :3] @ origin
        return matrix

    def _grow(self, x: float, y: float) -> FloatArray:
        centre = self.camera.project(self.handle.frame[:3, 3], *self.size)[0, :2]
        before = max(float(np.hypot(self.start[0] - centre[0], self.start[1] - centre[1])), 4.0)
        factor = max(float(np.hypot(x - centre[0], y - centre[1])) / before, 0.05)
        origin = self.handle.frame[:3, 3]
        matrix = np.eye(4)
        matrix[:3, :3] *= factor
        matrix[:3, 3] = origin - factor * origin
        return matrix


def on_view_plane(camera: Camera, point: FloatArray, x: float, y: float, size: tuple[int, int]) -> FloatArray:
    """Where the line of sight meets the plane through `point` that faces the eye."""
    ray = camera.ray(x, y, *size)
    normal = camera.backward
    slope = float(ray.direction @ normal)
    if abs(slope) < 1e-9:
        return np.array(point)
    return ray.origin + ray.direction * (float((point - ray.origin) @ normal) / slope)


def arrow_tip(line: FloatArray, size: float) -> FloatArray:
    """A small cross-stroke at a move arm's end, so that it reads as an arrow from any side (m, 3)."""
    direction = normalised(line[1] - line[0])
    return np.array([line[1] - direction * 0.16 * size, line[1]])
