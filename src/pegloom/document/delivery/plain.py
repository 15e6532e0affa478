"""A document made plain for a target: joints, meshes and sampled motion alone, in the target's rest, joints, rate and unit."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError, ShapeError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.joints import Skeleton, as_plain
from pegloom.core.skeleton.names import renamed
from pegloom.core.skeleton.sets import JointGroup, carriers, in_group
from pegloom.core.skeleton.uses import uses_of
from pegloom.document import edits
from pegloom.document.delivery.lost import not_exported
from pegloom.document.delivery.motion import sampled, without_joints
from pegloom.document.delivery.parts import on_fewer_joints, prepared
from pegloom.document.delivery.space import in_space
from pegloom.document.delivery.target import Content, Morphs, Target
from pegloom.document.edits.rest import DeliveredRest
from pegloom.document.model import Character, Document
from pegloom.document.stand_ins import refreshed
from pegloom.document.uses import said_of

NAMED = 6
"""Joints named in a note, at most."""
SEEN = 0.01
"""Weight from which a shape counts as brought in."""


@dataclass(frozen=True)
class Delivery:
    """document : plain. baked : a line for what was put into plainer terms; left : for what no file of that kind can hold, or the
    target does without.
    """

    document: Document
    baked: tuple[str, ...] = ()
    left: tuple[str, ...] = field(default=())

    @property
    def notes(self) -> tuple[str, ...]:
        return (*self.baked, *self.left)


def made_plain(
    document: Document, target: Target, *, clips: Collection[str] | None = None, together: bool = False, progress: Progress = silent
) -> Delivery:
    """The character in hand, or with `together` all that are shown, as a target wants them.

    clips : ids of those that go along; None for all. Raises EditError for a target that cannot be, or a rest that cannot be had.
    """
    target.checked()
    document = refreshed(document)
    chosen = [k for k, c in enumerate(document.characters) if (c.figure.shown if together else k == document.active)]
    baked: list[str] = []
    left: list[str] = []
    made = list(document.characters)
    for number, k in enumerate(chosen):
        share = part_of(progress, number / len(chosen), (number + 1) / len(chosen))
        made[k] = _plain(replace(document, active=k), target, clips, baked, left, strict=not together, progress=share)
    if together:
        return Delivery(replace(document, characters=tuple(made)), tuple(baked), tuple(left))
    return Delivery(Document((made[document.active],), name=document.name), tuple(baked), tuple(left))


def _plain(
    document: Document, target: Target, clips: Collection[str] | None, baked: list[str], left: list[str], *, strict: bool, progress: Progress
) -> Character:
    character = document.require_character()
    wanted = () if target.content is Content.CHARACTER else tuple(c for c in character.clips if clips is None or c.id in clips)
    document = document.with_character(replace(character, clips=wanted))
    if JointGroup.HELPERS in target.without and character.helpers:
        document = edits.drop_helpers(document)
        left.append(f"helper joints left out: {', '.join(h.name for h in character.helpers[:NAMED])}; what they held went half to each side")
    if target.bake and character.skin is not None and (character.skin.relax or character.skin.dual):
        progress(0.02, "baking relax and dual quaternions")
        # The poses that are followed are those of the whole character, its clips among them.
        result, reports = edits.bake_relax(document, influences=target.influences or None, progress=part_of(progress, 0.02, 0.3))
        document = result
        baked += [f"{r.part}: {r.says}" for r in reports]
    made = document.require_character()
    told = []
    for number, clip in enumerate(made.clips):
        progress(0.3 + 0.4 * number / len(made.clips), f"sampling {clip.name}")
        one, said = sampled(made, clip, target.rate)
        told.append(one)
        baked += [line for line in (said, _shapes_told(made, one, target)) if line]
        if clip.origin is not None and not clip.origin.may_deliver:
            left.append(f"{clip.name}: its licence does not let it be given on; leave it out of a delivery")
    document = document.with_character(replace(made, clips=tuple(told)))
    progress(0.72, "putting it into its rest")
    if target.rest is not DeliveredRest.AS_IT_STANDS:
        try:
            document = edits.delivered(document, target.rest)
        except (EditError, ShapeError) as error:
            if strict:
                raise
            left.append(f"{character.name} is delivered as it stands ({error})")
    left += not_exported(replace(character, clips=wanted), baked=target.bake, switches=target.kind.startswith(".usd"))
    made = replace(document.require_character(), rig=None, pose=Pose(), trials=(), weaves=(), poses=(), expressions=(), stand_ins=())
    # What plays the file knows joints and their motion alone: from here on a helper joint is a joint like any other.
    made = replace(made, skeleton=None if made.skeleton is None else as_plain(made.skeleton), helpers=(), shapes=())
    made = _fewer_joints(made, target, baked, left)
    if target.content is Content.MOTION:
        made = replace(made, parts=(), materials=(), images=(), skin=None, clips=tuple(replace(c, morphs=()) for c in made.clips))
    else:
        progress(0.8, "preparing meshes")
        done: list[str] = []
        made = prepared(made, target, done)
        baked += done
    if target.names is not None and made.skeleton is not None:
        names = renamed([j.name for j in made.skeleton.joints], style=target.names)
        made = replace(made, skeleton=Skeleton(tuple(replace(j, name=names[j.name]) for j in made.skeleton.joints)))
    scale = 1.0 if target.is_gltf else 1.0 / target.unit
    turn = target.turned if not (target.is_gltf and target.up != "+y") else np.eye(3)
    if target.is_gltf and (target.unit != 1.0 or target.up != "+y"):
        left.append("glTF is in metres with y up, whatever the target says")
    return in_space(made, turn, scale)


def _shapes_told(character: Character, clip: Clip, target: Target) -> str:
    """Which corrective shapes a sampled clip brings in, and how far at most; "" where it brings in none or the file holds none."""
    if target.content is Content.MOTION or target.morphs is Morphs.BAKED:
        return ""
    names = {p.id: p.name for p in character.parts}
    most: dict[str, float] = {}
    for shape in character.shapes:
        for track in clip.morphs:
            if track.part == names.get(shape.part) and shape.morph in track.names:
                most[shape.morph] = max(most.get(shape.morph, 0.0), float(track.weights[:, track.names.index(shape.morph)].max(initial=0.0)))
    used = sorted(((v, n) for n, v in most.items() if v >= SEEN), reverse=True)
    if not used:
        return ""
    listed = ", ".join(f"{name} {value:.0%}" for value, name in used[:NAMED])
    return f"{clip.name}: corrective shapes baked into its morph weights, at most: {listed}{' and more' if len(used) > NAMED else ''}"


def _fewer_joints(character: Character, target: Target, baked: list[str], left: list[str]) -> Character:
    """Without the joints of the groups the target does without: what carries them gets their skin and keeps their motion."""
    skeleton = character.skeleton
    if skeleton is None or not target.without:
        return character
    uses = uses_of(skeleton, said_of(character))
    gone = frozenset().union(*(in_group(skeleton, uses, group) for group in target.without))
    carried = carriers(skeleton, gone)
    if not carried:
        return character
    tails = {carried[j.id]: j.position for j in skeleton.joints if j.id in carried and carried[j.id] == j.parent}
    kept = []
    for joint in skeleton.joints:
        if joint.id in carried:
            continue
        parent = carried.get(joint.parent, joint.parent) if joint.parent is not None else None
        alone = not any(c.id not in carried for c in skeleton.children(joint.id))
        kept.append(replace(joint, parent=parent, tail=tails.get(joint.id, joint.tail) if alone and joint.tail is None else joint.tail))
    fewer = Skeleton(tuple(kept))
    held = {own.joint_ids[k] for own in (character.skin.weights.values() if character.skin is not None else ()) for k in np.unique(own.indices).tolist()}
    names = [skeleton.joint(j).name for j in carried]
    said = ", ".join(names[:NAMED]) + (f" and {len(names) - NAMED} more" if len(names) > NAMED else "")
    left.append(f"joints left out: {said}")
    skin = [skeleton.joint(j).name for j in carried if j in held]
    if skin:
        baked.append(f"skin of {', '.join(skin[:NAMED])}{f' and {len(skin) - NAMED} more' if len(skin) > NAMED else ''} follows what carries them")
    character = on_fewer_joints(character, carried, tuple(j.id for j in fewer.joints))
    clips = tuple(without_joints(c, skeleton, fewer) for c in character.clips)
    kept_uses = {j: u for j, u in character.uses.items() if j in fewer.index}
    return replace(character, skeleton=fewer, clips=clips, adopted=None, pegs=None, joint_overrides=MappingProxyType({}), own_joints=(), helpers=(), shapes=(), uses=MappingProxyType(kept_uses))
