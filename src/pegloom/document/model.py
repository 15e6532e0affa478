"""The document: everything a user makes, immutable. An edit makes a new one that shares what did not change."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, triangulate, upright
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget import Pairing, Source
from pegloom.core.motion.retarget.bare import height_of
from pegloom.core.motion.together import ALONE, Figure, StandIn
from pegloom.core.rig.changes import RigChanges
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose, Shown
from pegloom.core.rig.recipe.choices import KitRig
from pegloom.core.skeleton.joints import Quaternion, Side, Skeleton, Vector
from pegloom.core.skeleton.pegs import PegSet
from pegloom.core.skeleton.uses import Use
from pegloom.core.skin.relax import Relax
from pegloom.core.skin.shapes import ShapeDrive
from pegloom.core.skin.weights import Weights

NOTHING: Mapping[str, object] = MappingProxyType({})
NO_ARRAYS: Mapping[str, FloatArray] = MappingProxyType({})
NO_RELAX: Mapping[str, Relax] = MappingProxyType({})
NO_LIMITS: Mapping[str, int] = MappingProxyType({})


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Image:
    """A picture as the bytes of its file. kind: image/png or image/jpeg."""

    name: str
    kind: str
    data: bytes


@dataclass(frozen=True, slots=True)
class Placing:
    """Where a picture lies on the UVs: offset and scale (2,), rotation in radians (KHR_texture_transform).

    second : on the second UVs.
    """

    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    scale: tuple[float, float] = (1.0, 1.0)
    second: bool = False


NO_PLACINGS: Mapping[str, Placing] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Material:
    """glTF's metallic-roughness material. Images are named, see Character.images."""

    name: str
    base_colour: tuple[float, float, float, float] = (0.8, 0.8, 0.8, 1.0)
    metallic: float = 0.0
    roughness: float = 0.8
    base_image: str | None = None
    normal_image: str | None = None
    double_sided: bool = False
    see_through: bool = False
    normal_scale: float = 1.0
    metal_image: str | None = None
    """Metallic in its blue, roughness in its green."""
    occlusion_image: str | None = None
    occlusion: float = 1.0
    """Strength of the occlusion, 0 to 1."""
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    emissive_image: str | None = None
    cutoff: float | None = None
    """Alpha under which nothing is drawn; None where there is no mask."""
    placings: Mapping[str, Placing] = field(default_factory=lambda: NO_PLACINGS)
    """How pictures lie on the UVs, by what they are for: base, normal, metal, occlusion, emissive."""

    @property
    def pictures(self) -> Mapping[str, str]:
        """Names of its pictures, by what they are for."""
        found = {
            "base": self.base_image, "normal": self.normal_image, "metal": self.metal_image,
            "occlusion": self.occlusion_image, "emissive": self.emissive_image,
        }  # fmt: skip
        return {what: name for what, name in found.items() if name is not None}

    def with_pictures(self, renamed: Mapping[str, str]) -> Material:
        """The material with its pictures called otherwise; one not named keeps its name."""
        return replace(
            self, base_image=renamed.get(self.base_image or "", self.base_image),
            normal_image=renamed.get(self.normal_image or "", self.normal_image),
            metal_image=renamed.get(self.metal_image or "", self.metal_image),
            occlusion_image=renamed.get(self.occlusion_image or "", self.occlusion_image),
            emissive_image=renamed.get(self.emissive_image or "", self.emissive_image),
        )  # fmt: skip


class PartKind(Enum):
    """How a part behaves: skin bends, cloth follows skin, hard parts and props stay rigid."""

    SKIN = "skin"
    CLOTH = "cloth"
    HARD = "hard part"
    PROP = "held prop"


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Morph:
    """A morph target: how far each vertex goes, (n, 3) metres, at full weight."""

    name: str
    deltas: FloatArray
    at_rest: float = 0.0


class Subdivision(Enum):
    """How a cage is smoothed for display and delivery."""

    NONE = "none"
    CATMULL_CLARK = "Catmull-Clark"
    LOOP = "Loop"


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Part:
    """One mesh of a character.

    detail : 0 for the body's own mesh, 1 and on for coarser detail levels of it.
    smooth, levels : the cage's subdivision; weights live on the cage.
    """

    id: str
    name: str
    mesh: Mesh
    kind: PartKind = PartKind.SKIN
    included: bool = True
    morphs: tuple[Morph, ...] = ()
    detail: int = 0
    smooth: Subdivision = Subdivision.NONE
    levels: int = 1


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Reference:
    """A picture behind the view, never delivered. along: x, y or z, the axis it is looked at along.

    centre : metres in the picture's plane.
    height : metres it is tall.
    alpha : 0 to 1.
    """

    image: Image
    along: str = "z"
    centre: Vector = (0.0, 0.9, 0.0)
    height: float = 1.8
    alpha: float = 0.6


