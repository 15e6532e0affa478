"""Joints at rest, and a skeleton of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray, frozen
from pegloom.core.errors import ShapeError
from pegloom.core.geometry.transforms import compose, rotation_matrix
from pegloom.core.memo import by_identity
from pegloom.core.skeleton.names import Side, other_side_name, other_side_names, side_of_name

Vector = tuple[float, float, float]
Quaternion = tuple[float, float, float, float]


ACROSS, ON_PLANE = 0.01, 0.008
"""Shares of a skeleton's size within which two joints of a file stand mirrored, and one stands on the middle."""


class Origin(Enum):
    """Where a joint comes from."""

    KIT = "kit"
    FILE = "file"
    OWN = "own"
    """Made by hand."""


class JointKind(Enum):
    """What a joint is for."""

    PLAIN = "plain"
    TWIST = "twist"
    """Shares out the twist of the bone it lies on."""
    HALFWAY = "halfway"
    """Stands where another joint does and turns part of the way with it, so that the skin there has a middle to follow."""


@dataclass(frozen=True, slots=True)
class Halfway:
    """How a helper joint follows the joint it stands at.

    of : that joint, which hangs on the same one. share : of how far that turned from rest, how far this turns.
    push : metres in the joint's own axes, times one minus the cosine of how far that turned: as a muscle that swells, or as a
    knuckle that is pushed out.
    """

    of: str
    share: float = 0.5
    push: Vector = (0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Joint:
    """One joint at rest.

    id : stable, from its limb kit (`arm.l.upper`) or from the file.
    name : a label, unique in the skeleton.
    position : metres, in the character.
    rotation : x y z w; the y axis runs down the limb, x is the bend axis.
    tail : for a joint without children, where its bone ends (None: it has no length).
    floating : no cord is drawn to its parent, and it owns no share of its parent's bone.
    role : what it is in its kit, "" for nothing in particular: `upper`, `lower`, `end`, `clavicle`...
    thick : how deep a file's joint lay in the mesh as it came, in shares of its extent (surroundings.py); None not known.
    halfway : of a helper joint, whom it follows, and how. Nothing hangs on one.
    """

    id: str
    name: str
    parent: str | None
    side: Side
    position: Vector
    rotation: Quaternion = (0.0, 0.0, 0.0, 1.0)
    tail: Vector | None = None
    floating: bool = False
    origin: Origin = Origin.KIT
    kind: JointKind = JointKind.PLAIN
    role: str = ""
    thick: float | None = None
    halfway: Halfway | None = None

    @property
    def aside(self) -> bool:
        """Whether it is no bone of the body but a joint beside one: for twist, or a helper."""
        return self.kind is not JointKind.PLAIN

    @property
    def matrix(self) -> FloatArray:
        return compose(self.position, self.rotation)


@dataclass(frozen=True, eq=False)
class Skeleton:
    """Joints, parents before children."""

    joints: tuple[Joint, ...]

    def __post_init__(self) -> None:
        seen: set[str] = set()
        for joint in self.joints:
            if joint.id in seen:
                raise ShapeError(f"two joints have the id {joint.id}")
            if joint.parent is not None and joint.parent not in seen:
                raise ShapeError(f"joint {joint.name}: its parent {joint.parent} is missing or comes later")
            seen.add(joint.id)

    @cached_property
    def index(self) -> Mapping[str, int]:
        return {joint.id: i for i, joint in enumerate(self.joints)}

    @cached_property
    def parents(self) -> IntArray:
        """(j,) index of each joint's parent, -1 for none."""
        numbers = [-1 if joint.parent is None else self.index[joint.parent] for joint in self.joints]
        return np.asarray(frozen(np.array(numbers, dtype=np.int64)))

    @cached_property
    def world(self) -> FloatArray:
        """(j, 4, 4) character_from_joint at rest."""
        if not self.joints:
            return np.zeros((0, 4, 4))
        matrices = np.tile(np.eye(4), (len(self.joints), 1, 1))
        matrices[:, :3, :3] = rotation_matrix(np.array([joint.rotation for joint in self.joints]))
        matrices[:, :3, 3] = [joint.position for joint in self.joints]
        return np.asarray(frozen(matrices))

    @cached_property
    def inverse_world(self) -> FloatArray:
        """(j, 4, 4) joint_from_character at rest, the inverse bind matrices."""
        return np.asarray(frozen(np.linalg.inv(self.world))) if self.joints else np.zeros((0, 4, 4))

    @cached_property
    def local(self) -> FloatArray:
        """(j, 4, 4) parent_from_joint at rest."""
        local = self.world.copy()
        for i, parent in enumerate(self.parents):
            if parent >= 0:
                local[i] = self.inverse_world[parent] @ self.world[i]
        return np.asarray(frozen(local))

    @cached_property
    def positions(self) -> FloatArray:
        return np.asarray(frozen(np.array([j.position for j in self.joints], dtype=np.float64).reshape(-1, 3)))

    def joint(self, joint_id: str) -> Joint:
        """The joint of that id. Raises ShapeError for an unknown id."""
        if joint_id not in self.index:
            raise ShapeError(f"there is no joint {joint_id}")
        return self.joints[self.index[joint_id]]

    def by_name(self, name: str) -> Joint | None:
        return next((joint for joint in self.joints if joint.name == name), None)

    def children(self, joint_id: str) -> tuple[Joint, ...]:
        return tuple(joint for joint in self.joints if joint.parent == joint_id)

    def other_side(self, joint_id: str) -> str | None:
        """Id of the joint across the middle, or None. A centre joint is its own."""
        joint = self.joint(joint_id)
        if joint.side is Side.CENTRE:
            return joint_id
        found = next((j for name in other_side_names(joint.name) if (j := self.by_name(name)) is not None), None)
        return found.id if found else self._across.get(joint_id)

    @cached_property
    def _across(self) -> Mapping[str, str]:
        """Joints of a file that stand mirrored to one another about x = 0, by id: a pair whose names do not tell it."""
        some = [j for j in self.joints if j.origin is Origin.FILE]
        if len(some) < 2:
            return {}
        # Loaded when it is needed: commands that only tell of patterns start without it.
        from scipy.spatial import cKDTree

        places = np.array([j.position for j in some])
        size = max(float(np.ptp(places, axis=0).max()), 1e-12)
        apart, nearest = (np.asarray(v) for v in cKDTree(places).query(places * [-1.0, 1.0, 1.0]))
        own = np.arange(len(some))
        agree = (nearest[nearest] == own) & (nearest != own) & (apart < ACROSS * size)
        return {some[k].id: some[int(nearest[k])].id for k in np.flatnonzero(agree).tolist()}


def with_sides(skeleton: Skeleton) -> Skeleton:
    """Joints of a file with the sides their names and places tell.

    What is called after a side but stands on the middle, with nothing called so on the other, is a middle one; what
    stands aside and has its like across is of that side, whatever it is called.
    """
    size = max(float(np.ptp(skeleton.positions, axis=0).max()), 1e-12) if skeleton.joints else 1.0
    result = []
    for joint in skeleton.joints:
        side = joint.side
        if joint.origin is Origin.FILE:
            x = joint.position[0]
            twin = any(skeleton.by_name(name) is not None for name in other_side_names(joint.name))
            if side is not Side.CENTRE and not twin and abs(x) < ON_PLANE * size:
                side = Side.CENTRE
            elif side is Side.CENTRE and abs(x) >= ON_PLANE * size and joint.id in skeleton._across:
                side = Side.LEFT if x > 0 else Side.RIGHT
        result.append(joint if side is joint.side else replace(joint, side=side))
    return Skeleton(tuple(result))


@by_identity
def without_helpers(skeleton: Skeleton) -> Skeleton:
    """The joints that are a body's own: by its shape a helper joint would look like a limb."""
    if all(joint.kind is not JointKind.HALFWAY for joint in skeleton.joints):
        return skeleton
    return Skeleton(tuple(joint for joint in skeleton.joints if joint.kind is not JointKind.HALFWAY))


def as_plain(skeleton: Skeleton) -> Skeleton:
    """Helper joints as joints that follow nothing: their motion has to be told."""
    if all(joint.halfway is None for joint in skeleton.joints):
        return skeleton
    return Skeleton(tuple(replace(j, halfway=None, kind=JointKind.PLAIN if j.kind is JointKind.HALFWAY else j.kind) for j in skeleton.joints))


AT_ROOT = 1e-6
"""Metres from its bone's joint within which a twist joint stands at the root."""


def twist_joints(skeleton: Skeleton, joint_id: str) -> tuple[Joint, ...]:
    """The twist joints along a joint's bone, from its root on."""
    place = skeleton.positions[skeleton.index[joint_id]]
    some = [c for c in skeleton.children(joint_id) if c.kind is JointKind.TWIST]
    return tuple(sorted(some, key=lambda c: float(np.linalg.norm(np.array(c.position) - place))))


def section_start(skeleton: Skeleton, joint: Joint) -> FloatArray:
    """Where the stretch of its bone begins that a joint's own skin lies along (3,): at the joint, or beyond the last of the
    twist joints that begin at its root."""
    here = np.array(joint.position)
    along = twist_joints(skeleton, joint.id) if joint.id in skeleton.index else ()
    if not along or np.linalg.norm(np.array(along[0].position) - here) > AT_ROOT or along[-1].tail is None:
        return here
    return np.array(along[-1].tail)


def _ends_bone(skeleton: Skeleton, joint: Joint, begin: FloatArray) -> bool:
    """Whether a joint is what its parent's bone leads to, past where twist joints end."""
    start = skeleton.positions[skeleton.index[joint.parent]] if joint.parent else begin
    way, gap = begin - start, np.array(joint.position) - start
    return float(gap @ way) > 0.0


def bone_segments(skeleton: Skeleton) -> tuple[FloatArray, FloatArray, IntArray]:
    """Segments each joint owns: to every child, or to its tail. starts (s, 3), ends (s, 3), owner (s,). Helper joints own none.

    A bone with twist joints along it ends, for its own joint, at the first of them; where they begin at its root, its own
    joint has what lies beyond the last.
    """
    starts, ends, owners = [], [], []
    has_child = set(skeleton.parents.tolist())
    first_twist: dict[str | None, str] = {}
    for joint in skeleton.joints:
        if joint.kind is JointKind.TWIST:
            first_twist.setdefault(joint.parent, joint.id)
    for i, joint in enumerate(skeleton.joints):
        if joint.kind is JointKind.HALFWAY:
            continue
        parent = int(skeleton.parents[i])
        along = joint.parent in first_twist and joint.id != first_twist[joint.parent]
        begin = section_start(skeleton, skeleton.joints[parent]) if parent >= 0 else None
        if begin is not None and not np.array_equal(begin, skeleton.positions[parent]):
            # The stretches up to there are the twist joints' own.
            along = joint.kind is JointKind.TWIST or not _ends_bone(skeleton, joint, begin)
        if parent >= 0 and not along and not joint.floating:
            starts.append(skeleton.positions[parent] if begin is None else begin)
            ends.append(skeleton.positions[i])
            owners.append(parent)
        if i not in has_child:
            starts.append(skeleton.positions[i])
            ends.append(np.array(joint.tail) if joint.tail is not None else skeleton.positions[i])
            owners.append(i)
    # A joint all of whose children float, or that ends where it starts, is at least a point.
    for i in sorted({i for i, j in enumerate(skeleton.joints) if j.kind is not JointKind.HALFWAY} - set(owners)):
        starts.append(skeleton.positions[i])
        ends.append(skeleton.positions[i])
        owners.append(i)
    return np.array(starts).reshape(-1, 3), np.array(ends).reshape(-1, 3), np.array(owners, dtype=np.int64)


__all__ = [
    "Halfway", "Joint", "JointKind", "Origin", "Quaternion", "Side", "Skeleton", "Vector", "bone_segments", "other_side_name", "side_of_name", "with_sides",
    "without_helpers",
]  # fmt: skip
