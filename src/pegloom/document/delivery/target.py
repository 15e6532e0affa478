"""What a receiver wants of a character: one record, kept as open JSON (docs/targets.md)."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.sets import JointGroup
from pegloom.document.edits.rest import DeliveredRest


class Content(Enum):
    BOTH = "character and motion"
    CHARACTER = "character"
    MOTION = "motion"


class Clips(Enum):
    TOGETHER = "in one file"
    ONE_EACH = "one file each"


class Meshes(Enum):
    AS_THEY_ARE = "as they are"
    BY_MATERIAL = "by material"
    ONE = "one"


class Morphs(Enum):
    KEPT = "kept"
    BAKED = "baked"
    """Put into the mesh as they are at rest."""


class PictureKind(Enum):
    AS_IT_IS = "as it is"
    PNG = "png"
    JPEG = "jpeg"


AXES = {"+x": (1, 0, 0), "-x": (-1, 0, 0), "+y": (0, 1, 0), "-y": (0, -1, 0), "+z": (0, 0, 1), "-z": (0, 0, -1)}
ENDINGS = (".glb", ".gltf", ".usdc", ".usda", ".usdz", ".bvh", ".obj", ".ply", ".stl")
MOST_INFLUENCES = 16


@dataclass(frozen=True, slots=True)
class Target:
    """What a receiver wants.

    name : of the target's file and on the command line. title, use : what a person reads.
    kind : ending of the file.
    unit : metres in one of its units. up, facing : axes, as "+y" and "+z"; glTF fixes metres and up, and its faces look along +z.
    influences : most joints a vertex follows; 0 for as many as it has.
    rate : frames a second that motion is told at, whole frames alone; 0 for samples wherever the motion needs them.
    names : how joints tell their side; None as they are. without : groups of joints it does not get.
    rest : the rest it is delivered in.
    materials : whether they go along; without, their names alone do.
    pictures : how they are kept. picture_size : pixels of the longer side at most, 0 for any.
    morphs, meshes : see there. covered : whether skin under other parts stays. doubled : whether surfaces that stand double stay so.
    bake : whether surface relax and dual quaternions are baked into the weights.
    content, clips : what goes into the file. one_top : one node over all of a glTF.
    """

    name: str
    title: str = ""
    use: str = ""
    kind: str = ".glb"
    unit: float = 1.0
    up: str = "+y"
    facing: str = "+z"
    influences: int = 0
    rate: float = 0.0
    names: SideStyle | None = None
    without: tuple[JointGroup, ...] = ()
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

    def checked(self) -> Target:
        """Itself. Raises EditError for what cannot be: a side that is no axis, a unit of nothing."""
        if not self.name.strip() or len(self.name) > 80:
            raise EditError("a target has a name of 1 to 80 letters")
        if self.kind not in ENDINGS:
            raise EditError(f"the target {self.name} writes {self.kind[:12]}; it can write {', '.join(ENDINGS)}")
        if not (np.isfinite(self.unit) and 1e-6 <= self.unit <= 1e6):
            raise EditError(f"the target {self.name} has a unit of {self.unit:g} metres; 0.000001 to 1000000 are possible")
        if self.up not in ("+y", "+z") or self.facing not in AXES or self.facing[1] == self.up[1]:
            raise EditError(f"the target {self.name} is up {self.up[:8]} and faces {self.facing[:8]}; up is +y or +z, facing another axis, as -z")
        if not 0 <= self.influences <= MOST_INFLUENCES:
            raise EditError(f"the target {self.name} takes {self.influences} influences; 0 to {MOST_INFLUENCES} are possible")
        if not (self.rate == 0.0 or 1.0 <= self.rate <= 1000.0):
            raise EditError(f"the target {self.name} has {self.rate:g} frames a second; 1 to 1000, or 0 for as many as needed")
        if not 0 <= self.picture_size <= 16384:
            raise EditError(f"the target {self.name} has pictures of {self.picture_size} pixels; 0 to 16384 are possible")
        return self

    @property
    def turned(self) -> FloatArray:
        """(3, 3) what turns a character, up +y and facing +z, into the target's axes."""
        up, ahead = np.array(AXES[self.up], dtype=np.float64), np.array(AXES[self.facing], dtype=np.float64)
        return np.stack([np.cross(up, ahead), up, ahead], axis=1)

    @property
    def is_gltf(self) -> bool:
        return self.kind in (".glb", ".gltf")

    @property
    def is_usd(self) -> bool:
        return self.kind.startswith(".usd")
