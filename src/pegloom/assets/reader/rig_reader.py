"""A described rig evaluated in plain Python and NumPy: the reference for whoever rebuilds it in another program.

It reads RIG.json as `pegloom describe` writes it (docs/describe.md), imports nothing of Peg Loom, and gives where every
control and joint stands for values of channels. It is written to be read and to be right, not to be fast.

    python rig_reader.py RIG.json FRAMES.json > POSED.json

FRAMES.json is {"rate": 30, "frames": [{"CONTROL": {"CHANNEL": number}}]}; metres, radians, shares; a channel a frame leaves
out is at rest; between frames values run straight; springs count. Places are 4 x 4, row after row, column vectors,
character_from_node; y is up, the character looks along +z. CC0 1.0: take it, change it.
"""

from __future__ import annotations

import ast
import json
import math
import sys

import numpy as np

X, Y, Z = np.eye(3)
DEG = math.pi / 180.0
TRANSFORM = ("move_x", "move_y", "move_z", "rotate_x", "rotate_y", "rotate_z", "scale")

# ---------------------------------------------------------------- vectors and turns


def norm(v):
    return float(np.sqrt(v @ v))


def unit(v):
    return v / norm(v)


def size_of(m):
    """The even scale of a place."""
    return norm(m[:3, 0])


def turned(v, axis, angle):
    """v about a unit axis (Rodrigues)."""
    c, s = math.cos(angle), math.sin(angle)
    return v * c + np.cross(axis, v) * s + axis * (axis @ v) * (1.0 - c)


def about(axis, angle):
    return np.stack([turned(e, axis, angle) for e in np.eye(3)], axis=1)


def square_to(v, direction, spare):
    """The unit part of v square to a unit direction; of `spare` where there is none."""
    for one in (v, spare):
        out = one - direction * (one @ direction)
        if norm(out) >= 1e-9:
            return unit(out)
    return unit(np.cross(direction, [0.3, 0.5, 0.8]))


def aim_frame(aim, normal):
    """y along aim, x along normal."""
    return np.stack([normal, aim, np.cross(normal, aim)], axis=1)


def signed_angle(a, b, axis):
    return math.atan2(axis @ np.cross(a, b), a @ b)


def whole_until(x, end):
    """1 at 0, 0 from end on, smooth between."""
    t = 1.0 - min(max(x / end, 0.0), 1.0)
    return t * t * (3.0 - 2.0 * t)


def quaternion(m):
    """x y z w of a rotation (Shepperd)."""
    trace = m[0, 0] + m[1, 1] + m[2, 2]
    if trace > m[0, 0] and trace > m[1, 1] and trace > m[2, 2]:
        q = np.array([m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1], 1.0 + trace])
    else:
        i = 1 if m[1, 1] > m[0, 0] else 0
        i = 2 if m[2, 2] > m[i, i] else i
        j, k = (i + 1) % 3, (i + 2) % 3
        q = np.zeros(4)
        q[i], q[j], q[k] = 1.0 + m[i, i] - m[j, j] - m[k, k], m[j, i] + m[i, j], m[k, i] + m[i, k]
        q[3] = m[k, j] - m[j, k]
    return q / np.sqrt(q @ q)


def rotation(q):
    x, y, z, w = q / np.sqrt(q @ q)
    return np.array([
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ])  # fmt: skip


def blend(a, b, amount):
    """From turn a to turn b along the shorter arc."""
    if amount <= 0.0 or amount >= 1.0:
        return (a if amount <= 0.0 else b).copy()
    qa, qb = quaternion(a), quaternion(b)
    cosine = qa @ qb
    if cosine < 0.0:
        qb, cosine = -qb, -cosine
    if cosine > 1.0 - 1e-10:
        return rotation(qa + amount * (qb - qa))
    angle = math.acos(cosine)
    return rotation((math.sin((1.0 - amount) * angle) * qa + math.sin(amount * angle) * qb) / math.sin(angle))


def least_turn(a, b):
    """The least turn that brings unit a onto unit b."""
    cosine = a @ b
    if cosine < -1.0 + 1e-12:
        axis = square_to(np.array([0.3, 0.5, 0.8]), a, X)
        return 2.0 * np.outer(axis, axis) - np.eye(3)
    v = np.cross(a, b)
    skew = np.array([[0.0, -v[2], v[1]], [v[2], 0.0, -v[0]], [-v[1], v[0], 0.0]])
    return np.outer(v, v) / (1.0 + cosine) + cosine * np.eye(3) + skew


def turn_vector(m):
    """A turn as its axis times its angle, up to half a turn."""
    q = quaternion(m)
    q = -q if q[3] < 0.0 else q
    sine = norm(q[:3])
    return q[:3] * (2.0 if sine < 1e-12 else 2.0 * math.atan2(sine, q[3]) / sine)


def vector_turn(v):
    angle = norm(v)
    return np.eye(3) if angle < 1e-15 else about(v / angle, angle)


def place(turn, at):
    m = np.eye(4)
    m[:3, :3], m[:3, 3] = turn, at
    return m


def channels_place(values):
    """What a control's channels do on its base: move, turn about fixed x, then y, then z, an even scale."""
    mx, my, mz, rx, ry, rz, scale = values
    turn = about(Z, rz) @ about(Y, ry) @ about(X, rx)
    return place(turn * scale, [mx, my, mz])


def along(points):
    gap = points[1] - points[0]
    length = norm(gap)
    return gap / length if length > 1e-15 else Y


# ---------------------------------------------------------------- curves and formulas


def curve_at(told, time):
    """A curve's value: cubic Hermite, straight or held runs; beyond its ends as `first` and `last` say."""
    t, v, runs = told["times"], told["values"], told["runs"]
    before, after = told["before"], told["after"]
    start, end, plus = t[0], t[-1], 0.0
    if time < start or time > end:
        early = time < start
        how, edge = (told["first"], 0) if early else (told["last"], len(t) - 1)
        if how == "line":
            return v[edge] + (after[edge] if early else before[edge]) * (time - t[edge])
        if how == "stay" or end <= start:
            return v[edge]
        rounds = math.floor((time - start) / (end - start))
        time -= rounds * (end - start)
        if how == "mirror" and rounds % 2:
            time = end - (time - start)
        if how == "loop on":
            plus = rounds * (v[-1] - v[0])
    if time <= start:
        return v[0] + plus
    if time >= end:
        return v[-1] + plus
    i = int(np.searchsorted(t, time, side="right")) - 1
    if runs[i] == 2:  # held
        return v[i] + plus
    span = t[i + 1] - t[i]
    u = (time - t[i]) / span
    if runs[i] == 1:  # straight
        return v[i] + u * (v[i + 1] - v[i]) + plus
    p, q, u2, u3 = after[i] * span, before[i + 1] * span, u * u, u * u * u
    return (2 * u3 - 3 * u2 + 1) * v[i] + (u3 - 2 * u2 + u) * p + (3 * u2 - 2 * u3) * v[i + 1] + (u3 - u2) * q + plus


def _power(a, b):
    if (a < 0.0 and b != math.floor(b)) or (a == 0.0 and b < 0.0):
        return 0.0
    try:
        return a**b
    except OverflowError:
        return math.inf


def _smooth(low, high, x):
    t = min(max((x - low) / (high - low), 0.0), 1.0) if high > low else float(x >= high)
    return t * t * (3.0 - 2.0 * t)


BINARY = {
    ast.Add: lambda a, b: a + b, ast.Sub: lambda a, b: a - b, ast.Mult: lambda a, b: a * b, ast.Div: lambda a, b: a / b if b else 0.0,
    ast.Mod: lambda a, b: a - b * math.floor(a / b) if b else 0.0, ast.Pow: _power,
}  # fmt: skip
COMPARED = {
    ast.Lt: lambda a, b: a < b, ast.LtE: lambda a, b: a <= b, ast.Gt: lambda a, b: a > b, ast.GtE: lambda a, b: a >= b,
    ast.Eq: lambda a, b: a == b, ast.NotEq: lambda a, b: a != b,
}  # fmt: skip
CALLS = {
    "abs": abs, "sin": math.sin, "cos": math.cos, "tan": math.tan, "asin": lambda a: math.asin(min(max(a, -1.0), 1.0)),
    "acos": lambda a: math.acos(min(max(a, -1.0), 1.0)), "sqrt": lambda a: math.sqrt(a) if a > 0.0 else 0.0, "floor": math.floor,
    "atan2": math.atan2, "clamp": lambda x, low, high: min(max(x, low), high), "mix": lambda a, b, share: a + (b - a) * share,
    "smooth": _smooth, "min": min, "max": max,
}  # fmt: skip
NUMBERS = {"pi": math.pi, "deg": DEG, "cm": 0.01}


