"""Fingers of a hand: tips are peaks of the way along the skin from the wrist."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.geometry.mesh import weld_points
from pegloom.core.geometry.transforms import any_perpendicular, normalised
from pegloom.core.geometry.winding import winding_numbers
from pegloom.core.skeleton.find.shape import Shape, persistence
from pegloom.core.skeleton.kits import finger_names

Placed = dict[str, tuple[FloatArray, FloatArray, float]]


def find_fingers(
    points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray, *, names: tuple[str, ...],
    tips: FloatArray | None = None,
) -> Placed:  # fmt: skip
    """Base and tip of each finger, with a confidence.

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
    placed: Placed = {}
    fingers = tips[1:] if thumb_first else tips
    reach = float(np.max((fingers - wrist) @ ahead)) if len(fingers) else 2 * length
    for name, tip in zip(names, tips, strict=True):
        if name == "thumb":
            root = wrist + ahead * 0.3 * length
            base = root + (tip - root) * 0.3
        else:
            row = wrist + ahead * 0.52 * reach
            across = (tip - wrist) - ahead * float((tip - wrist) @ ahead)
            base = row + 0.72 * across
        inner = tip - normalised(tip - base) * 0.04 * float(np.linalg.norm(tip - base))
        placed[name] = (*_on_its_line(points, triangles, wrist, palm, base, inner), 0.65)
    return placed


def _on_its_line(
    points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray, base: FloatArray, tip: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Base and tip of a finger brought onto its own middle line, so that the joints between them lie inside it.

    Rings of the skin at equal ways from the tip have their middles on that line; as far as the finger is free.
    """
    length = float(np.linalg.norm(tip - base))
    welded = weld_points(points)
    places = points[welded.first]
    near = np.flatnonzero(np.linalg.norm(places - tip, axis=1) < 1.3 * length)
    if len(near) < 12 or length <= 0:
        return base, tip
    at = np.full(len(places), -1)
    at[near] = np.arange(len(near))
    tri = at[welded.group[triangles]]
    tri = tri[(tri >= 0).all(axis=1)]
    own = places[near]
    edges = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    weights = np.linalg.norm(own[edges[:, 0]] - own[edges[:, 1]], axis=1) + 1e-9
    graph = sparse.csr_matrix((weights, (edges[:, 0], edges[:, 1])), shape=(len(near), len(near)))
    start = int(np.argmin(np.linalg.norm(own - tip, axis=1)))
    way = np.asarray(dijkstra(graph, directed=False, indices=np.array([start]), min_only=True, limit=LINE[1] * length))
    middles = []
    for low, high in pairwise(np.linspace(LINE[0], LINE[1], RINGS + 1) * length):
        ring = own[(way >= low) & (way < high)]
        if len(ring) >= 4:
            # A ring's points crowd where the mesh is fine: its box tells its middle better than their mean.
            middles.append((ring.min(axis=0) + ring.max(axis=0)) / 2)
    if len(middles) < 3:
        return base, tip
    middle = np.array(middles)
    centre = middle.mean(axis=0)
    line = normalised(np.linalg.svd(middle - centre)[2][0])
    line = line if line @ (tip - base) > 0 else -line
    if np.linalg.norm(np.cross(line, normalised(tip - base))) > SWAYS:
        return base, tip

    def on_line(place: FloatArray) -> FloatArray:
        return np.asarray(centre + line * float((place - centre) @ line))

    # The knuckle lies in the palm and is brought over no farther than all between it and the tip lies inside.
    end = on_line(tip)
    for share in (0.5, 0.75, 1.0):
        start_ = base + share * (on_line(base) - base)
        along = start_ + np.linspace(0.0, 0.8, 5)[:, None] * (end - start_)
        if (np.abs(winding_numbers(along, points, triangles)) > 0.5).all():
            return start_, end
    straight = base + np.linspace(0.0, 0.8, 5)[:, None] * (tip - base)
    if (np.abs(winding_numbers(straight, points, triangles)) > 0.5).all():
        return base, tip
    return 0.5 * (base + on_line(base)), end


LINE, RINGS, SWAYS = (0.08, 0.75), 6, 0.75
"""Shares of a finger's length from its tip within which its line is told, rings it is told by, and the sine of the
angle to which it may differ from the way from knuckle to tip."""


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
        for name, (base, tip, trust) in placed.items():
            found |= {f"l_{name}_base": (base, trust), f"l_{name}_tip": (tip, trust)}
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


def finger_tips(points: FloatArray, triangles: IntArray, wrist: FloatArray, palm: FloatArray) -> FloatArray:
    """Tips (up to 5, 3) of the fingers that stand out from a hand, moved just under the skin; the farthest first."""
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


def _spread(wrist: FloatArray, palm: FloatArray, names: tuple[str, ...]) -> Placed:
    """Fingers side by side over a palm of usual width, where the mesh does not show them."""
    ahead = palm - wrist
    length = float(np.linalg.norm(ahead))
    forward = np.array([0.0, 0.0, 1.0])
    across = forward - normalised(ahead) * float(forward @ normalised(ahead))
    across = normalised(across) if np.linalg.norm(across) > 0.1 else any_perpendicular(ahead)
    placed: Placed = {}
    row = [n for n in names if n != "thumb"]
    for name in names:
        if name == "thumb":
            base, tip = wrist + 0.35 * ahead + 0.3 * length * across, wrist + 0.9 * ahead + 0.6 * length * across
        else:
            place = 0.36 - 0.72 * (row.index(name) / (len(row) - 1)) if len(row) > 1 else 0.0
            base = palm + across * place * length
            tip = base + 0.85 * ahead
        placed[name] = (base, tip, 0.25)
    return placed
