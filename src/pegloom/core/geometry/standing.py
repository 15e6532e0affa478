"""How a mesh lies and how to stand it up: up axis, facing, height, mirror plane, parts and shells.

The figure is expected to be a character: two mirrored halves, a head end near the mirror plane and a foot end
away from it (two legs or more), feet longer to the front than to the back. Guesses carry their confidence; the
user has the last word.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import bounds, far_off, sample_surface
from pegloom.core.geometry.symmetry import Symmetry, find_plane
from pegloom.core.geometry.transforms import any_perpendicular

AXES = {"+X": (1, 0, 0), "-X": (-1, 0, 0), "+Y": (0, 1, 0), "-Y": (0, -1, 0), "+Z": (0, 0, 1), "-Z": (0, 0, -1)}


STEP, PROBES = 4, 1500
"""Degrees between the turns that are tried, and points that are mirrored for each."""
SQUARE, LEAST_MIRRORED, LEAST_TURN = 0.8, 0.5, 3.0
"""A plane square to the axes this good is not doubted; one aside must mirror this well, and be this many degrees off."""

CLEARLY = 0.12
"""How much better one plane must mirror than another to say which is the middle."""


LYING = 0.2
"""Share of the surface in the lowest quarter over which shoulders and calves of a lying figure may pass for feet."""
GAP = 0.2
"""Between two feet set close together, in cells of the grid they are counted in."""


WINGSPAN = 1.4
"""How much wider than long a body without feet is in flight; a lying figure's spread arms are less."""
FLAT_OF_SPAN = 0.25
"""How high such a body is at most, as a share of its width."""


APART = 0.3
"""How much farther from the mirror plane, in shares of its own middling distance, the near edge of feet is than a head's,
where they are surely told."""
BETWEEN = 0.004
"""Least share of the longest side that feet stand off the plane."""
TWO_FEET = 0.5
"""What a pair of feet with nothing between them counts, beside how well the figure mirrors."""

UNSURE = 0.6
"""A foot end told less surely than this must show feet."""


class Direction(Enum):
    """A signed coordinate axis."""

    PLUS_X = "+X"
    MINUS_X = "-X"
    PLUS_Y = "+Y"
    MINUS_Y = "-Y"
    PLUS_Z = "+Z"
    MINUS_Z = "-Z"

    @property
    def vector(self) -> FloatArray:
        return np.array(AXES[self.value], dtype=np.float64)


def nearest_axis(v: FloatArray) -> str:
    """Name of the signed axis a vector (3,) points along most nearly."""
    return max(AXES, key=lambda name: float(v @ np.array(AXES[name], dtype=np.float64)))


@dataclass(frozen=True, slots=True)
class Aside:
    """A turn about a coordinate axis (0, 1, 2) by which a figure was modelled aside, degrees."""

    axis: int = 1
    degrees: float = 0.0

    @property
    def matrix(self) -> FloatArray:
        """(3, 3): from the file's axes to those the figure is square to."""
        angle, (a, b) = np.radians(self.degrees), ((1, 2), (2, 0), (0, 1))[self.axis]
        turn = np.eye(3)
        turn[a, a] = turn[b, b] = np.cos(angle)
        turn[a, b], turn[b, a] = -np.sin(angle), np.sin(angle)
        return turn


@dataclass(frozen=True, slots=True)
class Stance:
    """Guess of how the figure stands. height in the file's units; confidence 0..1 of up and of facing.

    aside : the turn after which up, facing and the mirror plane are told; of most files none.
    """

    up: Direction
    facing: Direction
    height: float
    symmetry: Symmetry
    up_confidence: float
    facing_confidence: float
    aside: Aside = Aside()

    @property
    def up_vector(self) -> FloatArray:
        """Unit vector (3,) in the file's axes."""
        return np.asarray(self.up.vector @ self.aside.matrix)

    @property
    def facing_vector(self) -> FloatArray:
        """Unit vector (3,) in the file's axes."""
        return np.asarray(self.facing.vector @ self.aside.matrix)

    @property
    def told(self) -> str:
        """In words: "up +Y, facing +Z", and how far aside."""
        if not self.aside.degrees:
            return f"up {self.up.value}, facing {self.facing.value}"
        turned = f"turned {abs(self.aside.degrees):.0f} degrees aside about {'XYZ'[self.aside.axis]}"
        return f"up {self.up.value}, facing {self.facing.value}, {turned}"


