"""Corrective shapes: what a skin lacks in its trials, as few morph targets that joints bring in as they turn."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import FloatArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import place_triangles, weld
from pegloom.core.jobs import Progress, ask, part_of, silent
from pegloom.core.motion.trials import trial_pose, trials_of, turns_of
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.bind.easing import nearness, softened
from pegloom.core.skin.flesh.body import flesh_of
from pegloom.core.skin.flesh.goals import Goals, goals
from pegloom.core.skin.flesh.judge import WORSE, Judge, Seen
from pegloom.core.skin.helpers import given_back, seeded
from pegloom.core.skin.mirror import joints_across, partners_within
from pegloom.core.skin.shapes import ShapeDrive, shape_weights, solved_shapes, turn_from_rest, unskinned
from pegloom.core.skin.weights import Weights, dense, dense_over, from_dense
from pegloom.document.edits.flesh import Range, bent_through, is_flesh
from pegloom.document.edits.helpers import STEM, worth_helping
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.rebuild import assembled
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Document, Helper, Morph, Part

MOST = 6
"""Shapes, a left and a right one counted as one, unless told otherwise."""
LEAST_TURN = np.radians(25.0)
"""How far a trial must turn a joint for a shape to hang on it."""
LEAST = 0.0006
"""Share of the body's height under which a shape moves nothing worth keeping."""
SMOOTH, EASINGS = 110, 3
"""Shares of the diagonal over which a shape is eased, and half-passes."""
TRIES, STEP = 14, 0.7
"""How often a shape that makes a region worse is led back, and by how much."""


@dataclass(frozen=True, slots=True)
class ShapesReport:
    """part : its name. shapes : names of the morph targets. explained : share of what the skin lacked in its trials that they take away.
    before_mm, after_mm : distance to the elastic body, root mean square."""

    part: str
    shapes: tuple[str, ...]
    explained: float
    before_mm: float
    after_mm: float

    @property
    def says(self) -> str:
        """In one line."""
        if not self.shapes:
            return "no shape makes it better in every trial"
        return f"{len(self.shapes)} shapes: {self.before_mm:.1f} mm from the elastic body before, {self.after_mm:.1f} mm with them"


@dataclass(frozen=True, slots=True)
class _Made:
    """A shape that may come: joint, trial, rotation vector in the character's axes."""

    joint: str
    trial: str
    turn: tuple[float, float, float]


def add_shapes(
    document: Document, *, most: int = MOST, worse: float = WORSE, part_ids: Collection[str] | None = None, progress: Progress = silent
) -> tuple[Document, tuple[ShapesReport, ...]]:
    """Add corrective shapes: morph targets that take away most of what lies between the skin and an elastic body over the range test.

    Each hangs on the turn of one joint, left and right alike; no figure of any trial gets worse by more than `worse`. Earlier ones made here
    are made anew; sculpted ones stay. most : shapes a part, a pair as one. part_ids : of skin parts; None for all. Raises EditError without weights, Cancelled
    from `progress`.
    """
    if not 1 <= most <= 40:
        raise EditError(f"a part takes 1 to 40 shapes, not {most}")
    # What was sculpted by hand stays.
    made = [s.id for s in document.require_character().shapes if not s.by_hand]
    document = drop_shapes(document, made) if made else document
    character = document.require_character()
    skin = character.require_skin()
    body = [p for p in character.at_level(0) if p.id in skin.weights and is_flesh(p, skin.weights[p.id]) and (part_ids is None or p.id in part_ids)]
    if not body:
        raise EditError("there is no bound part of skin to shape; bind first, or say which part is skin in Mesh")
    bent = with_half_turns(character)
    range_of, reports = bent_through(bent), []
    for number, part in enumerate(body):
        one = part_of(progress, number / len(body), (number + 1) / len(body))
        character, report = _shaped(character, bent.require_skeleton(), part, range_of, most, worse, one)
        reports.append(report)
    progress(1.0, "shaped")
    return document.with_character(character), tuple(reports)


