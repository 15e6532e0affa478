"""The Weights area."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt

from pegloom.app.areas.weights import marks, numbers, pulling
from pegloom.app.areas.weights.actions import ACTIONS
from pegloom.app.areas.weights.actions.bind import choose_stray
from pegloom.app.areas.weights.cards import CARDS
from pegloom.app.areas.weights.judged import judged_pane
from pegloom.app.areas.weights.settings import ALL
from pegloom.app.areas.weights.tools import TOOLS
from pegloom.app.context import Context
from pegloom.app.panels.graph import quality_lane
from pegloom.app.spec import AreaSpec, Fix, Pane, Place, Step
from pegloom.app.state.state import Area, BrushSettings, State, Tool
from pegloom.core.skeleton.body import body_of
from pegloom.document.model import Character
from pegloom.scene.brushes import BrushMode, Painting
from pegloom.scene.lenses import Lens

SMALLEST, LARGEST = 0.003, 0.5
"""Radii of the brush, as shares of the height."""


DOES = {
    BrushMode.ADD: "add to", BrushMode.TAKE: "subtract from", BrushMode.SET: "set", BrushMode.SCALE: "scale",
    BrushMode.EVEN: "smooth", BrushMode.SHARPEN: "sharpen", BrushMode.ALONG: "make one around the limb",
}  # fmt: skip
"""What a stroke does, between "Drag to" and what it does it to."""


def hint(state: State) -> str:
    tool = state.tooling.tool
    if tool == Tool.SELECT:
        return "Drag over the mesh to select vertices; Shift adds, Ctrl takes out; <tool.pick> ends"
    if tool == Tool.PULL:
        return "Drag the skin where it belongs in this pose, Shift leads it nearer or away; on release the weights follow; <tool.pick> ends"
    if tool != Tool.BRUSH:
        return "Click a joint to see its weight; drag a box to select vertices; <tool.brush> takes the brush"
    mode = DOES[state.brush.mode]
    if state.tooling.painting is not Painting.WEIGHTS:
        return f"Drag to {mode} the {state.tooling.painting.value}. Ctrl subtracts; <tool.pick> ends"
    skeleton = state.character.skeleton if state.character is not None else None
    joint = state.viewing.influence
    name, sides = "no joint", ""
    if skeleton is not None and joint in skeleton.index:
        name, other = skeleton.joint(joint).name, skeleton.other_side(joint)
        if state.hand.both_sides and other != joint:
            locked = other in state.tooling.locked
            sides = " alone, its other side is locked" if locked else " and its other side"
    return f"Drag to {mode} the weight of {name}{sides}. Hold A to smooth, Ctrl to subtract; <tool.pick> ends"


def fullness(character: Character) -> float:
    skin = character.skin
    if skin is None:
        return 0.0
    return 1.0 if all(p.id in skin.weights for p in character.included) else 0.5


def enter(state: State) -> Mapping[str, Any]:
    """A lens is put on, and a joint made the active one."""
    character = state.character
    values: dict[str, Any] = {}
    if state.viewing.lens is Lens.NONE and character is not None and character.skin is not None:
        values["lens"] = Lens.INFLUENCE
    if not state.viewing.influence and character is not None and character.skeleton is not None:
        ids = [j.id for j in character.skeleton.joints]
        values["influence"] = body_of(character.skeleton).joint_of.get("arm.l.upper") or ids[min(1, len(ids) - 1)]
    return values


def size_by_wheel(c: Context, steps: float) -> None:
    c.store.put_setting(BrushSettings, radius=float(np.clip(c.state.brush.radius * 1.12**steps, SMALLEST, LARGEST)))


def strength_by_wheel(c: Context, steps: float) -> None:
    c.store.put_setting(BrushSettings, strength=float(np.clip(c.state.brush.strength + 0.05 * steps, 0.05, 1.0)))


def _unbound(state: State) -> bool:
    return state.character is not None and state.character.skin is None and not state.character.bare


AREA = AreaSpec(
    Area.WEIGHTS, "Weights", "who moves what, how much",
    steps=(Step("weights.bind", _unbound, lambda s: "bind the skin", guide="Says which joint carries which part of the skin. The figure then moves, so that you see how it bends."),),
    actions=ACTIONS,
    fixes=(
        Fix("weights.bind", "Bind"), Fix(
            "weights.drop_strays", "Drop all sure ones", others=(("weights.drop_stray", "This one"),),
            prepare=choose_stray,
        ),
        Fix("weights.drop_stray", "Drop it", prepare=choose_stray), Fix("weights.reduce", "Reduce"),
        Fix("weights.prune", "Prune"), Fix("weights.close_borders", "Close it"), Fix("relax.bake", "Bake"),
    ),
    settings=ALL, cards=CARDS,
    panes=(Pane("weights.numbers", "Numbers", Place.SIDE, numbers.NumberTable, numbers.wanted, size=340), judged_pane()),
    lanes=(quality_lane(),), tools=TOOLS, picks=("joint",), shows=("joints",),
    marks=(marks.skeleton, marks.reach, marks.vertices), painters=(marks.brush_ring, marks.seam, pulling.paint), hint=hint,
    words=marks.surface_words, fullness=fullness, enter=enter, weighing=True, lenses=True, pins=True, mesh_always=True,
    wheels=(
        (Qt.KeyboardModifier.ControlModifier, size_by_wheel), (Qt.KeyboardModifier.ShiftModifier, strength_by_wheel),
    ),
)  # fmt: skip
