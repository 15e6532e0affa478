"""Ways of bending a body side by side, in figures a practitioner reads."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pegloom.checks.trials import joint_trials, trial_figures
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.body import body_of
from pegloom.document.edits.ways import Way
from pegloom.document.model import Character

WORST = 6
"""Joints that are told one by one: those that keep the least area as it stands."""


@dataclass(frozen=True, slots=True)
class Bends:
    """How a body bends over its range test.

    longest : the longest edge, posed / rest, and in which trial. usual : the 99th percentile of the worst trial. folded, crossing : faces
    of all trials together. girth, area : the least a section keeps. joints : area kept and 99th percentile of stretch at some
    joints, each the worst of all trials, by name.
    """

    longest: float
    trial: str
    usual: float
    folded: int
    crossing: int
    girth: float | None
    area: float | None
    joints: dict[str, tuple[float | None, float]]


@dataclass(frozen=True, slots=True, eq=False)
class Told:
    """A way, and how the body bends with it; None where it could not be had."""

    way: Way
    bends: Bends | None


def bends(character: Character) -> Bends | None:
    """Figures over the range test; None for what is not bound."""
    parts = trial_figures(character)
    if not parts:
        return None
    rows, crossing = joint_trials(character)
    worst = max(parts, key=lambda f: f.stretch_most)
    joints: dict[str, tuple[float | None, float]] = {}
    for row in rows:
        area, stretch = joints.get(row.joint, (None, 1.0))
        if row.area is not None:
            area = row.area if area is None else min(area, row.area)
        joints[row.joint] = (area, max(stretch, row.stretch))
    girths, areas = ([v for v in some if v is not None] for some in ((r.girth for r in rows), (r.area for r in rows)))
    return Bends(
        worst.stretch_most, worst.trial, max(f.stretch for f in parts), sum(f.folded for f in parts), sum(c.faces for c in crossing.values()),
        min(girths, default=None), min(areas, default=None), joints,
    )  # fmt: skip


def told_ways(ways: Sequence[Way], progress: Progress = silent) -> tuple[Told, ...]:
    """Each way with its figures. Raises Cancelled from `progress`."""
    found = []
    for number, way in enumerate(ways):
        progress(number / len(ways), f"measuring: {way.title}")
        found.append(Told(way, None if way.document is None else bends(way.document.require_character())))
    progress(1.0, "measured")
    return tuple(found)


def worst_joints(told: Sequence[Told]) -> tuple[str, ...]:
    """The joints that keep least area in the first way, the worst first: of a pair the first alone, of fingers and toes one."""
    first = told[0].bends if told else None
    if first is None or told[0].way.document is None:
        return ()
    skeleton = told[0].way.document.require_character().require_skeleton()
    called = {own: role for role, own in body_of(skeleton).joint_of.items()}
    order = {j.name: k for k, j in enumerate(skeleton.joints)}
    found: list[str] = []
    digit = False
    for name, (area, _) in sorted(first.joints.items(), key=lambda row: 1.0 if row[1][0] is None else row[1][0]):
        joint = skeleton.by_name(name)
        if joint is None or area is None:
            continue
        across = skeleton.other_side(joint.id)
        name = min((name, skeleton.joint(across).name), key=order.__getitem__) if across is not None else name
        small = joint.role in ("finger", "toe") or called.get(joint.id, "").startswith("hand.")
        if name not in found and not (small and digit):
            found.append(name)
            digit = digit or small
    return tuple(found[:WORST])


def as_lines(told: Sequence[Told]) -> list[str]:
    """The comparison as a table of text."""
    worst = worst_joints(told)
    head = ["", "longest edge", "p99", "folded", "crossing", "least girth", "least area", *(f"area {j}" for j in worst)]
    rows = [head, *([t.way.title, *cells(t, worst)] for t in told)]
    wide = [max(len(row[k]) for row in rows) for k in range(len(head))]
    lines = ["  ".join(c.ljust(w) if k == 0 else c.rjust(w) for k, (c, w) in enumerate(zip(row, wide, strict=True))) for row in rows]
    return [*lines, "", *(f"{t.way.title}: played by {t.way.plays}" if t.bends else f"{t.way.title}: {t.way.why}" for t in told)]


def cells(told: Told, joints: Sequence[str]) -> list[str]:
    """Figures of one way as they are read, areas of some joints last."""
    b = told.bends
    if b is None:
        return ["-"] * (6 + len(joints))

    def share(value: float | None) -> str:
        return "-" if value is None else f"{value:.2f}"

    areas = [share(b.joints[j][0]) if j in b.joints else "-" for j in joints]
    return [f"{b.longest:.2f} ({b.trial.replace('_', ' ')})", f"{b.usual:.2f}", str(b.folded), str(b.crossing), share(b.girth), share(b.area), *areas]
