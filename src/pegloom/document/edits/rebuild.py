"""Recipes built again: joints from pegs and kits, hand-made changes on top, and all that hangs on them brought along."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import (
    decompose,
    euler_quaternion,
    quaternion_product,
    rotation_matrix,
    transform_points,
)
from pegloom.core.motion.retell import carried_clip, rerested
from pegloom.core.rig.changes import changed_rig, followed
from pegloom.core.rig.controls import RECIPE, ControlRig
from pegloom.core.rig.pose import JointPose
from pegloom.core.rig.recipe import build_rig
from pegloom.core.rig.recipe.fit import fit_shapes
from pegloom.core.skeleton.build import AS_STOOD, build_joints, kits_in, turned
from pegloom.core.skeleton.joints import (
    Halfway,
    Joint,
    JointKind,
    Origin,
    Side,
    Skeleton,
    side_of_name,
    with_sides,
    without_helpers,
)
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.roles import guess_kits
from pegloom.core.skin.helpers import given_back
from pegloom.core.skin.rejoin import carry_weights, taken_anew
from pegloom.document.edits.ids import counted, highest
from pegloom.document.edits.skins import each_skin, with_weights
from pegloom.document.model import Character, OwnJoint, PartKind, Skin, points_of, triangles_of

OWN = "own."
"""Stem of ids of joints made by hand."""


def recipe_of(character: Character) -> Skeleton:
    """The joints as pegs, kits and the file say, before any change made by hand. Raises EditError without any."""
    if character.pegs is not None:
        return build_joints(character.pegs, character.adopted, front=character.front)
    if character.adopted is not None:
        return character.adopted
    if character.skeleton is not None:
        return character.skeleton
    raise EditError("there are no joints yet; place pegs and build, or draw joints")


def kits_of(character: Character) -> tuple[Kit, ...]:
    """The character's limb kits; of joints from a file, what their names say."""
    own = kits_in(character.pegs) if character.pegs is not None else ()
    skeleton = character.skeleton
    if character.adopted is not None and skeleton is not None:
        guessed = guess_kits(as_it_stood(without_helpers(skeleton), character.front))
        own = (*own, *(_named_apart(kit, {k.id for k in own}) for kit in guessed))
    return own


def as_it_stood(skeleton: Skeleton, front: tuple[float, float, float, float]) -> Skeleton:
    """The joints turned back to where the body's own front is ahead: its limbs are told by where they lie."""
    if front == AS_STOOD:
        return skeleton
    back = rotation_matrix(front).T
    return Skeleton(tuple(turned(joint, back) for joint in skeleton.joints))


def _named_apart(kit: Kit, taken: set[str]) -> Kit:
    """A guessed kit beside kits of the same id: an arm of the file's beside one built from pegs."""
    stem, dot, rest = kit.id.partition(".")
    name, number = kit.id, 2
    while name in taken:
        name, number = f"{stem}{number}{dot}{rest}", number + 1
    return kit if name == kit.id else replace(kit, id=name)


def rebuilt(character: Character, *, takes: frozenset[str] = frozenset(), again: frozenset[str] = frozenset(),
            chains: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = ()) -> Character:  # fmt: skip
    """The character with its joints built anew from recipe and changes; weights, controls and clips brought along.

    takes, chains : which added joints take their share of the weights, which kits were cut anew (core/skin/rejoin).
    again : joints that moved and take their share anew where they are now, if they hold what they took before.
    """
    numbers = (*(o.id for o in character.own_joints), *character.joint_overrides)
    character = counted(character, OWN, highest(OWN, numbers))
    old = character.skeleton
    skeleton = assembled(character)
    if old is not None:
        before = old
        meshes = {part.id: part.mesh.points for part in character.parts}

        def carried(skin: Skin) -> Skin:
            weights = {}
            for part, w in skin.weights.items():
                at, limit = meshes.get(part), skin.limit(part)
                w = taken_anew(w, before, skeleton, at, again, influences=limit)
                weights[part] = carry_weights(w, before, skeleton, at, takes=takes, chains=chains, influences=limit)
            changed = any(w is not skin.weights[part] for part, w in weights.items())
            return with_weights(skin, weights) if changed else skin

        character = each_skin(character, carried)
    clips = character.clips
    if old is not None and any(clip.tracks for clip in clips):
        clips = tuple(carried_clip(clip, old, skeleton) for clip in clips)
    rig = character.rig
    character = replace(character, skeleton=skeleton, clips=clips)
    if old is not None:
        was = old
        trials = tuple(
            replace(t, pose=rerested(t.pose, was, skeleton)) if isinstance(t.pose, JointPose) else t
            for t in character.trials
        )
        if any(a is not b for a, b in zip(trials, character.trials, strict=True)):
            character = replace(character, trials=trials)
    return character if rig is None else replace(character, rig=controls_after(character, rig, old))


