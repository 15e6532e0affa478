"""What can be done with layers over the clip on the strip."""

from __future__ import annotations

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CLIP, WITH_RIG
from pegloom.app.actions.posing import posed_over
from pegloom.app.areas.motion.bringing import BringSettings, led
from pegloom.app.context import Context
from pegloom.app.state.state import LayerSettings
from pegloom.core.jobs import Progress
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.layers import Layer, LayerMode
from pegloom.document import edits
from pegloom.document.model import Document


def layer_posed(c: Context) -> None:
    """What was posed over the clip becomes a layer over all of it; the keys under it stay."""
    draft, clip = c.state.posed_over, posed_over(c)
    if draft is None or clip is None:
        return
    document, _ = edits.lay_over(c.store.history.present, clip.id, draft.pose.values)
    c.store.commit(f"A layer over {clip.name}", document, posed_over=None)
    c.say(f"A layer lies over {clip.name} now; Motion lists it, and can switch it off")


def add_layer(c: Context) -> None:
    """An empty layer, in hand at once: the next keys go there."""
    clip = c.state.clip
    if clip is None:
        return
    if clip.tracks:
        _over_sampled(c, clip)
    elif c.try_edit(f"A layer over {clip.name}", lambda d: edits.add_layer(d, clip.id), lambda made: take_in_hand(c, made)):
        c.say("A layer is in hand: keys set now lie in it, and what is below stays")


def _over_sampled(c: Context, clip: Clip) -> None:
    """Sampled motion comes onto the controls first, where layers can lie over it: one step."""
    on_ik = led(c.character.require_rig(), c.state.settings.of(BringSettings).limbs)

    def edit(document: Document, progress: Progress) -> tuple[Document, str]:
        document, _ = edits.to_controls(document, clip.id, on_ik=on_ik, progress=progress)
        return edits.add_layer(document, clip.id)

    def then(made: str) -> None:
        take_in_hand(c, made)
        c.say(f"{clip.name} is on the controls now, and a layer over it is in hand; one undo brings the sampled motion back")

    c.job(f"A layer over {clip.name}", edit, title=f"Bringing {clip.name} onto the controls", then=then)


def take_in_hand(c: Context, layer: str) -> None:
    """Let keys go to a layer, or with "" to the clip itself."""
    c.store.put_setting(LayerSettings, layer=layer)


def switch_layer(c: Context, layer: str, on: bool) -> None:
    """Let a layer of the clip on the strip play, or not."""
    clip, one = _found(c, layer)
    c.try_edit(f"{one.name} {'on' if on else 'off'}", lambda d: edits.switch_layer(d, clip.id, layer, on))


def show_alone(c: Context, layer: str, alone: bool) -> None:
    """Show a layer and nothing else of the clip, or all again."""
    clip, one = _found(c, layer)
    c.try_edit(f"{one.name} alone" if alone else f"{one.name} with the rest", lambda d: edits.set_layer(d, clip.id, layer, alone=alone))


def rename_layer(c: Context, name: str) -> None:
    clip, layer = c.state.clip, c.state.layer
    if clip is not None and layer is not None and name.strip() and name.strip() != layer.name:
        c.try_edit(f"Rename {layer.name}", lambda d: edits.set_layer(d, clip.id, layer.id, name=name))


def set_mode(c: Context, mode: LayerMode) -> None:
    """How the layer in hand meets what is below."""
    clip, layer = c.state.clip, c.state.layer
    if clip is not None and layer is not None and mode is not layer.mode:
        c.try_edit(f"How {layer.name} meets what is below", lambda d: edits.set_layer_mode(d, clip.id, layer.id, mode))


def weigh(c: Context, amount: float) -> None:
    """The amount of the layer in hand: at this frame where it is keyed, else throughout."""
    clip, layer = c.state.clip, c.state.layer
    if clip is None or layer is None:
        return
    time = c.state.snapped_time if len(layer.amount.times) > 1 else None
    c.try_edit(f"{layer.name} at {amount:.0%}", lambda d: edits.weigh_layer(d, clip.id, layer.id, amount, time=time))


def try_weigh(c: Context, amount: float) -> None:
    """Show the layer in hand by an amount without a step, the middle of a drag."""
    clip, layer = c.state.clip, c.state.layer
    if clip is not None and layer is not None:
        time = c.state.snapped_time if len(layer.amount.times) > 1 else None
        c.store.draft(edits.weigh_layer(c.store.history.present, clip.id, layer.id, amount, time=time))


def key_amount(c: Context) -> None:
    """Key the amount of the layer in hand at this frame; its first key at another frame than the start keeps the start."""
    clip, layer = c.state.clip, c.state.layer
    assert clip is not None and layer is not None
    at = c.state.snapped_time
    amount = layer.amount.at(at)
    c.try_edit(f"Key the amount of {layer.name}", lambda d: edits.weigh_layer(d, clip.id, layer.id, amount, time=at))


def same_amount(c: Context) -> None:
    """One amount throughout: the one at this frame."""
    clip, layer = c.state.clip, c.state.layer
    assert clip is not None and layer is not None
    amount = layer.amount.at(c.state.clock.time)
    c.try_edit(f"{layer.name} at {amount:.0%} throughout", lambda d: edits.weigh_layer(d, clip.id, layer.id, amount))


def move_layer(c: Context, by: int) -> None:
    """Put the layer in hand higher (1) or lower (-1)."""
    clip, layer = c.state.clip, c.state.layer
    if clip is None or layer is None:
        return
    place = clip.layers.index(layer) + by
    if 0 <= place < len(clip.layers):
        c.try_edit(f"{layer.name} {'up' if by > 0 else 'down'}", lambda d: edits.order_layer(d, clip.id, layer.id, place))


def drop_layer(c: Context) -> None:
    """Take the layer in hand away."""
    clip, layer = c.state.clip, c.state.layer
    if clip is not None and layer is not None:
        c.try_edit(f"Remove {layer.name}", lambda d: edits.drop_layer(d, clip.id, layer.id))


def mix_down(c: Context) -> None:
    """The layers that play become keys of the clip itself."""
    clip = c.state.clip
    assert clip is not None
    if c.try_edit(f"Mix {clip.name} down", lambda d: edits.mix_down(d, clip.id)):
        c.say(f"{clip.name} plays as before, from its own keys; one undo brings the layers back")


def _found(c: Context, layer: str) -> tuple[Clip, Layer]:
    clip = c.state.clip
    assert clip is not None
    return clip, next(one for one in clip.layers if one.id == layer)


LAYERED = Need("layers", "No layer lies over this clip", lambda s: s.clip is not None and bool(s.clip.layers))
IN_HAND = Need("a layer in hand", "Take a layer in hand first, in the card Layers", lambda s: s.layer is not None)

ACTIONS = (
    Action("layers.add", "New layer", "Motion", "An empty layer over the clip, in hand at once", add_layer, needs=(*WITH_RIG, CLIP)),
    Action("layers.mix", "Mix layers down", "Motion", "The layers that play become keys of the clip", mix_down, needs=(*WITH_RIG, CLIP, LAYERED)),
    Action("layers.key_amount", "Key the layer's amount", "Motion", "How much of the layer in hand plays from this frame on", key_amount, needs=(*WITH_RIG, CLIP, IN_HAND)),
    Action("layers.same_amount", "The layer's amount throughout", "Motion", "The amount at this frame, at every frame", same_amount, needs=(*WITH_RIG, CLIP, IN_HAND)),
)  # fmt: skip
