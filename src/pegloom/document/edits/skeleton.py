"""Joints drawn and changed one by one: laid, put in, split, dropped, hung elsewhere, moved, renamed."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import (
    any_perpendicular,
    frame,
    matrix_quaternion,
    normalised,
    quaternion_euler,
    quaternion_inverse,
    quaternion_product,
    transform_points,
)
from pegloom.core.skeleton.axes import aim_of, mirrored
from pegloom.core.skeleton.joints import Joint, Skeleton, Vector
from pegloom.core.skeleton.names import Side, SideStyle, other_side_name, renamed, side_of_name
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.joints import middle_of
from pegloom.document.edits.rebuild import OWN, follows_only, helpers_gone, local_of, rebuilt, recipe_of
from pegloom.document.model import Character, Document, JointOverride, OwnJoint

FLIP = np.diag([-1.0, 1.0, 1.0])
PARTED = 0.003
"""Share of the height by which pegs must have moved since a joint was moved by hand to ask about it."""


def rename_joint(document: Document, joint_id: str, name: str) -> Document:
    """Give a joint another name. Raises EditError for an empty name or one already taken."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    name = name.strip()
    if not name:
        raise EditError("a joint needs a name")
    holder = skeleton.by_name(name)
    if holder is not None and holder.id != joint_id:
        raise EditError(f"another joint is called {name} already")
    return with_changes(document, character, {joint_id: {"name": name}})


def rename_preview(
    document: Document, joints: Iterable[str] | None = None, *, find: str = "", put: str = "", prefix: str = "",
    style: SideStyle | None = None,
) -> Mapping[str, str]:  # fmt: skip
    """What `rename_joints` would make of each name (old: new). Raises ShapeError where two would be alike."""
    skeleton = skeleton_in(document.require_character())
    chosen = set(joints) if joints is not None else {j.id for j in skeleton.joints}
    wanted = renamed(
        [j.name for j in skeleton.joints if j.id in chosen], find=find, put=put, prefix=prefix, style=style
    )
    others = {j.name for j in skeleton.joints if j.id not in chosen}
    clash = [n for n in wanted.values() if n in others]
    if clash:
        raise EditError(f"another joint is called {clash[0]} already")
    return wanted


def rename_joints(
    document: Document, joints: Iterable[str] | None = None, *, find: str = "", put: str = "", prefix: str = "",
    style: SideStyle | None = None,
) -> Document:  # fmt: skip
    """Rename joints by pattern (see core/skeleton/names.renamed); all, or some ids."""
    wanted = rename_preview(document, joints, find=find, put=put, prefix=prefix, style=style)
    character = _grounded(document)
    changes = {
        j.id: {"name": wanted[j.name]} for j in skeleton_in(character).joints if wanted.get(j.name, j.name) != j.name
    }
    return with_changes(document, character, changes) if changes else document


def move_joint(
    document: Document, joint_id: str, position: Vector, *, both_sides: bool = True, with_children: bool = False
) -> Document:
    """Put a joint elsewhere, alone or with all that hangs on it. Kept through rebuilds, relative to its pegs."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    delta = np.array(position, dtype=np.float64) - skeleton.joint(joint_id).position
    targets = dict(_shifted(skeleton, joint_id, delta, with_children))
    for other in partners_of(skeleton, joint_id, both_sides):
        mirrored_place = np.array(position) * [-1, 1, 1] + [2 * middle_of(character), 0, 0]
        targets |= _shifted(skeleton, other, mirrored_place - skeleton.joint(other).position, with_children)
    return _placed(document, character, targets)


def lengthen_joint(document: Document, joint_id: str, length: float, *, both_sides: bool = True) -> Document:
    """Another length for a joint's bone, along its own axis only; what hangs on its end goes along."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    if not length > 0:
        raise EditError(f"a bone's length must be more than 0 m, not {length:g}")
    targets: dict[str, FloatArray] = {}
    tails: dict[str, FloatArray] = {}
    for target in (joint_id, *partners_of(skeleton, joint_id, both_sides)):
        joint = skeleton.joint(target)
        aim = aim_of(skeleton, joint)
        if aim is None:
            raise EditError(f"{joint.name} has no bone to lengthen; draw a joint at its end first")
        here = np.array(joint.position)
        children = [c for c in skeleton.children(target) if not c.aside]
        if children:
            end = max(children, key=lambda c: float((np.array(c.position) - here) @ aim))
            targets |= _shifted(skeleton, end.id, here + aim * length - np.array(end.position), True)
        else:
            tails[target] = here + aim * length
    return _placed(document, character, targets, tails=tails)


