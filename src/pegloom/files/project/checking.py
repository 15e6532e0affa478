"""What a record's types do not tell: references, lengths and ranges; refused with their place, or mended with a line."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.errors import PegLoomError, ProjectFileError, ShapeError, one_line
from pegloom.core.geometry.mesh import LAYER_WIDTHS
from pegloom.core.motion.retarget import Source
from pegloom.core.motion.together import LARGEST, MOST_STANDS, SMALLEST, Figure, Stance
from pegloom.core.rig.changes import ChannelChange, ControlChange
from pegloom.core.rig.controls import Control
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import JointPose
from pegloom.core.skin.relax import Relax
from pegloom.core.tolerances import FARTHEST
from pegloom.document.model import Character, Image, Part, Reference, Skin, Standing
from pegloom.files.allowance import MOST_PARTS, take
from pegloom.files.allowance import count as limited
from pegloom.files.images import KEPT, kind_of
from pegloom.files.names import Unique, is_picture_name, picture_name
from pegloom.files.soundness import clip as sound_clip
from pegloom.files.soundness import joints as sound_joints
from pegloom.files.soundness import material as sound_material
from pegloom.files.soundness import part as sound_part
from pegloom.files.soundness import weights as sound_weights

MOST_STEPS, MOST_INFLUENCES = 1000, 64
MOST_SIZE, MOST_POINTS = 1e6, 20_000
COLOUR = re.compile(r"#[0-9a-fA-F]{6}")


def out_of_rule(result: Any) -> str:
    """What is wrong with a record though its types are right, or "": `.rest: 16 numbers were expected, found 3`."""
    if isinstance(result, Control):
        wrong = _wrong_look(result)
        if wrong:
            return wrong
        if len(result.rest) != 16:
            return f".rest: 16 numbers were expected, found {len(result.rest)}"
        keys = [c.key for c in result.channels]
        if len(set(keys)) != len(keys):
            return ".channels: two channels have one key"
        for k, channel in enumerate(result.channels):
            if channel.low is not None and channel.high is not None and channel.low > channel.high:
                return f".channels[{k}].low: it is above the upper limit"
    if isinstance(result, ControlChange):
        if result.seen is not None and len(result.seen) != 16:
            return f".seen: 16 numbers were expected, found {len(result.seen)}"
        wrong = _wrong_look(result)
        if wrong:
            return wrong
    if isinstance(result, ChannelChange) and result.limits is not None:
        low, high = result.limits
        if low is not None and high is not None and low > high:
            return ".limits: the lower one is above the upper one"
    if isinstance(result, Standing) and len(result.file_to_character) != 16:
        return f".file_to_character: 16 numbers were expected, found {len(result.file_to_character)}"
    if isinstance(result, JointPose) and result.rows.shape != (len(result.joints), 10):
        return f".rows: 10 numbers were expected for each of {len(result.joints)} joints"
    if isinstance(result, Relax) and not 0 <= result.steps <= MOST_STEPS:
        return f".steps: 0 to {MOST_STEPS} were expected, found {result.steps}"
    if isinstance(result, Reference) and result.along not in ("x", "y", "z"):
        return f".along: x, y or z was expected, found {result.along[:20]}"
    if isinstance(result, Stance):
        if not SMALLEST <= result.scale <= LARGEST:
            return f".scale: {SMALLEST:g} to {LARGEST:g} was expected, found {result.scale:g}"
        if not np.isfinite([*result.at, *result.turn]).all() or abs(np.linalg.norm(result.turn) - 1.0) > 1e-3:
            return ".turn: a place and a quaternion of length 1 were expected"
    if isinstance(result, Figure):
        starts = [stand.start for stand in result.stands]
        if not 1 <= len(starts) <= MOST_STANDS or not np.isfinite([*starts, result.start]).all() or starts != sorted(starts):
            return f".stands: 1 to {MOST_STANDS} in the order of time were expected"
    if isinstance(result, Skin) and not 0 <= result.influences <= MOST_INFLUENCES:
        return f".influences: 0 to {MOST_INFLUENCES} were expected, found {result.influences}"
    return ""


def _wrong_look(result: Control | ControlChange) -> str:
    """What is wrong with how a control looks, or ""."""
    for name, value in (("size", result.size), ("thickness", result.thickness), *(("stretch", v) for v in result.stretch)):
        if not 0.0 < value < MOST_SIZE:
            return f".{name}: more than 0 and less than {MOST_SIZE:g} was expected, found {value:g}"
    if result.colour and not COLOUR.fullmatch(result.colour):
        return f".colour: #RRGGBB was expected, found {result.colour[:20]}"
    if sum(len(line) for line in result.lines or ()) > MOST_POINTS or any(len(line) < 2 for line in result.lines or ()):
        return f".lines: lines of 2 points or more, {MOST_POINTS} in all, were expected"
    return ""


def check_references(path: Path, character: Character, where: str) -> None:
    """What one thing says of another: joints that hold weight, what a rig drives and rides on, the pegs of kits."""

    def fail(what: str, place: str) -> ProjectFileError:
        return ProjectFileError(path.name, what, where=f"{where}.{place}", hint="open an older copy")

    joints = character.skeleton.index if character.skeleton is not None else {}
    skins = [("skin", character.skin)] if character.skin is not None else []
    for place, skin in [*skins, *((f"weaves[{k}].skin", w.skin) for k, w in enumerate(character.weaves))]:
        for part, weights in skin.weights.items():
            missing = [j for j in weights.joint_ids if j not in joints]
            if missing or len(set(weights.joint_ids)) != len(weights.joint_ids):
                raise fail(
                    f"names joint {str((missing or weights.joint_ids)[0])[:40]} wrongly", f"{place}.weights[{part}]"
                )
    rig = character.rig
    if rig is not None:
        if character.skeleton is None:
            raise fail("there are controls, but no joints", "rig")
        if len(rig.index) != len(rig.controls):
            raise fail("two controls have one id", "rig.controls")
        try:
            make_plan(character.skeleton, rig)
        except PegLoomError as error:
            raise fail(str(error), "rig") from None
    if character.pegs is not None:
        known = {*character.pegs.by_name, *character.pegs.spare}
        known_joints = {"", *joints, *(j for kit in character.pegs.kits for j in kit.joints)}
        known_joints |= set(character.adopted.index) if character.adopted is not None else set()
        for k, kit in enumerate(character.pegs.kits):
            if not set(kit.pegs) <= known:
                raise fail(
                    f"names pegs that are not there ({', '.join(set(kit.pegs) - known)[:60]})", f"pegs.kits[{k}]"
                )
            if kit.attach not in known_joints:
                raise fail(f"hangs on joint {kit.attach[:40]}, which is not there", f"pegs.kits[{k}].attach")
            if not len(kit.joints) == len(kit.names) == len(kit.at):
                raise fail("has not one name and place for each joint", f"pegs.kits[{k}]")
            last = len(kit.pegs) - 1
            if kit.kind != "root" and not all(0 <= place <= last + 1e-9 for place in (last, *kit.at, *kit.fold)):
                raise fail("has joints beyond its pegs", f"pegs.kits[{k}]")


def checked(path: Path, character: Character) -> Character:
    """What a damaged or hand-made file may get wrong that would only show later: refused, or mended with a line."""
    notes: list[str] = []
    limited(len(character.parts), MOST_PARTS, "parts")
    if len({p.id for p in character.parts}) != len(character.parts):
        raise ProjectFileError(path.name, "two parts have one id", hint="open an older copy")
    for part in character.parts:
        _check_mesh(path, part)
    if character.standing is not None and not _turns_and_scales(character.standing.file_to_character):
        raise ProjectFileError(
            path.name, "how the figure stands is no turn, scale and move of the file", where="standing", hint="open an older copy"
        )
    skins = [*([character.skin] if character.skin else []), *(w.skin for w in character.weaves)]
    for skin in skins:
        _check_skin(path, character, skin)
    for chosen in character.vertex_sets.values():
        for part_id, vertices in chosen.items():
            most = character.part(part_id).mesh.vertex_count
            if len(vertices) and not 0 <= vertices.min() <= vertices.max() < most:
                raise ProjectFileError(path.name, "a vertex set names a missing vertex", where=part_id)
    materials = tuple(sound_material(m, notes) for m in character.materials)
    parts = tuple(sound_part(p, max(len(materials), 1), notes) for p in character.parts)
    images, renamed = _named_plainly(character.images, notes)
    pictured = [*character.images, *(r.image for r in character.references)]
    pictured += [t.picture for t in character.trials if t.picture is not None]
    for image in pictured:
        if KEPT.get(kind_of(image.data) or "") != image.kind:
            raise ProjectFileError(path.name, "a picture is neither PNG nor JPEG", where=one_line(str(image.name))[:60])
    if renamed:
        materials = tuple(m.with_pictures({a: b for a, b in renamed.items() if a is not None}) for m in materials)
    skeleton = character.skeleton if character.skeleton is None else sound_joints(character.skeleton)
    clips = tuple(sound_clip(c) for c in character.clips)
    sources = tuple(_sound_source(s) for s in character.sources)
    same = all(
        a is b
        for a, b in zip(
            (*materials, *parts, *clips, *sources), (*character.materials, *character.parts, *character.clips, *character.sources), strict=True
        )
    )
    if same and not notes and skeleton is character.skeleton:
        return character
    import_notes = (*character.import_notes, *(f"mended: {n}" for n in notes))
    return replace(
        character, materials=materials, parts=parts, images=images, skeleton=skeleton, clips=clips, import_notes=import_notes,
        sources=sources,
    )


def _sound_source(source: Source) -> Source:
    skeleton, clip = sound_joints(source.skeleton), sound_clip(source.clip)
    return source if skeleton is source.skeleton and clip is source.clip else replace(source, skeleton=skeleton, clip=clip)


def _turns_and_scales(matrix: tuple[float, ...]) -> bool:
    """Whether a matrix (16,) turns, scales all ways alike and moves, and so can be undone."""
    block = np.array(matrix, dtype=np.float64).reshape(4, 4)[:3, :3]
    size = float(np.linalg.norm(block[:, 0]))
    return bool(1e-9 < size < 1e9 and np.abs(block.T @ block / size**2 - np.eye(3)).max() < 1e-3)


def _named_plainly(images: tuple[Image, ...], notes: list[str]) -> tuple[tuple[Image, ...], dict[str | None, str]]:
    """Pictures whose names are names and nothing else; what was renamed."""
    if all(is_picture_name(i.name) for i in images) and len({i.name for i in images}) == len(images):
        return images, {}
    unique = Unique("_")
    result, renamed = [], dict[str | None, str]()
    for image in images:
        name = image.name if is_picture_name(image.name) else picture_name(str(image.name), image.kind)
        name = unique(name)
        if name != image.name:
            notes.append(f"picture {one_line(str(image.name))[:60]} is called {name} now")
            renamed.setdefault(image.name, name)
        result.append(Image(name, image.kind, image.data))
    return tuple(result), renamed


def _check_mesh(path: Path, part: Part) -> None:
    mesh = part.mesh
    corners, faces = len(mesh.corners), len(mesh.starts) - 1
    fits = (
        mesh.points.ndim == 2
        and mesh.points.shape[1] == 3
        and mesh.corners.ndim == mesh.starts.ndim == mesh.materials.ndim == 1
        and all(a.dtype.kind in "iu" for a in (mesh.corners, mesh.starts, mesh.materials))
        and faces >= 0
        and mesh.starts[0] == 0
        and mesh.starts[-1] == corners
        and bool((np.diff(mesh.starts) >= 3).all())
        and len(mesh.materials) == faces
        and (mesh.uvs is None or mesh.uvs.shape == (corners, 2))
        and (mesh.normals is None or mesh.normals.shape == (corners, 3))
        and all(v.shape == (corners, LAYER_WIDTHS.get(name, -1)) for name, v in mesh.layers.items())
    )
    if not fits:
        raise ProjectFileError(
            path.name, "a mesh is not put together right", where=part.name, hint="open an older copy"
        )
    if corners and (mesh.corners.min() < 0 or mesh.corners.max() >= mesh.vertex_count):
        raise ProjectFileError(path.name, "a face names a missing vertex", where=part.name)
    # What is shown and worked out of a mesh takes several times its arrays.
    take(100 * mesh.vertex_count + 40 * corners, f"mesh {part.name}")
    if max(-mesh.points.min(initial=0.0), mesh.points.max(initial=0.0)) > FARTHEST:
        raise ProjectFileError(path.name, "a vertex lies farther off than anything is", where=part.name)


def _check_skin(path: Path, character: Character, skin: Skin) -> None:
    for part_id, weights in skin.weights.items():
        try:
            sound_weights(weights, character.part(part_id).mesh)
        except ShapeError as error:
            raise ProjectFileError(path.name, f"weights do not fit their part: {error}", where=part_id) from None
    masks = [(p, r.mask) for p, r in skin.relax.items() if r.mask is not None]
    for part_id, values in (*skin.dual.items(), *masks):
        if len(values) != character.part(part_id).mesh.vertex_count:
            raise ProjectFileError(path.name, "a painted mask does not fit its part", where=part_id)
