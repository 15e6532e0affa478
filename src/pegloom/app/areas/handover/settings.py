"""What the Handover area's cards say."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.app.state.settings import Setting
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.edits import DeliveredRest


@dataclass(frozen=True, slots=True)
class ExportSettings(Setting):
    """names : how sides are written in joint names; None as they are.
    joints : which of them the file gets.
    rest : the one that is delivered.
    one_top : one node over all in the file, geometry and skeleton apart.
    together : all shown characters of the document in one file, where there are several.
    report : what the last proof said.
    """

    ID = "handover.export"
    PASSING = frozenset({"report"})

    names: SideStyle | None = None
    joints: HandedJoints = HandedJoints.ALL
    rest: DeliveredRest = DeliveredRest.AS_IT_STANDS
    one_top: bool = True
    together: bool = True
    report: str = ""
