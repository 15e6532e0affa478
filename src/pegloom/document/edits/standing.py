"""Stand a character up, turn it, give it its size: settled into the points and into all that hangs on them.

Nothing below keeps a hidden scale or turn. A character with pegs, joints, weights, controls and motion is stood up
as well: everything goes along, and motion is the same motion of the body.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.core.arrays import FloatArray, owned_floats
from pegloom.core.curves import Curve
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh, far_off, with_points
from pegloom.core.geometry.standing import Direction, guess_height, guess_stance, nearest_axis, standing_matrix
from pegloom.core.geometry.symmetry import find_plane, plane_score
from pegloom.core.geometry.transforms import (
    euler_quaternion,
    matrix_quaternion,
    quaternion_euler,
    quaternion_product,
    rotation_matrix,
    transform_points,
)
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retell import carried_pose, reposed, reposed_clip
from pegloom.core.motion.tracks import joint_tracks
from pegloom.core.rig.changes import ControlChange
from pegloom.core.rig.channels import MOVE, Quantity
from pegloom.core.rig.controls import Control, ControlRig
from pegloom.core.rig.pose import JointPose, Pose, Shown
from pegloom.core.rig.resized import resized, resized_coupling
from pegloom.core.skeleton.build import AS_STOOD
from pegloom.core.skeleton.joints import Skeleton, Vector
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.document.edits.rebuild import rebuilt, recipe_of
from pegloom.document.model import Character, Document, Helper, JointOverride, OwnJoint, Part, Standing


def stand_up(
    document: Document,
    *,
    up: Direction | None = None,
    facing: Direction | None = None,
    height: float | None = None,
    keep_size: bool = False,
) -> Document:
    """Turn, scale and move the character so that it stands on the origin facing +Z; settled into the points.

    up, facing : the file's own axes, however the character was turned since. What is not given is guessed from the
    shape; of a character that has pegs, it is how it stands.
    height : metres; keep_size leaves the units as they are. Pegs, joints, weights, controls and motion go along.

    Raises EditError when there is no character, every part is left out, or the height is not more than 0.
    """
    character = document.require_character()
    points = character.all_points()
    if len(points) == 0:
        raise EditError("every part is left out; include one to stand it up")
    before = np.eye(4) if character.standing is None else np.array(character.standing.file_to_character).reshape(4, 4)
    in_file = transform_points(np.linalg.inv(before), points)
    y, z = _ways(character, in_file, before, up, facing)
    x = np.cross(y, z)
    # The mirror plane is looked for with the file's points turned upright, not yet scaled.
    plane = find_plane(in_file @ np.stack([x, y, z]).T, 0)
    raw = float(np.ptp(in_file[~far_off(in_file)] @ y)) * _scale_of(before)
    wanted = height if height is not None else guess_height(raw)
    if wanted <= 0:
        raise EditError(f"the height must be more than 0 m, got {wanted:g} m")
    offset = plane.offset if plane.score > 0.2 else None
    wanted = raw if keep_size else wanted
    whole = standing_matrix(in_file, y, z, height=wanted, lateral_offset=offset)
    changed = transformed(character, whole @ np.linalg.inv(before))
    standing = Standing(
        nearest_axis(y), nearest_axis(z), wanted, 0.0, plane.score, tuple(float(v) for v in whole.ravel())
    )
    return document.with_character(replace(changed, standing=standing))


def _ways(
    character: Character, in_file: FloatArray, before: FloatArray, up: Direction | None, facing: Direction | None
) -> tuple[FloatArray, FloatArray]:
    """Up and forward, unit vectors (3,) square to each other in the file's axes, from what was asked and the shape.

    in_file : (n, 3) points. before : (4, 4) from the file to how the character stands now.
    """
    if up is not None and facing is not None and abs(facing.vector @ up.vector) < 0.5:
        return up.vector, facing.vector
    if character.pegs is not None:
        turn = before[:3, :3] / _scale_of(before)
        y, z = turn[1], turn[2]
    else:
        stance = guess_stance(in_file, character.all_triangles())
        y, z = stance.up_vector, stance.facing_vector
    if up is not None:
        y = up.vector
    if facing is not None and abs(facing.vector @ y) < 0.9:
        z = facing.vector
    z = z - y * float(z @ y)
    if np.linalg.norm(z) < 0.3:
        # What was to be ahead has become up: the file's other likely way ahead.
        z = Direction.PLUS_Z.vector if abs(y[2]) < 0.5 else Direction.PLUS_Y.vector
        z = z - y * float(z @ y)
    return y, z / np.linalg.norm(z)


def turn_by(document: Document, degrees: float, *, draft: bool = False) -> Document:
    """Turn a stood-up character about its own upright, feet staying on the floor.

    draft : to be looked at during a drag only; joints and controls are turned, not built anew.
    """
    character = document.require_character()
    angle = np.radians(degrees)
    matrix = np.eye(4)
    matrix[0, 0] = matrix[2, 2] = np.cos(angle)
    matrix[0, 2], matrix[2, 0] = np.sin(angle), -np.sin(angle)
    changed = transformed(character, matrix, draft=draft)
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
        raw /= _scale_of(np.array(character.standing.file_to_character).reshape(4, 4))
    units = [("metres", 1.0), ("centimetres", 0.01), ("millimetres", 0.001), ("inches", 0.0254), ("feet", 0.3048)]
    plausible = [(name, raw * unit) for name, unit in units if 0.15 <= raw * unit <= 5.0]
    return tuple(sorted(plausible, key=lambda row: abs(np.log(row[1] / 1.6))))


def transformed(character: Character, matrix: FloatArray, *, draft: bool = False) -> Character:
    """The character under a similarity (4x4): everything with a place or a length goes along.

    Unless it is a draft, joints and controls are then built anew from their recipes, so that their axes are those of
    a character that was stood up first; poses, trials and clips are told in them as the motion they were. Weights are not touched.
    """
    move = _Similarity(matrix)
    parts = tuple(move.part(part) for part in character.parts)
    # Before there are joints, the body is stood up so that ahead is ahead; after, what is its front goes with it.
    front = move.turned(character.front) if character.skeleton is not None else AS_STOOD
    changed = replace(
        character, parts=parts, pegs=move.pegs(character.pegs), adopted=move.skeleton(character.adopted), front=front,
        rig_changes=replace(
            resized(character.rig_changes, character.rig, move.scale, move.rest),
            controls=MappingProxyType({c: move.change(o) for c, o in character.rig_changes.controls.items()}),
        ),
        references=tuple(
            replace(r, centre=move.length(r.centre), height=r.height * move.scale) for r in character.references
        ),
        worn=None if character.worn is None else replace(character.worn, scale=character.worn.scale * move.scale),
    )  # fmt: skip
    axes = {} if draft or character.skeleton is None else _new_axes(character, changed, move)
    overrides = {j: move.override(o, axes.get(j)) for j, o in character.joint_overrides.items()}
    own = tuple(move.own(o, axes.get(o.parent)) for o in character.own_joints)
    helpers = tuple(move.helper(h, axes.get(h.of)) for h in character.helpers)
    changed = replace(changed, joint_overrides=MappingProxyType(overrides), own_joints=own, helpers=helpers)
    old = character.skeleton
    if old is None:
        return changed
    moved = move.skeleton(old)
    rig = move.rig(character.rig)
    clips = tuple(move.clip(clip, old, character.rig) for clip in character.clips)
    pose = move.pose(character.pose, old, character.rig)
    trials = tuple(replace(t, pose=move.pose(t.pose, old, character.rig)) for t in character.trials)
    faces = tuple(replace(e, values=move.values(e.values, character.rig)) for e in character.expressions)
    shelf = tuple(replace(p, values=move.values(p.values, character.rig)) for p in character.poses)
    changed = replace(changed, skeleton=moved, rig=rig, clips=clips, pose=pose, trials=trials, expressions=faces, poses=shelf)
    if draft or (character.pegs is None and character.adopted is None):
        return changed
    # Seen as a change of joints, clips sampled on joints are carried over by the rebuild itself.
    built = rebuilt(changed)
    new = built.skeleton
    assert moved is not None and new is not None
    if built.rig is not None and rig is not None and not _same_controls(rig, built.rig):
        new_rig = built.rig

        def told(p: Shown) -> Shown:
            if isinstance(p, JointPose):
                return carried_pose(p, moved, new)
            return reposed(p, moved, rig, new, new_rig, Pose())

        clips = tuple(reposed_clip(c, moved, rig, new, new_rig, Pose()) for c in built.clips)
        trials = tuple(replace(t, pose=told(t.pose)) for t in trials)
        return replace(built, clips=clips, pose=told(pose), trials=trials)
    # A pose told by joints that were built anew on other axes.
    trials = tuple(
        replace(t, pose=carried_pose(t.pose, moved, new)) if isinstance(t.pose, JointPose) else t for t in trials
    )
    if isinstance(pose, JointPose):
        pose = carried_pose(pose, moved, new)
    return replace(built, pose=pose, trials=trials)


def _new_axes(character: Character, changed: Character, move: _Similarity) -> dict[str, FloatArray]:
    """How a joint's old axes, turned along, lie in the axes its recipe gives it now: (3, 3) by joint id."""
    old, new = recipe_of(character), recipe_of(changed)
    return {
        joint.id: new.world[new.index[joint.id]][:3, :3].T @ move.turn @ old.world[i][:3, :3]
        for i, joint in enumerate(old.joints)
        if joint.id in new.index
    }


