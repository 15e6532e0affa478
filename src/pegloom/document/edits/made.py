"""Whether a clip is still as it was made: from another body's motion, or from numbers."""

from __future__ import annotations

import hashlib

import numpy as np

from pegloom.core.motion.clips import Clip


def mark_of(clip: Clip) -> str:
    """What tells whether a clip is as it was made."""
    digest = hashlib.sha256()
    for array in (clip.tracks.times, clip.tracks.rows):
        digest.update(np.round(array, 9).tobytes())
    for ref in sorted(clip.curves):
        digest.update(repr(tuple(ref)).encode())
        digest.update(np.round(clip.curves[ref].times, 9).tobytes() + np.round(clip.curves[ref].values, 9).tobytes())
    return digest.hexdigest()[:16]


def changed_by_hand(clip: Clip) -> bool:
    """Whether a clip's own motion was changed since it was made; layers over it do not count."""
    mark = clip.borrowed.mark if clip.borrowed is not None else clip.gait.mark if clip.gait is not None else None
    return mark is not None and mark_of(clip) != mark
