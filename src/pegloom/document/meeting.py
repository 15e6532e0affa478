"""Parts that meet: borders that lie on each other at rest, carried as one, so that no part opens from its neighbour.

A head and a body, trousers and a shirt come as parts of their own with an open border each. Vertex on vertex, whatever
gives the one side weights gives them to the other; what was changed on both sides becomes their mean. Where one border
is cut more finely than the other, its vertices follow the coarser one's edges: each has its ends' weights by its share.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from pegloom.core.arrays import BoolArray, FloatArray, IntArray, frozen
from pegloom.core.geometry.mesh import Mesh, edge_use, place_neighbours, weld
from pegloom.core.geometry.near import near_groups
from pegloom.core.memo import by_identity, of_the_latest
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, dense_over, limited_rows, with_rows
from pegloom.document.model import Character, Document, Part, PartKind, Skin

ON_EACH_OTHER = 2e-4
"""Share of the body's height within which two borders' vertices lie on each other."""
RINGS, FALLS = 4, 0.6
"""Rings beside a border over which what closing it changed is taken along, and the share of it that each has."""
ALONG = 0.08
"""Share of a border's edge within which another border's vertex lies on it: round borders cut unlike keep that apart."""
SAME = 1e-9
"""Weights nearer than this are the same."""


@dataclass(frozen=True, slots=True, eq=False)
class Meeting:
    """Vertices of several parts that lie on each other.

    part (m,) : which of `parts`. vertex (m,). group (m,) : 0 to `count` - 1, the same for those at one place.
    follows : vertices on the edges of another part's border.
    """

    parts: tuple[str, ...]
    part: IntArray
    vertex: IntArray
    group: IntArray
    count: int
    follows: Follows


@dataclass(frozen=True, slots=True, eq=False)
class Follows:
    """Border vertices that lie along another part's coarser border.

    part, vertex (q,) : each with its seam's twins. lead (q,) : the part followed. ends (q, 2) : vertices of its edge.
    share (q,) : of the way from the first end to the second.
    """

    part: IntArray
    vertex: IntArray
    lead: IntArray
    ends: IntArray
    share: FloatArray


NOBODY = np.zeros(0, dtype=np.int64)
NO_FOLLOWS = Follows(NOBODY, NOBODY, NOBODY, np.zeros((0, 2), dtype=np.int64), np.zeros(0))


@by_identity
def _border_edges(mesh: Mesh) -> IntArray:
    """Open edges (e, 2) of a mesh, by place."""
    use = edge_use(mesh)
    return np.asarray(frozen(use[use[:, 2] == 1][:, :2].copy()))


@by_identity
def _border(mesh: Mesh) -> IntArray:
    """Places (b,) on a mesh's open edges."""
    return np.asarray(frozen(np.unique(_border_edges(mesh))))


def meeting_of(character: Character) -> Meeting | None:
    """Where the character's parts of skin and cloth meet, those of one detail level; None where none do."""
    parts = tuple(p for p in character.included if p.kind in (PartKind.SKIN, PartKind.CLOTH) and p.mesh.face_count)
    if len(parts) < 2:
        return None
    reach = ON_EACH_OTHER * max(character.height, 1e-12)
    return _meeting(tuple(p.id for p in parts), tuple(p.detail for p in parts), reach, *(p.mesh for p in parts))


@of_the_latest(4)
def _meeting(ids: tuple[str, ...], details: tuple[int, ...], reach: float, *meshes: Mesh) -> Meeting | None:
    places, owners, numbers = [], [], []
    for k, mesh in enumerate(meshes):
        border = _border(mesh)
        # Levels of one body lie in each other everywhere and are told apart by a step nobody else is away.
        places.append(mesh.points[weld(mesh).first][border] + [1e3 * details[k] * max(reach, 1.0), 0.0, 0.0])
        owners.append(np.full(len(border), k))
        numbers.append(border)
    owner, number = np.concatenate(owners), np.concatenate(numbers)
    if len(owner) == 0:
        return None
    follows = _follows(details, reach, places, numbers, *meshes)
    label = near_groups(np.concatenate(places), reach)
    # A group of several parts: what one part has at a place of its own is welded already.
    seen = np.unique(np.stack([label, owner], axis=1), axis=0)
    several = np.bincount(seen[:, 0], minlength=int(label.max()) + 1) > 1
    keep = several[label]
    if not keep.any() and len(follows.part) == 0:
        return None
    owner, number, label = owner[keep], number[keep], label[keep]
    _, group = np.unique(label, return_inverse=True)
    part, vertex, of = [], [], []
    for k, mesh in enumerate(meshes):
        mine = owner == k
        at = np.full(weld(mesh).count, -1)
        at[number[mine]] = group[mine]
        there = np.flatnonzero(at[weld(mesh).group] >= 0)
        part.append(np.full(len(there), k))
        vertex.append(there)
        of.append(at[weld(mesh).group][there])
    count = int(group.max()) + 1 if len(group) else 0
    return Meeting(ids, np.concatenate(part), np.concatenate(vertex), np.concatenate(of), count, follows)


