"""Motion borrowed from other bodies: sources, pairings, and the clips that follow them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.memo import of_the_latest
from pegloom.core.motion.borrowed import Borrowed, CarryOptions, Measured
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.onto_controls import Brought, onto_controls
from pegloom.core.motion.retarget import (
    Carried,
    ChainPair,
    Flesh,
    Pairing,
    Sole,
    Source,
    Stood,
    flesh_of,
    moments_of,
    pair,
    retarget,
    said,
    sign_of,
    soles_of,
    stood,
)
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.core.skin.weights import Weights
from pegloom.document.edits.ids import free_name, fresh_ids
from pegloom.document.edits.made import changed_by_hand, mark_of
from pegloom.document.edits.motion import with_clip
from pegloom.document.model import Character, Document, Skin


@dataclass(frozen=True, eq=False)
class Lent:
    """What came of one source: the clip's id, what was measured on joints, and how near the controls come, where asked."""

    clip: str
    carried: Carried
    brought: Brought | None = None


def add_sources(document: Document, sources: Sequence[Source]) -> tuple[Document, tuple[str, ...]]:
    """Take motion of other bodies into the document. Returns it and the sources' ids. Raises EditError for one that moves nothing."""
    character = document.require_character()
    character, ids = fresh_ids(character, "source", (s.id for s in character.sources), len(sources))
    taken = {s.name for s in character.sources}
    made = []
    for one, new in zip(sources, ids, strict=True):
        name = free_name(one.name, taken)
        taken.add(name)
        made.append(replace(one, id=new, name=name))
        # Read once here, so that the reading is known wherever this very source is looked at.
        stood(made[-1])
    return document.with_character(replace(character, sources=(*character.sources, *made))), tuple(ids)


def drop_source(document: Document, source_id: str) -> Document:
    """Take a source away; clips that were made from it stay, and follow nothing from then on."""
    character = document.require_character()
    gone = source_of(character, source_id)
    clips = tuple(replace(c, borrowed=None) if c.borrowed is not None and c.borrowed.source == gone.id else c for c in character.clips)
    return document.with_character(replace(character, sources=tuple(s for s in character.sources if s is not gone), clips=clips))


def pair_source(document: Document, source_id: str, *, known: Iterable[Pairing] = ()) -> tuple[Document, str]:
    """The pairing of a source's skeleton with the character's: one the document has, one that is known from elsewhere, else found.

    Returns the document and the pairing's id.
    """
    character = document.require_character()
    source, skeleton = source_of(character, source_id), character.require_skeleton()
    kept = known_pairing(character, source)
    if kept is not None:
        return document, kept.id
    theirs, ours = sign_of(source.skeleton), sign_of(skeleton)
    found = next((one for one in known if (one.source, one.target) == (theirs, ours)), None)
    if found is None:
        found = pair(stood(source).skeleton, skeleton, own=source.skeleton, name=source.origin or source.name)
    return add_pairing(document, found)


def known_pairing(character: Character, source: Source) -> Pairing | None:
    """The pairing the document has of a source's skeleton with the character's."""
    signs = sign_of(source.skeleton), sign_of(character.require_skeleton())
    return next((one for one in character.pairings if (one.source, one.target) == signs), None)


def pair_anew(document: Document, source_id: str, *, progress: Progress = silent) -> tuple[Document, tuple[Lent, ...]]:
    """Find the pairing of a source again, whatever was said of it; clips follow."""
    character = document.require_character()
    source = source_of(character, source_id)
    found = pair(stood(source).skeleton, character.require_skeleton(), own=source.skeleton, name=source.origin or source.name)
    return use_pairing(document, found, progress=progress)


def use_pairing(document: Document, pairing: Pairing, *, progress: Progress = silent) -> tuple[Document, tuple[Lent, ...]]:
    """Another pairing in the place of the one of the same two skeletons, or beside the others; clips follow."""
    character = document.require_character()
    same = next((p for p in character.pairings if (p.source, p.target) == (pairing.source, pairing.target)), None)
    if same is None:
        return add_pairing(document, pairing)[0], ()
    return mend(document, same.id, lambda p: replace(pairing, id=p.id), progress=progress)


