"""The Joints area."""

from __future__ import annotations

from pegloom.app.areas.joints import marks, slices
from pegloom.app.areas.joints.actions import ACTIONS
from pegloom.app.areas.joints.cards import CARDS
from pegloom.app.areas.joints.chain_names import NAMES
from pegloom.app.areas.joints.settings import BodySettings, ChangeSettings, KitSettings, PatternSettings, RenameSettings
from pegloom.app.areas.joints.tools import TOOLS
from pegloom.app.panels.graph import quality_lane
from pegloom.app.spec import AreaSpec, Fix, Pane, Place, Step
from pegloom.app.state.state import Area, State, Tool
from pegloom.document.model import Character
from pegloom.scene.lenses import Lens


def hint(state: State) -> str:
    if state.tooling.tool == Tool.DRAW:
        return (
            "Click to lay joints in the middle of the mesh, on a joint to go on from it; Shift on the skin, Ctrl on the "
            "grid; Esc ends"
        )
    return "Drag a peg to place it, Ctrl snaps; <joints.draw> draws joints, <tool.move> moves them; right-drag orbits the view"


def fullness(character: Character) -> float:
    return 1.0 if character.skeleton else (0.5 if character.pegs else 0.0)


def _no_joints(state: State) -> bool:
    return state.character is not None and state.character.skeleton is None


def _nothing_placed(state: State) -> bool:
    return _no_joints(state) and state.character is not None and state.character.pegs is None


def _weak_said(state: State) -> str:
    pegs = state.character.pegs if state.character is not None else None
    count = sum(peg.weak for peg in pegs.pegs) if pegs is not None else 0
    if count == 0:
        return ""
    return "1 peg is a weak guess: look at it first." if count == 1 else f"{count} pegs are weak guesses: look at them first."


AREA = AreaSpec(
    Area.JOINTS, "Joints", "place them inside the mesh",
    steps=(
        Step("joints.find_pegs", _nothing_placed, lambda s: "find pegs", guide="Pegs mark where joints will be. They are looked for in the mesh; you drag those that are off."),
        Step("joints.build", _no_joints, lambda s: "build joints", note=_weak_said, guide="Joints from the pegs. Pegs can be moved afterwards, too: build again, and nothing else is lost."),
    ),
    actions=ACTIONS,
    fixes=(
        Fix("axes.mend", "Mend all"), Fix("joints.centre", "Centre", of_subject=True),
        Fix("joints.to_pegs", "To the pegs", others=(("joints.keep_moves", "Keep it"),), of_subject=True),
    ),
    settings=(PatternSettings, KitSettings, BodySettings, ChangeSettings, RenameSettings), cards=CARDS,
    panes=(Pane("joints.slice", "Slice window", Place.OVER, slices.SliceWindow, slices.wanted),),
    lanes=(quality_lane(),), tools=TOOLS, picks=("peg", "joint"), shows=("joints", "pegs", "mesh", "ground"),
    marks=(marks.skeleton, marks.pegs), painters=(NAMES.paint,), hint=hint, fullness=fullness, enter=lambda state: {"lens": Lens.NONE},
    at_rest=True, pins=True,
)  # fmt: skip
