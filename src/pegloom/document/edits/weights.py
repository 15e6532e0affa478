"""Bind, and change weights by hand. Every edit keeps rows at 1, the influence limit, and seams closed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import replace
from functools import partial
from types import MappingProxyType

import numpy as np
from scipy import sparse

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mend import joined
from pegloom.core.geometry.mesh import Mesh, place_neighbours, shells, weld, with_points
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Offload, Progress, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.bind.along_skin import bind_along_skin
from pegloom.core.skin.bind.hard import bind_hard
from pegloom.core.skin.bind.reach import bind_by_reach, bind_through_body
from pegloom.core.skin.bind.segment import bind_segment
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.brush import change_weight, limit_rows, smooth_rows
from pegloom.core.skin.mirror import Way, joints_across, mirror_rows, mirrored, partners_within
from pegloom.core.skin.strays import reduced, without_strays
from pegloom.core.skin.transfer import TransferReport, transfer_weights
from pegloom.core.skin.weights import Weights, dense, from_dense, with_rows
from pegloom.document.edits.skins import stacked
from pegloom.document.edits.weaves import keep_unkept, keep_weave, set_dual_mask, set_relax_mask
from pegloom.document.model import NO_ARRAYS, NO_RELAX, Character, Document, Part, PartKind, Skin

METHODS: dict[BindMethod, Callable[..., Weights]] = {
    BindMethod.SEGMENT: bind_segment,
    BindMethod.ALONG_SKIN: bind_along_skin,
    BindMethod.THROUGH_BODY: bind_through_body,
    BindMethod.BY_REACH: bind_by_reach,
    BindMethod.HARD: bind_hard,
}


def bind(
    document: Document,
    *,
    method: BindMethod = BindMethod.SEGMENT,
    influences: int = 4,
    part_ids: Collection[str] | None = None,
    joint_ids: Collection[str] | None = None,
    own_branch: bool = False,
    in_sight: bool = True,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Document:
    """Compute weights of the included parts, and keep them as a weave; what was in hand is kept as one before.

    Each part by its kind: hard parts and props are bound hard whatever the method, cloth reads the skin under it.

    part_ids : bind only these; the others keep their weights. joint_ids : only these joints move anything; what the
    others would hold goes to the nearest of them up the skeleton, else to the nearest in place.
    own_branch, in_sight : for the binds by distance: only joints of the nearest one's branch; only bones in sight.
    There each joint's reach counts, too (`set_reach`).
    offload : where to run what would hold the interpreter for long (see core/jobs).

    Raises EditError without joints or parts, Cancelled from `progress`.
    """
    character = document.require_character()
    skeleton = _skeleton(character)
    if not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    everything = [part for part in character.included if part.mesh.face_count]
    parts = [part for part in everything if part_ids is None or part.id in part_ids]
    if not parts:
        raise EditError("there is no included part with faces to bind")
    if joint_ids is not None and not any(j in skeleton.index for j in joint_ids):
        raise EditError("choose a joint to bind to, or bind to all of them")
    progress(0.0, "filling the body")
    middle = character.standing.middle if character.standing else 0.0
    solid = body_solid([part.mesh for part in everything], middle=middle)
    weights = dict(character.skin.weights) if character.skin else {}
    total = sum(part.mesh.vertex_count for part in parts)
    done = 0
    body = [p for p in everything if p.kind is PartKind.SKIN and (p in parts or p.id in weights)]
    # Cloth reads its weights from the skin under it: the body first.
    parts = [p for p in parts if p.kind is not PartKind.CLOTH] + [p for p in parts if p.kind is PartKind.CLOTH]
    for part in parts:
        if part.kind is PartKind.CLOTH and body:
            progress(0.05 + 0.95 * done / total, f"reading {part.name} from the skin under it")
            source, held = _joined_skin(body, weights)
            read = transfer_weights(source, held, part.mesh, influences=influences)[0]
            weights[part.id] = without_strays(part.mesh, read)[0]
            done += part.mesh.vertex_count
            continue
        rigid = part.kind in (PartKind.HARD, PartKind.PROP)
        compute = METHODS[BindMethod.HARD if rigid else method]
        if compute is bind_by_reach:
            compute = partial(compute, reaches=character.reaches, own_branch=own_branch, in_sight=in_sight)
        elif compute is bind_through_body:
            compute = partial(compute, reaches=character.reaches, own_branch=own_branch)
        share = part_of(progress, 0.05 + 0.95 * done / total, 0.05 + 0.95 * (done + part.mesh.vertex_count) / total)
        weights[part.id] = compute(part.mesh, skeleton, solid, influences=influences, progress=share, offload=offload)
        if joint_ids is not None:
            weights[part.id] = _only_of(weights[part.id], skeleton, joint_ids)
        if rigid:
            seat = None if not body else _joined_skin(body, weights)
            weights[part.id] = _whole_by_shell(part.mesh, weights[part.id], seat)
        done += part.mesh.vertex_count
    document = keep_unkept(document, "in hand before")
    old = character.skin
    bound = {part.id for part in parts}
    skin = Skin(
        method.value,
        influences,
        MappingProxyType(weights),
        dual=MappingProxyType({k: v for k, v in old.dual.items() if k not in bound}) if old else NO_ARRAYS,
        relax=MappingProxyType({k: v for k, v in old.relax.items() if k not in bound}) if old else NO_RELAX,
    )
    document = document.with_character(replace(document.require_character(), skin=skin))
    return keep_weave(document, method.value)[0]


def set_reach(document: Document, joint_id: str, factor: float, *, both_sides: bool = True) -> Document:
    """How far a joint reaches in the binds by distance: 1 as it is, 2 as if its bones were half as far.

    Raises EditError for an unknown joint or a factor out of 0.1 to 10.
    """
    character = document.require_character()
    skeleton = _skeleton(character)
    if joint_id not in skeleton.index:
        raise EditError(f"there is no joint {joint_id}")
    if not 0.1 <= factor <= 10.0:
        raise EditError("a joint's reach is from a tenth to ten times its own")
    other = skeleton.other_side(joint_id) if both_sides else None
    reaches = {**character.reaches, joint_id: factor, **({other: factor} if other else {})}
    kept = {j: r for j, r in reaches.items() if abs(r - 1.0) > 1e-6}
    return document.with_character(replace(character, reaches=MappingProxyType(kept)))


def _only_of(weights: Weights, skeleton: Skeleton, joint_ids: Collection[str]) -> Weights:
    """Weights over some joints only: the others' go to the nearest of them up the skeleton, else in place."""
    chosen = [j.id for j in skeleton.joints if j.id in joint_ids]
    places = np.array([skeleton.joint(j).position for j in chosen])
    values = np.zeros((weights.vertex_count, len(chosen)))
    held = dense(weights)
    for column, joint in enumerate(weights.joint_ids):
        heir: str | None = joint
        while heir is not None and heir not in chosen:
            heir = skeleton.joint(heir).parent
        if heir is None:
            here = np.array(skeleton.joint(joint).position)
            heir = chosen[int(np.argmin(np.linalg.norm(places - here, axis=1)))]
        values[:, chosen.index(heir)] += held[:, column]
    return from_dense(values, chosen)


