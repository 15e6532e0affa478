"""Fingers of a hand: tips are peaks of the way along the skin from the wrist; bent ones are followed along their line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld_points
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.geometry.winding import winding_numbers
from pegloom.core.skeleton.find.finger_line import FreeLine, at_share, bow, free_line, gone_on
from pegloom.core.skeleton.find.shape import Shape, persistence
from pegloom.core.skeleton.kits import MIDDLE, finger_names


@dataclass(frozen=True, eq=False)
class Finger:
    """A finger found: the knuckle it hangs on, its tip, how sure that is.

    base, tip, middle : (3,) metres; middle is on its own line at its second knuckle.
    """

    base: FloatArray
    tip: FloatArray
    sure: float
    middle: FloatArray

    @property
    def pegs(self) -> dict[str, FloatArray]:
        """Places by the endings of its pegs' names."""
        return {"base": self.base, "bend": self.middle, "tip": self.tip}


    @property
    def bent(self) -> bool:
        """Whether its joints need a peg more to lie in it."""
        return bow(np.array([self.base, self.middle, self.tip])) > OFF_CHORD


def bent_fingers(places: Mapping[str, FloatArray]) -> tuple[str, ...]:
    """Which fingers, of pegs' places by name, are bent on either side; as their pegs are called without the side."""
    names = dict.fromkeys(n[2:-5] for n in places if n.endswith("_bend") and n[:2] in ("l_", "r_"))
    return tuple(n for n in names if any(_bends(places, f"{s}_{n}") for s in "lr"))


def _bends(places: Mapping[str, FloatArray], own: str) -> bool:
    line = [places.get(f"{own}_{end}") for end in ("base", "bend", "tip")]
    return all(p is not None for p in line) and bow(np.array(line)) > OFF_CHORD


OFF_CHORD = 0.01
"""Share of its length that a finger's middle lies off the straight way at least where it has a peg of its own."""
SLIM = 3.0
"""Half widths that a finger is free for at least to be told as bent; of a stub the way along the skin says too little."""
BOWED = 0.4
"""What a finger leaves the straight way by, over half its width, from which its joints would lie visibly off its line."""
FOLDED = 0.94
"""The cosine of the angle between a finger and the hand from which the finger is folded at its knuckle."""


@dataclass(frozen=True, eq=False)
class _Palm:
    """wrist, ahead (unit) : (3,). length : to the middle knuckle; row : along it to the row of knuckles; metres."""

    wrist: FloatArray
    ahead: FloatArray
    length: float
    row: float


def find_fingers(
    points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray, *, names: tuple[str, ...],
    tips: FloatArray | None = None,
) -> dict[str, Finger]:  # fmt: skip
    """Where each finger of a hand is.

    points (n, 3), triangles (t, 3): the standing mesh.

    wrist, palm : (3,).
    tips : (f, 3), where they are known; else the skin is looked at.
    names : fingers from the thumb's side. Fingers that cannot be told apart are spread over the palm's width with a
        low confidence.
    """
    ahead = normalised(palm - wrist)
    length = float(np.linalg.norm(palm - wrist))
    tips = finger_tips(points, triangles, wrist, palm) if tips is None else tips
    if len(tips) < len(names):
        return _spread(wrist, palm, names)
    thumb_first = "thumb" in names
    if thumb_first and len(tips) > 1:
        # The thumb's tip is the least far along the hand, and at one end of the row.
        along = (tips - wrist) @ ahead
        thumb = int(np.argmin(along))
        others = np.delete(np.arange(len(tips)), thumb)
        order = others[np.argsort(np.linalg.norm(tips[others] - tips[thumb], axis=1))]
        tips = tips[[thumb, *order]]
    else:
        across = tips[:, 2]
        tips = tips[np.argsort(-across)]
    tips = tips[: len(names)]
    lines = [free_line(points, triangles, tip, TRACED * length) for tip in tips]
    own = slice(1, None) if thumb_first else slice(None)
    stretched = [_stretched(line, tip, wrist, ahead) for line, tip in zip(lines[own], tips[own], strict=True)]
    palm_ = _Palm(wrist, ahead, length, 0.52 * max(stretched, default=2 * length))
    placed: dict[str, Finger] = {}
    for name, tip, line in zip(names, tips, lines, strict=True):
        if name == "thumb":
            root = wrist + ahead * 0.3 * length
            base = root + (tip - root) * 0.3
        else:
            across = (tip - wrist) - ahead * float((tip - wrist) @ ahead)
            base = wrist + ahead * palm_.row + 0.72 * across
        placed[name] = _finger(points, triangles, line, base, tip, palm_, thumb=name == "thumb")
    return placed


