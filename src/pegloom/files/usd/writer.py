"""USD written: parts with their normals, materials' basic values and pictures, skeleton and weights, morph targets, motion.

Names that USD cannot take as a prim's are kept beside it, as the name for display; joints' as `jointNames`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, Mesh
from pegloom.core.geometry.transforms import composed
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, packed
from pegloom.document.delivery.lost import not_exported
from pegloom.document.model import Character, Document, Image, Part, Subdivision
from pegloom.document.world import clip_of, prefixes, scene_length
from pegloom.files.gltf_together import ways_of
from pegloom.files.names import Unique, picture_name
from pegloom.files.neighbours import Neighbours
from pegloom.files.outgoing import outgoing
from pegloom.files.scratch import scratch
from pegloom.files.usd.layers import LEVELS, told
from pegloom.files.usd.looks import write_material
from pegloom.files.usd.motion_write import Motion, held_motion, motion_of, on_one_time, shape_tokens, write_motion

PACKAGE = ".usdz"
ALONE, WORLD = "/character", "/world"
"""The prim over all of a file: a character's, or that of the world several stand in."""


@dataclass(frozen=True)
class Axes:
    """What a stage says of its numbers. unit : metres in one. z_up : whether up is z; else y."""

    unit: float = 1.0
    z_up: bool = False


METRES = Axes()


def write_usd(path: Path, character: Character, *, axes: Axes = METRES) -> list[str]:
    """Write a character at rest, with its clips; the first one is bound to its skeleton. Returns notes on what was left out.

    axes : those the character is in already. Raises MeshFileError where the place cannot be written; what was there stays then.
    """
    return _write(path, [_One(character, ALONE, "", np.eye(4), _motions(character))], ALONE, axes, np.eye(4))


def write_usd_together(path: Path, document: Document, *, axes: Axes = METRES, turn: FloatArray | None = None) -> list[str]:
    """Write all shown characters of a document, each under a prim of its own where it stands, each with its prefix before every
    name, and all of them playing on the common time. Returns notes and raises as `write_usd`.

    axes, turn (3, 3) : the world is turned and scaled into them as a whole; the characters in it stay in metres with y up."""
    before, tokens, total = prefixes(document), Unique("_"), scene_length(document)
    shown = [c for c in document.characters if c.figure.shown and (c.included or c.bare)]
    if not shown:
        raise EditError("no character is shown; tick one in Figures, in Motion")
    some = []
    for character, (times, rows) in zip(shown, ways_of(document, shown, total), strict=True):
        found = _motions(character)
        clip = clip_of(character)
        plays = next((m for c, m in found.motions if clip is not None and c == clip.id), None) or held_motion(character)
        if plays is not None:
            found.motions.insert(0, ("", on_one_time(character, plays, total)))
        base = f"{WORLD}/{tokens(_token(before[character.id].rstrip('_')))}"
        some.append(_One(character, base, before[character.id], composed(rows[:, :3], rows[:, 3:7], rows[:, 7:]), found, times))
    whole = np.eye(4)
    whole[:3, :3] = (np.eye(3) if turn is None else turn) / axes.unit
    return _write(path, some, WORLD, axes, whole)


@dataclass(eq=False)
class _Motions:
    """What a character does: id of the clip and its motion; the first one is bound."""

    motions: list[tuple[str, Motion]]
    notes: list[str]


@dataclass(frozen=True, eq=False)
class _One:
    """A character on its way into a file: its prim's path, its prefix, where it stands (4, 4) or (k, 4, 4) at times (k,)."""

    character: Character
    base: str
    prefix: str
    placed: FloatArray
    found: _Motions
    times: FloatArray = field(default_factory=lambda: np.zeros(1))


def _motions(character: Character) -> _Motions:
    notes: list[str] = []
    made = [(clip.id, motion) for clip in character.clips if (motion := motion_of(character, clip, notes)) is not None]
    return _Motions(made, notes)


