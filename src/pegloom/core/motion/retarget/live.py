"""Motion of another body carried over frame by frame, as it comes: what `carrying.retarget` does, without what comes later.

Each joint here turns as one there does, by a turn between the two that is constant; both are worked out once, from the rests.
Feet stand where the source's feet stand (slow and low, with hysteresis), and what a foot is held aside by runs out within a tenth of
a second once it is lifted. What is kept of a capture is carried over again, as a whole.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import decompose
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget import live_kernels as kernels
from pegloom.core.motion.retarget.carry import Performance, carried, copies, shares_of
from pegloom.core.motion.retarget.carrying import scale_of
from pegloom.core.motion.retarget.chains import LIMBS, frames_of, kind_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.pairing import Pairing, pair
from pegloom.core.motion.retarget.plant import LOW, QUICK, SLOW, Sole, bare_soles, unit_of
from pegloom.core.motion.retarget.source import Source, stood
from pegloom.core.motion.tracks import JointTracks, Track, joint_tracks
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.joints import Skeleton

RUNS_OUT = 0.04
"""Seconds in which what a lifted foot is held aside by falls to a third."""
SETTLES = 0.5
"""Seconds in which the height of the whole settles onto feet that stand."""
SPOTS = 36
"""Points of a sole that are looked at in each frame."""
CALM = 0.05
"""Seconds over which a foot's speed is told: a single frame's is noise."""


class _Body:
    """The target at one moment. turns (j, 3, 3) of the joints that are given (j,), from rest about the body's axes; turned, at : of all."""

    def __init__(self, skeleton: Skeleton, base: int) -> None:
        count = len(skeleton.joints)
        self.parents = np.ascontiguousarray(skeleton.parents, dtype=np.int64)
        self.rest = np.ascontiguousarray(skeleton.positions)
        self.bones = self.rest - self.rest[np.maximum(self.parents, 0)]
        self.axes = np.ascontiguousarray(skeleton.world[:, :3, :3])
        self.base, self.place = base, self.rest[base].copy()
        self.turns, self.given = np.tile(np.eye(3), (count, 1, 1)), np.zeros(count, dtype=np.bool_)
        self.turned, self.at = np.empty((count, 3, 3)), np.empty((count, 3))
        self.all = np.arange(count)

    def stand(self, some: IntArray | None = None) -> None:
        """Work out all joints, or some, parents first."""
        kernels.stand(self.parents, self.bones, self.rest, self.base, self.place, self.turns, self.given, self.turned, self.at, self.all if some is None else some)

    def rows(self) -> FloatArray:
        """(j, 10) of each joint in its parent."""
        result = np.empty((len(self.parents), 10))
        kernels.rows(self.parents, self.axes, self.turned, self.at, result)
        return result


@dataclass(eq=False)
class _Foot:
    """A leg's end. joints : upper, lower, end here. points : (here, its rest place, there) of what may stand, ankle first."""

    joints: tuple[int, int, int]
    axis: FloatArray
    sole: Sole
    below: IntArray
    points: list[tuple[int, FloatArray, int]]
    before: FloatArray | None = None
    speeds: FloatArray = field(default_factory=lambda: np.full(2, 1.0))
    stands: int = -1
    """Which of the points stands, -1 for none."""
    held: FloatArray | None = None
    """Where it stands (3,)."""
    aside: FloatArray = field(default_factory=lambda: np.zeros(3))


