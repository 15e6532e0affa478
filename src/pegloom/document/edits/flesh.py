"""Weights fitted to a body that behaves like flesh, kept only where every trial is as good as before or better."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import place_triangles, weld
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.sampling import sampled_poses
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.rig.pose import Shown
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.flesh.body import flesh_of
from pegloom.core.skin.flesh.fit import distance, fit_weights
from pegloom.core.skin.flesh.gate import gated
from pegloom.core.skin.flesh.goals import goals
from pegloom.core.skin.flesh.judge import WORSE, Judge
from pegloom.core.skin.flesh.settle import led_to
from pegloom.core.skin.helpers import given_back
from pegloom.core.skin.mirror import Way, joints_across, mirror_rows, partners_within
from pegloom.core.skin.transfer import nearest_rows
from pegloom.core.skin.weights import Weights, dense_over, from_dense
from pegloom.document.edits.skins import with_weights
from pegloom.document.edits.weaves import keep_unkept, keep_weave
from pegloom.document.edits.weights import bind
from pegloom.document.meeting import borders_carried
from pegloom.document.model import Character, Document, Part, PartKind

LEAST_FACES = 120
"""Faces of a part that can be flesh: an eye or a button is none."""
RANDOM = 8
"""Poses beside the trials' own, whole and half, that are followed."""
WHOLE = 0.99
"""Share of a vertex from which it follows one joint alone."""
WEAVE = "fitted to flesh"
NONE: IntArray = np.zeros(0, dtype=np.int64)


@dataclass(frozen=True, slots=True)
class FleshReport:
    """part : its name. poses : followed. before_mm, after_mm : distance to the elastic body, root mean square, before and after. kept : share of the places whose fitted weights stayed. led_back : names of joints whose regions went back at least in part."""

    part: str
    poses: int
    before_mm: float
    after_mm: float
    kept: float
    led_back: tuple[str, ...] = ()

    @property
    def says(self) -> str:
        """In one line."""
        if self.kept <= 0.0:
            return "nothing of it is better in every trial; the weights stay"
        back = f", led back at {len(self.led_back)} joints" if self.led_back else ""
        return f"{self.before_mm:.1f} mm from the elastic body before, {self.after_mm:.1f} mm now; {self.kept:.0%} of the fit stays{back}"


def fit_to_flesh(
    document: Document, *, influences: int | None = None, part_ids: Collection[str] | None = None, worse: float = WORSE, anew: bool = False,
    still: Mapping[str, Collection[int]] | None = None, progress: Progress = silent,
) -> tuple[Document, tuple[FleshReport, ...]]:
    """Fit the weights of the body's skin to an elastic body over the range test, and lead back what would be worse.

    Cloth goes along with the skin under it. The state before is kept as a weave, and so is the result; undone in one step.

    influences : most a vertex, None for each part's own limit. part_ids : of skin parts; None for all. worse : share by which a figure
    of a region may be worse in any trial. anew : bind those parts by the default bind first: weights that tear are no place to
    start. still : by part, vertices that keep what they hold, painted by hand for example. Raises EditError without weights or skin, Cancelled
    from `progress`.
    """
    character = document.require_character()
    skeleton, skin = character.require_skeleton(), character.require_skin()
    if not 0.0 <= worse <= 0.5:
        raise EditError(f"a figure may be worse by 0 to 0.5 of itself, not {worse:g}")
    if influences is not None and not 1 <= influences <= 16:
        raise EditError(f"influences per vertex must be 1 to 16, not {influences}")
    bound = [p for p in character.at_level(0) if p.id in skin.weights and p.mesh.face_count]
    body = [p for p in bound if is_flesh(p, skin.weights[p.id]) and (part_ids is None or p.id in part_ids)]
    if not body:
        raise EditError("there is no bound part of skin to fit; bind first, or say which part is skin in Mesh")
    if anew:
        document = bind(document, influences=influences or skin.influences, part_ids=part_ids, progress=part_of(progress, 0.0, 0.25))
        character, progress = document.require_character(), part_of(progress, 0.25, 1.0)
        skin = character.require_skin()
        body = [p for p in body if is_flesh(p, skin.weights[p.id])]
    range_of = bent_through(character)
    document = keep_unkept(document, "before the fit")
    weights, reports = dict(skin.weights), []
    for number, part in enumerate(body):
        one = part_of(progress, 0.95 * number / len(body), 0.95 * (number + 1) / len(body))
        held = np.array(sorted((still or {}).get(part.id, ())), dtype=np.int64)
        weights[part.id], report = fitted(character, part, skin.weights[part.id], range_of, influences or skin.limit(part.id), worse, one, still=held)
        reports.append(report)
    cloth = [p for p in bound if p.kind is PartKind.CLOTH and (part_ids is None or p.id in part_ids)]
    for number, part in enumerate(cloth):
        progress(0.95 + 0.04 * number / len(cloth), f"taking {part.name} along")
        limit = influences or skin.limit(part.id)
        old, new = along(part, body, skin.weights, weights, limit)
        # A strap that bends worse than it did keeps what it had.
        judge = Judge(part.mesh, skeleton, old, range_of.trials, worse)
        weights[part.id] = gated(judge, old, new, influences=limit, progress=part_of(progress, 0.95, 0.99)).weights
    after = document.with_character(replace(document.require_character(), skin=with_weights(skin, weights)))
    after = borders_carried(document, after)
    if any(r.kept > 0.0 for r in reports):
        after, _ = keep_weave(after, WEAVE)
    progress(1.0, "fitted")
    return after, tuple(reports)