def draw_joint(
    document: Document, place: Vector, *, parent: str | None = None, name: str = "", both_sides: bool = True,
    tail: Vector | None = None, takes: bool = True,
) -> tuple[Document, str]:  # fmt: skip
    """Lay a joint. Its parent turns to aim at it if it had no child. Returns the document and the new joint's id."""
    character = _grounded(document)
    skeleton = character.skeleton or Skeleton(())
    if parent is not None and parent not in skeleton.index:
        raise EditError(f"there is no joint {parent} to draw from")
    result = _fresh(character, 2)
    side = Side.CENTRE
    if parent is not None and both_sides and skeleton.joint(parent).side is not Side.CENTRE:
        side = skeleton.joint(parent).side
    elif both_sides and abs(place[0] - middle_of(character)) > 0.02 * character.height:
        side = Side.LEFT if place[0] > middle_of(character) else Side.RIGHT
    own = [_own(character, result[0], name, parent, np.array(place), side, tail, takes)]
    across = partners_of(skeleton, parent, both_sides) if parent else []
    if side is not Side.CENTRE and (across or (parent is None or skeleton.joint(parent).side is Side.CENTRE)):
        other = across[0] if across else parent
        flipped = np.array(place) * [-1, 1, 1] + [2 * middle_of(character), 0, 0]
        end = None if tail is None else (2 * middle_of(character) - tail[0], tail[1], tail[2])
        mark = {"l": "r", "r": "l"}
        twin = _own(character, result[1], "", other, flipped, side.other, end, takes)
        twin = replace(twin, name=mark[own[0].name[0]] + own[0].name[1:] if own[0].name[1:2] == "_" else twin.name)
        own.append(_mirrored_turn(character, own[0], twin))
    if parent is not None and tail is None:
        own = [_tail_on(o, skeleton) for o in own]
    character = replace(character, own_joints=(*character.own_joints, *own))
    ids = frozenset(o.id for o in own) if takes else frozenset()
    return document.with_character(rebuilt(character, takes=ids)), result[0]


def insert_joint(
    document: Document,
    child_id: str,
    *,
    share: float = 0.5,
    name: str = "",
    both_sides: bool = True,
    takes: bool = True,
) -> tuple[Document, str]:
    """Put a joint into the bone above `child_id`, at a share of its length. Returns the document and the new id."""
    if not 0.0 < share < 1.0:
        raise EditError("a joint is put between 0 and 1 of the bone")
    return _insert(document, child_id, (share,), name, both_sides, takes)


def split_bone(
    document: Document, child_id: str, pieces: int, *, both_sides: bool = True, takes: bool = True
) -> Document:
    """Cut the bone above `child_id` into even pieces."""
    if not 2 <= pieces <= 32:
        raise EditError(f"a bone is split into 2 to 32 pieces, not {pieces}")
    # Each new joint hangs on the one before: its share is of what is left of the bone.
    shares = tuple(1.0 / (pieces - k) for k in range(pieces - 1))
    return _insert(document, child_id, shares, "", both_sides, takes)[0]