def formula_of(text):
    """A formula as a function of its readings by name. Nothing of it is run as code: what is not listed here is refused."""
    tree = ast.parse(text.strip(), mode="eval").body

    def value(node, names):
        if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)):
            return float(node.value)
        if isinstance(node, ast.Name):
            return names[node.id] if node.id in names else NUMBERS[node.id]
        if isinstance(node, ast.BinOp):
            return BINARY[type(node.op)](value(node.left, names), value(node.right, names))
        if isinstance(node, ast.UnaryOp):
            x = value(node.operand, names)
            return -x if isinstance(node.op, ast.USub) else x if isinstance(node.op, ast.UAdd) else float(x == 0.0)
        if isinstance(node, ast.Compare):
            sides = [value(n, names) for n in (node.left, *node.comparators)]
            return float(all(COMPARED[type(op)](a, b) for op, a, b in zip(node.ops, sides, sides[1:])))
        if isinstance(node, ast.BoolOp):
            told = [value(n, names) != 0.0 for n in node.values]
            return float(all(told) if isinstance(node.op, ast.And) else any(told))
        if isinstance(node, ast.IfExp):
            return value(node.body if value(node.test, names) != 0.0 else node.orelse, names)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in CALLS:
            return float(CALLS[node.func.id](*(value(a, names) for a in node.args)))
        raise ValueError(f"{text!r} is no formula")

    def run(names):
        result = value(tree, names)
        return result if math.isfinite(result) else 0.0

    return run


# ---------------------------------------------------------------- limbs: two bones, and three with a hock

FADE, STRAIGHT, OVER = 10.0 * DEG, 1.0 * DEG, 2.0 * DEG
ROUNDED, NEAREST = 1e-13, 1e-9


def plane_normal(direction, pole, spare):
    """The unit normal of the plane through a line and a pole, both from its start."""
    normal = np.cross(direction, pole)
    if norm(normal) >= 1e-9 * norm(pole):
        return unit(normal)
    for one in (spare - direction * (spare @ direction), np.cross(direction, Z), np.cross(direction, X)):
        if norm(one) >= 1e-9:
            break
    return unit(one)


def fold_of(distance, a, b):
    """How far two bones are folded when their ends stand so far apart: 0 straight."""
    return math.acos(min(max((distance * distance - a * a - b * b) / max(2.0 * a * b, 1e-30), -1.0), 1.0))


def softened(length, whole, soft):
    if soft <= 0.0:
        return min(length, whole)
    room = soft * whole
    return length if length <= whole - room else whole - room * math.exp(-(length - whole + room) / room)


class LimbRest:
    """What makes a limb give back its rest: bones and the pole's plane in each joint's own axes, and how far the limb's own plane
    is turned from the pole's."""

    def __init__(self, upper, lower, end, pole, goal):
        start, middle, tip = upper[:3, 3], lower[:3, 3], end[:3, 3]
        first, second, direction = unit(middle - start), unit(tip - middle), unit(tip - start)
        normal = plane_normal(direction, pole[:3, 3] - start, X)
        aside = np.cross(direction, middle - start)
        a, b = norm(middle - start), norm(tip - middle)
        self.turn = signed_angle(normal, unit(aside), direction) if norm(aside) > 1e-12 * (a + b) else 0.0
        apart = norm(tip - start)
        self.fold = fold_of(apart, a, b)
        self.apart, self.along, self.aside = np.array([apart, (middle - start) @ direction, norm(aside)]) / (a + b)
        self.frames = [m[:3, :3].T @ aim_frame(bone, square_to(normal, bone, X)) for m, bone in ((upper, first), (lower, second))]
        self.normal = upper[:3, :3].T @ normal
        self.end_in_goal = np.linalg.inv(goal) @ end

    def fk_normal(self, ru, first, second, a, b):
        """The plane in which an FK limb's pole would stand."""
        line = a * first + b * second
        line = line / max(norm(line), 1e-30)
        carried = square_to(ru @ self.normal, line, ru[:, 2])
        fold = math.acos(min(max(first @ second, -1.0), 1.0))
        flat = whole_until(fold, STRAIGHT)
        if flat >= 1.0:
            return carried
        aside = np.cross(second, first)
        plane = turned(aside / max(norm(aside), 1e-30), line, -self.turn * whole_until(abs(fold - self.fold), FADE))
        # Bent straight the other way by a little it keeps its side.
        over = 1.0 - whole_until(max(-(plane @ carried) - 0.6, 0.0), 0.3)
        if over > 0.0:
            plane = turned(plane, line, math.pi * over * whole_until(max(fold - OVER, 0.0), OVER))
        return square_to(flat * carried + (1.0 - flat) * plane, line, carried)

    def solve(self, begin, goal, pole, goal_place=1.0, goal_turn=1.0, pole_share=1.0, swivel=0.0, stretch=0.0, soft=0.0):
        """Turns of upper, lower and end, and by how much the bones are longer. begin : the three on FK."""
        start = begin[0][:3, 3]
        a, b = norm(begin[1][:3, 3] - start), norm(begin[2][:3, 3] - begin[1][:3, 3])
        ru, rl, re = (m[:3, :3] / size_of(m) for m in begin)
        if a <= 1e-12 or b <= 1e-12:
            return [ru, rl, re], 1.0
        bone, tail = ru.T @ (begin[1][:3, 3] - start) / a, rl.T @ (begin[2][:3, 3] - begin[1][:3, 3]) / b
        to = goal[:3, 3] - start if goal_place == 1.0 else goal_place * (goal[:3, 3] - begin[2][:3, 3]) + begin[2][:3, 3] - start
        length = norm(to)
        direction = to / length if length > 1e-12 else -Y
        first, second = ru @ bone, rl @ tail
        distance, longer = softened(length, a + b, soft), 1.0
        if stretch > 0.0 and length > distance:
            longer = 1.0 + stretch * (length / max(distance, 1e-12) - 1.0)
            a, b, distance = a * longer, b * longer, distance * longer
        distance = min(max(distance, abs(a - b) + NEAREST * (a + b)), a + b)
        spare = (ru @ self.frames[0])[:, 0]
        normal = plane_normal(direction, pole - start, spare)
        if pole_share < 1.0:
            own = self.fk_normal(ru, first, second, a, b)
            line = a * first + b * second
            own = square_to(least_turn(line / max(norm(line), 1e-30), direction) @ own, direction, own)
            normal = turned(normal, direction, -(1.0 - pole_share) * signed_angle(own, normal, direction))
        if swivel != 0.0:
            normal = turned(normal, direction, swivel)
        plane = turned(normal, direction, self.turn * whole_until(abs(fold_of(distance, a, b) - self.fold), FADE))
        out = (a * a - b * b + distance * distance) / (2.0 * distance)
        joint = direction * out + np.cross(plane, direction) * math.sqrt(max(a * a - out * out, 0.0))
        if abs(distance / (a + b) - self.apart) < ROUNDED:
            side = np.cross(turned(normal, direction, self.turn), direction)
            joint = (direction * self.along + side * self.aside) * (a + b)
        aims = joint / a, (direction * distance - joint) / b
        # What the FK limb is twisted by about its bones stays.
        kept = self.fk_normal(ru, first, second, a, b)
        turns = []
        for r, frame, bone_, fk, aim in ((ru, self.frames[0], bone, first, aims[0]), (rl, self.frames[1], tail, second, aims[1])):
            here = square_to((r @ frame)[:, 0], fk, r[:, 2])
            twist = signed_angle(square_to(kept, fk, here), here, fk)
            own = aim_frame(bone_, square_to(frame[:, 0], bone_, frame[:, 2]))
            turns.append(aim_frame(aim, turned(square_to(normal, aim, spare), aim, twist)) @ own.T)
        end = goal[:3, :3] / size_of(goal)
        turns.append(blend(turns[1] @ (rl.T @ re), end, goal_turn) if goal_turn < 1.0 else end)
        return turns, longer


def span_of(fold, b, c, flat):
    return math.sqrt(max(b * b + c * c + 2.0 * b * flat * math.cos(fold), 0.0))


def fold_for(span, b, c, flat):
    return math.acos(min(max((span * span - b * b - c * c) / max(2.0 * b * flat, 1e-30), -1.0), 1.0))


