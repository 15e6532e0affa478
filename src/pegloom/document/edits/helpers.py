"""Helper joints: half-turn joints where the body bends, their weights fitted with them, and taken away again."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.trials import trials_of, turns_of
from pegloom.core.skeleton.body import body_of
from pegloom.core.skeleton.joints import Joint, Skeleton
from pegloom.core.skin.flesh.gate import gated
from pegloom.core.skin.flesh.judge import WORSE, Judge
from pegloom.core.skin.helpers import seeded
from pegloom.core.skin.mirror import partners_within
from pegloom.core.skin.weights import Weights
from pegloom.document.edits.flesh import FleshReport, across_of, along, bent_through, fitted, is_flesh
from pegloom.document.edits.rebuild import helpers_gone, rebuilt
from pegloom.document.edits.skins import with_weights
from pegloom.document.edits.weaves import keep_unkept, keep_weave
from pegloom.document.meeting import borders_carried
from pegloom.document.model import Document, Helper, PartKind

STEM = "half."
"""Beginning of ids of helper joints; the joint's own comes after."""
WEAVE = "with helper joints"

WORTH = np.radians(35.0)
"""How far some trial must turn a joint for a helper to be worth it."""
DIGITS = ("hand.", "toes.", "foot.")
"""Beginnings of ids of fingers and toes."""


def worth_helping(skeleton: Skeleton, *, digits: bool = False) -> tuple[str, ...]:
    """Joints some trial turns far enough, in the skeleton's order. digits : with fingers and toes, which are many."""
    turned: dict[str, float] = {}
    for trial in trials_of(skeleton):
        for joint, (_, _, _, w) in turns_of(skeleton, trial.id).turns.items():
            turned[joint] = max(turned.get(joint, 0.0), 2.0 * float(np.arccos(min(abs(w), 1.0))))
    called = {own: role for role, own in body_of(skeleton).joint_of.items()}

    def chosen(joint: Joint) -> bool:
        digit = joint.role in ("finger", "toe") or called.get(joint.id, "").startswith(DIGITS)
        return joint.parent is not None and not joint.aside and turned.get(joint.id, 0.0) >= WORTH and (digits or not digit)

    return tuple(j.id for j in skeleton.joints if chosen(j))


