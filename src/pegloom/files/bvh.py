"""Recorded motion in BVH files, the plain-text hierarchy and frames that capture systems write.

Read: HIERARCHY with OFFSET and CHANNELS in any order, MOTION with its frames. At rest a joint's axes are the world's.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError
from pegloom.core.tolerances import FARTHEST
from pegloom.files.allowance import MOST_JOINTS, allowed, take
from pegloom.files.allowance import count as limited
from pegloom.files.raw import read_bytes, reason

MOST_FRAMES = 200_000
TURNS = {"Xrotation": "X", "Yrotation": "Y", "Zrotation": "Z"}
MOVES = {"Xposition": 0, "Yposition": 1, "Zposition": 2}


@dataclass
class BvhJoint:
    """name; parent: number of another joint or -1; offset (3,) from it; channels in the file's order."""

    name: str
    parent: int
    offset: FloatArray
    channels: list[str] = field(default_factory=list)
    tail: FloatArray | None = None


@dataclass(frozen=True)
class BvhMotion:
    """joints, parents first; turns (f, j, 4) quaternions x y z w in the parent's axes; moves (f, j, 3) offsets from
    the parent; step: seconds a frame. Lengths in the file's own unit."""

    joints: tuple[BvhJoint, ...]
    turns: FloatArray
    moves: FloatArray
    step: float


def read_bvh(path: Path) -> BvhMotion:
    """Read a BVH file. Raises MeshFileError: what is wrong, in which line, what to do."""
    return parse_bvh(path.name, read_bytes(path))


def parse_bvh(name: str, data: bytes) -> BvhMotion:
    """Read what a BVH file holds. name : of the file, for errors. Raises MeshFileError."""
    with allowed(name, len(data)):
        # The lines alone are some ten times their text.
        take(10 * len(data), "text")
        try:
            return _Reader(name, data.decode("utf-8", errors="replace").split("\n")).read()
        except (ValueError, IndexError, TypeError, KeyError) as error:
            raise MeshFileError(name, f"is damaged ({reason(error)})", hint="write the motion again") from error


class _Reader:
    def __init__(self, name: str, lines: list[str]) -> None:
        self.name, self.lines, self.at = name, lines, 0
        self.joints: list[BvhJoint] = []

    def fail(self, what: str, hint: str = "write the motion again from where it came") -> MeshFileError:
        return MeshFileError(self.name, what, where=f"line {min(self.at, len(self.lines))}", hint=hint)

    def words(self) -> list[str]:
        """The next line that holds anything."""
        while self.at < len(self.lines):
            found = self.lines[self.at].split()
            self.at += 1
            if found:
                return found
        raise self.fail("ends too early")

    def numbers(self, words: list[str], count: int) -> FloatArray:
        try:
            values = np.array([float(w) for w in words])
        except ValueError as error:
            raise self.fail("holds something that is no number") from error
        if len(values) != count:
            raise self.fail(f"{count} numbers were expected, {len(values)} are there")
        if not np.abs(values).max(initial=0.0) < FARTHEST:
            raise self.fail("holds a number that is none, or beyond all use")
        return values

    def read(self) -> BvhMotion:
        if self.words()[0].upper() != "HIERARCHY":
            raise self.fail("is no BVH motion: it does not begin with HIERARCHY")
        head = self.words()
        while head[0].upper() == "ROOT":
            self.joint(" ".join(head[1:]), -1)
            head = self.words()
        if head[0].upper() != "MOTION":
            raise self.fail("MOTION was expected after the hierarchy")
        return self.motion()

    def joint(self, name: str, parent: int) -> None:
        # A list, not recursion: a file may nest deeper than Python does.
        open_: list[int] = []
        pending: tuple[str, int] | None = (name, parent)
        while True:
            if pending is not None:
                if self.words() != ["{"]:
                    raise self.fail("an opening brace was expected")
                self.joints.append(BvhJoint(pending[0], pending[1], np.zeros(3)))
                open_.append(len(self.joints) - 1)
                pending = None
                continue
            words = self.words()
            here = self.joints[open_[-1]]
            key = words[0].upper()
            if key == "OFFSET":
                here.offset = self.numbers(words[1:], 3)
            elif key == "CHANNELS":
                here.channels = words[2:]
                limited(len(self.joints), MOST_JOINTS, "joints")
                unknown = [c for c in here.channels if c not in TURNS and c not in MOVES]
                if len(set(here.channels)) != len(here.channels):
                    raise self.fail(f"{here.name}: a channel is named twice")
                if unknown or len(words) < 2 or words[1] != str(len(here.channels)):
                    raise self.fail(f"{here.name}: its channels make no sense")
            elif key == "JOINT":
                pending = (" ".join(words[1:]), open_[-1])
            elif key == "END":
                self.words()
                tail = self.words()
                here.tail = self.numbers(tail[1:], 3)
                if self.words() != ["}"]:
                    raise self.fail("a closing brace was expected")
            elif key == "}":
                open_.pop()
                if not open_:
                    return
            else:
                raise self.fail(f"“{words[0]}” means nothing here")

    def motion(self) -> BvhMotion:
        count = self.words()
        if (
            count[0].lower() != "frames:"
            or len(count) < 2
            or not (count[1].isascii() and count[1].isdigit() and len(count[1]) < 10)
        ):
            raise self.fail("the number of frames was expected")
        frames = int(count[1])
        if not 0 < frames <= MOST_FRAMES:
            raise self.fail(f"claims {frames} frames", f"between 1 and {MOST_FRAMES} are read")
        step = self.numbers(self.words()[2:], 1)[0]
        if step <= 0:
            raise self.fail("a frame takes no time")
        if not 1e-4 <= step <= 60.0:
            raise self.fail(f"a frame takes {step:g} s", "between a tenth of a millisecond and a minute is read")
        width = sum(len(j.channels) for j in self.joints)
        if frames > len(self.lines) - self.at:
            raise self.fail(f"claims {frames} frames, but {len(self.lines) - self.at} lines are left")
        take(8 * frames * (width + 7 * len(self.joints)), f"{frames} frames")
        rows = np.array([self.numbers(self.words(), width) for _ in range(frames)])
        turns = np.zeros((frames, len(self.joints), 4))
        turns[:, :, 3] = 1.0
        moves = np.tile(np.array([j.offset for j in self.joints]), (frames, 1, 1))
        column = 0
        for i, joint in enumerate(self.joints):
            some = rows[:, column : column + len(joint.channels)]
            column += len(joint.channels)
            order = [k for k, c in enumerate(joint.channels) if c in TURNS]
            if order:
                axes = "".join(TURNS[joint.channels[k]] for k in order)
                turns[:, i] = Rotation.from_euler(axes, some[:, order].reshape(frames, -1), degrees=True).as_quat()
            for k, channel in enumerate(joint.channels):
                if channel in MOVES:
                    moves[:, i, MOVES[channel]] = some[:, k]
        return BvhMotion(tuple(self.joints), turns, moves, float(step))
