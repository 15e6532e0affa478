"""What a USD stage holds: meshes, materials' basic values and textures, subdivision, UsdSkel.

Specification: AOUSD, "Universal Scene Description"; UsdGeomMesh, UsdPreviewSurface, UsdSkel.
"""

from __future__ import annotations

import os
import re
from dataclasses import replace
from pathlib import Path, PurePath
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, make_mesh
from pegloom.core.geometry.transforms import matrix_quaternion
from pegloom.core.said import counted
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, side_of_name
from pegloom.core.skin.weights import Weights, from_entries
from pegloom.document.model import Image, Material, Morph, Part, Subdivision
from pegloom.files.allowance import MOST_JOINTS, MOST_NODES, MOST_PARTS, take
from pegloom.files.allowance import count as limited
from pegloom.files.images import WANTED, image_from_bytes
from pegloom.files.imported import Imported
from pegloom.files.names import Unique
from pegloom.files.raw import read_beside, reason
from pegloom.files.soundness import MOST_LEVELS, usable
from pegloom.files.usd.layers import LEVELS, open_stage, told
from pegloom.files.usd.looks import read_material
from pegloom.files.usd.motion import Shaped, read_clips


def read_here(path: Path) -> Imported:
    """Read a USD file in this process, which damage may end. Raises MeshFileError."""
    from pxr import Tf

    try:
        stage, alive, notes = open_stage(path)
        reader = _Reader(path, stage, notes)
        imported = reader.read()
        del alive
        return imported
    except Tf.ErrorException as error:
        raise MeshFileError(path.name, f"cannot be read as USD ({told(error)})", hint="export it again") from error
    except (ShapeError, ValueError, TypeError, IndexError, RuntimeError) as error:
        raise MeshFileError(
            path.name, f"is not put together as USD says ({reason(error)})", hint="export it again"
        ) from error


