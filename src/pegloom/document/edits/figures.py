"""Characters beside each other: brought in, taken in hand, placed, carried by one another, played together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import quaternion_about
from pegloom.core.motion.together import LARGEST, MOST_STANDS, SMALLEST, Stance, Stand, stance_of
from pegloom.core.rig.outputs import FIGURE, ShowDrive
from pegloom.document.edits.ids import free_name
from pegloom.document.model import Character, Document
from pegloom.document.world import held_by, joints_in, world_of

MOST = 16
"""Characters of one document."""
GAP = 0.25
"""Share of the height that a figure is put beside the others."""
SAME = 1e-6
"""Seconds within which two moments are one."""


def figure_of(document: Document, character_id: str) -> Character:
    """The character of that id or name. Raises EditError for one there is not."""
    for character in document.characters:
        if character_id in (character.id, character.name):
            return character
    raise EditError(f"there is no character {character_id}; there are {', '.join(c.name for c in document.characters)}")


def with_figure(document: Document, character: Character, **changes: object) -> Document:
    """The document with some of a character's part in the world changed."""
    changed = replace(character, figure=replace(character.figure, **changes))  # type: ignore[arg-type]
    return replace(document, characters=tuple(changed if c.id == character.id else c for c in document.characters))


def take_character(document: Document, character_id: str) -> Document:
    """Another of the document's characters in hand. Raises EditError for one there is not."""
    return replace(document, active=document.characters.index(figure_of(document, character_id)))


def duplicate_character(document: Document, name: str = "") -> tuple[Document, str]:
    """The character in hand once more, with all of it, beside the others; the copy is in hand then. Gives its id."""
    character = document.require_character()
    copy = replace(character, name=name.strip() or _next_name(document, character.name), prefix="", figure=replace(character.figure, shown=True))
    document, (made,) = add_figures(document, [copy])
    # It follows and shows those of this document that the first one does.
    twin = figure_of(document, made)
    twin = replace(twin, stand_ins=character.stand_ins, rig=character.rig, rig_changes=character.rig_changes)
    return replace(document, characters=tuple(twin if c.id == made else c for c in document.characters)), made


def add_figures(document: Document, characters: Iterable[Character], *, beside: bool = True) -> tuple[Document, tuple[str, ...]]:
    """More characters, with all they have; the first of them is in hand then. Returns the document and their ids.

    beside : they are put down beside those that are there; without it they stand where they stood.

    Who of them carries whom stays so. Raises EditError where there would be too many.
    """
    some = list(characters)
    if len(document.characters) + len(some) > MOST:
        raise EditError(f"a project holds at most {MOST} characters; remove one first")
    ids, made = {c.id for c in document.characters}, list[str]()
    for _ in some:
        made.append(next(i for i in (f"character{k}" for k in range(1, MOST + len(ids) + 2)) if i not in ids))
        ids.add(made[-1])
    new_ids = {c.id: one for c, one in zip(some, made, strict=True)}
    aside = _room_beside(document, some) if beside and document.characters else 0.0
    result = list(document.characters)
    for character, made_id in zip(some, made, strict=True):
        name = free_name(character.name, (c.name for c in result))
        stands = tuple(
            replace(
                stand, carrier=new_ids.get(stand.carrier, ""), joint=stand.joint if stand.carrier in new_ids else "",
                stance=stand.stance if stand.carrier in new_ids else _moved(stand.stance, aside),
            ) for stand in character.figure.stands
        )  # fmt: skip
        follows = tuple(replace(s, character=new_ids.get(s.character, "")) for s in character.stand_ins)
        character = _shows_renamed(character, new_ids)
        result.append(replace(character, id=made_id, name=name, figure=replace(character.figure, stands=stands), stand_ins=follows))
    return replace(document, characters=tuple(result), active=len(document.characters)), tuple(made)


def drop_character(document: Document, character_id: str) -> Document:
    """Take a character out; the last one stays. What it carried stays where it was when it was taken up."""
    gone = figure_of(document, character_id)
    if len(document.characters) == 1:
        raise EditError("the last character stays")
    left = []
    for character in document.characters:
        if character is gone:
            continue
        if any(s.carrier == gone.id for s in character.figure.stands):
            stands = tuple(
                replace(s, carrier="", joint="", stance=_where(document, character, s.start)) if s.carrier == gone.id else s for s in character.figure.stands
            )
            character = replace(character, figure=replace(character.figure, stands=stands))
        left.append(character)
    active = document.require_character()
    at = next((k for k, c in enumerate(left) if c.id == active.id), min(document.active, len(left) - 1))
    return replace(document, characters=tuple(left), active=at)


