"""Joints laid along a smooth curve through controls, compiled.

Centripetal Catmull-Rom through the controls (Catmull, Rom 1974; Yuksel, Schaefer, Keyser, "Parameterization and
applications of Catmull-Rom curves", 2011), run through by arc length; its frames are carried along without twist
(Bishop 1975) and turned evenly to what the last control is turned by.
"""
# mypy: disable-error-code="no-untyped-def, no-untyped-call, untyped-decorator"

from __future__ import annotations

import numpy as np
from numba import njit

from pegloom.core.rig.kernels.algebra import (
    about,
    aim_frame,
    blend_rotation,
    flip,
    least_turn,
    norm,
    on,
    signed_angle,
    size_of,
    square_to,
    times,
)

FINE = 24
"""Samples between two controls."""


@njit(cache=True)
def curve_points(controls, out):
    """Points of the curve through controls (c, 3) into out ((c - 1) * FINE + 1, 3)."""
    c = len(controls)
    for k in range(c - 1):
        p1, p2 = controls[k], controls[k + 1]
        p0 = controls[k - 1] if k > 0 else 2.0 * p1 - p2
        p3 = controls[k + 2] if k + 2 < c else 2.0 * p2 - p1
        t1 = np.sqrt(max(norm(p1 - p0), 1e-9))
        t2 = t1 + np.sqrt(max(norm(p2 - p1), 1e-9))
        t3 = t2 + np.sqrt(max(norm(p3 - p2), 1e-9))
        for s in range(FINE):
            t = t1 + (t2 - t1) * s / FINE
            a1 = (t1 - t) / t1 * p0 + t / t1 * p1
            a2 = (t2 - t) / (t2 - t1) * p1 + (t - t1) / (t2 - t1) * p2
            a3 = (t3 - t) / (t3 - t2) * p2 + (t - t2) / (t3 - t2) * p3
            b1 = (t2 - t) / t2 * a1 + t / t2 * a2
            b2 = (t3 - t) / (t3 - t1) * a2 + (t - t1) / (t3 - t1) * a3
            out[k * FINE + s] = (t2 - t) / (t2 - t1) * b1 + (t - t1) / (t2 - t1) * b2
    out[(c - 1) * FINE] = controls[c - 1]


@njit(cache=True)
def curve_frames(points, first, last, twist, frames, along):
    """Frames (n, 3, 3) of a curve's points (n, 3), y along it, and how far along each is (n,).

    first, last (3,) : what their x axes are turned to at the ends. twist : that the last one's has at rest.
    """
    n = len(points)
    along[0] = 0.0
    tangents = np.empty((n, 3))
    for i in range(n):
        a, b = points[max(i - 1, 0)], points[min(i + 1, n - 1)]
        tangents[i] = (b - a) / max(norm(b - a), 1e-12)
        if i > 0:
            along[i] = along[i - 1] + norm(points[i] - points[i - 1])
    x = square_to(first, tangents[0], np.array([0.3, 0.5, 0.8]))
    frames[0] = aim_frame(tangents[0], x)
    for i in range(1, n):
        x = square_to(on(least_turn(tangents[i - 1], tangents[i]), x), tangents[i], x)
        frames[i] = aim_frame(tangents[i], x)
    more = signed_angle(x, square_to(last, tangents[n - 1], x), tangents[n - 1]) - twist
    more -= 2.0 * np.pi * np.round(more / (2.0 * np.pi))
    for i in range(n):
        share = along[i] / max(along[n - 1], 1e-12)
        frames[i] = times(about(tangents[i], more * share), frames[i])
    return more


@njit(cache=True)
def on_curve(points, frames, along, distance, place, frame):
    """Place (3,) and frame (3, 3) so far along a curve, into the last two; beyond its ends it goes straight on."""
    n = len(points)
    i = min(max(np.searchsorted(along, distance) - 1, 0), n - 2)
    t = (distance - along[i]) / max(along[i + 1] - along[i], 1e-12)
    if t < 0.0 or t > 1.0:
        end = 0 if t < 0.0 else n - 1
        place[:] = points[end] + frames[end][:, 1] * (distance - along[end])
        frame[:] = frames[end]
        return
    place[:] = points[i] + (points[i + 1] - points[i]) * t
    frame[:] = blend_rotation(frames[i], frames[i + 1], t)