def drop_shapes(document: Document, shapes: Collection[str] | None = None) -> Document:
    """Take corrective shapes and their morph targets away. shapes : ids or names of their morph targets; None for all.

    Raises EditError where there are none of them."""
    character = document.require_character()
    gone = [s for s in character.shapes if shapes is None or s.id in shapes or s.morph in shapes]
    if not gone:
        raise EditError("there are no corrective shapes to take away")
    names = {(s.part, s.morph) for s in gone}
    parts = tuple(replace(p, morphs=tuple(m for m in p.morphs if (p.id, m.name) not in names)) if any(p.id == s.part for s in gone) else p for p in character.parts)
    return document.with_character(replace(character, parts=parts, shapes=tuple(s for s in character.shapes if s not in gone)))


def sculpt_shape(document: Document, part_id: str, points: FloatArray, *, name: str = "", both_sides: bool = False) -> tuple[Document, str]:
    """Take a mesh corrected by hand in the pose shown, as a shape on the joint that is turned farthest where it was changed.

    points (n, 3) : of the part as it should be in this pose, metres in the character. both_sides : the other side gets its mirror image, where the
    mesh is even. Gives the morph target's name. Raises EditError for
    another number of vertices, at rest, or where nothing was changed.
    """
    character = document.require_character()
    skeleton, part = character.require_skeleton(), character.part(part_id)
    skin = character.require_skin()
    if part_id not in skin.weights:
        raise EditError(f"{part.name} is not bound, so it has no pose to be corrected in")
    if points.shape != part.mesh.points.shape:
        raise EditError(f"the corrected mesh has {len(points)} vertices and {part.name} {part.mesh.vertex_count}; export it, correct it and bring it back without changing its faces")
    frame = evaluate(character)
    change = np.linalg.norm(points - frame.points[part_id], axis=1)
    if change.max(initial=0.0) < 1e-6 * character.height:
        raise EditError("the corrected mesh is as the part stands in this pose; nothing to take")
    columns = [skeleton.index[j] for j in skin.weights[part_id].joint_ids]
    worlds = frame.joints[None]
    matrices = np.asarray(frame.joints @ skeleton.inverse_world)[columns]
    deltas = unskinned(part.mesh.points, _blended(skin.weights[part_id], matrices), points) - unskinned(part.mesh.points, _blended(skin.weights[part_id], matrices), frame.points[part_id])
    held = change @ dense(skin.weights[part_id])
    turned = {j.id: _vector(turn_from_rest(skeleton, j.id, worlds)[0]) for j in skeleton.joints if not j.aside}
    near = {j: float(held[k]) for k, j in enumerate(skin.weights[part_id].joint_ids)}
    joint = max(turned, key=lambda j: float(np.linalg.norm(turned[j])) * (near.get(j, 0.0) + 0.5 * near.get(skeleton.joint(j).parent or "", 0.0)))
    if np.linalg.norm(turned[joint]) < np.radians(5.0):
        raise EditError("no joint near what was corrected is turned; take the pose it is meant for first")
    character, (drive_id,) = fresh_ids(character, "shape", (s.id for s in character.shapes), 1)
    label = _free(part, name.strip() or f"{skeleton.joint(joint).name}_sculpted")
    morphs = (*part.morphs, Morph(label, owned_floats(deltas)))
    drives = (*character.shapes, ShapeDrive(drive_id, part_id, label, joint, turned[joint], by_hand=True))
    parts = tuple(replace(p, morphs=morphs) if p.id == part_id else p for p in character.parts)
    character = replace(character, parts=parts, shapes=drives)
    return document.with_character(_with_mirror_image(character, part_id, drives[-1]) if both_sides else character), label


