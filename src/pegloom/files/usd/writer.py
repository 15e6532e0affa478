"""USD written: parts with their normals, materials' basic values and pictures, skeleton and weights, morph targets.

Names that USD cannot take as a prim's are kept beside it, as the name for display; joints' as `jointNames`.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, Mesh
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, packed
from pegloom.document.model import Character, Document, Material, Part, Subdivision
from pegloom.document.world import prefixes, world_of
from pegloom.files.names import Unique
from pegloom.files.neighbours import Neighbours
from pegloom.files.not_exported import not_exported
from pegloom.files.outgoing import outgoing
from pegloom.files.scratch import scratch
from pegloom.files.usd.layers import LEVELS, told

ALONE, WORLD = "/character", "/world"
"""The prim over all of a file: a character's, or that of the world several stand in."""


def write_usd(path: Path, character: Character) -> list[str]:
    """Write a character at rest. Returns notes on what was left out.

    Raises MeshFileError where the place cannot be written; what was there stays then.
    """
    return _write(path, [(character, ALONE, "", np.eye(4))], ALONE)


def write_usd_together(path: Path, document: Document) -> list[str]:
    """Write all shown characters of a document at rest, each under a prim of its own where it stands at first, each with its
    prefix before every name. Returns notes and raises as `write_usd`."""
    before, worlds, tokens = prefixes(document), world_of(document, 0.0), Unique("_")
    shown = [c for c in document.characters if c.figure.shown and (c.included or c.bare)]
    if not shown:
        raise EditError("no character is shown; tick one in Figures, in Motion")
    return _write(path, [(c, f"{WORLD}/{tokens(_token(before[c.id].rstrip('_')))}", before[c.id], worlds[c.id]) for c in shown], WORLD)


def _write(path: Path, some: list[tuple[Character, str, str, FloatArray]], top: str) -> list[str]:
    """Characters, each with its prim's path, its prefix and where it stands (4, 4)."""
    from pxr import Gf, Tf, Usd, UsdGeom, UsdSkel

    notes: list[str] = []
    suffix = ".usda" if path.suffix.lower() == ".usda" else ".usdc"
    stage = Usd.Stage.CreateInMemory(f"character{suffix}")
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    if top == WORLD:
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, WORLD).GetPrim())
    with outgoing() as out, scratch() as folder:
        beside_it = Neighbours(out, path.parent)
        for character, base, prefix, placed in some:
            root = UsdSkel.Root.Define(stage, base)
            if top == ALONE:
                stage.SetDefaultPrim(root.GetPrim())
            else:
                root.AddTransformOp().Set(Gf.Matrix4d(*placed.T.ravel().tolist()))
            notes += [*not_exported(character), *_plainer_looks(character)]
            _write_character(stage, base, character, prefix, beside_it)
            if character.clips:
                notes.append(f"clips are not written to USD yet: {len(character.clips)}")
        result = folder / f"character{suffix}"
        try:
            stage.GetRootLayer().Export(str(result))
        except Tf.ErrorException as error:
            raise MeshFileError(
                path.name, f"cannot be written ({told(error)})", hint="make room in the folder for temporary files"
            ) from error
        out.put(path, result.read_bytes())
    return [*notes, *beside_it.notes]


def _write_character(stage: Any, base: str, character: Character, prefix: str, beside_it: Neighbours) -> None:
    """A character under its prim: materials, skeleton, and geometry apart from it."""
    from pxr import UsdGeom

    used = {int(s) for part in character.included for s in part.mesh.materials}
    shown = [m for slot, m in enumerate(character.materials) if slot in used]
    wanted = {name for m in shown for name in (m.base_image, m.normal_image) if name}
    pictures = {i.name: beside_it.picture(i) for i in character.images if i.name in wanted}
    if character.skeleton is not None and character.skeleton.joints:
        _write_skeleton(stage, f"{base}/skeleton", character.skeleton, prefix)
    tokens = Unique("_")
    materials = {
        slot: _write_material(stage, f"{base}/materials/{tokens(_token(prefix + material.name))}", replace(material, name=prefix + material.name), pictures)
        for slot, material in enumerate(character.materials)
        if slot in used
    }
    tokens = Unique("_")
    UsdGeom.Scope.Define(stage, f"{base}/geometry")
    for part in character.included:
        named = replace(part, name=prefix + part.name) if prefix else part
        prim = _write_part(stage, f"{base}/geometry/{tokens(_token(named.name))}", named, materials)
        weights = character.skin.weights.get(part.id) if character.skin else None
        if weights is not None and character.skeleton is not None:
            _write_weights(prim, weights, character.skeleton, f"{base}/skeleton")


