"""Parts and shadows of posed figures, put on the card."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import spots_on
from pegloom.core.geometry.subdivide import Smoothed, catmull_clark, loop
from pegloom.core.memo import by_identity
from pegloom.document.model import Character, Part, Subdivision
from pegloom.render.renderer import BESIDE, Renderer
from pegloom.scene.contact import Shadow, contact_shadow

SPOTS, FEWER = 6000, 900
"""Places on each part that cast its shadow; where it moves, and nobody looks that closely."""


def beside_key(character: Character, part: Part) -> str:
    """The renderer's id of a part of a figure that is not in hand."""
    return f"{BESIDE}{character.id}:{part.id}"


@by_identity
def smoothed(part: Part) -> Smoothed:
    """A part's cage smoothed as it asks; the topology is worked out once, points follow by one product."""
    return (catmull_clark if part.smooth is Subdivision.CATMULL_CLARK else loop)(part.mesh, part.levels)


def show_smooth(renderer: Renderer, key: str, part: Part, points: FloatArray) -> Smoothed | None:
    """Put a part's points (n, 3) on the card, smoothed where it is a cage. Returns how it was smoothed."""
    fine = smoothed(part) if part.smooth is not Subdivision.NONE else None
    if fine is not None:
        renderer.show_part(key, fine.mesh, fine.matrix @ points)
    else:
        renderer.show_part(key, part.mesh, points)
    return fine


def shadow_of(character: Character, parts: Iterable[Part], points: Mapping[str, FloatArray], world: FloatArray, count: int = SPOTS) -> Shadow | None:
    """The soft shadow of a figure's parts on the world's ground.

    points (n, 3) : of each part by id, in a space that `world` (4, 4) puts into the world. count : places on each part.
    """
    spots = {part.id: spots_on(part.mesh, count) for part in parts}
    scale = float(np.linalg.norm(world[:3, 0]))
    places = np.concatenate([some.at(points[part]) for part, some in spots.items()]) @ world[:3, :3].T + world[:3, 3]
    areas = np.concatenate([np.full(len(some.shares), some.area * scale**2) for some in spots.values()])
    return contact_shadow(places, areas, character.height * scale)