def add_helpers(
    document: Document, joints: Collection[str] | None = None, *, digits: bool = False, influences: int | None = None, worse: float = WORSE,
    fit: bool = True, progress: Progress = silent,
) -> tuple[Document, tuple[FleshReport, ...]]:
    """Put a half-turn helper at joints that bend far, give it its share of the skin, and fit the weights to the elastic body with it.

    The weights before are kept as a weave, and so is the result. No figure of any trial is worse by more than `worse` than before, but
    that a section which keeps more area may be longer round its outside by as much.

    joints : ids; None for those some trial turns far, `digits` with fingers and toes. influences : most a vertex, None for each part's own
    limit. fit : whether the weights are fitted; else a helper has what is shared over its joint, where no trial is worse for it. Raises EditError
    without weights, or for joints that cannot have one; Cancelled from `progress`.
    """
    character = document.require_character()
    skeleton, skin = character.require_skeleton(), character.require_skin()
    # A helper that holds nothing, after a bind for example, is as good as none.
    used = {w.joint_ids[k] for w in skin.weights.values() for k in np.unique(w.indices).tolist()}
    there = {h.of for h in character.helpers if h.id in used}
    idle = {h.of: h for h in character.helpers if h.id not in used}
    chosen = [j for j in (worth_helping(skeleton, digits=digits) if joints is None else joints) if j not in there]
    unknown = [j for j in chosen if j not in skeleton.index]
    if unknown:
        raise EditError(f"there is no joint {unknown[0]}")
    wrong = [j for j in chosen if skeleton.joint(j).parent is None or skeleton.joint(j).aside]
    if wrong:
        raise EditError(f"{skeleton.joint(wrong[0]).name} hangs on nothing that it could turn against; choose a joint that does")
    if not chosen:
        raise EditError("every joint that bends far has its helper" if there else "no trial bends any joint far enough for a helper; name the joints")
    names = {j.name for j in skeleton.joints}
    made = []
    for joint in chosen:
        if joint in idle:
            made.append(idle[joint])
            continue
        name = f"{skeleton.joint(joint).name}_half"
        while name in names:
            name += "_"
        names.add(name)
        made.append(Helper(STEM + joint, name, joint))
    document = keep_unkept(document, "before the helpers")
    character = document.require_character()
    if character.pegs is None and character.adopted is None:
        character = replace(character, adopted=skeleton)
    character = rebuilt(replace(character, helpers=tuple(dict.fromkeys((*character.helpers, *made)))))
    skeleton = character.require_skeleton()
    pairs = [(h.id, h.of) for h in made]
    range_of = bent_through(character)
    middle = character.standing.middle if character.standing is not None else 0.0
    bound = [p for p in character.at_level(0) if p.id in skin.weights and p.mesh.face_count]
    body = [p for p in bound if is_flesh(p, skin.weights[p.id])]
    weights: dict[str, Weights] = dict(skin.weights)
    reports = []
    for number, part in enumerate(body):
        one, old, limit = part_of(progress, 0.9 * number / len(body), 0.9 * (number + 1) / len(body)), skin.weights[part.id], influences or skin.limit(part.id)
        new = seeded(part.mesh, old, skeleton, pairs, limit)
        places = partners_within(part.mesh, middle, None)
        across = across_of(part, places) if (places < 0).mean() <= 0.5 else None
        safe = gated(Judge(part.mesh, skeleton, old, range_of.trials, worse, swells=True), old, new, influences=limit, across=across, narrow=True, progress=part_of(one, 0.0, 0.25)).weights
        if not fit:
            weights[part.id] = safe
            continue
        weights[part.id], report = fitted(character, part, old, range_of, limit, worse, part_of(one, 0.25, 1.0), start=new, safe=safe)
        reports.append(report)
    cloth = [p for p in bound if p.kind is PartKind.CLOTH]
    for number, part in enumerate(cloth):
        progress(0.9 + 0.09 * number / len(cloth), f"taking {part.name} along")
        limit = influences or skin.limit(part.id)
        old, new = along(part, body, skin.weights, weights, limit) if body else (skin.weights[part.id], seeded(part.mesh, skin.weights[part.id], skeleton, pairs, limit))
        weights[part.id] = gated(Judge(part.mesh, skeleton, old, range_of.trials, worse, swells=True), old, new, influences=limit).weights
    held = {w.joint_ids[k] for w in weights.values() for k in np.unique(w.indices).tolist()}
    spare = {h.id for h in made} - held
    if len(spare) == len(made):
        raise EditError("no helper would hold any skin without making a trial worse; allow more, or choose other joints")
    if spare:  # what holds nothing would only cost a joint
        character = rebuilt(replace(character, helpers=tuple(h for h in character.helpers if h.id not in spare)))
    after = document.with_character(replace(character, skin=with_weights(skin, weights)))
    after = borders_carried(document, after)
    after, _ = keep_weave(after, WEAVE)
    progress(1.0, "helped")
    return after, tuple(reports)


def drop_helpers(document: Document, helpers: Collection[str] | None = None) -> Document:
    """Take helper joints away; what each holds goes half to what lies above its joint, half to what lies below, in every weave.

    helpers : ids; None for all. Raises EditError where there are none of them.
    """
    character = document.require_character()
    gone = [h for h in character.helpers if helpers is None or h.id in helpers or h.name in helpers]
    if not gone:
        raise EditError("there are no helper joints to take away")
    document = keep_unkept(document, WEAVE)
    return document.with_character(helpers_gone(document.require_character(), {h.id for h in gone}))


__all__ = ["add_helpers", "drop_helpers", "worth_helping"]
