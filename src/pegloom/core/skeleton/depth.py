"""Proper depth: where in the cross-section a joint belongs, landmark by landmark; and which stand elsewhere.

Rules of a pattern: ("trunk", s) - at share s from the back to the front of a level cut; ("upright", s) - at share s
from the underside to the back of a cut across a lying trunk; ("limb", v) - in the middle of the cut across the limb,
v radii toward the way it bulges (an elbow a little to the back, a knee a little to the front).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.slices import Section, section_at
from pegloom.core.geometry.transforms import normalised
from pegloom.core.skeleton.build import BULGES
from pegloom.core.skeleton.joints import Vector, other_side_name
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.patterns import bare, shipped_patterns
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.tolerances import PREBEND

SOUND_RADII = 0.3
"""A joint nearer its place than this share of the limb's radius is sound and is left alone."""
SOUND_SHARE = 0.12
MERGED = 0.6
"""A cut wider than this share of the shorter bone beside it goes through more than the limb."""


TURNS_OFF, COMES_DOWN = 0.64, 0.8
"""Cosines: a foot turns off its limb by more than the one; a limb within the other of straight down stands on it."""
OVER = 0.1
"""Share of the shin above the ankle at which its depth is read."""


@dataclass(frozen=True, slots=True)
class DepthMove:
    """A peg, or a joint, that does not stand where it belongs: its proper place, how far off it is (metres), why."""

    peg: str
    place: Vector
    distance: float
    why: str
    outside: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Depth:
    """Where a peg belongs: place (3,), the cut it was read from, and whether the peg is sound where it is."""

    place: FloatArray
    section: Section
    sound: bool
    outside: bool


INSIDE = 0.7
"""Share of the way from a joint's proper depth to the skin up to which a limb's bend is kept."""


def limb_direction(line: FloatArray, i: int) -> FloatArray:
    """The way a chain of pegs (p, 3) runs at its peg i."""
    total = np.zeros(3)
    if i > 0:
        total = total + normalised(line[i] - line[i - 1])
    if i + 1 < len(line):
        total = total + normalised(line[i + 1] - line[i])
    return normalised(total) if np.linalg.norm(total) > 1e-9 else np.array([0.0, 1.0, 0.0])


def _over_the_foot(kit: Kit, line: FloatArray, i: int) -> FloatArray | None:
    """From a cut through the shin to the ankle under it (3,); None where peg i of a kit is no such joint.

    Where a limb comes down on a foot that turns off, any cut through the joint itself runs into heel or instep: its
    depth is that of the shin just above.
    """
    if len(kit.fold) != 3 or i != kit.fold[2] or not 0 < i < len(line) - 1:
        return None
    bone = line[i] - line[i - 1]
    if normalised(bone) @ normalised(line[i + 1] - line[i]) >= TURNS_OFF or normalised(bone)[1] > -COMES_DOWN:
        return None
    return np.asarray(OVER * bone)


def rule_of(pegs: PegSet, peg: str) -> tuple[str, float]:
    """The depth rule of a peg; pegs of added kits belong in the middle."""
    return _rules(pegs.pattern).get(_landmark(peg), ("limb", 0.0))


def has_rule(pegs: PegSet, peg: str) -> bool:
    """Whether a peg is one that belongs inside: not a tip, not a hinge of a prop."""
    return _landmark(peg) in _rules(pegs.pattern)


def _rules(pattern: str) -> Mapping[str, tuple[str, float]]:
    known = shipped_patterns().get(pattern)
    return known.depth if known is not None else {}


def _landmark(peg: str) -> str:
    """What a peg is at: `l_elbow` an elbow, `waist3` a waist."""
    return bare(peg).rstrip("0123456789")


