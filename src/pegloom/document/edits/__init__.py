"""The verbs: each a pure function from a document to a document. Window, command line and tests use these."""

from pegloom.document.edits.axes import aim_along, align_chain, match_axes, mend_axes, mirror_axes, square_bend
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
from pegloom.document.edits.joints import (
    add_kit,
    attach_kit,
    build_joints,
    centre_in_mesh,
    even_pegs,
    find_pegs,
    guess_plan,
    mirror_kit,
    place_peg,
    proposed_depths,
    remove_kit,
    set_fingers,
    set_joint_count,
    set_leg_pairs,
    set_pegs,
    set_roll,
    set_twist,
    side_gaps,
)
from pegloom.document.edits.mesh import (
    bring_in,
    include_part,
    set_part_kind,
    stand_up,
)
from pegloom.document.edits.motion import add_clip, add_trial_clip, key_controls, move_key, remove_keys, set_length
from pegloom.document.edits.rest import rest_in_a, rest_in_t, set_rest
from pegloom.document.edits.skeleton import (
    delete_joint,
    draw_joint,
    duplicate_joints,
    extend_joint,
    float_joint,
    insert_joint,
    lengthen_joint,
    mirror_joints,
    move_joint,
    rename_joint,
    rename_joints,
    rename_preview,
    reparent_joint,
    split_bone,
    turn_joints,
)
from pegloom.document.edits.weights import (
    bind,
    brush_part,
    fill_weight,
    mirror_weights,
    set_part_weights,
    smooth_weights,
)

__all__ = [
    "add_clip", "add_kit", "add_trial_clip", "aim_along", "align_chain", "attach_kit", "bind", "bring_in", "brush_part",
    "build_controls", "build_joints", "centre_in_mesh", "delete_joint", "draw_joint", "drop_controls",
    "duplicate_joints", "even_pegs", "extend_joint", "fill_weight", "find_pegs", "float_joint", "guess_plan",
    "include_part", "insert_joint", "key_controls", "lengthen_joint", "match_axes", "match_limb", "mend_axes",
    "mirror_axes", "mirror_joints", "mirror_kit", "mirror_pose", "mirror_weights", "move_joint", "move_key",
    "place_peg", "proposed_depths", "remove_keys", "remove_kit", "rename_joint", "rename_joints", "rename_preview",
    "reparent_joint", "reshape_control", "rest_controls", "rest_in_a", "rest_in_t", "set_channels", "set_fingers",
    "set_joint_count", "set_leg_pairs", "set_length", "set_part_kind", "set_part_weights", "set_pegs", "set_pose",
    "set_rest", "set_roll", "set_twist", "side_gaps", "smooth_weights", "split_bone", "square_bend", "stand_up",
    "switch_limb", "turn_joints",
]  # fmt: skip
