"""Where everything stands: by channels of controls, or by joints alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import TypeAlias

import numpy as np

from pegloom.core.arrays import FloatArray

NO_VALUES: Mapping[tuple[str, str], float] = MappingProxyType({})


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Pose:
    """What differs from rest: (control id, channel key) -> value. It survives every rebuild of the rig."""

    values: Mapping[tuple[str, str], float] = field(default_factory=lambda: NO_VALUES)


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class JointPose:
    """A pose told by joints, as trials, files and sampled motion have it; controls are passed by.

    joints : ids.
    rows (j, 10) : parent_from_joint as position (metres), quaternion x y z w, scale. Other joints rest.
    morphs : weights of morph targets: name of the part, of the target, weight.
    """

    joints: tuple[str, ...]
    rows: FloatArray
    morphs: tuple[tuple[str, str, float], ...] = ()

    def __post_init__(self) -> None:
        self.rows.setflags(write=False)


Shown: TypeAlias = Pose | JointPose


def joint_pose(rows: Mapping[str, FloatArray | tuple[float, ...]]) -> JointPose:
    """A pose of local values (10,) by joint id."""
    return JointPose(tuple(rows), np.array(list(rows.values()), dtype=np.float64).reshape(-1, 10))
