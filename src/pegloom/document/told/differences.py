"""What one state of a project has that another has not, in lines for a person."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import fields, replace
from typing import Any

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.rig.channels import Channel
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.skin.weights import dense_over
from pegloom.document.model import Character, Document
from pegloom.document.told.approved import approved, changes

SEEN = 1e-6
"""Metres, and shares of a weight, below which nothing is told."""
MOST = 12
"""Records of a kind that are told one by one."""
RECORDS = {
    "drives": "joint's control", "solvers": "solver", "constraints": "constraint", "limits": "limit", "couplings": "coupling", "twists": "twist",
    "springs": "spring", "spring_groups": "spring group", "morphs": "morph's channel", "shows": "switch", "widths": "width",
}  # fmt: skip
"""What a rig is made of beside controls and channels, and a word for one of each."""


def _names(kind: str, before: Iterable[str], after: Iterable[str]) -> list[str]:
    old, new = set(before), set(after)
    lines = []
    for word, some in (("new", new - old), ("gone", old - new)):
        if some:
            listed = sorted(some)
            lines.append(f"{kind} {word}: {', '.join(listed[:6])}{f' and {len(listed) - 6} more' if len(listed) > 6 else ''}")
    return lines


def _same(a: Any, b: Any) -> bool:
    if isinstance(a, np.ndarray) or isinstance(b, np.ndarray):
        return np.array_equal(a, b)
    try:
        return bool(a == b)
    except ValueError:  # arrays somewhere inside
        return a is b


def _changed(kind: str, before: Iterable[Any], after: Iterable[Any], called: Callable[[Any], str]) -> list[str]:
    """Records that are in both, by what they are called, and which of their fields differ."""
    old, lines = {called(x): x for x in before}, []
    for now in after:
        was = old.get(called(now))
        if was is None or was is now:
            continue
        if type(was) is not type(now):
            lines.append(f"{kind} {called(now)}: of another kind")
            continue
        differ = [f.name.replace("_", " ") for f in fields(now) if not _same(getattr(was, f.name), getattr(now, f.name))]
        if differ:
            lines.append(f"{kind} {called(now)}: {', '.join(differ)} changed")
    return lines[:MOST] + ([f"{kind}s: {len(lines) - MOST} more changed"] if len(lines) > MOST else [])


def _called(record: Any) -> str:
    """A record's name for a person; its id, or its joint, where it has none."""
    return str(getattr(record, "name", "") or getattr(record, "id", "") or record.joint)


def _channels(rig: ControlRig) -> list[Channel]:
    """All channels, each with its control's name before its own."""
    own = [replace(c, title=f"{x.name}, {c.title}") for x in rig.controls for c in x.channels]
    return own + [replace(c, title=f"board, {c.title}") for c in rig.board]


def _rig(before: Character, after: Character) -> list[str]:
    """What is new, gone or changed of the controls, and of all that makes them move."""
    old, now = (ControlRig(()) if c.rig is None else c.rig for c in (before, after))
    if old is now:
        return []
    was, is_ = (tuple(replace(x, channels=()) for x in rig.controls) for rig in (old, now))
    lines = [*_names("controls", map(_called, was), map(_called, is_)), *_changed("control", was, is_, _called)]
    for kind, word in RECORDS.items():
        was, is_ = getattr(old, kind), getattr(now, kind)
        lines += [*_names(f"{word}s", map(_called, was), map(_called, is_)), *_changed(word, was, is_, _called)]
    return [*lines, *_changed("channel", _channels(old), _channels(now), lambda c: c.title)]


def _values(character: Character) -> dict[str, float]:
    """What channels stand at in the present pose, by name."""
    if character.rig is None or not isinstance(character.pose, Pose):
        return {}
    names = {x.id: x.name for x in character.rig.controls}
    return {f"{names.get(control, control)}, {key.replace('_', ' ')}": value for (control, key), value in character.pose.values.items()}


def _posed(before: Character, after: Character) -> list[str]:
    """Channels whose value in the present pose differs."""
    old, now = _values(before), _values(after)
    differ = [n for n in {**old, **now} if abs(old.get(n, 0.0) - now.get(n, 0.0)) > SEEN]
    return [f"posed otherwise: {', '.join(differ[:6])}{f' and {len(differ) - 6} more' if len(differ) > 6 else ''}"] if differ else []


def _parts(before: Character, after: Character) -> list[str]:
    lines, old = [], {p.name: p for p in before.parts}
    for part in after.parts:
        was = old.get(part.name)
        if was is None or was.mesh is part.mesh:
            continue
        if was.mesh.vertex_count != part.mesh.vertex_count:
            lines.append(f"part {part.name}: {was.mesh.vertex_count} vertices before, {part.mesh.vertex_count} after")
        else:
            gap = float(np.linalg.norm(was.mesh.points - part.mesh.points, axis=1).max(initial=0.0))
            if gap > SEEN:
                lines.append(f"part {part.name}: moved by up to {1000 * gap:.2f} mm")
    return lines


def _weights(before: Character, after: Character) -> list[str]:
    if before.skin is None or after.skin is None:
        return [] if before.skin is after.skin else ["skin: new" if before.skin is None else "skin: gone"]
    lines, old = [], {p.name: p.id for p in before.parts}
    for part in after.parts:
        now, was = after.skin.weights.get(part.id), before.skin.weights.get(old.get(part.name, ""))
        if (now is None) != (was is None):
            lines.append(f"weights of {part.name}: {'new' if was is None else 'gone'}")
        if now is None or was is None or now is was or now.vertex_count != was.vertex_count:
            continue
        columns = tuple(dict.fromkeys((*was.joint_ids, *now.joint_ids)))
        gap = np.abs(dense_over(now, columns) - dense_over(was, columns)).max(axis=1, initial=0.0)
        if gap.max(initial=0.0) > SEEN:
            lines.append(f"weights of {part.name}: {int((gap > SEEN).sum())} vertices differ, by up to {gap.max():.3f}")
    return lines


def _shown(before: Character, after: Character) -> list[str]:
    """Poses and clips that look otherwise on both; what is new or gone is told by name elsewhere."""
    if before.skeleton is None or after.skeleton is None:
        return []
    try:
        kept = approved(before)
    except EditError:
        return []
    return [
        f"{c.name}: {1000 * c.metres:.2f} mm at {c.where}" for c in changes(after, kept) if c.metres > SEEN and not math.isinf(c.metres)
    ]


def _between(before: Character, after: Character) -> list[str]:
    joints = [() if c.skeleton is None else tuple(j.name for j in c.skeleton.joints) for c in (before, after)]
    return [
        *_names("parts", (p.name for p in before.parts), (p.name for p in after.parts)),
        *_parts(before, after),
        *_names("joints", *joints),
        *_weights(before, after),
        *_rig(before, after),
        *_posed(before, after),
        *_names("poses", (p.name for p in before.poses), (p.name for p in after.poses)),
        *_names("clips", (c.name for c in before.clips), (c.name for c in after.clips)),
        *_shown(before, after),
    ]


def differences(before: Document, after: Document) -> list[str]:
    """Lines of what differs: named things that are new or gone, then how far meshes, weights, poses and clips have gone.

    Characters, parts and the rest are matched by name.
    """
    old = {c.name: c for c in before.characters}
    lines = _names("characters", old, (c.name for c in after.characters))
    alone = len(before.characters) == 1 == len(after.characters)
    for character in after.characters:
        was = before.characters[0] if alone else old.get(character.name)
        if was is not None and was is not character:
            lines += _between(was, character) if alone else [f"{character.name}: {line}" for line in _between(was, character)]
    return lines
