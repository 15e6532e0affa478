"""What channels move beside nodes: morph targets of parts, and whether a part or a control is seen."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from pegloom.core.arrays import FloatArray
from pegloom.core.rig.refs import ChannelRef
from pegloom.core.rig.slots import SlotTable

PART, CONTROL, FIGURE = "part:", "control:", "figure:"
"""What the ids of things that are shown begin with."""


@dataclass(frozen=True, slots=True)
class MorphDrive:
    """morph : name of a morph target.
    channel : what its weight is taken from; several drives of one morph add up.
    part : id of the one part it is of; "" for every part that has it.
    """

    id: str
    morph: str
    channel: ChannelRef
    part: str = ""


@dataclass(frozen=True, slots=True)
class ShowDrive:
    """thing : `part:`, `control:`, or `figure:` for another character of the document, and its id.
    channel : the thing is seen where this channel, as a whole number, is `when`; with several drives of one thing, where one
        of them says so.
    """

    id: str
    thing: str
    channel: ChannelRef
    when: int = 1


@dataclass(frozen=True, slots=True)
class WidthDrive:
    """How wide a joint's own skin is across its bone; what hangs on the joint is not widened with it, and nothing shears.

    across, through : channels, factors along the joint's own x and z axes.
    """

    id: str
    joint: str
    across: ChannelRef
    through: ChannelRef


def widths_of(widths: tuple[WidthDrive, ...], slots: SlotTable, values: FloatArray) -> Mapping[str, tuple[float, float]]:
    """Factors along x and z by joint, where they are not 1, of the values (v,) of a moment."""
    found = {}
    for drive in widths:
        x, z = (slots.index.get(ref) for ref in (drive.across, drive.through))
        if x is not None and z is not None and (values[x] != 1.0 or values[z] != 1.0):
            found[drive.joint] = float(values[x]), float(values[z])
    return found


def morph_weights(morphs: tuple[MorphDrive, ...], slots: SlotTable, values: FloatArray) -> Mapping[tuple[str, str], float]:
    """Weights by part ("" for all) and morph name, of the values (v,) of a moment."""
    found: dict[tuple[str, str], float] = {}
    for drive in morphs:
        slot = slots.index.get(drive.channel)
        if slot is not None:
            key = (drive.part, drive.morph)
            found[key] = found.get(key, 0.0) + float(values[slot])
    return found


def hidden_things(shows: tuple[ShowDrive, ...], slots: SlotTable, values: FloatArray) -> frozenset[str]:
    """Things that are not seen at the values (v,) of a moment."""
    seen: dict[str, bool] = {}
    for drive in shows:
        slot = slots.index.get(drive.channel)
        if slot is not None:
            seen[drive.thing] = seen.get(drive.thing, False) or round(float(values[slot])) == drive.when
    return frozenset(thing for thing, shown in seen.items() if not shown)
