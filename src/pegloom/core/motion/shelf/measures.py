"""Qualities of a motion, measured, so that clips can be told alike whatever they are called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.chains import kind_of, parts_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.skeleton.joints import Skeleton

QUALITIES = (
    "speed", "rise", "turning", "energy", "peak", "legs", "arms", "trunk", "head", "symmetry", "height", "lowest", "lean", "rhythm", "beat", "reach", "hands_high",
)  # fmt: skip
"""speed : of the hips over the ground; rise : how far up and down they go; turning : degrees a second; energy, peak : how fast
joints go against the hips, on average and at most; legs, arms, trunk, head : shares of that; symmetry : 1 both sides alike;
height, lowest : of the hips, 1 standing; lean : of the trunk; rhythm, beat : how regular, and how many a second; reach : hands
from the chest; hands_high : hands over the shoulders."""
SCALES: Mapping[str, float] = {
    "speed": 0.7, "rise": 0.12, "turning": 25.0, "energy": 0.35, "peak": 1.2, "legs": 0.16, "arms": 0.16, "trunk": 0.12, "head": 0.1, "symmetry": 0.2, "height": 0.14,
    "lowest": 0.2, "lean": 14.0, "rhythm": 0.3, "beat": 0.7, "reach": 0.12, "hands_high": 0.18,
}  # fmt: skip
"""What makes a difference in each."""
RATE = 15.0
MOST = 600


def measures_of(skeleton: Skeleton, clip: Clip) -> FloatArray:
    """The QUALITIES of a clip on the skeleton it was made on, (17,), told at a body of 1.7 m. What a body does not have is 0."""
    count = int(np.clip(round(clip.length * RATE), 8, MOST))
    times = np.linspace(0.0, clip.length, count + 1)
    worlds = posed_at(clip, skeleton, times)
    at = worlds[..., :3, 3]
    rest = skeleton.positions
    tall = max(float(np.ptp(rest[:, 1])), 0.4 * float(np.ptp(rest, axis=0).max()), 1e-6)
    at = at * (1.55 / tall)
    rest = rest * (1.55 / tall)
    step = max(float(times[1] - times[0]), 1e-6)
    parts = parts_of(skeleton)
    index = skeleton.index
    base = index[parts["trunk"][0]] if parts.get("trunk") else 0
    hips = at[:, base]
    way = np.linalg.norm(hips[-1, [0, 2]] - hips[0, [0, 2]]) / max(clip.length, 1e-6)
    facing = worlds[:, base, :3, :3] @ worlds[0, base, :3, :3].T
    yaw = np.unwrap(np.arctan2(facing[:, 0, 2], facing[:, 2, 2]))
    near = at - hips[:, None]
    pace = np.linalg.norm(np.diff(near, axis=0), axis=-1) / step
    groups: dict[str, list[int]] = {"legs": [], "arms": [], "trunk": [], "head": []}
    for part, chain in parts.items():
        kind = kind_of(part)
        name = {"leg": "legs", "foreleg": "legs", "arm": "arms", "wing": "arms", "finger": "arms", "shoulder": "arms", "head": "head", "neck": "head"}.get(kind, "trunk")
        groups[name] += [index[j] for j in chain]
    moved = {name: float(pace[:, some].mean()) * min(len(some), 6) if some else 0.0 for name, some in groups.items()}
    whole = max(sum(moved.values()), 1e-9)
    told = {
        "speed": float(way), "rise": float(np.ptp(hips[:, 1])), "turning": float(np.degrees(np.abs(yaw[-1] - yaw[0]))) / max(clip.length, 1e-6),
        "energy": float(pace.mean()), "peak": float(np.percentile(pace.max(axis=1), 90)), **{name: value / whole for name, value in moved.items()},
        "symmetry": _symmetry(parts, index, pace), "height": float((hips[:, 1] - at[:, :, 1].min()).mean() / max(rest[base, 1] - rest[:, 1].min(), 1e-6)),
        "lowest": float((hips[:, 1].min() - at[:, :, 1].min()) / max(rest[base, 1] - rest[:, 1].min(), 1e-6)), "lean": _lean(parts, index, at, rest, yaw),
        **_rhythm(pace, step), **_hands(parts, index, at),
    }  # fmt: skip
    return np.array([told[name] for name in QUALITIES])


def _symmetry(parts: Mapping[str, Sequence[str]], index: Mapping[str, int], pace: FloatArray) -> float:
    sides = [float(np.mean([pace[:, index[j]].mean() for p, chain in parts.items() if p.endswith(f".{s}") for j in chain] or [0.0])) for s in "lr"]
    return 1.0 - abs(sides[0] - sides[1]) / max(sum(sides), 1e-9)


def _lean(parts: Mapping[str, Sequence[str]], index: Mapping[str, int], at: FloatArray, rest: FloatArray, yaw: FloatArray) -> float:
    """Degrees the trunk leans ahead of how it stands at rest."""
    trunk = parts.get("trunk", ())
    if len(trunk) < 2:
        return 0.0
    back = at[:, index[trunk[-1]]] - at[:, index[trunk[0]]]
    still = rest[index[trunk[-1]]] - rest[index[trunk[0]]]
    ahead = back[:, 0] * np.sin(yaw) + back[:, 2] * np.cos(yaw)
    return float(np.degrees(np.arctan2(ahead, back[:, 1])).mean() - np.degrees(np.arctan2(still[2], still[1])))


def _rhythm(pace: FloatArray, step: float) -> dict[str, float]:
    """The strongest regular beat of all movement: how strong, and beats a second."""
    told = pace.mean(axis=1)
    told = told - told.mean()
    if len(told) < 12 or np.abs(told).max() < 1e-6:
        return {"rhythm": 0.0, "beat": 0.0}
    like = np.correlate(told, told, "full")[len(told) - 1 :] / max(float(told @ told), 1e-12)
    first = max(int(0.18 / step), 2)
    some = like[first : max(len(told) * 2 // 3, first + 1)]
    k = int(np.argmax(some)) + first
    return {"rhythm": float(max(like[k], 0.0)), "beat": 1.0 / (k * step)}


def _hands(parts: Mapping[str, Sequence[str]], index: Mapping[str, int], at: FloatArray) -> dict[str, float]:
    arms = [chain for p, chain in parts.items() if kind_of(p) in ("arm", "wing") and len(chain) >= 3]
    if not arms:
        return {"reach": 0.0, "hands_high": 0.0}
    offs = [at[:, index[c[2]]] - at[:, index[c[0]]] for c in arms]
    return {"reach": float(np.mean([np.linalg.norm(o, axis=1).mean() for o in offs])), "hands_high": float(np.mean([o[:, 1].mean() for o in offs]))}


def unlike(one: FloatArray, others: FloatArray) -> FloatArray:
    """How unlike others (n, q) are to one (q,), 0 the same."""
    scale = np.array([SCALES[name] for name in QUALITIES])
    return np.asarray(np.sqrt((((others - one) / scale) ** 2).mean(axis=1)))