SURE = 0.65
"""How sure a finger is that the skin shows."""
TRACED = 1.25
"""Palm's lengths along which a finger's line is looked for from its tip."""
KNUCKLE_IN = 0.4
"""Palm's lengths at most that a knuckle lies behind the web beside it."""


def _stretched(line: FreeLine, tip: FloatArray, wrist: FloatArray, ahead: FloatArray) -> float:
    """How far from the wrist a finger's tip would be along the hand if the finger were straight."""
    straight = float((tip - wrist) @ ahead)
    if len(line) < 3:
        return straight
    web = line.places[-1]
    free = line.length + float(np.linalg.norm(tip - line.places[0]))
    way = normalised(line.places[-2] - web)
    # Spread fingers go aside of the way ahead and are not bent for that.
    spread = float(np.clip(np.linalg.norm(way @ ahead), 0.7, 1.0))
    return max(straight, float((web - wrist) @ ahead) + spread * free)


def _finger(
    points: FloatArray, triangles: IntArray, line: FreeLine, base: FloatArray, tip: FloatArray, palm: _Palm,
    *, thumb: bool,
) -> Finger:  # fmt: skip
    """A finger brought onto its own line: one that is bent at rest along its arc, a straight one along its way."""
    if line.length > SLIM * line.thick:
        first, second, web = line.places[0], line.places[1], line.places[-1]
        inner = first + normalised(first - second) * 0.9 * float(np.linalg.norm(tip - first))
        knuckle = base if thumb else _knuckle(line.places, palm)
        # Of a line that is short its arc may lead out of the hand.
        ways = np.concatenate([there + np.linspace(1.0, 0.0, 5)[:, None] * (knuckle - there) for there in (base, web)])
        inside = np.flatnonzero(np.abs(winding_numbers(ways, points, triangles)) > 0.5)
        knuckle = ways[inside[0]] if len(inside) else knuckle
        arc = np.array([knuckle, *line.places[::-1], inner])
        # Where a thumb begins is a guess, which tells nothing of a bend.
        told = line.places if thumb else arc
        if bow(told) * float(np.linalg.norm(np.diff(told, axis=0), axis=1).sum()) > BOWED * line.thick:
            return Finger(knuckle, inner, SURE, at_share(arc, MIDDLE))
        if not thumb and float(normalised(first - web) @ palm.ahead) < FOLDED:
            base = knuckle
    end = tip - normalised(tip - base) * 0.04 * float(np.linalg.norm(tip - base))
    base, end = _on_its_line(points, triangles, line, base, end, thumb=thumb)
    return Finger(base, end, SURE, base + MIDDLE * (end - base))


def _knuckle(line: FloatArray, palm: _Palm) -> FloatArray:
    """Where a finger's first bone begins: its arc goes on behind the web to the row of knuckles."""
    arc = gone_on(line, KNUCKLE_IN * palm.length)
    along = (arc - palm.wrist) @ palm.ahead
    reached = np.flatnonzero(along <= palm.row)
    if len(reached):
        return np.asarray(arc[reached[0]])
    way = normalised(arc[-1] - arc[-2])
    lacks = (float(along[-1]) - palm.row) / max(float(-way @ palm.ahead), 0.3)
    return np.asarray(arc[-1] + way * min(lacks, KNUCKLE_IN * palm.length))


def _on_its_line(
    points: FloatArray, triangles: IntArray, line: FreeLine, base: FloatArray, tip: FloatArray,
    *, thumb: bool,
) -> tuple[FloatArray, FloatArray]:
    """Base and tip of a straight finger brought onto its own middle line, so that the joints between them lie inside it."""
    if len(line) < 3:
        return base, tip
    centre = line.places.mean(axis=0)
    # Of a stub the rings tell a middle, and no direction.
    tells = thumb or line.length > SLIM * line.thick
    way = normalised(np.linalg.svd(line.places - centre)[2][0] if tells else centre - base)
    way = way if way @ (tip - base) > 0 else -way
    if np.linalg.norm(np.cross(way, normalised(tip - base))) > SWAYS:
        return base, tip

    def on_line(place: FloatArray) -> FloatArray:
        return np.asarray(centre + way * float((place - centre) @ way))

    # The knuckle lies in the palm and is brought over no farther than all between it and the tip lies inside.
    end = on_line(tip)
    for share in (0.5, 0.75, 1.0):
        start = base + share * (on_line(base) - base)
        along = start + np.linspace(0.0, 0.8, 5)[:, None] * (end - start)
        if (np.abs(winding_numbers(along, points, triangles)) > 0.5).all():
            return start, end
    straight = base + np.linspace(0.0, 0.8, 5)[:, None] * (tip - base)
    if (np.abs(winding_numbers(straight, points, triangles)) > 0.5).all():
        return base, tip
    return 0.5 * (base + on_line(base)), end


