"""Walking by key from what is picked: parent, child, next sibling, other side; and to the next influence while painting."""

from __future__ import annotations

from collections.abc import Callable

from pegloom.app.actions.action import Action, Need
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.core.skeleton.joints import other_side_name

Tree = dict[str, str | None]


def _tree(state: State) -> Tree:
    """What hangs on what, of the kind that is picked: id -> the parent's, in order."""
    one, kind = state.character, state.selection.kind
    if one is None:
        return {}
    if kind == "control" and one.rig is not None:
        return {c.id: one.rig.handle_above(c.id) for c in one.rig.handles}
    if kind == "joint" and one.skeleton is not None:
        return {joint.id: joint.parent for joint in one.skeleton.joints}
    return {}


def parent(state: State, here: str) -> str | None:
    return _tree(state).get(here)


def child(state: State, here: str) -> str | None:
    return next((thing for thing, above in _tree(state).items() if above == here), None)


def sibling(state: State, here: str) -> str | None:
    """The next one that hangs on the same, the first again after the last."""
    tree = _tree(state)
    row = [thing for thing, above in tree.items() if above == tree[here]]
    return row[(row.index(here) + 1) % len(row)] if len(row) > 1 else None


def other_side(state: State, here: str) -> str | None:
    one = state.character
    if one is None:
        return None
    if state.selection.kind == "joint" and one.skeleton is not None:
        found = one.skeleton.other_side(here)
        return found if found != here else None
    if state.selection.kind == "control" and one.rig is not None:
        name = other_side_name(one.rig.control(here).name)
        return next((c.id for c in one.rig.controls if c.name == name), None)
    if state.selection.kind == "peg" and one.pegs is not None:
        name = other_side_name(here)
        return name if name in one.pegs.by_name else None
    return None


def _walk(way: Callable[[State, str], str | None], none: str) -> Callable[[Context], None]:
    def run(c: Context) -> None:
        kind, lead = c.state.selection.kind, c.state.selection.lead
        found = way(c.state, lead)
        if found is None:
            c.say(none)
            return
        if c.state.weighing and kind == "joint":
            c.store.put(influence=found)
        c.store.select(kind, found)

    return run


def next_influence(c: Context) -> None:
    """The next joint that moves the skin is shown and painted, the first again after the last."""
    one = c.character
    skin = one.skin
    held = {j for w in skin.weights.values() for j in w.joint_ids} if skin is not None else set()
    row = [j.id for j in c.skeleton.joints if j.id in held]
    here = c.state.viewing.influence
    if row:
        found = row[(row.index(here) + 1) % len(row)] if here in row else row[0]
        c.store.put(influence=found)
        c.store.select("joint", found)


PICKED = Need(
    "one picked", "Pick a joint or a control first", lambda s: s.selection.kind in ("joint", "control") and bool(_tree(s))
)
SIDED = Need("one with a side picked", "Pick a joint, a control or a peg first", lambda s: s.selection.kind in ("joint", "control", "peg"))
BOUND = Need("a skin", "Bind the skin first", lambda s: s.character is not None and s.character.skin is not None)
ACTIONS = (
    Action("walk.parent", "Go to the parent", "Tools", "Pick the parent of the picked one", _walk(parent, "It has no parent"), key="Alt+Up", needs=(PICKED,)),
    Action("walk.child", "Go to the first child", "Tools", "Pick the first child of the picked one", _walk(child, "It has no child"), key="Alt+Down", needs=(PICKED,)),
    Action("walk.sibling", "Go to the next sibling", "Tools", "Pick the next one on the same parent", _walk(sibling, "It has no sibling"), key="Alt+PgDown", needs=(PICKED,)),
    Action("walk.other", "Go to the other side", "Tools", "Pick its partner across the middle", _walk(other_side, "It has no other side"), key="Alt+U", needs=(SIDED,)),
    Action("walk.influence", "Next influence", "Tools", "Show and paint the next joint that moves the skin", next_influence, key="Alt+I", needs=(BOUND,)),
)  # fmt: skip
