"""Weaves: versions of the weights by name, kept, taken back, mixed; the blend mode and surface relax of parts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import sample
from pegloom.core.motion.sampling import sampled_poses
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.pose import Shown
from pegloom.core.skin.bake import Baked, bake_weights
from pegloom.core.skin.relax import Relax
from pegloom.core.skin.select import softened
from pegloom.core.skin.weights import Weights, dense, dense_over, from_dense
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.skins import with_weights
from pegloom.document.evaluate import skinned
from pegloom.document.meeting import borders_carried
from pegloom.document.model import Character, Document, Part, Skin, Weave

MOST_FRAMES = 120
"""Moments taken of each clip, at most, when a bake follows motion."""


# Versions


def keep_weave(document: Document, name: str = "") -> tuple[Document, str]:
    """Keep the weights in hand as a weave. Returns the document and the weave's id. Raises EditError without weights."""
    character = document.require_character()
    skin = _skin(character)
    character, (weave_id,) = fresh_ids(character, "weave", (w.id for w in character.weaves))
    wanted = name.strip() or f"weave {weave_id.removeprefix('weave')}"
    result = Weave(weave_id, _free_name(character, wanted), skin)
    return document.with_character(replace(character, weaves=(*character.weaves, result))), weave_id


def keep_unkept(document: Document, name: str) -> Document:
    """Keep the weights in hand as a weave unless they are one already, or there are none."""
    character = document.require_character()
    if character.skin is None or kept_as(character) is not None:
        return document
    return keep_weave(document, name)[0]


def kept_as(character: Character) -> Weave | None:
    """The weave that is the weights in hand, unchanged; None where they are kept nowhere."""
    skin = character.skin
    return next((w for w in character.weaves if skin is not None and _same(w.skin, skin)), None)


def _same(a: Skin, b: Skin) -> bool:
    """Whether two skins share all their arrays, as they still do after saving and opening."""

    def arrays(skin: Skin) -> dict[tuple[str, str], object]:
        found: dict[tuple[str, str], object] = {("weights", k): id(w.values) for k, w in skin.weights.items()}
        found |= {("dual", k): id(v) for k, v in skin.dual.items()}
        return found | {("relax", k): (r.steps, r.strength, id(r.mask)) for k, r in skin.relax.items()}

    return a is b or (a.influences == b.influences and a.limits == b.limits and arrays(a) == arrays(b))


def take_weave(document: Document, weave_id: str) -> Document:
    """Go back to a weave; what was in hand is kept as one first, if it was not."""
    weave = _weave(document.require_character(), weave_id)
    document = keep_unkept(document, "weights before")
    return document.with_character(replace(document.require_character(), skin=weave.skin))


def rename_weave(document: Document, weave_id: str, name: str) -> Document:
    """Give a weave another name. Raises EditError for an empty or a taken one."""
    character = document.require_character()
    weave = _weave(character, weave_id)
    if not name.strip():
        raise EditError("a weave needs a name")
    if any(w.name == name.strip() and w.id != weave_id for w in character.weaves):
        raise EditError(f"there is a weave {name.strip()} already")
    weaves = tuple(replace(w, name=name.strip()) if w is weave else w for w in character.weaves)
    return document.with_character(replace(character, weaves=weaves))


def drop_weave(document: Document, weave_id: str) -> Document:
    """Forget a weave; the weights in hand stay."""
    character = document.require_character()
    weave = _weave(character, weave_id)
    return document.with_character(replace(character, weaves=tuple(w for w in character.weaves if w is not weave)))


def mix_weave(
    document: Document, weave_id: str, vertices: Mapping[str, IntArray], *, border: float = 0.02,
    both_sides: bool = True,
) -> Document:  # fmt: skip
    """A weave's weights on some vertices, those in hand elsewhere.

    vertices : by part id.
    border : metres along the surface over which the two blend, outside the vertices. Blend mode and relax of those
        vertices come along. Raises EditError where nothing is selected or bound alike.
    """
    character = document.require_character()
    skin, other = _skin(character), _weave(character, weave_id).skin
    weights, dual = dict(skin.weights), dict(skin.dual)
    touched = 0
    for part_id, chosen in vertices.items():
        if not len(chosen) or part_id not in skin.weights or part_id not in other.weights:
            continue
        mesh = character.part(part_id).mesh
        if both_sides:
            middle = character.standing.middle if character.standing else 0.0
            across = partners(mesh, middle)[chosen]
            chosen = np.union1d(chosen, across[across >= 0])
        share = softened(mesh, chosen, border)
        weights[part_id] = _blended(skin.weights[part_id], other.weights[part_id], share, skin.limit(part_id))
        if part_id in skin.dual or part_id in other.dual:
            none = np.zeros(mesh.vertex_count)
            here, other_mask = skin.dual.get(part_id, none), other.dual.get(part_id, none)
            dual[part_id] = owned_floats(here + share * (other_mask - here))
        touched += len(chosen)
    if not touched:
        raise EditError("no vertex is selected that both weaves hold; draw a box over some first")
    changed = replace(skin, weights=MappingProxyType(weights), dual=MappingProxyType(dual))
    return borders_carried(document, document.with_character(replace(character, skin=changed)))