def _insert(
    document: Document, child_id: str, shares: tuple[float, ...], name: str, both_sides: bool, takes: bool
) -> tuple[Document, str]:
    character = _grounded(document)
    skeleton = skeleton_in(character)
    result: list[OwnJoint] = []
    first = ""
    for target in (child_id, *partners_of(skeleton, child_id, both_sides)):
        child = skeleton.joint(target)
        if child.parent is None:
            raise EditError(f"{child.name} has no bone above it to put a joint into")
        parent = child.parent
        above = skeleton.joint(parent)
        for share in shares:
            own_id = _fresh(replace(character, own_joints=(*character.own_joints, *result)), 1)[0]
            taken = {j.name for j in skeleton.joints} | {o.name for o in result}
            label = _unused(name or f"{above.name}_mid", taken)
            result.append(
                OwnJoint(own_id, label, parent, child.side, (0.0, 0.0, 0.0), between=(target, share), takes=takes)
            )
            parent = own_id
            first = first or own_id
    character = replace(character, own_joints=(*character.own_joints, *result))
    ids = frozenset(o.id for o in result) if takes else frozenset()
    return document.with_character(rebuilt(character, takes=ids)), first


def extend_joint(
    document: Document, joint_id: str, *, length: float | None = None, both_sides: bool = True
) -> tuple[Document, str]:
    """Add a joint at the end of a joint's bone, going on in its direction."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    joint = skeleton.joint(joint_id)
    aim = aim_of(skeleton, joint)
    here = np.array(joint.position)
    aim = joint.matrix[:3, 1] if aim is None else aim
    children = skeleton.children(joint_id)
    old = float(np.linalg.norm(np.array(joint.tail) - here)) if joint.tail else 0.08 * character.height
    start = np.array(joint.tail) if joint.tail and not children else here + aim * old
    far = start + aim * (length or old)
    return draw_joint(document, _v(start), parent=joint_id, both_sides=both_sides, tail=_v(far))


def delete_joint(document: Document, joint_id: str, *, keep_children: bool = True, both_sides: bool = True) -> Document:
    """Take a joint out; what it held goes to its parent. Its children hang one higher, or go with it."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    if skeleton.joint(joint_id).halfway is not None:
        return document.with_character(helpers_gone(character, {joint_id, *partners_of(skeleton, joint_id, both_sides)}))
    gone: set[str] = set()
    for target in (joint_id, *partners_of(skeleton, joint_id, both_sides)):
        joint = skeleton.joint(target)
        if joint.parent is None and keep_children and len(skeleton.children(target)) > 1:
            raise EditError(f"{joint.name} carries everything; hang its children elsewhere first")
        gone.add(target)
        if not keep_children:
            gone |= {j.id for j in below(skeleton, target)}
    if len(gone) >= len(skeleton.joints):
        raise EditError("no joint would be left; undo to before the joints instead")
    return with_changes(document, character, {j: {"dropped": True} for j in gone})


def reparent_joint(document: Document, joint_id: str, parent: str, *, both_sides: bool = True) -> Document:
    """Hang a joint on another one; nothing moves. Raises EditError for a joint of its own branch."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    pairs = [(joint_id, parent)]
    for other in partners_of(skeleton, joint_id, both_sides):
        pairs.append((other, skeleton.other_side(parent) or parent))
    worlds = {j.id: skeleton.world[i] for i, j in enumerate(skeleton.joints)}
    own = {o.id: o for o in character.own_joints}
    changes: dict[str, dict[str, object]] = {}
    for child, target in pairs:
        if target not in skeleton.index:
            raise EditError(f"there is no joint {target}")
        if any(h.id in (target, child) for h in character.helpers):
            raise follows_only(character, target if any(h.id == target for h in character.helpers) else child)
        if target == child or any(j.id == target for j in below(skeleton, child)):
            raise EditError(f"{skeleton.joint(child).name} cannot hang on a joint of its own branch")
        if child in own:
            place, turn = local_of(skeleton.joint(target), worlds[child])
            tail = skeleton.joint(child).tail
            end = None if tail is None else _v(transform_points(np.linalg.inv(worlds[target]), np.array(tail)))
            own[child] = replace(own[child], parent=target, place=place, turn=turn, tail=end, between=None)
        else:
            changes[child] = {"parent": target}
    character = replace(character, own_joints=tuple(own.values()))
    return with_changes(document, character, changes)


def float_joint(document: Document, joint_id: str, floating: bool, *, both_sides: bool = True) -> Document:
    """Connect a joint to its parent by a cord, or let it float: only the drawing and the bone's weights differ."""
    character = _grounded(document)
    targets = (joint_id, *partners_of(skeleton_in(character), joint_id, both_sides))
    return with_changes(document, character, {t: {"floating": floating} for t in targets})


