"""The rig worked out slowly and plainly, one node at a time by name, with SciPy's turns: beside the compiled walk."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation, Slerp

from pegloom.core.rig.refs import WORLD

FADE = np.radians(10.0)


def unit(v):
    return np.asarray(v) / np.linalg.norm(v)


def square(v, line):
    return unit(v - line * (v @ line))


def about(v, axis, angle):
    return Rotation.from_rotvec(axis * angle).apply(v)


def angle_about(a, b, axis):
    return np.arctan2(axis @ np.cross(a, b), a @ b)


def fade(x, end):
    t = 1.0 - np.clip(x / end, 0.0, 1.0)
    return t * t * (3.0 - 2.0 * t)


def frame(bone, normal):
    return np.column_stack([normal, bone, np.cross(normal, bone)])


def limited(channel, value):
    """The value within its channel's limits, without the easing of soft ones."""
    low = -np.inf if channel.low is None else channel.low
    high = np.inf if channel.high is None else channel.high
    return min(max(value, low), high)


def channels(values):
    m = np.eye(4)
    angles = [values.get(f"rotate_{a}", 0.0) for a in "xyz"]
    m[:3, :3] = Rotation.from_euler("xyz", angles).as_matrix() * values.get("scale", 1.0)
    m[:3, 3] = [values.get(f"move_{a}", 0.0) for a in "xyz"]
    return m