class HockRest:
    def __init__(self, upper, middle, hock, end, pole, goal):
        self.limb = LimbRest(upper, middle, end, pole, goal)
        into = middle[:3, :3].T
        bone, tail = into @ (hock[:3, 3] - middle[:3, 3]), into @ (end[:3, 3] - hock[:3, 3])
        b, c = norm(bone), norm(tail)
        self.whole = norm(middle[:3, 3] - upper[:3, 3]) + b + c
        hinge = np.cross(bone, tail)
        if norm(hinge) <= 1e-12 * b * c:
            hinge = self.limb.frames[1][:, 0]
            hinge = hinge - unit(bone) * (hinge @ unit(bone))
        self.hinge, self.resting = unit(hinge), into @ hock[:3, :3]
        self.apart = norm(end[:3, 3] - upper[:3, 3]) / self.whole
        self.fold = fold_of(norm(end[:3, 3] - middle[:3, 3]), b, c)

    def hock_fold(self, distance, a, b, c, flat, share, more):
        """The hock's fold for ends so far apart."""
        shortest, longest = span_of(math.pi, b, c, flat), span_of(0.0, b, c, flat)
        whole = a + longest
        apart = self.apart * whole
        if abs(distance - apart) <= ROUNDED * whole and more == 0.0:
            return self.fold
        span = span_of(self.fold, b, c, flat)
        if distance >= apart:
            held = min(max(span, distance - a), longest)
            even = span + (longest - span) * (distance - apart) / max(whole - apart, 1e-30)
            span = held + (even - held) * min(2.0 * share, 1.0)
        else:
            span += share * (shortest - span) * (1.0 - distance / max(apart, 1e-30))
        if more != 0.0:
            span = span_of(min(max(fold_for(span, b, c, flat) + more, 0.0), math.pi), b, c, flat)
        least, most = max(shortest, abs(a - distance)), min(longest, a + distance)
        return fold_for(min(max(span, least), most), b, c, flat)

    def solve(self, begin, goal, pole, goal_place, goal_turn, pole_share, swivel, stretch, soft, share, more):
        """Turns of the four joints, and by how much the bones are longer."""
        goal, start = goal.copy(), begin[0][:3, 3]
        goal[:3, 3] = begin[3][:3, 3] + goal_place * (goal[:3, 3] - begin[3][:3, 3])
        middle, hock = (begin[k][:3, :3] / size_of(begin[k]) for k in (1, 2))
        bone = middle.T @ (begin[2][:3, 3] - begin[1][:3, 3])
        tail = self.resting @ hock.T @ (begin[3][:3, 3] - begin[2][:3, 3])
        turn = middle.T @ hock @ self.resting.T
        angle = signed_angle(unit(tail), square_to(turn @ tail, self.hinge, tail), self.hinge)
        own = about(self.hinge, -angle) @ turn
        swung = own @ tail
        flat = norm(swung - self.hinge * (swung @ self.hinge))
        a, b, c = norm(begin[1][:3, 3] - start), norm(bone), norm(tail)
        whole = a + span_of(0.0, b, c, flat)
        length = norm(goal[:3, 3] - start)
        distance, longer = softened(length, whole, soft), 1.0
        if stretch > 0.0 and length > distance:
            longer = 1.0 + stretch * (length / max(distance, 1e-12) - 1.0)
            distance = min(distance, whole)
        turn = about(self.hinge, self.hock_fold(distance, a, b, c, flat, share, more) - self.fold) @ own
        # The limb of two bones that is left: the hock is stiff in it.
        stiff = [begin[0].copy(), begin[1].copy(), begin[3].copy()]
        stiff[1][:3, 3] = start + longer * (begin[1][:3, 3] - start)
        stiff[2][:3, 3] = stiff[1][:3, 3] + middle @ (bone + turn @ tail) * longer
        if longer == 1.0:
            goal[:3, 3] = start + (goal[:3, 3] - start) * (distance / max(length, 1e-30))
        (upper, lower, end), _ = self.limb.solve(stiff, goal, pole, pole_share=pole_share, swivel=swivel)
        turns = [upper, lower, lower @ turn @ self.resting, end]
        if goal_turn < 1.0:
            turns[3] = blend(turns[2] @ hock.T @ (begin[3][:3, :3] / size_of(begin[3])), end, goal_turn)
        return turns, longer


# ---------------------------------------------------------------- chains

MET, MOST_BENT, BENT, PREBENT, NEAR, FLAT = 1e-9, 0.95 * math.pi, 10.0 * DEG, 6.0 * DEG, 1e-13, 0.05


def bent(frame, bends, lengths, factor):
    """A chain from the origin with all its bends scaled, each a rotation vector in the axes of the bone before."""
    turn, out = frame, [np.zeros(3)]
    for i, length in enumerate(lengths):
        if i:
            angle = norm(bends[i])
            scaled = factor if factor <= 1.0 or angle * factor <= MOST_BENT else max(MOST_BENT / angle, 1.0)
            turn = turn @ vector_turn(bends[i] * scaled)
        out.append(out[-1] + turn[:, 1] * length)
    return np.array(out)


def fitted(points, lengths, distance):
    """Bends scaled by one factor, by bisection, until the ends stand so far apart; and what is left."""
    first = along(points[:2])
    frame = aim_frame(first, square_to(np.array([0.3, 0.5, 0.8]), first, X))
    bends, turn, least = [np.zeros(3)], frame, math.pi
    for i in range(1, len(lengths)):
        step = least_turn(Y, turn.T @ along(points[i : i + 2]))
        bends.append(turn_vector(step))
        if norm(bends[i]) > 1e-9:
            least = min(least, norm(bends[i]))
        turn = turn @ step

    def span(factor):
        return norm(bent(frame, bends, lengths, factor)[-1])

    low, high = 0.0, 1.0
    while span(high) > distance and high * least < math.pi:
        low, high = high, high * 1.2
    for _ in range(100):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if span(middle) > distance else (low, middle)
    out = bent(frame, bends, lengths, high)
    return points[0] + out, abs(norm(out[-1]) - distance)


def swung(points, goal):
    """The chain turned about its start until its tip lies toward the goal."""
    return points[0] + (points - points[0]) @ least_turn(along(points[[0, -1]]), along(np.array([points[0], goal]))).T


def reached(points, lengths, goal):
    """Rounds of forward and backward reaching (Aristidou, Lasenby 2011)."""
    points, start = points.copy(), points[0].copy()
    for _ in range(100):
        if norm(points[-1] - goal) < MET * sum(lengths):
            break
        points[-1] = goal
        for i in range(len(points) - 2, -1, -1):
            points[i] = points[i + 1] + along(points[[i + 1, i]]) * lengths[i]
        points[0] = start
        for i in range(len(points) - 1):
            points[i + 1] = points[i] + along(points[[i, i + 1]]) * lengths[i]
    return points


def solved_chain(begin, goal, pole, pole_rest, stretch):
    """Turns of a chain's joints so that the last stands at the goal, and by how much it is longer. pole : None for none."""
    n = len(begin)
    points = np.array([m[:3, 3] for m in begin])
    lengths = np.linalg.norm(np.diff(points, axis=0), axis=1)
    whole, longer, start = lengths.sum(), 1.0, points[0].copy()
    length = norm(goal - start)
    if length > whole and stretch > 0.0:
        longer = 1.0 + stretch * (length / whole - 1.0)
        points, lengths, whole = start + (points - start) * longer, lengths * longer, whole * longer
    distance = min(length, whole)
    aim = along(np.array([start, goal]))
    goal = start + aim * distance
    if norm(points[-1] - goal) > NEAR * whole:
        total = 0.0
        for i in range(1, n - 1):
            a, b = along(points[i - 1 : i + 1]), along(points[i : i + 2])
            total += math.atan2(norm(np.cross(a, b)), a @ b)
        pre = PREBENT * whole_until(total, BENT)
        if pre > 0.0:
            old, turn = points.copy(), np.eye(3)
            for i in range(n - 1):
                if i:
                    axis = begin[i][:3, :3] @ X
                    turn = turn @ vector_turn(axis * (pre / norm(axis)))
                points[i + 1] = points[i] + turn @ (old[i + 1] - old[i])
        points, left = fitted(points, lengths, distance)
        points = swung(points, goal)
        if left > MET * whole:
            points, _ = fitted(reached(points, lengths, goal), lengths, distance)
            points = swung(points, goal)
    if pole is not None:
        off = points[1:-1] - start
        side = (off - np.outer(off @ aim, aim)).sum(axis=0)
        out = norm(side) / ((n - 2) * whole)
        if out > 1e-9:
            wanted = turned(square_to(pole - start, aim, side), aim, pole_rest)
            angle = signed_angle(unit(side), wanted, aim) * (1.0 - whole_until(out, FLAT))
            points[1:] = [start + turned(p - start, aim, angle) for p in points[1:]]
    change, turns = np.eye(3), []
    for i in range(n):
        if i + 1 < n:
            bone = change @ (begin[i + 1][:3, 3] - begin[i][:3, 3])
            change = least_turn(bone / max(norm(bone), 1e-30), along(points[i : i + 2])) @ change
        turns.append(change @ begin[i][:3, :3] / size_of(begin[i]))
    return turns, longer