def set_mark_size(document: Document, joint_ids: Collection[str], size: float, *, both_sides: bool = True) -> Document:
    """How large some joints are drawn, as a factor. Raises EditError for one out of 0.2 to 5, or for an unknown joint."""
    character = document.require_character()
    skeleton = skeleton_in(character)
    if not 0.2 <= size <= 5.0:
        raise EditError(f"a joint's mark is from a fifth to five times its size, not {size:g}")
    sizes = dict(character.mark_sizes)
    for joint_id in joint_ids:
        for target in (skeleton.joint(joint_id).id, *partners_of(skeleton, joint_id, both_sides)):
            sizes[target] = float(size)
    kept = {joint: factor for joint, factor in sizes.items() if abs(factor - 1.0) > 1e-6}
    return document.with_character(replace(character, mark_sizes=MappingProxyType(kept)))


def duplicate_joints(document: Document, joint_id: str, *, offset: Vector = (0.0, 0.0, 0.05)) -> tuple[Document, str]:
    """A copy of a joint and all that hangs on it, beside it. Returns the document and the copy's id."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    branch = [j for j in (skeleton.joint(joint_id), *below(skeleton, joint_id)) if j.halfway is None]
    if not branch:
        raise follows_only(character, joint_id)
    copies = _copied(character, skeleton, branch, lambda m: _moved(m, np.array(offset)), lambda p: p + np.array(offset))
    character = replace(character, own_joints=(*character.own_joints, *copies))
    return document.with_character(rebuilt(character)), copies[0].id


def mirror_joints(document: Document, joint_id: str) -> tuple[Document, str]:
    """A copy of a joint's branch on the other side, with mirrored behaviour. Raises EditError if one is there."""
    character = _grounded(document)
    skeleton = skeleton_in(character)
    joint = skeleton.joint(joint_id)
    if joint.side is Side.CENTRE and other_side_name(joint.name) is None and abs(joint.position[0]) < 1e-6:
        raise EditError(f"{joint.name} lies on the middle; there is nothing to mirror it to")
    if skeleton.other_side(joint_id) not in (None, joint_id):
        raise EditError(f"{joint.name} has a partner already; move it with both sides on")
    middle = middle_of(character)
    unsided = [j for j in (joint, *below(skeleton, joint_id)) if other_side_name(j.name) is None]
    if unsided:
        # Two of a kind need names that tell them apart and pair them.
        mark = "l_" if joint.position[0] > middle else "r_"
        taken = {j.name for j in skeleton.joints}
        changes = {j.id: {"name": _unused(mark + j.name.removeprefix("c_"), taken)} for j in unsided}
        character = with_changes(document, character, changes).require_character()
        skeleton = skeleton_in(character)
        joint = skeleton.joint(joint_id)

    def flip(matrix: FloatArray) -> FloatArray:
        result = np.eye(4)
        result[:3, :3] = mirrored(matrix[:3, :3])
        result[:3, 3] = matrix[:3, 3] * [-1, 1, 1] + [2 * middle, 0, 0]
        return result

    branch = [j for j in (joint, *below(skeleton, joint_id)) if j.halfway is None]
    copies = _copied(character, skeleton, branch, flip, lambda p: p * [-1, 1, 1] + [2 * middle, 0, 0], mirror=True)
    character = replace(character, own_joints=(*character.own_joints, *copies))
    return document.with_character(rebuilt(character, takes=frozenset(c.id for c in copies))), copies[0].id