def _same_controls(one: ControlRig, other: ControlRig) -> bool:
    """Whether channel values mean the same on both."""
    if [c.id for c in one.controls] != [c.id for c in other.controls]:
        return False
    return all(np.allclose(a.rest, b.rest, atol=1e-9) for a, b in zip(one.controls, other.controls, strict=True))


def _scale_of(matrix: FloatArray) -> float:
    return float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))


class _Similarity:
    """A turn, an even scale and a move, put to each kind of thing."""

    def __init__(self, matrix: FloatArray) -> None:
        self.matrix, self.scale = matrix, _scale_of(matrix)
        self.turn = matrix[:3, :3] / self.scale
        self.quaternion = matrix_quaternion(self.turn)

    def place(self, at: Vector) -> Vector:
        x, y, z = transform_points(self.matrix, np.array(at)).tolist()
        return (x, y, z)

    def length(self, v: Vector) -> Vector:
        x, y, z = v
        return (x * self.scale, y * self.scale, z * self.scale)

    def turned(self, q: tuple[float, float, float, float]) -> tuple[float, float, float, float]:
        x, y, z, w = matrix_quaternion(self.turn @ rotation_matrix(q)).tolist()
        return (x, y, z, w)

    def part(self, part: Part) -> Part:
        morphs = tuple(replace(m, deltas=owned_floats(m.deltas @ self.matrix[:3, :3].T)) for m in part.morphs)
        return replace(part, mesh=self.mesh(part.mesh), morphs=morphs)

    def mesh(self, mesh: Mesh) -> Mesh:
        normals = None
        if mesh.normals is not None:
            turned = mesh.normals @ self.matrix[:3, :3].T
            normals = turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12)
            normals.setflags(write=False)
        return with_points(mesh, transform_points(self.matrix, mesh.points), normals=normals)

    def pegs(self, pegs: PegSet | None) -> PegSet | None:
        if pegs is None:
            return None

        def moved(peg: Peg) -> Peg:
            return replace(peg, position=self.place(peg.position))

        spare = MappingProxyType({name: moved(peg) for name, peg in pegs.spare.items()})
        return replace(pegs, pegs=tuple(moved(peg) for peg in pegs.pegs), spare=spare)

    def skeleton(self, skeleton: Skeleton | None) -> Skeleton | None:
        if skeleton is None:
            return None
        return Skeleton(
            tuple(
                replace(
                    j, position=self.place(j.position), rotation=self.turned(j.rotation),
                    tail=None if j.tail is None else self.place(j.tail),
                    halfway=None if j.halfway is None else replace(j.halfway, push=self.length(j.halfway.push)),
                )
                for j in skeleton.joints
            )
        )  # fmt: skip

    def override(self, change: JointOverride, axes: FloatArray | None) -> JointOverride:
        """axes: see _new_axes; None where they are the old ones."""
        seen = None if change.seen is None else self.place(change.seen)
        move, turn = self.length(change.move), change.turn
        if axes is not None:
            move = _in_axes(axes, move)
            if any(turn):
                x, y, z = quaternion_euler(matrix_quaternion(axes @ rotation_matrix(euler_quaternion(turn)) @ axes.T))
                turn = (float(x), float(y), float(z))
        return replace(change, move=move, turn=turn, seen=seen)

    def own(self, own: OwnJoint, axes: FloatArray | None) -> OwnJoint:
        """axes: those of its parent, see _new_axes."""
        if own.parent:
            place, tail, turn = self.length(own.place), None if own.tail is None else self.length(own.tail), own.turn
            if axes is not None:
                place, tail = _in_axes(axes, place), None if tail is None else _in_axes(axes, tail)
                x, y, z, w = matrix_quaternion(axes @ rotation_matrix(turn)).tolist()
                turn = (x, y, z, w)
            return replace(own, place=place, turn=turn, tail=tail)
        tail = None if own.tail is None else self.place(own.tail)
        return replace(own, place=self.place(own.place), turn=self.turned(own.turn), tail=tail)

    def helper(self, one: Helper, axes: FloatArray | None) -> Helper:
        """axes: of the joint it follows, see _new_axes."""
        push = self.length(one.push)
        return replace(one, push=push if axes is None else _in_axes(axes, push))

    def change(self, change: ControlChange) -> ControlChange:
        seen = change.seen
        if seen is not None:
            seen = self.rest(np.array(seen).reshape(4, 4))
        return replace(
            change, offset=self.length(change.offset), rest_move=self.length(change.rest_move), seen=seen
        )

    def rest(self, matrix: FloatArray) -> tuple[float, ...]:
        """A place without scale (4x4), at its new place with turned axes, as 16 numbers."""
        result = matrix.copy()
        result[:3, 3] = self.place((result[0, 3], result[1, 3], result[2, 3]))
        result[:3, :3] = self.turn @ result[:3, :3]
        return tuple(float(v) for v in result.ravel())

    def rig(self, rig: ControlRig | None) -> ControlRig | None:
        """Controls at the new places with turned axes: their channels read as before, moves at the new size."""
        if rig is None:
            return None

        def moved(control: Control) -> Control:
            channels = tuple(
                replace(c, rest=c.rest * self.scale, low=_times(c.low, self.scale), high=_times(c.high, self.scale),
                        soft=c.soft * self.scale) if c.quantity is Quantity.LENGTH else c
                for c in control.channels
            )  # fmt: skip
            return replace(
                control, rest=self.rest(control.matrix), size=control.size * self.scale,
                offset=self.length(control.offset), channels=channels,
            )  # fmt: skip

        lengths = {ref for ref, is_length in _lengths(rig).items() if is_length}
        couplings = tuple(resized_coupling(c, lengths, self.scale) for c in rig.couplings)
        return replace(rig, controls=tuple(moved(control) for control in rig.controls), couplings=couplings)

    def values(self, values: Mapping[tuple[str, str], float], rig: ControlRig | None) -> Mapping[tuple[str, str], float]:
        """Channel values, lengths scaled."""
        lengths = _lengths(rig)
        return MappingProxyType({ref: v * self.scale if _is_length(ref, lengths) else v for ref, v in values.items()})

    def pose(self, pose: Shown, skeleton: Skeleton, rig: ControlRig | None) -> Shown:
        """The same pose of the body: moves scaled, what has no parent turned and moved as well."""
        if isinstance(pose, Pose):
            return Pose(self.values(pose.values, rig))
        rows = pose.rows.copy()
        for row, joint in zip(rows, pose.joints, strict=True):
            if joint in skeleton.index and skeleton.joint(joint).parent is None:
                row[:3] = self.place((row[0], row[1], row[2]))
                row[3:7] = self.turned((row[3], row[4], row[5], row[6]))
            else:
                row[:3] *= self.scale
        return JointPose(pose.joints, rows)

    def clip(self, clip: Clip, skeleton: Skeleton, rig: ControlRig | None) -> Clip:
        tracks = {}
        for joint_id, rows in clip.tracks.items():
            root = joint_id in skeleton.index and skeleton.joint(joint_id).parent is None
            result = []
            for track in rows:
                values = track.values
                if track.path == "translation":
                    values = transform_points(self.matrix, values) if root else values * self.scale
                elif track.path == "rotation" and root:
                    values = quaternion_product(self.quaternion, values)
                result.append(replace(track, values=owned_floats(values)))
            tracks[joint_id] = tuple(result)
        lengths = _lengths(rig)


        def scaled(curves: Mapping[tuple[str, str], Curve]) -> Mapping[tuple[str, str], Curve]:
            return MappingProxyType(
                {ref: c.scaled(self.scale) if _is_length(ref, lengths) else c for ref, c in curves.items()}
            )

        layers = tuple(replace(layer, curves=scaled(layer.curves)) for layer in clip.layers)
        return replace(clip, tracks=joint_tracks(tracks), curves=scaled(clip.curves), layers=layers)


def _in_axes(axes: FloatArray, v: Vector) -> Vector:
    x, y, z = (axes @ np.array(v)).tolist()
    return (x, y, z)


def _times(limit: float | None, factor: float) -> float | None:
    return None if limit is None else limit * factor


def _lengths(rig: ControlRig | None) -> dict[tuple[str, str], bool]:
    """Which channels of a rig are lengths."""
    if rig is None:
        return {}
    return {
        ref: channel.quantity is Quantity.LENGTH
        for ref, channel in zip(rig.slots.index, rig.slots.channels, strict=True)
    }


def _is_length(ref: tuple[str, str], known: dict[tuple[str, str], bool]) -> bool:
    """Whether a channel's values are metres; of one the rig does not have, its key tells."""
    return known.get(ref, ref[1] in MOVE)