def controls_after(character: Character, rig: ControlRig, old: Skeleton | None) -> ControlRig:
    """Controls for joints that were at rest as `old` has them when `rig` was built on them.

    What an older recipe built stays, and goes along with its joints, until its owner takes the newer one's.
    """
    new = character.skeleton
    if rig.built_by >= RECIPE or old is None or new is None:
        return controls_of(character)
    before, here = ({j.id: m for j, m in zip(s.joints, s.world, strict=True)} for s in (old, new))
    return followed(rig, before, here)


def controls_of(character: Character) -> ControlRig:
    """Controls built anew, changes made by hand on top."""
    return changed_rig(recipe_rig(character), character.rig_changes, resting(character))


def resting(character: Character) -> Mapping[str, FloatArray]:
    """character_from_joint (4, 4) of each joint at rest, by id."""
    skeleton = character.skeleton
    return {} if skeleton is None else {j.id: m for j, m in zip(skeleton.joints, skeleton.world, strict=True)}


def recipe_rig(character: Character) -> ControlRig:
    """Controls as the recipe has them, before any change made by hand. Raises EditError without joints."""
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first")
    # Asked several times a step, of a character of which other things changed.
    asked = (character.skeleton, character.pegs, character.adopted, character.parts, character.rig_recipe, character.front)
    for known, rig in _BUILT:
        if all(a is b for a, b in zip(known, asked, strict=True)):
            return rig
    rig = _recipe_rig(character)
    _BUILT.append((asked, rig))
    del _BUILT[:-BUILT]
    return rig


BUILT = 4
"""Rigs of recipes that are remembered."""
_BUILT: list[tuple[tuple[object, ...], ControlRig]] = []


def _recipe_rig(character: Character) -> ControlRig:
    assert character.skeleton is not None
    kits = kits_of(character)
    places = {} if character.pegs is None else {p.name: p.position for p in character.pegs.pegs}
    rig = build_rig(character.skeleton, character.height, kits, character.rig_recipe, front=character.front, pegs=places)
    # Controls go round the body and what it wears, not what it holds.
    worn = [part for part in character.at_level(0) if part.kind is not PartKind.PROP and part.mesh.face_count]
    return fit_shapes(rig, character.skeleton, points_of(worn), triangles_of(worn), character.height)


def assembled(character: Character) -> Skeleton:
    """Recipe, then changes by hand: dropped, added, hung elsewhere, moved, turned, renamed."""
    recipe = recipe_of(character)
    changes = character.joint_overrides
    joints: dict[str, Joint] = {}
    for joint in recipe.joints:
        change = changes.get(joint.id)
        if change is not None:
            x, y, z, _ = (joint.matrix @ np.append(np.array(change.move), 1.0)).tolist()
            turn = quaternion_product(joint.rotation, euler_quaternion(change.turn))
            # A tail belongs to the bone: it goes along.
            tail = joint.tail
            if tail is not None and (any(change.move) or any(change.turn)):
                moved = replace(joint, position=(x, y, z), rotation=_four(turn)).matrix
                tail = _three(transform_points(moved @ np.linalg.inv(joint.matrix), np.array(tail)))
            joint = replace(
                joint, name=change.name or joint.name, position=(x, y, z), rotation=_four(turn), tail=tail,
                parent=change.parent if change.parent else joint.parent,
                floating=joint.floating if change.floating is None else change.floating,
                role=joint.role if change.role is None or joint.origin is not Origin.FILE else change.role,
            )  # fmt: skip
        joints[joint.id] = joint
    _add_own(joints, character)
    _drop(joints, {j for j, change in changes.items() if change.dropped} | {j.id for j in recipe.joints if j.kind is JointKind.HALFWAY})
    _add_helpers(joints, character)
    return with_sides(Skeleton(tuple(_sided(joint) for joint in _in_order(joints))))


def _sided(joint: Joint) -> Joint:
    """A joint no recipe gave a side has the one its name tells."""
    side = side_of_name(joint.name) if joint.side is Side.CENTRE else joint.side
    return joint if side is joint.side else replace(joint, side=side)