def _copied(character: Character, skeleton: Skeleton, branch: list[Joint], turn: object, point: object,
            *, mirror: bool = False) -> list[OwnJoint]:  # fmt: skip
    ids = dict(zip([j.id for j in branch], _fresh(character, len(branch)), strict=True))
    taken = {j.name for j in skeleton.joints}
    result: dict[str, tuple[OwnJoint, FloatArray]] = {}
    for joint in branch:
        matrix = turn(joint.matrix)  # type: ignore[operator]
        name = (other_side_name(joint.name) if mirror else None) or joint.name
        name = _unused(name, taken)
        taken.add(name)
        parent = ids.get(joint.parent or "")
        if parent is None:
            above = joint.parent or ""
            if mirror and above:
                above = skeleton.other_side(above) or above
            base = skeleton.joint(above) if above else None
        else:
            above = parent
            own, world = result[parent]
            base = Joint(own.id, own.name, None, own.side, _v(world[:3, 3]), _q(matrix_quaternion(world)))
        tail = None if joint.tail is None else point(np.array(joint.tail))  # type: ignore[operator]
        place, turn_ = (
            local_of(base, matrix) if base is not None else (_v(matrix[:3, 3]), _q(matrix_quaternion(matrix)))
        )
        end = None
        if tail is not None:
            end = _v(transform_points(np.linalg.inv(base.matrix), tail)) if base is not None else _v(tail)
        side = joint.side.other if mirror else joint.side
        if mirror and joint.side is Side.CENTRE:
            side = Side.LEFT if matrix[0, 3] > 0 else Side.RIGHT
        result[ids[joint.id]] = (OwnJoint(ids[joint.id], name, above, side, place, turn_, end), matrix)
    return [own for own, _ in result.values()]


def below(skeleton: Skeleton, joint_id: str) -> list[Joint]:
    """All joints that hang on a joint, parents first."""
    found: list[Joint] = []
    inside = {joint_id}
    for joint in skeleton.joints:
        if joint.parent in inside:
            inside.add(joint.id)
            found.append(joint)
    return found


def turn_joints(document: Document, turns: Mapping[str, FloatArray]) -> Document:
    """Give joints other axes (3, 3) in the character; nothing moves, children keep their places."""
    character = _grounded(document)
    targets = {}
    for joint_id, axes in turns.items():
        matrix = skeleton_in(character).joint(joint_id).matrix.copy()
        matrix[:3, :3] = axes
        targets[joint_id] = matrix
    return _placed(document, character, targets)


def _placed(
    document: Document, character: Character, targets: Mapping[str, FloatArray],
    *, tails: Mapping[str, FloatArray] | None = None,
) -> Document:  # fmt: skip
    """Joints at wanted places (4x4 in the character); every other joint stays where it stands."""
    return document.with_character(rebuilt(placed(character, targets, tails=tails)))


def placed(
    character: Character, targets: Mapping[str, FloatArray], *, tails: Mapping[str, FloatArray] | None = None
) -> Character:
    """Overrides and own joints that put joints at `targets`; not yet rebuilt."""
    skeleton = skeleton_in(character)
    helpers = {h.id for h in character.helpers}
    if targets and set(targets) <= helpers:
        raise follows_only(character, next(iter(targets)))
    targets = {j: m for j, m in targets.items() if j not in helpers}
    recipe = recipe_of(character)
    worlds = {j.id: skeleton.joint(j.id).matrix for j in skeleton.joints} | dict(targets.items())
    overrides = dict(character.joint_overrides)
    for joint_id, matrix in targets.items():
        if joint_id not in recipe.index:
            continue
        base = recipe.joint(joint_id)
        inside = np.linalg.inv(base.matrix) @ matrix
        turn = quaternion_euler(quaternion_product(quaternion_inverse(base.rotation), matrix_quaternion(matrix)))
        override = overrides.get(joint_id, JointOverride())
        move = np.where(np.abs(inside[:3, 3]) < 1e-12, 0.0, inside[:3, 3])
        seen = base.position if move.any() else None
        overrides[joint_id] = replace(
            override, seen=seen, move=_v(move), turn=_v(np.where(np.abs(turn) < 1e-12, 0.0, turn))
        )
    ends = dict(tails or {})
    own_joints = []
    for own in character.own_joints:
        if own.id in worlds and not (own.between is not None and own.id not in targets):
            parent = own.parent
            before = skeleton.joint(own.id)
            end = ends.get(own.id)
            if end is None and before.tail is not None:
                end = transform_points(worlds[own.id] @ np.linalg.inv(before.matrix), np.array(before.tail))
            if parent:
                holder = replace(
                    skeleton.joint(parent),
                    position=_v(worlds[parent][:3, 3]),
                    rotation=_q(matrix_quaternion(worlds[parent])),
                )
                place, turn_ = local_of(holder, worlds[own.id])
                local_end = None if end is None else _v(transform_points(np.linalg.inv(worlds[parent]), end))
            else:
                place, turn_ = _v(worlds[own.id][:3, 3]), _q(matrix_quaternion(worlds[own.id]))
                local_end = None if end is None else _v(end)
            between = None if own.id in targets else own.between
            own = replace(own, place=place, turn=turn_, tail=local_end, between=between)
        own_joints.append(own)
    return replace(character, joint_overrides=MappingProxyType(overrides), own_joints=tuple(own_joints))


