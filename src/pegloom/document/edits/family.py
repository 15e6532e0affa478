"""A family of rigs: a master worn by a cast. When the master changes, each member takes the changes and keeps its own.

Three states meet, record by record: the master as it was when it was last taken, the master now, the member. What the member
left as the master had it follows the master; what was changed by hand on the member stays and is told.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, silent
from pegloom.core.rig.changes import RigChanges
from pegloom.core.skeleton.pegs import PegSet
from pegloom.document.edits.bodies import NO_PLANS, Body, along, in_size, wear_body
from pegloom.document.edits.controls import build_controls
from pegloom.document.edits.rebuild import rebuilt
from pegloom.document.model import Character, Document, Worn
from pegloom.document.told.approved import Change, approved, changes

ALIKE = 1e-9
"""Numbers that differ by no more than this share of them are the same: a member's may have been scaled twice."""
FIELDS = tuple(f.name for f in fields(Worn) if f.name not in ("name", "scale"))
WORDS = {
    "joint_overrides": "joint", "own_joints": "added joint", "helpers": "helper joint", "rig_recipe": "limb kit", "uses": "use of joint", "reaches": "reach of joint", "mark_sizes": "mark of joint",
    "control_sets": "set", "card": "place on the pick card", "expressions": "expression", "poses": "pose", "controls": "control", "channels": "channel",
    "own_controls": "own control", "own_channels": "own channels of", "limits": "limits of joint",
}  # fmt: skip
"""What one record of each kind is called."""
CHANGED = frozenset({"controls", "channels", "joint_overrides", "rig_recipe", "uses", "reaches", "mark_sizes", "limits", "card"})
"""Records that say how something built is changed: without one it is as it was built."""


@dataclass(frozen=True, slots=True)
class Followed:
    """taken : what of the master's changes came over. kept : what the master changed and was changed by hand here, and stays.
    moves : of each kept pose and clip, how far it goes, the farthest first."""

    taken: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    moves: tuple[Change, ...] = ()


def wear_master(document: Document, master: Body, *, plans: Mapping[str, Any] = NO_PLANS, progress: Progress = silent) -> tuple[Document, Followed]:
    """Make a character a member: a mesh without joints gets the master's pegs looked for in its shape, a body of the same pattern
    what the master has and it has not. Raises EditError for joints of a file, or a body of another pattern."""
    character = document.require_character()
    if character.pegs is None:
        worn, said = wear_body(document, master, plans=plans, progress=progress)
        member = worn.require_character()
        return worn.with_character(replace(member, worn=_worn(master, member.height / master.height))), Followed((said,), ())
    _same_pattern(character, master)
    # Nothing was taken yet: what both have and differs was made by hand here.
    bare = replace(character, worn=Worn(master.character.name, character.height / master.height, pegs=master.character.pegs))
    return follow_master(document.with_character(bare), master, progress=progress)


def follow_master(document: Document, master: Body, *, over: bool = False, progress: Progress = silent) -> tuple[Document, Followed]:
    """A member with the master's changes since it was last taken, and what that does to its kept poses and clips.

    over : the master's takes the place of what was changed by hand here, too.
    Raises EditError for one that wears no master, or another's pattern.
    """
    character = document.require_character()
    if character.worn is None:
        raise EditError(f"{character.name} wears no master yet; let it wear one first")
    _same_pattern(character, master)
    worn = character.worn
    progress(0.1, "comparing with the master")
    before = in_size(Body(_as_character(worn), 1.0), worn.scale)
    now = in_size(Body(master.character, 1.0), worn.scale)
    meeting = _Meeting(over, _names(before, now, character))
    values = {name: meeting.field(name, getattr(before, name), getattr(now, name), getattr(character, name)) for name in FIELDS if name not in ("pegs", "rig_changes")}
    rig = {f.name: meeting.field(f.name, *(getattr(c.rig_changes, f.name) for c in (before, now, character))) for f in fields(RigChanges)}
    pegs = _pegs(meeting, before.pegs, now.pegs, character.pegs)
    counted = {s: max(character.counted.get(s, -1), now.counted.get(s, -1)) for s in {*character.counted, *now.counted}}
    kept = {name: value for name, value in values.items() if value is not getattr(character, name)}
    changed = replace(
        character, **kept, pegs=pegs, rig_changes=RigChanges(**rig), counted=MappingProxyType(counted), worn=_worn(master, worn.scale),
    )  # fmt: skip
    told = Followed(tuple(meeting.taken), tuple(meeting.kept))
    if not meeting.taken:
        return document.with_character(changed), told
    progress(0.3, "building joints and controls")
    if character.skeleton is not None:
        changed = rebuilt(changed)
    result = document.with_character(changed)
    if character.rig is not None:
        result = build_controls(result)
    progress(0.6, "measuring poses and clips")
    return result, replace(told, moves=moves(character, result.require_character()))


def moves(before: Character, after: Character) -> tuple[Change, ...]:
    """How far each kept pose, trial and clip goes from one state of a character to another, the farthest first."""
    if before.skeleton is None or after.skeleton is None:
        return ()
    try:
        found = changes(after, approved(before))
    except EditError:  # nothing is kept yet
        return ()
    return tuple(sorted(found, key=lambda c: -c.metres))


def _worn(master: Body, scale: float) -> Worn:
    return Worn(master.character.name, scale, **{name: getattr(master.character, name) for name in FIELDS})


def _as_character(worn: Worn) -> Character:
    return Character("body", worn.name, **{name: getattr(worn, name) for name in FIELDS})


