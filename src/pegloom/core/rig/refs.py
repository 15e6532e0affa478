"""What a record of the rig refers to: nodes, which have a place, and channels, which have a value."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple


class NodeKind(Enum):
    WORLD = "world"
    CONTROL = "control"
    """Where a control is, its own channels included."""
    BASE = "base"
    """The same without its own channels."""
    JOINT = "joint"


@dataclass(frozen=True, slots=True)
class NodeRef:
    """A node by kind and id; the world has none."""

    kind: NodeKind = NodeKind.WORLD
    id: str = ""

    def __str__(self) -> str:
        return f"{self.kind.value} {self.id}".strip()


WORLD = NodeRef()


def control_node(control_id: str) -> NodeRef:
    return NodeRef(NodeKind.CONTROL, control_id)


def base_node(control_id: str) -> NodeRef:
    return NodeRef(NodeKind.BASE, control_id)


def joint_node(joint_id: str) -> NodeRef:
    return NodeRef(NodeKind.JOINT, joint_id)


class ChannelRef(NamedTuple):
    """A channel by its owner, a control's id, and its key: also the key of a pose's value and of a clip's curve."""

    owner: str
    key: str

    def __str__(self) -> str:
        return f"channel {self.owner} {self.key.replace('_', ' ')}"


BOARD = "rig"
"""Owner of channels of the rig as a whole."""
