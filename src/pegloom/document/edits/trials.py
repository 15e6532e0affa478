"""Trials of the user's own: poses kept to look at the weights in, and motion brought in as a trial."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.pose import Shown
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.model import Document, Image, KeptPose


def keep_trial(document: Document, name: str, pose: Shown, picture: Image | None = None) -> tuple[Document, str]:
    """Keep a pose as a trial. Returns the document and the trial's id. Raises EditError for a taken or empty name."""
    character = document.require_character()
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    wanted = name.strip()
    if not wanted or any(t.name == wanted for t in character.trials):
        raise EditError("give the trial a name that is not taken yet")
    character, (trial_id,) = fresh_ids(character, "kept", (t.id for t in character.trials))
    result = KeptPose(trial_id, wanted, pose, picture)
    return document.with_character(replace(character, trials=(*character.trials, result))), result.id


def drop_trial(document: Document, trial_id: str) -> Document:
    """Forget a kept trial. Raises EditError for an unknown one."""
    character = document.require_character()
    if all(t.id != trial_id for t in character.trials):
        raise EditError(f"there is no trial {trial_id}")
    return document.with_character(replace(character, trials=tuple(t for t in character.trials if t.id != trial_id)))


def bring_motion(document: Document, clips: Sequence[Clip]) -> tuple[Document, tuple[str, ...]]:
    """Clips of the same skeleton added to the character's. Returns the document and their ids."""
    character = document.require_character()
    if not clips:
        raise EditError("the file holds no motion of these joints")
    taken = {c.id for c in character.clips}
    result = []
    for clip in clips:
        clip_id, number = clip.id, 2
        while clip_id in taken:
            clip_id, number = f"{clip.id}.{number}", number + 1
        taken.add(clip_id)
        result.append(replace(clip, id=clip_id))
    document = document.with_character(replace(character, clips=(*character.clips, *result)))
    return document, tuple(c.id for c in result)