def _add_own(joints: dict[str, Joint], character: Character) -> None:
    """Joints added by hand, each in its parent; those whose parent is gone wait for its return."""
    waiting = list(character.own_joints)
    while waiting:
        ready = [own for own in waiting if own.parent in joints or not own.parent]
        if not ready:
            return
        for own in ready:
            joint = _own_joint(own, joints)
            change = character.joint_overrides.get(own.id)
            if change is not None:
                joint = replace(joint, name=change.name or joint.name, parent=change.parent or joint.parent)
                if change.floating is not None:
                    joint = replace(joint, floating=change.floating)
            joints[own.id] = joint
            if own.between is not None and own.between[0] in joints:
                child = joints[own.between[0]]
                if child.parent == own.parent:
                    joints[child.id] = replace(child, parent=own.id)
        waiting = [own for own in waiting if own not in ready]


def _add_helpers(joints: dict[str, Joint], character: Character) -> None:
    """Helper joints, where what they follow is now."""
    for one in character.helpers:
        of = joints.get(one.of)
        if of is None or of.parent is None or of.parent not in joints or one.id in joints:
            continue
        follows = Halfway(one.of, one.share, one.push)
        joints[one.id] = Joint(
            one.id, one.name, of.parent, of.side, of.position, of.rotation, floating=True, origin=Origin.OWN, kind=JointKind.HALFWAY, halfway=follows
        )


def helpers_gone(character: Character, ids: Collection[str]) -> Character:
    """The character without some helper joints; what each holds goes half to either side of its joint, in every weave."""
    skeleton = character.skeleton
    pairs = [(h.id, h.of) for h in character.helpers if h.id in ids and skeleton is not None and h.id in skeleton.index]

    def back(skin: Skin) -> Skin:
        assert skeleton is not None
        return with_weights(skin, {part: given_back(w, skeleton, pairs, skin.limit(part)) for part, w in skin.weights.items()})

    character = each_skin(character, back) if pairs else character
    return rebuilt(replace(character, helpers=tuple(h for h in character.helpers if h.id not in ids)))


def follows_only(character: Character, joint_id: str) -> EditError:
    """That a helper joint cannot be changed, and what can."""
    one = next(h for h in character.helpers if h.id == joint_id)
    of = one.of if character.skeleton is None else character.skeleton.joint(one.of).name
    return EditError(f"{one.name} is a helper joint and follows {of}; change that one, or take the helper away")


def _own_joint(own: OwnJoint, joints: Mapping[str, Joint]) -> Joint:
    if not own.parent:
        return Joint(own.id, own.name, None, own.side, own.place, own.turn, own.tail, origin=Origin.OWN)
    parent = joints[own.parent]
    place = transform_points(parent.matrix, np.array(own.place))
    if own.between is not None and own.between[0] in joints:
        end = np.array(joints[own.between[0]].position)
        start = np.array(parent.position)
        # Several joints in one bone hang on each other; shares count from the present parent.
        place = start + own.between[1] * (end - start)
    tail = None if own.tail is None else _three(transform_points(parent.matrix, np.array(own.tail)))
    turn = quaternion_product(parent.rotation, own.turn)
    return Joint(own.id, own.name, own.parent, own.side, _three(place), _four(turn), tail, origin=Origin.OWN)


def _drop(joints: dict[str, Joint], dropped: set[str]) -> None:
    for joint_id in [j for j in joints if j in dropped]:
        gone = joints.pop(joint_id)
        for child in [j for j in joints.values() if j.parent == joint_id]:
            joints[child.id] = replace(child, parent=gone.parent)


def _in_order(joints: Mapping[str, Joint]) -> tuple[Joint, ...]:
    """Parents before children, else in the order given. Raises EditError for a loop."""
    done: dict[str, Joint] = {}
    under_way: set[str] = set()

    def visit(joint: Joint) -> None:
        if joint.id in done:
            return
        if joint.id in under_way:
            raise EditError(f"{joint.name} would hang on itself; choose another parent")
        under_way.add(joint.id)
        if joint.parent is not None and joint.parent in joints:
            visit(joints[joint.parent])
        elif joint.parent is not None:
            joint = replace(joint, parent=None)
        done[joint.id] = joint

    for joint in joints.values():
        visit(joint)
    return tuple(done.values())


def _three(v: FloatArray) -> tuple[float, float, float]:
    return (float(v[0]), float(v[1]), float(v[2]))


def _four(v: object) -> tuple[float, float, float, float]:
    a, b, c, d = (float(x) for x in v)  # type: ignore[attr-defined]
    return (a, b, c, d)


def local_of(parent: Joint, matrix: FloatArray) -> tuple[tuple[float, float, float], tuple[float, float, float, float]]:
    """Place and turn (x y z w) of a 4x4 in a joint's axes."""
    position, turn, _ = decompose(np.linalg.inv(parent.matrix) @ matrix)
    return _three(position), _four(turn)
