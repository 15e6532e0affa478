"""Which curves are shown over the strip's time: keyed ones, and faint those that are driven or sampled."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pegloom.app.areas.motion.keying import (
    Ref,
    curves_in_hand,
    shown_refs,
)
from pegloom.app.state.state import State
from pegloom.core.arrays import FloatArray
from pegloom.core.curves import Curve
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip, values_at
from pegloom.core.motion.retell import posed_at
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import driven
from pegloom.core.rig.match import values_of_joints
from pegloom.core.rig.refs import BOARD, ChannelRef
from pegloom.core.skeleton.joints import Skeleton

COLOURS = ("#E4574F", "#6BBF59", "#5B8DEF", "#E5A04A", "#B793E0", "#43B7A6", "#D9D36A", "#E58BB0")
SUFFIX = {Quantity.ANGLE: "°", Quantity.LENGTH: " cm"}
FAINT = 160
"""Moments a faint curve is drawn from."""


class Line(NamedTuple):
    """One curve that is shown. unit : what one of the screen's is inside, as a factor. faint : whose keys are not here; why."""

    ref: Ref
    title: str
    colour: str
    unit: float
    suffix: str
    curve: Curve | None
    faint: str = ""
    times: FloatArray | None = None
    values: FloatArray | None = None


@by_identity
def _sampled(clip: Clip, skeleton: Skeleton, rig: ControlRig) -> tuple[FloatArray, FloatArray]:
    """What every channel comes to at moments: driven ones as they are driven, sampled ones worked back from the joints."""
    times = np.linspace(0.0, clip.length, FAINT)
    if clip.tracks:
        return times, values_of_joints(skeleton, rig, posed_at(clip, skeleton, times))
    return times, driven(skeleton, rig, values_at(clip, times, rig))


def lines_of(state: State) -> list[Line]:
    """The curves to show: keyed channels, then faint ones of the picked controls that move without keys here."""
    character, clip = state.character, state.clip
    if character is None or clip is None:
        return []
    rig, skeleton = character.rig, character.skeleton
    curves = curves_in_hand(state)
    refs = shown_refs(state)
    controls = {ref[0] for ref in refs} | (set(state.selection.ids) if state.selection.kind == "control" else set())
    found: list[Line] = []
    for ref in refs:
        found.append(_line(ref, rig, len(found), curves[ref], several=len(controls) > 1))
    if rig is None or skeleton is None or not controls:
        return found
    times, values = _sampled(clip, skeleton, rig)
    for ref, slot in rig.slots.index.items():
        if ref[0] not in controls:
            continue
        keyed = ref in curves
        if keyed and state.layer is None and not rig.drivers.get(ChannelRef(*ref)):
            continue
        row = values[:, slot]
        if np.ptp(row) < 1e-6:
            continue
        why = "driven" if rig.drivers.get(ChannelRef(*ref)) else "sampled" if clip.tracks else "with all layers" if keyed else "of the clip"
        found.append(_line((ref[0], ref[1]), rig, len(found), None, several=len(controls) > 1)._replace(faint=why, times=times, values=row))
    return found


def _line(ref: Ref, rig: ControlRig | None, number: int, curve: Curve | None, *, several: bool) -> Line:
    control = rig.control(ref[0]) if rig is not None and ref[0] in rig.index else None
    slot = rig.slots.index.get(ref) if rig is not None else None
    channel = rig.slots.channels[slot] if rig is not None and slot is not None else None
    quantity = channel.quantity if channel is not None else Quantity.NUMBER
    name = (channel.title if channel is not None and channel.title else ref[1].replace("_", " ")).lower()
    owner = control.name if control is not None else "the rig" if ref[0] == BOARD else ref[0]
    axis = {"x": 0, "y": 1, "z": 2}.get(ref[1][-1:]) if ref[1].startswith(("move_", "rotate_")) and not several else None
    colour = COLOURS[axis if axis is not None else number % len(COLOURS)]
    return Line(ref, f"{owner} {name}" if several else name, colour, quantity.on_screen, SUFFIX.get(quantity, ""), curve)
