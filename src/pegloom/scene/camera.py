"""The camera: where it looks from, and the maps between the stage's pixels and space."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.transforms import normalised

FIELD_OF_VIEW = np.radians(32.0)
NEAREST, FARTHEST = 0.01, 2000.0


@dataclass(frozen=True, slots=True)
class Ray:
    origin: FloatArray
    direction: FloatArray


Placed = tuple[float, ...]
"""world_from_figure (4, 4) row by row, of place, rotation and even scale."""


def placed_by(matrix: FloatArray) -> Placed | None:
    """As a camera keeps it; None for a figure that stands in the world's middle."""
    return None if np.array_equal(matrix, np.eye(4)) else tuple(float(v) for v in matrix.ravel())


@dataclass(frozen=True, slots=True)
class Camera:
    """Looks at `looks_at` from `distance` metres, turned by yaw about Y and pitch above the ground (radians).

    placed : where the figure in hand stands. `looks_at`, `distance`, `yaw` and `pitch` are the world's; all else that is asked
        and told is in the figure's own space, so that whoever works on it need not know of the world.
    """

    looks_at: tuple[float, float, float] = (0.0, 0.85, 0.0)
    distance: float = 4.2
    yaw: float = 0.35
    pitch: float = 0.12
    perspective: bool = True
    placed: Placed | None = None

    @property
    def world(self) -> Camera:
        """The same camera with all it tells in the world's space."""
        return self if self.placed is None else replace(self, placed=None)

    @property
    def world_from_figure(self) -> FloatArray:
        """Where the figure in hand stands, 4x4."""
        return np.eye(4) if self.placed is None else np.array(self.placed).reshape(4, 4)

    @property
    def scale(self) -> float:
        """Metres of the world to one of the figure's."""
        return 1.0 if self.placed is None else float(np.linalg.norm(self.world_from_figure[:3, 0]))

    def _turned(self, direction: FloatArray) -> FloatArray:
        """A direction of the world, in the figure's space."""
        return direction if self.placed is None else self.world_from_figure[:3, :3].T @ direction / self.scale

    def _at(self, point: FloatArray) -> FloatArray:
        """A place in the world, in the figure's space."""
        if self.placed is None:
            return point
        return np.asarray(self.world_from_figure[:3, :3].T @ (point - self.world_from_figure[:3, 3]) / self.scale**2)

    @property
    def backward(self) -> FloatArray:
        """Unit vector from the target to the eye."""
        cp = np.cos(self.pitch)
        return self._turned(np.array([np.sin(self.yaw) * cp, np.sin(self.pitch), np.cos(self.yaw) * cp]))

    @property
    def right(self) -> FloatArray:
        return self._turned(np.array([np.cos(self.yaw), 0.0, -np.sin(self.yaw)]))

    @property
    def up(self) -> FloatArray:
        return np.cross(self.backward, self.right)

    @property
    def target(self) -> FloatArray:
        """What it looks at (3,)."""
        return self._at(np.array(self.looks_at))

    @property
    def eye(self) -> FloatArray:
        return self.target + self.backward * (self.distance / self.scale)

    def view(self) -> FloatArray:
        """camera_from_figure, 4x4; lengths seen by the camera are the world's."""
        matrix = np.eye(4)
        matrix[:3, :3] = np.stack([self.right, self.up, self.backward]) * self.scale
        matrix[:3, 3] = -matrix[:3, :3] @ self.eye
        return matrix

    def projection(self, width: float, height: float) -> FloatArray:
        """clip_from_camera, 4x4."""
        aspect = max(width, 1.0) / max(height, 1.0)
        near, far = max(self.distance * 0.02, 1e-4), self.distance * 30 + 50
        matrix = np.zeros((4, 4))
        if self.perspective:
            f = 1.0 / np.tan(FIELD_OF_VIEW / 2)
            matrix[0, 0], matrix[1, 1] = f / aspect, f
            matrix[2, 2], matrix[2, 3] = -(far + near) / (far - near), -2 * far * near / (far - near)
            matrix[3, 2] = -1.0
            return matrix
        half = self.half_height()
        matrix[0, 0], matrix[1, 1] = 1 / (half * aspect), 1 / half
        matrix[2, 2], matrix[2, 3] = -2 / (2 * far), 0.0
        matrix[3, 3] = 1.0
        return matrix

    def half_height(self) -> float:
        """Half of what fits the stage's height at the target, metres of the world."""
        return float(self.distance * np.tan(FIELD_OF_VIEW / 2))

    def metres_a_pixel(self, point: FloatArray, height: float) -> float:
        """Size of a pixel at a point."""
        depth = self.distance / self.scale
        if self.perspective:
            depth = max(float((self.eye - point) @ self.backward), 1e-4)
        return float(2 * depth * np.tan(FIELD_OF_VIEW / 2) / max(height, 1.0))

    def ray(self, x: float, y: float, width: float, height: float) -> Ray:
        """The line of sight through a pixel (y down)."""
        u, v = 2 * x / max(width, 1) - 1, 1 - 2 * y / max(height, 1)
        aspect = max(width, 1) / max(height, 1)
        half = self.half_height() / self.scale
        on_target = self.target + self.right * (u * half * aspect) + self.up * (v * half)
        if self.perspective:
            return Ray(self.eye, normalised(on_target - self.eye))
        return Ray(on_target + self.backward * (self.distance / self.scale * 10), -self.backward)

    def project(self, points: FloatArray, width: float, height: float) -> FloatArray:
        """Pixels (n, 2) and depth toward the eye (third column; negative behind it) of points (n, 3)."""
        p = np.atleast_2d(points)
        full = self.projection(width, height) @ self.view()
        clip = p @ full[:, :3].T + full[:, 3]
        w = np.where(np.abs(clip[:, 3:]) < 1e-9, 1e-9, clip[:, 3:])
        ndc = clip[:, :3] / w
        depth = (self.eye - p) @ self.backward
        return np.stack([(ndc[:, 0] + 1) / 2 * width, (1 - ndc[:, 1]) / 2 * height, depth], axis=1)

    def orbit(self, dx: float, dy: float) -> Camera:
        """Turned by a drag of dx, dy pixels."""
        pitch = float(np.clip(self.pitch + dy * 0.008, -1.55, 1.55))
        return replace(self, yaw=self.yaw - dx * 0.008, pitch=pitch)

    def pan(self, dx: float, dy: float, height: float) -> Camera:
        """Moved sideways so that the target's plane follows the pointer."""
        scale, world = 2 * self.half_height() / max(height, 1.0), self.world
        x, y, z = world.target - world.right * dx * scale + world.up * dy * scale
        return replace(self, looks_at=(float(x), float(y), float(z)))

    def zoom(self, steps: float, x: float, y: float, width: float, height: float) -> Camera:
        """Nearer by a wheel's steps, what is under the pointer staying there."""
        distance = float(np.clip(self.distance * 0.88**steps, NEAREST, FARTHEST))
        world = self.world
        ray = world.ray(x, y, width, height)
        along = float((world.target - ray.origin) @ world.backward) / float(ray.direction @ world.backward)
        under = ray.origin + ray.direction * along
        tx, ty, tz = world.target + (under - world.target) * (1 - distance / self.distance)
        return replace(self, distance=distance, looks_at=(float(tx), float(ty), float(tz)))

    def along(self, axis: str) -> Camera:
        """Looking along x, y or z without perspective; again: from behind."""
        yaw, pitch = {"x": (np.pi / 2, 0.0), "y": (0.0, np.pi / 2 - 0.02), "z": (0.0, 0.0)}[axis]
        if not self.perspective and abs(self.yaw - yaw) < 1e-3 and abs(self.pitch - pitch) < 1e-3:
            yaw, pitch = (yaw, -pitch) if axis == "y" else (yaw + np.pi, 0.0)
        return replace(self, yaw=float(yaw), pitch=float(pitch), perspective=False)

    def framing(self, points: FloatArray, *, aspect: float = 1.4, room: float = 1.18) -> Camera:
        """The same direction, with all points in sight."""
        if len(points) == 0:
            return self
        world = self.world
        points = points @ self.world_from_figure[:3, :3].T + self.world_from_figure[:3, 3]
        low, high = points.min(axis=0), points.max(axis=0)
        x, y, z = (float(v) for v in (low + high) / 2)
        offset = points - (low + high) / 2
        tall = np.abs(offset @ world.up) * room
        wide = np.abs(offset @ world.right) * room / max(aspect, 0.1)
        slope = float(np.tan(FIELD_OF_VIEW / 2))
        # In perspective what is nearer to the eye needs more room.
        ahead = offset @ world.backward if self.perspective else np.zeros(len(points))
        distance = max(float((np.maximum(tall, wide) / slope + ahead).max()), 1e-3)
        return replace(self, looks_at=(x, y, z), distance=distance)
