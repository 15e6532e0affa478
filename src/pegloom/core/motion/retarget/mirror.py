"""Motion of the other side: left and right exchanged."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pegloom.core.motion.clips import Clip
from pegloom.core.motion.retarget.figure import Figure
from pegloom.core.motion.retarget.source import moments_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.skeleton.joints import Skeleton

FLIP = np.diag([-1.0, 1.0, 1.0])


def mirrored_figure(figure: Figure) -> Figure:
    """A figure that does what the one does with its sides exchanged; it stands, with its sides along x."""
    skeleton = figure.skeleton
    across = [skeleton.index[skeleton.other_side(joint.id) or joint.id] for joint in skeleton.joints]
    result = Figure(skeleton, figure.moments, figure.base)
    for j, other in enumerate(across):
        if j in figure.turns or other in figure.turns:
            result.turns[j] = FLIP @ figure.turned[:, other] @ FLIP
    # The base is a joint of the middle, and mirrored about where it rests.
    middle = figure.rest[figure.base, 0]
    result.places = (figure.at[:, across[figure.base]] - [middle, 0.0, 0.0]) * [-1.0, 1.0, 1.0] + [middle, 0.0, 0.0]
    result.stand()
    return result


def mirrored(skeleton: Skeleton, clip: Clip) -> Clip:
    """A sampled clip with its sides exchanged, at the moments it has."""
    times = moments_of(clip)
    worlds = posed_at(clip, skeleton, times)
    moving = [skeleton.index[joint] for joint in clip.tracks if joint in skeleton.index]
    placed = [j for j in moving if any(t.path == "translation" and np.ptp(t.values, axis=0).max() > 1e-9 for t in clip.tracks[skeleton.joints[j].id])]
    figure = Figure(skeleton, len(times), placed[0] if placed else 0)
    turned = worlds[..., :3, :3] @ skeleton.inverse_world[:, :3, :3]
    figure.turns = {j: turned[:, j] for j in moving}
    figure.places = worlds[:, figure.base, :3, 3]
    figure.stand()
    return replace(clip, tracks=mirrored_figure(figure).tracks(times - times[0]), length=float(times[-1] - times[0]))