def _write(path: Path, some: list[_One], top: str, axes: Axes, whole: FloatArray) -> list[str]:
    from pxr import Gf, Tf, Usd, UsdGeom, UsdSkel

    notes: list[str] = []
    moving = [motion for one in some for _, motion in one.found.motions[:1]]
    codes = max((motion.rate for _, motion in (m for one in some for m in one.found.motions)), default=30.0)
    suffix = ".usda" if path.suffix.lower() == ".usda" else ".usdc"
    stage = Usd.Stage.CreateInMemory(f"character{suffix}")
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if axes.z_up else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, axes.unit)
    if moving or any(len(one.times) > 1 for one in some):
        stage.SetTimeCodesPerSecond(codes)
        stage.SetFramesPerSecond(codes)
        stage.SetStartTimeCode(0.0)
        stage.SetEndTimeCode(codes * max([motion.length for motion in moving] + [float(one.times[-1]) for one in some]))
    if top == WORLD:
        world = UsdGeom.Xform.Define(stage, WORLD)
        if not np.allclose(whole, np.eye(4)):
            world.AddTransformOp().Set(Gf.Matrix4d(*whole.T.ravel().tolist()))
        stage.SetDefaultPrim(world.GetPrim())
    with outgoing() as out, scratch() as folder:
        beside_it = Inside() if path.suffix.lower() == PACKAGE else Neighbours(out, path.parent)
        for one in some:
            character, base = one.character, one.base
            root = UsdSkel.Root.Define(stage, base)
            if top == ALONE:
                stage.SetDefaultPrim(root.GetPrim())
            else:
                places = one.placed.reshape(-1, 4, 4)
                place = root.AddTransformOp()
                place.Set(Gf.Matrix4d(*places[0].T.ravel().tolist()))
                for time, matrix in zip(one.times.tolist(), places, strict=True) if len(places) > 1 else ():
                    place.Set(Gf.Matrix4d(*matrix.T.ravel().tolist()), time * codes)
            notes += [*not_exported(character, switches=True), *one.found.notes, *_unbound_switches(one)]
            _write_character(stage, one, beside_it, codes)
        result = folder / f"character{suffix}"
        try:
            stage.GetRootLayer().Export(str(result))
        except Tf.ErrorException as error:
            raise MeshFileError(
                path.name, f"cannot be written ({told(error)})", hint="make room in the folder for temporary files"
            ) from error
        out.put(path, result.read_bytes() if isinstance(beside_it, Neighbours) else _packed(folder, result, beside_it))
    return [*notes, *beside_it.notes]


class Inside:
    """Pictures that go into the package itself, in place of beside the file."""

    def __init__(self) -> None:
        self.held: dict[str, bytes] = {}
        self.notes: list[str] = []

    def picture(self, image: Image) -> str:
        """The name a picture has in the package; one with the very same bytes is used again."""
        wanted = picture_name(image.name, image.kind)
        stem, dot, kind = wanted.rpartition(".")
        name, number = wanted, 1
        while self.held.setdefault(name, image.data) != image.data:
            number += 1
            name = f"{stem}_{number}{dot}{kind}"
        return name


def _packed(folder: Path, layer: Path, inside: Inside) -> bytes:
    """A package's bytes: the layer first, then its pictures, stored and aligned as the standard says (usdz, section "Zip layout")."""
    from pxr import Sdf

    package = folder / f"package{PACKAGE}"
    writer = Sdf.ZipFileWriter.CreateNew(str(package))
    writer.AddFile(str(layer), layer.name)
    for name, data in inside.held.items():
        picture = folder / name
        picture.write_bytes(data)
        writer.AddFile(str(picture), name)
    writer.Save()
    return package.read_bytes()


def _write_character(stage: Any, one: _One, beside_it: Neighbours | Inside, codes: float) -> None:
    """A character under its prim: materials, skeleton, motion, and geometry apart from them. codes : time codes a second."""
    from pxr import UsdGeom, UsdSkel

    character, base, prefix = one.character, one.base, one.prefix
    used = {int(s) for part in character.included for s in part.mesh.materials}
    shown = [m for slot, m in enumerate(character.materials) if slot in used]
    wanted = {name for m in shown for name in m.pictures.values()}
    pictures = {i.name: beside_it.picture(i) for i in character.images if i.name in wanted}
    motions = [motion for _, motion in one.found.motions]
    shapes = shape_tokens([(p.id, tuple(zip((m.name for m in p.morphs), _shape_tokens(p), strict=True))) for p in character.included], motions)
    if character.skeleton is not None and character.skeleton.joints:
        joints = _write_skeleton(stage, f"{base}/skeleton", character.skeleton, prefix)
        unique = Unique("_")
        made = [write_motion(stage, f"{base}/motion/{unique(_token(prefix + m.name))}", replace(m, name=prefix + m.name), joints, shapes, codes) for m in motions]
        if made:
            UsdGeom.Scope.Define(stage, f"{base}/motion")
            binding = UsdSkel.BindingAPI.Apply(stage.GetPrimAtPath(f"{base}/skeleton"))
            binding.CreateAnimationSourceRel().SetTargets([made[0].GetPath()])
    tokens = Unique("_")
    materials = {
        slot: write_material(stage, f"{base}/materials/{tokens(_token(prefix + material.name))}", replace(material, name=prefix + material.name), pictures, _named)
        for slot, material in enumerate(character.materials)
        if slot in used
    }
    tokens = Unique("_")
    UsdGeom.Scope.Define(stage, f"{base}/geometry")
    for part in character.included:
        named = replace(part, name=prefix + part.name) if prefix else part
        prim = _write_part(stage, f"{base}/geometry/{tokens(_token(named.name))}", named, materials, shapes, double_sided=_seen_from_both_sides(character, part))
        weights = character.skin.weights.get(part.id) if character.skin else None
        if weights is not None and character.skeleton is not None:
            _write_weights(prim, weights, character.skeleton, f"{base}/skeleton")
        if motions and part.id in motions[0].shows:
            _write_seen(prim, *motions[0].shows[part.id], codes)


