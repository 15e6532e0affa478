"""The verbs: each a pure function from a document to a document. Window, command line and tests use these."""

from pegloom.document.edits.controls import (
    build_controls,
    drop_controls,
    match_limb,
    mirror_pose,
    reshape_control,
    rest_controls,
    set_channels,
    set_pose,
    switch_limb,
)
from pegloom.document.edits.joints import build_joints, find_pegs, move_joint, place_peg, rename_joint, set_pegs
from pegloom.document.edits.mesh import bring_in, include_part, set_part_kind, stand_up
from pegloom.document.edits.motion import add_clip, add_trial_clip, key_controls, move_key, remove_keys, set_length
from pegloom.document.edits.weights import (
    bind,
    brush_part,
    fill_weight,
    mirror_weights,
    set_part_weights,
    smooth_weights,
)

__all__ = [
    "add_clip", "add_trial_clip", "bind", "bring_in", "brush_part", "build_controls", "build_joints", "drop_controls",
    "fill_weight", "find_pegs", "include_part", "key_controls", "match_limb", "mirror_pose", "mirror_weights",
    "move_joint", "move_key", "place_peg", "remove_keys", "rename_joint", "reshape_control", "rest_controls",
    "set_channels", "set_length", "set_part_kind", "set_part_weights", "set_pegs", "set_pose", "smooth_weights", "stand_up", "switch_limb",
]  # fmt: skip
