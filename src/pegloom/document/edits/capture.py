"""Takes of a live performance: each a source of the character, and a clip carried over from it."""

from __future__ import annotations

from dataclasses import replace

from pegloom.core.jobs import Progress, silent
from pegloom.core.motion.borrowed import CarryOptions
from pegloom.core.motion.origin import ClipOrigin
from pegloom.core.motion.retarget import Source
from pegloom.document.edits.borrow import Lent, add_sources, borrow, drop_source
from pegloom.document.edits.clips import drop_clip
from pegloom.document.edits.ids import free_name
from pegloom.document.edits.motion import with_clip
from pegloom.document.model import Document

CAPTURED = ClipOrigin("captured")


def keep_take(
    document: Document, source: Source, *, options: CarryOptions | None = None, controls: bool = False, on_ik: tuple[str, ...] | None = None,
    instead: str = "", progress: Progress = silent,
) -> tuple[Document, Lent]:  # fmt: skip
    """A take becomes a source, and a clip of the character that says where it comes from.

    instead : id of a clip that an earlier making of this take came to; it goes, with its source, and leaves its name.

    Raises EditError where nothing of the performer goes with this body.
    """
    name = source.name
    before = next((c for c in document.require_character().clips if c.id == instead), None)
    if before is not None:
        name = before.name
        document = drop_clip(document, before.id)
        if before.borrowed is not None and any(s.id == before.borrowed.source for s in document.require_character().sources):
            document = drop_source(document, before.borrowed.source)
    taken = {c.name for c in document.require_character().clips} | {s.name for s in document.require_character().sources}
    document, (source_id,) = add_sources(document, [replace(source, name=free_name(name, taken), origin="capture desk")])
    document, lent = borrow(document, source_id, options=options, controls=controls, on_ik=on_ik, progress=progress)
    clip = document.require_character().clip(lent.clip)
    return with_clip(document, replace(clip, origin=CAPTURED)), lent