def _whole_by_shell(mesh: Mesh, weights: Weights, seat: tuple[Mesh, Weights] | None) -> Weights:
    """Every shell of a hard part on one joint, so that no edge changes its length.

    The joint that holds most of it; or where a skin (`seat`) is near all over, the one that moves the skin there most.
    """
    values = dense(weights).copy()
    joints = list(weights.joint_ids)
    label = shells(mesh)
    sat: tuple[FloatArray, list[str]] | None = None
    if seat is not None:
        read, report = transfer_weights(seat[0], seat[1], mesh, fill=False)
        if report.far == 0:
            sat = dense(read), list(read.joint_ids)
            joints += [j for j in sat[1] if j not in joints]
    result = np.zeros((len(values), len(joints)))
    for shell in range(int(label.max()) + 1 if len(label) else 0):
        mine = label == shell
        rows, names = (values, joints) if sat is None else sat
        result[mine, joints.index(names[int(np.argmax(rows[mine].sum(axis=0)))])] = 1.0
    return from_dense(result, joints)


def _joined_skin(parts: list[Part], weights: dict[str, Weights]) -> tuple[Mesh, Weights]:
    """Several bound parts as one surface with its weights."""
    parts = [p for p in parts if p.id in weights]
    mesh = joined([replace(p.mesh, uvs=None, normals=None) for p in parts])
    return mesh, stacked([weights[p.id] for p in parts])


def drop_strays(document: Document, part_id: str | None = None) -> tuple[Document, int]:
    """Give stray weights to the other influences there. Returns the document and how many vertices changed."""
    character = document.require_character()
    changed = 0
    for part in character.included:
        if (part_id is None or part.id == part_id) and character.skin and part.id in character.skin.weights:
            new, count = without_strays(part.mesh, character.skin.weights[part.id])
            if count:
                document = _with_weights(document, part.id, new)
                changed += count
    return document, changed


