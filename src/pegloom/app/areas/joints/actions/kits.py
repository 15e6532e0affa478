"""Limb kits: added, hung elsewhere, mirrored, given other numbers of joints."""

from __future__ import annotations

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import JOINT_PICKED, WITH_JOINTS, WITH_PEGS
from pegloom.app.areas.joints.actions.changing import change, lead_name
from pegloom.app.areas.joints.settings import KitSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.core.said import counted
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.patterns import kit_library
from pegloom.document import edits


def kit_of(state: State) -> str:
    """The kit the card is about: the one chosen, else the first; "" where there are none."""
    character = state.character
    ids = [k.id for k in kits_in(character.pegs) if k.kind != "root" and k.joints] if character and character.pegs else []
    chosen = state.settings.of(KitSettings).kit
    return chosen if chosen in ids else next(iter(ids), "")


def kind_of(state: State) -> str:
    """The kind of kit that is added: the one chosen, else the first of the library."""
    chosen = state.settings.of(KitSettings).kind
    return chosen if chosen in kit_library() else next(iter(kit_library()))


def add_kit(c: Context) -> None:
    kind, joint, both = kind_of(c.state), c.state.selection.lead, c.state.hand.both_sides

    def then(result: str) -> None:
        pegs = next(k.pegs for k in c.character.require_pegs().kits if k.id == result)
        c.store.select("peg", pegs[-1])
        c.say(f"{title} added: drag its pegs into place")

    title = str(kit_library()[kind]["title"])
    change(c, f"Add {title.lower()} on {lead_name(c)}", lambda d: edits.add_kit(d, kind, joint, both_sides=both), then)


def remove_kit(c: Context) -> None:
    kit, both = kit_of(c.state), c.state.hand.both_sides
    change(c, f"Remove the kit {kit}", lambda d: edits.remove_kit(d, kit, both_sides=both))


def mirror_kit(c: Context) -> None:
    kit = kit_of(c.state)
    change(c, f"Mirror the kit {kit}", lambda d: edits.mirror_kit(d, kit))


def attach_kit(c: Context) -> None:
    kit, joint = kit_of(c.state), c.state.selection.lead
    change(c, f"Parent {kit} to {lead_name(c)}", lambda d: edits.attach_kit(d, kit, joint))


def set_count(c: Context, count: int) -> None:
    """Another number of joints in the kit the card is about."""
    kit, both = kit_of(c.state), c.state.hand.both_sides
    if kit:
        change(c, f"{counted(count, 'joint')} in {kit}", lambda d: edits.set_joint_count(d, kit, count, both_sides=both))


def set_twist(c: Context, count: int) -> None:
    """Another number of twist joints along each of its bones."""
    kit, both = kit_of(c.state), c.state.hand.both_sides
    if kit:
        change(c, f"{counted(count, 'twist joint')} a bone in {kit}", lambda d: edits.set_twist(d, kit, count, both_sides=both))


def set_roll(c: Context, radians: float) -> None:
    """Another roll of its joints about their bones."""
    kit, both = kit_of(c.state), c.state.hand.both_sides
    if kit:
        change(c, f"Roll {kit} {np.degrees(radians):.0f}°", lambda d: edits.set_roll(d, kit, radians, both_sides=both))


def set_bent(c: Context, bends: bool) -> None:
    """A peg at the finger's second knuckle, or none."""
    kit, both = kit_of(c.state), c.state.hand.both_sides
    if kit:
        what = f"A peg at the second knuckle of {kit}" if bends else f"No peg at the second knuckle of {kit}"
        change(c, what, lambda d: edits.set_bent(d, kit, bends, both_sides=both))


KIT = Need("kit", "There is no limb kit yet: find pegs, or add a kit on a joint", lambda s: bool(kit_of(s)), "joints.find_pegs")
ACTIONS = (
    Action("joints.add_kit", "Add a limb kit", "Joints", "Add a limb kit to the picked joint", add_kit, needs=(*WITH_JOINTS, JOINT_PICKED)),
    Action("joints.remove_kit", "Remove the kit", "Joints", "What it held goes to its parent", remove_kit, needs=(*WITH_PEGS, KIT)),
    Action("joints.mirror_kit", "Mirror the kit", "Joints", "Its partner on the other side", mirror_kit, needs=(*WITH_PEGS, KIT)),
    Action("joints.attach_kit", "Parent the kit to the picked joint", "Joints", "Its pegs stay where they are", attach_kit, needs=(*WITH_JOINTS, KIT, JOINT_PICKED)),
)  # fmt: skip
