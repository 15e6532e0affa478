"""The Controls area."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pegloom.app.areas.controls.actions import ACTIONS
from pegloom.app.areas.controls.cards import CARDS
from pegloom.app.areas.controls.coupling_pane import CouplingPane
from pegloom.app.areas.controls.coupling_pane import wanted as coupling_wanted
from pegloom.app.areas.controls.editing import hold_wanted, solver_wanted
from pegloom.app.areas.controls.family import ACTIONS as FAMILY
from pegloom.app.areas.controls.family import FamilySettings
from pegloom.app.areas.controls.finishing import FINISHING
from pegloom.app.areas.controls.hold_pane import HoldPane
from pegloom.app.areas.controls.ik_pane import IkPane
from pegloom.app.areas.controls.made import MADE
from pegloom.app.areas.controls.posing import POSING
from pegloom.app.areas.controls.settings import SETTINGS, Work, WorkSettings
from pegloom.app.areas.controls.shaping import SHAPING, PointsTool, draw_points
from pegloom.app.areas.controls.working import working
from pegloom.app.panels.graph import quality_lane
from pegloom.app.panels.pick_card import pick_panes
from pegloom.app.panels.posed import posed_pane
from pegloom.app.spec import AreaSpec, Fix, Pane, Place, Step
from pegloom.app.stage.posing import TOOLS, auto_key_sign, controls, joints, performers, pins
from pegloom.app.state.state import Area, State, Tool
from pegloom.scene.lenses import Lens


def _no_rig(state: State) -> bool:
    return state.character is not None and state.character.rig is None and not state.character.bare


def _hint(state: State) -> str:
    if state.viewing.animators:
        return "The Animator's view: only controls are picked and changed; <view.animators> leaves it"
    building = state.settings.of(WorkSettings).work is Work.BUILD
    if building:
        return "Dragged controls spring back while you build; Shift-click picks several; choose Pose to keep poses"
    if state.tooling.tool == Tool.SKIN:
        return "Drag the mesh anywhere: the body follows; a click pins a hand or foot; Shift leads it nearer or away; <tool.skin> ends"
    if state.settings.of(WorkSettings).work is Work.FACE:
        return "Drag a diamond before the face, or a slider; <face.keep> keeps the expression"
    return "Drag a control; <tool.move> moves, <tool.turn> rotates; right-drag orbits the view"


def _passed_by(state: State) -> frozenset[str]:
    """Joints are picked where the rig is built, for constraints on them; who poses has nothing of them."""
    wanted = state.tooling.wanted
    needed = (working(Work.BUILD)(state) and not state.viewing.animators) or (wanted is not None and "joint" in wanted.kinds)
    return frozenset() if needed else frozenset({"joint"})


def enter(state: State) -> Mapping[str, Any]:
    """The current pose is shown: a trial would hide what is posed and built."""
    trial = state.clock.source and state.clip is None
    return {"lens": Lens.NONE, **({"source": "", "time": 0.0, "playing": False} if trial else {})}


AREA = AreaSpec(
    Area.CONTROLS, "Controls", "the rig animators hold",
    steps=(Step("controls.build", _no_rig, lambda s: "build controls", guide="Rings and cubes an animator holds. After this, drag one: your figure is rigged."),),
    settings=(*SETTINGS, FamilySettings), springs_back=lambda s: s.settings.of(WorkSettings).work is Work.BUILD and not s.viewing.animators, actions=(*ACTIONS, *POSING, *FINISHING, *MADE, *SHAPING, *FAMILY), fixes=(Fix("controls.build", "Build anew"),), cards=CARDS, panes=(posed_pane(), *pick_panes(), Pane("controls.coupling", "Coupling", Place.SIDE, CouplingPane, coupling_wanted, size=300), Pane("controls.hold", "Constraint", Place.SIDE, HoldPane, hold_wanted, size=300), Pane("controls.ik", "IK", Place.SIDE, IkPane, solver_wanted, size=300)), lanes=(quality_lane(),), tools=(PointsTool(), *TOOLS), picks=("control", "joint"), passes_by=_passed_by,
    shows=("controls", "joints", "mesh"), painters=(auto_key_sign,), marks=(joints, performers, controls, pins, draw_points), marks_face_the_eye=True,
    hint=_hint,
    fullness=lambda character: 1.0 if character.rig else 0.0, enter=enter,
    opens=lambda character: character.rig is not None, lenses=True,
)  # fmt: skip
