"""Joints one by one: put in, split, extend, delete, duplicate, mirror, draw, rename."""

from __future__ import annotations

from functools import partial
from typing import Any

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import JOINT_PICKED, WITH_CHARACTER, WITH_JOINTS
from pegloom.app.areas.joints.actions.changing import change, lead_name
from pegloom.app.areas.joints.settings import ChangeSettings, RenameSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State, Tool
from pegloom.core.skeleton.body_words import NOTHING, choices, limbs
from pegloom.core.skeleton.uses import Use
from pegloom.document import edits
from pegloom.document.model import Document


def _pick(c: Context, result: str) -> None:
    c.store.select("joint", result)


def insert(c: Context) -> None:
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    name = f"Insert a joint above {lead_name(c)}"
    change(c, name, lambda d: edits.insert_joint(d, lead, both_sides=both), partial(_pick, c))


def split(c: Context) -> None:
    """Even pieces of the bone above the picked joint."""
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    pieces = c.state.settings.of(ChangeSettings).pieces
    name = f"Split the bone above {lead_name(c)} in {pieces}"
    change(c, name, lambda d: edits.split_bone(d, lead, pieces, both_sides=both))


def extend(c: Context) -> None:
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    change(c, f"Extend {lead_name(c)}", lambda d: edits.extend_joint(d, lead, both_sides=both), partial(_pick, c))


def delete(c: Context, *, branch: bool = False) -> None:
    ids, both = c.state.selection.ids, c.state.hand.both_sides
    names = lead_name(c) + (f" and {len(ids) - 1} more" if len(ids) > 1 else "")

    def edit(document: Document) -> Document:
        for joint in ids:
            if joint in document.require_character().require_skeleton().index:
                document = edits.delete_joint(document, joint, keep_children=not branch, both_sides=both)
        return document

    def then(_: object) -> None:
        c.store.select("")
        c.say("Deleted; what it held went to its parent")

    change(c, f"Delete {names}" + (" with all below" if branch else ""), edit, then)


def duplicate(c: Context) -> None:
    lead, step = c.state.selection.lead, 0.03 * c.character.height
    name = f"Duplicate {lead_name(c)}"
    change(c, name, lambda d: edits.duplicate_joints(d, lead, offset=(0.0, 0.0, step)), partial(_pick, c))


def mirror(c: Context) -> None:
    lead = c.state.selection.lead
    change(c, f"Mirror {lead_name(c)}", lambda d: edits.mirror_joints(d, lead), partial(_pick, c))


def connect_or_float(c: Context) -> None:
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    floating = not c.skeleton.joint(lead).floating
    word = "Let float" if floating else "Connect"
    c.try_edit(f"{word} {lead_name(c)}", lambda d: edits.float_joint(d, lead, floating, both_sides=both))


def say_use(c: Context, use: Use | None) -> None:
    """What the picked joint is for, said; None for what its place and name tell."""
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    told = "as its place and name tell" if use is None else WHAT_FOR[use]
    c.try_edit(f"{lead_name(c)}: {told}", lambda d: edits.set_use(d, lead, use, both_sides=both))


def _say(use: Use | None, c: Context) -> None:
    say_use(c, use)


def say_part(c: Context, role: str | None) -> None:
    """What in the body the picked joint is, said; None for what was found."""
    lead, both = c.state.selection.lead, c.state.hand.both_sides
    told = "as it was found" if role is None else "no part of a limb" if role == NOTHING else choices()[role]
    c.try_edit(f"{lead_name(c)}: {told}", lambda d: edits.say_part(d, lead, role, both_sides=both))


def say_chain(c: Context, joints: tuple[str, ...], limb: str | None) -> None:
    """Which limb a chain is, said; None for what was found."""
    both = c.state.hand.both_sides
    told = "as it was found" if limb is None else "no part of these" if limb == NOTHING else f"the {limbs()[limb]}"
    c.try_edit(f"A chain of {len(joints)} joints: {told}", lambda d: edits.say_chain(d, joints, limb, both_sides=both))


def _say_part(role: str | None, c: Context) -> None:
    say_part(c, role)


WHAT_FOR = {Use.BONE: "a bone", Use.HELPER: "a helper", Use.END: "an end"}


def draw(c: Context) -> None:
    c.go("joints")
    c.store.put(tool=Tool.DRAW)


