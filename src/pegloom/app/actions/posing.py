"""Posing: a pose becomes the document's; over a clip it stays a draft until it is set as a key or let go."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np

from pegloom.app.context import Context
from pegloom.app.state.frames import pose_at
from pegloom.app.state.state import SCENE, with_values
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.use import controls_of
from pegloom.document import edits
from pegloom.document.history import Draft
from pegloom.document.model import Document
from pegloom.document.world import clip_of


def posed_over(c: Context) -> Clip | None:
    """The clip on controls that is looked at; None where the document's own pose is."""
    state = c.state
    clip = state.clip
    return clip if clip is not None and not clip.tracks and not state.at_rest else None


def to_own_clip(c: Context) -> None:
    """Where all figures play, the one in hand is posed in its own clip, at the same moment."""
    state, character = c.state, c.state.character
    if state.clock.source != SCENE or character is None:
        return
    clip = clip_of(character)
    if clip is not None:
        c.player.play_source(clip.id, character.figure.own_time(state.clock.time, clip.length))


def show_pose(c: Context, pose: Pose, touched: Iterable[str]) -> None:
    """Show a pose without a step, the middle of a drag. touched: the controls that are dragged."""
    to_own_clip(c)
    clip = posed_over(c)
    if clip is not None:
        c.store.put(posed_over=_drafted(c, pose, clip.id, touched))
        return
    character = c.character
    if c.state.clock.source:
        c.player.play_source("")
    c.store.draft(c.state.document.with_character(replace(character, pose=pose)))


def commit_pose(c: Context, name: str, pose: Pose, touched: Iterable[str]) -> None:
    """A pose as a step: of the document, or over a clip as a draft; with auto-key on as a key at once.

    touched : the controls it may have moved; over a clip that plays on, the others stand elsewhere by now.
    """
    to_own_clip(c)
    touched = tuple(touched)
    clip, stored = posed_over(c), c.store.history.present
    if clip is None:
        more = {"source": "", "time": 0.0} if c.state.clock.source and not c.state.at_rest else {}
        c.store.commit(name, edits.set_pose(stored, pose), **more)
        return
    draft = _drafted(c, pose, clip.id, touched)
    if c.state.hand.auto_key:
        try:
            keyed = keyed_at(stored, clip.id, c.state.snapped_time, touched, pose, c.state.layer.id if c.state.layer is not None else "")
        except EditError as error:
            # The pose is not lost: it waits over the clip, and the bar says what may become of it.
            c.store.commit(f"{name}, not keyed yet", stored, posed_over=draft)
            c.say(str(error), error=True)
            return
        c.store.commit(f"{name} and key", keyed, posed_over=without(draft, touched))
        return
    c.store.commit(f"{name}, not keyed yet", stored, posed_over=draft)


def pose_edit(c: Context, name: str, edit: Callable[[Document], Document], touched: Iterable[str] | None = None) -> None:
    """An edit of the pose in the view."""
    changed = edit(edits.set_pose(c.store.history.present, c.frames.control_pose)).require_character()
    rig = changed.rig
    some = tuple(control.id for control in rig.controls) if touched is None and rig is not None else tuple(touched or ())
    commit_pose(c, name, edits.posed(changed), some)


def blend_limb(c: Context, name: str, limb: str, value: float) -> None:
    """Slide one limb between FK (0) and IK (1), matched."""
    to_own_clip(c)
    clip = posed_over(c)
    if clip is not None and value in (0.0, 1.0):
        time = c.state.snapped_time
        c.try_edit(f"{name} at a key", lambda d: edits.switch_limb_at(d, limb, value, clip.id, time, layer=layer_in_hand(c)))
        return
    before = c.frames.reached()
    pose_edit(c, name, lambda d: edits.switch_limb(d, limb, value))
    after = c.frames.reached()
    gap = float(np.linalg.norm(after - before, axis=1).max(initial=0.0)) if before.shape == after.shape else 0.0
    if value in (0.0, 1.0) and gap > 1e-4 * c.character.height:
        c.say(f"{name}: this pose cannot be matched wholly; joints moved by up to {1000 * gap:.1f} mm")


def preview_blend(c: Context, limb: str, value: float) -> None:
    """Show a limb between FK and IK while its slider is dragged; always from the pose as it is kept."""
    state = c.state
    if state.clock.source:
        # Over a clip the kept pose is another one: there it is shown on release.
        return
    document = edits.switch_limb(c.store.history.present, limb, value)
    show_pose(c, edits.posed(document.require_character()), controls_of(c.character.require_rig().solver(limb)))


def follow(c: Context, control: str, space: str) -> None:
    """Let a control follow another of its spaces; over a clip at the present frame, with the keys it needs."""
    to_own_clip(c)
    name = c.character.require_rig().control(control).name
    clip = posed_over(c)
    if clip is not None:
        time = c.state.snapped_time
        c.try_edit(f"{name} follows {space or 'its parent'}", lambda d: edits.switch_space_at(d, control, space, clip.id, time, layer=layer_in_hand(c)))
        return
    pose_edit(c, f"{name} follows {space or 'its parent'}", lambda d: edits.switch_space(d, control, space), (control,))


def layer_in_hand(c: Context) -> str:
    """Id of the layer keys go to; "" for the clip itself."""
    return "" if c.state.layer is None else c.state.layer.id


def keyed_at(document: Document, clip_id: str, time: float, controls: tuple[str, ...], pose: Pose, layer: str = "") -> Document:
    """Keys on controls at a time with a pose's values, of the clip or of a layer over it; the document's own pose stays."""
    if layer:
        return edits.key_layer(document, clip_id, layer, time, controls, pose)
    own = document.require_character().pose
    return edits.set_pose(edits.key_controls(edits.set_pose(document, pose), clip_id, time, controls), own)


def without(draft: Draft | None, controls: Iterable[str]) -> Draft | None:
    """What is left of a draft once some controls are keyed; None for nothing."""
    gone = frozenset(controls)
    if draft is None:
        return None
    left = {ref: value for ref, value in draft.pose.values.items() if ref[0] not in gone}
    return Draft(draft.clip, Pose(left)) if left else None


def _drafted(c: Context, pose: Pose, clip: str, touched: Iterable[str]) -> Draft:
    """The draft that shows a pose over the clip: what of the touched controls differs from the clip and the draft as
    stored."""
    rig = c.character.rig
    assert rig is not None
    stored = c.store.history.draft
    stored = stored if stored is not None and stored.clip == clip else None
    before = pose_at(with_values(c.state, posed_over=stored), c.state.clock.time)
    assert isinstance(before, Pose)
    return Draft(clip, Pose({**(stored.pose.values if stored is not None else {}), **_apart(rig, pose, before, frozenset(touched))}))


def _apart(rig: ControlRig, pose: Pose, before: Pose, touched: frozenset[str]) -> dict[tuple[str, str], float]:
    known = (ref for ref in {**pose.values, **before.values} if ref in rig.slots.index and ref[0] in touched)
    refs = [ChannelRef(*ref) for ref in known]
    return {ref: rig.value(pose, ref) for ref in refs if rig.value(pose, ref) != rig.value(before, ref)}