def evaluate_plainly(skeleton, rig, pose):
    """(controls by id, joints by id) as 4x4 matrices."""
    rows = {
        c.id: {h.key: limited(h, pose.values.get((c.id, h.key), h.rest)) for h in c.channels} for c in rig.controls
    }
    rest = {f"joint:{j.id}": m for j, m in zip(skeleton.joints, skeleton.world, strict=True)}
    rest |= {f"control:{c.id}": c.matrix for c in rig.controls}
    driver = {d.joint: d.node.id for d in rig.drives}
    limb_of = {j: limb for limb in rig.limbs for j in limb.joints}
    known = {}

    def node(name):
        if name not in known:
            known[name] = worked_out(name)
        return known[name]

    def riding(name, parent):
        return node(parent) @ np.linalg.inv(rest[parent]) @ rest[name] if parent else rest[name]

    def worked_out(name):
        kind, _, thing = name.partition(":")
        if kind == "control":
            parent = rig.control(thing).parent
            return riding(name, "" if parent == WORLD else f"{parent.kind.value}:{parent.id}") @ channels(rows[thing])
        if thing in limb_of:
            solve(limb_of[thing])
            return known[name]
        if thing in driver:
            return riding(name, f"control:{driver[thing]}")
        parent = skeleton.joint(thing).parent
        return riding(name, f"joint:{parent}" if parent else "")

    def solve(limb):
        fk = [node(f"control:{c}") for c in limb.fk]
        size = np.linalg.norm(fk[0][:3, 0])
        turns = [m[:3, :3] / size for m in fk]
        start = fk[0][:3, 3]
        ways = fk[1][:3, 3] - start, fk[2][:3, 3] - fk[1][:3, 3]
        a, b = (np.linalg.norm(w) for w in ways)
        local = turns[0].T @ ways[0], turns[1].T @ ways[1]
        amount = rows[limb.amount.owner][limb.amount.key]
        if amount > 0:
            turns = blended(limb, turns, local, start, size, (a, b), amount)
        places = [start, start + turns[0] @ local[0]]
        places.append(places[1] + turns[1] @ local[1])
        for joint, turn, place in zip(limb.joints, turns, places, strict=True):
            m = np.eye(4)
            m[:3, :3], m[:3, 3] = turn * size, place
            known[f"joint:{joint}"] = m

    def blended(limb, turns, local, start, size, lengths, amount):
        a, b = lengths
        resting = [rest[f"joint:{j}"] for j in limb.joints]
        places = [m[:3, 3] for m in resting]
        line0 = unit(places[2] - places[0])
        pole0 = unit(np.cross(line0, rest[f"control:{limb.pole.id}"][:3, 3] - places[0]))
        aside = np.cross(line0, places[1] - places[0])
        swivel0 = 0.0
        if np.linalg.norm(aside) > 1e-12 * (np.linalg.norm(places[1] - places[0]) + np.linalg.norm(places[2] - places[1])):
            swivel0 = angle_about(pole0, unit(aside), line0)
        bones0 = unit(places[1] - places[0]), unit(places[2] - places[1])
        # A straight limb's fold is the square root of what its lengths are rounded by: by the law of cosines, as solved.
        a0, b0, apart = (np.linalg.norm(v) for v in (places[1] - places[0], places[2] - places[1], places[2] - places[0]))
        fold0 = np.arccos(np.clip((apart * apart - a0 * a0 - b0 * b0) / (2.0 * a0 * b0), -1, 1))
        kept = [m[:3, :3].T @ frame(v, square(pole0, v)) for m, v in zip(resting, bones0, strict=False)]
        # What the FK limb is twisted by about its bones, against the plane its pole would stand in.
        first, second = turns[0] @ local[0] / a, turns[1] @ local[1] / b
        along = unit(a * first + b * second)
        carried = square(turns[0] @ (resting[0][:3, :3].T @ pole0), along)
        fold = np.arccos(np.clip(first @ second, -1, 1))
        flat, normal = fade(fold, np.radians(1.0)), carried
        if flat < 1.0:
            plane = about(unit(np.cross(second, first)), along, -swivel0 * fade(abs(fold - fold0), FADE))
            over = 1.0 - fade(max(-(plane @ carried) - 0.6, 0.0), 0.3)
            plane = about(plane, along, np.pi * over * fade(max(fold - np.radians(2.0), 0.0), np.radians(2.0)))
            normal = square(flat * carried + (1.0 - flat) * plane, along)
        twists = [
            angle_about(square(normal, v), square(t @ k[:, 0], v), v)
            for t, k, v in zip(turns, kept, (first, second), strict=False)
        ]
        goal = node(f"control:{limb.goal.id}") @ np.linalg.inv(rest[f"control:{limb.goal.id}"]) @ resting[2]
        to = goal[:3, 3] - start
        direction = unit(to)
        distance = np.clip(np.linalg.norm(to), abs(a - b) + 1e-9 * (a + b), a + b)
        pole = unit(np.cross(direction, node(f"control:{limb.pole.id}")[:3, 3] - start))
        bent = np.arccos(np.clip((distance**2 - a * a - b * b) / (2 * a * b), -1, 1))
        plane = about(pole, direction, swivel0 * fade(abs(bent - fold0), FADE))
        along_line = (a * a - b * b + distance**2) / (2 * distance)
        middle = direction * along_line + np.cross(plane, direction) * np.sqrt(max(a * a - along_line**2, 0.0))
        aims = middle / a, (direction * distance - middle) / b
        made = []
        for bone, aim, keep, twist in zip(local, aims, kept, twists, strict=True):
            own = frame(unit(bone), square(keep[:, 0], unit(bone)))
            made.append(frame(aim, about(square(pole, aim), aim, twist)) @ own.T)
        made.append(goal[:3, :3] / np.linalg.norm(goal[:3, 0]))

        def share(x, y):
            return Slerp([0, 1], Rotation.from_matrix([x, y]))(amount).as_matrix()

        upper = share(turns[0], made[0])
        lower = upper @ share(turns[0].T @ turns[1], made[0].T @ made[1])
        return [upper, lower, lower @ share(turns[1].T @ turns[2], made[1].T @ made[2])]

    controls = {c.id: node(f"control:{c.id}") for c in rig.controls}
    return controls, {j.id: node(f"joint:{j.id}") for j in skeleton.joints}