def _with_mirror_image(character: Character, part_id: str, drive: ShapeDrive) -> Character:
    """With the same shape on the other side, on the joint across; as it is where there is none or the shape is its own image."""
    part, skeleton = character.part(part_id), character.require_skeleton()
    middle = character.standing.middle if character.standing is not None else 0.0
    places, other = partners_within(part.mesh, middle, None), joints_across(skeleton, middle).get(drive.joint)
    turn = (drive.turn[0], -drive.turn[1], -drive.turn[2])
    same = other == drive.joint and np.allclose(turn, drive.turn, atol=1e-3)
    if other is None or same or (places < 0).mean() > 0.5:
        return character
    deltas = next(m.deltas for m in part.morphs if m.name == drive.morph)
    seen = np.where((places >= 0)[:, None], deltas[np.maximum(places, 0)] * [-1.0, 1.0, 1.0], 0.0)
    character, (drive_id,) = fresh_ids(character, "shape", (s.id for s in character.shapes), 1)
    label = _free(part, f"{skeleton.joint(other).name}_sculpted")
    parts = tuple(replace(p, morphs=(*p.morphs, Morph(label, owned_floats(seen)))) if p.id == part_id else p for p in character.parts)
    return replace(character, parts=parts, shapes=(*character.shapes, ShapeDrive(drive_id, part_id, label, other, turn, by_hand=True)))


def _shaped(character: Character, skeleton: Skeleton, part: Part, range_of: Range, most: int, worse: float, progress: Progress) -> tuple[Character, ShapesReport]:
    assert character.skin is not None
    g, weights = weld(part.mesh), character.skin.weights[part.id]
    helpers = [(j.id, j.halfway.of) for j in skeleton.joints if j.halfway is not None]
    middle = character.standing.middle if character.standing is not None else 0.0
    rest = np.ascontiguousarray(part.mesh.points[g.first])
    progress(0.0, f"filling {part.name} with flesh")
    bare = given_back(weights, skeleton, helpers)
    columns = [skeleton.index[j] for j in bare.joint_ids]
    flesh = flesh_of(rest, place_triangles(part.mesh), dense(bare)[g.first], skeleton, columns, middle=middle)
    # Where half-turn joints would keep a bend from caving in, that is what shapes are to do: the elastic body squeezes deep folds.
    half = weights if set(weights.joint_ids) & {h for h, _ in helpers} else seeded(part.mesh, weights, skeleton, helpers, None)
    ids = tuple(dict.fromkeys((*weights.joint_ids, *half.joint_ids)))
    half = from_dense(dense_over(half, ids), ids)
    wanted = goals(part.mesh, skeleton, weights, flesh, range_of.poses, ids=ids, progress=part_of(progress, 0.05, 0.6))
    judge = Judge(part.mesh, skeleton, weights, range_of.trials, worse, swells=True)
    both = {t: (2 * k, 2 * k + 1) for k, t in enumerate(range_of.trials)}
    wanted = judge.thicker(wanted, half, both)
    lacks = _lacking(part, dense_over(weights, ids), wanted)
    worlds = np.array([m @ skeleton.world for m in range_of.poses])
    made = _options(skeleton, judge)
    if not made:
        return character, ShapesReport(part.name, (), 0.0, 0.0, 0.0)
    chosen, masks = _chosen(skeleton, judge, made, worlds, lacks, most, middle)
    active = shape_weights(skeleton, [ShapeDrive("", part.id, "", m.joint, m.turn) for m in chosen], worlds)
    progress(0.65, "making shapes")
    shapes = solved_shapes(active, lacks, masks)
    near = nearness(part.mesh, np.full(g.count, float(np.linalg.norm(np.ptp(rest, axis=0))) / SMOOTH))
    shapes = np.array([softened(s, near, EASINGS) for s in shapes])
    shapes = _even(part, skeleton, chosen, shapes, middle)
    shapes = _held(judge, weights, chosen, shapes, active, both, part_of(progress, 0.7, 1.0))
    size = np.linalg.norm(shapes, axis=2).max(axis=1)
    kept = [k for k in range(len(chosen)) if size[k] >= LEAST * character.height]
    before = float(np.sqrt((lacks**2).sum(axis=2).mean()))
    after = float(np.sqrt(((lacks - np.einsum("ks,spd->kpd", active[:, kept], shapes[kept])) ** 2).sum(axis=2).mean()))
    character, fresh = fresh_ids(character, "shape", (s.id for s in character.shapes), len(kept))
    morphs, drives = list(part.morphs), list(character.shapes)
    for drive_id, k in zip(fresh, kept, strict=True):
        label = _free(replace(part, morphs=tuple(morphs)), f"{skeleton.joint(chosen[k].joint).name}_{chosen[k].trial}")
        morphs.append(Morph(label, owned_floats(shapes[k][g.group])))
        drives.append(ShapeDrive(drive_id, part.id, label, chosen[k].joint, chosen[k].turn))
    added = tuple(m.name for m in morphs[len(part.morphs) :])
    parts = tuple(replace(p, morphs=tuple(morphs)) if p.id == part.id else p for p in character.parts)
    explained = 1.0 - (after / max(before, 1e-12)) ** 2
    return replace(character, parts=parts, shapes=tuple(drives)), ShapesReport(part.name, added, explained, 1000 * before, 1000 * after)


