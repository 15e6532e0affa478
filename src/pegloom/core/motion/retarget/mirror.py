"""Motion of the other side: left and right exchanged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.source import Source, moments_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.skeleton.joints import Skeleton

APART = 0.02
"""Share of a skeleton's size within which two joints stand mirrored."""


def partners_of(skeleton: Skeleton) -> list[int]:
    """Of each joint the one across the middle, itself where there is none."""
    at = skeleton.positions
    middle = float(np.median(at[:, 0])) if len(at) else 0.0
    size = max(float(np.ptp(at, axis=0).max()), 1e-9) if len(at) else 1.0
    found = []
    for j, place in enumerate(at):
        wanted = np.array([2.0 * middle - place[0], place[1], place[2]])
        gaps = np.linalg.norm(at - wanted, axis=1)
        # Of several at one place the one that hangs as deep.
        near = [int(k) for k in np.flatnonzero(gaps < APART * size)]
        depth = [_depth(skeleton, k) for k in near]
        own = _depth(skeleton, j)
        found.append(min(near, key=lambda k: (abs(depth[near.index(k)] - own), gaps[k])) if near else j)
    return found


def _depth(skeleton: Skeleton, joint: int) -> int:
    count = 0
    while joint >= 0:
        joint = int(skeleton.parents[joint])
        count += 1
    return count


def mirrored(skeleton: Skeleton, clip: Clip) -> Clip:
    """A sampled clip with its sides exchanged, at the moments it has. The skeleton stands with its sides along x."""
    times = moments_of(clip)
    worlds = posed_at(clip, skeleton, times)
    partner = partners_of(skeleton)
    rest = np.linalg.inv(skeleton.world[:, :3, :3])
    turned = worlds[..., :3, :3] @ rest
    flip = np.diag([-1.0, 1.0, 1.0])
    moving = [j for j, joint in enumerate(skeleton.joints) if joint.id in clip.tracks or skeleton.joints[partner[j]].id in clip.tracks]
    placed = [j for j in moving if any(t.path == "translation" and np.ptp(t.values, axis=0).max() > 1e-9 for t in clip.tracks.get(skeleton.joints[j].id, ()))]
    base = placed[0] if placed else 0
    figure = Figure(skeleton, len(times), base)
    for j in moving:
        figure.turns[j] = flip @ turned[:, partner[j]] @ flip
    middle = float(np.median(skeleton.positions[:, 0]))
    places = worlds[:, partner[base], :3, 3].copy()
    places[:, 0] = 2.0 * middle - places[:, 0]
    figure.places = places
    figure.stand()
    return replace(clip, tracks=figure.tracks(times - times[0]), length=float(times[-1] - times[0]))


def mirrored_source(source: Source) -> Source:
    """A source whose sides are exchanged."""
    return replace(source, clip=mirrored(source.skeleton, source.clip), name=f"{source.name}, other side")
