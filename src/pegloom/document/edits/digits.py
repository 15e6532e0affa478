"""Fingers and toes of a body: how many, and whether a finger is bent as it stands."""

from __future__ import annotations

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.find.hand import find_fingers
from pegloom.core.skeleton.joints import Side
from pegloom.core.skeleton.kits import MIDDLE, Kit, bent, finger_names, fingers_of, resized, toe_names
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.document.edits.feet import toes_on
from pegloom.document.edits.joints import both_kits, hung_in, pegs_of, surface_of, with_kits
from pegloom.document.edits.rebuild import recipe_of
from pegloom.document.model import Character, Document


def set_fingers(document: Document, fingers: int, *, segments: int | None = None) -> Document:
    """Another number of fingers or segments; fingers that stay keep their pegs, new ones are looked for in the mesh.

    segments : of each finger; None for as many as its fingers have.
    """
    character = document.require_character()
    pegs = pegs_of(character)
    kits = kits_in(pegs)
    hands = [k for k in kits if k.kind == "finger"]
    arms = [k for k in kits if k.part == "arm" and k.ik]
    if not hands and not arms:
        raise EditError("this body has no hands to put fingers on")
    names = finger_names(fingers)
    attach = hands[0].attach.replace(".l", ".{s}", 1) if hands else arms[0].ik[2].replace(".l", ".{s}", 1)
    plan = {"id": "hand", "sides": True, "attach": attach}
    usual = max((len(k.joints) for k in hands), default=3)
    known_hands = {k.id: k for k in hands}
    new = []
    for kit in fingers_of(plan, fingers, segments or usual):
        old = known_hands.get(kit.id)
        new.append(kit if old is None else old if segments is None else resized(old, segments))
    kept = [k for k in kits if k.kind != "finger"]
    chains = tuple((old.joints, k.joints) for old in hands for k in new if old.id == k.id and old.joints != k.joints)
    known = {**pegs.spare, **pegs.by_name}
    missing = {p for k in new for p in k.pegs if p not in known}
    places = _fingers_in_mesh(character, pegs, names, missing) if missing else {}
    new = [bent(k, len(k.pegs) == 3 or k.pegs[0][:-5] + "_bend" in places) for k in new]
    return with_kits(document, character, (*kept, *new), fingers=fingers, chains=chains, places=places)


def _fingers_in_mesh(character: Character, pegs: PegSet, names: tuple[str, ...], missing: set[str]) -> dict[str, Peg]:
    """Where the mesh shows fingers that had no pegs: by peg; nothing without a surface or a hand's pegs."""
    places: dict[str, Peg] = {}
    if not any(p.mesh.face_count for p in character.included):
        return places
    points, triangles = surface_of(character)
    for s in ("l", "r"):
        if not {f"{s}_wrist", f"{s}_palm"} <= set(pegs.by_name):
            continue
        wrist, palm = (np.array(pegs.position(f"{s}_{n}")) for n in ("wrist", "palm"))
        for finger, found in find_fingers(points, triangles, wrist, palm, names=names).items():
            for end, place in found.pegs.items():
                if f"{s}_{finger}_base" in missing and (end != "bend" or found.bent):
                    x, y, z = place.tolist()
                    places[f"{s}_{finger}_{end}"] = Peg(f"{s}_{finger}_{end}", (x, y, z), found.sure)
    return places


def set_toes(document: Document, toes: int) -> Document:
    """Another number of single toes on the legs' feet; those that stay keep their pegs, new ones are looked for in the mesh.

    toes : 0 or 2 to 5. Raises EditError for a body without feet, ShapeError for a number no foot has.
    """
    names = toe_names(toes)
    character = document.require_character()
    pegs = pegs_of(character)
    kits = kits_in(pegs)
    old = {k.id: k for k in kits if k.kind == "toe"}
    feet = [k for k in kits if k.part == "leg" and k.ik and k.side is Side.LEFT]
    if not feet and not old:
        raise EditError("this body has no feet to put toes on")
    kept = tuple(k for k in kits if k.kind != "toe")
    if not names:
        return with_kits(document, character, kept)
    skeleton = character.skeleton or recipe_of(character)
    ball = next(iter(old.values())).attach if old else next((j for j in feet[0].joints if j.endswith(".toes")), feet[0].ik[2])
    own = next(iter(old)).split(".")[0] if old else "toes"
    known = {**pegs.spare, **pegs.by_name}
    placed: dict[str, Peg] = {}
    new: list[Kit] = []
    for kits_here, pegs_here in toes_on(hung_in(character), skeleton, skeleton.joint(ball), ["l", "r"], own, toes, frozenset()):
        new += [old.get(k.id, k) for k in kits_here]
        placed |= {name: peg for name, peg in pegs_here.items() if name not in known}
    return with_kits(document, character, (*kept, *new), places=placed)


def set_bent(document: Document, kit_id: str, bends: bool, *, both_sides: bool = True) -> Document:
    """Give a finger a peg at its second knuckle, for one that is bent as it stands, or take it away."""
    character = document.require_character()
    pegs = pegs_of(character)
    kits, ids = kits_in(pegs), both_kits(kit_id, both_sides)
    if not any(k.id in ids and k.kind == "finger" for k in kits):
        raise EditError(f"{kit_id} is no finger")
    new = tuple(bent(k, bends) if k.id in ids else k for k in kits)
    places = {}
    for kit in new:
        if kit.id in ids and len(kit.pegs) == 3:
            base, tip = (np.array(pegs.position(kit.pegs[k])) for k in (0, 2))
            x, y, z = (base + MIDDLE * (tip - base)).tolist()
            places[kit.pegs[1]] = Peg(kit.pegs[1], (x, y, z))
    return with_kits(document, character, new, places=places)