def put_chain(begin, turns, longer, amount):
    """A chain's joints, each blended in its parent from where it begins toward where it was solved to."""
    if amount <= 0.0:
        return [m.copy() for m in begin]
    at, out = begin[0][:3, 3].copy(), []
    before_start = before_solved = before = np.eye(3)
    for i, m in enumerate(begin):
        size = size_of(m)
        start = m[:3, :3] / size
        turn = turns[i] if amount >= 1.0 else before @ blend(before_start.T @ start, before_solved.T @ turns[i], amount)
        out.append(place(turn * size, at))
        if i + 1 < len(begin):
            bone = start.T @ (begin[i + 1][:3, 3] - m[:3, 3])
            at = at + turn @ bone * (1.0 + amount * (longer - 1.0))
        before_start, before_solved, before = start, turns[i], turn
    return out


# ---------------------------------------------------------------- trees with limits: whole bodies, limited chains

ROUNDS, STEP, PULL, FADES, LEAST_PULL, CLOSE, ROOT, TURN_WEIGHT = 60, 0.5, 1e-2, 0.6, 1e-9, 1e-7, 0.005, 0.25


def within(local, resting, low, high):
    """A turn in its parent brought within limits: rotation vectors from rest, in the joint's own axes."""
    vector = turn_vector(resting.T @ local)
    clipped = np.minimum(np.maximum(vector, low), high)
    return resting @ vector_turn(clipped) if np.abs(clipped - vector).max() > 1e-12 else local


def solved_tree(begin, parents, resting, low, high, give, root_give, goals, wanted, shares, size):
    """Turns and places of a tree's joints: damped least squares in the space of the goals, with a pull to the start that fades."""
    n, m = len(begin), len(goals)
    local, bones = [], []
    for i, p in enumerate(parents):
        turn = begin[i][:3, :3] / size_of(begin[i])
        if p < 0:
            local.append(turn)
            bones.append(begin[i][:3, 3])
        else:
            above = (begin[p][:3, :3] / size_of(begin[p])).T
            local.append(within(above @ turn, resting[i], low[i], high[i]))
            bones.append(above @ (begin[i][:3, 3] - begin[p][:3, 3]))
    want_at = [w[:3, 3] for w in wanted]
    want_turn = [w[:3, :3] / size_of(w) for w in wanted]
    below = np.zeros((n, m), dtype=bool)
    for g, j in enumerate(goals):
        while j >= 0:
            below[j, g] = True
            j = parents[j]

    def forward(local, root):
        turns, places = [], []
        for i, p in enumerate(parents):
            turns.append(local[i] if p < 0 else turns[p] @ local[i])
            places.append(bones[i] + root if p < 0 else places[p] + turns[p] @ bones[i])
        return turns, places

    def errors(turns, places):
        out = np.zeros(6 * m)
        for g, j in enumerate(goals):
            out[6 * g : 6 * g + 3] = (want_at[g] - places[j]) * (shares[g][0] / size)
            if shares[g][1] > 0.0:
                out[6 * g + 3 : 6 * g + 6] = turn_vector(want_turn[g] @ turns[j].T) * (shares[g][1] * TURN_WEIGHT)
        return out

    def strain(away):
        flat = np.concatenate([np.asarray(give).ravel(), np.full(3, ROOT * root_give)])
        used = flat > 0.0
        return float((away[used] ** 2 / flat[used]).sum())

    root, starts = np.zeros(3), [t.copy() for t in local]
    turns, places = forward(local, root)
    error = errors(turns, places)
    left, damping, pull, away = float(np.sqrt(error @ error)), 0.0, PULL, np.zeros(3 * n + 3)
    for _ in range(ROUNDS):
        if left < CLOSE:
            break
        jacobian, weight = np.zeros((6 * m, 3 * n + 3)), np.concatenate([np.asarray(give).ravel(), np.full(3, ROOT * root_give)])
        vectors = np.array([turn_vector(resting[i].T @ local[i]) for i in range(n)])
        for g, j in enumerate(goals):
            for i in range(n):
                if below[i, g]:
                    axes = turns[i]
                    jacobian[6 * g : 6 * g + 3, 3 * i : 3 * i + 3] = np.cross(axes.T, places[j] - places[i]).T * (shares[g][0] / size)
                    jacobian[6 * g + 3 : 6 * g + 6, 3 * i : 3 * i + 3] = axes * (shares[g][1] * TURN_WEIGHT)
            jacobian[6 * g : 6 * g + 3, 3 * n :] = np.eye(3) * shares[g][0]
        total = pull + damping
        for _again in range(3):
            free = away * (weight > 0.0)
            square = (jacobian * weight) @ jacobian.T + total * np.eye(6 * m)
            step = (jacobian * weight).T @ np.linalg.solve(square, error + (pull / total) * (jacobian @ free)) - (pull / total) * free
            after = vectors + step[: 3 * n].reshape(n, 3)
            stuck = ((vectors <= low + 1e-9) & (after < low)) | ((vectors >= high - 1e-9) & (after > high))
            stuck &= (weight[: 3 * n].reshape(n, 3) > 0.0) & (np.asarray(parents) >= 0)[:, None]
            if not stuck.any():
                break
            weight[: 3 * n][stuck.ravel()] = 0.0
        new, new_away = [], np.zeros(3 * n + 3)
        for i in range(n):
            turn = step[3 * i : 3 * i + 3]
            turn = turn * (STEP / norm(turn)) if norm(turn) > STEP else turn
            one = local[i] @ vector_turn(turn)
            new.append(within(one, resting[i], low[i], high[i]) if parents[i] >= 0 else one)
            new_away[3 * i : 3 * i + 3] = turn_vector(starts[i].T @ new[i])
        new_root = root + step[3 * n :] * size
        new_away[3 * n :] = new_root / size
        new_turns, new_places = forward(new, new_root)
        trial = errors(new_turns, new_places)
        now = float(np.sqrt(trial @ trial))
        if now * now + pull * strain(new_away) <= left * left + pull * strain(away):
            local, root, turns, places, error, away, left, damping = new, new_root, new_turns, new_places, trial, new_away, now, damping * 0.2
        else:
            damping = min(max(damping * 5.0, 1e-5), 10.0)
        pull = max(pull * FADES, LEAST_PULL)
    return turns, places


# ---------------------------------------------------------------- curves joints lie along

FINE = 24


def curve_points(controls):
    """Centripetal Catmull-Rom through the controls (Yuksel, Schaefer, Keyser 2011)."""
    out = []
    for k in range(len(controls) - 1):
        p1, p2 = controls[k], controls[k + 1]
        p0 = controls[k - 1] if k else 2.0 * p1 - p2
        p3 = controls[k + 2] if k + 2 < len(controls) else 2.0 * p2 - p1
        t1 = math.sqrt(max(norm(p1 - p0), 1e-9))
        t2 = t1 + math.sqrt(max(norm(p2 - p1), 1e-9))
        t3 = t2 + math.sqrt(max(norm(p3 - p2), 1e-9))
        for s in range(FINE):
            t = t1 + (t2 - t1) * s / FINE
            a1 = (t1 - t) / t1 * p0 + t / t1 * p1
            a2 = (t2 - t) / (t2 - t1) * p1 + (t - t1) / (t2 - t1) * p2
            a3 = (t3 - t) / (t3 - t2) * p2 + (t - t2) / (t3 - t2) * p3
            b1, b2 = (t2 - t) / t2 * a1 + t / t2 * a2, (t3 - t) / (t3 - t1) * a2 + (t - t1) / (t3 - t1) * a3
            out.append((t2 - t) / (t2 - t1) * b1 + (t - t1) / (t2 - t1) * b2)
    return np.array([*out, controls[-1]])


def curve_frames(points, first, last, twist):
    """Frames carried along without twist (Bishop 1975), turned evenly to what the last control is turned by; how far along each
    is; and that turn."""
    n = len(points)
    tangents = [points[min(i + 1, n - 1)] - points[max(i - 1, 0)] for i in range(n)]
    tangents = [t / max(norm(t), 1e-12) for t in tangents]
    far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    x = square_to(first, tangents[0], np.array([0.3, 0.5, 0.8]))
    frames = [aim_frame(tangents[0], x)]
    for i in range(1, n):
        x = square_to(least_turn(tangents[i - 1], tangents[i]) @ x, tangents[i], x)
        frames.append(aim_frame(tangents[i], x))
    more = signed_angle(x, square_to(last, tangents[-1], x), tangents[-1]) - twist
    more -= 2.0 * math.pi * round(more / (2.0 * math.pi))
    return [about(t, more * a / max(far[-1], 1e-12)) @ f for t, a, f in zip(tangents, far, frames)], far, more


def on_curve(points, frames, far, distance):
    """Place and frame so far along; beyond its ends it goes straight on."""
    n = len(points)
    i = min(max(int(np.searchsorted(far, distance)) - 1, 0), n - 2)
    t = (distance - far[i]) / max(far[i + 1] - far[i], 1e-12)
    if t < 0.0 or t > 1.0:
        end = 0 if t < 0.0 else n - 1
        return points[end] + frames[end][:, 1] * (distance - far[end]), frames[end]
    return points[i] + (points[i + 1] - points[i]) * t, blend(frames[i], frames[i + 1], t)