def is_flesh(part: Part, weights: Weights) -> bool:
    """Whether a part is skin some of which follows several joints: what is whole with one, an eye or a badge, is no flesh."""
    return part.kind is PartKind.SKIN and part.mesh.face_count >= LEAST_FACES and bool((dense_over(weights, weights.joint_ids).max(axis=1) < WHOLE).mean() > 1.0 - WHOLE)


@dataclass(frozen=True, slots=True, eq=False)
class Range:
    """Joint matrices (j, 4, 4) of a whole skeleton: of each trial by name, and of all poses a fit follows, of which the first are each
    trial's half and whole."""

    trials: dict[str, FloatArray]
    poses: list[FloatArray]


def bent_through(character: Character) -> Range:
    """A character's range test. Raises EditError where no trial fits its joints."""
    skeleton = character.require_skeleton()
    trials = {t.id: _matrices(skeleton, trial_pose(skeleton, t.id)) for t in trials_of(skeleton)}
    if not trials:
        raise EditError("no trial fits this skeleton, so nothing says what good weights would be")
    return Range(trials, [_matrices(skeleton, p) for p in sampled_poses(skeleton, random=RANDOM)])


def _matrices(skeleton: Skeleton, pose: Shown) -> FloatArray:
    return skin_matrices(skeleton, evaluate_rig(skeleton, None, pose).joints)


def fitted(
    character: Character, part: Part, old: Weights, range_of: Range, influences: int, worse: float, progress: Progress, *,
    start: Weights | None = None, safe: Weights | None = None, still: IntArray = NONE,
) -> tuple[Weights, FleshReport]:
    """A part's weights fitted to the elastic body, no figure of any trial worse by more than a share than `old` has it.

    start : what the fit begins with, and what it keeps of it in a region in which it is thicker than the elastic body. safe : what is led
    back to. Both are the old weights where none are given. still : vertices that keep what they hold. Raises Cancelled from `progress`.
    """
    skeleton, g = character.require_skeleton(), weld(part.mesh)
    begin = old if start is None else start
    middle = character.standing.middle if character.standing is not None else 0.0
    progress(0.0, f"filling {part.name} with flesh")
    helpers = [(j.id, j.halfway.of) for j in skeleton.joints if j.halfway is not None]
    bare = given_back(old, skeleton, helpers)
    columns = [skeleton.index[j] for j in bare.joint_ids]
    flesh = flesh_of(part.mesh.points[g.first], place_triangles(part.mesh), dense_over(bare, bare.joint_ids)[g.first], skeleton, columns, middle=middle)
    wanted = goals(part.mesh, skeleton, old, flesh, range_of.poses, ids=begin.joint_ids, progress=part_of(progress, 0.05, 0.4))
    places = partners_within(part.mesh, middle, None)
    even = (places < 0).mean() <= 0.5
    judge = Judge(part.mesh, skeleton, old, range_of.trials, worse, swells=start is not None)
    both = {t: (2 * k, 2 * k + 1) for k, t in enumerate(range_of.trials)}
    if start is not None:
        wanted = judge.thicker(wanted, begin, both)
    found = fit_weights(
        part.mesh, begin, wanted, influences=influences,
        finish=lambda w: _even(part, skeleton, begin, w, middle, places, influences) if even else w, progress=part_of(progress, 0.4, 0.45),
    )  # fmt: skip
    held = led_to(
        judge, old, with_rows_of(found.weights, old, still), still=np.unique(g.group[still]), influences=influences, wanted={t: wanted.wanted[some[-1]] for t, some in both.items()}, safe=safe,
        across=across_of(part, places) if even else None, partner=partners_of(skeleton, found.weights.joint_ids, middle),
        floor=None if start is None else judge.of(start), progress=part_of(progress, 0.45, 1.0),
    )  # fmt: skip
    result = with_rows_of(held.weights, old, still)
    names = tuple(skeleton.joint(j).name for j in held.led_back)
    return result, FleshReport(part.name, len(range_of.poses), 1000 * found.error_before, 1000 * distance(part.mesh, wanted, begin.joint_ids, held.weights), held.kept, names)