@njit(cache=True)
def spline(world, ints, values, floats):
    """Lay a chain along its curve: world of its joints, FK blended toward it.

    ints : how many joints, how many controls; the joints' nodes; the nodes they start from; the controls' nodes; slots of
    its amount, of keep length, slide and roll (-1 for none).
    floats : what the three settings are without a slot; the length at rest, the twist at rest; the x axes of first and last
    control (6); how far along each joint is at rest (n,); each joint in the curve's frame there (n, 4, 4).
    """
    n, c = ints[0], ints[1]
    joints, starts, holds, slots = ints[2 : 2 + n], ints[2 + n : 2 + 2 * n], ints[2 + 2 * n : 2 + 2 * n + c], ints[2 + 2 * n + c :]
    amount = values[slots[0]]
    if amount <= 0.0:
        for i in range(n):
            world[joints[i]] = world[starts[i]]
        return
    keep = floats[0] if slots[1] < 0 else values[slots[1]]
    slide = floats[1] if slots[2] < 0 else values[slots[2]]
    roll = floats[2] if slots[3] < 0 else values[slots[3]]
    controls = np.empty((c, 3))
    for k in range(c):
        controls[k] = world[holds[k]][:3, 3]
    count = (c - 1) * FINE + 1
    points, frames, along = np.empty((count, 3)), np.empty((count, 3, 3)), np.empty(count)
    curve_points(controls, points)
    first = on(world[holds[0]], floats[5:8])
    last = on(world[holds[c - 1]], floats[8:11])
    curve_frames(points, first, last, floats[4], frames, along)
    size = size_of(world[holds[0]])
    whole, rest = along[count - 1], floats[3]
    places, turns = np.empty((n, 3)), np.empty((n, 3, 3))
    place, frame = np.empty(3), np.empty((3, 3))
    for i in range(n):
        own = floats[11 + i]
        spread = own * whole / max(rest, 1e-12)
        at = spread + keep * (own * size - spread) + slide * whole
        on_curve(points, frames, along, at, place, frame)
        if roll != 0.0:
            frame = times(about(frame[:, 1].copy(), roll), frame)
        offset = floats[11 + n + 16 * i : 27 + n + 16 * i].reshape(4, 4)
        places[i] = place + on(frame, offset[:3, 3]) * size
        turns[i] = times(frame, offset[:3, :3].copy())
    begin = np.empty((n, 4, 4))
    for i in range(n):
        begin[i] = world[starts[i]]
    here = places[0].copy()
    now = begin[0, :3, 3] + amount * (here - begin[0, :3, 3])
    before_start, before_solved, before = np.eye(3), np.eye(3), np.eye(3)
    for i in range(n):
        scale = size_of(begin[i])
        start = begin[i, :3, :3] / scale
        longer, bone = 1.0, np.zeros(3)
        if i + 1 < n:
            bone = on(flip(start), begin[i + 1, :3, 3] - begin[i, :3, 3])
            length = norm(bone)
            gap = places[i + 1] - here
            far = norm(gap)
            if length > 1e-12 and far > 1e-12:
                # The bone points exactly where its end is to be, by the least turn.
                turns[i] = times(least_turn(on(turns[i], bone / length), gap / far), turns[i])
                longer = 1.0 + (1.0 - keep) * (far / length - 1.0)
            here = here + on(turns[i], bone) * longer
        local = blend_rotation(times(flip(before_start), start), times(flip(before_solved), turns[i]), amount)
        turn = times(before, local)
        if amount >= 1.0:
            turn = turns[i].copy()
        node = world[joints[i]]
        node[:3, :3] = turn * scale
        node[:3, 3] = now
        node[3, :3] = 0.0
        node[3, 3] = 1.0
        now = now + on(turn, bone) * (1.0 + amount * (longer - 1.0))
        before_start, before_solved, before = start, turns[i].copy(), turn