@dataclass(frozen=True, slots=True)
class Standing:
    """What stood the file's points up. file_to_character is 4x4, row after row; height in metres."""

    up: str
    facing: str
    height: float
    middle: float
    symmetry: float
    file_to_character: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class JointOverride:
    """A change made by hand to a built joint, applied again after each rebuild.

    move : metres in the recipe joint's own axes, so that it follows when the pegs move.
    turn : radians x y z about the joint's own axes.
    parent : another joint to hang on.
    dropped : taken out; its children hang one higher.
    seen : where the recipe had the joint when it was moved by hand, metres; None for moves kept before it was noted.
    role : what in the body a person said a file's joint is (core/skeleton/body_words); None as it is found.
    """

    name: str | None = None
    move: Vector = (0.0, 0.0, 0.0)
    turn: Vector = (0.0, 0.0, 0.0)
    parent: str | None = None
    dropped: bool = False
    floating: bool | None = None
    seen: Vector | None = None
    role: str | None = None


@dataclass(frozen=True, slots=True)
class OwnJoint:
    """A joint added by hand. It has no recipe; it keeps its place in its parent.

    place, turn (x y z w), tail : in the parent's rest axes. between : (child, share) for a joint put into a bone; its
    place is then that share of the way to the child, wherever both go. takes : whether it took a share of weights.
    """

    id: str
    name: str
    parent: str
    side: Side
    place: Vector
    turn: Quaternion = (0.0, 0.0, 0.0, 1.0)
    tail: Vector | None = None
    between: tuple[str, float] | None = None
    takes: bool = True


