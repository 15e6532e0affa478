"""An edit of pegs or joints as it looks while it is dragged."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from pegloom.document.model import Document


def drafted(document: Document, edit: Callable[[Document], Document]) -> Document:
    """The document as an edit of its pegs or joints would leave it, for looking at, not for keeping.

    Placing shows the rest: clips, weaves, trials and controls are not seen there. The edit itself carries each of them
    along, which takes long with sampled clips; here they are left as they were, and the controls out, which no longer
    fit the joints.
    """
    character = document.require_character()
    bare = replace(character, clips=(), weaves=(), trials=(), rig=None)
    result = edit(document.with_character(bare)).require_character()
    seen = replace(result, clips=character.clips, weaves=character.weaves, trials=character.trials)
    return document.with_character(seen)


def carries_much(document: Document) -> bool:
    """Whether an edit of joints has sampled clips to carry along, so that it is better done on a thread."""
    character = document.character
    return character is not None and any(clip.tracks for clip in character.clips)
