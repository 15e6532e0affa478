"""A new rest: points settled as posed, everything else told anew from it."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_JOINTS
from pegloom.app.context import Context, Edit
from pegloom.core.motion.clips import sample
from pegloom.document import edits


def rest(kind: str, c: Context) -> None:
    pose = c.frames.pose if kind == "pose" and not c.state.at_rest else c.character.pose
    edit: Edit = {"t": edits.rest_in_t, "a": edits.rest_in_a, "pose": lambda d: edits.set_rest(d, pose)}[kind]
    word = {"t": "T-pose", "a": "A-pose", "pose": "This pose"}[kind]
    said = f"{word} is the rest pose now: points settled; weights, controls and clips kept"
    _settle(c, f"{word} as rest pose", edit, said)


def first_frame(c: Context) -> None:
    """The first frame of the clip on the strip, or of the first one, becomes the rest."""
    character = c.character
    clip = c.state.clip or (character.clips[0] if character.clips else None)
    if clip is None:
        c.say("There is no clip whose first frame could be the rest", error=True)
        return
    pose = sample(clip, 0.0, character.skeleton, None, character.rig)
    _settle(
        c, f"First frame of {clip.name} as rest pose", lambda d: edits.set_rest(d, pose),
        f"The first frame of {clip.name} is the rest pose now; clips show the same motion",
    )  # fmt: skip


def _settle(c: Context, name: str, edit: Edit, said: str) -> None:
    """A new rest, as a job: points, joints, controls and every key of every clip are told anew."""
    doing = "points, joints, controls and clips go along"
    c.change(name, edit, slow=True, doing=doing, then=lambda _: c.say(said))


ACTIONS = (
    Action("rest.t", "T-pose as rest pose", "Joints", "Arms straight out, settled", partial(rest, "t"), needs=WITH_JOINTS),
    Action("rest.a", "A-pose as rest pose", "Joints", "Arms 45 degrees down, settled", partial(rest, "a"), needs=WITH_JOINTS),
    Action("rest.first", "The clip's first frame as rest pose", "Joints", "Instead of the bind the file stored", first_frame, needs=WITH_JOINTS),
    Action("rest.pose", "Current pose as rest pose", "Joints", "Points settled as posed", partial(rest, "pose"), needs=WITH_JOINTS),
)  # fmt: skip
