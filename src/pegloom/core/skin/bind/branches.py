"""The skeleton as the default bind sees it: branches, the trunk, and how far a trunk holds what its limbs share."""

from __future__ import annotations

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.skeleton.joints import Side, Skeleton
from pegloom.core.skin.bind.distances import ends_here, goes_on

THICK_TRUNK = 2.0
"""How many of its own radii a trunk's skin may lie from its bones."""
TIES = (0.9, 1.3)
"""How many times as far as its limbs a joint's own bones may be to be given what ties between them, fading out."""
CLOSE = (1.2, 2.0)
"""The same of a trunk's bones where what a left and a right limb share would tear."""
WITHIN = (0.8, 1.2)
"""How many trunk's thicknesses from the trunk a place may be to be the trunk's all the same. Beyond both, as in a skirt's
hem, the limbs share it."""
GIVEN = (2.0, 3.0)
"""How many times as far as the limbs a trunk's bones may be to be given what more than two limbs hold, fading out."""


class Tree:
    """The weight joints as a tree, by row.

    parent, children, below (each joint's subtree), order (parents first), side. middle : the joints on the middle from the
    root on (m,). limbs : the first joints of what hangs from those aside.
    """

    def __init__(self, skeleton: Skeleton, joints: list[int]) -> None:
        row = {joint: k for k, joint in enumerate(joints)}
        self.parent = np.full(len(joints), -1)
        for k, joint in enumerate(joints):
            above = int(skeleton.parents[joint])
            while above >= 0 and above not in row:
                above = int(skeleton.parents[above])
            self.parent[k] = row.get(above, -1)
        self.ends = [ends_here(skeleton, joint, joints) for joint in joints]
        self.onward = [goes_on(skeleton, joint) for joint in joints]
        self.side = [skeleton.joints[joint].side for joint in joints]
        self.children: list[list[int]] = [[] for _ in joints]
        for k, above in enumerate(self.parent.tolist()):
            if above >= 0:
                self.children[above].append(k)
        self.roots = np.flatnonzero(self.parent < 0).tolist()
        self.order: list[int] = []
        waiting = list(self.roots)
        while waiting:
            k = waiting.pop(0)
            self.order.append(k)
            waiting += self.children[k]
        self.below: list[list[int]] = [[k] for k in range(len(joints))]
        for k in reversed(self.order):
            if self.parent[k] >= 0:
                self.below[self.parent[k]] += self.below[k]
        middle: list[int] = []
        for k in self.order:
            if self.parent[k] < 0 or (self.side[k] is Side.CENTRE and int(self.parent[k]) in middle):
                middle.append(k)
        self.middle = np.array(middle)
        self.limbs = [child for k in middle for child in self.children[k] if child not in middle]

    def is_chain(self, k: int) -> bool:
        """Whether nothing branches from a joint on."""
        return all(len(self.children[b]) < 2 for b in self.below[k])

    def pairs(self) -> list[tuple[int, int, int]]:
        """Every joint with a child on either side: (joint, left, right)."""
        return [
            (k, left, right)
            for k in self.order
            for left in self.children[k]
            for right in self.children[k]
            if self.side[left] is Side.LEFT and self.side[right] is Side.RIGHT
        ]

    def trunk_to(self, k: int) -> list[int]:
        """A joint and, on the middle, the joints on the middle it hangs from, up to the root."""
        found = [k]
        while self.side[k] is Side.CENTRE and self.parent[k] >= 0 and self.side[self.parent[k]] is Side.CENTRE:
            k = int(self.parent[k])
            found.append(k)
        return found

    def is_trunk(self, k: int) -> bool:
        """Whether a trunk runs on through a joint from the root: no limb among limbs."""
        return int(self.parent[k]) in self.roots and self.side[k] is Side.CENTRE and not self.is_chain(k)

    def face_joints(self) -> list[tuple[int, int]]:
        """Joints without a chain that sit on a joint of the middle beside others, as a face's do on a head: each with it.

        What goes on from the middle (a head on a chest that holds collarbones, too) sits on nothing.
        """
        found = []
        for k in self.order:
            own = self.children[k]
            if self.side[k] is Side.CENTRE and self.parent[k] >= 0 and len(own) > 1:
                found += [(face, k) for face in own if not self.children[face] and not self.onward[face]]
        return found

    def chains(self) -> list[list[int]]:
        """Unbranched runs of joints; a trunk is one from its root on, whatever legs branch off."""
        result: list[list[int]] = []
        for k in self.order:
            above = int(self.parent[k])
            if above >= 0 and (len(self.children[above]) == 1 or self.is_trunk(k)):
                next(chain for chain in result if above in chain).append(k)
            else:
                result.append([k])
        return result


class Hold:
    """How far what a joint's limbs hang from holds what ties between them.

    ties (g,): 1 where the joint's own bones are about as near as its limbs, 0 where they are much farther. close (g,):
    1 where that is so of the trunk it ends, too, or the place lies within the trunk's own thickness, 0 well beyond both.
    nearest (g,): the row of the trunk's joint whose bones are nearest.
    """

    def __init__(self, distance: FloatArray, radius: FloatArray, tree: Tree, joint: int) -> None:
        trunk = np.array(tree.trunk_to(joint))
        own = distance[:, trunk]
        k = np.argmin(own, axis=1)
        self.nearest = trunk[k]
        least = own[np.arange(len(own)), k]
        full, none = TIES
        limb = distance[:, [b for b in tree.below[joint] if b != joint]].min(axis=1)
        self.ties = np.clip((none - distance[:, joint] / limb) / (none - full), 0.0, 1.0)
        full, none = CLOSE
        self.close = np.clip((none - least / limb) / (none - full), 0.0, 1.0)
        if len(trunk) > 1 or joint in tree.roots:
            full, none = WITHIN
            depth = least / (THICK_TRUNK * radius[self.nearest])
            self.close = np.maximum(self.close, np.clip((none - depth) / (none - full), 0.0, 1.0))