def _follows(
    details: tuple[int, ...], reach: float, places: list[FloatArray], numbers: list[IntArray], *meshes: Mesh
) -> Follows:
    """Border vertices of a finer part that lie on a coarser one's border edges and on none of its vertices."""
    edges = [_border_edges(mesh) for mesh in meshes]
    at = [mesh.points[weld(mesh).first] for mesh in meshes]
    long = [float(np.linalg.norm(p[e[:, 0]] - p[e[:, 1]], axis=1).mean()) if len(e) else 0.0 for p, e in zip(at, edges, strict=True)]
    rows: list[tuple[int, int, int, int, int, float]] = []
    for k, here in enumerate(meshes):
        if len(numbers[k]) == 0:
            continue
        g, best = weld(here), np.full(len(numbers[k]), np.inf)
        found: dict[int, tuple[int, int, int, float]] = {}
        taken = np.zeros(len(numbers[k]), dtype=bool)
        for j in range(len(meshes)):
            if j == k or details[j] != details[k] or len(edges[j]) == 0:
                continue
            near = cKDTree(places[j]).query(places[k], distance_upper_bound=reach)[0]
            taken |= np.isfinite(near)
            if (long[j], -j) < (long[k], -k):
                continue
            ends = at[j][edges[j]]
            middle, half = ends.mean(axis=1), 0.5 * np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
            own = at[k][numbers[k]]
            # Only edges whose middle is near enough for a vertex to lie on them are looked at.
            close = cKDTree(middle).query_ball_point(own, 1.1 * float(half.max()) + reach)
            for i, some in enumerate(np.asarray(close, dtype=object)):
                for e in some:
                    way = ends[e, 1] - ends[e, 0]
                    t = float(np.clip((own[i] - ends[e, 0]) @ way / max(float(way @ way), 1e-30), 0.0, 1.0))
                    off = float(np.linalg.norm(own[i] - ends[e, 0] - t * way))
                    if off < best[i] and off <= max(reach, ALONG * 2 * float(half[e])):
                        best[i] = off
                        found[i] = (j, int(edges[j][e, 0]), int(edges[j][e, 1]), t)
        members = {int(n): np.flatnonzero(g.group == n) for n in numbers[k][[i for i in found if not taken[i]]]}
        for i, (j, a, b, t) in found.items():
            if not taken[i]:
                first = weld(meshes[j]).first
                rows += [(k, int(v), j, int(first[a]), int(first[b]), t) for v in members[int(numbers[k][i])]]
    if not rows:
        return NO_FOLLOWS
    table = np.array(rows)
    whole = table[:, :5].astype(np.int64)
    return Follows(whole[:, 0], whole[:, 1], whole[:, 2], whole[:, 3:5], table[:, 5])


def that_meet(character: Character, parts: Collection[str]) -> list[tuple[tuple[Part, ...], list[IntArray]]]:
    """Which of some parts lie on each other vertex on vertex: each such few, and a number (g,) for each one's places.

    Places of several parts that lie on each other have the same number.
    """
    meeting = meeting_of(character)
    if meeting is None or meeting.count == 0:
        return []
    chosen = [k for k, part in enumerate(meeting.parts) if part in parts]
    there = np.zeros((len(meeting.parts), meeting.count), dtype=bool)
    there[meeting.part, meeting.group] = True
    touch = there[chosen].astype(np.int64) @ there[chosen].T.astype(np.int64)
    count, label = connected_components(sparse.csr_matrix(touch), directed=False)
    found = []
    for few in range(count):
        members = [chosen[i] for i in np.flatnonzero(label == few)]
        if len(members) < 2:
            continue
        numbers, start = [], meeting.count
        for k in members:
            g = weld(character.part(meeting.parts[k]).mesh)
            own = np.arange(start, start + g.count)
            mine = meeting.part == k
            own[g.group[meeting.vertex[mine]]] = meeting.group[mine]
            numbers.append(own)
            start += g.count
        found.append((tuple(character.part(meeting.parts[k]) for k in members), numbers))
    return found


