"""What one state of a project has that another has not, in lines for a person."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.skin.weights import dense_over
from pegloom.document.model import Character, Document
from pegloom.document.told.approved import approved, changes

SEEN = 1e-6
"""Metres, and shares of a weight, below which nothing is told."""


def _names(kind: str, before: Iterable[str], after: Iterable[str]) -> list[str]:
    old, new = set(before), set(after)
    lines = []
    for word, some in (("new", new - old), ("gone", old - new)):
        if some:
            listed = sorted(some)
            lines.append(f"{kind} {word}: {', '.join(listed[:6])}{f' and {len(listed) - 6} more' if len(listed) > 6 else ''}")
    return lines


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
    controls = [() if c.rig is None else tuple(x.name for x in c.rig.controls) for c in (before, after)]
    holds = [() if c.rig is None else tuple(x.name for x in c.rig.constraints) for c in (before, after)]
    return [
        *_names("parts", (p.name for p in before.parts), (p.name for p in after.parts)),
        *_parts(before, after),
        *_names("joints", *joints),
        *_weights(before, after),
        *_names("controls", *controls),
        *_names("constraints", *holds),
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