def guess_stance(points: FloatArray, triangles: IntArray | None = None) -> Stance:
    """Guess up, facing and the mirror plane of a character's points (n, 3); triangles (t, 3) let sparse faces count."""
    far = far_off(points)
    if far.any():
        triangles = None if triangles is None else triangles[~far[triangles].any(axis=1)]
        surface = points[:0] if triangles is None else sample_surface(points, triangles)
        return guess_stance(np.concatenate([points[~far], surface]))
    seen = points if triangles is None else np.concatenate([points, sample_surface(points, triangles)])
    aside = find_aside(points if triangles is None else sample_surface(points, triangles))
    if aside.degrees:
        points, seen = points @ aside.matrix.T, seen @ aside.matrix.T
    return replace(_square_stance(points, seen), aside=aside)


def find_aside(seen: FloatArray) -> Aside:
    """How a figure was modelled aside, from points (n, 3) spread evenly over its surface.

    The middle of an even surface lies on its mirror plane. So one plane an angle is tried about each axis, and the
    turn is believed where its plane mirrors clearly better than those square to the axes.
    """
    if len(seen) < 50:
        return Aside()
    tree, middle = cKDTree(seen), seen.mean(axis=0)
    probe = seen[:: len(seen) // PROBES + 1] - middle
    reach = 0.012 * max(float(np.linalg.norm(np.ptp(seen, axis=0))), 1e-12)

    def score(axis: int, degrees: float) -> float:
        across = Aside(axis, degrees).matrix[(axis + 1) % 3]
        mirrored = probe - 2 * np.outer(probe @ across, across) + middle
        gap = np.asarray(tree.query(mirrored, distance_upper_bound=4 * reach)[0])
        return float(np.mean(np.exp(-((np.minimum(gap, 4 * reach) / reach) ** 2))))

    square = max(score(axis, 90.0 * k) for axis in range(3) for k in range(2))
    if square > SQUARE:
        return Aside()
    tried = [(score(axis, float(d)), axis, float(d)) for axis in range(3) for d in range(0, 180, STEP)]
    _, axis, degrees = max(tried)
    step = STEP / 2
    while step > 0.05:
        degrees = max((degrees - step, degrees, degrees + step), key=lambda d: score(axis, d))
        step /= 2
    if score(axis, degrees) < max(square + CLEARLY, LEAST_MIRRORED):
        return Aside()
    # To the nearest quarter: the rest is told by up and facing.
    degrees = (degrees + 45.0) % 90.0 - 45.0
    return Aside(axis, round(degrees, 2)) if abs(degrees) >= LEAST_TURN else Aside()


def _square_stance(points: FloatArray, seen: FloatArray) -> Stance:
    """The stance of points (n, 3) whose mirror plane is square to an axis; seen (m, 3): them and their surface's."""
    low, high = bounds(points)
    span = np.maximum(high - low, 1e-12)
    planes = [find_plane(points, axis) for axis in range(3)]
    legged = _legged_stance(seen, planes, float(span.max()))
    if legged is not None:
        return legged
    if float(span.min()) < 0.045 * float(span.max()) and float(np.sort(span)[1]) > 0.15 * float(span.max()):
        return _flat_stance(span, planes)
    spread = _spread_stance(seen, span, planes)
    if spread is not None:
        return spread
    # A flat or tube-like figure mirrors across its thin axis as well; the lateral axis is the one that mirrors
    # well, has feet apart on it and is not the thinnest by far.
    longest = float(span.max())
    best: tuple[float, int, int, int, float] | None = None
    for lateral in range(3):
        for up_axis in (a for a in range(3) if a != lateral):
            depth_axis = 3 - lateral - up_axis
            apart = _feet_apart(seen, lateral, up_axis, planes[lateral].offset)
            upright = float(span[up_axis] / longest)
            shallow = float(span[depth_axis] / longest)
            for sign in (1, -1):
                feet = sign * apart
                if feet < 0 and not (up_axis == 1 and sign > 0):
                    continue
                score = 1.6 * planes[lateral].score + 0.9 * feet + 0.6 * upright - 0.8 * shallow
                score += 0.05 * (up_axis == 1) + 0.05 * (lateral == 0)
                # What stands has its weight over its feet; two of them, with nothing on the ground between.
                score -= 0.0 if _balanced(seen, lateral, up_axis, sign) else 0.8
                contact = ground_contact(seen, lateral, up_axis, sign, planes[lateral].offset, longest, 0.03)
                score += TWO_FEET * (contact.pairs == 1 and contact.on_plane < 0.1 and contact.stable)
                if best is None or score > best[0]:
                    best = (score, lateral, up_axis, sign, max(feet, 0.0))
    assert best is not None
    _, lateral, up_axis, sign, certainty = best
    long_and_thin = float(np.sort(span)[1]) < 0.35 * float(span.max()) and float(span.min()) < 0.15 * float(span.max())
    contact = ground_contact(seen, lateral, up_axis, sign, planes[lateral].offset, longest, 0.03)
    footless = contact.pairs == 0 or contact.on_plane > 0.5
    if certainty < 0.1 or (certainty < UNSURE and (long_and_thin or footless)):
        # Nothing says where the feet are (a fish, a serpent, a rope, a prop): the file's own up is the best guess.
        lateral, up_axis, sign, certainty = _lateral_of(span, planes), 1, 1, 0.0
    up = _direction(up_axis, sign)
    depth_axis = 3 - lateral - up_axis
    if certainty == 0.0 and span[depth_axis] == span.max():
        facing_sign, facing_certainty = _thick_end(seen, depth_axis)
    elif certainty == 0.0:
        facing_sign, facing_certainty = 1, 0.0
    else:
        facing_sign, facing_certainty = _facing(seen, up_axis, sign, depth_axis, lateral, planes[lateral].offset)
    # Who does not know where the feet are cannot tell the way their toes point.
    facing_certainty = min(facing_certainty, certainty + 0.3)
    return Stance(
        up, _direction(depth_axis, facing_sign), float(span[up_axis]), planes[lateral], certainty, facing_certainty
    )


def _thick_end(points: FloatArray, depth_axis: int) -> tuple[int, float]:
    """Which way along a long body without feet its thicker end lies, and how sure: a fish's head, not its tail."""
    depth = points[:, depth_axis]
    along = (depth - depth.min()) / max(float(np.ptp(depth)), 1e-12)
    others = [a for a in range(3) if a != depth_axis]
    slices = [points[(along >= k / 12) & (along <= (k + 1) / 12)][:, others] for k in range(12)]
    areas = np.array([float(np.prod(np.ptp(s, axis=0))) if len(s) > 2 else 0.0 for s in slices])
    middle = float(areas @ (np.arange(12) + 0.5) / 12 / max(float(areas.sum()), 1e-12)) - 0.5
    return (1 if middle > -0.02 else -1), float(np.clip(abs(middle) / 0.1, 0.0, 1.0))


def _lateral_of(span: FloatArray, planes: list[Symmetry]) -> int:
    """The lateral axis of what stands as its file says: the one that mirrors clearly better, else the thinner one."""
    better = planes[0].score - planes[2].score
    if abs(better) > CLEARLY:
        return 0 if better > 0 else 2
    return 0 if span[0] <= span[2] or planes[0].score > 0.9 else 2


def _flat_stance(span: FloatArray, planes: list[Symmetry]) -> Stance:
    """A cut-out stands in its own plane, the way the file shows it."""
    thin = int(np.argmin(span))
    up_axis = 1 if thin != 1 else 2
    lateral = 3 - thin - up_axis
    return Stance(
        _direction(up_axis, 1),
        _direction(thin, 1 if thin != 1 else -1),
        float(span[up_axis]),
        planes[lateral],
        0.5,
        0.5,
    )


def _spread_stance(points: FloatArray, span: FloatArray, planes: list[Symmetry]) -> Stance | None:
    """A body in flight: far wider than long and flat, with a head and a tail and no feet; None for anything else."""
    lateral = int(np.argmax(span))
    up_axis = int(np.argmin(span))
    depth_axis = 3 - lateral - up_axis
    others = max(planes[a].score for a in range(3) if a != lateral)
    if up_axis == lateral or planes[lateral].score < others + CLEARLY:
        return None
    if span[lateral] < WINGSPAN * span[depth_axis] or span[up_axis] > FLAT_OF_SPAN * span[lateral]:
        return None
    aside = np.abs(points[:, lateral] - planes[lateral].offset) / span[lateral]
    inner, tips = aside < 0.15, aside > 0.4
    height = points[:, up_axis]
    if not tips.any():
        return None
    # A head is about as high as it is wide, a tail is flat; the upper side is the file's, or where the tips rise to.
    depth = points[:, depth_axis]
    along = (depth - depth.min()) / max(float(np.ptp(depth)), 1e-12)
    roundness = []
    for end in (inner & (along > 0.88), inner & (along < 0.12)):
        wide = float(np.ptp(points[end, lateral])) if end.any() else 0.0
        roundness.append(float(np.ptp(height[end])) / max(wide, 1e-12) if wide > 0 else 0.0)
    ahead, behind = roundness
    rise = float(np.median(height[tips]) - np.median(height[inner]))
    sign = 1 if up_axis == 1 or rise >= 0 else -1
    for end, down in (
        (height < height.min() + 0.06 * span[up_axis], -1),
        (height > height.max() - 0.06 * span[up_axis], 1),
    ):
        # Feet hang near the plane and not on it.
        if float(np.quantile(aside[end], 0.08)) > 0.01 and float(np.quantile(aside[end], 0.9)) < 0.2:
            sign = -down
    sure = float(np.clip(abs(ahead - behind) / max(ahead, behind, 1e-12), 0.0, 1.0))
    facing = _direction(depth_axis, 1 if ahead >= behind else -1)
    return Stance(_direction(up_axis, sign), facing, float(span[up_axis]), planes[lateral], 0.5, sure)


def _balanced(points: FloatArray, lateral: int, up_axis: int, sign: int) -> bool:
    """Whether the middle of a figure's surface lies over what touches the ground."""
    h = points[:, up_axis] * sign
    touching = points[h < float(h.min()) + 0.03 * max(float(np.ptp(h)), 1e-12)]
    room = 0.06 * float(np.ptp(points, axis=0).max())
    middle = points.mean(axis=0)
    for axis in (lateral, 3 - lateral - up_axis):
        if not touching[:, axis].min() - room < middle[axis] < touching[:, axis].max() + room:
            return False
    return True


@dataclass(frozen=True, slots=True)
class Contact:
    """What touches the ground.

    pairs : mirrored pairs of patches off the plane.
    stretch : their spread along the body, share of the longest side.
    feet, stride : patches off the plane on both sides, whether paired or in mid-step, and their spread (0 where one
        side has none).
    on_plane : share of the touching surface at the mirror plane.
    stable : whether the body's middle stands over them.
    front, back : the patches' extent along the depth axis.
    """

    pairs: int
    stretch: float
    on_plane: float
    stable: bool
    front: float
    back: float
    feet: int = 0
    stride: float = 0.0


def ground_contact(
    points: FloatArray, lateral: int, up_axis: int, sign: int, offset: float, longest: float, slab: float
) -> Contact:
    """Patches of the surface points (n, 3) within `slab` of the height over the lowest one."""
    depth_axis = 3 - lateral - up_axis
    h = points[:, up_axis] * sign
    low = float(h.min())
    touching = points[h < low + slab * max(float(np.ptp(h)), 1e-12)]
    across, along = touching[:, lateral] - offset, touching[:, depth_axis]
    cell = 0.025 * longest
    wide = int(np.ceil(max(np.abs(across).max(initial=0.0), 1e-9) / cell)) + 2
    i = np.floor(across / cell).astype(np.int64) + wide
    start = float(along.min())
    j = np.floor((along - start) / cell).astype(np.int64) + 1
    grid = np.zeros((2 * wide + 1, int(j.max()) + 3), dtype=bool)
    grid[i, j] = True
    label, count = ndimage.label(grid, np.ones((3, 3)))
    mine = label[i, j]
    middles, central = [], 0
    for k in range(1, count + 1):
        own = mine == k
        left, right = own & (across > 0), own & (across <= 0)
        # Two feet set close together touch in the grid; a gap at the plane still tells them apart.
        gap = across[left].min() - across[right].max() if left.any() and right.any() else 0.0
        for foot in (left, right) if gap > GAP * cell else (own,):
            x, z = float(across[foot].mean()), float(along[foot].mean())
            crosses = bool((across[foot].min() < -0.3 * cell) and (across[foot].max() > 0.3 * cell))
            if crosses or abs(x) < (0.6 if foot is own else 0.2) * cell:
                central += int(foot.sum())
            else:
                middles.append((x, z))
    pairs = []
    for x, z in middles:
        if x > 0 and any(abs(x + x2) < 0.06 * longest and abs(z - z2) < 0.08 * longest for x2, z2 in middles if x2 < 0):
            pairs.append(z)
    stretch = (max(pairs) - min(pairs)) / longest if pairs else 0.0
    weight = float(points[:, depth_axis].mean())
    stable = bool(along.min() - 0.03 * longest < weight < along.max() + 0.03 * longest)
    on_plane = central / max(len(touching), 1)
    both = any(x > 0 for x, _ in middles) and any(x < 0 for x, _ in middles)
    stride = float(np.ptp([z for _, z in middles])) / longest if both else 0.0
    return Contact(
        len(pairs),
        stretch,
        on_plane,
        stable,
        float(along.max()),
        float(along.min()),
        len(middles) if both else 0,
        stride,
    )


def _legged_stance(points: FloatArray, planes: list[Symmetry], longest: float) -> Stance | None:
    """The stance of a body on two or more pairs of legs one behind the other, or None where nothing stands so."""
    best: tuple[float, int, int, int, Contact] | None = None
    for lateral in range(3):
        if planes[lateral].score < 0.25:
            continue
        for up_axis in (a for a in range(3) if a != lateral):
            for sign in (1, -1):
                for slab in (0.03, 0.06, 0.1):
                    c = ground_contact(points, lateral, up_axis, sign, planes[lateral].offset, longest, slab)
                    # An animal caught in mid-step has feet on both sides and along the body, though in no pairs.
                    paired = c.pairs >= 2 and c.stretch >= 0.14 and c.on_plane <= 0.15
                    striding = 3 <= c.feet <= 8 and c.stride >= 0.3 and c.on_plane <= 0.02
                    if not (paired or striding) or not c.stable:
                        continue
                    h = points[:, up_axis] * sign
                    h = (h - h.min()) / max(float(np.ptp(h)), 1e-12)
                    # Legs are thin: little of the surface lies in the lowest quarter.
                    lowest = float((h < 0.25).mean())
                    if slab > 0.03 and lowest > LYING:
                        continue
                    thin = 1.0 - min(lowest / 0.4, 1.0)
                    spread = c.stretch if paired else c.stride
                    score = planes[lateral].score + 0.8 * thin + 0.5 * min(spread, 0.4) - 2.0 * c.on_plane
                    score -= slab  # tusks and chins come into the thicker ones
                    score -= 0.0 if paired else 0.4
                    score += 0.1 * (up_axis == 1 and sign > 0) + 0.05 * (lateral == 0) + 0.05 * float(np.mean(h))
                    if best is None or score > best[0]:
                        best = (score, lateral, up_axis, sign, c)
    if best is None:
        return None
    _, lateral, up_axis, sign, contact = best
    if _two_feet(points, planes, longest) not in (None, up_axis):
        return None
    depth_axis = 3 - lateral - up_axis
    facing, sure = _head_end(points, depth_axis, up_axis, sign, contact)
    span = float(np.ptp(points[:, up_axis]))
    return Stance(
        _direction(up_axis, sign), _direction(depth_axis, facing), span, planes[lateral], 0.9, sure
    )  # fmt: skip


def _two_feet(points: FloatArray, planes: list[Symmetry], longest: float) -> int | None:
    """The axis a body stands tall along on just two feet, or None.

    Dressed people touch the ground in several places when laid down (toes, hands, a hat's brim, a satchel).
    """
    up_axis = int(np.argmax(np.ptp(points, axis=0)))
    for lateral in (a for a in range(3) if a != up_axis):
        for sign in (1, -1):
            c = ground_contact(points, lateral, up_axis, sign, planes[lateral].offset, longest, 0.03)
            if planes[lateral].score >= 0.25 and c.pairs == 1 and c.feet == 2 and c.on_plane == 0.0 and c.stable:
                return up_axis
    return None


def _head_end(points: FloatArray, depth_axis: int, up_axis: int, sign: int, contact: Contact) -> tuple[int, float]:
    """Which way along the body the head is: the heavier, higher overhang; and the way the toes point."""
    h = points[:, up_axis] * sign
    h = (h - h.min()) / max(float(np.ptp(h)), 1e-12)
    depth = points[:, depth_axis]
    upper = h > 0.3
    length = max(contact.front - contact.back, 1e-12)
    ahead, behind = upper & (depth > contact.front - 0.06 * length), upper & (depth < contact.back + 0.06 * length)
    a, b = float(ahead.sum()), float(behind.sum())
    mass = (a - b) / max(a + b, 1.0)
    high = (float(np.quantile(h[ahead], 0.8)) if a > 5 else 0.4) - (
        float(np.quantile(h[behind], 0.8)) if b > 5 else 0.4
    )
    foot, shin = h < 0.05, (h > 0.1) & (h < 0.22)
    toes = 0.0
    if foot.sum() > 5 and shin.sum() > 5:
        toes = float(np.mean(depth[foot]) - np.mean(depth[shin])) / (0.05 * length)
    if contact.pairs >= 3:
        # Of an insect or a spider the abdomen is the heavier end.
        mass, high = -mass, 0.5 * high
    score = 1.0 * mass + 1.2 * high + 0.4 * float(np.clip(toes, -1, 1))
    return (1 if score >= 0 else -1), float(np.clip(abs(score) / 0.6, 0.0, 1.0))


def _direction(axis: int, sign: int) -> Direction:
    return Direction(("+" if sign > 0 else "-") + "XYZ"[axis])


def _feet_apart(points: FloatArray, lateral: int, up_axis: int, offset: float) -> float:
    """1 where the feet are surely at the low end of `up_axis`, -1 where at the high one: the head's is the end on the
    mirror plane."""
    low, high = bounds(points)
    height = high[up_axis] - low[up_axis]
    h = (points[:, up_axis] - low[up_axis]) / max(height, 1e-12)
    across, longest = points[:, lateral] - offset, float((high - low).max())

    def off_centre(end: np.ndarray) -> float:
        # A gap at the mirror plane is what two legs have and a head has not; of one hand raised there is no other.
        own = across[end]
        sides = np.array([float((own > 0).sum()), float((own < 0).sum())])
        if sides.min() < max(3.0, 0.2 * sides.max()):
            return 0.0
        near, half = np.quantile(np.abs(own), (0.06, 0.5))
        # A fin on the plane has two sides as well, with nothing between them.
        return float(near / max(half, 1e-12)) if near > BETWEEN * longest else 0.0

    at_low = max(off_centre((h > a) & (h < a + 0.06)) for a in (0.0, 0.06, 0.12))
    at_high = max(off_centre((h < 1 - a) & (h > 1 - a - 0.06)) for a in (0.0, 0.06, 0.12))
    return float(np.clip((at_low - at_high) / APART, -1.0, 1.0))


def _facing(
    points: FloatArray, up_axis: int, sign: int, depth_axis: int, lateral: int, offset: float
) -> tuple[int, float]:
    """Sign along `depth_axis` the toes point to, and how sure."""
    h = points[:, up_axis] * sign
    h = (h - h.min()) / max(float(np.ptp(h)), 1e-12)
    depth = points[:, depth_axis]
    foot, shin = h < 0.035, (h > 0.06) & (h < 0.115)
    width = max(float(np.ptp(points[:, lateral])), 1e-12)
    # Hands of hanging arms are no shins.
    near = np.abs(points[:, lateral] - offset) < 0.5 * width
    if foot.sum() < 3 or (shin & near).sum() < 3:
        return 1, 0.0
    shin_middle = float(np.median(depth[shin & near]))
    ahead, behind = float(depth[foot].max()) - shin_middle, shin_middle - float(depth[foot].min())
    difference = (ahead - behind) / max(ahead + behind, 1e-12)
    # A robe's hem tells nothing; then the file's own forward stays.
    return (1 if difference >= -0.07 else -1), float(np.clip(abs(difference) / 0.3, 0.0, 1.0))


def standing_matrix(
    points: FloatArray, up: FloatArray, facing: FloatArray, *, height: float | None, lateral_offset: float | None = None
) -> FloatArray:
    """4x4 map that stands points up: up to +Y, facing to +Z, feet on y = 0, middle on the origin.

    up, facing : unit vectors (3,) in the file's axes; of facing what is square to up counts.
    height : wanted height in metres, or None to keep the units.
    lateral_offset : where the mirror plane lies along up x facing; None takes the box's middle.
    """
    y = up
    z = facing - y * float(facing @ y)
    if np.linalg.norm(z) < 0.1:  # facing along up: any lateral will do
        z = any_perpendicular(y)
    z = z / np.linalg.norm(z)
    x = np.cross(y, z)
    turn = np.stack([x, y, z])
    turned = points @ turn.T
    low, high = bounds(turned[~far_off(points)])
    scale = 1.0 if height is None else height / max(float(high[1] - low[1]), 1e-12)
    middle = (low + high) / 2
    if lateral_offset is not None:
        middle[0] = lateral_offset
    matrix = np.eye(4)
    matrix[:3, :3] = turn * scale
    matrix[:3, 3] = -scale * np.array([middle[0], low[1], middle[2]])
    return matrix


def guess_height(raw_height: float) -> float:
    """A plausible height in metres for a figure `raw_height` units tall: metres, centimetres, inches or millimetres.

    The first unit that gives 0.2 to 4 m is taken; with none the figure is made 1.75 m tall.
    """
    for unit in (1.0, 0.01, 0.001, 0.0254, 0.3048):
        if 0.2 <= raw_height * unit <= 4.0:
            return raw_height * unit
    return 1.75