def borders_carried(before: Document, after: Document) -> Document:
    """What an edit made of `before`, with every border that it changed on one part changed on those it meets as well."""
    if not after.characters:
        return after
    character = after.require_character()
    old = before.require_character().skin if before.characters else None
    skin = character.skin
    if skin is None or old is skin:
        return after
    changed = {p for p, w in skin.weights.items() if old is None or old.weights.get(p) is not w}
    new = _closed(character, skin, old, changed) if changed else None
    if new is None:
        return after
    weaves = tuple(replace(w, skin=new) if w.skin is skin else w for w in character.weaves)
    return after.with_character(replace(character, skin=new, weaves=weaves))


def close_borders(document: Document) -> tuple[Document, int]:
    """Every border that opens given one row on both sides, and what is beside it eased along.

    Returns the document and how many places were closed.
    """
    character = document.require_character()
    skin, meeting = character.skin, meeting_of(character)
    if skin is None or meeting is None:
        return document, 0
    rows, _ = _rows(meeting, skin)
    count = int(_apart(meeting, rows).sum()) + int(_strayed(meeting, skin).sum())
    if count == 0:
        return document, 0
    new = _closed(character, skin, None, set(skin.weights), eased=True)
    return (document, 0) if new is None else (document.with_character(replace(character, skin=new)), count)


def _rows(meeting: Meeting, skin: Skin) -> tuple[FloatArray, tuple[str, ...]]:
    """Weights (m, j) of the meeting's vertices over all their joints; a row of an unbound part is nothing."""
    ids = tuple(dict.fromkeys(j for p in meeting.parts if p in skin.weights for j in skin.weights[p].joint_ids))
    return _held(meeting, skin, meeting.part, meeting.vertex, ids), ids


def _held(meeting: Meeting, skin: Skin, part_of: IntArray, vertex: IntArray, ids: tuple[str, ...]) -> FloatArray:
    """Weights (m, j) of some vertices of some of the meeting's parts."""
    rows = np.zeros((len(vertex), len(ids)))
    for k, part in enumerate(meeting.parts):
        mine = np.flatnonzero(part_of == k)
        weights = skin.weights.get(part)
        if weights is not None and len(mine):
            column = np.array([ids.index(j) for j in weights.joint_ids])
            rows[np.ix_(mine, column)] = np.asarray(weights.matrix()[vertex[mine]].todense())
    return rows


def _led(meeting: Meeting, skin: Skin, ids: tuple[str, ...]) -> tuple[FloatArray, FloatArray]:
    """Weights (q, j) of what follows, and what the edges it lies on tell it to have; nothing where these are unbound."""
    follows = meeting.follows
    own = _held(meeting, skin, follows.part, follows.vertex, ids)
    one, other = (_held(meeting, skin, follows.lead, follows.ends[:, k], ids) for k in (0, 1))
    t = follows.share[:, None]
    wanted = (1.0 - t) * one + t * other
    wanted[~(one.any(axis=1) & other.any(axis=1))] = 0.0
    return own, wanted


def _strayed(meeting: Meeting, skin: Skin) -> BoolArray:
    """Which of what follows (q,) is held otherwise than the edges it lies on."""
    if len(meeting.follows.part) == 0:
        return np.zeros(0, dtype=bool)
    _, ids = _rows(meeting, skin)
    own, wanted = _led(meeting, skin, ids)
    least = max((skin.limit(p) for p in meeting.parts if p in skin.weights), default=4)
    known = own.any(axis=1) & wanted.any(axis=1)
    cut = wanted.copy()
    if known.any():
        cut[known] = limited_rows(wanted[known], least)
    return np.asarray(known & (np.abs(own - cut).max(axis=1, initial=0.0) > 1e-3))