class LiveCarry:
    """Carries one body's frames over to another, one after the other.

    skeleton : the source's joints at rest, in its own axes and unit. target : at rest. soles, limits : as of `retarget`.
    pairing : gives one that is known already of this source, or None. plant : whether feet are held where they stand.

    Raises EditError where nothing of the two goes together.
    """

    def __init__(
        self, skeleton: Skeleton, target: Skeleton, *, pairing: Callable[[Source], Pairing | None] | None = None, name: str = "capture", soles: Mapping[str, Sole] | None = None,
        limits: Sequence[JointLimit] = (), plant: bool = True,
    ) -> None:  # fmt: skip
        self.source, self.target, self.plant = skeleton, target, plant
        at_rest = Source("", name, skeleton, Clip("", name, tracks=resting(skeleton)))
        read = stood(at_rest)
        self.read = read
        found = (pairing(at_rest) if pairing is not None else None) or pair(read.skeleton, target, own=skeleton, name=name)
        chains = [c for c in found.chains if c.source and all(j in read.skeleton.index for j in c.source) and all(j in target.index for j in c.target)]
        if not chains:
            raise EditError(f"no part of {name} goes with this body; pair the trunk and the limbs first")
        self.pairing = Pairing(found.id, found.name, found.source, found.target, tuple(chains), found.rest)
        base_pair = self.pairing.of("trunk") or chains[0]
        self.base, self.root = target.index[base_pair.target[0]], read.skeleton.index[base_pair.source[0]]
        copied = frozenset(c.part for c in chains if kind_of(c.part) in LIMBS and copies(c, read, target))
        self.scale = scale_of(read.skeleton, target, self.pairing, copied)
        self.lift = float(target.positions[self.base, 1] - self.scale * read.skeleton.positions[self.root, 1])
        resting_there = Performance(read, np.zeros(1), np.tile(np.eye(3), (1, len(read.skeleton.joints), 1, 1)), read.skeleton.positions[None])
        turns = carried(resting_there, self.pairing, target, self.base).turns
        follows = _follows(read.skeleton, target, self.pairing)
        self.joints = np.array(sorted(j for j in turns if j in follows), dtype=np.int64)
        self.constant = np.array([turns[int(j)][0] for j in self.joints]).reshape(-1, 3, 3)
        self.first, self.second = (np.array([follows[int(j)][k] for j in self.joints], dtype=np.int64) for k in (0, 1))
        self.share = np.array([follows[int(j)][2] for j in self.joints], dtype=np.float64)
        self.body = _Body(target, self.base)
        limits = [x for x in limits if x.joint in target.index and not x.free]
        order = sorted(limits, key=lambda x: target.index[x.joint])
        self.limits = (
            np.array([target.index[x.joint] for x in order], dtype=np.int64), np.array([x.low for x in order], dtype=np.float64).reshape(-1, 3),
            np.array([x.high for x in order], dtype=np.float64).reshape(-1, 3), self.body.axes[[target.index[x.joint] for x in order]].reshape(-1, 3, 3),
        )  # fmt: skip
        self.unit = 1.0 / unit_of(read.skeleton)
        self.floor_there = float(read.skeleton.positions[:, 1].min())
        known = dict(soles or bare_soles(target, parts_of(target)))
        self.floor = min((float(s.points[:, 1].min()) for s in known.values() if len(s.points)), default=0.0)
        self.feet = _feet(read.skeleton, target, self.pairing, known)
        self.ids = tuple(joint.id for joint in target.joints)
        self.time: float | None = None
        count = len(read.skeleton.joints)
        self.there, self.places = np.empty((count, 3, 3)), np.empty((count, 3))
        self.rests, self.upright = np.ascontiguousarray(read.rests), np.ascontiguousarray(read.upright)

    def pose(self, worlds: FloatArray, seconds: float) -> JointPose:
        """The pose of a frame. worlds (j, 4, 4) : of the source's joints, in its own axes. seconds : its time; a time that goes back
        begins anew."""
        body = self.body
        kernels.seen(np.ascontiguousarray(worlds), self.upright, self.rests, self.there, self.places)
        gone = seconds - self.time if self.time is not None and 0.0 < seconds - self.time < 1.0 else 0.0
        if self.time is None or gone == 0.0:
            for foot in self.feet:
                foot.before, foot.stands, foot.held, foot.aside = None, -1, None, np.zeros(3)
        self.time = seconds
        body.given[:] = False
        kernels.told(self.there, self.first, self.second, self.share, self.constant, self.joints, body.turns, body.given)
        body.place = self.scale * self.places[self.root] + [0.0, self.lift, 0.0]
        body.stand()
        if len(self.limits[0]):
            kernels.limited(body.parents, *self.limits, body.turns, body.given, body.turned)
            body.stand()
        if self.plant:
            self._planted(self.places, gone)
        return JointPose(self.ids, np.asarray(frozen(body.rows())))

    def _planted(self, at: FloatArray, gone: float) -> None:
        body = self.body
        lowest = []
        for foot in self.feet:
            free = self._stance(foot, at, gone)
            end = body.at[foot.joints[2]].copy()
            if foot.stands >= 0:
                j, rest, _ = foot.points[foot.stands]
                here = body.at[j] + body.turned[j] @ (rest - body.rest[j])
                if foot.held is None or free:
                    # It comes to stand where it has been led to, not where it would be if nothing had held it before.
                    foot.held = here + foot.aside
                foot.aside = (foot.held - here) * [1.0, 0.0, 1.0]
            else:
                foot.held = None
                foot.aside = foot.aside * (np.exp(-gone / RUNS_OUT) if gone > 0.0 else 0.0)
            # A foot that is led aside keeps its rotation, and with it how low its sole is.
            sole = foot.sole
            low = kernels.lowest(sole.points, sole.joints, sole.weights, body.rest, body.turned, body.at) if len(sole.points) else float(end[1])
            over = low - self.floor
            if foot.stands >= 0:
                lowest.append(over)
            # One that stands is on the ground, the others not under it.
            down = over if foot.stands >= 0 else min(over, 0.0)
            goal = end + foot.aside - [0.0, down, 0.0]
            if np.abs(goal - end).max() > 1e-5:
                upper, lower, last = foot.joints
                kernels.bend(upper, lower, last, goal, foot.axis, body.turns, body.turned, body.at)
                body.given[[upper, lower, last]] = True
                body.stand(foot.below)
        if lowest and gone > 0.0:
            self.lift -= float(np.mean(lowest)) * (1.0 - np.exp(-gone / SETTLES))

    def _stance(self, foot: _Foot, at: FloatArray, gone: float) -> bool:
        """Find out which of a foot's points stands; whether it is another one than before."""
        here = np.array([at[there] for _, _, there in foot.points])
        if foot.before is None or gone <= 0.0:
            foot.before, foot.speeds = here, np.full(len(here), 1.0)
            return False
        speed = np.linalg.norm(here - foot.before, axis=1) / gone * self.unit
        foot.before = here
        keep = np.exp(-gone / CALM)
        foot.speeds = keep * foot.speeds[: len(here)] + (1.0 - keep) * speed
        high = (here[:, 1] - self.floor_there) * self.unit - np.array([(self.read.skeleton.positions[t, 1] - self.floor_there) * self.unit for _, _, t in foot.points])
        was = foot.stands
        if was >= 0 and (foot.speeds[was] > QUICK or high[was] > 2.0 * LOW):
            foot.stands = -1
        best = int(np.argmin(foot.speeds + np.maximum(high, 0.0)))
        if foot.speeds[best] < SLOW and high[best] < LOW and (foot.stands < 0 or foot.speeds[best] < 0.5 * foot.speeds[foot.stands]):
            foot.stands = best
        return foot.stands != was and foot.stands >= 0


