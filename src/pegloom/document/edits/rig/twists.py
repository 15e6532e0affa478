"""Twist of a bone spread over joints along it, by hand: for skeletons whose twist joints nobody knows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pegloom.core.errors import EditError
from pegloom.core.rig.recipe.twist import spread_along
from pegloom.document.edits.rig.changing import joint_id, rigged, with_changes
from pegloom.document.model import Document


def spread_twist(document: Document, bone: str, joints: Sequence[str], *, turns_itself: bool = False, name: str = "") -> tuple[Document, str]:
    """Spread the twist of a joint's bone over joints along it; nothing moves. Gives the spread's id.

    turns_itself : what twists is the joint itself in what it hangs on (an upper arm, a thigh); else what lies at the bone's end
        (a hand, a head).
    Raises EditError for joints that do not hang on it, or that a control or a solver turns.
    """
    character, skeleton, rig = rigged(document)
    base, some = joint_id(skeleton, bone), [joint_id(skeleton, j) for j in joints]
    wrong = [j for j in some if skeleton.joint(j).parent != base]
    if wrong or not some:
        said = f"{skeleton.joint(wrong[0]).name} does not hang on" if wrong else "name the joints along"
        raise EditError(f"{said} {skeleton.joint(base).name}")
    turned = {d.joint for d in rig.drives} | {j for s in rig.solvers for j in s.joints}
    held = [j for j in some if j in turned]
    if held:
        raise EditError(f"{skeleton.joint(held[0]).name} is turned by a control; drop that control first")
    along = sorted((skeleton.joint(j) for j in some), key=lambda j: sum((a - b) ** 2 for a, b in zip(j.position, skeleton.joint(base).position, strict=True)))
    found = spread_along(skeleton, skeleton.joint(base), tuple(along), turns_itself=turns_itself)
    if found is None:
        raise EditError(f"{skeleton.joint(base).name} leads to no other joint: nothing there twists")
    found = replace(found, name=name.strip() or found.name)
    changes = character.rig_changes
    kept = tuple(t for t in changes.own_twists if t.id != found.id)
    return with_changes(document, own_twists=(*kept, found), dropped=changes.dropped - {found.id}), found.id


def drop_twist(document: Document, twist: str) -> Document:
    """Let twist joints ride along again; a built spread stays out when controls are built again."""
    character, _, rig = rigged(document)
    found = next((t for t in rig.twists if twist in (t.id, t.name)), None)
    if found is None:
        raise EditError(f"there is no spread twist {twist}")
    changes = character.rig_changes
    return with_changes(document, own_twists=tuple(t for t in changes.own_twists if t.id != found.id), dropped=changes.dropped | {found.id})
