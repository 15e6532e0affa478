"""What a capture desk says: who performs, and how they stand in each frame. docs/capture.md tells it for others to write.

    /figure ,siif   name, number of this description, count of joints, frames a second
    /joint  ,iisfffffff   its number, its parent's (-1 for none), name, place in the parent (metres), rotation (x y z w), at rest
    /frame  ,iidb   number of the description, number of the frame, seconds, blob

A figure and all its joints are one bundle. The blob of a frame is seven float32, big-endian, for each joint: its place in its parent
and its rotation; what is out of sight is told as not a number.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import PegLoomError, one_line
from pegloom.core.geometry.transforms import matrix_quaternion, rotation_matrix
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, side_of_name
from pegloom.files.desk.osc import Double, Message, PacketError, bundle, message, read

MOST_JOINTS = 256
LONGEST_NAME = 80
FARTHEST = 1e4
"""Metres from the middle that anything is told at."""
RATES = (1.0, 1000.0)
LATEST = 1e9
"""Seconds."""


@dataclass(frozen=True, eq=False)
class Body:
    """Who performs. number : of this description; a desk that describes another body counts on. rate : frames a second."""

    name: str
    number: int
    rate: float
    skeleton: Skeleton

    @property
    def sign(self) -> tuple[tuple[str, str | None, tuple[float, float, float]], ...]:
        """What tells the same body again."""
        return tuple((j.name, j.parent, j.position) for j in self.skeleton.joints)


@dataclass(frozen=True, eq=False)
class Frame:
    """body : number of the description it is of. rows (j, 7) : place and rotation of each joint in its parent, NaN for what is out
    of sight."""

    body: int
    number: int
    seconds: float
    rows: FloatArray


def body_packet(body: Body) -> bytes:
    """The packet that describes a body."""
    skeleton = body.skeleton
    told = [message("/figure", body.name, body.number, len(skeleton.joints), float(body.rate))]
    for k, joint in enumerate(skeleton.joints):
        matrix = skeleton.local[k]
        place = [float(v) for v in matrix[:3, 3]]
        told.append(message("/joint", k, int(skeleton.parents[k]), joint.name, *place, *_quaternion(matrix)))
    return bundle(told)


def frame_packet(frame: Frame) -> bytes:
    """The packet of a frame."""
    return message("/frame", frame.body, frame.number, Double(frame.seconds), frame.rows.astype(">f4").tobytes())


def read_packet(packet: bytes, joints: int | None = None) -> Body | Frame | None:
    """What a packet says; None for what is none of ours. joints : of the body that frames are expected of.

    Raises PacketError for what makes no sense. Nothing a packet says is trusted: counts, sizes, numbers and names are checked.
    """
    messages = read(packet)
    if not messages:
        raise PacketError("an empty bundle")
    first = messages[0]
    if first.address == "/figure":
        return _body(messages)
    if first.address == "/frame":
        if len(messages) != 1:
            raise PacketError("a frame comes alone")
        return _frame(first, joints)
    return None


def _body(messages: list[Message]) -> Body:
    name, number, count, rate = _typed(messages[0], str, int, int, float)
    if not 1 <= count <= MOST_JOINTS or len(messages) != count + 1:
        raise PacketError("a figure has not the joints it counts")
    if not RATES[0] <= rate <= RATES[1]:
        raise PacketError("a rate that no device has")
    joints: list[Joint] = []
    worlds: list[FloatArray] = []
    names = set[str]()
    for k, one in enumerate(messages[1:]):
        if one.address != "/joint":
            raise PacketError("a figure has other things than joints")
        at, parent, title, *numbers = _typed(one, int, int, str, *(float,) * 7)
        values = np.array(numbers, dtype=np.float64)
        if at != k or not -1 <= parent < k:
            raise PacketError("a joint hangs on one that comes later")
        if not np.isfinite(values).all() or np.abs(values[:3]).max() > FARTHEST or not 0.5 < np.linalg.norm(values[3:]) < 2.0:
            raise PacketError("a joint stands nowhere")
        told = _name(title, k)
        if told in names:
            raise PacketError("two joints of one name")
        names.add(told)
        local = np.eye(4)
        local[:3, :3] = rotation_matrix(values[3:] / np.linalg.norm(values[3:]))
        local[:3, 3] = values[:3]
        world = local if parent < 0 else worlds[parent] @ local
        worlds.append(world)
        x, y, z = (float(v) for v in world[:3, 3])
        a, b, c, d = _quaternion(world)
        joints.append(Joint(f"j{k}", told, f"j{parent}" if parent >= 0 else None, side=side_of_name(told), position=(x, y, z), rotation=(a, b, c, d), origin=Origin.FILE))
    try:
        skeleton = Skeleton(tuple(joints))
    except PegLoomError as error:
        raise PacketError(f"a body that cannot be ({error})") from None
    return Body(_name(name, 0) if name.strip() else "performer", number, rate, skeleton)


def _frame(one: Message, joints: int | None) -> Frame:
    body, number, seconds, blob = _typed(one, int, int, float, bytes)
    if joints is None:
        raise PacketError("a frame of nobody who was described")
    if len(blob) != 28 * joints:
        raise PacketError("a frame of another count of joints")
    if not np.isfinite(seconds) or abs(seconds) > LATEST:
        raise PacketError("a frame at no time")
    with np.errstate(invalid="ignore"):
        # Some of what is no number says so aloud.
        rows = np.frombuffer(blob, ">f4").astype(np.float64).reshape(joints, 7)
    seen = np.asarray(np.isfinite(rows).all(axis=1))
    lengths = np.linalg.norm(np.where(seen[:, None], rows[:, 3:], [0.0, 0.0, 0.0, 1.0]), axis=1)
    seen &= (np.abs(np.where(np.isfinite(rows), rows, 0.0))[:, :3].max(axis=1) <= FARTHEST) & (lengths > 0.5) & (lengths < 2.0)
    rows = np.where(seen[:, None], rows, np.nan)
    rows[:, 3:] /= lengths[:, None]
    return Frame(body, number, seconds, rows)


def _typed(one: Message, *kinds: type) -> tuple[Any, ...]:
    values = one.arguments
    if len(values) != len(kinds) or any(type(v) is not k for v, k in zip(values, kinds, strict=True)):
        raise PacketError(f"{one.address} with other arguments than it has")
    return values


def _name(text: str, number: int) -> str:
    """A name of one line."""
    told = "".join(c for c in one_line(text).strip() if c.isprintable())[:LONGEST_NAME].strip()
    return told or f"joint {number + 1}"


def _quaternion(matrix: FloatArray) -> tuple[float, float, float, float]:
    a, b, c, d = (float(v) for v in matrix_quaternion(matrix[:3, :3]))
    return a, b, c, d