def depth_of(points: FloatArray, triangles: IntArray, pegs: PegSet, kit: Kit, peg: str) -> Depth | None:
    """Where a peg belongs in its cross-section; None where no cut is found."""
    line = np.array([pegs.position(p) for p in kit.pegs])
    i = kit.pegs.index(peg)
    here = line[i]
    rule, value = rule_of(pegs, peg)
    if rule == "trunk":
        section = section_at(points, triangles, here, np.array([0.0, 1.0, 0.0]), up=np.array([0.0, 0.0, -1.0]))
        return None if section is None else _by_share(section, here, np.array([0.0, 0.0, 1.0]), value)
    if len(line) < 2:
        return None  # a joint alone runs nowhere: no cut is across it
    direction = limb_direction(line, i)
    over = _over_the_foot(kit, line, i)
    if over is not None:
        above = section_at(points, triangles, here - over, over)
        if above is not None:
            place = above.centre + over
            gap = float(np.linalg.norm(place - here))
            return Depth(place, above, above.holds and gap < SOUND_RADII * above.radius, not above.holds)
    if rule == "upright":
        across = np.array([0.0, direction[1], direction[2]])
        across = normalised(across) if np.linalg.norm(across) > 0.3 else np.array([0.0, 0.0, 1.0])
        section = section_at(points, triangles, here, across, up=np.array([0.0, 1.0, 0.0]))
        up = np.array([0.0, 1.0, 0.0])
        up = normalised(up - across * float(up @ across))
        return None if section is None else _by_share(section, here, up, value)
    section = section_at(points, triangles, here, direction)
    if section is None:
        return None
    bones = [float(np.linalg.norm(line[k + 1] - line[k])) for k in (i - 1, i) if 0 <= k < len(line) - 1]
    if section.holds and section.radius > MERGED * min(bones):
        return None  # the limb is one with the trunk here: its own cut cannot be told
    other = other_side_name(peg)
    if section.holds and other in pegs.by_name and section.goes_round((here + np.array(pegs.position(str(other)))) / 2):
        return None  # the cut goes round both sides: a hip's through the pelvis
    sign = -1.0 if peg.startswith("r_") else 1.0
    bulge = np.array(BULGES.get(kit.bend, (0.0, 0.0, 0.0))) * [sign, 1.0, 1.0]
    bulge = bulge - direction * float(bulge @ direction)
    away = normalised(bulge) * value * section.radius if np.linalg.norm(bulge) > 0.2 else np.zeros(3)
    place = section.centre + away
    gap = float(np.linalg.norm(place - here))
    return Depth(place, section, section.holds and gap < SOUND_RADII * section.radius, not section.holds)


def _by_share(section: Section, here: FloatArray, direction: FloatArray, share: float) -> Depth | None:
    inside = here if section.holds else section.centre
    span = section.span(inside, direction)
    if span is None:
        return None
    low, high = span
    place = inside + direction * (low + share * (high - low))
    now = (0.0 - low) / max(high - low, 1e-9) if section.holds else -1.0
    return Depth(place, section, section.holds and abs(now - share) < SOUND_SHARE, not section.holds)


def depth_moves(
    points: FloatArray, triangles: IntArray, pegs: PegSet, *, names: tuple[str, ...] | None = None
) -> tuple[DepthMove, ...]:
    """Pegs that stand outside, or far from their proper depth, and where they belong; the farthest first.

    A limb that bends the right way keeps at least its bend: a move that would straighten it goes on toward the bulge.
    """
    moves = []
    seen: set[str] = set()
    for kit in pegs.kits:
        for peg in kit.pegs:
            if peg in seen or (names is not None and peg not in names):
                continue
            if names is None and not has_rule(pegs, peg):
                continue
            seen.add(peg)
            depth = depth_of(points, triangles, pegs, kit, peg)
            if depth is None or depth.sound:
                continue
            place = _kept_bend(pegs, kit, peg, depth)
            here = np.array(pegs.position(peg))
            gap = float(np.linalg.norm(place - here))
            if gap < 1e-6:
                continue
            why = "outside the mesh" if depth.outside else "far from its proper depth"
            moves.append(DepthMove(peg, (float(place[0]), float(place[1]), float(place[2])), gap, why, depth.outside))
    return tuple(sorted(moves, key=lambda m: -m.distance))


def _kept_bend(pegs: PegSet, kit: Kit, peg: str, depth: Depth) -> FloatArray:
    """The place, pushed toward the bulge until the limb bends as much as it did (at least PREBEND if it did at all).

    It stays inside all the same: of a bend whose joint stands out of the skin as much is kept as the limb holds.
    """
    place = depth.place
    if len(kit.fold) != 3 or kit.bend not in BULGES or kit.pegs.index(peg) != kit.fold[1]:
        return place
    sign = -1.0 if peg.startswith("r_") else 1.0
    bulge = np.array(BULGES[kit.bend]) * [sign, 1.0, 1.0]
    start, end = (np.array(pegs.position(kit.pegs[k])) for k in (kit.fold[0], kit.fold[2]))
    line = normalised(end - start)
    out = bulge - line * float(bulge @ line)
    if np.linalg.norm(out) < 0.2:
        return place
    out = normalised(out)

    def off(middle: FloatArray) -> float:
        return float((middle - start) @ out)

    before, after = off(np.array(pegs.position(peg))), off(place)
    least = 0.25 * np.sin(PREBEND) * float(np.linalg.norm(end - start))
    wanted = max(before, least) if before > least else min(max(before, 0.0), least)
    push = max(wanted - after, 0.0)
    span = depth.section.span(place, out)
    if span is not None:
        push = min(push, INSIDE * max(span[1], 0.0))
    return np.asarray(place + out * push)
