"""What a limb is only held close to: told by the way along the surface, not by the straight one.

A hand that hangs beside a thigh is a cell of the solid away from it, so that thigh and hand see each other's bones. Along
the skin it is the length of an arm and half a body. What is that much farther along the skin than straight is another
limb's, and the way along the skin counts.
"""

from __future__ import annotations

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components, dijkstra

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.geometry.mesh import Mesh, place_lengths, place_neighbours
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skeleton.joints import Side
from pegloom.core.skin.bind.branches import Tree

SKIN = 1.6
"""Limb radii from its bones up to which what is nearest to a limb is taken for its skin."""
ROUND = (2.5, 4.0)
"""How many times as far along the skin as through the body a limb must be to be only held close, fading in."""
MAIN = 0.25
"""Share of the largest patch of a limb's skin in a shell that another patch must have to be the limb's, too."""


def held_apart(
    mesh: Mesh, distance: FloatArray, radius: FloatArray, hangs: FloatArray, tree: Tree, *,
    progress: Progress = silent,
) -> FloatArray:  # fmt: skip
    """Distances (g, j) in which a limb that is only held close to a place is as far as the way along the skin.

    radius (j,) : of each joint's limb. hangs (g,) : how far a place lies on cloth that hangs round a limb: that is what
    it follows, however far along the skin. A place in another shell than the limb's
    skin keeps its distance to it.
    """
    branches = [child for k in tree.order for child in tree.children[k] if _is_limb(tree, k, child)]
    if not branches:
        return distance
    lengths = place_lengths(mesh)
    ring = place_neighbours(mesh)
    nearest = np.argmin(distance, axis=1)
    ask(progress)
    every, shell = np.arange(len(distance)), connected_components(ring, directed=False)[1].astype(np.int64)
    close = distance[every, nearest] < SKIN * radius[nearest]
    result = distance.copy()
    for number, branch in enumerate(branches):
        progress(number / len(branches), "telling what is only held close")
        below = np.array(tree.below[branch])
        skin = _main(np.flatnonzero(np.isin(nearest, below)), close, nearest == tree.parent[branch], ring, shell)
        own = distance[:, below].min(axis=1)
        # The search need go no farther than where it would say anything.
        reach = ROUND[1] * float(np.quantile(own, 0.9)) if len(own) else 0.0
        if len(skin) == 0 or reach <= 0:
            continue
        way = np.asarray(dijkstra(lengths, directed=False, indices=skin, min_only=True, limit=reach))
        # Beyond the limit, but in the limb's own shell, it is at least the limit.
        way = np.where(np.isfinite(way), way, np.where(shell == shell[skin[0]], reach, 0.0))
        start, full = ROUND
        share = np.clip((way / np.maximum(own, 1e-12) - start) / (full - start), 0.0, 1.0) * (1.0 - hangs)
        # Where a limb grows out of what it hangs on, its root lies inside, and the skin may lead to it from farther only.
        share[nearest == tree.parent[branch]] = 0.0
        rows = np.flatnonzero(share > 0)
        if len(rows):
            longer = (share[rows] * np.maximum(way[rows] - own[rows], 0.0))[:, None]
            result[np.ix_(rows, below)] = distance[np.ix_(rows, below)] + longer
    return result


def _is_limb(tree: Tree, above: int, child: int) -> bool:
    """Whether a branch may be held close to others: not the trunk itself, which all is close to."""
    return tree.side[child] is not Side.CENTRE and len(tree.children[above]) > 1


def _main(
    places: IntArray, close: BoolArray, above: BoolArray, ring: sparse.csr_matrix, shell: IntArray
) -> IntArray:
    """Of the places (m,) nearest to a limb those of its main patches, in the shell that holds the largest.

    close (g,) : what is also as near as the limb is thick; how much of a patch is so is its size.
    above (g,) : what is nearest to the joint the limb hangs on; a patch beside it is the limb's root, however small.
    """
    if len(places) == 0 or not close[places].any():
        return places[:0]
    _, label = connected_components(ring[places][:, places], directed=False)
    size = np.bincount(label, weights=close[places].astype(np.float64))
    own = shell[places] == shell[places[int(np.argmax(size[label]))]]
    root = np.bincount(label, weights=ring[places] @ above.astype(np.float64)) > 0
    return np.asarray(places[own & (root[label] | (size[label] >= MAIN * size.max()))])
