"""USD opened again by usd-core's own skinning and blend shapes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.arrays import FloatArray


class OtherUsd:
    """rest : points (n, 3) of all meshes one after the other, in the stage's unit and axes. clips : names."""

    def __init__(self, path: Path) -> None:
        from pxr import Usd, UsdGeom, UsdSkel

        self.stage = Usd.Stage.Open(str(path))
        self.codes = float(self.stage.GetTimeCodesPerSecond())
        self.meshes = [UsdGeom.Mesh(p) for p in self.stage.Traverse() if p.IsA(UsdGeom.Mesh)]
        self.roots = [UsdSkel.Root(p) for p in self.stage.Traverse() if p.IsA(UsdSkel.Root)]
        self.rest = np.concatenate([np.array(m.GetPointsAttr().Get(), dtype=float) for m in self.meshes]) if self.meshes else np.zeros((0, 3))
        self.motions = [p for p in self.stage.Traverse() if p.IsA(UsdSkel.Animation)]
        self.clips = [p.GetDisplayName() or p.GetName() for p in self.motions]
        self.skeletons = [p for p in self.stage.Traverse() if p.IsA(UsdSkel.Skeleton)]

    def _bind(self, clip: str) -> None:
        from pxr import UsdSkel

        if self.skeletons:
            UsdSkel.BindingAPI(self.skeletons[0]).GetAnimationSourceRel().SetTargets([self.motions[self.clips.index(clip)].GetPath()])

    def points(self, clip: str | None = None, time: float = 0.0) -> FloatArray:
        """All points (n, 3) of the stage at a moment of a clip, or as they are bound."""
        if clip is None:
            return self.rest
        from pxr import Usd, UsdGeom, UsdSkel, Vt

        self._bind(clip)
        code, cache = time * self.codes, UsdSkel.Cache()
        for root in self.roots:
            cache.Populate(root, Usd.TraverseInstanceProxies())
        places, out = UsdGeom.XformCache(code), []
        for mesh in self.meshes:
            points = Vt.Vec3fArray(mesh.GetPointsAttr().Get())
            query = cache.GetSkinningQuery(mesh.GetPrim())
            skeleton = self._skeleton(cache, mesh)
            if query and skeleton is not None:
                if query.HasBlendShapes() and query.GetBlendShapeMapper() is not None:
                    weights = query.GetBlendShapeMapper().Remap(skeleton.GetAnimQuery().ComputeBlendShapeWeights(code))
                    shapes = UsdSkel.BlendShapeQuery(UsdSkel.BindingAPI(mesh.GetPrim()))
                    shapes.ComputeDeformedPoints(*shapes.ComputeSubShapeWeights(weights), shapes.ComputeBlendShapePointIndices(), shapes.ComputeSubShapePointOffsets(), points)
                if query.HasJointInfluences():
                    query.ComputeSkinnedPoints(skeleton.ComputeSkinningTransforms(code), points, code)
            placed = np.array(places.GetLocalToWorldTransform(mesh.GetPrim()), dtype=float).T
            out.append(np.array(points, dtype=float) @ placed[:3, :3].T + placed[:3, 3])
        return np.concatenate(out) if out else np.zeros((0, 3))

    def hidden(self, clip: str, time: float) -> set[str]:
        """Names of meshes that are not seen at a moment of the clip that is bound in the file; of others the file says nothing."""
        from pxr import UsdGeom

        if not self.clips or clip != self.clips[0]:
            return set()
        code = time * self.codes
        gone = [m.GetPrim() for m in self.meshes if m.ComputeVisibility(code) == UsdGeom.Tokens.invisible]
        return {p.GetDisplayName() or p.GetName() for p in gone}

    def _skeleton(self, cache: Any, mesh: Any) -> Any:
        from pxr import UsdSkel

        found = UsdSkel.BindingAPI(mesh.GetPrim()).GetInheritedSkeleton()
        return cache.GetSkelQuery(found) if found else None

    def joints(self, clip: str, time: float) -> dict[str, FloatArray]:
        """Where each joint is (3,), by name."""
        from pxr import Usd, UsdSkel

        self._bind(clip)
        cache = UsdSkel.Cache()
        for root in self.roots:
            cache.Populate(root, Usd.TraverseInstanceProxies())
        query = cache.GetSkelQuery(UsdSkel.Skeleton(self.skeletons[0]))
        matrices = query.ComputeJointSkelTransforms(time * self.codes)
        names = UsdSkel.Skeleton(self.skeletons[0]).GetJointNamesAttr().Get() or [str(j).rpartition("/")[2] for j in query.GetJointOrder()]
        return {str(name): np.array(m, dtype=float)[3, :3] for name, m in zip(names, matrices, strict=True)}
