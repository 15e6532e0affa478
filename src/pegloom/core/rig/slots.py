"""The slots of a rig: every channel's place in a vector of values."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.rig.channels import TRANSFORM, Channel
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import BOARD, ChannelRef


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class SlotTable:
    """index : slot of each channel.
    channels (v) : in slot order.
    rest, low, high, soft (v,) : of each; limits that are none are infinite.
    rows (c, 7) : each control's slots of move, rotate and scale, -1 where it has no such channel.
    """

    index: Mapping[tuple[str, str], int]
    channels: tuple[Channel, ...]
    rest: FloatArray
    low: FloatArray
    high: FloatArray
    soft: FloatArray
    rows: IntArray

    def vector(self, pose: Pose) -> FloatArray:
        """Values (v,) of a pose; what it does not tell rests, what the rig does not have is passed by."""
        result = self.rest.copy()
        for key, value in pose.values.items():
            slot = self.index.get(key)
            if slot is not None:
                result[slot] = value
        return result

    def many(self, pose: Pose, count: int) -> FloatArray:
        """`vector` for many moments alike (k, v)."""
        return np.repeat(self.vector(pose)[None], count, axis=0)

    def pose(self, values: FloatArray) -> Pose:
        """The pose of values (v,): what differs from rest."""
        differ = np.flatnonzero(values != self.rest)
        keys = list(self.index)
        return Pose({keys[i]: float(values[i]) for i in differ})


def slots_of(controls: Iterable[tuple[str, tuple[Channel, ...]]], board: tuple[Channel, ...] = ()) -> SlotTable:
    """The table of controls by id and channels, in their order; then the board's."""
    index: dict[tuple[str, str], int] = {}
    channels: list[Channel] = []
    rows = []
    for owner, some in controls:
        for channel in some:
            index[ChannelRef(owner, channel.key)] = len(channels)
            channels.append(channel)
        rows.append([index.get((owner, key), -1) for key in TRANSFORM])
    for channel in board:
        index[ChannelRef(BOARD, channel.key)] = len(channels)
        channels.append(channel)
    limits = [
        (
            c.rest,
            -np.inf if c.low is None else c.low,
            np.inf if c.high is None else c.high,
            c.soft,
        )
        for c in channels
    ]
    table = np.array(limits, dtype=np.float64).reshape(-1, 4)
    rest, low, high, soft = (np.asarray(frozen(np.ascontiguousarray(table[:, k]))) for k in range(4))
    slots = np.asarray(frozen(np.array(rows, dtype=np.int64).reshape(-1, len(TRANSFORM))))
    return SlotTable(index, tuple(channels), rest, low, high, soft, slots)
