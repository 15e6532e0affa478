"""Influences: which joints move what, taken off or given to another."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import ACTIVE_JOINT, WITH_SKIN
from pegloom.app.areas.weights.actions.common import change, joint_name, parts, picked
from pegloom.app.areas.weights.settings import InfluenceSettings
from pegloom.app.context import Context
from pegloom.app.state.state import BrushSettings, State, Tool
from pegloom.document import edits
from pegloom.document.model import Document


def drop(c: Context) -> None:
    """The active joint off the picked vertices, else off every part."""
    joint, chosen, some = c.state.viewing.influence, picked(c), parts(c)
    edits.require_free(c.state.document, (joint,), c.state.tooling.locked)
    weights = c.character.require_skin().weights
    holding = [p for p in some if weights[p.id].column(joint).any()] or some[:1]

    def edit(document: Document) -> Document:
        for part in holding:
            document = edits.drop_influence(document, part.id, joint, chosen.get(part.id))
        return document

    where = "the selected vertices" if chosen else "every part"
    change(c, f"Remove {joint_name(c, joint)} from {where}", edit)


def replace(c: Context) -> None:
    """What the active joint holds goes to the one chosen in the card."""
    old, new = c.state.viewing.influence, heir_of(c.state)
    edits.require_free(c.state.document, (old, new), c.state.tooling.locked)
    chosen, some = picked(c), parts(c)
    weights = c.character.require_skin().weights
    holding = [p for p in some if old in weights[p.id].joint_ids] or some[:1]

    def edit(document: Document) -> Document:
        for part in holding:
            document = edits.replace_influence(document, part.id, old, new, chosen.get(part.id))
        return document

    change(c, f"Hand {joint_name(c, old)} over to {joint_name(c, new)}", edit)


def drop_irrelevant(c: Context) -> None:
    some, skeleton = parts(c), c.skeleton

    def edit(document: Document) -> tuple[Document, list[str]]:
        gone: list[str] = []
        for part in some:
            document, dropped = edits.drop_irrelevant(document, part.id)
            gone.extend(skeleton.joint(j).name for j in dropped)
        return document, gone

    change(
        c, "Remove unused influences", edit,
        lambda gone: c.say(f"Dropped {', '.join(dict.fromkeys(gone))}" if gone else "Every joint matters somewhere here"),
    )  # fmt: skip


def under_pointer(c: Context) -> None:
    """The joint that moves the vertex under the pointer most becomes the active one."""
    joint = c.view.influence_at_pointer()
    if joint:
        c.store.select("joint", joint)


def heir_of(state: State) -> str:
    """Id of the joint that takes weight over: the one chosen, else the first; "" where there are no joints."""
    skeleton = state.character.skeleton if state.character is not None else None
    heir = state.settings.of(InfluenceSettings).heir
    if skeleton is None:
        return ""
    return heir if heir in skeleton.index else next(iter(skeleton.index), "")


HEIR = Need("heir", "Choose who takes it, in the list beside Move weight", lambda s: bool(heir_of(s)))
WITH_ACTIVE = (*WITH_SKIN, ACTIVE_JOINT)


def brush(c: Context) -> None:
    c.go("weights")
    c.store.put(tool=Tool.BRUSH)


def brush_size(factor: float, c: Context) -> None:
    radius = min(max(c.state.brush.radius * factor, 0.003), 0.5)
    c.store.put_setting(BrushSettings, radius=radius)



def lock(c: Context) -> None:
    """The active joint keeps what it holds, or no longer does."""
    joint, locked = c.state.viewing.influence, c.state.tooling.locked
    c.store.put(locked=locked - {joint} if joint in locked else locked | {joint})
    c.say(f"{joint_name(c, joint)} {'is free again' if joint in locked else 'is locked: it keeps what it holds'}")


ACTIONS = (
    Action("influence.lock", "Lock the active joint", "Weights", "It keeps what it holds in every edit; again: free", lock, needs=WITH_ACTIVE, on=lambda s: s.viewing.influence in s.tooling.locked),
    Action("tool.bigger", "Bigger brush", "Tools", "Brush size up", partial(brush_size, 1.15), key="+"),
    Action("tool.smaller", "Smaller brush", "Tools", "Brush size down", partial(brush_size, 1 / 1.15), key="-"),
    Action("tool.brush", "Brush", "Tools", "Paint weights", brush, key="B", needs=WITH_SKIN, on=lambda s: s.tooling.tool == Tool.BRUSH),
    Action("tool.influence", "Pick the influence under the pointer", "Tools", "Take the joint that moves it most", under_pointer, key="I", needs=WITH_SKIN),
    Action("influence.drop", "Remove the influence", "Weights", "Off the selected vertices, else off every part", drop, needs=WITH_ACTIVE),
    Action("influence.replace", "Move a joint's weight", "Weights", "To the joint chosen in the card", replace, needs=(*WITH_ACTIVE, HEIR)),
    Action("influence.irrelevant", "Remove unused influences", "Weights", "Joints that nowhere hold more than 0.05", drop_irrelevant, needs=WITH_SKIN),
)  # fmt: skip
