"""Motion of UsdSkel: animation sources of skeletons, as sampled tracks of joints.

Specification: OpenUSD, UsdSkel, "Skeletal animation": joint-local transforms for the joints an animation names, the others
at rest, times in time codes.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.geometry.transforms import composed
from pegloom.core.motion.clips import Clip, MorphTrack
from pegloom.core.motion.retell import local_rows
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.skeleton.joints import Skeleton
from pegloom.files.allowance import take
from pegloom.files.bvh import MOST_FRAMES

MOST_CLIPS = 1000
"""Animations of one file."""


class Shaped(NamedTuple):
    """A part whose morph targets animations may move: its name, theirs, and what animations call them."""

    part: str
    names: tuple[str, ...]
    tokens: tuple[str, ...]


def read_clips(
    stage: Any, skeletons: list[Any], joint_paths: Mapping[str, Mapping[str, int]], skeleton: Skeleton, unit: float, notes: list[str], shaped: Sequence[Shaped] = (),
) -> tuple[Clip, ...]:  # fmt: skip
    """The clip of each animation a skeleton plays, and of those beside it that name its joints. joint_paths : of each read
    skeleton by its path, our joints' numbers."""
    from pxr import Usd, UsdSkel

    found: list[Clip] = []
    seen: set[str] = set()
    for one in skeletons:
        order = joint_paths.get(str(one.GetPath()))
        if order is None:
            continue
        binding = UsdSkel.BindingAPI(one.GetPrim())
        source = binding.GetInheritedAnimationSource() if binding else None
        root = UsdSkel.Root.Find(one.GetPrim())
        beside = [p for p in Usd.PrimRange(root.GetPrim()) if p.IsA(UsdSkel.Animation)] if root else []
        # The one that is bound comes first; others wait beside it for somebody to bind them.
        for prim in [*([source] if source else []), *beside]:
            animation, path = UsdSkel.Animation(prim), str(prim.GetPath())
            if not animation or path in seen or len(found) >= MOST_CLIPS:
                continue
            if prim != source and not set(animation.GetJointsAttr().Get() or []) <= set(order):
                continue
            seen.add(path)
            clip = _clip(stage, one, animation, order, skeleton, unit, f"clip{len(found)}", shaped)
            if clip is None:
                notes.append(f"animation {prim.GetName()} holds no times or moves no joint, ignored")
            else:
                found.append(clip)
    return tuple(found)


