"""Pegs, kits and the joints they make. Building again keeps what was changed by hand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, triangulate, weld
from pegloom.core.jobs import Progress, silent
from pegloom.core.memo import of_the_latest
from pegloom.core.skeleton import pegs as peg_moves
from pegloom.core.skeleton.build import AS_STOOD, kits_in
from pegloom.core.skeleton.find import find_pegs_in, guess_pattern
from pegloom.core.skeleton.joints import Joint, Side, Skeleton, Vector, other_side_name
from pegloom.core.skeleton.kits import (
    Kit,
    kit_of,
    other_kit_id,
    pairs_of,
    resized,
)
from pegloom.core.skeleton.patterns import Pattern, free_pegs, kit_library, pattern, peg_order, usual_place
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.core.skeleton.search_again import added_kits, found_again
from pegloom.document.edits.feet import toes_on
from pegloom.document.edits.hands import Body, hands_on
from pegloom.document.edits.rebuild import rebuilt, recipe_of
from pegloom.document.model import Character, Document, PartKind


@dataclass(frozen=True, eq=False)
class Surface:
    """Places (n, 3) and triangles (t, 3) of several meshes as one."""

    points: FloatArray
    triangles: IntArray


def whole_surface(character: Character) -> Surface:
    """What is skin or cloth; everything where nothing is. Raises EditError where no included part has a face."""
    finest = [p for p in character.at_level(0) if p.mesh.face_count]
    chosen = [p for p in finest if p.kind in (PartKind.SKIN, PartKind.CLOTH)] or finest
    if not chosen:
        raise EditError("no included part has a surface; take the body in, then find pegs")
    return _as_one(*(part.mesh for part in chosen))


@of_the_latest(4)
def _as_one(*meshes: Mesh) -> Surface:
    points, triangles, start = [], [], 0
    for mesh in meshes:
        # Places, not vertices: a file's seams would cut every section open.
        g = weld(mesh)
        points.append(mesh.points[g.first])
        triangles.append(g.group[triangulate(mesh).vertices] + start)
        start += g.count
    return Surface(frozen(np.concatenate(points)), np.asarray(frozen(np.concatenate(triangles))))


def surface_of(character: Character) -> tuple[FloatArray, IntArray]:
    """Places (n, 3) and triangles (t, 3) of `whole_surface`."""
    whole = whole_surface(character)
    return whole.points, whole.triangles


def middle_of(character: Character) -> float:
    """x of the mirror plane."""
    return character.standing.middle if character.standing else 0.0


def find_pegs(
    document: Document, *, fingers: int | None = None, plan: Pattern | str | None = None, pairs: int | None = None,
    progress: Progress = silent,
) -> PegSet:  # fmt: skip
    """A pattern's pegs as the mesh's own shape says; without a plan, the human's.

    fingers : 0 to 5, None for as many as the hands show.
    pairs : of legs, None for as many as are seen. Raises EditError or FindError when it cannot.
    """
    character = document.require_character()
    if fingers is not None and not 0 <= fingers <= 5:
        raise EditError(f"a hand has 0 to 5 fingers, not {fingers}")
    chosen = plan if isinstance(plan, Pattern) else pattern(plan or "human")
    if not any(p.mesh.face_count for p in character.included):
        if character.parts:
            raise EditError("no included part has a surface; take the body in, then find pegs")
        height = 1.7 if chosen.finder == "human" else 1.0
        return free_pegs(chosen, height=height, fingers=5 if fingers is None else fingers, pairs=pairs)
    points, triangles = surface_of(character)
    return find_pegs_in(
        points, triangles, chosen, fingers=fingers, pairs=pairs, middle=middle_of(character), progress=progress
    )


def guess_plan(document: Document) -> str:
    """Which shipped pattern the mesh looks like."""
    points, triangles = surface_of(document.require_character())
    return guess_pattern(points, triangles, middle=middle_of(document.require_character()))


def set_pegs(document: Document, pegs: PegSet) -> Document:
    """Put all pegs; joints that were built from pegs are built again."""
    character = document.require_character()
    return with_pegs(document, character, pegs)


def lay_pegs(document: Document, pegs: PegSet) -> Document:
    """Put pegs found or laid out anew: which way is ahead is as the body stands now."""
    character = replace(document.require_character(), front=AS_STOOD)
    return with_pegs(document, character, pegs)


def find_pegs_again(
    document: Document, *, keep_placed: bool = True, fingers: int | None = None, plan: Pattern | str | None = None,
    pairs: int | None = None, progress: Progress = silent,
) -> Document:  # fmt: skip
    """Look for the landmarks of a body, which may have pegs: kits stay, and unless told otherwise pegs placed by hand.

    See `find_pegs` for the rest.
    """
    found = find_pegs(document, fingers=fingers, plan=plan, pairs=pairs, progress=progress)
    old = document.require_character().pegs
    if old is not None and old.pattern:
        found = found_again(old, found, keep_placed=keep_placed, other_fingers=fingers is not None)
    return lay_pegs(document, found)


def place_peg(document: Document, name: str, position: Vector, *, both_sides: bool = True) -> Document:
    """Move one peg (and its partner); joints, controls and weights that hang on it follow."""
    character = document.require_character()
    moved = peg_moves.move_peg(pegs_of(character), name, position, both_sides=both_sides, middle=middle_of(character))
    return with_pegs(document, character, moved)


def accept_peg(document: Document, name: str, *, both_sides: bool = True) -> Document:
    """A peg (and its partner) is right where it is: counted as placed by hand, nothing moves."""
    pegs = pegs_of(document.require_character())
    other = other_side_name(name) if both_sides and name not in pegs.apart else None
    places = {n: pegs.position(n) for n in (name, other) if n is not None and (n == name or n in pegs.by_name)}
    return set_pegs(document, peg_moves.place_pegs(pegs, places))


def build_joints(document: Document) -> Document:
    """Joints from the pegs. Weights, controls and clips of an earlier build stay; hand-made changes come again."""
    character = document.require_character()
    if character.pegs is None:
        raise EditError("there are no pegs to build joints from; find pegs first")
    return document.with_character(rebuilt(character))


def even_pegs(document: Document, *, from_left: bool = True) -> Document:
    """Put one side's pegs at the mirrored places of the other's; centre pegs onto the middle."""
    character = document.require_character()
    pegs, middle = pegs_of(character), middle_of(character)
    places: dict[str, Vector] = {}
    for peg in pegs.pegs:
        x, y, z = peg.position
        if peg.name[:2] == ("l_" if from_left else "r_"):
            other = ("r_" if from_left else "l_") + peg.name[2:]
            if other in pegs.by_name:
                places[other] = (2 * middle - x, y, z)
        elif peg.name[:2] not in ("l_", "r_"):
            places[peg.name] = (middle, y, z)
    return with_pegs(document, character, replace(peg_moves.place_pegs(pegs, places), apart=frozenset()))


def side_gaps(pegs: PegSet, middle: float = 0.0) -> Mapping[str, float]:
    """How far, in metres, each left peg is from its mirrored partner."""
    gaps = {}
    for peg in pegs.pegs:
        other = pegs.by_name.get("r_" + peg.name[2:]) if peg.name.startswith("l_") else None
        if other is not None:
            x, y, z = other.position
            gaps[peg.name] = float(np.linalg.norm(np.array(peg.position) - (2 * middle - x, y, z)))
    return gaps


# Kits


def hung_in(character: Character) -> Body:
    """The skin fingers and toes are looked for in."""
    surface = whole_surface(character)
    return surface.points, surface.triangles, character.height, middle_of(character)


def set_joint_count(document: Document, kit_id: str, count: int, *, both_sides: bool = True) -> Document:
    """Cut a kit into another number of joints on the same pegs; its weights are shared out anew."""
    character = document.require_character()
    pegs = pegs_of(character)
    ids = both_kits(kit_id, both_sides)
    kits, chains = [], []
    for kit in kits_in(pegs):
        new = resized(kit, count) if kit.id in ids else kit
        if new.joints != kit.joints:
            chains.append((kit.joints, new.joints))
        kits.append(new)
    if not any(k.id == kit_id for k in kits):
        raise EditError(f"there is no kit {kit_id}")
    return with_kits(document, character, tuple(kits), chains=tuple(chains))


def set_twist(document: Document, kit_id: str, count: int, *, both_sides: bool = True) -> Document:
    """Put 0 to 4 twist joints along each bone of a limb, or along a neck; what is bound there is shared out."""
    if not 0 <= count <= 4:
        raise EditError(f"a bone takes 0 to 4 twist joints, not {count}")
    character = document.require_character()
    ids = both_kits(kit_id, both_sides)
    kits = kits_in(pegs_of(character))
    if not any(k.id in ids and k.twisted_bones for k in kits):
        raise EditError(f"{kit_id} is no limb with two bones that twist, and no neck")
    changed = tuple(replace(k, twist=count, twist_at_root=True) if k.id in ids else k for k in kits)
    chains = [c for old, new in zip(kits, changed, strict=True) if new.id in ids for c in _twist_chains(old, new)]
    return with_kits(document, character, changed, chains=tuple(chains))


def _twist_chains(old: Kit, new: Kit) -> list[tuple[tuple[str, ...], tuple[str, ...]]]:
    """What holds the weight along each bone that twists, before and after, from root to end."""
    found = []
    for (here, _, at_root), (_, _, was) in zip(new.twisted_bones, old.twisted_bones, strict=True):
        rows = []
        for count, root in ((old.twist, was), (new.twist, at_root)):
            along = tuple(f"{here}.twist{k}" for k in range(1, count + 1))
            rows.append((*along, here) if root else (here, *along))
        found.append((rows[0], rows[1]))
    return found


def set_roll(document: Document, kit_id: str, roll: float, *, both_sides: bool = True) -> Document:
    """Roll a kit's joints about their aim, radians: a thumb until its plaque lies flat on the nail."""
    character = document.require_character()
    ids = both_kits(kit_id, both_sides)
    changed = tuple(replace(k, roll=float(roll)) if k.id in ids else k for k in kits_in(pegs_of(character)))
    return with_kits(document, character, changed)


