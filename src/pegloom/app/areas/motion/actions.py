"""What can be done in Motion: clips, and keys on controls."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CLIP, CONTROL_PICKED, WITH_RIG
from pegloom.app.actions.posing import keyed_at, without
from pegloom.app.areas.motion import (
    borrowing,
    bringing,
    capturing,
    clipping,
    figuring,
    gaits,
    keying,
    layering,
    shelving,
)
from pegloom.app.areas.motion.layering import layer_posed
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings
from pegloom.core.rig.refs import BOARD
from pegloom.document import edits


def new_clip(c: Context) -> None:
    name = f"clip {len(c.character.clips) + 1}"
    c.try_edit("New clip", lambda d: edits.add_clip(d, name), c.player.play_source)


def trial_clip(c: Context) -> None:
    c.try_edit("Sample clip", edits.add_trial_clip, c.player.play_source)


def write_keys(c: Context, *, everything: bool = False) -> None:
    """Key controls with the pose in the view; what was posed over the clip on them is a key then."""
    rig = c.character.require_rig()
    every = (*(control.id for control in rig.handles), *((BOARD,) if rig.board else ()))
    ids = every if everything else c.state.selection.ids
    _key(c, ids, "all controls" if everything else ", ".join(ids[:2]))


def key_posed(c: Context) -> None:
    """All that was posed over the clip becomes keys at this frame."""
    draft = c.state.posed_over
    if draft is not None:
        ids = tuple(dict.fromkeys(control for control, _ in draft.pose.values))
        _key(c, ids, "what was posed")


def _key(c: Context, ids: tuple[str, ...], what: str) -> None:
    pose, document, clip = c.frames.control_pose, c.store.history.present, c.state.clip
    if clip is None or clip.tracks:
        document, clip_id = edits.add_clip(document, f"clip {len(c.character.clips) + 1}")
        at, rate = 0.0, 30.0
    else:
        clip_id, at, rate = clip.id, c.state.snapped_time, clip.rate
    layer = c.state.layer if clip is not None and clip.id == clip_id else None
    keyed = keyed_at(document, clip_id, at, ids, pose, layer.id if layer is not None else "")
    left = without(c.store.history.draft, ids)
    where = f" in {layer.name}" if layer is not None else ""
    c.store.commit(f"Key {what} at {round(at * rate)}{where}", keyed, posed_over=left, source=clip_id, time=at)
    c.say(f"Key written at frame {round(at * rate)}{where}")


def let_go(c: Context) -> None:
    """What was posed over the clip and not keyed is let go; undo brings it back."""
    c.store.commit("Let go what was posed over the clip", c.store.history.present, posed_over=None)
    c.say("Let go; the clip plays as it is keyed")


def remove_keys(c: Context) -> None:
    clip, state = c.state.clip, c.state
    assert clip is not None
    ids = frozenset(state.selection.ids) if state.selection.kind == "control" else None
    at = state.snapped_time
    c.try_edit(f"Remove keys at {round(at * state.rate)}", lambda d: edits.remove_keys(d, clip.id, at, ids, layer="" if state.layer is None else state.layer.id))


def toggle_auto_key(c: Context) -> None:
    c.store.put_setting(HandSettings, auto_key=not c.state.hand.auto_key)


def set_time(c: Context, length: float, rate: float) -> None:
    """Another length (seconds) and rate (frames a second) of the clip on the strip."""
    clip = c.state.clip
    if clip is not None:
        c.try_edit("Clip length", lambda d: edits.set_length(d, clip.id, length=length, rate=rate))


POSED = Need("posed over", "Nothing is posed over the clip that is not a key already", lambda s: s.draft_pose is not None)

ACTIONS = (
    Action("motion.new_clip", "New clip", "Motion", "An empty clip", new_clip, needs=WITH_RIG),
    Action("motion.trial_clip", "Sample clip", "Motion", "A short motion on IK and FK", trial_clip, needs=WITH_RIG),
    Action("keys.write", "Set a key", "Motion", "Key the selected controls", write_keys, key="Shift+Space", needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("keys.write_all", "Set all keys", "Motion", "Key every control", partial(write_keys, everything=True), key="Ctrl+Shift+Space", needs=WITH_RIG),
    Action("keys.write_posed", "Set keys for what was posed", "Motion", "All that was posed over the clip, at this frame", key_posed, needs=(*WITH_RIG, POSED)),
    Action("keys.layer_posed", "Make what was posed a layer", "Motion", "Over every frame of the clip; the keys under it stay", layer_posed, needs=(*WITH_RIG, POSED)),
    Action("keys.let_go", "Let go what was posed", "Motion", "The clip plays as it is keyed; one undo brings it back", let_go, needs=(*WITH_RIG, POSED)),
    Action("keys.remove", "Remove keys", "Motion", "Keys at this frame", remove_keys, key="Shift+Del", needs=(*WITH_RIG, CLIP)),
    Action("keys.auto", "Auto-key", "Motion", "Every change of a pose sets a key", toggle_auto_key, needs=WITH_RIG, on=lambda s: s.hand.auto_key),
    *clipping.ACTIONS,
    *layering.ACTIONS,
    *bringing.ACTIONS,
    *borrowing.ACTIONS,
    *keying.ACTIONS,
    *gaits.ACTIONS,
    *shelving.ACTIONS,
    *figuring.ACTIONS,
    *capturing.ACTIONS,
)  # fmt: skip