def resting(skeleton: Skeleton) -> JointTracks:
    """Tracks of a single sample: every joint as it rests."""
    found = {}
    for joint in skeleton.joints:
        found[joint.id] = (Track("rotation", np.asarray(frozen(np.zeros(1))), np.asarray(frozen(_turn(skeleton, joint.id)[None]))),)
    return joint_tracks(found)


def _turn(skeleton: Skeleton, joint: str) -> FloatArray:
    return decompose(skeleton.local[skeleton.index[joint]])[1]


def _follows(there: Skeleton, here: Skeleton, pairing: Pairing) -> dict[int, tuple[int, int, float]]:
    """Which joints there each paired one here turns with: two numbers, and how far between them."""
    found: dict[int, tuple[int, int, float]] = {}
    for chain in sorted(pairing.chains, key=lambda c: here.index[c.target[0]]):
        source = [there.index[j] for j in chain.source]
        kind = kind_of(chain.part)
        if kind in LIMBS or kind == "finger" or chain.part.startswith("as."):
            for k, joint in enumerate(chain.target[: len(source)]):
                found[here.index[joint]] = (source[k], source[k], 0.0)
            continue
        have, wanted = shares_of(there, chain.source), shares_of(here, chain.target)
        for joint, share in zip(chain.target, wanted.tolist(), strict=True):
            i = int(np.clip(np.searchsorted(have, share, side="right") - 1, 0, len(have) - 1))
            if i == len(have) - 1:
                found[here.index[joint]] = (source[i], source[i], 0.0)
            else:
                found[here.index[joint]] = (source[i], source[i + 1], float((share - have[i]) / max(have[i + 1] - have[i], 1e-12)))
    return found


def _feet(there: Skeleton, here: Skeleton, pairing: Pairing, soles: Mapping[str, Sole]) -> list[_Foot]:
    axes, figure = frames_of(here), Figure(here, 1, 0)
    found = []
    for chain in pairing.chains:
        if kind_of(chain.part) not in ("leg", "foreleg") or len(chain.target) < 3 or len(chain.source) < 3:
            continue
        joints = (here.index[chain.target[0]], here.index[chain.target[1]], here.index[chain.target[2]])
        points = [(here.index[chain.target[k]], here.positions[here.index[chain.target[k]]], there.index[chain.source[k]]) for k in (2, 3) if k < len(chain.target) and k < len(chain.source)]
        sole = _thinned(soles[chain.part]) if chain.part in soles else Sole(np.zeros((0, 3)), np.zeros((0, 1), dtype=np.int64), np.zeros((0, 1)))
        sole = Sole(np.ascontiguousarray(sole.points), sole.joints.astype(np.int64), np.ascontiguousarray(sole.weights))
        below = np.array(sorted(figure.below(joints[0])), dtype=np.int64)
        found.append(_Foot(joints, np.ascontiguousarray(axes[chain.target[0]][:, 0]), sole, below, points, speeds=np.full(len(points), 1.0)))
    return found


def _thinned(sole: Sole) -> Sole:
    """The lowest points of a sole, spread over it: as many as are looked at in no time."""
    if len(sole.points) <= SPOTS:
        return sole
    low = np.argsort(sole.points[:, 1], kind="stable")[: max(len(sole.points) // 3, SPOTS)]
    rows = np.sort(low)[np.linspace(0, len(low) - 1, SPOTS).astype(np.int64)]
    # Those that are farthest out in each direction of the ground are kept in any case.
    angles = np.linspace(0.0, 2.0 * np.pi, 12, endpoint=False)
    ways = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    outer = low[np.argmax(sole.points[low][:, [0, 2]] @ ways.T, axis=0)]
    kept = np.unique(np.concatenate([rows, outer]))
    return Sole(sole.points[kept], sole.joints[kept], sole.weights[kept])


def places_of(skeleton: Skeleton, rows: FloatArray) -> FloatArray:
    """Joints (j, 4, 4) of a source's frame. rows (j, 7) : place and quaternion of each in its parent."""
    whole = np.concatenate([rows, np.ones((len(rows), 3))], axis=1)
    return evaluate_rig(skeleton, None, JointPose(tuple(j.id for j in skeleton.joints), whole)).joints