def rename_wanted(state: State) -> dict[str, Any]:
    """What the Names card asks for, as the edits take it."""
    chosen = state.settings.of(RenameSettings)
    return {"find": chosen.find, "put": chosen.put, "prefix": chosen.prefix, "style": chosen.style}


def rename_which(state: State) -> tuple[str, ...] | None:
    """The picked joints; None for all of them."""
    return state.selection.ids if state.selection.kind == "joint" else None


def rename(c: Context) -> None:
    """Rename joints as the Names card says: the picked ones, else all."""
    which, wanted = rename_which(c.state), rename_wanted(c.state)
    c.try_edit("Rename joints", lambda d: edits.rename_joints(d, which, **wanted))


# Moves by hand whose pegs have moved since


def _parted(c: Context) -> tuple[str, ...]:
    """Those picked, or all when none of them is."""
    parted = tuple(edits.parted_moves(c.character))
    return tuple(j for j in c.state.selection.ids if j in parted) or parted


def to_pegs(c: Context) -> None:
    chosen = _parted(c)
    c.try_edit("Joints back to their pegs", lambda d: edits.forget_moves(d, chosen))


def keep_moves(c: Context) -> None:
    chosen = _parted(c)
    c.try_edit(
        "Keep moves by hand", lambda d: edits.keep_moves(d, chosen), lambda _: c.say("The moves by hand stay as they are")
    )


PARTED = Need(
    "parted moves", "No joint moved by hand has had its pegs moved since",
    lambda s: s.character is not None and bool(edits.parted_moves(s.character)),
)  # fmt: skip
PICKED = (*WITH_JOINTS, JOINT_PICKED)

ACTIONS = (
    Action("joints.insert", "Insert a joint", "Joints", "Half way in the bone above the picked joint", insert, needs=PICKED),
    Action("joints.split", "Split the bone", "Joints", "Even pieces of the bone above the picked joint", split, needs=PICKED),
    Action("joints.extend", "Extend", "Joints", "A joint at the end of the picked one's bone", extend, needs=PICKED),
    Action("joints.delete", "Delete joints", "Joints", "Children and weights go to its parent", delete, key="Del", needs=PICKED),
    Action("joints.delete_branch", "Delete with all below", "Joints", "The whole branch", partial(delete, branch=True), key="Ctrl+Del", needs=PICKED),
    Action("joints.duplicate", "Duplicate the branch", "Joints", "A copy beside it", duplicate, key="Ctrl+D", needs=PICKED),
    Action("joints.mirror", "Mirror the branch", "Joints", "A copy on the other side", mirror, needs=PICKED),
    Action("joints.as_bone", "The joint is a bone", "Joints", "Skin may follow it", partial(_say, Use.BONE), needs=PICKED),
    Action("joints.as_helper", "The joint is a helper", "Joints", "It steers or marks; no skin follows it", partial(_say, Use.HELPER), needs=PICKED),
    Action("joints.as_end", "The joint is an end", "Joints", "It says where its parent's bone ends", partial(_say, Use.END), needs=PICKED),
    Action("joints.no_part", "The joint is no part of a limb", "Joints", "It is passed by where limbs are looked for", partial(_say_part, NOTHING), needs=PICKED),
    Action("joints.part_as_found", "The joint's part as found", "Joints", "What was recognised counts again", partial(_say_part, None), needs=PICKED),
    Action("joints.as_told", "The joint is what its name tells", "Joints", "What its place and name tell counts again", partial(_say, None), needs=PICKED),
    Action("joints.float", "Connect or float", "Joints", "With or without a cord to its parent", connect_or_float, needs=PICKED),
    Action("joints.draw", "Draw joints", "Tools", "Click to lay a chain; Esc ends it", draw, key="J", needs=WITH_CHARACTER, on=lambda s: s.tooling.tool == Tool.DRAW),
    Action("joints.rename", "Rename joints", "Joints", "As the Names card says: the picked ones, else all", rename, needs=WITH_JOINTS),
    Action("joints.to_pegs", "Back to the pegs", "Joints", "Forget moves by hand whose pegs have moved since: of the picked joints, else of all", to_pegs, needs=(PARTED,)),
    Action("joints.keep_moves", "Keep moves by hand", "Joints", "They are still meant although the pegs have moved", keep_moves, needs=(PARTED,)),
)  # fmt: skip
