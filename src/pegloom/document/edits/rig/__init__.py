"""What is made by hand on a built rig: constraints, spaces, solvers, limits, and all of it across."""

from pegloom.document.edits.rig.across import mirror_rig
from pegloom.document.edits.rig.constraints import (
    add_target,
    change_constraint,
    constrain,
    drop_constraint,
    drop_target,
    key_switch,
    set_spaces,
    switch_limb_at,
    switch_space,
    switch_space_at,
)
from pegloom.document.edits.rig.solvers import (
    add_body,
    add_ik,
    drop_solver,
    forget_limit,
    set_limit,
    set_pose_channel,
    use_whole_body,
)

__all__ = [
    "add_body", "add_ik", "add_target", "change_constraint", "constrain", "drop_constraint", "drop_solver", "drop_target",
    "forget_limit", "key_switch", "mirror_rig", "set_limit", "set_pose_channel", "set_spaces", "switch_limb_at", "switch_space", "switch_space_at",
    "use_whole_body",
]  # fmt: skip
