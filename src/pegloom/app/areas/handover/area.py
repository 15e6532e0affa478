"""The Handover area."""

from __future__ import annotations

from pegloom.app.areas.handover import filming, versions
from pegloom.app.areas.handover.actions import ACTIONS
from pegloom.app.areas.handover.cards import CARDS
from pegloom.app.areas.handover.settings import ExportSettings, VersionSettings
from pegloom.app.panels.graph import quality_lane
from pegloom.app.spec import AreaSpec, Step
from pegloom.app.stage.drags.pick import PickTool
from pegloom.app.stage.posing import bare_body, performers
from pegloom.app.state.proved import Proved
from pegloom.app.state.state import Area
from pegloom.scene.lenses import Lens

AREA = AreaSpec(
    Area.HANDOVER, "Handover", "deliver it",
    steps=(Step("file.export", lambda s: s.character is not None, lambda s: "export it"),),
    actions=(*ACTIONS, *filming.ACTIONS, *versions.ACTIONS), settings=(ExportSettings, Proved, filming.FilmSettings, VersionSettings), cards=CARDS, lanes=(quality_lane(),), tools=(PickTool(parts=True),), marks=(bare_body, performers),
    picks=("part",), hint=lambda state: "Export writes the file; the proof opens one again and measures it",
    fullness=lambda character: 0.5 if character.skin else 0.0, enter=lambda state: {"lens": Lens.NONE}, boards=False,
)  # fmt: skip
