"""What the lens in hand shows on a part: its values, and a key that says when they changed."""

from __future__ import annotations

import numpy as np

from pegloom.app.session import Session
from pegloom.document.model import Part
from pegloom.scene import lenses
from pegloom.scene.lenses import Lens
from pegloom.scene.stroke import Stroke


def lens_key(session: Session, stroke: Stroke | None, part: Part, points: np.ndarray) -> object:
    """An object whose identity stays as long as the values do."""
    skin = session.character.skin
    weights = skin.weights.get(part.id) if skin else None
    if weights is None:
        return _Key.of(part.mesh, "none")
    if session.lens is Lens.STRAIN:
        return points
    if session.lens is Lens.INFLUENCE and stroke is not None and stroke.part.id == part.id:
        return object()
    told = {Lens.INFLUENCE: session.influence, Lens.COUNT: str(skin.influences)}.get(session.lens, "")
    return _Key.of(weights, f"{session.lens.name} {told}")


def lens_values(session: Session, stroke: Stroke | None, part: Part, points: np.ndarray) -> np.ndarray:
    """(n, 4) values of a part; zero where it has no weights."""
    skin = session.character.skin
    weights = skin.weights.get(part.id) if skin else None
    if weights is None:
        return np.zeros((part.mesh.vertex_count, 4))
    if session.lens is Lens.INFLUENCE:
        if stroke is None or stroke.part.id != part.id:
            return lenses.influence_values(weights, session.influence)
        values = np.zeros((part.mesh.vertex_count, 4))
        values[:, 0], values[:, 3] = stroke.influence(session.influence), 1.0
        return values
    if session.lens is Lens.ALL:
        return lenses.all_influences(weights)
    if session.lens is Lens.COUNT:
        return lenses.count_colours(weights, skin.influences)
    return lenses.strain_colours(part, points)


class _Key:
    """One object per (thing, what is shown of it), so that the renderer can compare by identity."""

    _held: dict[str, tuple[object, _Key]] = {}  # noqa: RUF012 - a cache on purpose

    @classmethod
    def of(cls, thing: object, shown: str) -> _Key:
        key = f"{id(thing)} {shown}"
        held = cls._held.get(key)
        if held is None or held[0] is not thing:
            if len(cls._held) > 64:
                cls._held.clear()
            held = (thing, cls())
            cls._held[key] = held
        return held[1]
