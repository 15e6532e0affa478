"""What actions need, one wording each, and what would bring it about."""

from __future__ import annotations

from pegloom.app.actions.action import Need
from pegloom.app.state.state import State


def has_joints(state: State) -> bool:
    return state.character is not None and state.character.skeleton is not None


def has_skin(state: State) -> bool:
    return state.character is not None and state.character.skin is not None


def has_rig(state: State) -> bool:
    return state.character is not None and state.character.rig is not None


def _picked(state: State, *kinds: str) -> bool:
    return state.selection.kind in kinds and bool(state.selection.ids)


def _has_pegs(state: State) -> bool:
    return state.character is not None and state.character.pegs is not None


def _active_joint(state: State) -> bool:
    character = state.character
    return (
        character is not None
        and character.skeleton is not None
        and state.viewing.influence in character.skeleton.index
    )


CHARACTER = Need("character", "Open a mesh first (Ctrl+O)", lambda s: s.character is not None, "file.open")
PEGS = Need("pegs", "Find pegs first, in Joints", _has_pegs, "joints.find_pegs")
JOINTS = Need("joints", "Build joints first, in Joints", has_joints, "joints.build")
SKIN = Need("skin", "Bind first, in Weights", has_skin, "weights.bind")
RIG = Need("rig", "Build controls first, in Controls", has_rig, "controls.build")
CLIP = Need("clip", "Pick a clip on the strip first", lambda s: s.clip is not None, "motion.new_clip")
PART_PICKED = Need(
    "part picked", "Pick a part first: click it in the view or in Contents",
    lambda s: _picked(s, "part"), "area.mesh",
)  # fmt: skip
JOINT_PICKED = Need(
    "joint picked", "Pick a joint first: click one in the view or in Contents",
    lambda s: _picked(s, "joint"), "area.joints",
)  # fmt: skip
PEG_PICKED = Need(
    "peg picked", "Pick a peg first: click one in the view or the list",
    lambda s: _picked(s, "peg"), "area.joints",
)  # fmt: skip
PLACE_PICKED = Need(
    "place picked", "Pick a peg or a joint first, in Joints: the loop goes round it",
    lambda s: _picked(s, "peg", "joint"), "area.joints",
)  # fmt: skip
CONTROL_PICKED = Need(
    "control picked", "Pick a control first: click one in the view",
    lambda s: _picked(s, "control"), "area.controls",
)  # fmt: skip
ACTIVE_JOINT = Need("active joint", "Pick a joint first: click one in the view or the list", _active_joint, "area.weights")
VERTICES = Need(
    "vertices", "Select vertices first: drag a box over the mesh in Weights",
    lambda s: any(len(v) for v in s.vertices.values()), "area.weights",
)  # fmt: skip

WITH_CHARACTER = (CHARACTER,)
WITH_PEGS = (CHARACTER, PEGS)
WITH_JOINTS = (CHARACTER, JOINTS)
WITH_SKIN = (CHARACTER, JOINTS, SKIN)
WITH_RIG = (CHARACTER, JOINTS, RIG)