def _blended(here: Weights, other: Weights, share: FloatArray, influences: int) -> Weights:
    ids = list(dict.fromkeys([*here.joint_ids, *other.joint_ids]))
    rows = [dense_over(own, ids) for own in (here, other)]
    mixed = rows[0] + share[:, None] * (rows[1] - rows[0])
    result = from_dense(mixed, ids, influences=influences)
    if np.diff(here.indptr).max(initial=0) <= influences:
        return result
    # Rows nobody touched stay as they were, over the limit or not.
    untouched = share <= 0.0
    values = dense(result).copy()
    values[untouched] = rows[0][untouched]
    return from_dense(values, ids)


# Blend mode and relax


def set_dual(document: Document, part_id: str, share: float, vertices: IntArray | None = None) -> Document:
    """How much of a part, or of some of its vertices, blends by dual quaternions: 0 linear, 1 dual quaternion."""
    character = document.require_character()
    skin = _bound(character, part_id)
    if not 0.0 <= share <= 1.0:
        raise EditError("the share of dual quaternion blending is from 0 to 1")
    count = character.part(part_id).mesh.vertex_count
    values = np.array(skin.dual.get(part_id, np.zeros(count)))
    if vertices is None:
        values[:] = share
    else:
        values[_whole_places(character.part(part_id), vertices)] = share
    return set_dual_mask(document, part_id, values)


def set_dual_mask(document: Document, part_id: str, values: FloatArray) -> Document:
    """The painted share (n,) of dual quaternion blending; all zero is plain linear blending."""
    character = document.require_character()
    skin = _bound(character, part_id)
    dual = {k: v for k, v in skin.dual.items() if k != part_id}
    if np.any(values > 0):
        dual[part_id] = owned_floats(np.clip(values, 0.0, 1.0))
    return document.with_character(replace(character, skin=replace(skin, dual=MappingProxyType(dual))))


def set_relax(document: Document, part_id: str, *, steps: int = 12, strength: float = 1.0) -> Document:
    """Put surface relax on a part, or change its settings; a painted mask stays. Strength 0 takes it off."""
    character = document.require_character()
    skin = _bound(character, part_id)
    if not 1 <= steps <= 200:
        raise EditError("surface relax takes 1 to 200 steps")
    before = skin.relax.get(part_id)
    relax = {k: v for k, v in skin.relax.items() if k != part_id}
    if strength > 0.0:
        relax[part_id] = Relax(steps, min(strength, 1.0), before.mask if before is not None else None)
    return document.with_character(replace(character, skin=replace(skin, relax=MappingProxyType(relax))))


def set_relax_mask(document: Document, part_id: str, values: FloatArray | None) -> Document:
    """The painted share (n,) of a part's surface relax; None: everywhere. Raises EditError without relax on it."""
    character = document.require_character()
    skin = _bound(character, part_id)
    if part_id not in skin.relax:
        raise EditError(f"{character.part(part_id).name} has no surface relax; put it on first")
    mask = None if values is None else owned_floats(np.clip(values, 0.0, 1.0))
    relax = {**skin.relax, part_id: replace(skin.relax[part_id], mask=mask)}
    return document.with_character(replace(character, skin=replace(skin, relax=MappingProxyType(relax))))


@dataclass(frozen=True, slots=True, eq=False)
class BakeReport:
    """One part's bake.

    error, before (n,) : metres, root mean square over the poses.
    poses : how many.
    """

    part: str
    poses: int
    error: FloatArray
    before: FloatArray

    @property
    def removed(self) -> float:
        """Share of the gap between plain and wanted surface that is gone, by root mean square."""
        gap = float(np.sqrt(np.mean(self.before**2)))
        return 1.0 - float(np.sqrt(np.mean(self.error**2))) / gap if gap > 1e-12 else 1.0

    @property
    def says(self) -> str:
        """For a person."""
        rms = 1000 * float(np.sqrt(np.mean(self.error**2)))
        worst = 1000 * float(self.error.max(initial=0.0))
        return f"{100 * self.removed:.0f} % of the gap closed; left {rms:.2f} mm, worst {worst:.1f} mm"