def parted_moves(character: Character) -> dict[str, float]:
    """Joints moved by hand whose pegs have moved since, and how far (metres): what was meant is no longer plain."""
    moved = {j: o for j, o in character.joint_overrides.items() if o.seen is not None and any(o.move) and not o.dropped}
    if not moved or character.skeleton is None:
        return {}
    recipe = recipe_of(character)
    gaps = {
        j: float(np.linalg.norm(np.array(recipe.joint(j).position) - np.array(o.seen)))
        for j, o in moved.items()
        if j in recipe.index
    }
    return {j: gap for j, gap in gaps.items() if gap > PARTED * character.height}


def forget_moves(document: Document, joints: Iterable[str]) -> Document:
    """Joints back to where pegs and kits put them; names, parents and axes given by hand stay."""
    character = _grounded(document)
    chosen = {j: {"move": (0.0, 0.0, 0.0), "seen": None} for j in joints if j in character.joint_overrides}
    if not chosen:
        raise EditError("none of these joints was moved by hand")
    return with_changes(document, character, chosen)


def keep_moves(document: Document, joints: Iterable[str]) -> Document:
    """Say that moves by hand are still meant although the pegs have moved: nothing moves."""
    character = _grounded(document)
    recipe = recipe_of(character)
    overrides = dict(character.joint_overrides)
    for joint in joints:
        if joint in overrides and joint in recipe.index:
            overrides[joint] = replace(overrides[joint], seen=recipe.joint(joint).position)
    return document.with_character(replace(character, joint_overrides=MappingProxyType(overrides)))


def with_changes(document: Document, character: Character, changes: Mapping[str, Mapping[str, object]]) -> Document:
    """Changes by hand, fields by joint, on top of those there are; built anew with them. A helper joint has only a name of its own.

    Raises EditError for any other change of one."""
    names = {j: fields.get("name") for j, fields in changes.items() if any(h.id == j for h in character.helpers)}
    for joint_id, name in names.items():
        if not isinstance(name, str) or len(changes[joint_id]) > 1:
            raise follows_only(character, joint_id)
        character = replace(character, helpers=tuple(replace(h, name=name) if h.id == joint_id else h for h in character.helpers))
    changes = {j: fields for j, fields in changes.items() if j not in names}
    overrides = dict(character.joint_overrides)
    for joint_id, fields in changes.items():
        overrides[joint_id] = replace(overrides.get(joint_id, JointOverride()), **fields)  # type: ignore[arg-type]
    return document.with_character(rebuilt(replace(character, joint_overrides=MappingProxyType(overrides))))


def _shifted(skeleton: Skeleton, joint_id: str, delta: FloatArray, with_children: bool) -> dict[str, FloatArray]:
    moved = [skeleton.joint(joint_id), *(below(skeleton, joint_id) if with_children else ())]
    return {j.id: _moved(j.matrix, delta) for j in moved}


def _moved(matrix: FloatArray, delta: FloatArray) -> FloatArray:
    result = matrix.copy()
    result[:3, 3] += delta
    return result


