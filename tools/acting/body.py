"""The bodies that act: the demo's own figures, with what of their skin touches the ground."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
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
HULL = 900
"""Points of the skin that are held over the ground."""


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
        return Walker(gait, self.skeleton, strides=strides, soles=self.soles, **more)  # type: ignore[arg-type]

    def j(self, part: str, k: int = 0) -> int:
        """Number of the k-th joint of a part."""
        return self.skeleton.index[self.parts[part][k]]

    def figure(self, moments: int) -> Figure:
        return Figure(self.skeleton, moments, self.j("trunk"))


def whole_skin(character: Character) -> Sole:
    """Some points of all the skin, each carried by its four heaviest joints."""
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
    # Those that stand out in some direction, spread over the surface.
    rng = np.random.default_rng(3)
    some: set[int] = set()
    for joint in np.unique(j[:, 0]):
        mine = np.flatnonzero(j[:, 0] == joint)
        for way in rng.normal(size=(40, 3)):
            some.add(int(mine[np.argmax(p[mine] @ way)]))
    rows = np.array(sorted(some))
    w = w[rows] / w[rows].sum(axis=1, keepdims=True)
    return Sole(p[rows], j[rows].astype(np.int64), w)


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
