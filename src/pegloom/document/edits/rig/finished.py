"""A rig finished: what is not used removed; closed, so that only poses and motion change; opened up again."""

from __future__ import annotations

from dataclasses import fields, replace
from types import MappingProxyType

from pegloom.core.errors import EditError
from pegloom.core.rig.changes import RigChanges
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD
from pegloom.core.said import counted
from pegloom.document.edits.controls import put_changes
from pegloom.document.edits.rig.changing import rigged
from pegloom.document.model import Character, Document

OPEN = frozenset({
    "pose", "clips", "expressions", "face_pairs", "poses", "trials", "control_sets", "card", "closed", "counted", "mark_sizes",
    "references", "import_notes",
})  # fmt: skip
"""What of a character may change while its rig is closed."""


def close_rig(document: Document) -> Document:
    """Close a rig: poses, motion, expressions, sets and the pick card may still be changed, and nothing else.

    Raises EditError where there are no controls.
    """
    character, _, _ = rigged(document)
    return document.with_character(replace(character, closed=True))


def open_up(document: Document) -> Document:
    """Open a closed rig up again; see `at_stake` for what that may break."""
    character = document.require_character()
    if not character.closed:
        raise EditError("this rig is open already")
    return document.with_character(replace(character, closed=False))


def at_stake(character: Character) -> str:
    """What changing a closed rig may break, in words."""
    things = [
        counted(len(character.clips), "clip") if character.clips else "",
        f"{counted(len(character.poses), 'pose')} kept by name" if character.poses else "",
        counted(len(character.expressions), "expression") if character.expressions else "",
    ]
    said = ", ".join(t for t in things if t)
    return (
        f"{f'{said} were made on this rig. ' if said else ''}Other joints, weights or controls may leave keys without a control, move"
        " poses, and differ from what others were given."
    )


def refused(before: Document, after: Document) -> str:
    """Why a step is refused while a rig is closed, "" where it is not."""
    old, new = before.character, after.character
    if old is None or new is None or not old.closed or old.id != new.id or not new.closed:
        return ""
    changed = changed_pieces(old, new)
    if not changed:
        return ""
    return f"{old.name} is closed: its {changed[0].replace('_', ' ')} must stay. Open the rig up first"


def changed_pieces(old: Character, new: Character) -> list[str]:
    """Names of what has changed of a character that is no pose and no motion."""
    return [
        f.name for f in fields(Character)
        if f.name not in OPEN and getattr(old, f.name) is not getattr(new, f.name) and getattr(old, f.name) != getattr(new, f.name)
    ]  # fmt: skip


def unused(character: Character) -> list[str]:
    """What is there for nothing and can be removed safely, one line each."""
    rig = character.rig
    if rig is None:
        return []
    found = []
    known = set(rig.index)
    for name, ids in character.control_sets.items():
        gone = [i for i in ids if i not in known]
        if gone:
            found.append(f"the set {name} names {counted(len(gone), 'control')} that {'is' if len(gone) == 1 else 'are'} gone")
    lost = [b.control for b in character.card if b.control not in known]
    if lost:
        found.append(f"the pick card keeps a place for {counted(len(lost), 'control')} that {'is' if len(lost) == 1 else 'are'} gone")
    groups = {s.group for s in rig.springs}
    found += [f"no chain uses the follow-through settings {g.name or g.id}" for g in character.rig_changes.own_spring_groups if g.id not in groups]
    found += [f"the clip {c.name} holds no motion" for c in character.clips if not (c.curves or c.tracks or c.layers or c.morphs)]
    stale = {ref for p in character.poses for ref in p.values if ref not in rig.slots.index}
    if stale:
        found.append(f"kept poses tell {counted(len(stale), 'channel')} that {'is' if len(stale) == 1 else 'are'} gone")
    if isinstance(character.pose, Pose):
        left = [ref for ref in character.pose.values if ref not in rig.slots.index and ref[0] != BOARD]
        if left:
            found.append(f"the pose tells {counted(len(left), 'channel')} that {'is' if len(left) == 1 else 'are'} gone")
    return found


def remove_unused(document: Document) -> Document:
    """Remove what is there for nothing: see `unused`."""
    character, _, rig = rigged(document)
    known = set(rig.index)
    sets = {name: tuple(i for i in ids if i in known) for name, ids in character.control_sets.items()}
    poses = tuple(replace(p, values=MappingProxyType({r: v for r, v in p.values.items() if r in rig.slots.index})) for p in character.poses)
    pose = character.pose
    if isinstance(pose, Pose):
        pose = Pose({r: v for r, v in pose.values.items() if r in rig.slots.index})
    cleaned = replace(
        character, control_sets=MappingProxyType({n: ids for n, ids in sets.items() if ids}),
        card=tuple(b for b in character.card if b.control in known),
        clips=tuple(c for c in character.clips if c.curves or c.tracks or c.layers or c.morphs),
        poses=tuple(p for p in poses if p.values), pose=pose,
    )  # fmt: skip
    used = {s.group for s in rig.springs}
    changes: RigChanges = character.rig_changes
    groups = tuple(g for g in changes.own_spring_groups if g.id in used)
    if len(groups) == len(changes.own_spring_groups):
        return document.with_character(cleaned)
    return put_changes(document.with_character(cleaned), replace(changes, own_spring_groups=groups))
