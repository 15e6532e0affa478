"""The Motion area."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.app.areas.motion.actions import ACTIONS
from pegloom.app.areas.motion.borrowing import PAIRING, BorrowSettings
from pegloom.app.areas.motion.bringing import BringSettings
from pegloom.app.areas.motion.capturing import DESK, DeskSettings, desk_open
from pegloom.app.areas.motion.cards import CARDS
from pegloom.app.areas.motion.curve_lane import curve_lane
from pegloom.app.areas.motion.desk_pane import DeskPane
from pegloom.app.areas.motion.fall_lane import fall_lane
from pegloom.app.areas.motion.figuring import FiguresSettings
from pegloom.app.areas.motion.gaits import GaitSettings, gait_in_hand
from pegloom.app.areas.motion.key_lane import key_lane
from pegloom.app.areas.motion.keying import KeySettings, curves_open
from pegloom.app.areas.motion.pair_view import PairTool, pair_marks, places_beside
from pegloom.app.areas.motion.pairing_pane import PairingPane, wanted
from pegloom.app.areas.motion.place_tool import PlaceTool
from pegloom.app.areas.motion.shelf_pane import ShelfPane
from pegloom.app.areas.motion.shelving import SHELF, ShelfSettings, shelf_open
from pegloom.app.areas.motion.trails import TrailTool, ghost_marks, trail_marks
from pegloom.app.areas.motion.way_tool import WayTool, way_marks, way_places
from pegloom.app.context import Context
from pegloom.app.panels.graph import quality_lane
from pegloom.app.panels.pick_card import pick_panes
from pegloom.app.panels.posed import posed_pane
from pegloom.app.spec import AreaSpec, Pane, Place, Step
from pegloom.app.stage.posing import TOOLS, auto_key_sign, bare_body, controls, performers, pins
from pegloom.app.state.state import Area, State
from pegloom.core.arrays import FloatArray
from pegloom.document.model import Character
from pegloom.scene.lenses import Lens


def fullness(character: Character) -> float:
    moving = any(clip.curves or clip.tracks for clip in character.clips)
    return 1.0 if moving else (0.5 if character.clips else 0.0)


def _beside(c: Context) -> FloatArray | None:
    found = [places for places in (places_beside(c), way_places(c)) if places is not None]
    return np.concatenate(found) if found else None


def _no_clips(state: State) -> bool:
    return state.character is not None and not state.character.clips


AREA = AreaSpec(
    Area.MOTION, "Motion", "try it, key it",
    steps=(Step("motion.trial_clip", _no_clips, lambda s: "try it with a sample clip"),),
    actions=ACTIONS, settings=(BringSettings, BorrowSettings, KeySettings, GaitSettings, ShelfSettings, FiguresSettings, DeskSettings), cards=CARDS, panes=(posed_pane(), *pick_panes(), Pane(PAIRING, "Pairing", Place.SIDE, PairingPane, wanted, size=340), Pane(SHELF, "Clip shelf", Place.SIDE, ShelfPane, shelf_open, size=356), Pane(DESK, "Capture desk", Place.SIDE, DeskPane, desk_open, size=320)), lanes=(fall_lane(), key_lane(), curve_lane(), replace(quality_lane(), shown=lambda s: not curves_open(s) and gait_in_hand(s) is None)), tools=(PlaceTool(), PairTool(), WayTool(), TrailTool(), *TOOLS), picks=("control", "clip"),
    shows=("controls", "mesh"), marks=(bare_body, performers, controls, pins, ghost_marks, trail_marks, pair_marks, way_marks), painters=(auto_key_sign,), marks_face_the_eye=True, beside=_beside,
    hint=lambda state: "Pose a control and press <keys.write> to set a key; <time.play> plays",
    fullness=fullness, enter=lambda state: {"lens": Lens.NONE}, lenses=True,
)  # fmt: skip