def add_kit(
    document: Document, kind: str, attach: str, *, name: str = "", count: int | None = None, both_sides: bool = True,
    base: Vector | None = None,
) -> tuple[Document, str]:  # fmt: skip
    """Hang a kit of the library on a joint. Returns the document and the kit's id.

    base : where its first peg goes; without it, at the joint (its tail, if it has one). Repeating gives it a number.
    Raises EditError for an unknown kind or joint.
    """
    character = document.require_character()
    plan = kit_library().get(kind)
    if plan is None:
        raise EditError(f"there is no kit {kind}; known are {', '.join(kit_library())}")
    skeleton = character.skeleton or (recipe_of(character) if character.pegs else None)
    if skeleton is None or (attach and attach not in skeleton.index):
        raise EditError("build joints first, then say which joint the kit hangs on")
    pegs = character.pegs or PegSet("", 0, ())
    kits = kits_in(pegs)
    joint = skeleton.joint(attach or skeleton.joints[0].id)
    if not character.pegs and character.adopted is None:
        character = replace(character, adopted=character.skeleton)
    wanted = str(name or plan.get("id", kind)).strip().lower().replace(" ", "_").replace(".", "_") or "kit"
    taken = {k.id.split(".")[0] for k in kits} | {j.id.split(".")[0] for j in skeleton.joints} | _waited_for(character)
    own, number = wanted, 2
    while own in taken:
        own, number = f"{wanted}{number}", number + 1
    both = bool(plan.get("sides")) and both_sides and joint.side is Side.CENTRE
    sides = ["l", "r"] if both else [""]
    if joint.side is not Side.CENTRE:
        sides = ["l" if joint.side is Side.LEFT else "r"]
        if both_sides and skeleton.other_side(joint.id) not in (None, joint.id):
            sides = ["l", "r"]
    if kind in ("fingers", "toes"):
        taken_pegs = frozenset(pegs.by_name)
        hang = hands_on if kind == "fingers" else toes_on
        hands = hang(hung_in(character), skeleton, joint, sides, own, count, taken_pegs)
        if not hands or not hands[0][0]:
            what = "a hand has two fingers" if kind == "fingers" else "a foot has two single toes"
            raise EditError(f"{what} at least; {own} would have none")
        more = {name: peg for _, placed in hands for name, peg in placed.items()}
        fresh = tuple(kit for kits_here, _ in hands for kit in kits_here)
        return with_kits(document, character, (*kits, *fresh), places=more, base_pegs=pegs), fresh[0].id
    result = []
    for s in sides:
        hung = joint
        if s and joint.side is not Side.CENTRE and s != ("l" if joint.side is Side.LEFT else "r"):
            hung = skeleton.joint(skeleton.other_side(joint.id) or joint.id)
        data: dict[str, Any] = dict(plan) | {
            "id": own, "attach": hung.id, "pegs": [f"{own}_{p}" for p in plan["pegs"]],
            "names": [f"{own}_{k}" if str(k) != own else own for k in plan["joints"]],
        }  # fmt: skip
        kit = kit_of(data, s)
        result.append(resized(kit, count) if count is not None else kit)
    places: dict[str, Peg] = {}
    height = character.height
    for kit in result:
        sign = -1.0 if kit.side is Side.RIGHT else 1.0
        hung = skeleton.joint(kit.attach)
        start = np.array(hung.tail if hung.tail and not skeleton.children(hung.id) else hung.position)
        if base is not None:
            start = np.array(base) * [
                sign if kit.side is not Side.CENTRE and sign != np.sign(base[0] or 1) else 1,
                1,
                1,
            ]
        elif kit.side is not Side.CENTRE and hung.side is Side.CENTRE:
            start = start + np.array([0.03 * height * sign, 0, 0])
        reach = (
            np.array(plan["reach"], dtype=np.float64) * [sign if kit.side is not Side.CENTRE else 1.0, 1, 1] * height
        )
        for i, peg in enumerate(kit.pegs):
            x, y, z = start + reach * i / max(len(kit.pegs) - 1, 1)
            places[peg] = Peg(peg, (float(x), float(y), float(z)), 0.3)
    document = with_kits(document, character, (*kits, *result), places=places, base_pegs=pegs)
    return document, result[0].id


