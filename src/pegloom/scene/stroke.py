"""A brush stroke from press to release: dabs on a working copy, points to show at once, weights to commit at the end."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from pegloom.core.arrays import BoolArray, FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Weld, place_lengths, place_neighbours, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.memo import of_the_latest
from pegloom.core.skin.brush import changed_rows, dab, evened_along, limited, sharpened, smooth_in_place
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.dual import skin_dual
from pegloom.core.skin.quality import bones_at
from pegloom.core.skin.relax import relaxed
from pegloom.core.skin.weights import Packed, Weights, limited_rows, packed, with_rows
from pegloom.document.evaluate import skinned
from pegloom.document.model import Character, Part
from pegloom.scene.brushes import BrushMode

Facing = Callable[[IntArray], BoolArray]
"""Which of some vertices (r,) are turned to the eye."""


class Reached:
    """Where a stroke may fall: places of a part, those across the middle, those a selection allows."""

    def __init__(self, character: Character, part: Part, *, both_sides: bool, inside: IntArray | None) -> None:
        self.part = part
        self.g = weld(part.mesh)
        self.rest = part.mesh.points[self.g.first]
        self.across: IntArray | None = None
        if both_sides:
            middle = character.standing.middle if character.standing else 0.0
            partner = partners(part.mesh, middle)[self.g.first]
            self.across = np.where(partner >= 0, self.g.group[np.maximum(partner, 0)], -1)
        self.allowed: BoolArray | None = None
        if inside is not None and len(inside):
            self.allowed = np.zeros(self.g.count, dtype=bool)
            self.allowed[self.g.group[inside]] = True
            if self.across is not None:
                across_allowed = self.across[self.allowed]
                self.allowed[across_allowed[across_allowed >= 0]] = True

    def dab(self, seed: IntArray, reach: float, hardness: float, facing: Facing | None) -> tuple[IntArray, FloatArray]:
        """Places (r,) under one touch and its force (r,), 0 to 1, on the pointer's own side."""
        places = np.unique(self.g.group[seed])
        rows, force = dab(self.rest, place_lengths(self.part.mesh), places, reach, hardness=hardness)
        if facing is not None:
            seen = facing(self.g.first[rows])
            rows, force = rows[seen], force[seen]
        return self.inside(rows, force)

    def inside(self, rows: IntArray, force: FloatArray) -> tuple[IntArray, FloatArray]:
        """Only what the selection allows."""
        if self.allowed is None:
            return rows, force
        keep = self.allowed[rows]
        return rows[keep], force[keep]