def partners_of(skeleton: Skeleton, joint_id: str, both_sides: bool) -> list[str]:
    """The joint across, where both sides are meant and there is one."""
    other = skeleton.other_side(joint_id) if both_sides else None
    return [other] if other is not None and other != joint_id else []


def _fresh(character: Character, count: int) -> list[str]:
    """Ids no joint of this character ever had: a change that waits for one that was deleted is not for a new one."""
    return fresh_ids(character, OWN, (o.id for o in character.own_joints), count)[1]


def _unused(name: str, taken: set[str]) -> str:
    base, number = name, 2
    while name in taken:
        name, number = f"{base}_{number}", number + 1
    return name


def _own(
    character: Character, own_id: str, name: str, parent: str | None, place: FloatArray, side: Side,
    tail: Vector | None, takes: bool,
) -> OwnJoint:  # fmt: skip
    skeleton = character.skeleton or Skeleton(())
    if any(h.id == parent for h in character.helpers):
        raise follows_only(character, parent or "")
    taken = {j.name for j in skeleton.joints}
    mark = {Side.LEFT: "l_", Side.RIGHT: "r_"}.get(side, "")
    label = _unused(name.strip() or f"{mark}joint", taken)
    before = np.array(skeleton.joint(parent).position) if parent else place - [0.0, 0.1, 0.0]
    aim = (np.array(tail) - place) if tail is not None else (place - before)
    axes = frame(aim if np.linalg.norm(aim) > 1e-9 else np.array([0.0, 1.0, 0.0]), np.array([1.0, 0.0, 0.0]))
    matrix = np.eye(4)
    matrix[:3, :3], matrix[:3, 3] = axes, place
    if parent is None:
        return OwnJoint(own_id, label, "", side, _v(place), _q(matrix_quaternion(axes)), tail, takes=takes)
    holder = skeleton.joint(parent)
    where, turn = local_of(holder, matrix)
    end = None if tail is None else _v(transform_points(np.linalg.inv(holder.matrix), np.array(tail)))
    return OwnJoint(own_id, label, parent, side, where, turn, end, takes=takes)


def _tail_on(own: OwnJoint, skeleton: Skeleton) -> OwnJoint:
    """A leaf drawn without an end gets one: half as far again as it is from its parent."""
    if not own.parent:
        return own
    place = np.array(own.place)
    length = float(np.linalg.norm(place))
    direction = normalised(place) if length > 1e-9 else any_perpendicular(np.array([0.0, 1.0, 0.0]))
    return replace(own, tail=_v(place + direction * max(0.5 * length, 1e-3)))


def _mirrored_turn(character: Character, own: OwnJoint, twin: OwnJoint) -> OwnJoint:
    skeleton = character.skeleton or Skeleton(())
    world = skeleton.joint(own.parent).matrix if own.parent else np.eye(4)
    axes = world[:3, :3] @ _rotation(own.turn)
    parent_matrix = skeleton.joint(twin.parent).matrix if twin.parent else np.eye(4)
    return replace(twin, turn=_q(matrix_quaternion(parent_matrix[:3, :3].T @ mirrored(axes))))


def _rotation(q: object) -> FloatArray:
    from pegloom.core.geometry.transforms import rotation_matrix

    return rotation_matrix(q)  # type: ignore[arg-type]


def _grounded(document: Document) -> Character:
    """The character, its present joints kept as what changes are relative to where no recipe made them."""
    character = document.require_character()
    if character.pegs is None and character.adopted is None:
        return replace(character, adopted=character.skeleton or Skeleton(()))
    return character


def skeleton_in(character: Character) -> Skeleton:
    """The character's joints. Raises EditError where there are none."""
    if character.skeleton is None:
        raise EditError("there are no joints yet; build joints first, or draw one")
    return character.skeleton


def _v(p: FloatArray) -> Vector:
    return (float(p[0]), float(p[1]), float(p[2]))


def _q(q: FloatArray) -> tuple[float, float, float, float]:
    return (float(q[0]), float(q[1]), float(q[2]), float(q[3]))


def sided(name: str) -> Side:
    """Side a name tells."""
    return side_of_name(name)