def _waited_for(character: Character) -> set[str]:
    """First words of ids that changes and keys are kept for: what waits for a kit that was removed is not for a new one."""
    changes = character.rig_changes
    owners = [*character.joint_overrides, *character.rig_recipe, *changes.controls, *changes.dropped]
    owners += [owner for owner, _ in changes.channels]
    owners += [owner for clip in character.clips for owner, _ in clip.curves]
    owners += [owner for clip in character.clips for layer in clip.layers for owner, _ in layer.curves]
    return {one.split(".")[0] for one in owners}


def remove_kit(document: Document, kit_id: str, *, both_sides: bool = True) -> Document:
    """Take a kit away; what its joints held goes to what it hung on. Kits that hang on it go with it."""
    character = document.require_character()
    kits = kits_in(pegs_of(character))
    gone = {k.id for k in kits if k.id in both_kits(kit_id, both_sides)}
    if not gone:
        raise EditError(f"there is no kit {kit_id}")
    if any(k.kind == "root" for k in kits if k.id in gone):
        raise EditError("the root stays: everything hangs on it")
    joints = {j for k in kits if k.id in gone for j in k.joints}
    while True:
        more = {k.id for k in kits if k.id not in gone and k.attach in joints}
        if not more:
            break
        gone |= more
        joints |= {j for k in kits if k.id in more for j in k.joints}
    return with_kits(document, character, tuple(k for k in kits if k.id not in gone))


