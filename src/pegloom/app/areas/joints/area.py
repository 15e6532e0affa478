"""The Joints area."""

from __future__ import annotations

from pegloom.app.areas.joints import marks, slices
from pegloom.app.areas.joints.actions import ACTIONS
from pegloom.app.areas.joints.cards import CARDS
from pegloom.app.areas.joints.chain_names import NAMES
from pegloom.app.areas.joints.settings import BodySettings, ChangeSettings, KitSettings, PatternSettings, RenameSettings
from pegloom.app.areas.joints.tools import TOOLS
from pegloom.app.panels.graph import quality_lane
from pegloom.app.spec import AreaSpec, Fix, Pane, Place
from pegloom.app.state.state import Area, State, Tool
from pegloom.document.model import Character
from pegloom.scene.lenses import Lens


def hint(state: State) -> str:
    if state.tooling.tool == Tool.DRAW:
        return (
            "Click to lay joints in the middle of the mesh, on a joint to go on from it; Shift on the skin, Ctrl on the "
            "grid; Esc ends"
        )
    return "Drag a peg to place it, Ctrl snaps; <joints.draw> draws joints, <tool.move> moves them; right-drag turns the view"


def fullness(character: Character) -> float:
    return 1.0 if character.skeleton else (0.5 if character.pegs else 0.0)


AREA = AreaSpec(
    Area.JOINTS, "Joints", "place them inside the mesh",
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