def _plainer_looks(character: Character) -> list[str]:
    """One line for each material that has more than is written to USD yet."""
    found = []
    for material in character.materials:
        left = [w for w in ("metal", "occlusion", "emissive") if w in material.pictures]
        left = [{"metal": "a picture of metallic and roughness", "occlusion": "occlusion", "emissive": "a glow's picture"}[w] for w in left]
        left += ["a glow"] if any(material.emissive) and "emissive" not in material.pictures else []
        left += ["an alpha mask"] if material.cutoff is not None else []
        left += ["pictures moved or scaled on the UVs"] if material.placings else []
        if left:
            found.append(f"material {material.name}: {', '.join(left)} {'is' if len(left) == 1 else 'are'} not written to USD yet")
    return found


def _named(prim: Any, name: str) -> None:
    """The true name, where the prim's own could not be it."""
    if prim.GetName() != name:
        prim.SetDisplayName(name)


def _write_skeleton(stage: Any, path: str, skeleton: Skeleton, prefix: str) -> None:
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


def _write_material(stage: Any, base: str, material: Material, pictures: dict[str, str]) -> Any:
    """UsdPreviewSurface with base colour and normals from pictures where there are some."""
    from pxr import Gf, Sdf, UsdShade

    kinds = Sdf.ValueTypeNames
    result = UsdShade.Material.Define(stage, base)
    _named(result.GetPrim(), material.name)
    shader = UsdShade.Shader.Define(stage, f"{base}/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    r, g, b, a = material.base_colour
    colour = shader.CreateInput("diffuseColor", kinds.Color3f)
    colour.Set(Gf.Vec3f(r, g, b))
    shader.CreateInput("metallic", kinds.Float).Set(material.metallic)
    shader.CreateInput("roughness", kinds.Float).Set(material.roughness)
    shader.CreateInput("opacity", kinds.Float).Set(a)
    if material.base_image in pictures or material.normal_image in pictures:
        reader = UsdShade.Shader.Define(stage, f"{base}/uv")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", kinds.String).Set("st")
        place = reader.CreateOutput("result", kinds.Float2)

    def texture(name: str, image: str, space: str) -> Any:
        node = UsdShade.Shader.Define(stage, f"{base}/{name}")
        node.CreateIdAttr("UsdUVTexture")
        node.CreateInput("file", kinds.Asset).Set(Sdf.AssetPath(f"./{pictures[image]}"))
        node.CreateInput("sourceColorSpace", kinds.Token).Set(space)
        node.CreateInput("wrapS", kinds.Token).Set("repeat")
        node.CreateInput("wrapT", kinds.Token).Set("repeat")
        node.CreateInput("st", kinds.Float2).ConnectToSource(place)
        return node

    if material.base_image in pictures:
        node = texture("picture", material.base_image, "sRGB")
        colour.ConnectToSource(node.CreateOutput("rgb", kinds.Float3))
    if material.normal_image in pictures:
        node = texture("normal_picture", material.normal_image, "raw")
        # UsdPreviewSurface wants normals from -1 to 1, pictures hold 0 to 1.
        node.CreateInput("scale", kinds.Float4).Set(Gf.Vec4f(2, 2, 2, 1))
        node.CreateInput("bias", kinds.Float4).Set(Gf.Vec4f(-1, -1, -1, 0))
        shader.CreateInput("normal", kinds.Normal3f).ConnectToSource(node.CreateOutput("rgb", kinds.Float3))
    result.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    return result


def _write_part(stage: Any, prim_path: str, part: Part, materials: dict[int, Any]) -> Any:
    from pxr import Sdf, UsdGeom, UsdShade, UsdSkel, Vt

    mesh = part.mesh
    prim = UsdGeom.Mesh.Define(stage, prim_path)
    _named(prim.GetPrim(), part.name)
    prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points.astype(np.float32)))
    prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.diff(mesh.starts).astype(np.int32)))
    prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.corners.astype(np.int32)))
    scheme = {Subdivision.CATMULL_CLARK: "catmullClark", Subdivision.LOOP: "loop"}.get(part.smooth, "none")
    prim.CreateSubdivisionSchemeAttr(scheme)
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
        tokens = Unique("_")
        for slot in slots.tolist():
            tokens(f"slot{slot}")
        own = [tokens(_token(m.name)) for m in part.morphs]
        binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
        binding.CreateBlendShapesAttr(Vt.TokenArray(own))
        targets = binding.CreateBlendShapeTargetsRel()
        for morph, token in zip(part.morphs, own, strict=True):
            shape = UsdSkel.BlendShape.Define(stage, f"{prim_path}/{token}")
            _named(shape.GetPrim(), morph.name)
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
