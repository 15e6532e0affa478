"""Lines of the control shapes, in the control's own space. Flat ones lie across y, their upper end along z."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import lru_cache
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.geometry.transforms import euler_quaternion, rotation_matrix
from pegloom.core.memo import by_identity
from pegloom.core.rig.controls import Control, ControlRig, Lines, Shape

Points = list[tuple[float, float]]


def shape_lines(control: Control) -> tuple[FloatArray, ...]:
    """Polylines (m, 3) of a control's shape, sized, stretched, tilted and offset; metres in the control's space."""
    return _placed(control.shape, control.lines, control.size, control.stretch, control.tilt, control.offset)


@lru_cache(maxsize=4096)
def _placed(
    shape: Shape, own: Lines, size: float, stretch: tuple[float, ...], tilt: tuple[float, ...], offset: tuple[float, ...]
) -> tuple[FloatArray, ...]:
    turn = rotation_matrix(euler_quaternion(np.array(tilt)))
    factors = size * np.array(stretch)
    lines = [np.array(line) for line in own] if own else unit_lines(shape)
    return tuple(np.asarray(frozen(line * factors @ turn.T + np.array(offset))) for line in lines)


def shape_axes(control: Control) -> FloatArray:
    """From a point of the shape's own space to the control's (4, 4)."""
    result = np.eye(4)
    result[:3, :3] = rotation_matrix(euler_quaternion(np.array(control.tilt))) * (control.size * np.array(control.stretch))
    result[:3, 3] = control.offset
    return result


class RigShapes:
    """The lines of all controls of a rig that are drawn, in one array, so that they are placed and picked at once.

    points (n, 3) : in their controls. owner (n,) : row of the control. starts (n - 1,) : whether a point and the next one
    make a segment.
    """

    def __init__(self, rig: ControlRig) -> None:
        pieces: list[FloatArray] = []
        owner: list[int] = []
        last: list[int] = []
        for row, control in enumerate(rig.controls):
            if control.helper:
                continue
            for line in shape_lines(control):
                pieces.append(line)
                owner += [row] * len(line)
                last.append(len(owner) - 1)
        self.points: FloatArray = np.concatenate(pieces) if pieces else np.zeros((0, 3))
        self.owner: IntArray = np.array(owner, dtype=np.int64)
        joined = np.ones(max(len(owner), 1), dtype=bool)
        joined[last] = False
        self.firsts: IntArray = np.flatnonzero(joined[: len(owner)])

    def placed(self, worlds: FloatArray) -> FloatArray:
        """The points (n, 3) in the character, for where the controls stand (c, 4, 4)."""
        if not len(self.points):
            return self.points
        frames = worlds[self.owner]
        return np.asarray(np.einsum("nij,nj->ni", frames[:, :3, :3], self.points) + frames[:, :3, 3])


@by_identity
def rig_shapes(rig: ControlRig) -> RigShapes:
    """The lines of a rig's controls, made once."""
    return RigShapes(rig)


@lru_cache(maxsize=64)
def unit_lines(shape: Shape) -> tuple[FloatArray, ...]:
    """Polylines (m, 3) of a shape about 1 in half its width."""
    return tuple(np.asarray(frozen(line)) for line in _LIBRARY[shape]())


def own_lines(shape: Shape) -> Lines:
    """A shape's lines as points that may be moved by hand."""
    return tuple(tuple((float(x), float(y), float(z)) for x, y, z in line) for line in unit_lines(shape))


def _circle(count: int = 40, radius: float = 1.0, begin: float = 0.0, end: float = 2 * np.pi) -> FloatArray:
    angle = np.linspace(begin, end, count + 1)
    return np.stack([radius * np.cos(angle), np.zeros_like(angle), radius * np.sin(angle)], axis=1)


def _flat(points: Points, *, closed: bool = True) -> FloatArray:
    return np.array([(x, 0.0, z) for x, z in ([*points, points[0]] if closed else points)])


def _smooth(points: Points, rounds: int = 3) -> FloatArray:
    """A closed line with its corners cut (Chaikin, 1974)."""
    line = np.array(points)
    for _ in range(rounds):
        following = np.roll(line, -1, axis=0)
        line = np.stack([0.75 * line + 0.25 * following, 0.25 * line + 0.75 * following], axis=1).reshape(-1, 2)
    return _flat([(float(x), float(z)) for x, z in line])


def _turned(flat: FloatArray) -> list[FloatArray]:
    """A flat line in all three planes."""
    return [flat, flat[:, [1, 0, 2]], flat[:, [0, 2, 1]]]


def _cube() -> list[FloatArray]:
    corners = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], dtype=np.float64) * 0.8
    return [corners[[0, 1, 3, 2, 0, 4, 5, 7, 6, 4]], corners[[1, 5]], corners[[3, 7]], corners[[2, 6]]]


def _cross() -> list[FloatArray]:
    a = 0.3
    quarter: Points = [(-a, -1), (a, -1), (a, -a), (1, -a), (1, a), (a, a), (a, 1), (-a, 1), (-a, a), (-1, a), (-1, -a), (-a, -a)]
    return [_flat(quarter)]


