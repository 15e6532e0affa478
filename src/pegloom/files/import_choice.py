"""What of a file comes in: chosen before it stands in a document."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pegloom.core.errors import EditError
from pegloom.files.imported import Imported


@dataclass(frozen=True, slots=True)
class ImportChoice:
    """What to take.

    parts : ids, None for all.
    rest_from_clip : the first frame of the first clip becomes the rest, instead of the bind the file stored.
    """

    parts: frozenset[str] | None = None
    skeleton: bool = True
    weights: bool = True
    morphs: bool = True
    clips: bool = True
    looks: bool = True
    rest_from_clip: bool = False


def worth_asking(imported: Imported) -> bool:
    """Whether a file brings more than a mesh, so that there is something to choose."""
    return imported.skeleton is not None or bool(imported.clips) or any(p.morphs for p in imported.parts)


def taken(imported: Imported, take: ImportChoice) -> Imported:
    """Only what was chosen. Weights and clips need the skeleton and go with it.

    Raises EditError when no part is left.
    """
    parts = tuple(p for p in imported.parts if take.parts is None or p.id in take.parts)
    if not parts:
        raise EditError("choose a part at least; there is nothing to bring in")
    if not take.morphs:
        parts = tuple(replace(p, morphs=()) for p in parts)
    kept = {p.id for p in parts}
    left = [p.name for p in imported.parts if p.id not in kept]
    notes = list(imported.notes)
    if left:
        notes.append(f"left out: {', '.join(left[:6])}")
    for name, wanted, present in (
        ("skeleton", take.skeleton, imported.skeleton is not None),
        ("weights", take.weights, bool(imported.weights)),
        ("morph targets", take.morphs, any(p.morphs for p in imported.parts)),
        ("clips", take.clips, bool(imported.clips)),
        ("materials and pictures", take.looks, bool(imported.materials)),
    ):
        if present and not wanted:
            notes.append(f"left out: {name}")
    weights = {k: w for k, w in (imported.weights or {}).items() if k in kept}
    return replace(
        imported,
        parts=parts,
        materials=imported.materials if take.looks else (),
        images=imported.images if take.looks else (),
        skeleton=imported.skeleton if take.skeleton else None,
        weights=weights if take.skeleton and take.weights else None,
        clips=imported.clips if take.skeleton and take.clips else (),
        notes=tuple(notes),
    )