def reduce_influences(document: Document, influences: int) -> tuple[Document, float, int]:
    """Cut all weights to their strongest few. Returns the document, the largest loss (0..1), vertices that lost any."""
    character = document.require_character()
    if character.skin is None:
        raise EditError("bind first: there are no weights to reduce")
    if not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    worst, count = 0.0, 0
    weights = {}
    for part, held in character.skin.weights.items():
        weights[part], lost = reduced(held, influences)
        worst = max(worst, float(lost.max(initial=0.0)))
        count += int((lost > 1e-6).sum())
    skin = replace(character.skin, influences=influences, weights=MappingProxyType(weights))
    return document.with_character(replace(character, skin=skin)), worst, count


def transfer(
    document: Document, source_id: str, target_id: str, *, fill: bool = True
) -> tuple[Document, TransferReport]:
    """Weights of one part read by another from the nearest surface, filled where nothing good is near.

    Returns the document and a report. Raises EditError when the source is not bound, or is the target.
    """
    character = document.require_character()
    skin, held = _bound(character, source_id)
    source, target = character.part(source_id), character.part(target_id)
    if source_id == target_id:
        raise EditError("choose another part to read the weights from")
    new, report = transfer_weights(source.mesh, held, target.mesh, influences=skin.influences, fill=fill)
    return _with_weights(document, target_id, new), report


def read_weights(
    document: Document, other: Character, *, joint_map: Mapping[str, str] | None = None, only_asked: bool = False
) -> tuple[Document, dict[str, TransferReport], dict[str, str]]:
    """Weights read from another character, standing alike, for every included part of this one.

    The other is scaled to this one's height and stood in its place. Joints are matched by id, then by name; with
    joint_map (their name or id -> ours) as said there, and with only_asked as said there alone. What matches nothing goes to its nearest matched joint above.
    Returns the document, a report by part name, and which joint was read as which (names). The weights in hand are
    kept as a weave. Raises EditError when one of the two has no joints, or the other no weights.
    """
    character = document.require_character()
    skeleton, theirs = _skeleton(character), _skeleton(other)
    bound = [p for p in other.included if other.skin is not None and p.id in other.skin.weights]
    if other.skin is None or not bound:
        raise EditError(f"{other.name} is not bound; there are no weights to read")
    pairs = _joint_pairs(theirs, skeleton, joint_map or {}, only_asked=only_asked)
    mesh, held = _joined_skin(bound, dict(other.skin.weights))
    here, there = character.all_points(), mesh.points
    scale = character.height / max(float(np.ptp(there[:, 1])), 1e-9)
    middle = [(a.min(axis=0) + a.max(axis=0)) / 2 for a in (here, there)]
    placed = (there - middle[1]) * scale + middle[0]
    source = with_points(mesh, placed)
    limit = character.skin.influences if character.skin else other.skin.influences
    document = keep_unkept(document, "in hand before")
    made, reports = {}, {}
    for part in character.included:
        if part.mesh.face_count:
            read, reports[part.name] = transfer_weights(source, held, part.mesh, influences=limit, joint_map=pairs)
            rigid = part.kind in (PartKind.HARD, PartKind.PROP)
            made[part.id] = _whole_by_shell(part.mesh, read, None) if rigid else read
    skin = Skin(f"from {other.name}", limit, MappingProxyType(made))
    document = document.with_character(replace(document.require_character(), skin=skin))
    document, _ = keep_weave(document, f"from {other.name}")
    told = {theirs.joint(a).name: skeleton.joint(b).name for a, b in pairs.items()}
    return document, reports, told


def matching_joints(theirs: Skeleton, ours: Skeleton) -> dict[str, str]:
    """Their joint ids to ours where the id is the same, or the name but for case, signs and a prefix."""

    def plain(name: str) -> str:
        return "".join(c for c in name.rsplit(":", 1)[-1].lower() if c.isalnum())

    names = {plain(j.name): j.id for j in ours.joints}
    found = {j.id: j.id if j.id in ours.index else names.get(plain(j.name)) for j in theirs.joints}
    return {a: b for a, b in found.items() if b is not None}


def _joint_pairs(
    theirs: Skeleton, ours: Skeleton, asked: Mapping[str, str], *, only_asked: bool = False
) -> dict[str, str]:
    """Their joint ids to ours. Raises EditError for a joint asked for that is not here, or where nothing matches."""
    ids = {j.id: j.id for j in ours.joints} | {j.name: j.id for j in ours.joints}
    direct = {} if only_asked else matching_joints(theirs, ours)
    for joint in theirs.joints:
        wanted = asked.get(joint.id, asked.get(joint.name))
        if wanted is not None and wanted not in ids:
            raise EditError(f"the joint map names {wanted}, which is not here")
        if wanted is not None:
            direct[joint.id] = ids[wanted]
    if not direct:
        raise EditError("no joint of the two goes by the same name; give a joint map")
    pairs = {}
    for joint in theirs.joints:
        heir: str | None = joint.id
        while heir is not None and heir not in direct:
            heir = theirs.joint(heir).parent
        pairs[joint.id] = direct[heir] if heir is not None else next(iter(direct.values()))
    return pairs