def attach_kit(document: Document, kit_id: str, joint_id: str, *, both_sides: bool = True) -> Document:
    """Hang a kit on another joint; its pegs stay where they are."""
    character = document.require_character()
    skeleton = character.skeleton or recipe_of(character)
    kits = kits_in(pegs_of(character))
    ids = both_kits(kit_id, both_sides)
    changed = []
    for kit in kits:
        if kit.id in ids:
            target = joint_id
            if kit.id != kit_id:
                target = skeleton.other_side(joint_id) or joint_id
            if target not in skeleton.index:
                raise EditError(f"there is no joint {target} to hang {kit.id} on")
            if target in kit.joints or _hangs_on(skeleton, target, kit.joints[0]):
                raise EditError(f"{kit.id} cannot hang on a joint of its own branch")
            kit = replace(kit, attach=target)
        changed.append(kit)
    return with_kits(document, character, tuple(changed))


def mirror_kit(document: Document, kit_id: str) -> Document:
    """Make a one-sided kit's partner on the other side, or bring the partner to its mirrored place."""
    character = document.require_character()
    pegs, middle = pegs_of(character), middle_of(character)
    kits = kits_in(pegs)
    kit = next((k for k in kits if k.id == kit_id), None)
    other = other_kit_id(kit_id)
    if kit is None or other is None:
        raise EditError(f"{kit_id} has no side; only a left or a right kit can be mirrored")
    skeleton = character.skeleton or recipe_of(character)

    def swapped(text: str) -> str:
        flip = {"l": "r", "r": "l"}
        if text[:2] in ("l_", "r_"):
            return flip[text[0]] + text[1:]
        return ".".join(flip.get(p, p) for p in text.split("."))

    attach = skeleton.other_side(kit.attach) if kit.attach in skeleton.index else None
    partner = replace(
        kit, id=other, side=kit.side.other, attach=attach or kit.attach, pegs=tuple(swapped(p) for p in kit.pegs),
        joints=tuple(swapped(j) for j in kit.joints), names=tuple(swapped(n) for n in kit.names),
        ik=tuple(swapped(j) for j in kit.ik),
    )  # fmt: skip
    places = {}
    for mine, theirs in zip(kit.pegs, partner.pegs, strict=True):
        x, y, z = pegs.position(mine)
        places[theirs] = Peg(theirs, (2 * middle - x, y, z), pegs.by_name[mine].confidence, True)
    kept = tuple(k for k in kits if k.id != other)
    return with_kits(document, character, (*kept, partner), places=places, force=True)