def _write_seen(prim: Any, times: FloatArray, seen: tuple[bool, ...], codes: float) -> None:
    """When a part is seen (UsdGeom, "Imageable": visibility), by the motion that is bound."""
    from pxr import UsdGeom

    attribute = UsdGeom.Imageable(prim.GetPrim()).CreateVisibilityAttr()
    before: bool | None = None
    for time, now in zip(times.tolist(), seen, strict=True):
        if now is not before:
            attribute.Set(UsdGeom.Tokens.inherited if now else UsdGeom.Tokens.invisible, time * codes)
        before = now


def _unbound_switches(one: _One) -> list[str]:
    """A stage has one timeline: when parts are seen is told of the motion that is bound to it."""
    names = {p.id: p.name for p in one.character.included}
    found = []
    for _, motion in one.found.motions[1:]:
        other = [names[p] for p, told in motion.shows.items() if not _told_alike(told, one.found.motions[0][1].shows.get(p))]
        if other:
            found.append(f"{motion.name}: when {', '.join(other)} is seen is not in the file, which tells it of {one.found.motions[0][1].name}; write each clip to a file of its own")
    return found


def _told_alike(a: tuple[FloatArray, tuple[bool, ...]], b: tuple[FloatArray, tuple[bool, ...]] | None) -> bool:
    return b is not None and a[1] == b[1] and np.array_equal(a[0], b[0])


def _seen_from_both_sides(character: Character, part: Part) -> bool:
    """USD says it of a whole mesh: it holds where any of its materials does."""
    slots = np.unique(part.mesh.materials).tolist()
    return any(character.materials[s].double_sided for s in slots if s < len(character.materials))


def _named(prim: Any, name: str) -> None:
    """The true name, where the prim's own could not be it."""
    if prim.GetName() != name:
        prim.SetDisplayName(name)


def _write_skeleton(stage: Any, path: str, skeleton: Skeleton, prefix: str) -> list[str]:
    """The skeleton; returns its joints as it names them."""
    from pxr import Gf, UsdSkel, Vt

    tokens, full = Unique("_"), dict[str, str]()
    for joint in skeleton.joints:
        own = tokens(_token(prefix + joint.name))
        full[joint.id] = f"{full[joint.parent]}/{own}" if joint.parent else own
    result = UsdSkel.Skeleton.Define(stage, path)
    result.CreateJointsAttr(Vt.TokenArray([full[j.id] for j in skeleton.joints]))
    result.CreateJointNamesAttr(Vt.TokenArray([prefix + j.name for j in skeleton.joints]))
    result.CreateBindTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in skeleton.world]))
    result.CreateRestTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in skeleton.local]))
    return [full[j.id] for j in skeleton.joints]


def _shape_tokens(part: Part) -> list[str]:
    """What a part's blend shapes are called among its prims, beside its subsets."""
    tokens = Unique("_")
    for slot in np.unique(part.mesh.materials).tolist():
        tokens(f"slot{slot}")
    return [tokens(_token(m.name)) for m in part.morphs]


