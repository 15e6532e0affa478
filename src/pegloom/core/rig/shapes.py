"""Lines of the control shapes, in the control's own space."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.transforms import euler_quaternion, rotation_matrix
from pegloom.core.rig.controls import Control, Shape


@lru_cache(maxsize=4096)
def shape_lines(control: Control) -> tuple[FloatArray, ...]:
    """Polylines (m, 3) of a control's shape, sized, tilted and offset; metres in the control's space."""
    turn = rotation_matrix(euler_quaternion(control.tilt))
    lines = [line * control.size @ turn.T + control.offset for line in _unit_lines(control.shape)]
    return tuple(np.asarray(frozen(line)) for line in lines)


def _circle(count: int = 40) -> FloatArray:
    angle = np.linspace(0.0, 2 * np.pi, count + 1)
    return np.stack([np.cos(angle), np.zeros_like(angle), np.sin(angle)], axis=1)


def _flat(points: list[tuple[float, float]]) -> FloatArray:
    return np.array([(x, 0.0, z) for x, z in [*points, points[0]]])


def _unit_lines(shape: Shape) -> list[FloatArray]:
    if shape is Shape.CIRCLE:
        return [_circle()]
    if shape is Shape.SQUARE:
        return [_flat([(-1, -1), (1, -1), (1, 1), (-1, 1)])]
    if shape is Shape.TRIANGLE:
        return [_flat([(0, 1.15), (-1, -0.6), (1, -0.6)])]
    if shape is Shape.DIAMOND:
        flat = _flat([(0, -1), (1, 0), (0, 1), (-1, 0)])
        return [flat, flat[:, [1, 0, 2]], flat[:, [0, 2, 1]]]
    if shape is Shape.ARROW:
        return [_flat([(-0.3, -1), (0.3, -1), (0.3, 0.1), (0.75, 0.1), (0, 1), (-0.75, 0.1), (-0.3, 0.1)])]
    if shape is Shape.CROSS:
        a = 0.3
        return [
            _flat(
                [
                    (-a, -1),
                    (a, -1),
                    (a, -a),
                    (1, -a),
                    (1, a),
                    (a, a),
                    (a, 1),
                    (-a, 1),
                    (-a, a),
                    (-1, a),
                    (-1, -a),
                    (-a, -a),
                ]
            )
        ]
    if shape is Shape.CUBE:
        corners = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=np.float64) * 0.8
        order = [0, 1, 3, 2, 0, 4, 5, 7, 6, 4]
        return [corners[order], corners[[1, 5]], corners[[3, 7]], corners[[2, 6]]]
    if shape is Shape.SPHERE:
        ring = _circle()
        return [ring, ring[:, [1, 0, 2]], ring[:, [0, 2, 1]]]
    ring = _circle(24) * 0.28
    stem = np.array([(0.0, 0.0, 0.0), (0.0, 0.0, 1.0)])
    return [stem, ring[:, [1, 0, 2]] + [0.0, 0.0, 1.28]]