def _clip(stage: Any, skel: Any, animation: Any, order: Mapping[str, int], skeleton: Skeleton, unit: float, clip_id: str, shaped: Sequence[Shaped]) -> Clip | None:
    from pxr import Usd, UsdGeom

    attributes = [animation.GetTranslationsAttr(), animation.GetRotationsAttr(), animation.GetScalesAttr()]
    codes = sorted({float(t) for a in attributes for t in a.GetTimeSamples()})[:MOST_FRAMES]
    named = [str(j) for j in animation.GetJointsAttr().Get() or []]
    if not codes or not any(n in order for n in named):
        return None
    take(8 * 16 * len(codes) * (len(order) + 1), f"{len(codes)} frames")
    paths = list(order)
    place = {path: k for k, path in enumerate(paths)}
    rest = _rest(skel, paths)
    local = np.repeat(rest[None], len(codes), axis=0)
    columns = [(i, place[n]) for i, n in enumerate(named) if n in place]
    here, there = (np.array([c[k] for c in columns]) for k in (0, 1))
    for k, code in enumerate(codes):
        moves, turns, scales = (a.Get(Usd.TimeCode(code)) for a in attributes)
        if moves is None or turns is None or len(moves) != len(named) or len(turns) != len(named):
            return None
        quaternions = np.array(turns, dtype=np.float64)  # x y z w, as they lie there
        quaternions /= np.maximum(np.linalg.norm(quaternions, axis=1, keepdims=True), 1e-12)
        sizes = np.array(scales, dtype=np.float64) if scales is not None and len(scales) == len(named) else np.ones((len(named), 3))
        rows = composed(np.array(moves, dtype=np.float64), quaternions, sizes)
        local[k, there] = rows[here]
    above = [place.get(path.rsplit("/", 1)[0], -1) if "/" in path else -1 for path in paths]
    worlds = np.empty_like(local)
    prim = skel.GetPrim()
    for k, code in enumerate(codes):
        worlds[k] = _placed(local[k], above, np.array(UsdGeom.XformCache(Usd.TimeCode(code)).GetLocalToWorldTransform(prim), dtype=np.float64).T)
    # What scale the bind has is in the points already: turns are told without it.
    binds = np.array([np.array(b, dtype=np.float64).T for b in skel.GetBindTransformsAttr().Get()])
    worlds[..., :3, :3] /= np.maximum(np.linalg.norm(binds[:, :3, :3], axis=-2), 1e-12)[None, :, None, :]
    worlds[..., :3, 3] *= unit
    whole = np.repeat(skeleton.world[None], len(codes), axis=0)
    whole[:, [order[p] for p in paths]] = worlds
    rows = local_rows(skeleton, whole)
    rate = float(stage.GetTimeCodesPerSecond()) or 24.0
    times = np.asarray(frozen((np.array(codes) - codes[0]) / rate))
    tracks = {}
    for path in paths:
        j = order[path]
        spans = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
        tracks[skeleton.joints[j].id] = tuple(Track(what, times, np.asarray(frozen(np.ascontiguousarray(rows[:, j, span])))) for what, span in spans)
    name = str(animation.GetPrim().GetDisplayName() or animation.GetPrim().GetName())
    return Clip(clip_id, name, rate, max(float(times[-1]), 1e-3), tracks=joint_tracks(tracks), morphs=_morphs(animation, shaped, codes[0], rate))


def _morphs(animation: Any, shaped: Sequence[Shaped], first: float, rate: float) -> tuple[MorphTrack, ...]:
    """What an animation does with morph targets, by part; times from the code `first` on."""
    from pxr import Usd

    attribute = animation.GetBlendShapeWeightsAttr()
    named = [str(n) for n in animation.GetBlendShapesAttr().Get() or []]
    codes = sorted(float(t) for t in attribute.GetTimeSamples())[:MOST_FRAMES]
    if not named or not codes:
        return ()
    take(8 * len(codes) * len(named), f"{len(codes)} frames of morph weights")
    rows = [attribute.Get(Usd.TimeCode(code)) for code in codes]
    if any(row is None or len(row) != len(named) for row in rows):
        return ()
    values, times = np.array(rows, dtype=np.float64), np.asarray(frozen(np.maximum((np.array(codes) - first) / rate, 0.0)))
    found = []
    for one in shaped:
        columns = [named.index(t) if t in named else -1 for t in one.tokens]
        if max(columns) < 0:
            continue
        weights = np.stack([values[:, k] if k >= 0 else np.zeros(len(codes)) for k in columns], axis=1)
        if np.isfinite(weights).all():
            found.append(MorphTrack(one.part, one.names, times, np.asarray(frozen(np.ascontiguousarray(weights)))))
    return tuple(found)


def _rest(skel: Any, paths: list[str]) -> FloatArray:
    """Local matrices (j, 4, 4) of joints an animation leaves out; none said, those of the bind."""
    told = skel.GetRestTransformsAttr().Get()
    if told is not None and len(told) == len(paths):
        return np.array([np.array(m, dtype=np.float64).T for m in told])
    binds = {p: np.array(m, dtype=np.float64).T for p, m in zip(paths, skel.GetBindTransformsAttr().Get(), strict=True)}
    return np.array([np.linalg.inv(binds[p.rsplit("/", 1)[0]]) @ binds[p] if "/" in p and p.rsplit("/", 1)[0] in binds else binds[p] for p in paths])


def _placed(local: FloatArray, above: list[int], outer: FloatArray) -> FloatArray:
    worlds = np.empty_like(local)
    for j, parent in enumerate(above):
        worlds[j] = (worlds[parent] if parent >= 0 else outer) @ local[j]
    return worlds
