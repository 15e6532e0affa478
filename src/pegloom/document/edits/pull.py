"""Skin pulled where it belongs: in a bad pose the rigger leads it, and weights follow, on both sides, other poses as they are."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import triangulate, vertex_normals, weld
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.rig.evaluate import skin_matrices
from pegloom.core.rig.pose import Shown
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.judge import WORSE, Judge
from pegloom.core.skin.flesh.pull import WIDER, around, drawn_surface, pulled
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.mirror import partners_within
from pegloom.core.skin.transfer import nearest_on
from pegloom.core.skin.weights import Weights, packed
from pegloom.document.edits.flesh import across_of, along, bent_through, partners_of
from pegloom.document.edits.shapes import sculpt_shape
from pegloom.document.edits.skins import with_weights
from pegloom.document.edits.weaves import keep_unkept, keep_weave, kept_as
from pegloom.document.evaluate import evaluate
from pegloom.document.meeting import borders_carried
from pegloom.document.model import Character, Document, Part, PartKind

RADIUS = 0.13
"""Share of the body's height over which a pull fades out, unless told otherwise."""
REACHES = 0.9
"""Share of the way from which nothing is left for a shape."""
UNDER = 0.003
"""Share of the body's height skin stays under cloth, where it is to."""
COVERS = 0.03
"""Share of the body's height within which cloth covers skin."""
NEAR = 0.5
"""Share of what a place goes along from which a joint there keeps its width."""
STILL = 1e-4
"""Share of the height within which a pose is none."""
WEAVE = "pulled"


@dataclass(frozen=True, slots=True)
class PullReport:
    """reached : share of the way the handle went by weights. stretch_before, stretch_after : of the longest edge about the handle in this pose.
    shape : name of the morph target that takes the rest, "" for none. moved : by trial, how far the skin farthest off goes elsewhere,
    metres. worse : trial and joint of regions whose figures got worse by more than two percent."""

    reached: float
    stretch_before: float
    stretch_after: float
    shape: str
    moved: dict[str, float]
    worse: tuple[tuple[str, str], ...]

    @property
    def says(self) -> str:
        """In one line."""
        rest = f"; {self.shape} takes the rest" if self.shape else ""
        trial, far = max(self.moved.items(), key=lambda row: row[1], default=("", 0.0))
        cost = f"; elsewhere the skin goes up to {1000 * far:.0f} mm ({trial.replace('_', ' ')})" if far > 5e-4 else ""
        worse = ", ".join(f"{joint} in {trial.replace('_', ' ')}" for trial, joint in self.worse[:3])
        more = f" and {len(self.worse) - 3} more" if len(self.worse) > 3 else ""
        longest = f"longest edge here {self.stretch_before:.1f}, now {self.stretch_after:.1f}"
        return f"{self.reached:.0%} of the way{rest}; {longest}{cost}{f'; worse now: {worse}{more}' if worse else ''}"


def pull_skin(
    document: Document, part_id: str, at: FloatArray, by: FloatArray, *, pose: Shown | None = None, radius: float | None = None, both_sides: bool = True,
    still: Collection[int] = (), keep_width: bool = False, under_cloth: bool = False, shape: bool = False, progress: Progress = silent,
) -> tuple[Document, PullReport]:  # fmt: skip
    """Lead the skin at a point of a pose; its weights follow, other poses stay as far as they can.

    Cloth goes along with the skin under it. What is in hand is kept as a weave, and so is the result; one step.

    Parameters
    ----------
    at (3,), by (3,) : where the skin is taken hold of and how far it is led, metres. pose : None for the one in hand. radius : metres along
    the skin over which it fades out. still : vertices that must not move. keep_width : sections of the limb there keep their girth and area.
    under_cloth : skin stays under the cloth that covers it. shape : what weights cannot reach becomes a corrective shape.

    Raises EditError for a part that is not bound, or nothing led; Cancelled from `progress`.
    """
    if not np.isfinite(by).all() or float(np.linalg.norm(by)) < 1e-6:
        raise EditError("lead the skin somewhere; it was not moved")
    character = document.require_character()
    skeleton, skin, part = character.require_skeleton(), character.require_skin(), character.part(part_id)
    if part_id not in skin.weights:
        raise EditError(f"{part.name} is not bound; bind it first, then pull its skin")
    if radius is not None and not 0.0 < radius < 10.0 * character.height:
        raise EditError(f"a pull fades out over a length, not over {radius:g} m")
    g, frame, old = weld(part.mesh), evaluate(character, pose), skin.weights[part_id]
    posed = frame.points[part_id][g.first]
    place = int(np.argmin(((posed - at) ** 2).sum(axis=1)))
    reach = radius or RADIUS * character.height
    held = np.unique(g.group[np.array(sorted(still), dtype=np.int64)]) if still else None
    share = around(part.mesh, place, reach)
    if held is not None:
        if (held == place).any():
            raise EditError("what is led is among what must not move; take hold elsewhere, or select less")
        share[held] = 0.0
    progress(0.02, "drawing the surface")
    surface = drawn_surface(part.mesh, posed, place, share, np.asarray(by, dtype=float))
    if under_cloth:
        surface = _under(character, frame.points, surface, share > 0.0)
    matrices = skin_matrices(skeleton, frame.joints)
    if float(np.linalg.norm(skin_linear(part.mesh.points, packed(old), matrices[[skeleton.index[j] for j in old.joint_ids]]) - part.mesh.points, axis=1).max()) < STILL * character.height:
        raise EditError("the figure stands as it was bound, where weights change nothing; take a trial or a pose that bends it")
    range_of = bent_through(character)
    judge = Judge(part.mesh, skeleton, old, range_of.trials, WORSE)
    middle = character.standing.middle if character.standing is not None else 0.0
    across = partner = None
    if both_sides:
        places = partners_within(part.mesh, middle, None)
        if (places < 0).mean() <= 0.5:
            across, partner = across_of(part, places), partners_of(skeleton, old.joint_ids, middle)
    keeps = tuple(j for j in judge.gauges if keep_width and share[judge.apart(j) <= 0.0].max(initial=0.0) > NEAR)
    new = pulled(
        judge, old, matrices, surface, share, influences=skin.limit(part_id), wide=around(part.mesh, place, WIDER * reach), still=held, across=across,
        partner=partner, keeps=keeps, progress=part_of(progress, 0.2, 0.85),
    )  # fmt: skip
    weights = {**skin.weights, part_id: new}
    if part.kind is PartKind.SKIN:
        for cloth in character.at_level(0):
            if cloth.kind is PartKind.CLOTH and cloth.id in skin.weights:
                weights[cloth.id] = along(cloth, [part], skin.weights, weights, skin.limit(cloth.id))[1]
    document = _before(document)
    character = document.require_character()
    after = borders_carried(document, document.with_character(replace(character, skin=with_weights(skin, weights))))
    now = evaluate(after.require_character(), pose).points[part_id][g.first]
    way = surface[place] - posed[place]
    reached = float((now[place] - posed[place]) @ way / max(float(way @ way), 1e-18))
    named = ""
    if shape and reached < REACHES:
        after, named = _rest_as_shape(after, part, pose, surface, share, both_sides)
    after = _kept(after)
    near = judge.edges[(share[judge.edges] > 0.0).any(axis=1)]
    stretch = [float(edge_stretch(judge.rest, x, near).max(initial=1.0)) for x in (posed, evaluate(after.require_character(), pose).points[part_id][g.first])]
    progress(0.95, "looking at the other poses")
    return after, _told(judge, after.require_character().require_skin().weights[part_id], reached, stretch, named)


