"""What the Handover area's cards say."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from enum import Enum

from pegloom.app.state.proved import Proved
from pegloom.app.state.settings import Setting
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.sets import JointGroup
from pegloom.document.delivery import Content, Meshes, Morphs, PictureKind, Target
from pegloom.document.delivery.target import Clips
from pegloom.document.edits import DeliveredRest

__all__ = ["ExportSettings", "FileKind", "Proved", "VersionSettings", "settings_of_target", "target_of"]


class FileKind(Enum):
    """What kind of file is written: what it is for a person, and its ending."""

    GLB = ("GLB", ".glb")
    GLTF = ("glTF, pictures beside", ".gltf")
    USD = ("USD, small", ".usdc")
    USD_TEXT = ("USD, as text", ".usda")
    USD_PACKAGE = ("USD, one package", ".usdz")
    BVH = ("BVH: motion", ".bvh")
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
class VersionSettings(Setting):
    """report : what was kept or compared last."""

    ID = "handover.versions"
    PASSING = frozenset({"report"})

    report: str = ""


class WhichClips(Enum):
    ALL = "all"
    STRIP = "the one on the strip"


@dataclass(frozen=True, slots=True)
class ExportSettings(Setting):
    """What a target says, field by field (see `Target`), and what is chosen for this export alone.

    target : name of the one it was filled from. ends, helpers, twist, face : groups of joints that are left out.
    which : clips that go along. together : all shown characters of the document in one file, where there are several.
    report : what the last proof said.
    """

    ID = "handover.export"
    PASSING = frozenset({"report"})

    target: str = "everything"
    kind: FileKind = FileKind.GLB
    unit: float = 1.0
    up: str = "+y"
    facing: str = "+z"
    influences: int = 0
    rate: float = 0.0
    names: SideStyle | None = None
    ends: bool = False
    helpers: bool = False
    twist: bool = False
    face: bool = False
    rest: DeliveredRest = DeliveredRest.AS_IT_STANDS
    materials: bool = True
    pictures: PictureKind = PictureKind.AS_IT_IS
    picture_size: int = 0
    morphs: Morphs = Morphs.KEPT
    meshes: Meshes = Meshes.AS_THEY_ARE
    covered: bool = True
    doubled: bool = True
    bake: bool = True
    content: Content = Content.BOTH
    clips: Clips = Clips.TOGETHER
    one_top: bool = True
    which: WhichClips = WhichClips.ALL
    together: bool = True
    report: str = ""


GROUPS = {"ends": JointGroup.ENDS, "helpers": JointGroup.HELPERS, "twist": JointGroup.TWIST, "face": JointGroup.FACE}
ALIKE = tuple({f.name for f in fields(Target)} & {f.name for f in fields(ExportSettings)} - {"kind"})
"""Fields that a target and the card call the same."""


def target_of(how: ExportSettings) -> Target:
    """The target that the card tells."""
    made = Target(how.target or "export", kind=how.kind.ending, without=tuple(g for name, g in GROUPS.items() if getattr(how, name)))
    return replace(made, **{name: getattr(how, name) for name in ALIKE})


def settings_of_target(target: Target) -> dict[str, object]:
    """Fields of the card as a target has them."""
    kind = next(k for k in FileKind if k.ending == target.kind)
    groups = {name: group in target.without for name, group in GROUPS.items()}
    return {"target": target.name, "kind": kind, **groups, **{name: getattr(target, name) for name in ALIKE}}