def show_figure(document: Document, character_id: str, shown: bool) -> Document:
    """Whether a character is seen, filmed and exported with the others."""
    return with_figure(document, figure_of(document, character_id), shown=shown)


def rename_character(document: Document, character_id: str, name: str) -> Document:
    """Another name for a character. Raises EditError for an empty one or one that another has."""
    character, wanted = figure_of(document, character_id), name.strip()
    if not wanted:
        raise EditError("a character needs a name")
    if any(c.name == wanted and c.id != character.id for c in document.characters):
        raise EditError(f"another character is called {wanted} already")
    return replace(document, characters=tuple(replace(c, name=wanted) if c.id == character.id else c for c in document.characters))


def prefix_figure(document: Document, character_id: str, prefix: str) -> Document:
    """What goes before a character's names where several are exported; "" for one made from its name."""
    character = figure_of(document, character_id)
    changed = replace(character, prefix=prefix.strip())
    return replace(document, characters=tuple(changed if c is character else c for c in document.characters))


def place_figure(
    document: Document, character_id: str, *, at: tuple[float, float, float] | None = None, heading: float | None = None,
    scale: float | None = None, time: float = 0.0,
) -> Document:  # fmt: skip
    """Put a character somewhere in the world, for as long as the stand counts that does at a time (seconds).

    at : metres. heading : radians about the upright. scale : of its own size. What is not given stays; what was carried at
    that time is put where it is told from the joint that carries it.
    """
    character = figure_of(document, character_id)
    stance = character.figure.stands[character.figure.stand_at(time)].stance
    if at is not None:
        stance = replace(stance, at=_finite(at))
    if heading is not None:
        x, y, z, w = (float(v) for v in quaternion_about([0.0, 1.0, 0.0], float(heading)))
        stance = replace(stance, turn=(x, y, z, w))
    if scale is not None:
        if not SMALLEST <= scale <= LARGEST:
            raise EditError(f"a figure's size is a factor between {SMALLEST:g} and {LARGEST:g}")
        stance = replace(stance, scale=float(scale))
    return stand_figure(document, character_id, stance, time=time)


def stand_figure(document: Document, character_id: str, stance: Stance, *, time: float = 0.0) -> Document:
    """Put a character where a stance tells, for as long as the stand counts that does at a time (seconds)."""
    character = figure_of(document, character_id)
    number = character.figure.stand_at(time)
    stands = list(character.figure.stands)
    stands[number] = replace(stands[number], stance=stance)
    return with_figure(document, character, stands=tuple(stands))


def carry_figure(
    document: Document, character_id: str, carrier_id: str, joint: str = "", *, time: float = 0.0, stance: Stance | None = None,
) -> Document:  # fmt: skip
    """From a time on a character is carried by another one's joint ("" for the other one itself).

    stance : in that joint; where none is given it stays where it is at that time.

    Raises EditError for a joint there is not, and where the one that carries is carried by it.
    """
    character, carrier = figure_of(document, character_id), figure_of(document, carrier_id)
    if carrier.id == character.id:
        raise EditError(f"{character.name} cannot carry itself")
    if joint and (carrier.skeleton is None or joint not in carrier.skeleton.index):
        raise EditError(f"{carrier.name} has no joint {joint}")
    if character.id in _carriers(document, carrier.id):
        raise EditError(f"{carrier.name} is carried by {character.name}; neither can carry the other then")
    if stance is None:
        worlds = world_of(document, time)
        base = worlds[carrier.id] @ held_by(carrier, joint, lambda one: joints_in(one, time))
        stance = stance_of(np.linalg.inv(base) @ worlds[character.id])
    return _with_stand(document, character, Stand(time, carrier.id, joint, stance))


def set_down(document: Document, character_id: str, *, time: float = 0.0) -> Document:
    """From a time on a character stands in the world, where it is then."""
    character = figure_of(document, character_id)
    return _with_stand(document, character, Stand(time, "", "", _where(document, character, time)))


def drop_stand(document: Document, character_id: str, number: int) -> Document:
    """Forget one of the moments at which a character is handed on; the one before it goes on. The first one stays."""
    character = figure_of(document, character_id)
    stands = character.figure.stands
    if not 0 < number < len(stands):
        raise EditError("what it begins with stays; place it elsewhere instead")
    return with_figure(document, character, stands=(*stands[:number], *stands[number + 1 :]))