def _pin() -> list[FloatArray]:
    head = _circle(24) * 0.28
    return [np.array([(0.0, 0.0, 0.0), (0.0, 0.0, 1.0)]), head[:, [1, 0, 2]] + [0.0, 0.0, 1.28]]


def _star() -> list[FloatArray]:
    angle = np.linspace(0.0, 2 * np.pi, 11)[:-1] + np.pi / 2
    far = np.where(np.arange(10) % 2 == 0, 1.05, 0.5)
    return [_flat([(float(r * np.cos(a)), float(r * np.sin(a))) for r, a in zip(far, angle, strict=True)])]


def _two_ways() -> list[FloatArray]:
    return [_flat([(-1, 0), (-0.6, 0.35), (-0.6, 0.14), (0.6, 0.14), (0.6, 0.35), (1, 0), (0.6, -0.35), (0.6, -0.14), (-0.6, -0.14), (-0.6, -0.35)])]


def _four_ways() -> list[FloatArray]:
    arm: Points = [(0.14, 0.14), (0.14, 0.62), (0.32, 0.62), (0.0, 1.0), (-0.32, 0.62), (-0.14, 0.62)]
    line: Points = []
    for k in range(4):
        c, s = np.cos(k * np.pi / 2), np.sin(k * np.pi / 2)
        line += [(float(c * x - s * z), float(s * x + c * z)) for x, z in arm]
    return [_flat(line)]


def _bend() -> list[FloatArray]:
    """A bowed arrow of two ends, for what swings."""
    bow = _circle(20, 1.0, np.radians(40), np.radians(140)) - [0.0, 0.0, 0.35]
    tips = [bow[0], bow[-1]]
    heads = [np.array([t + [-s * 0.05, 0, 0.28], t, t + [-s * 0.28, 0, -0.06]]) for t, s in zip(tips, (1, -1), strict=True)]
    return [bow, *heads]


def _turn() -> list[FloatArray]:
    """A ring that ends in an arrow, for what spins."""
    ring = _circle(36, 1.0, np.radians(-60), np.radians(240))
    tip = ring[-1]
    return [ring, np.array([tip + [-0.33, 0, 0.0], tip, tip + [0.1, 0, 0.33]])]


def _bobbin() -> list[FloatArray]:
    disc = _circle(24, 0.6)
    return [disc + [0, 0.7, 0], disc - [0, 0.7, 0], np.array([(0.0, 0.7, 0.0), (0.0, -0.7, 0.0)]), _circle(20, 0.25)]


def _ball() -> list[FloatArray]:
    return _turned(_circle())


_LIBRARY: Mapping[Shape, Callable[[], list[FloatArray]]] = MappingProxyType({
    Shape.CIRCLE: lambda: [_circle()],
    Shape.SQUARE: lambda: [_flat([(-1, -1), (1, -1), (1, 1), (-1, 1)])],
    Shape.TRIANGLE: lambda: [_flat([(0, 1.15), (-1, -0.6), (1, -0.6)])],
    Shape.DIAMOND: lambda: _turned(_flat([(0, -1), (1, 0), (0, 1), (-1, 0)])),
    Shape.ARROW: lambda: [_flat([(-0.3, -1), (0.3, -1), (0.3, 0.1), (0.75, 0.1), (0, 1), (-0.75, 0.1), (-0.3, 0.1)])],
    Shape.CROSS: _cross,
    Shape.CUBE: _cube,
    Shape.SPHERE: _ball,
    Shape.PIN: _pin,
    Shape.ARC: lambda: [_circle(24, 1.0, np.radians(-10), np.radians(190))],
    Shape.PLATE: lambda: [_smooth([(-1, -0.75), (-0.75, -1), (0.75, -1), (1, -0.75), (1, 0.75), (0.75, 1), (-0.75, 1), (-1, 0.75)], 2)],
    Shape.HEXAGON: lambda: [_circle(6)],
    Shape.STAR: _star,
    Shape.SHUTTLE: lambda: [_smooth([(-1.2, 0), (-0.5, 0.55), (0.5, 0.55), (1.2, 0), (0.5, -0.55), (-0.5, -0.55)]), _circle(12, 0.18)],
    Shape.SOLE: lambda: [_smooth([(-0.55, -1.05), (0.55, -1.05), (0.62, -0.3), (1.12, 0.35), (0.95, 1.1), (-0.95, 1.1), (-1.12, 0.35), (-0.62, -0.3)])],
    Shape.PADDLE: lambda: [_flat([(0, 0), (0, 0.5)], closed=False), _smooth([(-0.45, 0.55), (0.45, 0.55), (0.55, 1.5), (-0.55, 1.5)])],
    Shape.FLAG: lambda: [_flat([(0, 0), (0, 1.4), (0.8, 1.1), (0, 0.8)], closed=False)],
    Shape.TWO_WAYS: _two_ways,
    Shape.FOUR_WAYS: _four_ways,
    Shape.BEND: _bend,
    Shape.TURN: _turn,
    Shape.BOBBIN: _bobbin,
    Shape.EYELET: lambda: [_circle(32), _circle(20, 0.5)],
    Shape.BAR: lambda: [_flat([(-1, -0.22), (1, -0.22), (1, 0.22), (-1, 0.22)])],
})  # fmt: skip