def _same_pattern(character: Character, master: Body) -> None:
    theirs = master.character.pegs
    if character.pegs is None or theirs is None:
        raise EditError(f"{character.name} has joints and no pegs: it cannot wear a master's rig")
    if character.pegs.pattern != theirs.pattern:
        raise EditError(f"{character.name} is of the pattern {character.pegs.pattern}, the master of {theirs.pattern}; a family has one pattern")


def _pegs(meeting: _Meeting, before: PegSet | None, now: PegSet | None, ours: PegSet | None) -> PegSet | None:
    """The member's pegs, with the limb kits the master has by now; places stay the member's."""
    if before is None or now is None or ours is None or alike(before.kits, now.kits):
        return ours
    names = [{k.id for k in p.kits} for p in (before, now)]
    said = [f"limb kit {k} {word}" for word, some in (("added", names[1] - names[0]), ("removed", names[0] - names[1])) for k in sorted(some)]
    said = said or ["limb kits changed"]
    if not alike(before.kits, ours.kits) and not meeting.over and not alike(now.kits, ours.kits):
        meeting.kept += said
        return ours
    if alike(now.kits, ours.kits):
        return ours
    meeting.taken += said
    made, guessed = along(now, ours)
    if guessed:
        meeting.taken.append(f"look at {', '.join(guessed[:5])}: they were not looked for")
    return made


class _Meeting:
    """taken, kept : lines, as they come. over : the master's counts everywhere. names : of controls and joints, by id."""

    def __init__(self, over: bool, names: Mapping[str, str]) -> None:
        self.over, self.names = over, names
        self.taken: list[str] = []
        self.kept: list[str] = []

    def field(self, name: str, before: Any, now: Any, ours: Any) -> Any:
        """What a field of the member becomes."""
        if isinstance(now, Mapping):
            return self._mapping(name, before, now, ours)
        if isinstance(now, frozenset):
            gone, come = (before - now) & ours, (now - before) - ours
            self.taken += [f"{one} dropped" for one in sorted(come)] + [f"{one} taken back in" for one in sorted(gone)]
            return (ours | come) - gone if gone or come else ours
        key = _key_of(name)
        met = self._mapping(name, *({key(x): x for x in some} for some in (before, now, ours)))
        return ours if list(met) == [key(x) for x in ours] and all(met[key(x)] is x for x in ours) else tuple(met.values())

    def _mapping(self, name: str, before: Mapping[Any, Any], now: Mapping[Any, Any], ours: Mapping[Any, Any]) -> Mapping[Any, Any]:
        result, word, changed = dict(ours), WORDS.get(name, name.removeprefix("own_").removesuffix("s").replace("_", " ")), False
        for key in dict.fromkeys([*now, *before]):
            was, is_, mine = before.get(key), now.get(key), ours.get(key)
            if alike(was, is_) or alike(is_, mine):
                continue
            said = f"{word} {self._said(key, is_ if is_ is not None else was)}"
            if not alike(was, mine) and not self.over:
                self.kept.append(said)
                continue
            changed = True
            if is_ is None:
                del result[key]
                self.taken.append(f"{said}: {'as built again' if name in CHANGED else 'gone'}")
            else:
                result[key] = is_
                self.taken.append(said if was is not None or name in CHANGED else f"{said}: new")
        return MappingProxyType(result) if changed else ours

    def _said(self, key: Any, record: Any) -> str:
        name = getattr(record, "name", "") or getattr(getattr(record, "control", None), "name", "")
        if isinstance(name, str) and name:
            return name
        if isinstance(key, tuple):
            return ", ".join(self.names.get(str(k), str(k).replace("_", " ")) for k in key)
        return self.names.get(str(key), str(key))


def _key_of(name: str) -> Callable[[Any], Any]:
    if name == "own_controls":
        return lambda own: own.control.id
    if name == "card":
        return lambda place: place.control
    return lambda record: record.id


def _names(*characters: Character) -> dict[str, str]:
    """Names of controls and joints by id, of the last that has them."""
    found: dict[str, str] = {}
    for one in characters:
        found |= {j.id: j.name for j in (one.skeleton.joints if one.skeleton is not None else ())}
        found |= {c.id: c.name for c in (one.rig.controls if one.rig is not None else ())}
    return found


def alike(a: Any, b: Any) -> bool:
    """Whether two records say the same, numbers up to ALIKE of them."""
    if a is b:
        return True
    if isinstance(a, bool) or isinstance(b, bool) or a is None or b is None:
        return a is b
    if isinstance(a, (int, float)) and isinstance(b, (int, float)):
        return math.isclose(a, b, rel_tol=ALIKE, abs_tol=ALIKE)
    if isinstance(a, np.ndarray) or isinstance(b, np.ndarray):
        return np.shape(a) == np.shape(b) and bool(np.allclose(a, b, rtol=ALIKE, atol=ALIKE))
    if isinstance(a, Mapping) and isinstance(b, Mapping):
        return a.keys() == b.keys() and all(alike(a[k], b[k]) for k in a)
    if isinstance(a, (tuple, list)) and isinstance(b, (tuple, list)):
        return len(a) == len(b) and all(alike(x, y) for x, y in zip(a, b, strict=True))
    if is_dataclass(a) and type(a) is type(b):
        return all(alike(getattr(a, f.name), getattr(b, f.name)) for f in fields(a) if f.name not in ("seen", "picture"))
    return bool(a == b)


def lines_of(followed: Followed, most: int = 12) -> Iterable[str]:
    """What was taken and kept, for a person."""
    for head, some in (("from the master", followed.taken), ("changed by hand here and kept", followed.kept)):
        if some:
            yield f"{head}: {', '.join(some[:most])}{f' and {len(some) - most} more' if len(some) > most else ''}"


__all__ = ["Followed", "follow_master", "lines_of", "moves", "wear_master"]