class CurveRest:
    def __init__(self, joints, holds):
        points = curve_points([h[:3, 3] for h in holds])
        ends = [square_to(h[:3, 0], unit(b - a), np.array([0.3, 0.5, 0.8])) for h, a, b in ((holds[0], points[0], points[1]), (holds[-1], points[-2], points[-1]))]
        _, far, self.twist = curve_frames(points, ends[0], ends[1], 0.0)
        frames, far, _ = curve_frames(points, ends[0], ends[1], self.twist)
        self.length = far[-1]
        self.inside = [h[:3, :3].T @ e for h, e in zip((holds[0], holds[-1]), ends)]
        self.at, self.offsets, most = [], [], 0.0
        for m in joints:
            a, edge = points[:-1], np.diff(points, axis=0)
            t = np.clip(((m[:3, 3] - a) * edge).sum(1) / np.maximum((edge * edge).sum(1), 1e-30), 0.0, 1.0)
            k = int(np.argmin(((a + edge * t[:, None] - m[:3, 3]) ** 2).sum(1)))
            most = max(most, far[k] + t[k] * (far[k + 1] - far[k]))
            spot, frame = on_curve(points, frames, far, most)
            self.at.append(most)
            self.offsets.append((frame.T @ m[:3, :3], frame.T @ (m[:3, 3] - spot)))

    def solve(self, begin, holds, keep, slide, roll, amount):
        points = curve_points([h[:3, 3] for h in holds])
        frames, far, _ = curve_frames(points, holds[0][:3, :3] @ self.inside[0], holds[-1][:3, :3] @ self.inside[1], self.twist)
        size, whole = size_of(holds[0]), far[-1]
        places, turns = [], []
        for own, (turn, off) in zip(self.at, self.offsets):
            spread = own * whole / max(self.length, 1e-12)
            spot, frame = on_curve(points, frames, far, spread + keep * (own * size - spread) + slide * whole)
            frame = about(frame[:, 1], roll) @ frame if roll else frame
            places.append(spot + frame @ off * size)
            turns.append(frame @ turn)
        here, now, out = places[0], begin[0][:3, 3] + amount * (places[0] - begin[0][:3, 3]), []
        before_start = before_solved = before = np.eye(3)
        for i, m in enumerate(begin):
            scale = size_of(m)
            start, longer, bone = m[:3, :3] / scale, 1.0, np.zeros(3)
            if i + 1 < len(begin):
                bone = start.T @ (begin[i + 1][:3, 3] - m[:3, 3])
                length, gap = norm(bone), places[i + 1] - here
                if length > 1e-12 and norm(gap) > 1e-12:
                    turns[i] = least_turn(turns[i] @ (bone / length), unit(gap)) @ turns[i]
                    longer = 1.0 + (1.0 - keep) * (norm(gap) / length - 1.0)
                here = here + turns[i] @ bone * longer
            turn = turns[i] if amount >= 1.0 else before @ blend(before_start.T @ start, before_solved.T @ turns[i], amount)
            out.append(place(turn * scale, now))
            now = now + turn @ bone * (1.0 + amount * (longer - 1.0))
            before_start, before_solved, before = start, turns[i], turn
        return out


# ---------------------------------------------------------------- springs


def oscillated(offset, speed, mass, stiffness, damping, seconds):
    """An offset and its speed (vectors) after some seconds of mass x'' = -stiffness x - damping x'."""
    decay, square = damping / (2.0 * mass), stiffness / mass
    under = square - decay * decay
    fading = math.exp(-min(decay * seconds, 700.0))
    if under > 1e-12 * (square + 1.0):
        w = math.sqrt(under)
        c, s = math.cos(w * seconds), math.sin(w * seconds)
        a, b = offset, (speed + decay * offset) / w
        return fading * (a * c + b * s), fading * ((b * w - a * decay) * c - (a * w + b * decay) * s)
    if under > -1e-12 * (square + 1.0):
        b = speed + decay * offset
        return fading * (offset + b * seconds), fading * (b - decay * (offset + b * seconds))
    w = math.sqrt(-under)
    slow, fast = -decay + w, -decay - w
    if square <= 0.0:
        slow, fast = 0.0, -2.0 * decay
    elif decay > 0.0:
        slow = square / fast
    b = (speed - slow * offset) / (fast - slow)
    a = offset - b
    e, g = math.exp(max(slow * seconds, -700.0)), math.exp(max(fast * seconds, -700.0))
    return a * e + b * g, a * slow * e + b * fast * g


def sag(away, gravity, mass, stiffness, most):
    """How far weight pulls a tip from where it hangs at rest."""
    pull = np.array([0.0, -gravity, 0.0])
    gap = (pull - away @ pull) * (mass / max(stiffness, 1e-9))
    far = norm(gap)
    return gap * (most * math.tanh(far / most) / far) if far > 1e-15 else gap


# ---------------------------------------------------------------- the rig


def node_of(told):
    return (told["kind"], told["id"])


class Rig:
    """A described rig. told : the object of RIG.json."""

    TICK = 1.0 / 120.0

    def __init__(self, told):
        rig = told["rig"]
        self.told, self.rig = told, rig
        self.joints = {j["id"]: j for j in told["skeleton"]["joints"]}
        self.controls = {c["id"]: c for c in rig["controls"]}
        self.channels = {(c["id"], h["key"]): h for c in rig["controls"] for h in c["channels"]}
        self.channels |= {("rig", h["key"]): h for h in rig["board"]}
        self.rest = {("world", ""): np.eye(4)}
        for j in self.joints.values():
            self.rest["joint", j["id"]] = place(rotation(np.array(j["rotation"])), j["position"])
        for c in self.controls.values():
            m = np.array(c["rest"]).reshape(4, 4)
            self.rest["control", c["id"]] = self.rest["base", c["id"]] = m
        self.drives = {d["joint"]: node_of(d["node"]) for d in rig["drives"]}
        self.solvers, self.last, self.before = rig["solvers"], {}, {}
        for row, s in enumerate(self.solvers):
            for j in s["joints"]:
                # Of several solvers on one joint each starts from the one before.
                self.before[row, j] = self.last.get(j)
                self.last[j] = row
        self.holds = {}
        for one in sorted(rig["constraints"], key=lambda c: (c["order"], c["id"])):
            self.holds.setdefault(node_of(one["held"]), []).append(one)
        self.drivers = {}
        for one in sorted(rig["couplings"], key=lambda c: (c["order"], c["id"])):
            self.drivers.setdefault(tuple(one["drives"]), []).append((one, formula_of(one["formula"])))
        self.twists = {j: (t, k) for t in rig["twists"] for k, j in enumerate(t["joints"])}
        self.limits = {x["joint"]: x for x in rig["limits"]}
        self.groups = {g["id"]: g for g in rig["spring_groups"]}
        self.springs = {j: s for s in rig["springs"] for j in s["joints"]}
        self.tips = {j: self._tip(s, j) for j, s in self.springs.items()}
        places = np.array([j["position"] for j in self.joints.values()])
        self.size = max(float(np.linalg.norm(places.max(axis=0) - places.min(axis=0))), 1e-6)
        self.rests = [self._solver_rest(s) for s in self.solvers]

    def _solver_rest(self, s):
        joints = [self.rest["joint", j] for j in s["joints"]]
        if s["kind"] in ("limb", "hock"):
            end = node_of(s["under"] or s["goal"])
            return (LimbRest if s["kind"] == "limb" else HockRest)(*joints, self.rest[node_of(s["pole"])], self.rest[end])
        return CurveRest(joints, [self.rest[node_of(p)] for p in s["points"]]) if s["kind"] == "curve" else None

    def _tip(self, spring, joint):
        """A sprung joint's tip in its own axes: the chain's next joint, its own end for the last."""
        chain, here = spring["joints"], self.rest["joint", joint]
        k = chain.index(joint)
        if k + 1 < len(chain):
            there = np.array(self.joints[chain[k + 1]]["position"])
        else:
            below = [j for j in self.joints.values() if j["parent"] == joint and not j["floating"]]
            there = np.array(below[0]["position"] if below else self.joints[joint]["tail"] or self.joints[joint]["position"])
        if norm(there - here[:3, 3]) < 1e-9 and k > 0:
            there = 2.0 * here[:3, 3] - self.rest["joint", chain[k - 1]][:3, 3]
        return here[:3, :3].T @ (there - here[:3, 3])

    def limit(self, joint):
        told = self.limits.get(joint)
        if told is None:
            return np.full(3, -2.0 * math.pi), np.full(3, 2.0 * math.pi), np.ones(3)
        return np.array(told["low"]), np.array(told["high"]), (1.0 - np.array(told["stiffness"])) ** 2

    def free(self, joint):
        """Whether a joint's limit asks for nothing."""
        low, high, give = self.limit(joint)
        return min(np.abs(low).min(), np.abs(high).min()) >= math.pi and give.min() == 1.0

    def frame(self, values, state=None, seconds=0.0):
        """Everything at one moment. values : by (control id, channel key). state : of the springs, None where they hang still."""
        return Frame(self, values, state, seconds)

    def played(self, values_at, times):
        """Frames at some times (seconds), springs and all. values_at(time) : values by (control id, channel key)."""
        if not self.springs:
            return [self.frame(values_at(t)) for t in times]
        first, after = {}, {}
        self.frame(values_at(0.0), first, -1.0).settle()
        self.frame(values_at(self.TICK), after, -1.0).settle()
        for j, s in first.items():
            # They begin going as what carries them goes.
            s[3:6] = (after[j][:3] - s[:3]) / self.TICK
        states, out = [first], []
        for t in times:
            ticks = max(t, 0.0) / self.TICK
            whole = math.floor(ticks + 1e-9)
            share = max(ticks - whole, 0.0)
            while len(states) < whole + 2:
                state = {j: s.copy() for j, s in states[-1].items()}
                self.frame(values_at(len(states) * self.TICK), state, self.TICK).settle()
                states.append(state)
            a, b = states[whole], states[whole + 1]
            shown = a if share < 1e-9 else {j: (1.0 - share) * a[j] + share * b[j] for j in a}
            out.append(self.frame(values_at(t), {j: s.copy() for j, s in shown.items()}))
        return out