SWAYS = 0.75
"""The sine of the angle to which a finger's line may differ from the way from knuckle to tip."""


def find_hand(shape: Shape, fingers: int | None) -> tuple[int, dict[str, tuple[FloatArray, float]]]:
    """Pegs of a hand alone, named as a left one's, and how many fingers it has.

    fingers : as many as asked, None for as many as it shows. The wrist is the end the fingers point away from.
    """
    tips = [t for t in shape.tips(0.06 * shape.longest) if t.length > 0.12 * shape.longest]
    core = shape.centres[shape.core]
    # The arm may be an end, too: fingers are many, and lead.
    ways = np.array([normalised(t.place - core) for t in tips]).reshape(-1, 3)
    lead = normalised(ways.sum(axis=0)) if len(ways) else np.array([0.0, 1.0, 0.0])
    ahead = [k for k, way in enumerate(ways) if way @ lead > 0.35]
    lead = normalised(ways[ahead].sum(axis=0)) if ahead else lead
    along = (shape.centres - core) @ lead
    wrist = shape.centres[along < along.min() + 0.06 * shape.longest].mean(axis=0)
    reach = float(along.max() - along.min())
    slab = np.abs(along - (along.min() + 0.5 * reach)) < 1.5 * shape.cell
    palm = shape.centres[slab].mean(axis=0) if slab.any() else wrist + 0.5 * reach * lead
    palm = wrist + lead * float((palm - wrist) @ lead)
    ends = finger_tips(shape.points, shape.triangles, wrist, palm)
    if len(ends) < len(ahead):
        # Of a hand of many shells the skin does not lead from the wrist to the tips; the solid does.
        ends = np.array([tips[k].place for k in ahead][:MOST])
    shown = len(ends)
    count = (shown if shown >= 2 else 5) if fingers is None else fingers
    sure = 0.6 if shown >= 2 else 0.3
    found: dict[str, tuple[FloatArray, float]] = {"l_wrist": (wrist, sure), "l_palm": (palm, sure)}
    if count:
        placed = find_fingers(shape.points, shape.triangles, wrist, palm, names=finger_names(count), tips=ends)
        for name, finger in placed.items():
            found |= {f"l_{name}_{end}": (place, finger.sure) for end, place in finger.pegs.items()}
    return count, found


MOST = 5
STANDS_OUT = 0.2
"""Palm's lengths that a finger stands out from the web beside it; the palm's own end under loose fingers does by less."""
RING = 0.8
"""Palm's lengths from the wrist within which its ring of vertices is looked for."""
LOOSE, TOUCHES = 2.2, 0.25
"""Palm's lengths that a finger of its own shell measures at most, and may stand off the hand."""
SHORTEST = 0.35
"""Share of the longest finger's way from the wrist that the shortest has."""