def set_leg_pairs(document: Document, pairs: int) -> Document:
    """Another number of leg pairs for a many-legged body; pairs that stay keep their pegs."""
    character = document.require_character()
    pegs = pegs_of(character)
    plan = pattern(pegs.pattern) if pegs.pattern else None
    leg_plan = next((p for p in plan.plans if p.get("kit") == "pairs"), None) if plan else None
    if leg_plan is None:
        raise EditError("only a many-legged body has pairs of legs")
    old = [k for k in kits_in(pegs) if not (k.id.startswith("leg") and k.id[3:4].isdigit())]
    return with_kits(document, character, (*old, *pairs_of(leg_plan, pairs)))


def both_kits(kit_id: str, both_sides: bool) -> set[str]:
    """The kit and, where both sides are meant, its partner."""
    other = other_kit_id(kit_id) if both_sides else None
    return {kit_id, other} if other else {kit_id}


def _hangs_on(skeleton: Skeleton, joint_id: str, ancestor: str) -> bool:
    here: str | None = joint_id
    while here is not None:
        if here == ancestor:
            return True
        here = skeleton.joint(here).parent
    return False


def pegs_of(character: Character) -> PegSet:
    if character.pegs is None:
        raise EditError("there are no pegs yet; find pegs or lay out a pattern first")
    return character.pegs


