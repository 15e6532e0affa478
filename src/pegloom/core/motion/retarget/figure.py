"""A body posed at many moments by how its joints turn from rest, about the body's axes."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.motion.retarget.turns import across, of_vector, vector_of
from pegloom.core.motion.retell import local_rows
from pegloom.core.motion.tracks import JointTracks, Track, joint_tracks
from pegloom.core.skeleton.joints import Skeleton

AT_ONCE = 2000
"""Moments worked out together."""


class Figure:
    """skeleton : at rest. turns : joint number -> (k, 3, 3), how it has turned from rest about the body's axes; a joint not
    named goes with its parent. base, places : a joint and where it is (k, 3), metres. Bones keep their length."""

    def __init__(self, skeleton: Skeleton, moments: int, base: int) -> None:
        self.skeleton, self.moments, self.base = skeleton, moments, base
        self.turns: dict[int, FloatArray] = {}
        self.places = np.repeat(skeleton.positions[base][None], moments, axis=0)
        self.rest = skeleton.positions
        self.parents = skeleton.parents
        self.turned: FloatArray = np.empty((moments, len(skeleton.joints), 3, 3))
        self.at: FloatArray = np.empty((moments, len(skeleton.joints), 3))

    def stand(self, only: frozenset[int] | None = None) -> None:
        """Work out `turned` and `at` of all joints; of some, whose parents stand already."""
        unturned = np.broadcast_to(np.eye(3), (self.moments, 3, 3))
        for j in range(len(self.skeleton.joints)) if only is None else sorted(only):
            parent = int(self.parents[j])
            above = unturned if parent < 0 else self.turned[:, parent]
            self.turned[:, j] = self.turns.get(j, above)
            if j == self.base:
                self.at[:, j] = self.places
            elif parent < 0:
                self.at[:, j] = self.rest[j]
            else:
                self.at[:, j] = self.at[:, parent] + np.einsum("kab,b->ka", above if parent < 0 else self.turned[:, parent], self.rest[j] - self.rest[parent])

    def below(self, joint: int) -> frozenset[int]:
        """A joint and all that hang on it."""
        found = {joint}
        for j in range(joint + 1, len(self.parents)):
            if int(self.parents[j]) in found:
                found.add(j)
        return frozenset(found)

    def point(self, joint: int, rest: FloatArray) -> FloatArray:
        """Where a point (3,) of the rest is (k, 3), carried by a joint."""
        return np.asarray(self.at[:, joint] + np.einsum("kab,b->ka", self.turned[:, joint], rest - self.rest[joint]))

    def rows(self) -> FloatArray:
        """(k, j, 10) of each joint in its parent, as tracks have them; some moments at once, so that long captures fit."""
        result = np.empty((self.moments, len(self.parents), 10))
        for first in range(0, self.moments, AT_ONCE):
            # One moment more than is new keeps neighbours in one half space.
            start = max(first - 1, 0)
            some = slice(start, min(first + AT_ONCE, self.moments))
            worlds = np.zeros((some.stop - start, len(self.parents), 4, 4))
            worlds[..., :3, :3] = self.turned[some] @ self.skeleton.world[:, :3, :3]
            worlds[..., :3, 3] = self.at[some]
            worlds[..., 3, 3] = 1.0
            rows = local_rows(self.skeleton, worlds)
            if start < first:
                flips = np.where((rows[0, :, 3:7] * result[start, :, 3:7]).sum(axis=-1) < 0, -1.0, 1.0)
                rows[..., 3:7] *= flips[None, :, None]
            result[some] = rows
        return result

    def tracks(self, seconds: FloatArray) -> JointTracks:
        """Sampled motion of every joint that turns, at moments (k,); only the base changes its place."""
        rows, times = self.rows(), np.asarray(frozen(np.array(seconds)))
        found: dict[str, tuple[Track, ...]] = {}
        for j, joint in enumerate(self.skeleton.joints):
            spans = [("translation", slice(0, 3))] if j == self.base else []
            spans += [("rotation", slice(3, 7))] if j in self.turns else []
            if spans:
                found[joint.id] = tuple(Track(path, times, np.asarray(frozen(np.ascontiguousarray(rows[:, j, span])))) for path, span in spans)
        return joint_tracks(found)

    def limited(self, limits: Mapping[int, tuple[FloatArray, FloatArray]]) -> None:
        """Bring joints within their limits: low and high (3,) of the rotation vector about their own axes."""
        for j, (low, high) in sorted(limits.items()):
            parent = int(self.parents[j])
            if parent < 0 or j not in self.turns:
                continue
            axes = self.skeleton.world[j, :3, :3]
            own = axes.T @ (across(self.turned[:, parent]) @ self.turns[j]) @ axes
            vector = vector_of(own)
            kept = np.clip(vector, low, high)
            if (kept != vector).any():
                self.turns[j] = self.turned[:, parent] @ (axes @ of_vector(kept) @ axes.T)
            self.stand(frozenset({j}))