def fill_weight(
    document: Document, part_id: str, joint_id: str, vertices: IntArray, value: float,
    *, both_sides: bool = True, locked: Collection[str] = (),
) -> Document:  # fmt: skip
    """Set a joint's weight on vertices; the others give or take by their shares (see core/skin/brush)."""

    def change(values: FloatArray, joint: str, rows: IntArray, context: _Columns) -> FloatArray:
        wanted = np.full(len(rows), float(value))
        return change_weight(
            values, context.column(joint), rows, wanted, neighbours=context.neighbours,
            heir=context.heir(joint), locked=context.lock(locked),
        )  # fmt: skip

    return brush_part(document, part_id, joint_id, vertices, change, both_sides=both_sides, locked=locked)


def smooth_weights(
    document: Document, part_id: str, vertices: IntArray, *, strength: float = 0.6, steps: int = 3,
    both_sides: bool = True, locked: Collection[str] = (),
) -> Document:  # fmt: skip
    """Blend vertices toward their neighbours."""

    def change(values: FloatArray, joint: str, rows: IntArray, context: _Columns) -> FloatArray:
        force = np.full(len(rows), strength)
        return smooth_rows(values, rows, force, context.neighbours, steps=steps, locked=context.lock(locked))

    return brush_part(document, part_id, "", vertices, change, both_sides=both_sides, locked=locked)


class _Columns:
    """Look-ups shared by a weight edit: columns, heirs, locks, neighbours over places."""

    def __init__(self, skeleton: Skeleton, joint_ids: tuple[str, ...], neighbours: sparse.csr_matrix) -> None:
        self.skeleton, self.joint_ids, self.neighbours = skeleton, joint_ids, neighbours

    def column(self, joint: str) -> int:
        return self.joint_ids.index(joint)

    def heir(self, joint: str) -> int:
        parent = self.skeleton.joint(joint).parent
        children = [c.id for c in self.skeleton.children(joint) if c.id in self.joint_ids]
        if parent in self.joint_ids:
            return self.joint_ids.index(parent)
        return self.joint_ids.index(children[0]) if children else self.column(joint)

    def lock(self, locked: Collection[str]) -> BoolArray:
        return np.array([joint in locked for joint in self.joint_ids])


Change = Callable[[FloatArray, str, IntArray, _Columns], FloatArray]


def brush_part(
    document: Document, part_id: str, joint_id: str, vertices: IntArray, change: Change,
    *, both_sides: bool = True, locked: Collection[str] = (),
) -> Document:  # fmt: skip
    """Apply a change of weights to some vertices of a part, and mirrored to the other side.

    change(values (g, j) over places, joint id, rows, columns) -> new values. On the mirrored side the partner joint
    is in hand. Rows touched keep the bind's influence limit. Raises EditError when the part is not bound.
    """
    character = document.require_character()
    skeleton = _skeleton(character)
    skin, weights = _bound(character, part_id)
    mesh = character.part(part_id).mesh
    g = weld(mesh)
    joint_ids = tuple(weights.joint_ids)
    hands = {joint_id: skeleton.other_side(joint_id) if joint_id else ""}
    wanted = [joint_id, hands[joint_id] or ""] if joint_id else []
    joint_ids += tuple(j for j in dict.fromkeys(wanted) if j and j not in joint_ids)
    values = np.zeros((g.count, len(joint_ids)))
    values[:, : len(weights.joint_ids)] = dense(weights)[g.first]
    context = _Columns(skeleton, joint_ids, place_neighbours(mesh))
    rows = np.unique(g.group[np.asarray(vertices, dtype=np.int64)])
    if len(rows) == 0:
        raise EditError("no vertex is selected; draw a box over some first")
    touched = [(joint_id, rows)]
    if both_sides:
        middle = character.standing.middle if character.standing else 0.0
        across = partners(mesh, middle)[g.first[rows]]
        other_rows = np.unique(g.group[across[across >= 0]])
        other = hands[joint_id]
        if other == joint_id:
            touched = [(joint_id, np.union1d(rows, other_rows))]
        elif other is not None and len(other_rows):
            touched.append((other, other_rows))
    for joint, some in touched:
        values = change(values, joint, some, context)
        keep = context.column(joint) if joint else None
        values = limit_rows(values, some, skin.influences, keep=keep, locked=context.lock(locked))
    rows = np.unique(np.concatenate([some for _, some in touched]))
    mine = np.flatnonzero(np.isin(g.group, rows))
    return _with_weights(document, part_id, with_rows(weights, joint_ids, mine, values[g.group[mine]]))