class Frame:
    """One moment, worked out as it is asked for: `value` of channels, `node` for where controls, bases and joints stand."""

    def __init__(self, rig, values, state, seconds):
        self.r, self.given, self.state, self.seconds = rig, values, state, seconds
        self.known, self.places, self.solved, self.swinging = {}, {("world", ""): np.eye(4)}, {}, {}

    # Channels

    def value(self, ref, usual=0.0):
        """A channel's value, driven and within its limits; `usual` for none."""
        if ref is None or tuple(ref) not in self.r.channels:
            return usual
        ref = tuple(ref)
        if ref not in self.known:
            told = self.r.channels[ref]
            value = self.given.get(ref, told["rest"])
            for one, formula in self.r.drivers.get(ref, ()):
                value = self.coupled(one, formula, value)
            low = -math.inf if told["low"] is None else told["low"]
            high = math.inf if told["high"] is None else told["high"]
            soft = told["soft"]
            if soft > 0.0 and math.isfinite(low) and value < low + soft:
                value = low + soft * math.exp((value - low - soft) / soft)
            if soft > 0.0 and math.isfinite(high) and value > high - soft:
                value = high - soft * math.exp((high - soft - value) / soft)
            self.known[ref] = min(max(value, low), high)
        return self.known[ref]

    def coupled(self, one, formula, value):
        made = formula({r["name"]: self.reading(r) for r in one["readings"]})
        if one["curve"] is not None:
            made = curve_at(one["curve"], made)
        made = one["gain"] * made + one["offset"]
        share = self.value(one["amount"], 1.0)
        if not math.isfinite(made):
            return value
        if one["combine"] == "set":
            return value + share * (made - value)
        return value + share * made if one["combine"] == "add" else value * (1.0 + share * (made - 1.0))

    def reading(self, told):
        if told["channel"] is not None:
            return self.value(told["channel"])
        m = told["measure"]
        node, other = node_of(m["node"]), node_of(m["other"])
        here, there, axis = self.node(node), self.node(other), unit(np.array(m["axis"]))
        if m["what"] in ("turn", "swing"):
            now = self.from_rest(node, other)
            if m["what"] == "turn":
                return turn_about(now, axis)
            return math.acos(min(max((now @ axis) @ axis, -1.0), 1.0))
        gap, size = here[:3, 3] - there[:3, 3], size_of(there)
        if m["what"] == "distance":
            return norm(gap) / size
        return float(((there[:3, :3] / size).T @ gap / size) @ axis)

    def from_rest(self, node, other):
        """How a node turned from where it rests in another, in its own axes at rest."""
        here, there = self.node(node)[:3, :3], self.node(other)[:3, :3]
        rest = self.r.rest[other][:3, :3].T @ self.r.rest[node][:3, :3]
        return rest.T @ (there / norm(there[:, 0])).T @ (here / norm(here[:, 0]))

    # Nodes

    def node(self, ref):
        """Where a node stands (4, 4). ref : ("control" | "base" | "joint" | "world", id)."""
        if ref not in self.places:
            kind, told = ref
            if kind == "control":
                self.places[ref] = self.node(("base", told)) @ self.channels_of(told)
            elif kind == "base":
                parent = node_of(self.r.controls[told]["parent"])
                self.places[ref] = self.held(ref, parent, self.riding(ref, parent))
            else:
                self.places[ref] = self.joint(ref, told)
        return self.places[ref]

    def channels_of(self, control):
        return channels_place([self.value((control, key), 1.0 if key == "scale" else 0.0) for key in TRANSFORM])

    def riding(self, ref, parent):
        return self.node(parent) @ np.linalg.inv(self.r.rest[parent]) @ self.r.rest[ref]

    def joint(self, ref, told):
        if told in self.r.last:
            row = self.r.last[told]
            spring = self.r.springs.get(told)
            if spring is not None:
                return self.swung_after(row, spring)[told]
            return self.solve(row)[told]
        parent = self.r.drives.get(told) or ("world" if self.r.joints[told]["parent"] is None else "joint", self.r.joints[told]["parent"] or "")
        m = self.held(ref, parent, self.riding(ref, parent))
        if told in self.r.twists:
            m = self.twisted(told, m)
        if told in self.r.springs:
            m, _ = self.sprung(self.r.springs[told], told, m)
        if self.r.joints[told].get("halfway"):
            m = self.halfway(self.r.joints[told]["halfway"], parent, m)
        return m

    def halfway(self, half, against, m):
        """A helper joint: part of the turn of the joint it stands at, and where that is."""
        if half["of"] not in self.r.joints:
            return m
        of = ("joint", half["of"])
        turn = turn_vector(self.from_rest(of, against))
        m = m.copy()
        m[:3, :3] = m[:3, :3] @ vector_turn(np.array(turn) * half["share"])
        m[:3, 3] = self.node(of)[:3, 3] + m[:3, :3] @ np.array(half["push"]) * (1.0 - math.cos(norm(np.array(turn))))
        return m

    def settle(self):
        """Work out all that follows through, which moves its state on."""
        for j in self.r.springs:
            self.node(("joint", j))

    def held(self, ref, carrier, m):
        for one in self.r.holds.get(ref, ()):
            m = self.constrained(one, self.node(carrier), self.r.rest[carrier], m)
        return m

    def twisted(self, told, m):
        spread, k = self.r.twists[told]
        of, against = node_of(spread["of"]), node_of(spread["against"])
        axis = unit(np.array(spread["axis"]))
        angle = turn_about(self.from_rest(of, against), axis) * spread["shares"][k] * self.value(spread["amount"], 1.0)
        own = self.r.rest["joint", told][:3, :3].T @ self.r.rest[of][:3, :3] @ axis
        m = m.copy()
        m[:3, :3] = m[:3, :3] @ about(own, angle)
        return m

    # Constraints

    def constrained(self, one, carrier, carrier_rest, node):
        """Toward a mix of targets by weight; weights under one in all leave the rest to where the node is."""
        amount = self.value(one["amount"])
        weights = [max(self.value(t["weight"]), 0.0) for t in one["targets"]]
        total = sum(weights)
        if amount <= 0.0 or total <= 1e-9:
            return node
        what, held_rest = one["follow"], self.r.rest[node_of(one["held"])]
        carrier_turn = carrier[:3, :3] / size_of(carrier)
        scale, rest = 1.0 / total if total > 1.0 else 1.0, max(1.0 - total, 0.0)
        size = size_of(node)
        own_turn, own_place = node[:3, :3] / size, node[:3, 3]
        at, turning, lead, bigger = rest * own_place, np.zeros(4), None, 0.0
        for told, weight in zip(one["targets"], weights):
            weight *= scale
            if weight <= 0.0:
                continue
            target, target_rest = self.node(node_of(told["node"])), self.r.rest[node_of(told["node"])]
            if what == "aim":
                at = at + weight * target[:3, 3]
                continue
            if told["offset"] is not None:
                offset = np.array(told["offset"]).reshape(4, 4)
            elif what == "position":
                offset = place(np.eye(3), np.linalg.inv(carrier_rest[:3, :3]) @ (held_rest[:3, 3] - target_rest[:3, 3]))
            else:
                offset = np.linalg.inv(target_rest) @ held_rest
            if what == "position":
                at = at + weight * (target[:3, 3] + carrier[:3, :3] @ offset[:3, 3])
                continue
            there = target @ offset
            at = at + weight * there[:3, 3]
            bigger += weight * math.log(max(size_of(there), 1e-9) / max(size, 1e-9))
            q = quaternion(there[:3, :3] / size_of(there))
            lead = q if lead is None else lead
            turning = turning + weight * (q if q @ lead >= 0.0 else -q)
        new_turn, new_place, new_size = own_turn, own_place, size
        if what == "aim":
            new_turn = self.aimed(one, own_turn, own_place, (at - rest * own_place) / (1.0 - rest), held_rest)
            if rest > 0.0:
                new_turn = blend(own_turn, new_turn, 1.0 - rest)
        elif what != "position":
            if rest > 0.0:
                q = quaternion(own_turn)
                turning = turning + rest * (q if lead is None or q @ lead >= 0.0 else -q)
            if np.sqrt(turning @ turning) > 1e-9 and what != "scale":
                new_turn = rotation(turning)
            if what in ("scale", "parent"):
                new_size = size * math.exp(bigger)
        if what in ("position", "parent"):
            new_place = at
        if one["axes"] != "xyz" and set(one["axes"]) != set("xyz"):
            mask = np.array([float(a in one["axes"]) for a in "xyz"])
            new_place = own_place + carrier_turn @ ((carrier_turn.T @ (new_place - own_place)) * mask)
            turn = turn_vector(carrier_turn.T @ new_turn @ own_turn.T @ carrier_turn)
            new_turn = carrier_turn @ vector_turn(turn * mask) @ carrier_turn.T @ own_turn
        if amount < 1.0:
            new_place = own_place + amount * (new_place - own_place)
            new_turn = blend(own_turn, new_turn, amount)
            new_size = size * (new_size / size) ** amount
        return place(new_turn * new_size, new_place)

    def aimed(self, one, own_turn, own_place, at, held):
        aim, up = self.aim_axes(one, held)
        gap = at - own_place
        if norm(gap) <= 1e-12:
            return own_turn
        side = own_turn @ up
        if one["up_node"] is not None:
            told = node_of(one["up_node"])
            side = self.node(told)[:3, :3] @ (self.r.rest[told][:3, :3].T @ held[:3, :3] @ up)
        there = aim_frame(unit(gap), square_to(side, unit(gap), own_turn[:, 0]))
        return there @ aim_frame(aim, square_to(up, aim, X)).T

    def aim_axes(self, one, held):
        """Which of the held node's own axes is aimed, and which is kept up; where none is told, as they stand at rest."""
        if one["aim"] is None:
            weights = np.array([max(self.r.channels[tuple(t["weight"])]["rest"], 0.0) for t in one["targets"]])
            weights = weights / weights.sum() if weights.sum() > 0 else np.full(len(weights), 1.0 / len(weights))
            there = weights @ np.array([self.r.rest[node_of(t["node"])][:3, 3] for t in one["targets"]])
            aim = unit(held[:3, :3].T @ (there - held[:3, 3]))
        else:
            aim = unit(np.array(one["aim"]))
        chosen = [] if one["up"] is None else [np.array(one["up"])]
        for up in (*chosen, held[:3, :3].T @ Y, held[:3, :3].T @ Z):
            up = up - aim * (up @ aim)
            if norm(up) > (0.3 if one["up"] is None else 1e-6):
                break
        return aim, unit(up)

    # Solvers

    def solve(self, row):
        """Joints of a solver by id."""
        if row not in self.solved:
            s = self.r.solvers[row]
            made = self.body(s) if s["kind"] == "body" else self.chain(row, s)
            self.solved[row] = dict(zip(s["joints"], made))
        return self.solved[row]

    def chain(self, row, s):
        begin = []
        for joint, fk in zip(s["joints"], s["fk"]):
            before = self.r.before[row, joint]
            if before is not None:
                begin.append(self.solve(before)[joint])
            else:
                begin.append(self.node(("control", fk)) @ np.linalg.inv(self.r.rest["control", fk]) @ self.r.rest["joint", joint])
        amount, rest, kind = self.value(s["amount"]), self.r.rests[row], s["kind"]
        if amount <= 0.0:
            return begin
        if kind == "curve":
            holds = [self.node(node_of(p)) for p in s["points"]]
            return rest.solve(begin, holds, self.value(s["keep_length"], 1.0), self.value(s["slide"]), self.value(s["roll"]), amount)
        end = node_of(s.get("under") or s["goal"])
        goal = self.node(end) @ np.linalg.inv(self.r.rest[end]) @ self.r.rest["joint", s["joints"][-1]]
        if kind in ("limb", "hock"):
            pole = self.node(node_of(s["pole"]))[:3, 3]
            usual = {"goal_place": 1.0, "goal_turn": 1.0, "pole_share": 1.0, "swivel": 0.0, "stretch": 0.0, "soft": 0.0}
            settings = [self.value(s[k], u) for k, u in usual.items()]
            if kind == "hock":
                settings += [self.value(s["hock"], 0.5), self.value(s["hock_bend"], 0.0)]
            turns, longer = rest.solve(begin, goal, pole, *settings)
            return put_chain(begin, turns, longer, amount)
        tip, stretch, longer = self.value(s["tip_turn"], 1.0), self.value(s["stretch"], 0.0), 1.0
        if all(self.r.free(j) for j in s["joints"]):
            pole, turn = self.pole_of(s)
            turns, longer = solved_chain(begin, goal[:3, 3], pole, turn, stretch)
        else:
            turns = self.limited_chain(s, begin, goal)
        turns[-1] = blend(turns[-1], goal[:3, :3] / size_of(goal), tip)
        return put_chain(begin, turns, longer, amount)

    def pole_of(self, s):
        """Where a chain's pole is, and how its side is turned from it at rest."""
        if s["pole"] is None:
            return None, 0.0
        joints = np.array([self.r.rest["joint", j][:3, 3] for j in s["joints"]])
        aim = unit(joints[-1] - joints[0])
        off = joints[1:-1] - joints[0]
        side = (off - np.outer(off @ aim, aim)).sum(axis=0)
        pole = square_to(self.r.rest[node_of(s["pole"])][:3, 3] - joints[0], aim, X)
        turn = signed_angle(pole, unit(side), aim) if norm(side) > 1e-9 else 0.0
        return self.node(node_of(s["pole"]))[:3, 3], turn

    def bounds(self, joints, above):
        """Turns in the joints above at rest, limits, and how each axis gives way."""
        resting = []
        for j, a in zip(joints, above):
            turn = self.r.rest["joint", j][:3, :3]
            resting.append(turn if a is None else self.r.rest["joint", a][:3, :3].T @ turn)
        low, high, give = zip(*(self.r.limit(j) for j in joints))
        return resting, np.array(low), np.array(high), np.array(give)

    def limited_chain(self, s, begin, goal):
        n = len(begin)
        above = [self.r.joints[s["joints"][0]]["parent"], *s["joints"][:-1]]
        turns, _ = solved_tree(begin, list(range(-1, n - 1)), *self.bounds(s["joints"], above), 0.0, [n - 1], [goal], [(1.0, 0.0)], self.r.size * size_of(begin[0]))
        return list(turns)

    def body(self, s):
        """A whole body: its FK controls ride on what it writes, so it works its start out itself."""
        joints, number = s["joints"], {j: k for k, j in enumerate(s["joints"])}
        held, begin, parents, above = [], [], [], []
        for k, (joint, fk) in enumerate(zip(joints, s["fk"])):
            parent = self.r.joints[joint]["parent"]
            while parent is not None and parent not in number:
                parent = self.r.joints[parent]["parent"]
            above.append(parent)
            parents.append(-1 if parent is None else number[parent])
            carrier = node_of(self.r.controls[fk]["parent"])
            if carrier[0] == "joint" and carrier[1] in number:
                there = begin[number[carrier[1]]]
            elif carrier[0] in ("control", "base") and carrier[1] in s["fk"]:
                there = held[s["fk"].index(carrier[1])]
            else:
                there = self.node(carrier)
            rest = self.r.rest["control", fk]
            held.append(there @ np.linalg.inv(self.r.rest[carrier]) @ rest @ self.channels_of(fk))
            begin.append(held[k] @ np.linalg.inv(rest) @ self.r.rest["joint", joint])
        amount = self.value(s["amount"])
        if amount <= 0.0:
            return begin
        goals, wanted, shares = [], [], []
        for g in s["goals"]:
            ref = node_of(g["node"])
            goals.append(number[g["joint"]])
            wanted.append(self.node(ref) @ np.linalg.inv(self.r.rest[ref]) @ self.r.rest["joint", g["joint"]])
            shares.append((self.value(g["place"], 1.0), self.value(g["turn"], 0.0)))
        root_give = 1.0 if s["root_held"] is None else (1.0 - self.value(s["root_held"])) ** 2
        turns, places = solved_tree(begin, parents, *self.bounds(joints, above), root_give, goals, wanted, shares, self.r.size * size_of(begin[0]))
        out_turns, spots, out = [], [], []
        for i, p in enumerate(parents):
            scale = size_of(begin[i])
            start = begin[i][:3, :3] / scale
            if p < 0:
                out_turns.append(blend(start, turns[i], amount))
                spots.append(begin[i][:3, 3] + amount * (places[i] - begin[i][:3, 3]))
            else:
                up = (begin[p][:3, :3] / size_of(begin[p])).T
                out_turns.append(out_turns[p] @ blend(up @ start, turns[p].T @ turns[i], amount))
                spots.append(spots[p] + out_turns[p] @ (up @ (begin[i][:3, 3] - begin[p][:3, 3])))
            out.append(place(out_turns[i] * scale, spots[i]))
        return out

    # Springs

    def swung_after(self, row, spring):
        """What follows through after a solver placed it: each joint is hung on the one before as that swings now."""
        key = (row, spring["id"])
        if key not in self.swinging:
            stiff_before = before = None
            found = {}
            for joint in spring["joints"]:
                if self.r.last.get(joint) != row:
                    continue
                stiff = self.solve(row)[joint]
                here = stiff if before is None else before @ np.linalg.inv(stiff_before) @ stiff
                found[joint], _ = self.sprung(spring, joint, here)
                stiff_before, before = stiff, found[joint]
            self.swinging[key] = found
        return self.swinging[key]

    def sprung(self, spring, joint, here):
        group = self.r.groups[spring["group"]]
        amount, swing, drift = self.value(spring["amount"], 1.0), self.value(spring["swing"], 1.0), self.value(spring["drift"], 0.0)
        mass, stiffness = max(self.value(group["mass"]), 1e-6), max(self.value(group["stiffness"]), 0.0)
        damping, gravity = max(self.value(group["damping"]), 0.0), self.value(group["gravity"])
        size = size_of(here)
        turn, at = here[:3, :3] / size, here[:3, 3]
        reach = turn @ self.r.tips[joint] * size
        length, belongs = norm(reach), at + reach
        if gravity != 0.0 and length > 0.0:
            belongs = belongs + sag(turn @ self.r.rest["joint", joint][:3, :3].T, gravity * size, mass, stiffness, 0.9 * length)
        tip = belongs
        if self.state is not None:
            if self.seconds < 0.0:
                self.state[joint] = np.concatenate([belongs, np.zeros(3), belongs])
            elif self.seconds > 0.0:
                s = self.state[joint]
                going = (belongs - s[6:9]) / self.seconds
                gone, speed = oscillated(s[:3] - s[6:9], s[3:6] - going, mass, stiffness, damping, self.seconds)
                s[:3], s[3:6], s[6:9] = belongs + gone, going + speed, belongs
                gap = s[:3] - belongs
                far = norm(gap)
                if far > 2.0 * length:
                    s[:3] = belongs + gap * (2.0 * length / far)
                    s[3:6] -= gap / far * max(float(s[3:6] @ gap) / far, 0.0)
            tip = self.state[joint][:3]
        span = norm(tip - at)
        if amount > 0.0 and length > 0.0 and span > 0.05 * length:
            turn = vector_turn(turn_vector(least_turn(reach / length, (tip - at) / span)) * (amount * swing)) @ turn
        return place(turn * size, at + (tip - (at + reach)) * (amount * drift)), tip

    # What comes of it

    def morphs(self):
        """Weights of morph targets by (part id or "", name)."""
        found = {}
        for m in self.r.rig["morphs"]:
            key = (m["part"], m["morph"])
            found[key] = found.get(key, 0.0) + self.value(m["channel"])
        for shape in self.r.told.get("recipe", {}).get("shapes", ()):
            weight = self.shape(shape)
            if weight > 0.0:
                key = (shape["part"], shape["morph"])
                found[key] = found.get(key, 0.0) + weight
        return found

    def shape(self, told):
        """How far a corrective shape is there: by how near its joint's turn is to the one it was made for."""
        size, joint = norm(np.array(told["turn"])), self.r.joints.get(told["joint"])
        if joint is None or size < 1e-6:
            return 0.0
        ref = ("joint", told["joint"])
        against = ("world", "") if joint["parent"] is None else ("joint", joint["parent"])
        own = self.r.rest[ref][:3, :3]
        # From rest, in the character's axes there.
        turn = own @ self.from_rest(ref, against) @ own.T
        near = 1.0 - norm(np.array(turn_vector(vector_turn(-np.array(told["turn"])) @ turn))) / size
        near = min(max(near, 0.0), 1.0)
        return near * near * (3.0 - 2.0 * near)

    def unseen(self):
        """Things that a channel hides: "part:" or "control:" and an id."""
        seen = {}
        for s in self.r.rig["shows"]:
            seen[s["thing"]] = seen.get(s["thing"], False) or round(self.value(s["channel"])) == s["when"]
        return sorted(t for t, on in seen.items() if not on)

    def skin_matrices(self):
        """What carries rest points to the pose, by joint id; a joint's width only widens its own skin."""
        wide = {w["joint"]: (self.value(w["across"], 1.0), self.value(w["through"], 1.0)) for w in self.r.rig["widths"]}
        found = {}
        for j in self.r.joints:
            m = self.node(("joint", j))
            if j in wide:
                m = m @ np.diag([wide[j][0], 1.0, wide[j][1], 1.0])
            found[j] = m @ np.linalg.inv(self.r.rest["joint", j])
        return found


