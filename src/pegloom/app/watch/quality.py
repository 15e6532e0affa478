"""The quality graph's figures, worked out on a thread while nothing else is going on.

First the joint in hand over the whole strip, then the same for the compared weave, then every other joint, then faces
that pass through others. A new pose source, a stroke or another bind begins anew; another joint is often there already.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from pegloom.app.jobs import Background, Order
from pegloom.app.state.frames import Frames, pose_at
from pegloom.app.state.state import RANGE_TEST, TRIAL_FRAMES
from pegloom.app.state.store import Store
from pegloom.checks.quality import Crossing, crossing_of, joint_figures, past_limits, worst_stretch
from pegloom.core.rig.pose import Shown
from pegloom.core.skin.quality import Figures, worst_of
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character

PER_TRIAL = 6
"""Samples of each trial of the range test: its peak is one of them."""
PER_CLIP = 61


@dataclass(frozen=True)
class Row:
    """What one task found at one sample."""

    kind: str
    at: int
    figures: dict[str, Figures]
    whole: float | None = None
    crossing: Crossing | None = None


@dataclass(frozen=True)
class Doubt:
    """A joint farthest past its limits (`past` times) at a sample; joints: all those past theirs in its group."""

    joint: str
    at: int
    figures: Figures
    past: float
    joints: frozenset[str]


class QualityWatch(QObject):
    """See the module. `changed` after every new figure."""

    changed = pyqtSignal()

    def __init__(self, store: Store, frames: Frames, background: Background) -> None:
        super().__init__(store)
        self.store, self.frames, self.background = store, frames, background
        self.times: list[float] = []
        self.figures: dict[str, list[Figures | None]] = {}
        self.before: list[Figures | None] = []
        self.whole: list[float | None] = []
        self.crossing: list[Crossing | None] = []
        self._key: tuple[object, ...] = ()
        self._before_key: tuple[object, ...] = ()
        self._round = 0
        store.changed.connect(self._look)

    @property
    def region(self) -> str:
        """The joint in hand whose region is shown, or "" for the whole."""
        character = self.store.state.character
        if character is None or character.skeleton is None or self.store.state.viewing.influence not in character.skeleton.index:
            return ""
        return self.store.state.viewing.influence

    def row(self, joint_id: str) -> list[Figures | None]:
        """Figures over the samples; empty where nothing is measured."""
        return self.figures.get(joint_id, [])

    @property
    def finished(self) -> bool:
        """Whether every joint is measured in every sample."""
        skeleton = self.store.state.character.skeleton if self.store.state.character is not None else None
        measured = skeleton is not None and all(j.id in self.figures for j in skeleton.joints)
        return measured and not any(None in row for row in self.figures.values())

    def doubts(self, group: Callable[[str, int], object]) -> list[Doubt]:
        """The worst place past its limits of each group of (joint, sample), the worst first."""
        found: dict[object, Doubt] = {}
        skeleton = self.store.state.character.skeleton if self.store.state.character is not None else None
        for joint, row in self.figures.items():
            if skeleton is None or joint not in skeleton.index:
                continue
            for k, figures in enumerate(row):
                past = past_limits(skeleton, joint, figures) if figures is not None else 0.0
                if figures is None or past <= 1.0:
                    continue
                worst = found.get(group(joint, k))
                joints = worst.joints | {joint} if worst else frozenset({joint})
                if worst is None or past > worst.past + 1e-9:
                    found[group(joint, k)] = Doubt(joint, k, figures, past, joints)
                else:
                    found[group(joint, k)] = replace(worst, joints=joints)
        return sorted(found.values(), key=lambda d: -d.past)

    def _look(self) -> None:
        state, character = self.store.state, self.store.state.character
        if state.dragging:
            return
        skin = character.skin if character is not None else None
        ready = skin is not None and bool(state.clock.source)
        skeleton = character.skeleton if character else None
        key = (skin, skeleton, state.clock.source, state.clip, state.kept_pose, state.draft_pose) if ready else ()
        if key != self._key:
            self._key = key
            self._round += 1
            self.background.drop(Order.QUALITY)
            self.times = self._sample_times() if ready else []
            count = len(self.times)
            self.figures, self.whole, self.crossing = {}, [None] * count, [None] * count
            self.before, self._before_key = [], ()
            self.changed.emit()
        before = (self.frames.other, self.region)
        if before != self._before_key:
            self._before_key = before
            self.before = [None] * len(self.times) if self.frames.other is not None else []
            self._round += 1
            self.changed.emit()
        self._go_on()

    def _sample_times(self) -> list[float]:
        state = self.store.state
        if state.clock.source == RANGE_TEST:
            count = len(state.trials) * PER_TRIAL
            return [k * TRIAL_FRAMES / 30 / PER_TRIAL for k in range(count + 1)]
        if state.kept_pose is not None:
            return [0.0, state.length]
        return [float(t) for t in np.linspace(0.0, state.length, PER_CLIP)]

    def _pose(self, at: float) -> Shown:
        return pose_at(self.store.state, at)

    def _go_on(self) -> None:
        """Have the next figure worked out, one after the other."""
        character = self.store.state.character
        if character is None or character.skin is None or not self.times or self.background.busy(Order.QUALITY):
            return
        task = self._next(character)
        if task is not None:
            self.background.put(Order.QUALITY, task, partial(self._landed, self._round))

    def _landed(self, number: int, result: Any) -> None:
        if number == self._round and isinstance(result, Row):
            self._take(result)
        self._go_on()

    def _next(self, character: Character) -> Callable[[], Row] | None:
        """The next thing to work out."""
        region = self.region
        count = len(self.times)
        joints = tuple(j.id for j in character.require_skeleton().joints)
        if region and region not in self.figures:
            self.figures[region] = [None] * count
        for kind, wanted, row, some in (
            ("hand", character, self.row(region) if region else self.whole, (region,) if region else ()),
            ("before", self.frames.other, self.before, (region,) if region else joints),
        ):
            if wanted is not None and None in row:
                k = _spread_out(row)
                return partial(_measure, kind, k, wanted, self._pose(self.times[k]), some)
        rest = tuple(j for j in joints if j not in self.figures or None in self.figures[j])
        if rest:
            for joint in rest:
                self.figures.setdefault(joint, [None] * count)
            k = self.figures[rest[0]].index(None)
            return partial(_measure, "rest", k, character, self._pose(self.times[k]), rest)
        if None in self.crossing:
            k = _spread_out(self.crossing)
            return partial(_cross, k, character, self._pose(self.times[k]))
        return None

    def _take(self, row: Row) -> None:
        if row.kind == "before":
            if row.at < len(self.before):
                self.before[row.at] = row.figures.get(self.region) or worst_of(list(row.figures.values())) or NOTHING
        elif row.kind == "crossing":
            self.crossing[row.at] = row.crossing
        else:
            for joint, figures in row.figures.items():
                if joint in self.figures:
                    self.figures[joint][row.at] = figures
            if row.whole is not None:
                self.whole[row.at] = row.whole
        self.changed.emit()


NOTHING = Figures(None, None, 1.0, 0)


def _spread_out(row: Sequence[object]) -> int:
    """The missing sample to take next: coarse over the whole first, so that the shape shows early."""
    for step in (6, 3, 2, 1):
        for k in range(step // 2 if step > 1 else 0, len(row), step):
            if row[k] is None:
                return k
    return row.index(None)


def _measure(kind: str, at: int, character: Character, pose: Shown, joints: tuple[str, ...]) -> Row:
    points = evaluate(character, pose).points
    found = {j: f or NOTHING for j, f in joint_figures(character, points, joints).items()}
    return Row(kind, at, found, whole=None if kind == "before" else worst_stretch(character, points))


def _cross(at: int, character: Character, pose: Shown) -> Row:
    return Row("crossing", at, {}, crossing=crossing_of(character, evaluate(character, pose).points))