def mirror_weights(
    document: Document, part_id: str, way: Way = Way.LEFT_TO_RIGHT, *,
    tolerance: float | None = None, by_place: bool = False, vertices: IntArray | None = None,
) -> tuple[Document, IntArray]:  # fmt: skip
    """Copy one half's weights to the other, or give both halves the mean.

    tolerance : metres within which a vertex across counts as the partner; None: the usual, pairs that agree.
    by_place : pair the joints by where they stand, not by name. vertices : only these receive; None: all.
    The painted shares of dual quaternion blending and of surface relax go along.
    Returns the document and the receiving vertices without a partner, which keep what they have.
    """
    character = document.require_character()
    skeleton = _skeleton(character)
    skin, weights = _bound(character, part_id)
    mesh = character.part(part_id).mesh
    middle = character.standing.middle if character.standing else 0.0
    across_of = joints_across(skeleton, middle, by_place=by_place)
    ids = list(weights.joint_ids)
    for joint in list(ids):
        other = across_of[joint]
        if other is not None and other not in ids:
            ids.append(other)
    values = np.zeros((mesh.vertex_count, len(ids)))
    values[:, : len(weights.joint_ids)] = dense(weights)
    others = [across_of[joint] for joint in ids]
    across = np.array([ids.index(other) if other in ids else -1 for other in others])
    pairs = partners_within(mesh, middle, tolerance)
    new, lost = mirror_rows(values, mesh.points[:, 0] - middle, pairs, across, way)
    g = weld(mesh)
    if vertices is not None:
        outside = np.ones(g.count, dtype=bool)
        outside[g.group[np.asarray(vertices, dtype=np.int64)]] = False
        new[outside[g.group]] = values[outside[g.group]]
        lost = lost[~outside[g.group][lost]]
    # Seam vertices on the plane must agree: every vertex of a place takes its first one's row.
    made = from_dense(new[g.first][g.group], ids, influences=skin.influences)
    document = _with_weights(document, part_id, made)
    return _with_masks_mirrored(document, part_id, pairs, mesh.points[:, 0] - middle, way, vertices), lost


def _with_masks_mirrored(
    document: Document, part_id: str, pairs: IntArray, across: FloatArray, way: Way, vertices: IntArray | None
) -> Document:
    """The painted shares of dual quaternion blending and of surface relax follow the weights across."""
    character = document.require_character()
    skin = character.skin
    assert skin is not None
    receives = np.ones(len(pairs), dtype=bool)
    if vertices is not None:
        g = weld(character.part(part_id).mesh)
        receives = np.isin(g.group, g.group[np.asarray(vertices, dtype=np.int64)])
    held = {"dual": skin.dual.get(part_id), "relax": skin.relax[part_id].mask if part_id in skin.relax else None}
    for name, mask in held.items():
        if mask is None:
            continue
        new = np.where(receives, mirrored(mask[:, None], across, pairs, np.array([0]), way)[0][:, 0], mask)
        if not np.array_equal(new, mask):
            document = (set_dual_mask if name == "dual" else set_relax_mask)(document, part_id, new)
    return document


def set_part_weights(document: Document, part_id: str, weights: Weights) -> Document:
    """Put finished weights on a part, as a brush stroke made them. Raises EditError when they do not fit it."""
    part = document.require_character().part(part_id)
    if weights.vertex_count != part.mesh.vertex_count:
        raise EditError(f"{part.name} has {part.mesh.vertex_count} vertices, the weights {weights.vertex_count}")
    return _with_weights(document, part_id, weights)


def _with_weights(document: Document, part_id: str, weights: Weights) -> Document:
    character = document.require_character()
    assert character.skin is not None
    skin = replace(character.skin, weights=MappingProxyType({**character.skin.weights, part_id: weights}))
    return document.with_character(replace(character, skin=skin))


def _bound(character: Character, part_id: str) -> tuple[Skin, Weights]:
    if character.skin is None or part_id not in character.skin.weights:
        raise EditError(f"{character.part(part_id).name} is not bound yet; bind first")
    return character.skin, character.skin.weights[part_id]


def _skeleton(character: Character) -> Skeleton:
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return character.skeleton
