"""The capture desk that ships: a performer of our own, whose frames come late, or not at all, or with joints out of sight."""

from __future__ import annotations

import contextlib
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.retarget.source import Source
from pegloom.core.motion.tracks import rows_at
from pegloom.core.skeleton.joints import Skeleton
from pegloom.files.desk.listener import HOST, PORT
from pegloom.files.desk.packets import Body, Frame, body_packet, frame_packet

DESCRIBED = 1.0
"""Seconds between two descriptions of the body: who begins to listen later learns of it, too."""
GROWN = 1.12
"""The performer's size in that of the body its motion was made on."""
AWAY = (0.15, 0.6)
"""Seconds a joint stays out of sight."""
BURST = (0.1, 0.3)
"""Seconds nothing is sent at once."""
NOISE = np.radians(0.15)


@dataclass(frozen=True, slots=True)
class Faults:
    """jitter : seconds a frame comes late, at most. dropped : share of frames that never come; some of them in bursts. lost : share of
    joints out of sight, on average. noise : whether rotations tremble."""

    jitter: float = 0.004
    dropped: float = 0.01
    lost: float = 0.01
    noise: bool = True


def performer(skeleton: Skeleton) -> Skeleton:
    """A performer larger than the body a motion was made on, with names of its own."""
    joints = []
    for joint in skeleton.joints:
        x, y, z = (GROWN * v for v in joint.position)
        tail = None if joint.tail is None else (GROWN * joint.tail[0], GROWN * joint.tail[1], GROWN * joint.tail[2])
        joints.append(replace(joint, name=f"act_{joint.name}", position=(x, y, z), tail=tail))
    return Skeleton(tuple(joints))


class Performance:
    """What is performed: clips one after the other, each going on from where the one before has come to."""

    def __init__(self, sources: list[Source]) -> None:
        self.sources = sources
        self.skeleton = performer(sources[0].skeleton)
        self.rest = np.concatenate([self.skeleton.local[:, :3, 3], Rotation.from_matrix(self.skeleton.local[:, :3, :3]).as_quat()], axis=1)
        self.spans = [max(source.clip.length, 0.1) for source in sources]
        self.ends = np.cumsum(self.spans)
        self.roots = [k for k, joint in enumerate(self.skeleton.joints) if joint.parent is None]
        self.way = [self._moved(k) for k in range(len(sources))]

    def _moved(self, number: int) -> FloatArray:
        """How far a clip carries its root over the ground (3,)."""
        first, last = self._told(number, 0.0), self._told(number, self.spans[number])
        hips = self._base()
        return (last[hips, :3] - first[hips, :3]) * [1.0, 0.0, 1.0]

    def _base(self) -> int:
        """The joint whose place the motion is told by: the first that moves."""
        moving = [k for k, j in enumerate(self.skeleton.joints) if any(t.path == "translation" for t in self.sources[0].clip.tracks.get(j.id, ()))]
        return moving[0] if moving else self.roots[0]

    def _told(self, number: int, time_: float) -> FloatArray:
        clip = self.sources[number].clip
        pose = rows_at(clip.tracks, self.sources[number].skeleton, time_)
        rows = self.rest.copy()
        index = self.skeleton.index
        for joint, row in zip(pose.joints, pose.rows, strict=True):
            k = index[joint]
            rows[k, 3:] = row[3:7]
            rows[k, :3] = GROWN * row[:3]
        return rows

    def rows(self, seconds: float) -> FloatArray:
        """Place and rotation (j, 7) of each joint in its parent, at a time."""
        whole, rest = divmod(seconds, float(self.ends[-1]))
        number = int(np.searchsorted(self.ends, rest, side="right"))
        number = min(number, len(self.sources) - 1)
        rows = self._told(number, rest - float(self.ends[number] - self.spans[number]))
        gone = whole * np.sum(self.way, axis=0) + np.sum(self.way[:number], axis=0, initial=0.0)
        rows[self._base(), :3] += gone
        return rows


def frames(performance: Performance, rate: float, faults: Faults, seed: int = 0) -> Iterator[tuple[float, int, FloatArray | None]]:
    """Every frame without end: when it is due (seconds), its number, and its rows (j, 7); None for one that is dropped."""
    rng = np.random.default_rng(seed)
    count = len(performance.skeleton.joints)
    away = np.zeros(count)
    burst, number = 0.0, 0
    while True:
        due = number / rate
        rows = performance.rows(due)
        if faults.noise:
            shake = Rotation.from_rotvec(rng.normal(0.0, NOISE, (count, 3)))
            rows[:, 3:] = (Rotation.from_quat(rows[:, 3:]) * shake).as_quat()
        begins = rng.random(count) < faults.lost / rate / np.mean(AWAY)
        away = np.where(begins, due + rng.uniform(*AWAY, count), away)
        rows[away > due] = np.nan
        if faults.dropped and rng.random() < 0.5 * faults.dropped / rate / np.mean(BURST):
            burst = due + rng.uniform(*BURST)
        gone = due < burst or rng.random() < 0.5 * faults.dropped
        yield due, number, None if gone else rows
        number += 1


def run(
    sources: list[Source], *, rate: float = 60.0, port: int = PORT, faults: Faults | None = None, seconds: float | None = None, seed: int = 0,
    ended: Callable[[], bool] = lambda: False,
) -> int:  # fmt: skip
    """Send a performance until it is ended, or for some seconds. Returns how many frames were sent."""
    faults = faults or Faults()
    performance = Performance(sources)
    body = Body("performer", 1 + int(time.time()) % 1_000_000, rate, performance.skeleton)
    described, sent = -DESCRIBED, 0
    rng = np.random.default_rng(seed + 1)
    # Nobody need be listening.
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
        begun = time.monotonic()
        for due, number, rows in frames(performance, rate, faults, seed):
            if ended() or (seconds is not None and due >= seconds):
                return sent
            late = rng.uniform(0.0, faults.jitter) if faults.jitter > 0 else 0.0
            time.sleep(max(begun + due + late - time.monotonic(), 0.0))
            with contextlib.suppress(OSError):
                if due - described >= DESCRIBED:
                    described = due
                    out.sendto(body_packet(body), (HOST, port))
                if rows is not None:
                    out.sendto(frame_packet(Frame(body.number, number, due, rows)), (HOST, port))
                    sent += 1
    return sent