class Stroke:
    """Paints one joint's weight on one part. Raises EditError where the part is not bound or the joint is locked."""

    def __init__(
        self, character: Character, part: Part, joint_id: str, *, both_sides: bool, locked: frozenset[str],
        inside: IntArray | None = None, after: Stroke | None = None,
    ) -> None:  # fmt: skip
        """after: the stroke before, no more to be used; where it made the weights at hand its working copy goes on."""
        skeleton, skin = character.skeleton, character.skin
        if skeleton is None or skin is None or part.id not in skin.weights:
            raise EditError(f"{part.name} is not bound yet; bind first")
        if joint_id in locked:
            raise EditError(f"{skeleton.joint(joint_id).name} is locked; unlock it or take another joint")
        weights = skin.weights[part.id]
        other = skeleton.other_side(joint_id) if both_sides else None
        # A locked partner keeps what it holds: the stroke is this side's alone.
        other = None if other in locked else other
        wanted = [j for j in (joint_id, other) if j and j not in weights.joint_ids]
        self.part, self.joint, self.other = part, joint_id, other
        self.joint_ids = (*weights.joint_ids, *dict.fromkeys(wanted))
        self.where = Reached(character, part, both_sides=both_sides, inside=inside)
        self.g = self.where.g
        self.neighbours = place_neighbours(part.mesh)
        self.influences = skin.limit(part.id)
        self.lock: BoolArray = np.array([j in locked for j in self.joint_ids])
        self.heirs = {j: self._heir(character, j) for j in (joint_id, other) if j}
        # Skinning of the working copy: its own packed rows, rewritten only where a dab fell.
        width = _width(weights, skin.limit(part.id), len(self.joint_ids))
        self.values: FloatArray
        self.packed_index: IntArray
        self.packed_value: FloatArray
        self._members, self._starts = _members_of(self.g)
        self._copied: BoolArray
        self._surrounded: BoolArray
        if after is not None and after.goes_on(weights, self.joint_ids, self.g, width):
            self.values, self._copied, self._surrounded = after.values, after._copied, after._surrounded
            self.packed_index, self.packed_value = after.packed_index, after.packed_value
        else:
            # Rows are copied in where a dab falls: of a large mesh a stroke touches little.
            self.values = np.zeros((self.g.count, len(self.joint_ids)))
            self._copied, self._surrounded = (np.zeros(self.g.count, dtype=bool) for _ in range(2))
            start = packed(weights, width)
            self.packed_index, self.packed_value = start.indices.copy(), start.values.copy()
        self.result: Weights | None = None
        self._weights, self._matrix = weights, weights.matrix()
        self._painted = np.zeros(self.g.count, dtype=bool)
        self._stale: list[IntArray] = []
        self._posed: FloatArray | None = None
        self._posed_by: FloatArray | None = None
        self._shown: FloatArray | None = None
        self._rest = self.where.rest
        self.columns = np.array([skeleton.index[j] for j in self.joint_ids])
        self.touched = False
        self.skeleton, self.skin = skeleton, skin
        self._alongs: dict[str, FloatArray] = {}
        self.share = skin.dual.get(part.id)
        self.relax = skin.relax.get(part.id)

    def goes_on(self, weights: Weights, joint_ids: tuple[str, ...], g: Weld, width: int) -> bool:
        """Whether this stroke's working copy is what another on these weights would start from."""
        return (
            self.result is weights and self.joint_ids == joint_ids and self.g is g and self.packed_index.shape[1] == width
        )

    def _heir(self, character: Character, joint: str) -> int:
        assert character.skeleton is not None
        parent = character.skeleton.joint(joint).parent
        return self.joint_ids.index(parent) if parent in self.joint_ids else self.joint_ids.index(joint)

    def dab(
        self, seed: IntArray, reach: float, paint: BrushMode, *, strength: float, value: float, hardness: float,
        facing: Facing | None = None,
    ) -> None:  # fmt: skip
        """One touch.

        seed : vertices of the triangle under the pointer.
        reach : metres along the surface.

        facing : tells which of some vertices may be touched (those turned to the eye), None for all.
        """
        rows, force = self.where.dab(seed, reach, hardness, facing)
        self._apply(self.joint, rows, force * strength, paint, value)
        if self.where.across is not None:
            partners = self.where.across[rows]
            keep = partners >= 0
            if self.other is not None and self.other != self.joint:
                self._apply(self.other, partners[keep], force[keep] * strength, paint, value)
            elif self.other == self.joint:
                fresh = keep & ~np.isin(partners, rows)
                self._apply(self.joint, partners[fresh], force[fresh] * strength, paint, value)

    def _apply(self, joint: str, rows: IntArray, force: FloatArray, paint: BrushMode, value: float) -> None:
        rows, force = self.where.inside(rows, force)
        if len(rows) == 0:
            return
        self._copy(rows)
        column = self.joint_ids.index(joint)
        if paint is BrushMode.EVEN:
            smooth_in_place(self.values, rows, force, self.neighbours, locked=self.lock)
            keep_column = None
        elif paint is BrushMode.SHARPEN:
            self.values[rows] = sharpened(self.values, rows, force, self.neighbours, locked=self.lock)
            keep_column = None
        elif paint is BrushMode.ALONG:
            self.values[rows] = evened_along(self.values, rows, force, *self._along(joint), locked=self.lock)
            keep_column = None
        else:
            now = self.values[rows, column]
            if paint is BrushMode.SET:
                wanted = now + (value - now) * force
            elif paint is BrushMode.SCALE:
                # The ladder's value is what a full dab multiplies by; over one half it grows, under it shrinks.
                wanted = now * (1.0 + (2.0 * value - 1.0) * force)
            else:
                wanted = now + (0.35 if paint is BrushMode.ADD else -0.35) * force
            wanted = np.clip(wanted, 0.0, 1.0)
            self.values[rows] = changed_rows(
                self.values, column, rows, wanted, neighbours=self.neighbours, heir=self.heirs[joint], locked=self.lock
            )
            keep_column = column if paint is BrushMode.ADD or (paint is BrushMode.SET and value > 0) else None
        self.values[rows] = limited(self.values[rows], self.influences, keep=keep_column, locked=self.lock)
        self.touched = True
        self._pack(rows)

    def _copy(self, rows: IntArray) -> None:
        """Bring some places (r,) and what stands beside them into the working copy."""
        fresh = rows[~self._surrounded[rows]]
        if len(fresh) == 0:
            return
        wanted = np.union1d(fresh, self.neighbours[fresh].indices)
        missing = wanted[~self._copied[wanted]]
        self.values[missing, : self._matrix.shape[1]] = self._matrix[self.g.first[missing]].toarray()
        self._copied[missing] = True
        self._surrounded[fresh] = True

    def _along(self, joint: str) -> tuple[FloatArray, float]:
        """Metres along the limb at a joint of every place, and a fitting width: an edge's usual length."""
        if joint not in self._alongs:
            i = self.skeleton.index[joint]
            here = self.skeleton.positions[i]
            _, out, _ = bones_at(self.skeleton, joint)
            self._alongs[joint] = (self._rest - here) @ out
        return self._alongs[joint], 1.5 * float(np.median(place_lengths(self.part.mesh).data))

    def _pack(self, rows: IntArray) -> None:
        self._painted[rows] = True
        width = self.packed_index.shape[1]
        some = self.values[rows]
        order = np.argsort(-some, axis=1, kind="stable")[:, :width]
        kept = np.take_along_axis(some, order, axis=1)
        kept = kept / np.maximum(kept.sum(axis=1, keepdims=True), 1e-12)
        count = self._starts[rows + 1] - self._starts[rows]
        source = np.repeat(np.arange(len(rows)), count)
        within = np.arange(len(source)) - np.repeat(np.cumsum(count) - count, count)
        members = self._members[self._starts[rows][source] + within]
        self.packed_index[members] = order[source]
        self.packed_value[members] = kept[source]
        self._stale.append(members)

    def points(self, matrices: FloatArray) -> FloatArray:
        """Points (n, 3) under skin matrices (skeleton order) with the weights as painted so far.

        In the same pose only what was painted since is carried anew; where nothing was, the same object comes back.
        """
        if self._shown is not None and self._posed_by is matrices and not self._stale:
            return self._shown
        if self._posed is None or self._posed_by is not matrices:
            self._posed = self._skinned(slice(None), matrices)
            self._posed_by = matrices
        else:
            some = np.unique(np.concatenate(self._stale))
            self._posed = self._posed.copy()
            self._posed[some] = self._skinned(some, matrices)
        self._stale = []
        self._shown = self._posed if self.relax is None else relaxed(self.part.mesh, self.relax, self._posed)
        return self._shown

    def _skinned(self, some: IntArray | slice, matrices: FloatArray) -> FloatArray:
        rows = Packed(self.packed_index[some], self.packed_value[some])
        points, chosen = self.part.mesh.points[some], matrices[self.columns]
        if self.share is None:
            return skin_linear(points, rows, chosen)
        return skin_dual(points, rows, chosen, np.ascontiguousarray(self.share[some]))

    def given(self) -> list[tuple[str, float]]:
        """Who gave and who received so far: (joint, weight gained, in whole vertices' worth), the largest first."""
        rows = self._painted
        before = np.zeros(len(self.joint_ids))
        old_rows = self._matrix[self.g.first[rows]].toarray()
        before[: old_rows.shape[1]] = old_rows.sum(axis=0)
        gained = self.values[rows].sum(axis=0) - before
        order = np.argsort(-np.abs(gained))
        return [(self.joint_ids[c], float(gained[c])) for c in order if abs(gained[c]) > 0.005]

    def influence(self, joint: str) -> FloatArray:
        """(n,) weight of a joint as painted so far."""
        if joint not in self.joint_ids:
            return np.zeros(self.part.mesh.vertex_count)
        column = self._weights.column(joint)[self.g.first]
        column[self._painted] = self.values[self._painted, self.joint_ids.index(joint)]
        return np.asarray(column[self.g.group])

    def weights(self) -> Weights:
        """The painted weights; rows nobody touched are those from before."""
        vertices = np.flatnonzero(self._painted[self.g.group])
        rows = limited_rows(self.values[self._painted], None, locked=self.lock) if len(vertices) else self.values[:0]
        self.values[self._painted] = rows
        number = np.cumsum(self._painted) - 1
        rows = rows[number[self.g.group[vertices]]]
        self.result = with_rows(self._weights, self.joint_ids, vertices, rows, locked=self.lock)
        return self.result