@dataclass(frozen=True, slots=True)
class Helper:
    """A helper joint that is to stand at a joint of the body; see `Halfway`. It waits where that is gone."""

    id: str
    name: str
    of: str
    share: float = 0.5
    push: Vector = (0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Skin:
    """Weights of the bound parts, by part id, and the bind that made them."""

    method: str
    influences: int
    weights: Mapping[str, Weights]
    dual: Mapping[str, FloatArray] = field(default_factory=lambda: NO_ARRAYS)
    """Share (n,) of dual quaternion blending, 0 to 1, by part; a part not named here is blended linearly."""
    relax: Mapping[str, Relax] = field(default_factory=lambda: NO_RELAX)
    """Surface relax by part: shown and measured, but played by few targets until it is baked."""
    limits: Mapping[str, int] = field(default_factory=lambda: NO_LIMITS)
    """Most influences a vertex of parts that have another limit than `influences`, by part."""

    def limit(self, part_id: str) -> int:
        """Most influences a vertex of a part."""
        return self.limits.get(part_id, self.influences)

    @property
    def most(self) -> int:
        """The highest limit of any bound part."""
        return max((self.limit(part) for part in self.weights), default=self.influences)

    def with_limit(self, limit: int, part_ids: Collection[str]) -> Skin:
        """Some parts with another limit; of a skin that holds no others, the limit of all."""
        if set(self.weights) <= set(part_ids):
            return replace(self, influences=limit, limits=NO_LIMITS)
        limits = {**self.limits, **dict.fromkeys(part_ids, limit)}
        kept = {p: n for p, n in limits.items() if n != self.influences and p in self.weights}
        return replace(self, limits=MappingProxyType(kept))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Weave:
    """A version of the weights by name."""

    id: str
    name: str
    skin: Skin


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class KeptPose:
    """A pose kept as a trial, with a small picture of it."""

    id: str
    name: str
    pose: Shown
    picture: Image | None = None


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Expression:
    """What a face does, kept by name.

    values : of the channels that differ from rest, by control id and key.
    """

    id: str
    name: str
    values: Mapping[tuple[str, str], float]
    picture: Image | None = None


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class ShelfPose:
    """A pose of controls kept by name, to be put on again.

    values : of all free channels it is about, rest values too, by control id and key.
    part : whether it is about some controls alone.
    """

    id: str
    name: str
    values: Mapping[tuple[str, str], float]
    picture: Image | None = None
    part: bool = False


@dataclass(frozen=True, slots=True)
class CardButton:
    """A control's place on the pick card, where somebody moved it: shares of its page's width and height, y down."""

    control: str
    x: float
    y: float
    page: str = ""
    """Another page than its own; "" for that."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Worn:
    """The master whose rig a character wears, as it was when it was last taken; all that is said of a rig is told in its size.

    name : of the master. scale : metres here for a metre of the master's.
    The other fields are those of a character of the same names.
    """

    name: str
    scale: float
    pegs: PegSet | None = None
    joint_overrides: Mapping[str, JointOverride] = field(default_factory=dict)
    own_joints: tuple[OwnJoint, ...] = ()
    helpers: tuple[Helper, ...] = ()
    rig_recipe: Mapping[str, KitRig] = field(default_factory=dict)
    rig_changes: RigChanges = field(default_factory=RigChanges)
    uses: Mapping[str, Use] = field(default_factory=dict)
    reaches: Mapping[str, float] = field(default_factory=dict)
    mark_sizes: Mapping[str, float] = field(default_factory=dict)
    control_sets: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    card: tuple[CardButton, ...] = ()
    expressions: tuple[Expression, ...] = ()
    poses: tuple[ShelfPose, ...] = ()


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Character:
    """One character: parts, recipe (pegs), skeleton, skin, controls, motion. Points are in its own space, Y up."""

    id: str
    name: str
    prefix: str = ""
    """Goes before its names where several characters are exported; "" for one made from the character's name."""
    parts: tuple[Part, ...] = ()
    materials: tuple[Material, ...] = ()
    images: tuple[Image, ...] = ()
    standing: Standing | None = None
    pegs: PegSet | None = None
    skeleton: Skeleton | None = None
    joint_overrides: Mapping[str, JointOverride] = field(default_factory=dict)
    own_joints: tuple[OwnJoint, ...] = ()
    helpers: tuple[Helper, ...] = ()
    shapes: tuple[ShapeDrive, ...] = ()
    """Morph targets that joints bring in as they turn."""
    counted: Mapping[str, int] = field(default_factory=dict)
    """The highest number ids of each stem ever had: they are never used again."""
    adopted: Skeleton | None = None
    """The skeleton a file brought, as it came: what hand-made changes to its joints are relative to."""
    front: Quaternion = (0.0, 0.0, 0.0, 1.0)
    """How the body's own up and ahead, as they were when its joints were made, are turned now (x y z w)."""
    skin: Skin | None = None
    rig: ControlRig | None = None
    rig_recipe: Mapping[str, KitRig] = field(default_factory=dict)
    """How limb kits are to be built, by kit id; one not named as is usual."""
    rig_changes: RigChanges = field(default_factory=RigChanges)
    pose: Shown = field(default_factory=Pose)
    clips: tuple[Clip, ...] = ()
    sources: tuple[Source, ...] = ()
    """Motion of other bodies, as it came: what clips are borrowed from."""
    pairings: tuple[Pairing, ...] = ()
    """How the skeletons of sources and this one go together."""
    weaves: tuple[Weave, ...] = ()
    uses: Mapping[str, Use] = field(default_factory=dict)
    """What joints are for, where a person said otherwise than is told (core/skeleton/uses)."""
    reaches: Mapping[str, float] = field(default_factory=dict)
    """How far joints reach in the default bind and those by distance, as factors of their own; 1 where none is named."""
    mark_sizes: Mapping[str, float] = field(default_factory=dict)
    """How large joints are drawn, as factors of what they are drawn at; 1 where none is named."""
    vertex_sets: Mapping[str, Mapping[str, IntArray]] = field(default_factory=dict)
    """Kept vertex selections: name -> part id -> vertices."""
    trials: tuple[KeptPose, ...] = ()
    references: tuple[Reference, ...] = ()
    expressions: tuple[Expression, ...] = ()
    face_pairs: Mapping[str, str] = field(default_factory=dict)
    """Controls of other characters' expressions and what they are here, by name, where somebody matched them by hand."""
    poses: tuple[ShelfPose, ...] = ()
    control_sets: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Controls picked together, by name."""
    card: tuple[CardButton, ...] = ()
    """What was moved by hand on the pick card; the rest is laid out by itself."""
    closed: bool = False
    """Whether the rig is finished: only poses, motion and what serves them may be changed until it is opened up again."""
    figure: Figure = ALONE
    """How it stands and plays beside the document's other characters."""
    stand_ins: tuple[StandIn, ...] = ()
    """Its controls that stand in for joints of the document's other characters."""
    worn: Worn | None = None
    """The master whose rig it wears (edits/family)."""
    import_notes: tuple[str, ...] = ()
    """What the file brought and what of it was ignored, one line each."""

    @property
    def included(self) -> tuple[Part, ...]:
        return tuple(part for part in self.parts if part.included)

    def at_level(self, level: int) -> tuple[Part, ...]:
        """Included parts of a detail level; where none is of it, those of the body itself, or all there are."""
        for wanted in (level, 0):
            found = tuple(part for part in self.included if part.detail == wanted)
            if found:
                return found
        return self.included

    @property
    def levels(self) -> tuple[int, ...]:
        """The detail levels there are of what is included, the body's own (0) first."""
        return tuple(sorted({part.detail for part in self.included}))

    @property
    def height(self) -> float:
        """Metres from the lowest to the highest point of what is included, strays far off left out; told from the joints with
        no parts, and 1 without those."""
        parts = [upright(p.mesh) for p in self.included if p.mesh.vertex_count]
        if parts:
            return max(high for _, high in parts) - min(low for low, _ in parts)
        return (height_of(self.skeleton) if self.skeleton is not None else 0.0) or 1.0

    @property
    def bare(self) -> bool:
        """Whether it is joints alone, and is drawn as such."""
        return self.skeleton is not None and not self.parts

    def part(self, part_id: str) -> Part:
        """The part of that id. Raises EditError for an unknown one."""
        for part in self.parts:
            if part.id == part_id:
                return part
        raise EditError(f"there is no part {part_id}")

    def require_skeleton(self) -> Skeleton:
        """Its skeleton. Raises EditError where there is none."""
        if self.skeleton is None:
            raise EditError("there are no joints yet; build them first")
        return self.skeleton

    def require_skin(self) -> Skin:
        """Its skin. Raises EditError where nothing is bound."""
        if self.skin is None:
            raise EditError("nothing is bound yet; bind first")
        return self.skin

    def require_rig(self) -> ControlRig:
        """Its controls. Raises EditError where there are none."""
        if self.rig is None:
            raise EditError("there are no controls yet; build them first")
        return self.rig

    def require_pegs(self) -> PegSet:
        """Its pegs. Raises EditError where there are none."""
        if self.pegs is None:
            raise EditError("there are no pegs yet; find them first")
        return self.pegs

    def clip(self, clip_id: str) -> Clip:
        """The clip of that id. Raises EditError for an unknown one."""
        for clip in self.clips:
            if clip.id == clip_id:
                return clip
        raise EditError(f"there is no clip {clip_id}")

    def all_points(self) -> FloatArray:
        """Points (n, 3) of all included parts, one after the other."""
        return points_of(self.included)

    def all_triangles(self) -> IntArray:
        """Triangles (t, 3) over `all_points`."""
        return triangles_of(self.included)


def points_of(parts: Iterable[Part]) -> FloatArray:
    """Points (n, 3) of some parts, one after the other."""
    return np.concatenate([np.zeros((0, 3)), *(p.mesh.points for p in parts)])


def triangles_of(parts: Iterable[Part]) -> IntArray:
    """Triangles (t, 3) over `points_of` the same parts."""
    meshes = [p.mesh for p in parts]
    starts = np.cumsum([0, *(mesh.vertex_count for mesh in meshes)])
    pieces = [triangulate(mesh).vertices + start for mesh, start in zip(meshes, starts, strict=False)]
    return np.concatenate([np.zeros((0, 3), dtype=np.int64), *pieces])


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Document:
    """Several characters, one of them in hand."""

    characters: tuple[Character, ...] = ()
    active: int = 0
    name: str = "untitled"

    @property
    def character(self) -> Character | None:
        return self.characters[self.active] if self.characters else None

    def require_character(self) -> Character:
        """The character in hand. Raises EditError when there is none."""
        if self.character is None:
            raise EditError("there is no character yet; open a mesh first")
        return self.character

    def with_character(self, character: Character) -> Document:
        """The document with another state of the character in hand."""
        characters = list(self.characters)
        if not characters:
            return replace(self, characters=(character,), active=0)
        characters[self.active] = character
        return replace(self, characters=tuple(characters))
