"""Bring a mesh in, stand it up, say what its parts are."""

from __future__ import annotations

from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, diagonal, weld, with_points
from pegloom.core.geometry.standing import Direction, guess_height, guess_stance, standing_matrix
from pegloom.core.geometry.symmetry import find_plane, partners, plane_score
from pegloom.core.geometry.transforms import matrix_quaternion, quaternion_product, transform_points
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
    notes: tuple[str, ...] = (),
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
        arrival=arrival_lines(parts, materials, images, skeleton, weights, clips, notes),
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
    A skeleton the file brought is stood up with the mesh; what was built here from pegs is not.

    Raises EditError when there is no character, or it has pegs or controls already.
    """
    character = document.require_character()
    if character.pegs is not None or character.rig is not None:
        raise EditError("this character has pegs already; stand the mesh up before placing them, or undo to there")
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
    changed = transformed(character, matrix)
    before = character.standing
    whole = matrix @ np.array(before.file_to_character).reshape(4, 4) if before else matrix
    standing = Standing(up.value, facing.value, wanted or raw, 0.0, plane.score, tuple(float(v) for v in whole.ravel()))
    return document.with_character(replace(changed, standing=standing))


def transformed(character: Character, matrix: FloatArray) -> Character:
    """The character under a similarity (4x4): points, morphs, joints and sampled clips; no pegs, no controls."""
    scale = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
    turn = matrix[:3, :3] / scale
    parts = tuple(
        replace(
            part, mesh=_settled(part.mesh, matrix),
            morphs=tuple(replace(m, deltas=owned_floats(m.deltas @ matrix[:3, :3].T)) for m in part.morphs),
        )
        for part in character.parts
    )  # fmt: skip
    skeleton = character.skeleton
    if skeleton is None:
        return replace(character, parts=parts)
    joints = []
    for joint in skeleton.joints:
        place = transform_points(matrix, np.array(joint.position))
        axes = turn @ joint.matrix[:3, :3]
        tail = None if joint.tail is None else tuple(transform_points(matrix, np.array(joint.tail)).tolist())
        joints.append(
            replace(joint, position=tuple(place.tolist()), rotation=tuple(matrix_quaternion(axes).tolist()), tail=tail)
        )
    moved = Skeleton(tuple(joints))
    clips = tuple(_turned_clip(clip, skeleton, matrix, turn, scale) for clip in character.clips)
    return replace(character, parts=parts, skeleton=moved, adopted=moved if character.adopted else None, clips=clips)


def _turned_clip(clip: Clip, skeleton: Skeleton, matrix: FloatArray, turn: FloatArray, scale: float) -> Clip:
    """Sampled motion under a similarity: lengths scaled, what has no parent turned and moved as well."""
    if not clip.tracks:
        return clip
    q = matrix_quaternion(turn)
    tracks = {}
    for joint_id, rows in clip.tracks.items():
        root = joint_id in skeleton.index and skeleton.joint(joint_id).parent is None
        made = []
        for track in rows:
            values = track.values
            if track.path == "translation":
                values = transform_points(matrix, values) if root else values * scale
            elif track.path == "rotation" and root:
                values = quaternion_product(q, values)
            made.append(replace(track, values=owned_floats(values)))
        tracks[joint_id] = tuple(made)
    return replace(clip, tracks=MappingProxyType(tracks))


def _settled(mesh: Mesh, matrix: FloatArray) -> Mesh:
    normals = None
    if mesh.normals is not None:
        turned = mesh.normals @ matrix[:3, :3].T
        normals = turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
        normals.setflags(write=False)
    return with_points(mesh, transform_points(matrix, mesh.points), normals=normals)


def arrival_lines(
    parts: tuple[Part, ...], materials: tuple[Material, ...], images: tuple[Image, ...], skeleton: Skeleton | None,
    weights: dict[str, Weights] | None, clips: tuple[Clip, ...], notes: tuple[str, ...],
) -> tuple[str, ...]:  # fmt: skip
    """What a file brought and what was ignored, for a person."""
    lines = [f"{p.name}: {p.mesh.vertex_count} vertices, {p.mesh.face_count} faces" for p in parts[:12]]
    if len(parts) > 12:
        lines.append(f"and {len(parts) - 12} more parts")
    morphs = sum(len(p.morphs) for p in parts)
    lines.append(f"{max(len(materials) - 1, 0)} materials, {len(images)} pictures")
    if morphs:
        lines.append(f"{morphs} morph targets")
    if skeleton is not None:
        lines.append(f"a skeleton of {len(skeleton.joints)} joints")
    if weights:
        lines.append(f"weights of {len(weights)} parts")
    if clips:
        lines.append(f"{len(clips)} clips: {', '.join(c.name for c in clips[:4])}")
    return (*lines, *(f"ignored or mended: {n}" for n in notes))


def turn_by(document: Document, degrees: float) -> Document:
    """Turn a stood-up character about its own upright, feet staying on the floor."""
    character = document.require_character()
    if character.pegs is not None or character.rig is not None:
        raise EditError("this character has pegs already; turn the mesh before placing them, or undo to there")
    angle = np.radians(degrees)
    matrix = np.eye(4)
    matrix[0, 0] = matrix[2, 2] = np.cos(angle)
    matrix[0, 2], matrix[2, 0] = np.sin(angle), -np.sin(angle)
    changed = transformed(character, matrix)
    standing = character.standing
    if standing is None:
        points = character.all_points()
        height = float(np.ptp(points[:, 1])) if len(points) else 1.0
        standing = Standing("+Y", "+Z", height, 0.0, 0.0, tuple(np.eye(4).ravel().tolist()))
    whole = matrix @ np.array(standing.file_to_character).reshape(4, 4)
    points = changed.all_points()
    score = plane_score(points, 0, 0.0) if len(points) else 0.0
    standing = replace(standing, symmetry=score, file_to_character=tuple(whole.ravel().tolist()))
    return document.with_character(replace(changed, standing=standing))


def unit_guesses(document: Document) -> tuple[tuple[str, float], ...]:
    """Units the file may be in: (unit, height in metres it would give), the likeliest first. Offered, not imposed."""
    character = document.require_character()
    points = character.all_points()
    if len(points) == 0:
        return ()
    raw = float(np.ptp(points[:, 1]))
    if character.standing is not None:
        # Once stood up, the file's own size is what the units are read from.
        raw /= float(np.cbrt(abs(np.linalg.det(np.array(character.standing.file_to_character).reshape(4, 4)[:3, :3]))))
    units = [("metres", 1.0), ("centimetres", 0.01), ("millimetres", 0.001), ("inches", 0.0254), ("feet", 0.3048)]
    plausible = [(name, raw * unit) for name, unit in units if 0.15 <= raw * unit <= 5.0]
    return tuple(sorted(plausible, key=lambda row: abs(np.log(row[1] / 1.6))))


def set_middle(document: Document, x: float) -> Document:
    """Put the mirror plane elsewhere: metres along x."""
    character = document.require_character()
    standing = character.standing
    if standing is None:
        raise EditError("stand the mesh up first; then the centre line can be moved")
    points = character.all_points()
    score = plane_score(points, 0, float(x)) if len(points) else 0.0
    return document.with_character(replace(character, standing=replace(standing, middle=float(x), symmetry=score)))


def evenness(document: Document) -> tuple[float, float, float]:
    """How symmetric the included parts are: share of vertices with a partner, mean and largest gap in metres."""
    character = document.require_character()
    middle = character.standing.middle if character.standing else 0.0
    paired, total, gaps = 0, 0, [np.zeros(0)]
    for part in character.included:
        across = partners(part.mesh, middle)
        has = np.flatnonzero(across >= 0)
        paired += len(has)
        total += part.mesh.vertex_count
        mirrored = part.mesh.points[across[has]] * [-1, 1, 1] + [2 * middle, 0, 0]
        gaps.append(np.linalg.norm(part.mesh.points[has] - mirrored, axis=1))
    gap = np.concatenate(gaps)
    return paired / max(total, 1), float(gap.mean()) if len(gap) else 0.0, float(gap.max(initial=0.0))


def even_out(document: Document, *, amount: float = 1.0, part_ids: tuple[str, ...] | None = None) -> Document:
    """Bring each vertex and its partner to mirrored places, each half way; vertices on the plane onto it.

    Vertices without a partner stay. Pegs, joints and weights are not touched.
    """
    if not 0.0 <= amount <= 1.0:
        raise EditError("evening out goes from 0 to 1")
    character = document.require_character()
    middle = character.standing.middle if character.standing else 0.0
    parts = []
    for part in character.parts:
        if part.included and (part_ids is None or part.id in part_ids):
            across = partners(part.mesh, middle)
            has = np.flatnonzero(across >= 0)
            mirrored = part.mesh.points[across[has]] * [-1, 1, 1] + [2 * middle, 0, 0]
            points = part.mesh.points.copy()
            points[has] += 0.5 * amount * (mirrored - points[has])
            points = points[weld(part.mesh).first][weld(part.mesh).group]
            part = replace(part, mesh=with_points(part.mesh, points, normals=part.mesh.normals))
        parts.append(part)
    return document.with_character(replace(character, parts=tuple(parts)))


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