def with_half_turns(character: Character) -> Character:
    """The character as it would stand with half-turn helpers where it bends far; with its own where it has some."""
    if character.helpers:
        return character
    skeleton = character.require_skeleton()
    more = tuple(Helper(STEM + j, f"{j} half", j) for j in worth_helping(skeleton, digits=True))
    return replace(character, skeleton=assembled(replace(character, adopted=character.adopted or (None if character.pegs else skeleton), helpers=more)))


def _lacking(part: Part, values: FloatArray, wanted: Goals) -> FloatArray:
    """What has to be added at rest (k, p, 3) in each pose. values (n, j) : weights in the goals' columns."""
    g = weld(part.mesh)
    rest, to, rows = part.mesh.points[g.first], wanted.wanted, values[g.first]
    return np.array([unskinned(rest, np.einsum("pj,jab->pab", rows, poses), to[k]) for k, poses in enumerate(wanted.poses)])


def _blended(weights: Weights, matrices: FloatArray) -> FloatArray:
    return np.asarray(np.einsum("nj,jab->nab", dense(weights), matrices[:, :3, :]))


def _options(skeleton: Skeleton, judge: Judge) -> list[_Made]:
    """Joints and trials that turn them far, where a part is around the joint."""
    found = []
    for trial in trials_of(skeleton):
        worlds = evaluate_rig(skeleton, None, trial_pose(skeleton, trial.id)).joints[None]
        for joint in turns_of(skeleton, trial.id).turns:
            if joint not in judge.gauges or joint not in skeleton.index or skeleton.joint(joint).parent is None:
                continue
            turn = _vector(turn_from_rest(skeleton, joint, worlds)[0])
            if np.linalg.norm(turn) >= LEAST_TURN:
                found.append(_Made(joint, trial.id, turn))
    return found


