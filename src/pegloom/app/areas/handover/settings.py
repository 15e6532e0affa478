"""What the Handover area's cards say."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from pegloom.app.state.settings import Setting
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.edits import DeliveredRest


class FileKind(Enum):
    """What kind of file is written: what it is for a person, and its ending."""

    GLB = ("GLB", ".glb")
    USD = ("USD, small", ".usdc")
    USD_TEXT = ("USD, as text", ".usda")
    USD_PACKAGE = ("USD, one package", ".usdz")
    BVH = ("BVH: the clip on the strip", ".bvh")
    OBJ = ("OBJ: the mesh", ".obj")
    PLY = ("PLY: the mesh", ".ply")
    STL = ("STL: the mesh", ".stl")

    @property
    def said(self) -> str:
        return self.value[0]

    @property
    def ending(self) -> str:
        return self.value[1]


@dataclass(frozen=True, slots=True)
class ExportSettings(Setting):
    """kind : of file. names : how sides are written in joint names; None as they are.
    joints : which of them the file gets.
    rest : the one that is delivered.
    one_top : one node over all in the file, geometry and skeleton apart.
    together : all shown characters of the document in one file, where there are several.
    report : what the last proof said.
    """

    ID = "handover.export"
    PASSING = frozenset({"report"})

    kind: FileKind = FileKind.GLB
    names: SideStyle | None = None
    joints: HandedJoints = HandedJoints.ALL
    rest: DeliveredRest = DeliveredRest.AS_IT_STANDS
    one_top: bool = True
    together: bool = True
    report: str = ""