def _apart(meeting: Meeting, rows: FloatArray) -> BoolArray:
    """Which places (count,) have members that are held differently."""
    least = np.full((meeting.count, rows.shape[1]), np.inf)
    most = np.full((meeting.count, rows.shape[1]), -np.inf)
    bound = rows.any(axis=1)
    np.minimum.at(least, meeting.group[bound], rows[bound])
    np.maximum.at(most, meeting.group[bound], rows[bound])
    gap = np.where(np.isfinite(most - least), most - least, 0.0)
    return np.asarray(gap.max(axis=1, initial=0.0) > 1e-4)


def _closed(
    character: Character, skin: Skin, old: Skin | None, changed: set[str], *, eased: bool = False
) -> Skin | None:
    """The skin with meeting vertices given one row each, and what follows its edges' rows; None where all have them."""
    meeting = meeting_of(character)
    if meeting is None:
        return None
    led = skin if old is None else _pushed(character, meeting, skin, old, changed)
    grouped = _grouped(character, meeting, led, old, changed, eased=eased) or led
    result = _followed(character, meeting, grouped, eased=eased)
    return None if result is skin else result


def _pushed(character: Character, meeting: Meeting, skin: Skin, old: Skin, changed: set[str]) -> Skin:
    """The ends of edges nobody changed given what was changed at the vertices along them."""
    follows = meeting.follows
    if len(follows.part) == 0:
        return skin
    ids = tuple(dict.fromkeys(j for s in (skin, old) for p in meeting.parts if p in s.weights for j in s.weights[p].joint_ids))
    own, before = (_held(meeting, s, follows.part, follows.vertex, ids) for s in (skin, old))
    nearer = np.where(follows.share < 0.5, follows.ends[:, 0], follows.ends[:, 1])
    now, then = (_held(meeting, s, follows.lead, nearer, ids) for s in (skin, old))
    fresh = (np.abs(own - before).max(axis=1, initial=0.0) > SAME) & (np.abs(now - then).max(axis=1, initial=0.0) <= SAME)
    fresh &= np.isin(follows.part, [k for k, p in enumerate(meeting.parts) if p in changed]) & own.any(axis=1) & now.any(axis=1)
    if not fresh.any():
        return skin
    weights = dict(skin.weights)
    for k, part in enumerate(meeting.parts):
        mine = np.flatnonzero(fresh & (follows.lead == k))
        if len(mine):
            ends, inverse = np.unique(nearer[mine], return_inverse=True)
            rows = np.zeros((len(ends), len(ids)))
            np.add.at(rows, inverse, own[mine])
            g = weld(character.part(part).mesh)
            twins = [np.flatnonzero(g.group == g.group[v]) for v in ends]
            each = np.repeat(limited_rows(rows, skin.limit(part)), [len(t) for t in twins], axis=0)
            weights[part] = _put(character.part(part), weights[part], ids, np.concatenate(twins), each, skin.limit(part), False)
    return replace(skin, weights=MappingProxyType(weights))


def _followed(character: Character, meeting: Meeting, skin: Skin, *, eased: bool) -> Skin:
    """The skin with what follows given the rows of the edges it lies on."""
    if len(meeting.follows.part) == 0:
        return skin
    _, ids = _rows(meeting, skin)
    own, wanted = _led(meeting, skin, ids)
    known = own.any(axis=1) & wanted.any(axis=1)
    weights = dict(skin.weights)
    for k, part in enumerate(meeting.parts):
        mine = np.flatnonzero(known & (meeting.follows.part == k))
        if len(mine):
            rows = limited_rows(wanted[mine], skin.limit(part))
            moved = np.abs(rows - own[mine]).max(axis=1, initial=0.0) > SAME
            if moved.any():
                vertices = meeting.follows.vertex[mine[moved]]
                fixed = np.concatenate([meeting.vertex[meeting.part == k], meeting.follows.vertex[meeting.follows.part == k]])
                weights[part] = _put(
                    character.part(part), weights[part], ids, vertices, rows[moved], skin.limit(part), eased, fixed=fixed
                )
    same = all(weights[p] is skin.weights[p] for p in weights)
    return skin if same else replace(skin, weights=MappingProxyType(weights))