def time_stand(document: Document, character_id: str, number: int, time: float) -> Document:
    """Another moment (seconds) at which a character is handed on; between those before and after it."""
    character = figure_of(document, character_id)
    stands = list(character.figure.stands)
    if not 0 < number < len(stands):
        raise EditError("what it begins with counts from the beginning")
    low = stands[number - 1].start + SAME if number > 1 else SAME
    high = stands[number + 1].start - SAME if number + 1 < len(stands) else np.inf
    stands[number] = replace(stands[number], start=float(min(max(time, low), high)))
    return with_figure(document, character, stands=tuple(stands))


def play_figure(document: Document, character_id: str, clip_id: str, *, start: float = 0.0, loops: bool = False) -> Document:
    """What a character plays beside the others, from which common time on (seconds). "" for its pose."""
    character = figure_of(document, character_id)
    if clip_id:
        character.clip(clip_id)
    if not np.isfinite(start):
        raise EditError("a clip begins at some second")
    return with_figure(document, character, clip=clip_id, start=float(start), loops=loops)


def _with_stand(document: Document, character: Character, stand: Stand) -> Document:
    stands = list(character.figure.stands)
    if stand.start <= SAME:
        # From the beginning on: it is what the first one tells.
        later = [s for s in stands[1:] if s.start > SAME]
        return with_figure(document, character, stands=(replace(stand, start=0.0), *later))
    kept = [s for k, s in enumerate(stands) if k == 0 or abs(s.start - stand.start) > SAME]
    if len(kept) >= MOST_STANDS:
        raise EditError(f"a figure is handed on {MOST_STANDS} times at most")
    return with_figure(document, character, stands=tuple(sorted([*kept, stand], key=lambda s: s.start)))


def _carriers(document: Document, character_id: str) -> set[str]:
    """All that a character is ever carried by, and what those are."""
    by_id = {c.id: c for c in document.characters}
    found, ask = set[str](), [character_id]
    while ask:
        one = by_id.get(ask.pop())
        for stand in one.figure.stands if one is not None else ():
            if stand.carrier and stand.carrier not in found:
                found.add(stand.carrier)
                ask.append(stand.carrier)
    return found


def _where(document: Document, character: Character, time: float) -> Stance:
    return stance_of(world_of(document, time)[character.id])


def _shows_renamed(character: Character, new_ids: Mapping[str, str]) -> Character:
    """Channels that show other characters, which are called by other ids now; those that stay behind are waited for."""

    def renamed(shows: tuple[ShowDrive, ...]) -> tuple[ShowDrive, ...]:
        return tuple(replace(s, thing=FIGURE + new_ids.get(s.thing.removeprefix(FIGURE), "")) if s.thing.startswith(FIGURE) else s for s in shows)

    if not any(s.thing.startswith(FIGURE) for s in character.rig_changes.own_shows):
        return character
    rig = character.rig if character.rig is None else replace(character.rig, shows=renamed(character.rig.shows))
    return replace(character, rig=rig, rig_changes=replace(character.rig_changes, own_shows=renamed(character.rig_changes.own_shows)))


def _moved(stance: Stance, aside: float) -> Stance:
    x, y, z = stance.at
    return replace(stance, at=(x + aside, y, z))


def _extent(character: Character, matrix: FloatArray) -> tuple[float, float]:
    points = character.skeleton.positions if character.bare and character.skeleton is not None else character.all_points()
    x = points @ matrix[0, :3] + matrix[0, 3] if len(points) else np.zeros(1)
    return float(x.min()), float(x.max())


def _room_beside(document: Document, some: list[Character]) -> float:
    """Metres along X by which new figures are moved to stand beside those that are there."""
    worlds = world_of(document, 0.0)
    right = max(_extent(c, worlds[c.id])[1] for c in document.characters)
    left = min(_extent(c, c.figure.stands[0].stance.matrix)[0] for c in some)
    tall = max(c.height for c in (*document.characters, *some))
    return right - left + GAP * tall


def _next_name(document: Document, name: str) -> str:
    return free_name(name, (c.name for c in document.characters))


def _finite(at: tuple[float, float, float]) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in at)
    if not np.isfinite([x, y, z]).all():
        raise EditError("a place is three numbers")
    return x, y, z