def add_pairing(document: Document, pairing: Pairing) -> tuple[Document, str]:
    """Keep a pairing; of the same two skeletons the new one stands. Returns the document and its id."""
    character = document.require_character()
    same = next((p for p in character.pairings if (p.source, p.target) == (pairing.source, pairing.target)), None)
    if same is not None:
        kept = tuple(replace(pairing, id=same.id) if p is same else p for p in character.pairings)
        return document.with_character(replace(character, pairings=kept)), same.id
    character, (made,) = fresh_ids(character, "pairing", (p.id for p in character.pairings))
    return document.with_character(replace(character, pairings=(*character.pairings, replace(pairing, id=made)))), made


def borrow(
    document: Document, source_id: str, *, options: CarryOptions | None = None, controls: bool = False, on_ik: tuple[str, ...] | None = None,
    progress: Progress = silent,
) -> tuple[Document, Lent]:  # fmt: skip
    """Make a clip of a source's motion on this character, onto joints or onto controls. Returns the document and what came of it.

    Raises EditError where there is no skeleton, nothing is paired, the range is empty; for controls, where there are none.
    """
    document, pairing_id = pair_source(document, source_id)
    character = document.require_character()
    source = source_of(character, source_id)
    name = free_name(source.name, (clip.name for clip in character.clips))
    character, (clip_id,) = fresh_ids(character, "clip", (c.id for c in character.clips), first=0)
    link = Borrowed(source_id, pairing_id, options or CarryOptions(), controls, on_ik)
    clip = Clip(clip_id, name, source.clip.rate, borrowed=link)
    document = document.with_character(replace(character, clips=(*character.clips, clip)))
    return _told(document, clip, progress)


def borrow_again(document: Document, clip_id: str, *, options: CarryOptions | None = None, progress: Progress = silent) -> tuple[Document, Lent]:
    """Tell a borrowed clip anew, with other options where given; its layers stay. Raises EditError for a clip that is not borrowed."""
    clip = document.require_character().clip(clip_id)
    if clip.borrowed is None:
        raise EditError(f"{clip.name} was not borrowed from a source")
    return _told(document, replace(clip, borrowed=replace(clip.borrowed, options=options or clip.borrowed.options)), progress)


def _told(document: Document, clip: Clip, progress: Progress) -> tuple[Document, Lent]:
    character = document.require_character()
    link = clip.borrowed
    assert link is not None
    source, pairing = source_of(character, link.source), pairing_of(character, link.pairing)
    rig = character.rig
    if link.controls:
        rig = character.require_rig()
    share = 0.6 if link.controls else 1.0
    done = retarget(
        source, character.require_skeleton(), pairing, options=link.options, soles=soles_here(character), flesh=flesh_here(character),
        limits=rig.limits if rig is not None else (), progress=part_of(progress, 0.0, share),
    )  # fmt: skip
    told = replace(clip, rate=done.clip.rate, length=done.clip.length, tracks=done.clip.tracks, curves={}, morphs=())
    brought = None
    if link.controls:
        assert rig is not None
        plain = replace(told, layers=())
        brought = onto_controls(plain, character.require_skeleton(), rig, on_ik=link.on_ik, part_ids={}, progress=part_of(progress, share, 1.0))
        told = replace(brought.clip, layers=clip.layers)
    told = replace(told, borrowed=replace(link, mark=mark_of(told), measured=_measured(done, float(moments_of(source.clip)[0]), link.options)))
    return with_clip(document, told), Lent(told.id, done, brought)


def _measured(done: Carried, start: float, options: CarryOptions) -> Measured:
    figures = done.figures

    def mean(kind: str) -> float:
        some = [v for part, v in figures.direction_deg.items() if part.startswith(kind)]
        return sum(some) / len(some) if some else 0.0

    worst = figures.worst
    first = max(options.first, start) if options.first is not None else start
    return Measured(
        done.scale, figures.slide_mm, figures.floor_mm, figures.limit_deg, mean("arm"), mean("leg"),
        0.0 if worst is None else max(worst.time - first, 0.0), "" if worst is None else worst.part, "" if worst is None else worst.what,
    )  # fmt: skip


def soles_here(character: Character) -> dict[str, Sole]:
    """What of the bound skin can touch the floor, by part."""
    if character.skin is None:
        return {}
    return dict(_soles(character.require_skeleton(), *(piece for bound in _bound(character, character.skin) for piece in bound)))


@of_the_latest(4)
def _soles(skeleton: Skeleton, *pieces: Mesh | Weights) -> dict[str, Sole]:
    return soles_of(skeleton, [(mesh.points, weights) for mesh, weights in zip(pieces[::2], pieces[1::2], strict=True)])  # type: ignore[union-attr,misc]


