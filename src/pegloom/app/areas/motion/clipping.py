"""What can be done with whole clips: the one on the strip."""

from __future__ import annotations

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import CLIP
from pegloom.app.context import Context
from pegloom.document import edits


def rename_clip(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None
    name = c.ask.name("Rename the clip", clip.name)
    if name:
        c.try_edit(f"Rename {clip.name}", lambda d: edits.rename_clip(d, clip.id, name))


def copy_clip(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None
    c.try_edit(f"Copy {clip.name}", lambda d: edits.copy_clip(d, clip.id), c.player.play_source)


def drop_clip(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None
    if c.try_edit(f"Delete {clip.name}", lambda d: edits.drop_clip(d, clip.id)):
        c.player.play_source("")
        c.say(f"{clip.name} is gone; one undo brings it back")


def move_clip(c: Context, by: int) -> None:
    """Put the clip on the strip higher (-1) or lower (1) in the list."""
    clip = c.state.clip
    assert clip is not None
    place = c.character.clips.index(clip) + by
    if 0 <= place < len(c.character.clips):
        c.try_edit(f"{clip.name} {'down' if by > 0 else 'up'}", lambda d: edits.order_clip(d, clip.id, place))


def speed_clip(c: Context, factor: float) -> None:
    clip = c.state.clip
    if clip is not None and factor != 1.0:
        c.try_edit(f"{clip.name} at {factor:.0%} speed", lambda d: edits.speed_clip(d, clip.id, factor))


def trim_clip(c: Context) -> None:
    """Only the range that is played is left of the clip on the strip."""
    clip, (first, last) = c.state.clip, c.state.played
    assert clip is not None
    if last - first > clip.length - 1e-6:
        c.say("All of it is played; set a range first: From here, To here, in Time")
    elif c.try_edit(f"Trim {clip.name}", lambda d: edits.trim_clip(d, clip.id, first, last)):
        c.store.put(part=None, time=0.0)


def stay_clip(c: Context) -> None:
    clip = c.state.clip
    assert clip is not None
    c.change(f"{clip.name} in place", lambda d: edits.stay_clip(d, clip.id), slow=True, doing="taking its way out", then=c.player.play_source)


ACTIONS = (
    Action("clips.rename", "Rename the clip", "Motion", "The clip on the strip", rename_clip, needs=(CLIP,)),
    Action("clips.copy", "Duplicate the clip", "Motion", "Its keys, samples and layers", copy_clip, needs=(CLIP,)),
    Action("clips.drop", "Delete the clip", "Motion", "One undo brings it back", drop_clip, needs=(CLIP,)),
    Action("clips.up", "Clip up", "Motion", "Earlier in the list", lambda c: move_clip(c, -1), needs=(CLIP,)),
    Action("clips.down", "Clip down", "Motion", "Later in the list", lambda c: move_clip(c, 1), needs=(CLIP,)),
    Action("clips.trim", "Trim to the range", "Motion", "Only what is played is left of the clip", trim_clip, needs=(CLIP,)),
    Action("clips.in_place", "Stay in place", "Motion", "Another clip whose way over the ground is taken out", stay_clip, needs=(CLIP,)),
    Action("clips.faster", "Play the clip twice as fast", "Motion", "Keys, samples and length", lambda c: speed_clip(c, 2.0), needs=(CLIP,)),
    Action("clips.slower", "Play the clip half as fast", "Motion", "Keys, samples and length", lambda c: speed_clip(c, 0.5), needs=(CLIP,)),
)  # fmt: skip