def turn_about(now, axis):
    """The angle of the part of a turn that goes about a unit axis."""
    q = quaternion(now)
    angle = 2.0 * math.atan2(q[:3] @ axis, q[3])
    return angle - 2.0 * math.pi if angle > math.pi else angle + 2.0 * math.pi if angle < -math.pi else angle


def skinned(points, weights, matrices):
    """Points (n, 3) by weights {joint id: (n,)}: linear blend skinning."""
    flat = np.column_stack([points, np.ones(len(points))])
    return sum(w[:, None] * (flat @ matrices[j].T)[:, :3] for j, w in weights.items())


def read_weights(told, file, part):
    """Weights {joint id: (n,)} of a part out of the .npz beside a description (told)."""
    with np.load(file, allow_pickle=False) as held:
        starts, columns, values = (held[f"{part}.{k}"] for k in ("starts", "columns", "values"))
    joints = told["weights"]["parts"][part]["joints"]
    found = {j: np.zeros(len(starts) - 1) for j in joints}
    rows = np.repeat(np.arange(len(starts) - 1), np.diff(starts))
    for row, column, value in zip(rows.tolist(), columns.tolist(), values.tolist()):
        found[joints[column]][row] = value
    return found


def frames_of(rig, told):
    """values_at(time) and times of {"rate", "frames"}; controls by name or id."""
    ids = {c["name"]: c["id"] for c in rig.controls.values()} | {i: i for i in rig.controls} | {"rig": "rig"}
    rows = [{(ids[control], key): float(v) for control, some in frame.items() for key, v in some.items()} for frame in told["frames"]]
    rate, used = float(told.get("rate", 30)), {ref for row in rows for ref in row}

    def value(k, ref):
        return rows[k].get(ref, rig.channels[ref]["rest"])

    def values_at(time):
        at = min(max(time * rate, 0.0), len(rows) - 1.0)
        # A moment of a frame is that frame, whatever division rounds.
        at = round(at) if abs(at - round(at)) < 1e-9 else at
        k = min(int(at), max(len(rows) - 2, 0))
        share = at - k
        return {ref: value(k, ref) + share * (value(min(k + 1, len(rows) - 1), ref) - value(k, ref)) if share else value(k, ref) for ref in used}

    return values_at, [k / rate for k in range(len(rows))]


def main(arguments):
    with open(arguments[0], encoding="utf-8") as file:
        rig = Rig(json.load(file))
    with open(arguments[1], encoding="utf-8") as file:
        values_at, times = frames_of(rig, json.load(file))
    out = []
    for frame in rig.played(values_at, times):
        out.append({
            "joints": {j["name"]: frame.node(("joint", i)).ravel().tolist() for i, j in rig.joints.items()},
            "controls": {c["name"]: frame.node(("control", i)).ravel().tolist() for i, c in rig.controls.items()},
            "morphs": {name: w for (_, name), w in frame.morphs().items()}, "unseen": frame.unseen(),
        })  # fmt: skip
    json.dump({"frames": out}, sys.stdout)


if __name__ == "__main__":
    main(sys.argv[1:])
