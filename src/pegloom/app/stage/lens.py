"""What the lens in hand shows on a part: its values, and a key that says when they changed."""

from __future__ import annotations

import numpy as np

from pegloom.app.context import Context
from pegloom.app.state.proved import Proved
from pegloom.document.evaluate import PosedFrame
from pegloom.document.model import Character, Part
from pegloom.scene import lenses
from pegloom.scene.brushes import Painting
from pegloom.scene.lenses import Lens
from pegloom.scene.stroke import MaskStroke, Stroke

AnyStroke = Stroke | MaskStroke | None


def lens_key(c: Context, character: Character, stroke: AnyStroke, part: Part, frame: PosedFrame) -> object:
    """An object whose identity stays as long as the values do."""
    skin = character.skin
    weights = skin.weights.get(part.id) if skin else None
    if c.state.viewing.lens is Lens.DELIVERED:
        return _Key.of(c.state.settings.of(Proved).by_vertex, f"delivered {part.id}")
    if skin is None or weights is None:
        return _Key.of(part.mesh, "none")
    if c.state.viewing.lens is Lens.INFLUENCE and stroke is not None and stroke.part.id == part.id:
        return object()
    points = frame.points[part.id]
    if c.state.viewing.lens is Lens.STRAIN:
        return _Key.of(points, "strain")
    if c.state.viewing.lens is Lens.VOLUME:
        return _Key.of(points, "volume")
    if c.state.viewing.lens is Lens.DIFFERENCE:
        return _Key.of(c.frames.other_frame() or weights, f"difference {id(points)}")
    if c.state.tooling.painting is not Painting.WEIGHTS and c.state.viewing.lens is Lens.INFLUENCE:
        return _Key.of(skin, f"{c.state.tooling.painting.name} {part.id}")
    detail = {Lens.INFLUENCE: c.state.viewing.influence, Lens.COUNT: str(skin.most)}.get(c.state.viewing.lens, "")
    return _Key.of(weights, f"{c.state.viewing.lens.name} {detail}")


def lens_values(
    c: Context, character: Character, stroke: AnyStroke, part: Part, frame: PosedFrame, points: np.ndarray
) -> np.ndarray:
    """(n, 4) values of a part at its shown points; zero where it has no weights."""
    skin = character.skin
    weights = skin.weights.get(part.id) if skin else None
    if c.state.viewing.lens is Lens.DELIVERED:
        proved = c.state.settings.of(Proved)
        apart = proved.by_vertex.get(part.id, np.zeros(0))
        right = len(apart) == part.mesh.vertex_count
        return lenses.ramp_colours(apart if right else np.zeros(part.mesh.vertex_count), max(proved.worst, 1e-9))
    if skin is None or weights is None or character.skeleton is None:
        return np.zeros((part.mesh.vertex_count, 4))
    if c.state.viewing.lens is Lens.INFLUENCE:
        if stroke is not None and stroke.part.id == part.id:
            return _ramped(stroke.influence(c.state.viewing.influence))
        if c.state.tooling.painting is Painting.DUAL:
            return _ramped(skin.dual.get(part.id, np.zeros(part.mesh.vertex_count)))
        if c.state.tooling.painting is Painting.RELAX:
            relax = skin.relax.get(part.id)
            full = np.full(part.mesh.vertex_count, 0.0 if relax is None else 1.0)
            return _ramped(full if relax is None or relax.mask is None else relax.mask)
        return lenses.influence_values(weights, c.state.viewing.influence)
    if c.state.viewing.lens is Lens.ALL:
        return lenses.all_influences(weights)
    if c.state.viewing.lens is Lens.COUNT:
        return lenses.count_colours(weights, skin.most)
    if c.state.viewing.lens is Lens.STRAYS:
        return lenses.stray_colours(part, weights, c.skeleton)
    if c.state.viewing.lens is Lens.VOLUME:
        return lenses.volume_colours(part, weights, character.skeleton, points, frame.joints)
    if c.state.viewing.lens is Lens.DIFFERENCE:
        found = difference(c, part.id)
        if found is None:
            return lenses.ramp_colours(np.zeros(part.mesh.vertex_count), 1.0)
        values, _, metres = found
        return lenses.ramp_colours(values, difference_full(c)[0] if metres else 1.0)
    return lenses.strain_colours(part, points)


def difference(c: Context, part_id: str) -> tuple[np.ndarray, float, bool] | None:
    """How far the weights in hand and the compared weave are apart on a part; None where nothing is compared."""
    character, other = c.state.character, c.frames.other
    here, other_frame = c.frames.frame(), c.frames.other_frame()
    if character is None or other is None or here is None or other_frame is None or not character.skin or not other.skin:
        return None
    ours, theirs = character.skin.weights.get(part_id), other.skin.weights.get(part_id)
    if ours is None or theirs is None:
        return None
    return lenses.difference_of(here.points[part_id], other_frame.points[part_id], ours, theirs)


def difference_full(c: Context) -> tuple[float, float, bool]:
    """What full colour means, the largest value over all parts, and whether they are metres.

    Full is the 99th percentile, so that a few far leaks do not paint all the rest black.
    """
    character = c.state.character
    found = [difference(c, part.id) for part in character.included] if character else []
    apart = [f[0] for f in found if f is not None and f[2]]
    if not apart:
        return 1.0, max([float(f[0].max(initial=0.0)) for f in found if f is not None], default=0.0), False
    values = np.concatenate(apart)
    largest = float(values.max(initial=0.0))
    return max(float(np.quantile(values, 0.99)), 0.02 * largest, 1e-6), largest, True


def _ramped(values: np.ndarray) -> np.ndarray:
    result = np.zeros((len(values), 4))
    result[:, 0], result[:, 3] = values, 1.0
    return result


class _Key:
    """One object per (thing, what is shown of it), so that the renderer can compare by identity."""

    _held: dict[str, tuple[object, _Key]] = {}  # noqa: RUF012 - a cache on purpose

    @classmethod
    def of(cls, thing: object, shown: str) -> _Key:
        key = f"{id(thing)} {shown}"
        known = cls._held.get(key)
        if known is None or known[0] is not thing:
            if len(cls._held) > 64:
                cls._held.clear()
            known = (thing, cls())
            cls._held[key] = known
        return known[1]