def get_ready(character: Character, *, apart_from: Weights | None = None) -> None:
    """Work out, ahead of the first press, what strokes on the bound parts begin with. May run on any thread.

    apart_from : weights whose working copy is at hand already.
    """
    skin, middle = character.skin, character.standing.middle if character.standing else 0.0
    for part in character.included:
        weights = skin.weights.get(part.id) if skin is not None else None
        if skin is None or weights is None:
            continue
        partners(part.mesh, middle)
        place_lengths(part.mesh)
        place_neighbours(part.mesh)
        _members_of(weld(part.mesh))
        if weights is not apart_from:
            packed(weights, _width(weights, skin.limit(part.id), len(weights.joint_ids)))


@of_the_latest(4)
def _members_of(g: Weld) -> tuple[IntArray, IntArray]:
    """The vertices of every place one after another, and where each place's begin (g + 1,)."""
    members = np.argsort(g.group, kind="stable")
    return members, np.searchsorted(g.group[members], np.arange(g.count + 1))


def _width(weights: Weights, influences: int, joints: int) -> int:
    """Columns of the packed rows a stroke works on."""
    return max(int(np.diff(weights.indptr).max()), min(influences, joints), 1)


class MaskStroke:
    """Paints a share from 0 to 1 on one part: of dual quaternion blending, or of surface relax."""

    joint, other = "", None

    def __init__(
        self, character: Character, part: Part, of: str, *, both_sides: bool, inside: IntArray | None = None
    ) -> None:
        """of: "dual" or "relax". Raises EditError where the part is not bound, or has no relax to mask."""
        skeleton, skin = character.skeleton, character.skin
        if skeleton is None or skin is None or part.id not in skin.weights:
            raise EditError(f"{part.name} is not bound yet; bind first")
        if of == "relax" and part.id not in skin.relax:
            raise EditError(f"{part.name} has no surface relax; put it on first")
        self.part, self.of, self.skeleton, self.skin = part, of, skeleton, skin
        self.where = Reached(character, part, both_sides=both_sides, inside=inside)
        self.g = self.where.g
        painted = skin.dual.get(part.id) if of == "dual" else skin.relax[part.id].mask
        empty = 0.0 if of == "dual" else 1.0
        self.values = np.full(self.g.count, empty) if painted is None else painted[self.g.first].copy()
        self.neighbours = place_neighbours(part.mesh)
        self.touched = False

    def dab(
        self, seed: IntArray, reach: float, paint: BrushMode, *, strength: float, value: float, hardness: float,
        facing: Facing | None = None,
    ) -> None:  # fmt: skip
        """One touch, as `Stroke.dab`."""
        rows, force = self.where.dab(seed, reach, hardness, facing)
        if self.where.across is not None:
            partners = self.where.across[rows]
            fresh = (partners >= 0) & ~np.isin(partners, rows)
            rows, force = np.concatenate([rows, partners[fresh]]), np.concatenate([force, force[fresh]])
        force = force * strength
        now = self.values[rows]
        if paint is BrushMode.ADD:
            new = now + 0.35 * force
        elif paint is BrushMode.TAKE:
            new = now - 0.35 * force
        elif paint is BrushMode.SET:
            new = now + (value - now) * force
        elif paint is BrushMode.SCALE:
            new = now * (1.0 + (2.0 * value - 1.0) * force)
        else:
            degree = np.maximum(np.asarray(self.neighbours[rows].sum(axis=1)).ravel(), 1.0)
            mean = np.asarray(self.neighbours[rows] @ self.values) / degree
            new = now + (mean - now) * force * (-1.0 if paint is BrushMode.SHARPEN else 1.0)
        self.values[rows] = np.clip(new, 0.0, 1.0)
        self.touched = self.touched or len(rows) > 0

    @property
    def mask(self) -> FloatArray:
        """The painted share (n,) of every vertex."""
        return np.asarray(self.values[self.g.group])

    def influence(self, joint: str) -> FloatArray:
        """What the lens shows while painting: the share itself."""
        return self.mask

    def points(self, matrices: FloatArray) -> FloatArray:
        """Points (n, 3) under skin matrices (skeleton order) with the mask as painted so far."""
        if self.of == "dual":
            skin = replace(self.skin, dual={**self.skin.dual, self.part.id: self.mask})
        else:
            relax = self.skin.relax[self.part.id]
            skin = replace(self.skin, relax={**self.skin.relax, self.part.id: replace(relax, mask=self.mask)})
        return skinned(self.part, skin, self.skeleton, matrices)