def bake_relax(
    document: Document, *, influences: int | None = None, part_ids: tuple[str, ...] | None = None,
    random: int = 40, clips: bool = False, progress: Progress = silent,
) -> tuple[Document, tuple[BakeReport, ...]]:  # fmt: skip
    """Bake surface relax and dual quaternion blending into plain weights of at most `influences` a vertex.

    What is followed: the range test, `random` poses within it, and with `clips` the character's motion. Pose, keys
    and selection in hand play no part and stay. The state before is kept as a weave. Returns the document and a
    report for each part. Raises EditError where no part has anything to bake; Cancelled from `progress`.
    """
    character = document.require_character()
    skin = _skin(character)
    wanted = [p for p in character.parts if p.id in skin.weights and (p.id in skin.relax or p.id in skin.dual)]
    if part_ids is not None:
        wanted = [p for p in wanted if p.id in part_ids]
    if not wanted:
        raise EditError("nothing to bake: put surface relax or dual quaternion blending on a bound part first")
    if influences is not None and not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    poses = _bake_poses(character, random=random, clips=clips)
    document = keep_unkept(document, "before the bake")
    weights, reports = dict(skin.weights), []
    for number, part in enumerate(wanted):
        share = part_of(progress, number / len(wanted), (number + 1) / len(wanted))
        result = _baked(character, skin, part, poses, influences or skin.limit(part.id), share)
        weights[part.id] = result.weights
        reports.append(BakeReport(part.name, len(poses), result.error, result.error_before))
    done = {p.id for p in wanted}
    changed = replace(
        with_weights(skin, weights),
        dual=MappingProxyType({k: v for k, v in skin.dual.items() if k not in done}),
        relax=MappingProxyType({k: v for k, v in skin.relax.items() if k not in done}),
    )
    if influences is not None:
        # A limit is each part's own: cloth that was baked to more leaves the body's alone.
        raised = [p.id for p in wanted if skin.limit(p.id) < influences]
        changed = changed.with_limit(influences, raised) if raised else changed
    after = document.with_character(replace(document.require_character(), skin=changed))
    return borders_carried(document, after), tuple(reports)


def _bake_poses(character: Character, *, random: int, clips: bool) -> list[FloatArray]:
    """Joint matrices (j, 4, 4) of every pose to follow."""
    skeleton = character.skeleton
    assert skeleton is not None
    poses: list[Shown] = [*sampled_poses(skeleton, random=random)]
    poses += [kept.pose for kept in character.trials]
    if clips:
        for clip in character.clips:
            count = int(np.clip(clip.length * clip.rate, 2, MOST_FRAMES))
            times = np.linspace(0.0, clip.length, count)
            poses += [sample(clip, float(t), skeleton, None, character.rig) for t in times]
    return [skin_matrices(skeleton, evaluate_rig(skeleton, character.rig, pose).joints) for pose in poses]


def _baked(
    character: Character, skin: Skin, part: Part, poses: list[FloatArray], influences: int, progress: Progress
) -> Baked:
    skeleton, weights = character.skeleton, skin.weights[part.id]
    assert skeleton is not None
    columns = [skeleton.index[j] for j in weights.joint_ids]
    relax = skin.relax.get(part.id)

    def followed() -> Iterator[tuple[FloatArray, FloatArray]]:
        for matrices in poses:
            yield matrices[columns], skinned(part, skin, skeleton, matrices)

    spread = relax.steps if relax is not None else 4
    return bake_weights(
        part.mesh, weights, followed(), len(poses), influences=influences, spread=spread, progress=progress
    )


def _whole_places(part: Part, vertices: IntArray) -> IntArray:
    g = weld(part.mesh)
    return np.flatnonzero(np.isin(g.group, g.group[np.asarray(vertices, dtype=np.int64)]))


def _free_name(character: Character, wanted: str) -> str:
    taken = {w.name for w in character.weaves}
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted} ({number})", number + 1
    return name


def _weave(character: Character, weave_id: str) -> Weave:
    for weave in character.weaves:
        if weave.id == weave_id:
            return weave
    raise EditError(f"there is no weave {weave_id}")


def _skin(character: Character) -> Skin:
    if character.skin is None:
        raise EditError("there are no weights yet; bind first")
    return character.skin


def _bound(character: Character, part_id: str) -> Skin:
    skin = character.skin
    if skin is None or part_id not in skin.weights:
        raise EditError(f"{character.part(part_id).name} is not bound yet; bind first")
    return skin
