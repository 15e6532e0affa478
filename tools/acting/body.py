"""The bodies that act: the demo's own figures, with what of their skin touches the ground."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from pathlib import Path

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.motion.gait.making import Walker
from pegloom.core.motion.gait.numbers import Gait
from pegloom.core.motion.gait.steps import body_kind, legs_of
from pegloom.core.motion.retarget.chains import frames_of, parts_of
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.plant import Sole
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document import edits
from pegloom.document.model import Character
from pegloom.files.project import open_project

DEMO = Path(__file__).parents[2] / "src" / "pegloom" / "assets" / "demo"
RATE = 30.0


@dataclass(frozen=True, eq=False)
class Body:
    """leg, arm : metres of a leg (hips to ground) and an arm. floor : metres."""

    character: Character
    skeleton: Skeleton
    parts: dict[str, tuple[str, ...]]
    soles: dict[str, Sole]
    skin: Sole
    frames: dict[str, FloatArray]
    kind: str
    leg: float
    floor: float

    def walker(self, gait: Gait, strides: float, **more: object) -> Walker:
        """A gait whose strides take whole frames, so that its end joins its beginning."""
        period = gait.seconds(self.leg, self.kind)
        frames = max(round(strides * period * RATE), 2)
        gait = replace(gait, cadence=120.0 * strides * RATE / frames)
        return Walker(gait, self.skeleton, strides=strides, soles=self.soles, **more)  # type: ignore[arg-type]

    @cached_property
    def bounds(self) -> dict[int, tuple[FloatArray, FloatArray]]:
        """How far joints turn at most."""
        rig = self.character.rig
        limits = rig.limits if rig is not None else ()
        return {self.skeleton.index[x.joint]: (np.array(x.low), np.array(x.high)) for x in limits if x.joint in self.skeleton.index and not x.free}

    @cached_property
    def trunk_skin(self) -> Sole:
        """What of the skin is no leg's."""
        legs = set()
        for chain in legs_of(self.parts).values():
            for joint in chain:
                legs |= self.figure(1).below(self.skeleton.index[joint])
        rows = np.array([int(j) not in legs for j in self.skin.joints[:, 0]])
        return Sole(self.skin.points[rows], self.skin.joints[rows], self.skin.weights[rows])

    def j(self, part: str, k: int = 0) -> int:
        """Number of the k-th joint of a part."""
        return self.skeleton.index[self.parts[part][k]]

    def figure(self, moments: int) -> Figure:
        return Figure(self.skeleton, moments, self.j("trunk"))


def whole_skin(character: Character) -> Sole:
    """All points of the skin, each carried by its four heaviest joints."""
    skeleton = character.skeleton
    assert skeleton is not None and character.skin is not None
    points, joints, weights = [], [], []
    for part in character.at_level(0):
        if part.id not in character.skin.weights:
            continue
        told = character.skin.weights[part.id]
        dense = told.matrix().toarray()
        column = np.array([skeleton.index[j] for j in told.joint_ids])
        order = np.argsort(-dense, axis=1)[:, :4]
        kept = np.take_along_axis(dense, order, axis=1)
        points.append(part.mesh.points)
        joints.append(column[order] if order.shape[1] == 4 else np.pad(column[order], ((0, 0), (0, 4 - order.shape[1]))))
        weights.append(kept if kept.shape[1] == 4 else np.pad(kept, ((0, 0), (0, 4 - kept.shape[1]))))
    p, j, w = np.concatenate(points), np.concatenate(joints), np.concatenate(weights)
    return Sole(p, j.astype(np.int64), w / w.sum(axis=1, keepdims=True))


@lru_cache
def body(name: str) -> Body:
    """wick, dumble, harl, winch, lantern."""
    character = open_project(DEMO / f"{name}.pegloom").require_character()
    skeleton = character.skeleton
    assert skeleton is not None
    parts = dict(parts_of(skeleton))
    legs = legs_of(parts)
    soles = edits.soles_here(character)
    floor = min((float(s.points[:, 1].min()) for p, s in soles.items() if p in legs and len(s.points)), default=float(skeleton.positions[:, 1].min()))
    leg = float(np.mean([skeleton.positions[skeleton.index[c[0]], 1] - floor for c in legs.values()])) if legs else 1.0
    return Body(character, skeleton, parts, soles, whole_skin(character), dict(frames_of(skeleton)), body_kind(parts), leg, floor)