def with_pegs(
    document: Document, character: Character, pegs: PegSet, *, takes: frozenset[str] = frozenset(),
    chains: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = (),
) -> Document:  # fmt: skip
    changed = replace(character, pegs=pegs)
    if changed.skeleton is not None:
        changed = rebuilt(changed, takes=takes, chains=chains, again=_moved_joints(character, pegs))
    return document.with_character(changed)


def _moved_joints(character: Character, pegs: PegSet) -> frozenset[str]:
    """Joints of kits that were hung on the body beside its pattern's and whose pegs have moved."""
    old = character.pegs
    if old is None or character.skin is None:
        return frozenset()
    added = kits_in(old) if not old.pattern else added_kits(old)
    moved = {p.name for p in pegs.pegs if p.name in old.by_name and p.position != old.by_name[p.name].position}
    return frozenset(j for kit in added if moved & set(kit.pegs) for j in kit.joints)


def with_kits(
    document: Document, character: Character, kits: tuple[Kit, ...], *, fingers: int | None = None,
    places: Mapping[str, Peg] | None = None, base_pegs: PegSet | None = None, force: bool = False,
    chains: tuple[tuple[tuple[str, ...], tuple[str, ...]], ...] = (),
) -> Document:  # fmt: skip
    """Other kits: pegs that stay keep their places, pegs no longer used are kept aside, new ones take a usual place."""
    pegs = base_pegs or pegs_of(character)
    given = places or {}
    known = {**pegs.spare, **pegs.by_name}
    plan = pattern(pegs.pattern) if pegs.pattern else None
    order = peg_order(kits)
    new: list[Peg] = []
    for name in order:
        if name in given and (force or name not in pegs.by_name):
            new.append(given[name])
        elif name in known:
            new.append(known[name])
        else:
            new.append(Peg(name, _fresh_place(character, pegs, plan, kits, name), 0.25))
    spare = {n: p for n, p in known.items() if n not in order}
    old_joints = {j for k in kits_in(pegs) for j in k.joints}
    takes = frozenset(j for k in kits for j in k.joints if j not in old_joints)
    result = replace(
        pegs, pegs=tuple(new), kits=kits, spare=MappingProxyType(spare),
        fingers=pegs.fingers if fingers is None else fingers,
    )  # fmt: skip
    return with_pegs(document, character, result, takes=takes, chains=chains)


def _fresh_place(character: Character, pegs: PegSet, plan: Pattern | None, kits: tuple[Kit, ...], name: str) -> Vector:
    """Where a peg that was never placed begins: beside its neighbours of the same hand, else its usual place."""
    if plan is None:
        return (middle_of(character), 0.5 * character.height, 0.0)
    s = name[:2]
    known = {**pegs.spare, **pegs.by_name}
    if s in ("l_", "r_") and s + "palm" in known and name.endswith(("_base", "_tip")):
        wrist, palm = np.array(known[s + "wrist"].position), np.array(known[s + "palm"].position)
        row = ("index", "mitten", "middle", "ring", "little")
        finger = name[2:].rsplit("_", 1)[0]
        across = 0.3 - 0.2 * row.index(finger) if finger in row else 0.5
        ahead = palm - wrist
        far = 0.85 if name.endswith("_tip") else 0.0
        start = palm if finger in row else wrist + 0.35 * ahead
        x, y, z = start + ahead * far + np.array([0, 0, across]) * np.linalg.norm(ahead)
        return (float(x), float(y), float(z))
    return usual_place(plan, kits, name, character.height)


def joint_for_peg(character: Character, peg: str) -> Joint | None:
    """The joint that stands at a peg, if one does."""
    if character.pegs is None or character.skeleton is None:
        return None
    for kit in kits_in(character.pegs):
        if peg in kit.pegs:
            at = kit.pegs.index(peg)
            for joint, place in zip(kit.joints, kit.at, strict=True):
                if abs(place - at) < 1e-9 and joint in character.skeleton.index:
                    return character.skeleton.joint(joint)
    return None
