"""What a character's poses and clips look like, kept when somebody approved of them, and what has changed since."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.follow_through import state_at
from pegloom.core.rig.pose import Pose, Shown
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character

FORMAT, VERSION = "peg loom approved", 1
SPOTS = 240
"""Vertices of a part that are kept."""
MOMENTS = 24
"""Of a clip, from its first to its last frame."""


@dataclass(frozen=True, slots=True)
class Change:
    """name : of the pose or clip ("rest" for the rest). metres : the farthest any kept spot has gone. where : part or joint, and frame.
    why : in words where it cannot be compared."""

    name: str
    metres: float
    where: str
    why: str = ""


def _moments(character: Character) -> Iterator[tuple[str, str, Shown, FloatArray | None]]:
    """Name, moment in words, pose and state of springs, of all that is kept."""
    yield "rest", "", Pose(), None
    for pose in character.poses:
        yield f"pose {pose.name}", "", Pose(dict(pose.values)), None
    for trial in character.trials:
        yield f"trial {trial.name}", "", trial.pose, None
    for clip in character.clips:
        frames = max(round(clip.length * clip.rate), 1)
        for frame in np.unique(np.linspace(0, frames, min(frames + 1, MOMENTS)).astype(int)).tolist():
            time = min(frame / clip.rate, clip.length)
            pose_at = sample(clip, time, character.skeleton, character.pose, character.rig)
            yield f"clip {clip.name}", f"frame {frame}", pose_at, state_at(character.skeleton, character.rig, clip, character.pose, time)


def _spots(count: int) -> FloatArray:
    return np.unique(np.linspace(0, count - 1, min(count, SPOTS)).astype(int)) if count else np.zeros(0, dtype=int)


def approved(character: Character) -> dict[str, Any]:
    """Poses, trials and clips as they look now, as plain numbers. Raises EditError without joints."""
    skeleton = character.require_skeleton()
    if not character.poses and not character.trials and not character.clips:
        raise EditError("there is no pose and no clip yet to approve of")
    rows: list[dict[str, Any]] = []
    for name, moment, pose, state in _moments(character):
        frame = evaluate(character, pose) if state is None else evaluate(character, pose, state)
        parts = {p.name: np.round(frame.points[p.id][_spots(p.mesh.vertex_count)], 6).tolist() for p in character.included}
        joints = {j.name: np.round(frame.joints[k][:3, 3], 6).tolist() for k, j in enumerate(skeleton.joints)}
        rows.append({"name": name, "moment": moment, "parts": parts, "joints": joints})
    return {
        "format": FORMAT, "version": VERSION, "character": character.name, "height": character.height,
        "vertices": {p.name: p.mesh.vertex_count for p in character.included}, "shows": rows,
    }  # fmt: skip


def changes(character: Character, kept: Mapping[str, Any]) -> list[Change]:
    """What has changed since, one for each pose, trial and clip that was approved, in that order. Raises EditError for a file that
    makes no sense."""
    try:
        vertices = {str(n): int(v) for n, v in kept["vertices"].items()}
        same = {p.name for p in character.included if vertices.get(p.name) == p.mesh.vertex_count}
        now = {(n, m): (pose, state) for n, m, pose, state in _moments(character)}
        index = {j.name: k for k, j in enumerate(character.require_skeleton().joints)}
        found: dict[str, Change] = {}
        for row in kept["shows"]:
            name, moment = str(row["name"]), str(row["moment"])
            before = found.get(name, Change(name, 0.0, ""))
            if (name, moment) not in now:
                gone = not any(n == name for n, _ in now)
                found[name] = Change(name, np.inf, "", "it is gone" if gone else "it has another length")
                continue
            pose, state = now[name, moment]
            frame = evaluate(character, pose) if state is None else evaluate(character, pose, state)
            pairs = [(p.name, row["parts"].get(p.name), frame.points[p.id][_spots(p.mesh.vertex_count)]) for p in character.included if p.name in same]
            pairs += [(n, [v], frame.joints[index[n]][None, :3, 3]) for n, v in row["joints"].items() if n in index]
            for said, told, here in pairs:
                if told is None:
                    continue
                gap = float(np.linalg.norm(np.asarray(told, dtype=np.float64) - here, axis=1).max(initial=0.0))
                if gap > before.metres:
                    before = Change(name, gap, ", ".join(w for w in (said, moment) if w))
            missing = [n for n in row["joints"] if n not in index]
            if missing and not before.why:
                before = Change(before.name, before.metres, before.where, f"joints are gone: {', '.join(missing[:4])}")
            if not np.isinf(found.get(name, before).metres):
                found[name] = before
        return list(found.values())
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise EditError(f"this is no approval of this character ({type(error).__name__})") from error