def _bound(character: Character, skin: Skin) -> list[tuple[Mesh, Weights]]:
    return [(part.mesh, skin.weights[part.id]) for part in character.at_level(0) if part.id in skin.weights]


def flesh_here(character: Character) -> dict[str, Flesh]:
    """The bound skin about the bones that hands may touch."""
    if character.skin is None:
        return {}
    return flesh_of(character.require_skeleton(), [(mesh.points, weights) for mesh, weights in _bound(character, character.skin)])


def say_pair(document: Document, pairing_id: str, part: str, joints: tuple[str, ...], *, both_sides: bool = True, progress: Progress = silent) -> tuple[Document, tuple[Lent, ...]]:
    """Say which joints of a source stand for a part: one fills in those below it, none leaves the part out. Clips follow.

    Raises EditError with the reason where it cannot be.
    """
    character = document.require_character()
    pairing = pairing_of(character, pairing_id)
    theirs = stood_of(character, pairing)
    return mend(document, pairing_id, lambda p: said(p, part, joints, theirs.skeleton, character.require_skeleton(), both_sides=both_sides), progress=progress)


def set_chain(
    document: Document, pairing_id: str, part: str, *, amount: float | None = None, turn: Vector | None = None, reach: float | None = None,
    planted: bool | None = None, progress: Progress = silent,
) -> tuple[Document, tuple[Lent, ...]]:  # fmt: skip
    """Correct how one chain takes its motion over: amount about its mean, turn (degrees), reach, whether contacts hold it.

    Raises EditError for a part that is not there, or values that make no sense.
    """
    if amount is not None and not 0.0 <= amount <= 3.0:
        raise EditError("an amount lies between 0 and 3")
    if reach is not None and not 0.3 <= reach <= 1.5:
        raise EditError("a reach lies between 0.3 and 1.5")
    if turn is not None and not all(-180.0 <= v <= 180.0 for v in turn):
        raise EditError("a turn lies between -180 and 180 degrees")
    given = {"amount": amount, "turn": turn, "reach": reach, "planted": planted}

    def change(pairing: Pairing) -> Pairing:
        return pairing.with_chain(replace(chain_of(pairing, part), **{k: v for k, v in given.items() if v is not None}))  # type: ignore[arg-type]

    return mend(document, pairing_id, change, progress=progress)


def set_source_rest(document: Document, pairing_id: str, seconds: float | None, *, progress: Progress = silent) -> tuple[Document, tuple[Lent, ...]]:
    """Read the source's rest from a moment of its clip, or None as it is found. The chains stay."""
    return mend(document, pairing_id, lambda p: replace(p, rest=seconds), progress=progress)


def mend(
    document: Document, pairing_id: str, change: Callable[[Pairing], Pairing], *, progress: Progress = silent
) -> tuple[Document, tuple[Lent, ...]]:
    """Change a pairing; clips that follow it are told anew but for those changed by hand. Returns what came of each."""
    character = document.require_character()
    pairing = pairing_of(character, pairing_id)
    changed = change(pairing)
    if changed == pairing:
        return document, ()
    kept = tuple(changed if p is pairing else p for p in character.pairings)
    document = document.with_character(replace(character, pairings=kept))
    following = [c for c in character.clips if c.borrowed is not None and c.borrowed.pairing == pairing_id and not changed_by_hand(c)]
    results = []
    for k, clip in enumerate(following):
        document, lent = _told(document, clip, part_of(progress, k / len(following), (k + 1) / len(following)))
        results.append(lent)
    return document, tuple(results)


def source_of(character: Character, source_id: str) -> Source:
    """The source of that id. Raises EditError for an unknown one."""
    for one in character.sources:
        if one.id == source_id:
            return one
    raise EditError(f"there is no source {source_id}")


def pairing_of(character: Character, pairing_id: str) -> Pairing:
    """The pairing of that id. Raises EditError for an unknown one."""
    for one in character.pairings:
        if one.id == pairing_id:
            return one
    raise EditError(f"there is no pairing {pairing_id}")


def chain_of(pairing: Pairing, part: str) -> ChainPair:
    """The chain of a part. Raises EditError where there is none."""
    found = pairing.of(part)
    if found is None:
        raise EditError(f"this pairing has no part {part}")
    return found


def stood_of(character: Character, pairing: Pairing) -> Stood:
    """A source of a pairing's skeleton, stood up. Raises EditError where none is left."""
    for one in character.sources:
        if sign_of(one.skeleton) == pairing.source:
            return stood(one, pairing.rest)
    raise EditError("no source of this pairing is left; bring its motion in again")