def finger_tips(
    points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray, *, loose_ones: bool = True
) -> FloatArray:
    """Tips (up to 5, 3) of the fingers that stand out from a hand, moved just under the skin; the farthest first.

    loose_ones : whether a shell of its own that touches the hand may be a finger.
    """
    ahead = normalised(palm - wrist)
    length = float(np.linalg.norm(palm - wrist))
    welded = weld_points(points)
    places = points[welded.first]
    in_hand = ((places - wrist) @ ahead > -0.1 * length) & (np.linalg.norm(places - wrist, axis=1) < 4.0 * length)
    tri = welded.group[triangles]
    tri = tri[in_hand[tri].all(axis=1)]
    none = np.zeros((0, 3))
    if len(tri) < 20:
        return none
    edges = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    weights = np.linalg.norm(places[edges[:, 0]] - places[edges[:, 1]], axis=1) + 1e-9
    graph = sparse.csr_matrix((weights, (edges[:, 0], edges[:, 1])), shape=(len(places), len(places)))
    # The wrist's own ring: a skirt or a thigh beside the hand lies in its plane, too.
    level = in_hand & (np.abs((places - wrist) @ ahead) < 0.15 * length)
    near_wrist = np.flatnonzero(level & (np.linalg.norm(places - wrist, axis=1) < RING * length))
    if len(near_wrist) == 0:
        return none
    loose: IntArray = np.zeros(0, dtype=np.int64)
    if loose_ones:
        graph, loose = _with_loose_fingers(graph, places, near_wrist, tri, wrist, ahead, length)
    far = dijkstra(graph, directed=False, indices=near_wrist, min_only=True)
    far[~np.isfinite(far)] = -1.0
    both = sparse.csr_matrix(graph + graph.T)
    order = np.argsort(-far, kind="stable")
    peak, saddle = persistence(both.indptr, both.indices, far, order[far[order] >= 0])
    ends = np.flatnonzero((peak >= 0) & (far - np.maximum(saddle, 0.0) > STANDS_OUT * length) & (far > 0.4 * length))
    if len(loose):
        # The palm's own end, under fingers stuck into it, is none.
        gap = np.asarray(cKDTree(places[loose]).query(places[ends])[0])
        ends = ends[np.isin(ends, loose) | (gap > TOUCHES * length)]
    ends = ends[np.argsort(-far[ends], kind="stable")][:MOST]
    if len(ends) == 0:
        return none
    ends = ends[far[ends] > SHORTEST * far[ends[0]]]
    apart = dijkstra(both, indices=ends, limit=0.12 * length)
    return np.array([places[np.isfinite(row)].mean(axis=0) for row in apart])


def _with_loose_fingers(
    graph: sparse.csr_matrix, places: FloatArray, near_wrist: IntArray, tri: IntArray,
    wrist: FloatArray, ahead: FloatArray, length: float,
) -> tuple[sparse.csr_matrix, IntArray]:  # fmt: skip
    """The graph with fingers that are shells of their own tied to the hand by their roots; the places of such fingers.

    Taken for one: a shell no larger than a finger, ahead of the wrist, that touches the hand or nearly.
    """
    _, label = connected_components(graph, directed=False)
    used = np.unique(tri)
    hand = used[np.isin(label[used], np.unique(label[near_wrist]))]
    others = [shell for shell in np.unique(label[used]) if shell not in label[near_wrist]]
    tree = cKDTree(places[hand])
    ties: list[tuple[int, int, float]] = []
    loose: list[IntArray] = [np.zeros(0, dtype=np.int64)]
    for shell in others:
        mine = used[label[used] == shell]
        span = float(np.linalg.norm(np.ptp(places[mine], axis=0)))
        if len(mine) < 4 or span > LOOSE * length or ((places[mine].mean(axis=0) - wrist) @ ahead) < 0.3 * length:
            continue
        gap, nearest = (np.asarray(v) for v in tree.query(places[mine]))
        touching = np.flatnonzero(gap < TOUCHES * length)
        if len(touching):
            # By its root, so that it has one end.
            k = int(touching[np.argmin((places[mine[touching]] - wrist) @ ahead)])
            ties.append((int(mine[k]), int(hand[nearest[k]]), float(gap[k]) + 1e-9))
            loose.append(mine)
    if ties:
        rows, columns, gaps = (np.array(v) for v in zip(*ties, strict=True))
        graph = sparse.csr_matrix(graph + sparse.csr_matrix((gaps, (rows, columns)), shape=graph.shape))
    return graph, np.concatenate(loose)


def _spread(wrist: FloatArray, palm: FloatArray, names: tuple[str, ...]) -> dict[str, Finger]:
    """Fingers side by side over a palm of usual width, where the mesh does not show them."""
    ahead = palm - wrist
    length = float(np.linalg.norm(ahead))
    forward = np.array([0.0, 0.0, 1.0])
    across = forward - normalised(ahead) * float(forward @ normalised(ahead))
    across = normalised(across) if np.linalg.norm(across) > 0.1 else any_perpendicular(ahead)
    placed: dict[str, Finger] = {}
    row = [n for n in names if n != "thumb"]
    for name in names:
        if name == "thumb":
            base, tip = wrist + 0.35 * ahead + 0.3 * length * across, wrist + 0.9 * ahead + 0.6 * length * across
        else:
            place = 0.36 - 0.72 * (row.index(name) / (len(row) - 1)) if len(row) > 1 else 0.0
            base = palm + across * place * length
            tip = base + 0.85 * ahead
        placed[name] = Finger(base, tip, 0.25, base + MIDDLE * (tip - base))
    return placed
