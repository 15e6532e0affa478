"""What a mesh file brings in, before it stands in a document."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.core.motion.clips import Clip
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights
from pegloom.document.model import Image, Material, Part


@dataclass(frozen=True, slots=True)
class Imported:
    """Parts in file coordinates with all they refer to; weights by part id; notes: what was ignored or mended."""

    parts: tuple[Part, ...]
    materials: tuple[Material, ...]
    images: tuple[Image, ...]
    skeleton: Skeleton | None = None
    weights: dict[str, Weights] | None = None
    clips: tuple[Clip, ...] = ()
    notes: tuple[str, ...] = ()
