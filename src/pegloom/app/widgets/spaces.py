"""A list of the spaces a control can follow."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox

from pegloom.app.widgets.fields import fill
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document.edits.rig.constraints import Following, following


def show_spaces(box: QComboBox, skeleton: Skeleton | None, rig: ControlRig | None, pose: Pose, control: str) -> Following | None:
    """Fill a list with what a control can follow, at what it follows; None, and off, where it has no spaces."""
    there = following(skeleton, rig, pose, control) if skeleton is not None and rig is not None else None
    box.setEnabled(there is not None)
    if there is None:
        fill(box, [("its parent alone", "")])
        return None
    fill(box, [(there.parent, ""), *((name, name) for name in there.weights)])
    box.setCurrentIndex(box.findData(there.leads))
    return there
