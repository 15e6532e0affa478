"""Posing: to rest, copied, pasted, mirrored; poses kept by name and put on again; sets of controls."""

from __future__ import annotations

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import CONTROL_PICKED, WITH_RIG
from pegloom.app.actions.posing import pose_edit, posed_over, show_pose
from pegloom.app.areas.controls.settings import ShelfSettings
from pegloom.app.context import Context
from pegloom.app.state.state import Area, PickSettings, PosingSettings, Tool
from pegloom.core.errors import EditError
from pegloom.core.rig.posing import across, branch, toward, values_of
from pegloom.core.said import counted
from pegloom.document import edits


def picked(c: Context) -> tuple[str, ...]:
    """The picked controls."""
    return c.state.selection.ids if c.state.selection.kind == "control" else ()


def rest(c: Context) -> None:
    ids = picked(c)
    pose_edit(c, "To rest", lambda d: edits.rest_controls(d, ids), ids)


def rest_branch(c: Context) -> None:
    ids = branch(c.character.require_rig(), picked(c))
    pose_edit(c, "To rest, with all below", lambda d: edits.rest_controls(d, ids), ids)


def rest_all(c: Context) -> None:
    pose_edit(c, "All to rest", edits.rest_controls)


def copy(c: Context) -> None:
    """The values of the picked controls, or of all where none is, for pasting."""
    rig, ids = c.character.require_rig(), picked(c)
    c.store.put(pose=values_of(rig, c.frames.control_pose, ids or None))
    c.say(f"The pose of {counted(len(ids), 'control') if ids else 'all controls'} is copied")


def paste(c: Context) -> None:
    _paste(c, "Paste the pose", mirrored=False)


def paste_across(c: Context) -> None:
    _paste(c, "Paste the pose across", mirrored=True)


def _paste(c: Context, name: str, *, mirrored: bool) -> None:
    values, rig = c.state.tooling.pose, c.character.require_rig()
    if not values:
        raise EditError("Copy a pose first")
    told = across(rig, values) if mirrored else values
    there = tuple(dict.fromkeys(owner for owner, _ in told if owner in rig.index))
    if not there:
        raise EditError("nothing of the copied pose is in this rig")
    ids = picked(c)
    # Onto what is picked where some of it was copied, else onto what was.
    some = tuple(i for i in ids if i in there) or there
    pose_edit(c, name, lambda d: edits.paste_pose(d, told, control_ids=None if some == there else some), some)


def to_other_side(c: Context) -> None:
    """What the picked controls do, their partners do too."""
    rig, ids = c.character.require_rig(), picked(c)
    others = tuple(o for i in ids if (o := rig.other_side(i)) is not None and o != i)
    pose_edit(c, "Pose to the other side", lambda d: edits.pose_across(d, ids), others)


def swap_sides(c: Context) -> None:
    """Left and right trade their pose: of the picked controls, or of all where none is."""
    rig, ids = c.character.require_rig(), picked(c)
    if not ids:
        pose_edit(c, "Swap sides", edits.mirror_pose)
        return
    pairs = tuple(dict.fromkeys(o for i in ids for o in (i, rig.other_side(i) or i)))
    pose_edit(c, "Swap sides of the picked", lambda d: edits.mirror_pose(d, ids), pairs)


# Kept poses


def keep_pose(c: Context, name: str = "") -> None:
    """The pose in the view, of the picked controls alone where the card says so, kept by name with a picture."""
    taken = {p.name for p in c.character.poses}
    wanted = name or c.ask.name("Keep the pose", next(f"pose {k}" for k in range(1, 9999) if f"pose {k}" not in taken))
    if not wanted:
        return
    ids = picked(c) if c.state.settings.of(ShelfSettings).picked_only else ()
    picture, pose, stored = c.view.small_picture(), c.frames.control_pose, edits.posed(c.character)
    c.try_edit(
        f"Keep {wanted}",
        lambda d: edits.set_pose(edits.keep_pose(edits.set_pose(d, pose), wanted, ids, picture=picture)[0], stored),
        lambda _: c.say(f"{wanted} is kept, {counted(len(ids), 'control')}" if ids else f"{wanted} is kept, with its picture"),
    )


def _onto(c: Context) -> tuple[str, ...]:
    return picked(c) if c.state.settings.of(ShelfSettings).picked_only else ()


def put_pose(c: Context, pose: str, amount: float) -> None:
    """A kept pose onto the pose in the view, by an amount."""
    one = next(p for p in c.character.poses if p.id == pose)
    ids = _onto(c)
    touched = tuple(dict.fromkeys(owner for owner, _ in one.values if not ids or owner in ids))
    pose_edit(c, f"{one.name} by {amount:.0%}", lambda d: edits.apply_pose(d, pose, amount, ids), touched)


def try_pose(c: Context, pose: str, amount: float) -> None:
    """The same, shown only."""
    one, rig = next(p for p in c.character.poses if p.id == pose), c.character.require_rig()
    ids = _onto(c)
    # Always from the pose as it is kept: each try would else begin where the last one ended.
    base = c.frames.control_pose if posed_over(c) is not None else edits.posed(c.store.history.present.require_character())
    touched = tuple(dict.fromkeys(owner for owner, _ in one.values if not ids or owner in ids))
    show_pose(c, toward(rig, base, one.values, amount, ids or None), touched)


