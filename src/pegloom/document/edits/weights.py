"""Bind, and change weights by hand. Every edit keeps rows at 1, the influence limit, and seams closed."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace
from functools import partial
from types import MappingProxyType

import numpy as np
from scipy import sparse

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mend import joined
from pegloom.core.geometry.mesh import Mesh, place_neighbours, shells, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Offload, Progress, ask, directly, part_of, silent
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skeleton.uses import bones_of
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.bind.along_skin import bind_along_skin
from pegloom.core.skin.bind.hard import bind_hard
from pegloom.core.skin.bind.reach import bind_by_reach, bind_through_body
from pegloom.core.skin.bind.segment import bind_segment, bind_segment_together
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.brush import change_weight, limit_rows, smooth_rows
from pegloom.core.skin.helpers import seeded
from pegloom.core.skin.locks import held
from pegloom.core.skin.strays import given_up, reduced, without_strays
from pegloom.core.skin.transfer import transfer_weights
from pegloom.core.skin.weights import Weights, dense, from_dense, with_rows
from pegloom.document.edits.skins import stacked
from pegloom.document.edits.weaves import keep_unkept, keep_weave
from pegloom.document.meeting import borders_carried, close_borders, that_meet
from pegloom.document.model import NO_ARRAYS, NO_LIMITS, NO_RELAX, Character, Document, Part, PartKind, Skin
from pegloom.document.strays import judged_strays
from pegloom.document.uses import said_of

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
    detail: float = 1.0,
    progress: Progress = silent,
    offload: Offload = directly,
) -> Document:
    """Compute weights of the included parts, and keep them as a weave; what was in hand is kept as one before.

    Each part by its kind: hard parts and props are bound hard whatever the method, cloth reads the skin under it. Helper joints take
    what is shared over theirs.

    part_ids : bind only these; the others keep their weights.
    joint_ids : only these joints take what they would hold in a bind of all; of what is bound the others keep their
        shares of the rest. Of what is not, only these move anything: what the others would hold goes to the nearest of
        them up the skeleton, else to the nearest in place.
    own_branch, in_sight : for the binds by distance: only joints of the nearest one's branch; only bones in sight.
        There, and in the default, each joint's reach counts, too (`set_reach`).
    detail : of the solid that binds through the volume look into, as a factor on its cells along a side.
    offload : where to run what would hold the interpreter for long (see core/jobs).

    Raises EditError without joints or parts, Cancelled from `progress`.
    """
    character = document.require_character()
    skeleton = skeleton_of(character)
    if not 0.25 <= detail <= 4.0:
        raise EditError(f"the detail of a bind is from a quarter to four times the usual, not {detail:g}")
    if not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    everything = [part for part in character.included if part.mesh.face_count]
    parts = [part for part in everything if part_ids is None or part.id in part_ids]
    if not parts:
        raise EditError("there is no included part with faces to bind")
    if joint_ids is not None and not any(j in skeleton.index for j in joint_ids):
        raise EditError("choose a joint to bind to, or bind to all of them")
    coarse = [part for part in parts if part.detail > 0]
    finest = [part for part in everything if part.detail == 0]
    if coarse and finest:
        # Coarser levels of a body lie in it: they read its weights instead of being bound beside it.
        parts = [part for part in parts if part.detail == 0]
        if not parts and not any(p.id in (character.skin.weights if character.skin else {}) for p in finest):
            raise EditError("bind the body itself first; its coarser detail levels read their weights from it")
        everything = finest
    else:
        coarse = []
    progress(0.0, "filling the body")
    middle = character.standing.middle if character.standing else 0.0
    solid = body_solid([part.mesh for part in everything], middle=middle, detail=detail)
    ask(progress)
    said = said_of(character)
    weights = dict(character.skin.weights) if character.skin else {}
    total = max(sum(part.mesh.vertex_count for part in parts), 1)
    done = 0
    body = [p for p in everything if p.kind is PartKind.SKIN and (p in parts or p.id in weights)]
    # Cloth reads its weights from the skin under it: the body first.
    parts = [p for p in parts if p.kind is not PartKind.CLOTH] + [p for p in parts if p.kind is PartKind.CLOTH]
    # Parts that meet are eased as one surface; cloth that reads the skin under it, and what is hard, are not of them.
    skin_like = [p.id for p in parts if p.kind is PartKind.SKIN or (p.kind is PartKind.CLOTH and not body)]
    meet = that_meet(character, skin_like) if method is BindMethod.SEGMENT else []
    computed: dict[str, Weights] = {}
    for part in parts:
        if part.kind is PartKind.CLOTH and body:
            progress(0.05 + 0.95 * done / total, f"reading {part.name} from the skin under it")
            source, source_weights = joined_skin(body, weights)
            read = transfer_weights(source, source_weights, part.mesh, influences=influences)[0]
            weights[part.id] = without_strays(part.mesh, read)[0]
            done += part.mesh.vertex_count
            continue
        rigid = part.kind in (PartKind.HARD, PartKind.PROP)
        if method is BindMethod.SEGMENT and not rigid and part.id not in computed:
            few, numbers = next((m for m in meet if part in m[0]), ((part,), []))
            if len(few) > 1:
                size = sum(p.mesh.vertex_count for p in few)
                share = part_of(progress, 0.05 + 0.95 * done / total, 0.05 + 0.95 * min((done + size) / total, 1.0))
                bearing = bones_of(skeleton, said, keep=joint_ids or ())
                together = bind_segment_together(
                    [p.mesh for p in few], numbers, bearing, solid, influences=influences, reaches=character.reaches, progress=share
                )
                computed |= {p.id: rows for p, rows in zip(few, together, strict=True)}
        compute = METHODS[BindMethod.HARD if rigid else method]
        if compute is bind_by_reach:
            compute = partial(compute, reaches=character.reaches, own_branch=own_branch, in_sight=in_sight)
        elif compute is bind_through_body:
            compute = partial(compute, reaches=character.reaches, own_branch=own_branch)
        elif compute is bind_segment:
            compute = partial(compute, reaches=character.reaches)
        share = part_of(progress, 0.05 + 0.95 * done / total, 0.05 + 0.95 * (done + part.mesh.vertex_count) / total)
        # What is hard may well sit on a joint that only marks its place; skin never follows one.
        bearing = skeleton if rigid else bones_of(skeleton, said, keep=joint_ids or ())
        weights[part.id] = (
            computed[part.id] if part.id in computed
            else compute(part.mesh, bearing, solid, influences=influences, progress=share, offload=offload)
        )  # fmt: skip
        if joint_ids is not None:
            before = character.skin.weights.get(part.id) if character.skin else None
            weights[part.id] = (
                _only_of(weights[part.id], skeleton, joint_ids) if before is None
                else held(weights[part.id], before, joint_ids, influences)
            )  # fmt: skip
        if rigid:
            seat = None if not body else joined_skin(body, weights)
            weights[part.id] = whole_by_shell(part.mesh, weights[part.id], seat)
        done += part.mesh.vertex_count
    pairs = [(j.id, j.halfway.of) for j in skeleton.joints if j.halfway is not None] if joint_ids is None else []
    for part in parts if pairs else []:
        if part.kind not in (PartKind.HARD, PartKind.PROP):
            weights[part.id] = seeded(part.mesh, weights[part.id], skeleton, pairs, influences)
    for part in coarse:
        progress(0.99, f"reading {part.name} from the body itself")
        source, source_weights = joined_skin(finest, weights)
        weights[part.id] = transfer_weights(source, source_weights, part.mesh, influences=influences)[0]
    document = keep_unkept(document, "weights before")
    old = character.skin
    bound = {part.id for part in (*parts, *coarse)}
    skin = Skin(
        method.value,
        old.influences if old else influences,
        MappingProxyType(weights),
        dual=MappingProxyType({k: v for k, v in old.dual.items() if k not in bound}) if old else NO_ARRAYS,
        relax=MappingProxyType({k: v for k, v in old.relax.items() if k not in bound}) if old else NO_RELAX,
        limits=old.limits if old else NO_LIMITS,
    ).with_limit(influences, bound)
    document = document.with_character(replace(document.require_character(), skin=skin))
    # Parts that meet are bound apart; their borders become one, and what lies beside them is eased along.
    document, _ = close_borders(document)
    return keep_weave(document, method.value)[0]


def set_reach(document: Document, joint_id: str, factor: float, *, both_sides: bool = True) -> Document:
    """How far a joint reaches in the default bind and those by distance: 1 as it is, 2 as if its bones were half as far.

    Raises EditError for an unknown joint or a factor out of 0.1 to 10.
    """
    character = document.require_character()
    skeleton = skeleton_of(character)
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
    all_values = dense(weights)
    for column, joint in enumerate(weights.joint_ids):
        heir: str | None = joint
        while heir is not None and heir not in chosen:
            heir = skeleton.joint(heir).parent
        if heir is None:
            here = np.array(skeleton.joint(joint).position)
            heir = chosen[int(np.argmin(np.linalg.norm(places - here, axis=1)))]
        values[:, chosen.index(heir)] += all_values[:, column]
    return from_dense(values, chosen)


def whole_by_shell(mesh: Mesh, weights: Weights, seat: tuple[Mesh, Weights] | None) -> Weights:
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


def joined_skin(parts: list[Part], weights: dict[str, Weights]) -> tuple[Mesh, Weights]:
    """Several bound parts as one surface with its weights."""
    parts = [p for p in parts if p.id in weights]
    mesh = joined([replace(p.mesh, uvs=None, normals=None) for p in parts])
    return mesh, stacked([weights[p.id] for p in parts])


def drop_strays(document: Document, part_id: str | None = None) -> tuple[Document, int]:
    """Give the weights that are surely strays to the other influences there; see document/strays.

    Returns the document and how many vertices changed.
    """
    character = document.require_character()
    skeleton, changed = skeleton_of(character), 0
    for part in character.included:
        weights = character.skin.weights.get(part.id) if character.skin else None
        if weights is None or (part_id is not None and part.id != part_id):
            continue
        sure = [s for s in judged_strays(part.mesh, weights, skeleton) if s.sure]
        if sure:
            document = with_weights(document, part.id, given_up(part.mesh, weights, sure))
            changed += len(np.unique(np.concatenate([s.vertices for s in sure])))
    return document, changed


def drop_stray(document: Document, part_id: str, joint_id: str, vertex: int) -> tuple[Document, int]:
    """Give one stray region, the one of a joint's that a vertex lies in, to the other influences there, sure or not.

    Returns the document and how many vertices changed. Raises EditError where there is none.
    """
    character = document.require_character()
    _, weights = bound_part(character, part_id)
    mesh = character.part(part_id).mesh
    for stray in judged_strays(mesh, weights, skeleton_of(character)):
        if stray.joint == joint_id and vertex in stray.vertices:
            return with_weights(document, part_id, given_up(mesh, weights, (stray,))), len(stray.vertices)
    raise EditError("that stray is not there any more")


def reduce_influences(document: Document, influences: int) -> tuple[Document, float, int]:
    """Cut all weights to their strongest few. Returns the document, the largest loss (0..1), vertices that lost any."""
    character = document.require_character()
    if character.skin is None:
        raise EditError("bind first: there are no weights to reduce")
    if not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    worst, count = 0.0, 0
    weights = {}
    for part, part_weights in character.skin.weights.items():
        weights[part], lost = reduced(part_weights, min(influences, character.skin.limit(part)))
        worst = max(worst, float(lost.max(initial=0.0)))
        count += int((lost > 1e-6).sum())
    lower = {p: n for p, n in character.skin.limits.items() if n < influences}
    skin = replace(
        character.skin, influences=influences, weights=MappingProxyType(weights), limits=MappingProxyType(lower)
    )
    return document.with_character(replace(character, skin=skin)), worst, count


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
    skeleton = skeleton_of(character)
    skin, weights = bound_part(character, part_id)
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
        elif other is not None and other not in locked and len(other_rows):
            touched.append((other, other_rows))
    for joint, some in touched:
        values = change(values, joint, some, context)
        keep = context.column(joint) if joint else None
        values = limit_rows(values, some, skin.limit(part_id), keep=keep, locked=context.lock(locked))
    rows = np.unique(np.concatenate([some for _, some in touched]))
    mine = np.flatnonzero(np.isin(g.group, rows))
    return with_weights(
        document, part_id, with_rows(weights, joint_ids, mine, values[g.group[mine]], locked=context.lock(locked))
    )


def set_part_weights(document: Document, part_id: str, weights: Weights) -> Document:
    """Put finished weights on a part, as a brush stroke made them. Raises EditError when they do not fit it."""
    part = document.require_character().part(part_id)
    if weights.vertex_count != part.mesh.vertex_count:
        raise EditError(f"{part.name} has {part.mesh.vertex_count} vertices, the weights {weights.vertex_count}")
    return with_weights(document, part_id, weights)


def with_weights(document: Document, part_id: str, weights: Weights) -> Document:
    """A bound character's part with other weights; what it changes on a border, the parts it meets there take over."""
    character = document.require_character()
    assert character.skin is not None
    skin = replace(character.skin, weights=MappingProxyType({**character.skin.weights, part_id: weights}))
    return borders_carried(document, document.with_character(replace(character, skin=skin)))


def bound_part(character: Character, part_id: str) -> tuple[Skin, Weights]:
    """The skin and a part's weights. Raises EditError when the part is not bound."""
    if character.skin is None or part_id not in character.skin.weights:
        raise EditError(f"{character.part(part_id).name} is not bound yet; bind first")
    return character.skin, character.skin.weights[part_id]


def skeleton_of(character: Character) -> Skeleton:
    """The joints. Raises EditError when there are none yet."""
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    return character.skeleton