class _Reader:
    def __init__(self, path: Path, stage: Any, notes: list[str]) -> None:
        from pxr import UsdGeom

        self.path, self.stage = path, stage
        self.notes = notes
        self.materials: list[Material] = []
        self.images: dict[str, Image | None] = {}
        self.slots: dict[str, int] = {}
        self.unit = float(UsdGeom.GetStageMetersPerUnit(stage))
        self.cache = UsdGeom.XformCache()
        self.skeleton: Skeleton | None = None
        self.joint_paths: dict[str, dict[str, int]] = {}
        self.shapes: dict[str, tuple[str, ...]] = {}
        """What animations call the morph targets of a mesh that were read, by its prim's path."""

    def read(self) -> Imported:
        from pxr import UsdGeom, UsdSkel

        prims: list[Any] = []
        for prim in self.stage.Traverse():
            limited(len(prims) + 1, MOST_NODES, "prims")
            if prim.IsActive():
                prims.append(prim)
        skeletons = [UsdSkel.Skeleton(p) for p in prims if p.IsA(UsdSkel.Skeleton)]
        if skeletons:
            self._skeletons(skeletons)
        parts: list[Part] = []
        weights: dict[str, Weights] = {}
        shaped: list[Shaped] = []
        names = Unique()
        for prim in prims:
            if not prim.IsA(UsdGeom.Mesh):
                continue
            if UsdGeom.Imageable(prim).ComputeVisibility() == UsdGeom.Tokens.invisible:
                self.notes.append(f"{prim.GetName()} is hidden, ignored")
                continue
            name = names(_telling_name(prim))
            limited(len(parts) + 1, MOST_PARTS, "meshes")
            part, skin = self._mesh(prim, f"part{len(parts)}", name)
            if part is not None:
                parts.append(part)
                if part.morphs:
                    shaped.append(Shaped(part.name, tuple(m.name for m in part.morphs), self.shapes[str(prim.GetPath())]))
                if skin is not None:
                    weights[part.id] = skin
        clips = read_clips(self.stage, skeletons, self.joint_paths, self.skeleton, self.unit, self.notes, shaped) if self.skeleton is not None else ()
        if not parts and not clips:
            raise MeshFileError(self.path.name, "holds no surface", hint="export the mesh with its faces")
        for kind in ("Camera", "DistantLight", "SphereLight", "DomeLight", "Points", "BasisCurves", "PointInstancer"):
            count = sum(p.GetTypeName() == kind for p in prims)
            if count:
                self.notes.append(f"{kind} prims ignored: {count}")
        self.materials.append(Material("plain"))
        plain = len(self.materials) - 1
        parts = [_with_plain(p, plain) for p in parts]
        return Imported(
            tuple(parts), tuple(self.materials), tuple(i for i in self.images.values() if i is not None), self.skeleton, weights or None, clips,
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
        take(8 * (3 * len(points) + 7 * len(corners)), name)
        starts = np.concatenate([[0], np.cumsum(counts)])
        whole = counts >= 3
        uvs = self._uvs(prim, corners)
        layers = self._layers(prim, corners, uvs is not None)
        normals = self._normals(mesh, corners)
        slots = self._slots(prim, len(counts))
        if not whole.all():
            keep = np.repeat(whole, counts)
            uvs, normals = (None if v is None else v[keep] for v in (uvs, normals))
            layers = {layer: values[keep] for layer, values in layers.items()}
            corners, slots = corners[keep], slots[whole]
            starts = np.concatenate([[0], np.cumsum(counts[whole])])
            self.notes.append(f"{name}: {counted(int((~whole).sum()), 'face')} with under three corners left out")
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
        if normals is not None:
            normals = normals @ np.linalg.pinv(matrix[:3, :3])
            length = np.linalg.norm(normals, axis=1, keepdims=True)
            normals = np.where(length > 1e-9, normals / np.maximum(length, 1e-9), [0.0, 1.0, 0.0])[order]
        uvs, normals = usable(None if uvs is None else uvs[order], normals, self.notes, name)
        layers = {layer: values[order] for layer, values in layers.items() if np.isfinite(values).all()}
        result = make_mesh(moved, corners[order], starts, uvs=uvs, normals=normals, materials=slots, layers=layers)
        scheme = mesh.GetSubdivisionSchemeAttr()
        smooth = Subdivision.NONE
        if scheme.HasAuthoredValue():
            smooth = {"catmullClark": Subdivision.CATMULL_CLARK, "loop": Subdivision.LOOP}.get(scheme.Get(), smooth)
        levels = prim.GetCustomDataByKey(LEVELS)
        part = Part(
            part_id, name, result, morphs=self._morphs(prim, len(points), matrix), smooth=smooth,
            levels=levels if isinstance(levels, int) and 1 <= levels <= MOST_LEVELS else 1,
        )  # fmt: skip
        return part, self._weights(prim, binding, len(points)) if skinned else None

    def _normals(self, mesh: Any, corners: np.ndarray) -> np.ndarray | None:
        """Normals (c, 3) of the corners, in the mesh's own space; None where it has none, or is smoothed instead."""
        from pxr import UsdGeom

        if mesh.GetSubdivisionSchemeAttr().Get() != UsdGeom.Tokens.none:
            return None
        primvar = UsdGeom.PrimvarsAPI(mesh.GetPrim()).GetPrimvar("normals")
        if primvar and primvar.HasValue():
            values, kind = primvar.ComputeFlattened(), primvar.GetInterpolation()
        else:
            values, kind = mesh.GetNormalsAttr().Get(), mesh.GetNormalsInterpolation()
        found = np.array(values or [], dtype=np.float64).reshape(-1, 3)
        if kind == UsdGeom.Tokens.faceVarying and len(found) == len(corners):
            return found
        if kind in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying) and len(found) > corners.max(initial=-1):
            return np.asarray(found[corners])
        return None

    def _uvs(self, prim: Any, corners: np.ndarray) -> np.ndarray | None:
        """The first UVs (c, 2) of the corners: those called st where there are several."""
        found = self._all_uvs(prim, corners)
        return found[0] if found else None

    def _all_uvs(self, prim: Any, corners: np.ndarray) -> list[np.ndarray]:
        from pxr import UsdGeom

        named = []
        for primvar in UsdGeom.PrimvarsAPI(prim).GetPrimvars():
            if primvar.GetTypeName().type.typeName in ("VtArray<GfVec2f>", "VtArray<GfVec2d>", "VtArray<GfVec2h>"):
                values = self._of_corners(primvar, corners, 2)
                if values is not None:
                    named.append((primvar.GetPrimvarName() != "st", values))
        return [values for _, values in sorted(named, key=lambda pair: pair[0])]

    def _of_corners(self, primvar: Any, corners: np.ndarray, width: int) -> np.ndarray | None:
        """A primvar's values (c, width) at the corners; None where it has none for each corner or vertex."""
        from pxr import UsdGeom

        values = np.array(primvar.ComputeFlattened() or [], dtype=np.float64).reshape(-1, width)
        kind = primvar.GetInterpolation()
        if kind == UsdGeom.Tokens.faceVarying and len(values) == len(corners):
            return values
        if kind in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying) and len(values) > corners.max(initial=-1):
            return np.asarray(values[corners])
        return None

    def _layers(self, prim: Any, corners: np.ndarray, has_uvs: bool) -> dict[str, np.ndarray]:
        """Second UVs and colours, where the file tells them for each corner or vertex."""
        from pxr import UsdGeom

        api, found = UsdGeom.PrimvarsAPI(prim), dict[str, np.ndarray]()
        uvs = self._all_uvs(prim, corners)
        if has_uvs and len(uvs) > 1:
            found[SECOND_UVS] = uvs[1]
        if len(uvs) > 2:
            self.notes.append(f"{prim.GetName()}: {len(uvs) - 2} more sets of UVs are not kept")
        colour = api.GetPrimvar("displayColor")
        if colour and colour.HasValue() and (values := self._of_corners(colour, corners, 3)) is not None:
            opacity = api.GetPrimvar("displayOpacity")
            alpha = self._of_corners(opacity, corners, 1) if opacity and opacity.HasValue() else None
            found[COLOURS] = np.concatenate([values, np.ones((len(values), 1)) if alpha is None else alpha], axis=1)
        return found

    def _slots(self, prim: Any, faces: int) -> np.ndarray:
        from pxr import UsdGeom, UsdShade

        slots = np.full(faces, -1, dtype=np.int64)
        bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if bound:
            slots[:] = self._material(bound)
        for subset in UsdGeom.Subset.GetGeomSubsets(UsdGeom.Mesh(prim), UsdGeom.Tokens.face):
            material = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            indices = np.array(subset.GetIndicesAttr().Get() or [], dtype=np.int64)
            if material and len(indices) and 0 <= indices.min() <= indices.max() < faces:
                slots[indices] = self._material(material)
        if UsdGeom.Mesh(prim).GetDoubleSidedAttr().Get():
            for slot in np.unique(slots).tolist():
                if slot < len(self.materials):
                    self.materials[slot] = replace(self.materials[slot], double_sided=True)
        return slots

    def _material(self, material: Any) -> int:
        key = str(material.GetPath())
        if key in self.slots:
            return self.slots[key]
        result = Material(_true_name(material.GetPrim()), roughness=0.5)
        source = material.ComputeSurfaceSource()
        shader = source[0] if source else None
        if shader and shader.GetIdAttr().Get() == "UsdPreviewSurface":
            result = read_material(shader, result.name, self._picture)
        elif shader:
            self.notes.append(f"material {result.name}: its shader is not UsdPreviewSurface, only its name is kept")
        self.slots[key] = len(self.materials)
        self.materials.append(result)
        return self.slots[key]

    def _picture(self, asset: Any) -> str | None:
        from pxr import Ar

        key, name = str(asset.path), PurePath(asset.path).name
        if key not in self.images:
            data = None
            if "[" in (asset.resolvedPath or ""):  # inside the package; open_stage let no other through
                opened = Ar.GetResolver().OpenAsset(Ar.ResolvedPath(asset.resolvedPath))
                data = bytes(opened.GetBuffer()) if opened else None
            elif key:
                data = read_beside(self.path, os.path.relpath(key, self.path.parent.resolve()))
            image = image_from_bytes(name, data) if data else None
            if image is None and key:
                self.notes.append(f"picture {name[:60]} is missing or no sound {WANTED}")
            taken = {i.name for i in self.images.values() if i is not None}
            while image is not None and image.name in taken:
                image = Image(f"_{image.name}", image.kind, image.data)
            self.images[key] = image
        found = self.images[key]
        return found.name if found is not None else None

    def _morphs(self, prim: Any, count: int, matrix: FloatArray) -> tuple[Morph, ...]:
        from pxr import UsdSkel

        binding = UsdSkel.BindingAPI(prim)
        names = binding.GetBlendShapesAttr().Get() if binding else None
        targets = binding.GetBlendShapeTargetsRel().GetTargets() if binding and names else []
        result, tokens = [], list[str]()
        for name, target in zip(names or [], targets, strict=False):
            shape = UsdSkel.BlendShape(self.stage.GetPrimAtPath(target))
            offsets = np.array(shape.GetOffsetsAttr().Get() or [], dtype=np.float64).reshape(-1, 3)
            rows = shape.GetPointIndicesAttr().Get()
            index = np.array(rows, dtype=np.int64) if rows else np.arange(len(offsets))
            if len(offsets) == 0 or len(index) != len(offsets) or not 0 <= index.min() <= index.max() < count:
                continue
            take(24 * count, f"morph target {name}")
            deltas = np.zeros((count, 3))
            deltas[index] = offsets @ matrix[:3, :3].T * self.unit
            result.append(Morph(shape.GetPrim().GetDisplayName() or str(name), frozen(deltas)))
            tokens.append(str(name))
        self.shapes[str(prim.GetPath())] = tuple(tokens)
        return tuple(result)

    def _skeletons(self, skeletons: list[Any]) -> None:
        joints: list[Joint] = []
        names = Unique()
        for number, skeleton in enumerate(skeletons):
            paths = [str(j) for j in skeleton.GetJointsAttr().Get() or []]
            binds = skeleton.GetBindTransformsAttr().Get() or []
            if not paths or len(binds) != len(paths):
                self.notes.append(f"skeleton {skeleton.GetPrim().GetName()} has no bind pose, ignored")
                continue
            limited(len(joints) + len(paths), MOST_JOINTS, "joints")
            joint_names = [str(n) for n in skeleton.GetJointNamesAttr().Get() or []]
            joint_names = joint_names if len(joint_names) == len(paths) else [p.rsplit("/", 1)[-1] for p in paths]
            index: dict[str, int] = {}
            for path, bind, label in zip(paths, binds, joint_names, strict=True):
                matrix = np.array(bind, dtype=np.float64).T
                name = names(label)
                above = path.rsplit("/", 1)[0] if "/" in path else ""
                while above and above not in index:
                    above = above.rsplit("/", 1)[0] if "/" in above else ""
                parent = f"file.{index[above]}" if above else None
                index[path] = len(joints)
                x, y, z = (float(v) * self.unit for v in matrix[:3, 3])
                turn = tuple(float(v) for v in matrix_quaternion(matrix))
                joints.append(Joint(f"file.{len(joints)}", name, parent, side_of_name(name), (x, y, z), turn, origin=Origin.FILE))  # type: ignore[arg-type]
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
        indices, values = indices.reshape(count, -1), values.reshape(count, -1)
        if not np.isfinite(values).all():
            self.notes.append(f"{prim.GetName()}: weights are no numbers, ignored")
            return None
        if indices.max(initial=0) >= len(columns) or indices.min(initial=0) < 0:
            self.notes.append(f"{prim.GetName()}: weights name missing joints, ignored")
            return None
        if indices.size == 0 or not columns:
            return None
        ids = [j.id for j in self.skeleton.joints]
        return from_entries(np.array(columns)[indices], values, ids)[0]


GENERIC = re.compile(r"(?:poly|geom)?(?:mesh|shape|geo|geometry|surface|object)[ _]?\d*", re.IGNORECASE)
"""Names of a mesh's prim that say nothing of it; what it is called then stands over it."""


def _telling_name(prim: Any) -> str:
    """A mesh's true name; where that is any mesh's, the name of what alone holds it."""
    name = _true_name(prim)
    above = prim.GetParent()
    if prim.GetDisplayName() or not GENERIC.fullmatch(name) or not above or above.IsPseudoRoot():
        return name
    alone = sum(child.GetTypeName() == "Mesh" for child in above.GetChildren()) == 1
    return _true_name(above) if alone else f"{_true_name(above)} {name}"


def _true_name(prim: Any) -> str:
    """What a thing is called: names USD cannot take as a prim's are kept as the one for display."""
    return str(prim.GetDisplayName() or prim.GetName())


def _with_plain(part: Part, plain: int) -> Part:
    slots = np.where(part.mesh.materials < 0, plain, part.mesh.materials)
    slots.setflags(write=False)
    return replace(part, mesh=replace(part.mesh, materials=slots))