class Trunk:
    """What is given to the trunk of what limbs share, and how far, place by place."""

    def __init__(self, distance: FloatArray, radius: FloatArray, tree: Tree) -> None:
        self.tree = tree
        self._held = {joint: Hold(distance, radius, tree, joint) for joint, _, _ in tree.pairs()}
        own = distance[:, tree.middle]
        k = np.argmin(own, axis=1)
        self._nearest = tree.middle[k]
        limb = distance[:, [b for limb in tree.limbs for b in tree.below[limb]]].min(axis=1, initial=np.inf)
        full, none = GIVEN
        self._near = np.clip((none - own[np.arange(len(own)), k] / limb) / (none - full), 0.0, 1.0)
        self._at, self._which = np.unique([tree.parent[k] for k in tree.limbs], return_inverse=True)

    def given_back(self, values: FloatArray, places: IntArray) -> FloatArray:
        """Values (p, j) of some places with what limbs share there given to the trunk as far as it is near."""
        return self._between_many(self._between_sides(values, places), places)

    def _between_sides(self, values: FloatArray, places: IntArray) -> FloatArray:
        """What a left and a right limb of one joint both hold in some places, given to what they hang from as far as that
        is close: a crotch is the hips', a belly the spine's. Doing it again gives no more: of what they hold together
        either limb may keep half of what is not close."""
        tree, values = self.tree, values.copy()
        for joint, left, right in tree.pairs():
            close, trunk = self._held[joint].close[places], self._held[joint].nearest[places]
            one, other = values[:, tree.below[left]].sum(axis=1), values[:, tree.below[right]].sum(axis=1)
            kept = 0.5 * (1.0 - close) * (one + other + values[np.arange(len(values)), trunk])
            both = np.maximum(np.minimum(one, other) - kept, 0.0)
            rows = np.flatnonzero(both > 0)
            if len(rows):
                for limb, share in ((left, one), (right, other)):
                    values[np.ix_(rows, np.array(tree.below[limb]))] *= (1.0 - both[rows] / share[rows])[:, None]
                values[rows, trunk[rows]] += 2.0 * both[rows]
        return values

    def _between_many(self, values: FloatArray, places: IntArray) -> FloatArray:
        """What more than two limbs hold in some places, given to the trunk.

        Of each limb as much goes as the third of them holds; then of those that hang from one joint as much as those
        of a second one do (a belly between fore and hind legs). So no more limbs are left than a row has room for, and
        none takes turns with another from one place to the next.
        """
        tree = self.tree
        if len(tree.limbs) < 3:
            return values
        limbs = np.stack([values[:, tree.below[k]].sum(axis=1) for k in tree.limbs], axis=1)
        keep = np.maximum(limbs - (_from_top(limbs, 3) * self._near[places])[:, None], 0.0)
        if len(self._at) > 1:
            shares = np.zeros((len(values), len(self._at)))
            np.add.at(shares.T, self._which, keep.T)
            left = np.maximum(shares - (_from_top(shares, 2) * self._near[places])[:, None], 0.0)
            keep *= (left / np.maximum(shares, 1e-300))[:, self._which]
        rows = np.flatnonzero((keep < limbs).any(axis=1))
        values = values.copy()
        for i, k in enumerate(tree.limbs):
            values[np.ix_(rows, np.array(tree.below[k]))] *= (keep[rows, i] / np.maximum(limbs[rows, i], 1e-300))[
                :, None
            ]
        values[rows, self._nearest[places[rows]]] += (limbs - keep)[rows].sum(axis=1)
        return values


def _from_top(values: FloatArray, rank: int) -> FloatArray:
    return np.asarray(np.partition(values, -rank, axis=1)[:, -rank])


class Spread:
    """How much of a limb easing may carry away from its bones: beyond FAR of its radii no more than was there, or LEFT.

    What hangs round a limb as cloth is spared: its thickness says nothing of it.
    """

    FAR = (2.0, 3.0)
    LEFT = 0.1

    def __init__(
        self, values: FloatArray, distance: FloatArray, radius: FloatArray, hangs: FloatArray, tree: Tree,
        *, progress: Progress = silent,
    ) -> None:  # fmt: skip
        full, none = self.FAR
        self._limits: list[tuple[int, IntArray, FloatArray]] = []
        for k in tree.order:
            if tree.parent[k] >= 0 and tree.side[k] is not Side.CENTRE:
                ask(progress)
                mine = np.array(tree.below[k])
                deep = distance[:, mine].min(axis=1) / radius[k]
                far = np.clip((deep - full) / (none - full), 0.0, 1.0) * (1.0 - hangs)
                limit = np.maximum(values[:, mine].sum(axis=1), self.LEFT) * far + (1.0 - far)
                self._limits.append((int(tree.parent[k]), mine, limit))

    def held_in(self, values: FloatArray, places: IntArray) -> FloatArray:
        """Values (p, j) of some places with what is over a limb's limit given to the joint it hangs from."""
        values = values.copy()
        for above, mine, limit in self._limits:
            share = values[:, mine].sum(axis=1)
            rows = np.flatnonzero(share > limit[places])
            if len(rows):
                most = limit[places[rows]]
                values[np.ix_(rows, mine)] *= (most / share[rows])[:, None]
                values[rows, above] += share[rows] - most
        return values
