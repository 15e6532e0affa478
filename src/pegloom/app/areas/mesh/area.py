"""The Mesh area."""

from __future__ import annotations

from pegloom.app.areas.mesh import marks, revising
from pegloom.app.areas.mesh.actions import ACTIONS
from pegloom.app.areas.mesh.cards import CARDS
from pegloom.app.areas.mesh.settings import MaterialSettings, ReportSettings, StandSettings
from pegloom.app.areas.mesh.tools import TOOLS
from pegloom.app.panels.graph import quality_lane
from pegloom.app.spec import AreaSpec, Step
from pegloom.app.stage.posing import bare_body
from pegloom.app.state.state import Area, State, Tool
from pegloom.document.model import Character
from pegloom.scene.lenses import Lens


def hint(state: State) -> str:
    if state.tooling.tool == Tool.TURN:
        return "Drag sideways to rotate the figure until it faces you, Ctrl by 15 degrees; Esc ends"
    return "Right-drag orbits the view, wheel zooms, middle-drag pans; <tool.turn> rotates the figure itself"


def fullness(character: Character) -> float:
    return 1.0 if character.standing else 0.5


def _lies(state: State) -> bool:
    one = state.character
    return one is not None and bool(one.parts) and one.standing is None and one.skeleton is None


AREA = AreaSpec(
    Area.MESH, "Mesh", "import it, stand it up",
    steps=(
        Step("file.open", lambda s: s.character is None, lambda s: "import a mesh"),
        Step("mesh.stand_up", _lies, lambda s: "stand it up", guide="It is turned to face you, set on the ground and scaled. Look whether it stands right."),
    ),
    actions=(*ACTIONS, *revising.ACTIONS), settings=(StandSettings, MaterialSettings, ReportSettings), cards=CARDS, lanes=(quality_lane(),), tools=TOOLS,
    picks=("part",), shows=("ground",), marks=(marks.middle, bare_body), hint=hint, fullness=fullness,
    enter=lambda state: {"lens": Lens.NONE}, opens=lambda character: True, at_rest=True, pins=True, mesh_always=True,
    frames_new_meshes=True,
)  # fmt: skip