def _chosen(
    skeleton: Skeleton, judge: Judge, made: list[_Made], worlds: FloatArray, lacks: FloatArray, most: int, middle: float
) -> tuple[list[_Made], FloatArray]:
    """The few that take away most, a pair as one, and how much of each place is each one's (s, p)."""
    across = joints_across(skeleton, middle)
    regions = {j: 1.0 - judge.apart(j) for j in {m.joint for m in made}}
    active = shape_weights(skeleton, [ShapeDrive("", "", "", m.joint, m.turn) for m in made], worlds)
    # Where several joints turn in one trial a place is theirs by how near it lies to each.
    sums = {t: sum(regions[m.joint] for m in made if m.trial == t) for t in {m.trial for m in made}}
    masks = np.array([regions[m.joint] / np.maximum(np.maximum(sums[m.trial], 1.0), 1e-9) for m in made])
    gain = np.zeros(len(made))
    for s in range(len(made)):
        best = np.einsum("k,kpd->pd", active[:, s], lacks) / max(float(active[:, s] @ active[:, s]), 1e-9)
        gain[s] = float(active[:, s] @ active[:, s]) * float(((best * masks[s][:, None]) ** 2).sum())
    pairs: dict[tuple[str, str], list[int]] = {}
    for s, one in enumerate(made):
        other = across.get(one.joint) or one.joint
        pairs.setdefault((min(one.joint, other), one.trial), []).append(s)
    order = sorted(pairs.values(), key=lambda some: -float(gain[some].sum()))
    chosen = [s for some in order[:most] for s in some]
    return [made[s] for s in chosen], masks[chosen]


def _even(part: Part, skeleton: Skeleton, chosen: list[_Made], shapes: FloatArray, middle: float) -> FloatArray:
    """A left and a right shape the mirror images of their mean, where the mesh is even."""
    g, places = weld(part.mesh), partners_within(part.mesh, middle, None)
    if (places < 0).mean() > 0.5:
        return shapes
    other = np.where(places[g.first] >= 0, g.group[np.maximum(places[g.first], 0)], -1)
    across, result = joints_across(skeleton, middle), shapes.copy()
    for k, one in enumerate(chosen):
        twin = next((n for n, m in enumerate(chosen) if m.joint == (across.get(one.joint) or one.joint) and m.trial == one.trial), k)
        seen = shapes[twin][np.maximum(other, 0)] * [-1.0, 1.0, 1.0]
        result[k] = np.where((other >= 0)[:, None], 0.5 * (shapes[k] + seen), shapes[k])
    return result


def _held(
    judge: Judge, weights: Weights, chosen: list[_Made], shapes: FloatArray, active: FloatArray, trials: Mapping[str, tuple[int, ...]], progress: Progress
) -> FloatArray:
    """Shapes led back until no trial is worse for them."""
    g = weld(judge.mesh)
    rows = dense(weights)
    columns = [judge.skeleton.index[j] for j in weights.joint_ids]
    stays = np.ones((len(chosen), len(judge.rest)))
    for attempt in range(TRIES + 1):
        ask(progress)
        progress(attempt / (TRIES + 1), "holding each shape to what was")
        points = {}
        for trial, some in trials.items():
            moved = np.einsum("s,spd->pd", active[some[-1]], stays[:, :, None] * shapes)
            matrices = np.einsum("nj,jab->nab", rows, judge.trials[trial][columns][:, :3, :])
            at = judge.mesh.points + moved[g.group]
            points[trial] = np.einsum("nab,nb->na", matrices[:, :, :3], at) + matrices[:, :, 3]
        now = Seen(judge, points)
        clear = True
        for trial, some in trials.items():
            regions, places, bad = judge.faults(now, (trial,))
            if not bad:
                continue
            clear = False
            mine = active[some[-1]] > 0.05
            for joint, step in regions.items():
                stays[mine] *= 1.0 - (1.0 - min(step, STEP)) * (1.0 - judge.apart(joint))
            if len(places):
                stays[mine] *= 1.0 - STEP * judge.around(places)
        if clear:
            return np.asarray(stays[:, :, None] * shapes)
    return np.zeros_like(shapes)


def _vector(turn: FloatArray) -> tuple[float, float, float]:
    x, y, z = Rotation.from_matrix(turn).as_rotvec().tolist()
    return (x, y, z)


def _free(part: Part, name: str) -> str:
    taken, base, number = {m.name for m in part.morphs}, name, 2
    while name in taken:
        name, number = f"{base}_{number}", number + 1
    return name


__all__ = ["ShapesReport", "add_shapes", "drop_shapes", "sculpt_shape"]
