"""What a live frame costs most, compiled: joints turned and placed, limbs bent, soles looked at. They run beside the window's thread."""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.motion.retarget.plant import STRETCH
from pegloom.core.rig.kernels.algebra import (
    aim_frame,
    blend_rotation,
    flip,
    norm,
    on,
    quaternion,
    square_to,
    times,
    turn_vector,
    turned,
    vector_turn,
)

SIDE = np.array([1.0, 0.0, 0.0])


@njit(cache=True)
def seen(worlds, upright, rests, turns, at):  # pragma: no cover
    """How a source's joints have turned (j, 3, 3) from the pose they are read from, and where they are (j, 3), stood up.

    worlds (j, 4, 4). rests (j, 3, 3) : their axes in that pose.
    """
    for j in range(len(worlds)):
        plain = worlds[j, :3, :3].copy()
        for c in range(3):
            plain[:, c] /= max(norm(plain[:, c]), 1e-12)
        turns[j] = times(upright, times(plain, flip(rests[j])))
        at[j] = on(upright, worlds[j, :3, 3])


@njit(cache=True)
def told(there, first, second, share, constant, joints, turns, given):  # pragma: no cover
    """What joints here turn by: as one there, or between two of them, by a constant turn. Writes turns (j, 3, 3) and given (j,)."""
    for k in range(len(joints)):
        turns[joints[k]] = times(blend_rotation(there[first[k]], there[second[k]], share[k]), constant[k])
        given[joints[k]] = True


@njit(cache=True)
def stand(parents, bones, rest, base, place, turns, given, turned_, at, some):  # pragma: no cover
    """Where joints `some`, parents first, are and how they have turned; what is not given goes with its parent."""
    for k in range(len(some)):
        j = some[k]
        p = parents[j]
        if given[j]:
            turned_[j] = turns[j]
        else:
            turned_[j] = turned_[p] if p >= 0 else np.eye(3)
        if j == base:
            at[j] = place
        elif p < 0:
            at[j] = rest[j]
        else:
            at[j] = at[p] + on(turned_[p], bones[j])


@njit(cache=True)
def limited(parents, numbers, low, high, axes, turns, given, turned_):  # pragma: no cover
    """Bring joints (m,), parents first, within their limits (m, 3) of the rotation vector about their own axes (m, 3, 3)."""
    for k in range(len(numbers)):
        j = numbers[k]
        p = parents[j]
        if p < 0 or not given[j]:
            continue
        back = flip(axes[k])
        vector = turn_vector(times(back, times(flip(turned_[p]), times(turns[j], axes[k]))))
        kept = np.minimum(np.maximum(vector, low[k]), high[k])
        if norm(kept - vector) > 0.0:
            turns[j] = times(turned_[p], times(axes[k], times(vector_turn(kept), back)))
        turned_[j] = turns[j]


@njit(cache=True)
def lowest(points, joints, weights, rest, turned_, at):  # pragma: no cover
    """How high the lowest of a sole's points (n, 3) is, carried by joints (n, i) with weights (n, i)."""
    best = np.inf
    for n in range(len(points)):
        high = 0.0
        for i in range(joints.shape[1]):
            j = joints[n, i]
            high += weights[n, i] * (on(turned_[j], points[n] - rest[j])[1] + at[j, 1])
        best = min(best, high)
    return best


@njit(cache=True)
def bone_axes(bone, side):
    """Axes (3, 3): y along a bone, x as near `side` as squareness allows."""
    aim = bone / max(norm(bone), 1e-12)
    return aim_frame(aim, square_to(side, aim, SIDE))


@njit(cache=True)
def bend(upper, lower, end, goal, axis, turns, turned_, at):  # pragma: no cover
    """Turn a limb's two bones so that its end is at a goal (3,), its end joint turned as it was; as `plant.bend_to`. Joints below have to
    stand anew."""
    first, second = at[lower] - at[upper], at[end] - at[lower]
    a, b = norm(first), norm(second)
    side = on(turned_[upper], axis)
    way = goal - at[upper]
    reach = min(max(norm(way), abs(a - b) + 0.02 * (a + b)), STRETCH * (a + b))
    square = bone_axes(way, side)
    hinge, ahead = square[:, 0].copy(), square[:, 1].copy()
    alpha = np.arccos(min(max((a * a + reach * reach - b * b) / (2 * a * reach), -1.0), 1.0))
    beta = np.arccos(min(max((b * b + reach * reach - a * a) / (2 * b * reach), -1.0), 1.0))
    for joint, bone, angle in ((upper, first, -alpha), (lower, second, beta)):
        new = bone_axes(turned(ahead, hinge, angle), hinge)
        turns[joint] = times(times(new, flip(bone_axes(bone, side))), turned_[joint])
    turns[end] = turned_[end]


@njit(cache=True)
def rows(parents, axes, turned_, at, out):  # pragma: no cover
    """(j, 10) of each joint in its parent: place, quaternion, scale. axes (j, 3, 3) : of the joints at rest."""
    for j in range(len(parents)):
        p = parents[j]
        own, place = times(turned_[j], axes[j]), at[j]
        if p >= 0:
            back = flip(times(turned_[p], axes[p]))
            own, place = times(back, own), on(back, at[j] - at[p])
        out[j, :3], out[j, 3:7], out[j, 7:] = place, quaternion(own), 1.0