def with_rows_of(new: Weights, old: Weights, vertices: IntArray) -> Weights:
    """Weights with some vertices' rows as others have them."""
    if not len(vertices):
        return new
    ids = tuple(dict.fromkeys((*new.joint_ids, *old.joint_ids)))
    rows = dense_over(new, ids)
    rows[vertices] = dense_over(old, ids)[vertices]
    return from_dense(rows, ids)


def across_of(part: Part, places: IntArray) -> IntArray:
    """The welded place across (g,) of each, -1 for none. places (n,) : the vertex across."""
    g = weld(part.mesh)
    return np.where(places[g.first] >= 0, g.group[np.maximum(places[g.first], 0)], -1)


def _even(part: Part, skeleton: Skeleton, old: Weights, new: Weights, middle: float, places: IntArray, influences: int) -> Weights:
    """Both halves the mean of each other. places (n,) : the vertex across, -1 for none."""
    ids = old.joint_ids
    values = dense_over(new, ids)
    even, _ = mirror_rows(values, part.mesh.points[:, 0] - middle, places, partners_of(skeleton, ids, middle), Way.AVERAGED)
    return from_dense(np.where((places >= 0)[:, None], even, values), ids, influences=influences)


def partners_of(skeleton: Skeleton, ids: tuple[str, ...], middle: float) -> IntArray:
    """The column across (j,) of each, its own where there is none."""
    across, number = joints_across(skeleton, middle), {j: k for k, j in enumerate(ids)}
    return np.array([number.get(across.get(j) or "", k) for k, j in enumerate(ids)])


def along(part: Part, body: list[Part], old: Mapping[str, Weights], new: Mapping[str, Weights], influences: int) -> tuple[Weights, Weights]:
    """Cloth as it is, and with rows that change as those of the nearest skin under it, both over the same joints."""
    mine: Weights = new[part.id]
    best = min(body, key=lambda p: float(np.linalg.norm(p.mesh.points.mean(axis=0) - part.mesh.points.mean(axis=0))))
    ids = tuple(dict.fromkeys((*mine.joint_ids, *old[best.id].joint_ids, *new[best.id].joint_ids)))
    was, is_ = (dense_over(some[best.id], ids) for some in (old, new))
    change = np.asarray(nearest_rows(best.mesh, part.mesh) @ (is_ - was))
    rows = np.clip(dense_over(mine, ids) + change, 0.0, None)
    g = weld(part.mesh)
    rows = (rows / np.maximum(rows.sum(axis=1, keepdims=True), 1e-12))[g.first][g.group]
    return from_dense(dense_over(mine, ids), ids), from_dense(rows, ids, influences=influences)


__all__ = ["FleshReport", "Range", "across_of", "along", "bent_through", "fit_to_flesh", "fitted", "is_flesh", "partners_of"]
