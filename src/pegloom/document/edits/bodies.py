"""Own bodies: a finished body (pegs, kits, changes, recipe, shapes, spaces, names, poses) worn by the next mesh."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, silent
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.patterns import Pattern, shipped_patterns
from pegloom.core.skeleton.pegs import WEAK, Peg, PegSet
from pegloom.core.skeleton.search_again import found_again
from pegloom.document.edits.controls import build_controls
from pegloom.document.edits.joints import find_pegs, lay_pegs
from pegloom.document.edits.rebuild import assembled, controls_of, rebuilt
from pegloom.document.edits.standing import transformed
from pegloom.document.model import Character, Document, ShelfPose

NEIGHBOURS = 3
"""Found pegs by which one that is not looked for goes along."""
SOUGHT = frozenset({"human", "four-legged", "winged", "many-legged", "serpent", "flat"})
"""Finders that look for a body in a shape; a prop's pegs stand where its maker put them, in the new size."""
NO_PLANS: Mapping[str, Pattern] = MappingProxyType({})


@dataclass(frozen=True, slots=True, eq=False)
class Body:
    """character : what of a body is no mesh: pegs, changes of joints, recipe and changes of the rig, sets, poses, the pick
    card. height : metres, of the mesh it was made on."""

    character: Character
    height: float


def body_of(character: Character, name: str = "") -> Body:
    """A character's body, to be kept and worn by others. Raises EditError where its joints come from no pegs."""
    if character.pegs is None or not character.pegs.kits:
        raise EditError("a body is kept by its pegs; this one's joints come from a file or were drawn, so there is nothing to find again")
    if character.adopted is not None:
        raise EditError("this body's joints come from a file in part; its pegs alone do not make it again")
    poses = tuple(replace(p, picture=None) for p in character.poses)
    kept = Character(
        "body", name.strip() or character.name, pegs=character.pegs, joint_overrides=character.joint_overrides,
        own_joints=character.own_joints, helpers=character.helpers, counted=character.counted, front=character.front, rig_recipe=character.rig_recipe,
        rig_changes=character.rig_changes, uses=character.uses, reaches=character.reaches, mark_sizes=character.mark_sizes,
        poses=poses, control_sets=character.control_sets, card=character.card,
        expressions=tuple(replace(e, picture=None) for e in character.expressions),
    )  # fmt: skip
    return Body(kept, character.height)


def wear_body(
    document: Document, body: Body, *, plans: Mapping[str, Pattern] = NO_PLANS, progress: Progress = silent
) -> tuple[Document, str]:
    """Put a kept body on the mesh: its pegs looked for in the shape, then joints and controls as they were made.

    plans : patterns by name beside the shipped ones. Gives what should be looked at, in words. Weights are not part of a
    body; what is bound stays bound to joints of the same names.
    """
    character = document.require_character()
    if character.adopted is not None:
        raise EditError("this mesh brought a skeleton of its own; remove it before it wears another body")
    pegs = body.character.pegs
    assert pegs is not None
    plan = shipped_patterns().get(pegs.pattern) or plans.get(pegs.pattern)
    if plan is None:
        raise EditError(f"the body is of the pattern {pegs.pattern}, which is not here; put its .json into the patterns folder first")
    if plan.finder not in SOUGHT:
        worn, said = _put_on(character, body, None)
        return document.with_character(worn), said
    pairs = sum(kit.id.startswith("leg") and kit.id.endswith(".l") for kit in pegs.kits) if plan.finder == "many-legged" else None
    found = find_pegs(document, fingers=pegs.fingers, plan=plan, pairs=pairs, progress=progress)
    worn, said = _put_on(character, body, found)
    return document.with_character(worn), said


def _put_on(character: Character, body: Body, found: PegSet | None) -> tuple[Character, str]:
    """found : pegs as the shape says; None where a shape says nothing of such a body."""
    document = Document((character,))
    scaled = in_size(body, character.height)
    assert scaled.pegs is not None
    loose = replace(scaled.pegs, pegs=tuple(replace(p, by_hand=False, confidence=0.8 * WEAK if found is None else p.confidence) for p in scaled.pegs.pegs))
    worn, guessed = (loose, tuple(loose.by_name)) if found is None else along(loose, found)
    bare = replace(
        character, skeleton=None, rig=None, pose=Pose(), pegs=None,
        joint_overrides=MappingProxyType({j: replace(o, seen=None) for j, o in scaled.joint_overrides.items()}),
        own_joints=scaled.own_joints, helpers=scaled.helpers, counted=MappingProxyType({**character.counted, **_higher(character, scaled)}),
        rig_recipe=scaled.rig_recipe, uses=scaled.uses, reaches=scaled.reaches, mark_sizes=scaled.mark_sizes,
        rig_changes=replace(scaled.rig_changes, controls=MappingProxyType({c: replace(v, seen=None) for c, v in scaled.rig_changes.controls.items()})),
        control_sets=scaled.control_sets, card=scaled.card, poses=_named_apart(character.poses, scaled.poses),
        expressions=scaled.expressions,
    )  # fmt: skip
    laid = lay_pegs(document.with_character(bare), worn).require_character()
    # Joints of an earlier build give their weights to those of the same names.
    built = rebuilt(replace(laid, skeleton=character.skeleton, rig=None))
    result = build_controls(document.with_character(built))
    said = f"{body.character.name} is worn: {len(worn.pegs)} pegs found"
    if guessed:
        said += f"; look at {', '.join(guessed[:5])}{' and others' if len(guessed) > 5 else ''}: they were not looked for"
    return result.require_character(), said


def in_size(body: Body, height: float) -> Character:
    """The body's own things in another size, metres."""
    bare = body.character
    skeleton = assembled(bare)
    built = replace(bare, skeleton=skeleton)
    rig: ControlRig = controls_of(built)
    return transformed(replace(built, rig=rig), np.diag([*([height / body.height] * 3), 1.0]), draft=True)


def along(old: PegSet, found: PegSet) -> tuple[PegSet, tuple[str, ...]]:
    """The pegs found, with the body's own kits; pegs nobody looks for go along with the found ones nearest to them. Gives
    their names too."""
    result = found_again(old, found, keep_placed=False, other_fingers=False)
    shared = [name for name in found.by_name if name in old.by_name]
    if not shared:
        return result, ()
    before = np.array([old.by_name[n].position for n in shared])
    after = np.array([found.by_name[n].position for n in shared])
    guessed: list[str] = []

    def led(peg: Peg) -> Peg:
        if peg.name in found.by_name:
            return peg
        guessed.append(peg.name)
        place = np.array(peg.position)
        away = np.linalg.norm(before - place, axis=1)
        near = np.argsort(away)[:NEIGHBOURS]
        weights = 1.0 / np.maximum(away[near], 1e-6)
        x, y, z = (place + (weights[:, None] * (after[near] - before[near])).sum(axis=0) / weights.sum()).tolist()
        return replace(peg, position=(x, y, z), confidence=0.8 * WEAK, by_hand=False)

    moved = tuple(led(p) for p in result.pegs)
    return replace(result, pegs=moved), tuple(guessed)


def _higher(character: Character, body: Character) -> dict[str, int]:
    """Numbers of ids that were used by either."""
    stems = {*character.counted, *body.counted}
    return {s: max(character.counted.get(s, -1), body.counted.get(s, -1)) for s in stems}


def _named_apart(own: tuple[ShelfPose, ...], more: tuple[ShelfPose, ...]) -> tuple[ShelfPose, ...]:
    taken = {p.id for p in more}
    return (*more, *(p for p in own if p.id not in taken))
