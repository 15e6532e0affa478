"""Nodes of a rig by number: controls, then joints, then the controls' bases."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.refs import NodeKind, NodeRef
from pegloom.core.skeleton.joints import Skeleton


@dataclass(frozen=True, slots=True, eq=False)
class NodeTable:
    """Where each kind of node begins."""

    skeleton: Skeleton
    rig: ControlRig

    @property
    def controls(self) -> int:
        return len(self.rig.controls)

    @property
    def joints(self) -> int:
        return len(self.skeleton.joints)

    def __len__(self) -> int:
        """Nodes that records name; the starts of solvers come after them."""
        return 2 * self.controls + self.joints

    def number(self, ref: NodeRef) -> int:
        """The node's number, -1 for the world. Raises EditError for one that is not there."""
        if ref.kind is NodeKind.WORLD:
            return -1
        if ref.kind is NodeKind.JOINT:
            if ref.id in self.skeleton.index:
                return self.controls + self.skeleton.index[ref.id]
        elif ref.id in self.rig.index:
            first = 0 if ref.kind is NodeKind.CONTROL else self.controls + self.joints
            return first + self.rig.index[ref.id]
        raise EditError(f"the rig refers to {ref}, which is not there")

    def name(self, number: int) -> str:
        """What a node is called in a message."""
        if number < self.controls:
            return self.rig.controls[number].name
        if number < self.controls + self.joints:
            return self.skeleton.joints[number - self.controls].name
        return self.rig.controls[number - self.controls - self.joints].name

    def rests(self) -> FloatArray:
        """character_from_node at rest (n, 4, 4)."""
        controls = np.array([c.rest for c in self.rig.controls], dtype=np.float64).reshape(-1, 4, 4)
        return np.concatenate([controls, self.skeleton.world, controls])