def _before(document: Document) -> Document:
    """With the weights in hand kept; a weave that a pull before this one left makes room for this one's."""
    character = document.require_character()
    last = kept_as(character)
    if last is not None and re.fullmatch(rf"{WEAVE}( \(\d+\))?", last.name):  # not one a rigger has named
        return document.with_character(replace(character, weaves=tuple(w for w in character.weaves if w.id != last.id)))
    return keep_unkept(document, "before the pull")


def _kept(document: Document) -> Document:
    return keep_weave(document, WEAVE)[0]


def _under(character: Character, points: dict[str, FloatArray], surface: FloatArray, asked: BoolArray) -> FloatArray:
    """Places (g, 3), those that are asked for no farther out than the cloth over them."""
    result, gap = surface.copy(), UNDER * character.height
    mine = np.flatnonzero(asked)
    for cloth in character.at_level(0):
        if cloth.kind is not PartKind.CLOTH or cloth.id not in points or not cloth.mesh.face_count:
            continue
        there, faces = points[cloth.id], triangulate(cloth.mesh).vertices
        low, high = there.min(axis=0) - gap, there.max(axis=0) + gap
        near = mine[((result[mine] > low) & (result[mine] < high)).all(axis=1)]
        if not len(near):
            continue
        match = nearest_on(result[near], there, faces)
        corners = faces[match.triangle]
        found = np.einsum("pk,pkd->pd", match.shares, there[corners])
        normal = vertex_normals(cloth.mesh, there)[corners].mean(axis=1)
        normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
        out = np.einsum("pd,pd->p", result[near] - found, normal) + gap
        over = (out > 0.0) & (match.distance < COVERS * character.height)
        result[near[over]] -= out[over, None] * normal[over]
    return result


def _rest_as_shape(document: Document, part: Part, pose: Shown | None, surface: FloatArray, share: FloatArray, both_sides: bool) -> tuple[Document, str]:
    """What is left of the way as a corrective shape on the joint that is turned there."""
    character, g = document.require_character(), weld(part.mesh)
    there = evaluate(character, pose).points[part.id]
    change = np.where(share > 0.0, 1.0, 0.0)[:, None] * (surface - there[g.first])
    shown = document.with_character(replace(character, pose=character.pose if pose is None else pose))
    shaped, named = sculpt_shape(shown, part.id, owned_floats(there + change[g.group]), both_sides=both_sides)
    return shaped.with_character(replace(shaped.require_character(), pose=character.pose)), named


def _told(judge: Judge, new: Weights, reached: float, stretch: list[float], shape: str) -> PullReport:
    seen = judge.of(new)
    worse = tuple(
        (trial, judge.skeleton.joint(joint).name) for (trial, joint), f in seen.figures.items()
        if judge.excess(judge.before.figures[trial, joint], f, WORSE) > 0.0
    )  # fmt: skip
    first = weld(judge.mesh).first
    moved = {t: float(np.linalg.norm(judge.points(new, t)[first] - judge.before_places[t], axis=1).max(initial=0.0)) for t in judge.trials}
    return PullReport(reached, stretch[0], stretch[1], shape, moved, worse)


__all__ = ["PullReport", "pull_skin"]
