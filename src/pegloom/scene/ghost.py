"""The figure as it stood before, drawn for a while where it stands now."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.document.model import Character

GHOST_EDGES = 6000


def ghost_of(old: Character | None, new: Character | None) -> FloatArray | None:
    """Edges (s, 2, 3) of the pose before, turned and moved as they were, at the new size; None where only size or place
    has changed, since a ghost would lie on the figure itself."""
    if old is None or new is None or not old.parts or new.standing is None:
        return None
    turned = np.array(new.standing.file_to_character).reshape(4, 4)
    if old.standing is not None:
        turned = turned @ np.linalg.inv(np.array(old.standing.file_to_character).reshape(4, 4))
    turned = turned[:3, :3] / np.cbrt(abs(np.linalg.det(turned[:3, :3])))
    if np.trace(turned) > 2.999:
        return None
    lines = []
    for part in old.included:
        g = weld(part.mesh)
        edges = g.first[place_edges(part.mesh)]
        lines.append(part.mesh.points[edges[:: max(len(edges) * len(old.included) // GHOST_EDGES, 1)]])
    if not lines:
        return None
    ghost = np.concatenate(lines)
    flat = ghost.reshape(-1, 3)
    size = float(np.ptp(flat, axis=0).max())
    points = new.all_points()
    now = float(np.ptp(points, axis=0).max()) if len(points) else new.height
    middle = (flat.min(axis=0) + flat.max(axis=0)) / 2
    ghost = (ghost - middle) * (now / max(size, 1e-12))
    ghost[..., 1] -= ghost[..., 1].min()
    return np.asarray(ghost)