def rename_pose(c: Context, pose: str) -> None:
    one = next(p for p in c.character.poses if p.id == pose)
    name = c.ask.name("Rename the pose", one.name)
    if name:
        c.try_edit(f"Rename {one.name}", lambda d: edits.rename_pose(d, pose, name))


def drop_pose(c: Context, pose: str) -> None:
    one = next(p for p in c.character.poses if p.id == pose)
    c.try_edit(f"Forget {one.name}", lambda d: edits.drop_pose(d, pose))


# Sets


def keep_set(c: Context, name: str = "") -> None:
    """The picked controls as a set."""
    ids = picked(c)
    wanted = name or c.ask.name("Keep the picked controls as a set", f"set {len(c.character.control_sets) + 1}")
    if wanted:
        c.try_edit(f"Keep the set {wanted}", lambda d: edits.keep_set(d, wanted, ids))


def pick_set(c: Context, name: str, *, add: bool) -> None:
    """Pick what is in a set and still there."""
    rig = c.character.require_rig()
    ids = [i for i in c.character.control_sets.get(name, ()) if i in rig.index]
    if not ids:
        c.say(f"Nothing of {name} is in this rig any more", error=True)
        return
    c.store.select("control", *ids, add=add)


def drop_set(c: Context, name: str) -> None:
    c.try_edit(f"Forget the set {name}", lambda d: edits.drop_set(d, name))


def pick_card(c: Context) -> None:
    """Show the pick card, or put it away. It goes with posing: where controls cannot be posed, Controls is entered."""
    chosen = c.state.settings.of(PickSettings)
    if not chosen.open and all(p.id != "pick" for p in c.area.panes):
        c.go(Area.CONTROLS)
    c.store.put_setting(PickSettings, open=not chosen.open)


def by_skin(c: Context) -> None:
    """Take hold of the mesh itself, or of controls again."""
    if c.character.skin is None:
        raise EditError("Posing by the skin needs a bound mesh: bind it in Weights first")
    c.store.put(tool=Tool.PICK if c.state.tooling.tool == Tool.SKIN else Tool.SKIN)


def let_pins_go(c: Context) -> None:
    c.store.put(pins=frozenset())


def toggle_snapping(c: Context) -> None:
    c.store.put_setting(PosingSettings, snapping=not c.state.settings.of(PosingSettings).snapping)


COPIED = Need("a copied pose", "Copy a pose first", lambda s: bool(s.tooling.pose))
PINNED = Need("a pin", "Nothing is pinned", lambda s: bool(s.tooling.pins))
POSING = (
    Action("pose.rest", "To rest", "Controls", "Selected controls to zero", rest, key="Backspace", needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("pose.rest_branch", "To rest, with all below", "Controls", "The picked controls and all that hang on them", rest_branch, key="Ctrl+Backspace", needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("pose.rest_all", "All to rest", "Controls", "All controls to zero", rest_all, key="Shift+Backspace", needs=WITH_RIG),
    Action("pose.copy", "Copy the pose", "Controls", "Of the picked controls, or of all", copy, key="Ctrl+Shift+C", needs=WITH_RIG),
    Action("pose.paste", "Paste the pose", "Controls", "Onto the same controls", paste, key="Ctrl+Shift+V", needs=(*WITH_RIG, COPIED)),
    Action("pose.paste_across", "Paste the pose across", "Controls", "Onto the other side, seen in a mirror", paste_across, key="Ctrl+Shift+B", needs=(*WITH_RIG, COPIED)),
    Action("pose.across", "Pose to the other side", "Controls", "The partners of the picked controls do what these do", to_other_side, needs=(*WITH_RIG, CONTROL_PICKED)),
    Action("pose.mirror", "Swap sides", "Controls", "Left and right trade their pose: of the picked controls, or of all", swap_sides, needs=WITH_RIG),
    Action("pose.keep", "Keep the pose", "Controls", "By name, with a picture", keep_pose, needs=WITH_RIG),
    Action("tool.skin", "Pose by the skin", "Tools", "Drag the mesh: the body follows; a click pins a hand or foot", by_skin, key="Shift+V", needs=WITH_RIG, on=lambda s: s.tooling.tool == Tool.SKIN),
    Action("pose.unpin", "Let all pins go", "Controls", "Of posing by the skin", let_pins_go, needs=(*WITH_RIG, PINNED)),
    Action("pick.card", "Pick card", "View", "The figure's picture with a button for each control", pick_card, key="K", needs=WITH_RIG, on=lambda s: s.settings.of(PickSettings).open),
    Action("pose.snapping", "Snap while dragging", "Controls", "Without Ctrl; with Ctrl not", toggle_snapping, on=lambda s: s.settings.of(PosingSettings).snapping),
    Action("sets.keep", "Keep as a set", "Controls", "The picked controls, to be picked together", keep_set, needs=(*WITH_RIG, CONTROL_PICKED)),
)  # fmt: skip
