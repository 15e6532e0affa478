"""USD, read and written through usd-core: meshes, materials' basic values and textures, subdivision, UsdSkel.

Specification: Pixar/AOUSD, "Universal Scene Description"; UsdGeomMesh, UsdPreviewSurface, UsdSkel. Assets are read
only from the file itself (.usdz) or from beside it.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import make_mesh
from pegloom.core.geometry.transforms import matrix_quaternion
from pegloom.core.skeleton.joints import Joint, Skeleton, side_of_name
from pegloom.core.skin.weights import Weights, from_dense
from pegloom.document.model import Character, Image, Material, Morph, Part, Subdivision
from pegloom.files.images import image_from_bytes
from pegloom.files.imported import Imported, beside, reason
from pegloom.files.unplayed import unplayed

SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")


def read_usd(path: Path) -> Imported:
    """Read a USD file. Raises MeshFileError."""
    from pxr import Tf, Usd

    if path.stat().st_size == 0:
        raise MeshFileError(path.name, "the file is empty", hint="export it again")
    try:
        stage = Usd.Stage.Open(str(path), Usd.Stage.LoadAll)
    except Tf.ErrorException as error:
        raise MeshFileError(path.name, f"cannot be read as USD ({reason(error)})", hint="export it again") from error
    if stage is None:
        raise MeshFileError(path.name, "cannot be read as USD", hint="export it again")
    reader = _Reader(path, stage)
    try:
        return reader.read()
    except (ShapeError, ValueError, TypeError, IndexError, RuntimeError) as error:
        raise MeshFileError(
            path.name, f"is not put together as USD says ({reason(error)})", hint="export it again"
        ) from error


class _Reader:
    def __init__(self, path: Path, stage: Any) -> None:
        from pxr import UsdGeom

        self.path, self.stage = path, stage
        self.notes: list[str] = []
        self.materials: list[Material] = []
        self.images: dict[str, Image] = {}
        self.slots: dict[str, int] = {}
        self.unit = float(UsdGeom.GetStageMetersPerUnit(stage))
        self.cache = UsdGeom.XformCache()
        self.skeleton: Skeleton | None = None
        self.joint_paths: dict[str, dict[str, int]] = {}

    def read(self) -> Imported:
        from pxr import UsdGeom, UsdSkel

        prims = [p for p in self.stage.Traverse() if p.IsActive()]
        skeletons = [UsdSkel.Skeleton(p) for p in prims if p.IsA(UsdSkel.Skeleton)]
        if skeletons:
            self._skeletons(skeletons)
        parts: list[Part] = []
        weights: dict[str, Weights] = {}
        names: set[str] = set()
        for prim in prims:
            if not prim.IsA(UsdGeom.Mesh):
                continue
            if UsdGeom.Imageable(prim).ComputeVisibility() == UsdGeom.Tokens.invisible:
                self.notes.append(f"{prim.GetName()} is hidden, ignored")
                continue
            name = prim.GetName()
            while name in names:
                name += " 2"
            names.add(name)
            part, skin = self._mesh(prim, f"part{len(parts)}", name)
            if part is not None:
                parts.append(part)
                if skin is not None:
                    weights[part.id] = skin
        if not parts:
            raise MeshFileError(self.path.name, "holds no surface", hint="export the mesh with its faces")
        for kind in ("Camera", "DistantLight", "SphereLight", "DomeLight", "Points", "BasisCurves", "PointInstancer"):
            count = sum(p.GetTypeName() == kind for p in prims)
            if count:
                self.notes.append(f"{kind} prims ignored: {count}")
        self.materials.append(Material("plain"))
        plain = len(self.materials) - 1
        parts = [_with_plain(p, plain) for p in parts]
        return Imported(
            tuple(parts), tuple(self.materials), tuple(self.images.values()), self.skeleton, weights or None, (),
            tuple(self.notes),
        )  # fmt: skip

    def _matrix(self, prim: Any) -> FloatArray:
        # USD's matrices act on rows; ours on columns.
        return np.array(self.cache.GetLocalToWorldTransform(prim), dtype=np.float64).T

    def _mesh(self, prim: Any, part_id: str, name: str) -> tuple[Part | None, Weights | None]:
        from pxr import UsdGeom, UsdSkel

        mesh = UsdGeom.Mesh(prim)
        points = np.array(mesh.GetPointsAttr().Get() or [], dtype=np.float64).reshape(-1, 3)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get() or [], dtype=np.int64)
        corners = np.array(mesh.GetFaceVertexIndicesAttr().Get() or [], dtype=np.int64)
        if len(points) == 0 or len(counts) == 0:
            self.notes.append(f"{name}: no faces, ignored")
            return None, None
        if counts.sum() != len(corners) or (len(corners) and (corners.min() < 0 or corners.max() >= len(points))):
            raise MeshFileError(self.path.name, "its faces name missing vertices", where=name, hint="export it again")
        starts = np.concatenate([[0], np.cumsum(counts)])
        whole = counts >= 3
        uvs = self._uvs(prim, corners, starts)
        slots = self._slots(prim, len(counts))
        if not whole.all():
            keep = np.repeat(whole, counts)
            corners, uvs, slots = corners[keep], None if uvs is None else uvs[keep], slots[whole]
            starts = np.concatenate([[0], np.cumsum(counts[whole])])
            self.notes.append(f"{name}: {int((~whole).sum())} faces with under three corners left out")
        binding = UsdSkel.BindingAPI(prim)
        skinned = bool(binding.GetJointIndicesAttr().Get()) if binding else False
        matrix = self._matrix(prim)
        if skinned and binding.GetGeomBindTransformAttr().Get() is not None:
            matrix = np.array(binding.GetGeomBindTransformAttr().Get(), dtype=np.float64).T
        moved = (points @ matrix[:3, :3].T + matrix[:3, 3]) * self.unit
        order = np.arange(len(corners))
        left_handed = mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded
        if left_handed != (np.linalg.det(matrix[:3, :3]) < 0):
            order = np.concatenate([np.arange(b - 1, a - 1, -1) for a, b in zip(starts[:-1], starts[1:], strict=True)])
        made = make_mesh(moved, corners[order], starts, uvs=None if uvs is None else uvs[order], materials=slots)
        scheme = mesh.GetSubdivisionSchemeAttr()
        smooth = Subdivision.NONE
        if scheme.HasAuthoredValue():
            smooth = {"catmullClark": Subdivision.CATMULL_CLARK, "loop": Subdivision.LOOP}.get(scheme.Get(), smooth)
        part = Part(part_id, name, made, morphs=self._morphs(prim, len(points), matrix), smooth=smooth)
        return part, self._weights(prim, binding, len(points)) if skinned else None

    def _uvs(self, prim: Any, corners: np.ndarray, starts: np.ndarray) -> np.ndarray | None:
        from pxr import UsdGeom

        api = UsdGeom.PrimvarsAPI(prim)
        for primvar in api.GetPrimvars():
            if primvar.GetTypeName().type.typeName not in ("VtArray<GfVec2f>", "VtArray<GfVec2d>", "VtArray<GfVec2h>"):
                continue
            values = np.array(primvar.ComputeFlattened() or [], dtype=np.float64).reshape(-1, 2)
            kind = primvar.GetInterpolation()
            if kind == UsdGeom.Tokens.faceVarying and len(values) == len(corners):
                return values
            if kind in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying) and len(values) > corners.max():
                return np.asarray(values[corners])
        return None

    def _slots(self, prim: Any, faces: int) -> np.ndarray:
        from pxr import UsdGeom, UsdShade

        slots = np.full(faces, -1, dtype=np.int64)
        bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if bound:
            slots[:] = self._material(bound)
        for subset in UsdGeom.Subset.GetGeomSubsets(UsdGeom.Mesh(prim), UsdGeom.Tokens.face):
            material = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            indices = np.array(subset.GetIndicesAttr().Get() or [], dtype=np.int64)
            if material and len(indices) and indices.max() < faces:
                slots[indices] = self._material(material)
        return slots

    def _material(self, material: Any) -> int:
        from pxr import UsdShade

        key = str(material.GetPath())
        if key in self.slots:
            return self.slots[key]
        made = Material(material.GetPrim().GetName(), roughness=0.5)
        source = material.ComputeSurfaceSource()
        shader = source[0] if source else None
        if shader and shader.GetIdAttr().Get() == "UsdPreviewSurface":
            colour, base = self._input(shader, "diffuseColor", (0.18, 0.18, 0.18))
            metallic, _ = self._input(shader, "metallic", 0.0)
            roughness, _ = self._input(shader, "roughness", 0.5)
            opacity, _ = self._input(shader, "opacity", 1.0)
            _, normal = self._input(shader, "normal", None)
            r, g, b = (1.0, 1.0, 1.0) if base else tuple(float(v) for v in colour)
            made = Material(
                made.name, (r, g, b, float(opacity)), float(metallic), float(roughness), base, normal,
                see_through=float(opacity) < 1,
            )  # fmt: skip
        elif shader:
            self.notes.append(f"material {made.name}: its shader is not UsdPreviewSurface, only its name is kept")
        assert UsdShade
        self.slots[key] = len(self.materials)
        self.materials.append(made)
        return self.slots[key]

    def _input(self, shader: Any, name: str, default: Any) -> tuple[Any, str | None]:
        """A value, or the name of the picture that gives it."""
        entry = shader.GetInput(name)
        if not entry:
            return default, None
        source = entry.GetConnectedSource()
        if source:
            texture = source[0].GetPrim()
            from pxr import UsdShade

            file = UsdShade.Shader(texture).GetInput("file")
            asset = file.Get() if file else None
            if asset is not None:
                return default, self._picture(asset)
            return default, None
        value = entry.Get()
        return (default if value is None else value), None

    def _picture(self, asset: Any) -> str | None:
        from pxr import Ar

        data = None
        resolved = asset.resolvedPath
        if resolved and "[" in resolved:  # inside a .usdz
            opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(resolved))
            data = bytes(opened.GetBuffer()) if opened else None
        else:
            file = beside(self.path, asset.path)
            data = file.read_bytes() if file else None
        name = Path(asset.path).name
        if name in self.images:
            return self.images[name].name
        image = image_from_bytes(name, data) if data else None
        if image is None:
            self.notes.append(f"picture {name} is missing or no picture")
            return None
        self.images[name] = image
        return image.name

    def _morphs(self, prim: Any, count: int, matrix: FloatArray) -> tuple[Morph, ...]:
        from pxr import UsdSkel

        binding = UsdSkel.BindingAPI(prim)
        names = binding.GetBlendShapesAttr().Get() if binding else None
        targets = binding.GetBlendShapeTargetsRel().GetTargets() if binding and names else []
        made = []
        for name, target in zip(names or [], targets, strict=False):
            shape = UsdSkel.BlendShape(self.stage.GetPrimAtPath(target))
            offsets = np.array(shape.GetOffsetsAttr().Get() or [], dtype=np.float64).reshape(-1, 3)
            rows = shape.GetPointIndicesAttr().Get()
            index = np.array(rows, dtype=np.int64) if rows else np.arange(len(offsets))
            if len(offsets) == 0 or len(index) != len(offsets) or index.max() >= count:
                continue
            deltas = np.zeros((count, 3))
            deltas[index] = offsets @ matrix[:3, :3].T * self.unit
            made.append(Morph(str(name), frozen(deltas)))
        return tuple(made)

    def _skeletons(self, skeletons: list[Any]) -> None:
        joints: list[Joint] = []
        taken: set[str] = set()
        for number, skeleton in enumerate(skeletons):
            paths = [str(j) for j in skeleton.GetJointsAttr().Get() or []]
            binds = skeleton.GetBindTransformsAttr().Get() or []
            if not paths or len(binds) != len(paths):
                self.notes.append(f"skeleton {skeleton.GetPrim().GetName()} has no bind pose, ignored")
                continue
            index: dict[str, int] = {}
            for path, bind in zip(paths, binds, strict=True):
                matrix = np.array(bind, dtype=np.float64).T
                name = path.rsplit("/", 1)[-1]
                while name in taken:
                    name += " 2"
                taken.add(name)
                above = path.rsplit("/", 1)[0] if "/" in path else ""
                while above and above not in index:
                    above = above.rsplit("/", 1)[0] if "/" in above else ""
                parent = f"file.{index[above]}" if above else None
                index[path] = len(joints)
                x, y, z = (float(v) * self.unit for v in matrix[:3, 3])
                turn = tuple(float(v) for v in matrix_quaternion(matrix))
                joints.append(Joint(f"file.{len(joints)}", name, parent, side_of_name(name), (x, y, z), turn))  # type: ignore[arg-type]
            self.joint_paths[str(skeleton.GetPath())] = index
            if number and len(skeletons) > 1:
                self.notes.append(f"skeleton {skeleton.GetPrim().GetName()} joined with the first")
        if joints:
            self.skeleton = Skeleton(tuple(joints))

    def _weights(self, prim: Any, binding: Any, count: int) -> Weights | None:
        if self.skeleton is None:
            return None
        skeleton = binding.GetInheritedSkeleton()
        order = self.joint_paths.get(str(skeleton.GetPath())) if skeleton else None
        if order is None:
            self.notes.append(f"{prim.GetName()}: its skeleton is missing, weights ignored")
            return None
        own = binding.GetJointsAttr().Get()
        columns = [order[str(j)] for j in own if str(j) in order] if own else list(order.values())
        indices = np.array(binding.GetJointIndicesPrimvar().ComputeFlattened() or [], dtype=np.int64)
        values = np.array(binding.GetJointWeightsPrimvar().ComputeFlattened() or [], dtype=np.float64)
        if len(indices) != len(values) or len(indices) % count or (own and len(columns) != len(own)):
            if len(indices) == len(values) and len(indices) == (binding.GetJointIndicesPrimvar().GetElementSize() or 0):
                indices, values = np.tile(indices, count), np.tile(values, count)  # rigid: one row for all
            else:
                self.notes.append(f"{prim.GetName()}: weights do not fit its vertices, ignored")
                return None
        indices, values = indices.reshape(count, -1), np.maximum(values.reshape(count, -1), 0.0)
        if indices.max(initial=0) >= len(columns) or indices.min(initial=0) < 0:
            self.notes.append(f"{prim.GetName()}: weights name missing joints, ignored")
            return None
        dense = np.zeros((count, len(self.skeleton.joints)))
        rows = np.repeat(np.arange(count), indices.shape[1])
        np.add.at(dense, (rows, np.array(columns)[indices].ravel()), values.ravel())
        empty = dense.sum(axis=1) <= 0
        dense[empty, columns[0]] = 1.0
        return from_dense(dense, [j.id for j in self.skeleton.joints])


def _with_plain(part: Part, plain: int) -> Part:
    from dataclasses import replace

    slots = np.where(part.mesh.materials < 0, plain, part.mesh.materials)
    slots.setflags(write=False)
    return replace(part, mesh=replace(part.mesh, materials=slots))


def write_usd(path: Path, character: Character) -> list[str]:
    """Write parts, materials' basic values, skeleton and weights at rest. Returns notes on what was left out."""
    from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdSkel, Vt

    notes = unplayed(character)
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    root = UsdSkel.Root.Define(stage, "/character")
    stage.SetDefaultPrim(root.GetPrim())
    skeleton, tokens = character.skeleton, []
    if skeleton is not None and skeleton.joints:
        full: dict[str, str] = {}
        for joint in skeleton.joints:
            own = _token(joint.name)
            full[joint.id] = f"{full[joint.parent]}/{own}" if joint.parent else own
        tokens = [full[j.id] for j in skeleton.joints]
        made = UsdSkel.Skeleton.Define(stage, "/character/skeleton")
        made.CreateJointsAttr(Vt.TokenArray(tokens))
        made.CreateBindTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in skeleton.world]))
        made.CreateRestTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(*m.T.ravel().tolist()) for m in skeleton.local]))
    materials = {}
    used = {int(s) for part in character.included for s in part.mesh.materials}
    for slot, material in enumerate(character.materials):
        if slot not in used:
            continue
        base = f"/character/materials/{_token(material.name)}_{slot}"
        shade = UsdShade.Material.Define(stage, base)
        shader = UsdShade.Shader.Define(stage, f"{base}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        r, g, b, a = material.base_colour
        colour = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
        colour.Set(Gf.Vec3f(r, g, b))
        shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(material.metallic)
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(material.roughness)
        shader.CreateInput("opacity", Sdf.ValueTypeNames.Float).Set(a)
        if material.base_image:
            reader = UsdShade.Shader.Define(stage, f"{base}/uv")
            reader.CreateIdAttr("UsdPrimvarReader_float2")
            reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
            texture = UsdShade.Shader.Define(stage, f"{base}/picture")
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(f"./{material.base_image}"))
            texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(
                reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
            )
            colour.ConnectToSource(texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3))
        shade.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        materials[slot] = shade
    for image in character.images:
        (path.parent / image.name).write_bytes(image.data)
    for number, part in enumerate(character.included):
        mesh = part.mesh
        prim_path = f"/character/{_token(part.name)}_{number}"
        prim = UsdGeom.Mesh.Define(stage, prim_path)
        prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points.astype(np.float32)))
        prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.diff(mesh.starts).astype(np.int32)))
        prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.corners.astype(np.int32)))
        scheme = {Subdivision.CATMULL_CLARK: "catmullClark", Subdivision.LOOP: "loop"}.get(part.smooth, "none")
        prim.CreateSubdivisionSchemeAttr(scheme)
        if mesh.uvs is not None:
            st = UsdGeom.PrimvarsAPI(prim).CreatePrimvar(
                "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
            )
            st.Set(Vt.Vec2fArray.FromNumpy(mesh.uvs.astype(np.float32)))
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
        weights = character.skin.weights.get(part.id) if character.skin else None
        if weights is not None and skeleton is not None:
            _write_weights(stage, prim, weights, skeleton)
        for morph in part.morphs:
            shape_path = f"{prim_path}/{_token(morph.name)}"
            shape = UsdSkel.BlendShape.Define(stage, shape_path)
            shape.CreateOffsetsAttr(Vt.Vec3fArray.FromNumpy(morph.deltas.astype(np.float32)))
            binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
            names = list(binding.GetBlendShapesAttr().Get() or [])
            binding.CreateBlendShapesAttr(Vt.TokenArray([*names, _token(morph.name)]))
            binding.CreateBlendShapeTargetsRel().AddTarget(shape_path)
    if character.clips:
        notes.append(f"clips are not written to USD yet: {len(character.clips)}")
    stage.GetRootLayer().Save()
    return notes


def _write_weights(stage: Any, prim: Any, weights: Weights, skeleton: Skeleton) -> None:
    from pxr import Gf, Sdf, UsdSkel, Vt

    from pegloom.core.skin.weights import packed

    rows = packed(weights)
    columns = np.array([skeleton.index[j] for j in weights.joint_ids])
    binding = UsdSkel.BindingAPI.Apply(prim.GetPrim())
    width = rows.indices.shape[1]
    binding.CreateJointIndicesPrimvar(False, width).Set(
        Vt.IntArray.FromNumpy(columns[rows.indices].astype(np.int32).ravel())
    )
    binding.CreateJointWeightsPrimvar(False, width).Set(Vt.FloatArray.FromNumpy(rows.values.astype(np.float32).ravel()))
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d(1.0))
    binding.CreateSkeletonRel().SetTargets([Sdf.Path("/character/skeleton")])


def _token(name: str) -> str:
    """A name USD takes: letters, digits, underscores."""
    from pxr import Tf

    return str(Tf.MakeValidIdentifier(name))