def _grouped(
    character: Character, meeting: Meeting, skin: Skin, old: Skin | None, changed: set[str], *, eased: bool
) -> Skin | None:
    """The skin with vertices at one place given one row each; None where they all have it."""
    rows, ids = _rows(meeting, skin)
    bound = rows.any(axis=1)
    fresh = np.isin(meeting.part, [k for k, p in enumerate(meeting.parts) if p in changed]) & bound
    if old is not None:
        before, known = _rows(meeting, old)
        columns = tuple(dict.fromkeys((*ids, *known)))
        wide = [np.zeros((len(rows), len(columns))) for _ in range(2)]
        for table, values, names in zip(wide, (rows, before), (ids, known), strict=True):
            table[:, [columns.index(j) for j in names]] = values
        fresh &= np.abs(wide[0] - wide[1]).max(axis=1, initial=0.0) > SAME
    count = np.bincount(meeting.group[fresh], minlength=meeting.count)
    total = np.zeros((meeting.count, len(ids)))
    np.add.at(total, meeting.group[fresh], rows[fresh])
    limit = min(skin.limit(p) for p in meeting.parts if p in skin.weights)
    told = count > 0
    total[told] = limited_rows(total[told], limit) if told.any() else total[told]
    wanted = np.where(told[meeting.group][:, None], total[meeting.group], rows)
    moved = bound & (np.abs(wanted - rows).max(axis=1, initial=0.0) > SAME)
    if not moved.any():
        return None
    weights = dict(skin.weights)
    for k, part in enumerate(meeting.parts):
        mine = np.flatnonzero((meeting.part == k) & moved)
        if len(mine):
            # What of the border stays is not eased along: it would open on this side alone.
            weights[part] = _put(
                character.part(part), weights[part], ids, meeting.vertex[mine], wanted[mine], limit, eased,
                fixed=meeting.vertex[meeting.part == k],
            )  # fmt: skip
    return replace(skin, weights=MappingProxyType(weights))


def _put(
    part: Part, weights: Weights, ids: tuple[str, ...], vertices: IntArray, rows: FloatArray, limit: int, eased: bool,
    *, fixed: IntArray = NOBODY,
) -> Weights:  # fmt: skip
    """A part's weights with some rows put in.

    eased : what they changed by falls off over the rings beside them, but for the vertices `fixed`.
    """
    columns = (*weights.joint_ids, *(j for j in ids if j not in set(weights.joint_ids)))
    place = [columns.index(j) for j in ids]
    wide = np.zeros((len(vertices), len(columns)))
    wide[:, place] = rows
    if not eased:
        return with_rows(weights, columns, vertices, wide)
    g, ring = weld(part.mesh), place_neighbours(part.mesh)
    values = dense_over(weights, columns)[g.first]
    border = np.unique(g.group[vertices])
    target = np.zeros((g.count, len(columns)))
    target[g.group[vertices]] = wide
    delta = np.zeros_like(values)
    delta[border] = target[border] - values[border]
    done = np.zeros(g.count, dtype=bool)
    done[border] = True
    for _ in range(RINGS):
        nearby = np.flatnonzero((ring @ done.astype(np.float64) > 0) & ~done)
        if len(nearby) == 0:
            break
        share = np.maximum(np.asarray(ring[nearby] @ done.astype(np.float64)), 1e-12)
        delta[nearby] = FALLS * np.asarray(ring[nearby] @ np.where(done[:, None], delta, 0.0)) / share[:, None]
        done[nearby] = True
    done[np.setdiff1d(g.group[fixed], border)] = False
    rows_at = np.flatnonzero(done)
    result = limited_rows(np.maximum(values[rows_at] + delta[rows_at], 0.0), limit)
    mine = np.flatnonzero(done[g.group])
    values[rows_at] = result
    return with_rows(weights, columns, mine, values[g.group[mine]])


@dataclass(frozen=True, slots=True)
class OpenBorder:
    """A border that opens: the two parts it is of, how many places, metres at most in the trials, and where."""

    parts: tuple[str, str]
    count: int
    opens: float
    where: tuple[float, float, float]


