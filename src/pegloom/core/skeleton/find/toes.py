"""Single toes, where the mesh has them: tips are peaks of the way along the skin from the instep."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.find.finger_line import free_line
from pegloom.core.skeleton.find.hand import finger_tips

SURE, GUESS = 0.6, 0.3
"""How sure a toe is that the skin shows, and one only the other foot shows."""
INSTEP, LENGTH = 0.6, 0.7
"""How far behind the ball of the foot the skin's way begins, and what counts as a palm's length there, in shares of the way
from the ball to the tip of the foot."""
FRONT = 0.35
"""Shares of that way before the ball at least where a toe's tip is."""
KNUCKLE = 0.9
"""How far behind the web a toe's knuckle is, in free lengths of the toe."""
LOW = 1.2
"""Heights of the ankle over the floor above which no toe's tip is."""

Toe = tuple[FloatArray, FloatArray, float]


def find_toes(
    points: FloatArray, triangles: IntArray, ankle: FloatArray, ball: FloatArray, toe: FloatArray, *, outward: float
) -> list[Toe]:
    """Knuckle, tip and confidence of each toe that stands out from a foot, the inner one first; empty where none do.

    points (n, 3) metres, floor at their lowest; triangles (t, 3). ankle, ball, toe : (3,) of that foot; toe is the tip of all.
    outward : 1 where the foot's outer side is toward +X, else -1.
    """
    way = (toe - ball) * [1.0, 0.0, 1.0]
    front = float(np.linalg.norm(way))
    if front <= 0:
        return []
    ahead = way / front
    start = ball - INSTEP * front * ahead
    tips = finger_tips(points, triangles, start, start + LENGTH * front * ahead, loose_ones=False)
    floor = float(points[:, 1].min())
    low = tips[:, 1] - floor < LOW * max(float(ankle[1]) - floor, 1e-9)
    tips = tips[low & ((tips - ball) @ ahead > FRONT * front)] if len(tips) else tips
    if len(tips) < 2:
        return []
    aside = np.array([ahead[2], 0.0, -ahead[0]])
    aside = aside if aside[0] * outward > 0 else -aside
    result: list[Toe] = []
    for tip in tips[np.argsort(tips @ aside)]:
        line = free_line(points, triangles, tip, front).places
        if len(line):
            free = float(np.linalg.norm(line[-1] - tip))
            back = normalised(line[-1] - line[0])
            base = line[-1] + min(KNUCKLE * free, 0.5 * front) * back
            # The knuckle lies in the foot's own thickness, wherever the toe points.
            base[1] = float(np.clip(base[1], min(ball[1], tip[1]), max(ball[1], tip[1], floor + 0.5 * (ankle[1] - floor))))
        else:
            base = tip - 0.6 * front * ahead
        result.append((base, tip - 0.1 * (tip - base), SURE))
    return result
