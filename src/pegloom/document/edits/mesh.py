"""Bring a mesh in, stand it up, say what its parts are."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, diagonal, with_points
from pegloom.core.geometry.standing import Direction, guess_height, guess_stance, standing_matrix
from pegloom.core.geometry.symmetry import find_plane
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.motion.clips import Clip
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, most_influences
from pegloom.document.model import Character, Document, Image, Material, Part, PartKind, Skin, Standing


def bring_in(
    document: Document,
    parts: tuple[Part, ...],
    *,
    name: str,
    materials: tuple[Material, ...] = (),
    images: tuple[Image, ...] = (),
    skeleton: Skeleton | None = None,
    weights: dict[str, Weights] | None = None,
    clips: tuple[Clip, ...] = (),
) -> Document:
    """A new character from a file's parts, in the file's own coordinates. Raises EditError for a mesh of no size."""
    points = np.concatenate([part.mesh.points for part in parts]) if parts else np.zeros((0, 3))
    if len(points) == 0 or diagonal(points) <= 0:
        raise EditError("the mesh has no size: all its points are in one place")
    skin = None
    if weights:
        most = max(most_influences(w) for w in weights.values())
        skin = Skin("from the file", most, MappingProxyType(dict(weights)))
    character = Character(
        f"character{len(document.characters)}", name, parts=parts, materials=materials, images=images,
        skeleton=skeleton, adopted=skeleton, skin=skin, clips=clips,
    )  # fmt: skip
    return replace(document, characters=(*document.characters, character), active=len(document.characters), name=name)


def stand_up(
    document: Document,
    *,
    up: Direction | None = None,
    facing: Direction | None = None,
    height: float | None = None,
    keep_size: bool = False,
) -> Document:
    """Turn, scale and move the character so that it stands on the origin facing +Z; settled into the points.

    What is not given is guessed from the shape. height in metres; keep_size leaves the units as they are.
    Joints, pegs and clips of a finished rig would no longer fit, so a rigged character is not stood up again.

    Raises EditError when there is no character, or it has joints already.
    """
    character = document.require_character()
    if character.skeleton is not None or character.pegs is not None:
        raise EditError("this character has joints already; stand the mesh up before placing pegs, or undo to there")
    points = character.all_points()
    if len(points) == 0:
        raise EditError("every part is left out; include one to stand it up")
    stance = guess_stance(points, character.all_triangles())
    up = up or stance.up
    facing = facing if facing is not None and abs(facing.vector @ up.vector) < 0.5 else stance.facing
    if abs(facing.vector @ up.vector) > 0.5:
        facing = Direction.PLUS_Z if abs(up.vector[2]) < 0.5 else Direction.PLUS_Y
    lateral = int(np.argmax(np.abs(np.cross(up.vector, facing.vector))))
    plane = stance.symmetry if stance.symmetry.axis == lateral else find_plane(points, lateral)
    along_up = points @ up.vector
    raw = float(np.ptp(along_up))
    wanted = None if keep_size else (height if height is not None else guess_height(raw))
    if wanted is not None and wanted <= 0:
        raise EditError(f"the height must be more than 0 m, got {wanted:g} m")
    offset = plane.offset if plane.score > 0.2 else None
    matrix = standing_matrix(points, up, facing, height=wanted, lateral_offset=offset)
    parts = tuple(replace(part, mesh=_settled(part.mesh, matrix)) for part in character.parts)
    before = character.standing
    whole = matrix @ np.array(before.file_to_character).reshape(4, 4) if before else matrix
    standing = Standing(up.value, facing.value, wanted or raw, 0.0, plane.score, tuple(float(v) for v in whole.ravel()))
    return document.with_character(replace(character, parts=parts, standing=standing))


def _settled(mesh: Mesh, matrix: FloatArray) -> Mesh:
    normals = None
    if mesh.normals is not None:
        turned = mesh.normals @ matrix[:3, :3].T
        normals = turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
        normals.setflags(write=False)
    return with_points(mesh, transform_points(matrix, mesh.points), normals=normals)


def include_part(document: Document, part_id: str, included: bool) -> Document:
    """Take a part in or leave it out. Its weights are kept either way."""
    return _with_part(document, replace(document.require_character().part(part_id), included=included))


def set_part_kind(document: Document, part_id: str, kind: PartKind) -> Document:
    """Say what a part is: skin, cloth, hard part, held prop."""
    return _with_part(document, replace(document.require_character().part(part_id), kind=kind))


def _with_part(document: Document, part: Part) -> Document:
    character = document.require_character()
    parts = tuple(part if p.id == part.id else p for p in character.parts)
    return document.with_character(replace(character, parts=parts))