def open_borders(character: Character) -> tuple[OpenBorder, ...]:
    """Borders that lie on each other at rest and part in the trials, the widest first."""
    meeting, skin, skeleton = meeting_of(character), character.skin, character.skeleton
    if meeting is None or skin is None or skeleton is None:
        return ()
    rows, ids = _rows(meeting, skin)
    apart = _apart(meeting, rows)
    members = np.flatnonzero(apart[meeting.group] & rows.any(axis=1))
    if any(j not in skeleton.index for j in ids):
        return ()
    along = _open_along(character, meeting, skin, skeleton, ids)
    if len(members) == 0:
        return along
    columns = [skeleton.index[j] for j in ids]
    rest = np.zeros((len(members), 4))
    rest[:, 3] = 1.0
    for k, part in enumerate(meeting.parts):
        mine = meeting.part[members] == k
        rest[mine, :3] = character.part(part).mesh.points[meeting.vertex[members[mine]]]
    group = meeting.group[members]
    opens = np.zeros(meeting.count)
    for trial in trials_of(skeleton):
        joints = evaluate_rig(skeleton, None, trial_pose(skeleton, trial.id)).joints
        matrices = skin_matrices(skeleton, joints)[columns]
        shown = np.einsum("mj,jab,mb->ma", rows[members], matrices[:, :3], rest)
        low, high = np.full((meeting.count, 3), np.inf), np.full((meeting.count, 3), -np.inf)
        np.minimum.at(low, group, shown)
        np.maximum.at(high, group, shown)
        gap = np.linalg.norm(np.where(np.isfinite(high), high - low, 0.0), axis=1)
        opens = np.maximum(opens, gap)
    found = []
    for pair in _pairs(meeting, members):
        mine = np.flatnonzero(pair[2] & (opens > ON_EACH_OTHER * character.height))
        if len(mine):
            worst = int(mine[np.argmax(opens[mine])])
            at = rest[int(np.flatnonzero(group == worst)[0]), :3]
            x, y, z = (float(v) for v in at)
            found.append(OpenBorder((pair[0], pair[1]), len(mine), float(opens[worst]), (x, y, z)))
    return tuple(sorted([*found, *along], key=lambda b: -b.opens))


def _open_along(
    character: Character, meeting: Meeting, skin: Skin, skeleton: Skeleton, ids: tuple[str, ...]
) -> tuple[OpenBorder, ...]:
    """Borders of which vertices leave the edges they lie along, by more than they stood off at rest."""
    follows = meeting.follows
    chosen = np.flatnonzero(_strayed(meeting, skin))
    if len(chosen) == 0:
        return ()
    sides = [
        (follows.part[chosen], follows.vertex[chosen]), (follows.lead[chosen], follows.ends[chosen, 0]),
        (follows.lead[chosen], follows.ends[chosen, 1]),
    ]  # fmt: skip
    rows = [_held(meeting, skin, part, vertex, ids) for part, vertex in sides]
    rest = []
    for part, vertex in sides:
        places = np.ones((len(chosen), 4))
        for k, name in enumerate(meeting.parts):
            mine = part == k
            places[mine, :3] = character.part(name).mesh.points[vertex[mine]]
        rest.append(places)
    t = follows.share[chosen][:, None]
    stood = np.linalg.norm(rest[0][:, :3] - (1 - t) * rest[1][:, :3] - t * rest[2][:, :3], axis=1)
    columns, opens = [skeleton.index[j] for j in ids], np.zeros(len(chosen))
    for trial in trials_of(skeleton):
        joints = evaluate_rig(skeleton, None, trial_pose(skeleton, trial.id)).joints
        matrices = skin_matrices(skeleton, joints)[columns]
        own, one, other = (np.einsum("mj,jab,mb->ma", r, matrices[:, :3], p) for r, p in zip(rows, rest, strict=True))
        opens = np.maximum(opens, np.linalg.norm(own - (1 - t) * one - t * other, axis=1) - stood)
    found = []
    for a, b in dict.fromkeys(zip(follows.part[chosen].tolist(), follows.lead[chosen].tolist(), strict=True)):
        mine = np.flatnonzero(
            (follows.part[chosen] == a) & (follows.lead[chosen] == b) & (opens > ON_EACH_OTHER * character.height)
        )
        if len(mine):
            worst = int(mine[np.argmax(opens[mine])])
            x, y, z = (float(v) for v in rest[0][worst, :3])
            found.append(OpenBorder((meeting.parts[a], meeting.parts[b]), len(mine), float(opens[worst]), (x, y, z)))
    return tuple(found)


def _pairs(meeting: Meeting, members: IntArray) -> list[tuple[str, str, BoolArray]]:
    """Each two parts that share places, and which (count,) those are."""
    there = np.zeros((meeting.count, len(meeting.parts)), dtype=bool)
    there[meeting.group[members], meeting.part[members]] = True
    result = []
    for a in range(len(meeting.parts)):
        for b in range(a + 1, len(meeting.parts)):
            both = there[:, a] & there[:, b]
            if both.any():
                result.append((meeting.parts[a], meeting.parts[b], both))
    return result
