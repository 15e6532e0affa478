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


@dataclass(frozen=True, slots=True)
class Camera:
    """Looks at `target` from `distance` metres, turned by yaw about Y and pitch above the ground (radians)."""

    target: tuple[float, float, float] = (0.0, 0.85, 0.0)
    distance: float = 4.2
    yaw: float = 0.35
    pitch: float = 0.12
    perspective: bool = True

    @property
    def backward(self) -> FloatArray:
        """Unit vector from the target to the eye."""
        cp = np.cos(self.pitch)
        return np.array([np.sin(self.yaw) * cp, np.sin(self.pitch), np.cos(self.yaw) * cp])

    @property
    def right(self) -> FloatArray:
        return np.array([np.cos(self.yaw), 0.0, -np.sin(self.yaw)])

    @property
    def up(self) -> FloatArray:
        return np.cross(self.backward, self.right)

    @property
    def eye(self) -> FloatArray:
        return np.array(self.target) + self.backward * self.distance

    def view(self) -> FloatArray:
        """camera_from_world, 4x4."""
        matrix = np.eye(4)
        matrix[:3, :3] = np.stack([self.right, self.up, self.backward])
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
        """Half of what fits the stage's height at the target, metres."""
        return float(self.distance * np.tan(FIELD_OF_VIEW / 2))

    def metres_a_pixel(self, point: FloatArray, height: float) -> float:
        """Size of a pixel at a point."""
        depth = self.distance
        if self.perspective:
            depth = max(float((self.eye - point) @ self.backward), 1e-4)
        return float(2 * depth * np.tan(FIELD_OF_VIEW / 2) / max(height, 1.0))

    def ray(self, x: float, y: float, width: float, height: float) -> Ray:
        """The line of sight through a pixel (y down)."""
        u, v = 2 * x / max(width, 1) - 1, 1 - 2 * y / max(height, 1)
        aspect = max(width, 1) / max(height, 1)
        half = self.half_height()
        on_target = np.array(self.target) + self.right * (u * half * aspect) + self.up * (v * half)
        if self.perspective:
            return Ray(self.eye, normalised(on_target - self.eye))
        return Ray(on_target + self.backward * (self.distance * 10), -self.backward)

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
        scale = 2 * self.half_height() / max(height, 1.0)
        x, y, z = np.array(self.target) - self.right * dx * scale + self.up * dy * scale
        return replace(self, target=(float(x), float(y), float(z)))

    def zoom(self, steps: float, x: float, y: float, width: float, height: float) -> Camera:
        """Nearer by a wheel's steps, what is under the pointer staying there."""
        distance = float(np.clip(self.distance * 0.88**steps, NEAREST, FARTHEST))
        ray = self.ray(x, y, width, height)
        along = float((np.array(self.target) - ray.origin) @ self.backward) / float(ray.direction @ self.backward)
        under = ray.origin + ray.direction * along
        tx, ty, tz = np.array(self.target) + (under - np.array(self.target)) * (1 - distance / self.distance)
        return replace(self, distance=distance, target=(float(tx), float(ty), float(tz)))

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
        low, high = points.min(axis=0), points.max(axis=0)
        x, y, z = (float(v) for v in (low + high) / 2)
        offset = points - (low + high) / 2
        tall = np.abs(offset @ self.up) * room
        wide = np.abs(offset @ self.right) * room / max(aspect, 0.1)
        slope = float(np.tan(FIELD_OF_VIEW / 2))
        # In perspective what is nearer to the eye needs more room.
        ahead = offset @ self.backward if self.perspective else np.zeros(len(points))
        distance = max(float((np.maximum(tall, wide) / slope + ahead).max()), 1e-3)
        return replace(self, target=(x, y, z), distance=distance)