def _write_part(
    stage: Any, prim_path: str, part: Part, materials: dict[int, Any], shapes: Mapping[tuple[str, str], str], *, double_sided: bool = False
) -> Any:
    """A part under its path. shapes : what animations call its blend shapes, see `shape_tokens`."""
    from pxr import Sdf, UsdGeom, UsdShade, UsdSkel, Vt

    mesh = part.mesh
    prim = UsdGeom.Mesh.Define(stage, prim_path)
    _named(prim.GetPrim(), part.name)
    prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points.astype(np.float32)))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.diff(mesh.starts).astype(np.int32)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.corners.astype(np.int32)))
    scheme = {Subdivision.CATMULL_CLARK: "catmullClark", Subdivision.LOOP: "loop"}.get(part.smooth, "none")
    prim.CreateSubdivisionSchemeAttr(scheme)
    if double_sided:
        prim.CreateDoubleSidedAttr(True)
    if mesh.normals is not None and scheme == "none":
        prim.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(mesh.normals.astype(np.float32)))
        prim.SetNormalsInterpolation(UsdGeom.Tokens.faceVarying)
    if mesh.uvs is not None:
        st = UsdGeom.PrimvarsAPI(prim).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
        )
        st.Set(Vt.Vec2fArray.FromNumpy(mesh.uvs.astype(np.float32)))
    _write_layers(prim, mesh)
    if part.smooth is not Subdivision.NONE:
        # How finely it is meant to be smoothed has no field of its own.
        prim.GetPrim().SetCustomDataByKey(LEVELS, int(part.levels))
    slots = np.unique(mesh.materials)
    for slot in slots.tolist():
        if slot not in materials:
            continue
        target = prim.GetPrim()
        if len(slots) > 1:
            faces = np.flatnonzero(mesh.materials == slot).astype(np.int32)
            subset = UsdGeom.Subset.CreateGeomSubset(
                prim, f"slot{slot}", UsdGeom.Tokens.face, Vt.IntArray.FromNumpy(faces)
            )
            subset.CreateFamilyNameAttr("materialBind")
            target = subset.GetPrim()
        UsdShade.MaterialBindingAPI.Apply(target).Bind(materials[slot])
    if part.morphs:
        own = _shape_tokens(part)
        binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
        binding.CreateBlendShapesAttr(Vt.TokenArray([shapes[part.id, m.name] for m in part.morphs]))
        targets = binding.CreateBlendShapeTargetsRel()
        for morph, token in zip(part.morphs, own, strict=True):
            shape = UsdSkel.BlendShape.Define(stage, f"{prim_path}/{token}")
            if morph.name != token or shapes[part.id, morph.name] != morph.name:
                shape.GetPrim().SetDisplayName(morph.name)
            shape.CreateOffsetsAttr(Vt.Vec3fArray.FromNumpy(morph.deltas.astype(np.float32)))
            targets.AddTarget(shape.GetPath())
    return prim


def _write_layers(prim: Any, mesh: Mesh) -> None:
    """Second UVs and vertex colours, a corner each."""
    from pxr import Sdf, UsdGeom, Vt

    kinds, each = Sdf.ValueTypeNames, UsdGeom.Tokens.faceVarying
    api = UsdGeom.PrimvarsAPI(prim)
    if SECOND_UVS in mesh.layers:
        values = mesh.layers[SECOND_UVS].astype(np.float32)
        api.CreatePrimvar("st1", kinds.TexCoord2fArray, each).Set(Vt.Vec2fArray.FromNumpy(values))
    if COLOURS in mesh.layers:
        colour = mesh.layers[COLOURS].astype(np.float32)
        api.CreatePrimvar("displayColor", kinds.Color3fArray, each).Set(
            Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(colour[:, :3]))
        )
        api.CreatePrimvar("displayOpacity", kinds.FloatArray, each).Set(
            Vt.FloatArray.FromNumpy(np.ascontiguousarray(colour[:, 3]))
        )


def _write_weights(prim: Any, weights: Weights, skeleton: Skeleton, path: str) -> None:
    from pxr import Gf, Sdf, UsdSkel, Vt

    rows = packed(weights)
    columns = np.array([skeleton.index[j] for j in weights.joint_ids])
    binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
    width = rows.indices.shape[1]
    binding.CreateJointIndicesPrimvar(False, width).Set(
        Vt.IntArray.FromNumpy(columns[rows.indices].astype(np.int32).ravel())
    )
    binding.CreateJointWeightsPrimvar(False, width).Set(Vt.FloatArray.FromNumpy(rows.values.astype(np.float32).ravel()))
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d(1.0))
    binding.CreateSkeletonRel().SetTargets([Sdf.Path(path)])


def _token(name: str) -> str:
    """A name USD takes: letters, digits, underscores."""
    from pxr import Tf

    return str(Tf.MakeValidIdentifier(name))
