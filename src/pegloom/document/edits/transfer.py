"""Weights carried over: from part to part, from another character, from one half to the other."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import weld, with_points
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.mirror import Way, joints_across, mirror_rows, mirrored, partners_within
from pegloom.core.skin.transfer import TransferReport, transfer_weights
from pegloom.core.skin.weights import dense, from_dense
from pegloom.document.edits.weaves import keep_unkept, keep_weave, set_dual_mask, set_relax_mask
from pegloom.document.edits.weights import bound_part, joined_skin, skeleton_of, whole_by_shell, with_weights
from pegloom.document.model import Character, Document, PartKind, Skin


def transfer(
    document: Document, source_id: str, target_id: str, *, fill: bool = True, leave_out: IntArray | None = None
) -> tuple[Document, TransferReport]:
    """Weights of one part read by another from the nearest surface, filled where nothing good is near.

    leave_out : vertices of the source that are not read.

    Returns the document and a report. Raises EditError when the source is not bound, or is the target.
    """
    character = document.require_character()
    skin, weights = bound_part(character, source_id)
    source, target = character.part(source_id), character.part(target_id)
    if source_id == target_id:
        raise EditError("choose another part to read the weights from")
    new, report = transfer_weights(
        source.mesh, weights, target.mesh, influences=skin.limit(target_id), fill=fill,
        leave_out=leave_out,
    )
    return with_weights(document, target_id, new), report


def read_weights(
    document: Document, other: Character, *, joint_map: Mapping[str, str] | None = None, only_asked: bool = False,
    without: Collection[str] = (),
) -> tuple[Document, dict[str, TransferReport], dict[str, str]]:
    """Weights read from another character, standing alike, for every included part of this one.

    The other is scaled to this one's height and stood in its place. Joints are matched by id, then by name; with
    joint_map (their name or id -> ours) as said there, and with only_asked as said there alone. without : names of its parts that are not read. What matches nothing goes to its nearest matched joint above.
    Returns the document, a report by part name, and which joint was read as which (names). The weights in hand are
    kept as a weave. Raises EditError when one of the two has no joints, or the other no weights.
    """
    character = document.require_character()
    skeleton, theirs = skeleton_of(character), skeleton_of(other)
    bound = [p for p in other.included if other.skin is not None and p.id in other.skin.weights]
    left = [p for p in bound if p.name.lower() not in {name.strip().lower() for name in without}]
    if bound and not left:
        raise EditError(f"every part of {other.name} is left out; keep one to read from")
    bound = left
    if other.skin is None or not bound:
        raise EditError(f"{other.name} is not bound; there are no weights to read")
    pairs = _joint_pairs(theirs, skeleton, joint_map or {}, only_asked=only_asked)
    mesh, weights = joined_skin(bound, dict(other.skin.weights))
    here, other_points = character.all_points(), mesh.points
    scale = character.height / max(float(np.ptp(other_points[:, 1])), 1e-9)
    middle = [(a.min(axis=0) + a.max(axis=0)) / 2 for a in (here, other_points)]
    placed = (other_points - middle[1]) * scale + middle[0]
    source = with_points(mesh, placed)
    limit = character.skin.influences if character.skin else other.skin.influences
    document = keep_unkept(document, "weights before")
    result, reports = {}, {}
    for part in character.included:
        if part.mesh.face_count:
            read, reports[part.name] = transfer_weights(source, weights, part.mesh, influences=limit, joint_map=pairs)
            rigid = part.kind in (PartKind.HARD, PartKind.PROP)
            result[part.id] = whole_by_shell(part.mesh, read, None) if rigid else read
    skin = Skin(f"from {other.name}", limit, MappingProxyType(result))
    document = document.with_character(replace(document.require_character(), skin=skin))
    document, _ = keep_weave(document, f"from {other.name}")
    read_as = {theirs.joint(a).name: skeleton.joint(b).name for a, b in pairs.items()}
    return document, reports, read_as


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


def mirror_weights(
    document: Document, part_id: str, way: Way = Way.LEFT_TO_RIGHT, *,
    tolerance: float | None = None, by_place: bool = False, vertices: IntArray | None = None,
) -> tuple[Document, IntArray]:  # fmt: skip
    """Copy one half's weights to the other, or give both halves the mean.

    tolerance : metres within which a vertex across counts as the partner; None: the usual, pairs that agree.
    by_place : pair the joints by where they stand, not by name.
    vertices : only these receive; None: all. The painted shares of dual quaternion blending and of surface relax go
        along. Returns the document and the receiving vertices without a partner, which keep what they have.
    """
    character = document.require_character()
    skeleton = skeleton_of(character)
    skin, weights = bound_part(character, part_id)
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
    if all(across_of[joint] in (None, joint) for joint in ids) and any(across_of[joint] is None for joint in ids):
        lone = [skeleton.joint(j).name for j in ids if across_of[j] is None]
        raise EditError(
            f"no joint of {character.part(part_id).name} has a partner on the other side ({', '.join(lone[:4])}"
            f"{' and others' if len(lone) > 4 else ''}); name pairs alike, or pair them by place"
        )
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
    result = from_dense(new[g.first][g.group], ids, influences=skin.limit(part_id))
    document = with_weights(document, part_id, result)
    return _with_masks_mirrored(document, part_id, pairs, mesh.points[:, 0] - middle, way, vertices), lost


def unmatched_joints(document: Document, part_id: str, *, by_place: bool = False) -> tuple[str, ...]:
    """Names of joints that hold some of a part and have no partner across the middle: a mirror leaves what they hold."""
    character = document.require_character()
    skeleton = skeleton_of(character)
    _, weights = bound_part(character, part_id)
    middle = character.standing.middle if character.standing else 0.0
    across_of = joints_across(skeleton, middle, by_place=by_place)
    used = {weights.joint_ids[c] for c in np.unique(weights.indices)}
    return tuple(skeleton.joint(j).name for j in weights.joint_ids if j in used and across_of.get(j) is None)


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
    masks = {"dual": skin.dual.get(part_id), "relax": skin.relax[part_id].mask if part_id in skin.relax else None}
    for name, mask in masks.items():
        if mask is None:
            continue
        new = np.where(receives, mirrored(mask[:, None], across, pairs, np.array([0]), way)[0][:, 0], mask)
        if not np.array_equal(new, mask):
            document = (set_dual_mask if name == "dual" else set_relax_mask)(document, part_id, new)
    return document
