"""Hand-made changes put back on freshly built controls."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from pegloom.core.rig.controls import Control, ControlRig, Shape
from pegloom.document.model import ControlOverride


def apply_control_overrides(rig: ControlRig, overrides: Mapping[str, ControlOverride]) -> ControlRig:
    """The rig with the user's shapes, sizes and offsets. Overrides of controls that are gone wait for their return."""

    def changed(control: Control) -> Control:
        change = overrides.get(control.id)
        if change is None:
            return control
        (x, y, z), (dx, dy, dz) = control.offset, change.offset
        offset = (x + dx, y + dy, z + dz)
        shape = Shape(change.shape) if change.shape else control.shape
        return replace(control, shape=shape, size=control.size * change.size, offset=offset)

    return replace(rig, controls=tuple(changed(control) for control in rig.controls))
