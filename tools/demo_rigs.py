#!/usr/bin/env python3
"""What is made by hand on the demos: IK, constraints, couplings, follow-through, a face; a short clip that shows it.

    .venv/bin/python tools/demo_rigs.py

Each demo is stripped of what this made before, and made anew.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.geometry.mesh import with_points
from pegloom.core.rig.by_skin import Grab, standing_ends
from pegloom.core.rig.changes import RigChanges
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.pose import Pose, Shown
from pegloom.document import edits
from pegloom.document.model import Character, Document, Morph, Part
from pegloom.document.told.verbs import run_steps
from pegloom.files.project import open_project, save_project

DEMO = Path(__file__).parents[1] / "src" / "pegloom" / "assets" / "demo"
MADE = ("faces", "shake", "fold", "wind", "thin and thick")
"""Clips that are made here."""
Step = dict[str, Any]


def reads(name: str, control: str, channel: str) -> Step:
    return {"name": name, "control": control, "channel": channel}


def coupled(control: str, channel: str, formula: str, reading: Step, **more: Any) -> Step:
    return {"edit": "couple", "control": control, "channel": channel, "readings": [reading], "formula": formula, **more}


FACE_AT = {
    # name: place, and the morph targets up, down, left, right
    "mouth": ((0.0, 1.325, 0.2), "smile", "frown", "", ""), "jaw": ((0.0, 1.268, 0.17), "", "jaw_open", "", ""),
    "lips": ((0.06, 1.3, 0.18), "pucker", "", "", ""), "cheeks": ((0.1, 1.345, 0.13), "", "", "cheeks", ""),
    "lids": ((0.0, 1.432, 0.2), "", "l_blink", "", ""), "brows": ((0.0, 1.476, 0.17), "", "brows_down", "", ""),
    "l_brow": ((0.055, 1.476, 0.16), "l_brow_up", "", "", ""), "r_brow": ((-0.055, 1.476, 0.16), "r_brow_up", "", "", ""),
    "l_moustache": ((0.075, 1.325, 0.17), "l_moustache", "", "", ""), "r_moustache": ((-0.075, 1.325, 0.17), "r_moustache", "", "", ""),
    "nose": ((0.0, 1.385, 0.22), "nose", "", "", ""),
}  # fmt: skip
EXPRESSIONS: Mapping[str, Mapping[str, float]] = {
    "happy": {"mouth": 0.02, "l_moustache": 0.012, "r_moustache": 0.012, "l_brow": 0.008, "r_brow": 0.008},
    "cross": {"mouth": -0.015, "brows": -0.02, "nose": 0.012}, "startled": {"jaw": -0.02, "l_brow": 0.02, "r_brow": 0.02},
    "asleep": {"lids": -0.02, "mouth": 0.004}, "whistling": {"lips": 0.02, "l_brow": 0.012},
}  # fmt: skip


def wick_steps() -> list[Step]:
    steps: list[Step] = [
        {"edit": "build_controls"},
        # A hand that takes the body's rise alone, to lean on a rail while he bobs.
        {"edit": "set_spaces", "control": "l_hand_goal", "spaces": {"body's rise": "body"}, "axes": "y"},
        {"edit": "mirror_rig", "source": "left"},
    ]
    for name, (place, *morphs) in FACE_AT.items():
        told = dict(zip(("up", "down", "left", "right"), morphs, strict=True))
        steps.append({"edit": "add_handle", "name": name, "place": list(place), "reach": 0.02, **{k: v for k, v in told.items() if v}})
    # Both lids hang on one handle, the right one a little less.
    steps += [
        {"edit": "add_channel", "control": "lids", "title": "r_blink", "quantity": "share"},
        coupled("lids", "r_blink", "x * 0.92", reads("x", "lids", "to_down"), combine="set", name="right lid"),
        {"edit": "drive_morph", "morph": "r_blink", "control": "lids", "channel": "r_blink"},
        {"edit": "switch_channels", "controls": ["lids"], "channels": ["r_blink"], "locked": True},
    ]
    for name, values in EXPRESSIONS.items():
        for control, value in values.items():
            key = "move_x" if control == "cheeks" else "move_y"
            steps.append({"edit": "set_channels", "control_id": control, key: value})
        steps += [{"edit": "keep_expression", "name": name}, {"edit": "rest_controls", "control_ids": list(values)}]
    return steps


STEPS: dict[str, list[Step]] = {
    "wick": wick_steps(),
    "oilskin": [{"edit": "build_controls"}],
    "lesson": [{"edit": "build_controls"}],
    "lantern": [
        {"edit": "build_controls"},
        {"edit": "add_width", "joint": "l_forearm"}, {"edit": "add_width", "joint": "l_shin"},
        {"edit": "add_channel", "control": "body", "title": "wings", "quantity": "choice", "options": ["spread", "folded", "none"]},
        {"edit": "show_by", "thing": "upper_wings", "control": "body", "channel": "wings", "when": 0},
        {"edit": "show_by", "thing": "folded_wings", "control": "body", "channel": "wings", "when": 1},
        {"edit": "add_channel", "control": "body", "title": "lower wings", "quantity": "switch", "rest": 1},
        {"edit": "show_by", "thing": "lower_wings", "control": "body", "channel": "lower_wings"},
        {"edit": "mirror_rig", "source": "left"},
    ],
    "dumble": [
        {"edit": "build_controls"}, {"edit": "add_body"},
        {"edit": "add_springs", "first": "snout_1", "last": "snout_4", "group": "snout", "swing": 0.9, "name": "snout"},
        {"edit": "add_springs", "first": "l_ear_1", "last": "l_ear_2", "group": "ears", "name": "l_ear"},
        {"edit": "set_spring_group", "group": "snout", "stiffness": 120, "damping": 7},
        {"edit": "set_spring_group", "group": "ears", "stiffness": 260, "damping": 9},
        {"edit": "mirror_rig", "source": "left"},
    ],
    "harl": [
        {"edit": "build_controls"}, {"edit": "set_kit_rig", "kit_id": "neck", "how": {"solver": "curve"}},
        {"edit": "add_channel", "control": "chest_fk", "title": "fold wings", "quantity": "share"},
        coupled("l_wing_upper_fk", "rotate_x", "-58 * deg * fold", reads("fold", "chest_fk", "fold_wings"), name="l_wing folds"),
        coupled("l_wing_upper_fk", "rotate_z", "-16 * deg * fold", reads("fold", "chest_fk", "fold_wings"), name="l_wing lowers"),
        coupled("l_wing_lower_fk", "rotate_x", "128 * deg * smooth(0, 1, fold)", reads("fold", "chest_fk", "fold_wings"), name="l_wing elbow folds"),
        coupled("l_wing_hand_fk", "rotate_x", "-138 * deg * smooth(0.1, 1, fold)", reads("fold", "chest_fk", "fold_wings"), name="l_wing wrist folds"),
        {"edit": "mirror_rig", "source": "left"},
    ],
    "winch": [
        {"edit": "build_controls"},
        {"edit": "set_kit_rig", "kit_id": "rope", "how": {"solver": "curve"}},
        # The bell hangs upright however the boom swings.
        {"edit": "constrain", "held": "bell_hinge_fk", "targets": ["root control"], "follow": "rotation", "name": "bell hangs"},
        # The wheel's crank keeps its grip level with the base.
        {"edit": "constrain", "held": "crank_hinge_fk", "targets": ["body"], "follow": "rotation", "name": "crank stays level"},
        {"edit": "add_channel", "control": "body", "title": "wind", "quantity": "angle", "low": 0.0, "high": 25.13},
        {"edit": "add_channel", "control": "body", "title": "luff", "quantity": "share", "low": -1.0, "high": 1.0},
        coupled("wheel_fk", "rotate_x", "wind", reads("wind", "body", "wind"), name="wheel turns"),
        # A drum of 1.6 cm: what the wheel turns is what the rope gives.
        coupled("rope_6_curve", "move_y", "-1.6 * cm * turn", reads("turn", "wheel_fk", "rotate_x"), name="rope winds"),
        coupled("rope_1_curve", "keep_length", "-smooth(0, 20 * deg, turn)", reads("turn", "wheel_fk", "rotate_x"), name="rope is taken up"),
        coupled("boom_hinge_fk", "rotate_z", "18 * deg * luff", reads("luff", "body", "luff"), name="boom luffs"),
    ],
}  # fmt: skip
KEYS: dict[str, tuple[str, float, Sequence[tuple[float, Mapping[tuple[str, str], float]]]]] = {
    "dumble": ("shake", 2.4, [
        (0.0, {("head_fk", "rotate_y"): 0.0, ("head_fk", "rotate_x"): 0.0}), (0.3, {("head_fk", "rotate_y"): 0.45, ("head_fk", "rotate_x"): 0.1}),
        (0.55, {("head_fk", "rotate_y"): -0.45, ("head_fk", "rotate_x"): -0.1}), (0.8, {("head_fk", "rotate_y"): 0.4, ("head_fk", "rotate_x"): 0.15}),
        (1.05, {("head_fk", "rotate_y"): 0.0, ("head_fk", "rotate_x"): 0.0}), (2.4, {("head_fk", "rotate_y"): 0.0, ("head_fk", "rotate_x"): 0.0}),
    ]),
    "harl": ("fold", 3.0, [(0.0, {("chest_fk", "fold_wings"): 0.0}), (1.0, {("chest_fk", "fold_wings"): 1.0}), (2.0, {("chest_fk", "fold_wings"): 1.0}), (3.0, {("chest_fk", "fold_wings"): 0.0})]),
    "winch": ("wind", 3.0, [
        (0.0, {("body", "wind"): 0.0, ("body", "luff"): 0.0}), (1.5, {("body", "wind"): 12.5, ("body", "luff"): 0.6}), (3.0, {("body", "wind"): 0.0, ("body", "luff"): 0.0}),
    ]),
}  # fmt: skip


Lead = tuple[str, tuple[float, float, float]]
POSES: Mapping[str, Mapping[str, Sequence[Lead] | Mapping[tuple[str, str], float]]] = {
    # Poses by the skin: which joint's tip is led which way, metres; or channels by control name.
    "wick": {
        "reaching up": [("l_hand", (-0.25, 0.95, 0.15)), ("r_hand", (0.2, -0.1, 0.1))],
        "picking up": [("hips", (0.0, -0.38, -0.12)), ("r_hand", (0.1, -0.32, 0.34)), ("head", (0.0, -0.1, 0.06))],
        "striding": [("l_foot", (0.0, 0.1, 0.42)), ("hips", (0.0, -0.06, 0.16)), ("r_hand", (0.16, 0.05, 0.3)), ("l_hand", (-0.18, 0.0, -0.22))],
    },
    "dumble": {
        "sniffing": [("snout_4", (0.0, -0.36, 0.16))], "pawing": [("l_fore_paw", (0.0, 0.16, 0.16))],
        "looking back": {("neck_fk", "rotate_z"): 0.5, ("head_fk", "rotate_z"): 0.6},
    },
    "harl": {
        "wings folded": {("chest_fk", "fold_wings"): 1.0}, "stretching": [("l_wing_hand", (0.0, 0.3, 0.0)), ("r_wing_hand", (0.0, 0.3, 0.0))],
        "fishing": [("head", (0.0, -0.5, 0.16))],
    },
    "winch": {"wound up": {("body", "wind"): 12.5, ("body", "luff"): 0.6}, "boom low": {("body", "luff"): -0.8}},
    "lantern": {
        "wings folded": {("body", "wings"): 1.0}, "greeting": [("l_forearm", (0.1, 0.45, 0.0)), ("r_forearm", (0.0, -0.1, 0.0))],
    },
}  # fmt: skip
SETS: Mapping[str, Mapping[str, str]] = {
    # Sets of controls, by how their ids begin.
    "wick": {"left arm": "arm.l", "right arm": "arm.r", "left hand": "hand.l", "right hand": "hand.r", "legs": "leg."},
    "dumble": {"snout": "snout", "ears": "ear.", "legs": "leg.", "forelegs": "foreleg."}, "harl": {"wings": "wing.", "neck": "neck", "legs": "leg."},
    "winch": {"rope": "rope"}, "lantern": {"arms": "arm.", "legs": "leg."},
}  # fmt: skip


def with_poses(document: Document, name: str, now: Shown) -> Document:
    """Poses kept by name, most of them made by leading the skin; sets of controls."""
    rest = edits.set_pose(document, Pose())
    if isinstance(now, Pose) and now.values:
        document, _ = edits.keep_pose(edits.set_pose(document, now), {"wick": "waving"}.get(name, "as it stands"))
    document, _ = edits.keep_pose(edits.set_pose(document, Pose()), "at rest")
    character = rest.require_character()
    rig, skeleton = character.require_rig(), character.require_skeleton()
    ids = {c.name: c.id for c in rig.controls}
    for called, told in POSES.get(name, {}).items():
        pose = Pose()
        if isinstance(told, Mapping):
            pose = Pose({(ids[c], key): v for (c, key), v in told.items()})
        else:
            for joint, way in told:
                one = skeleton.by_name(joint)
                stands = evaluate_rig(skeleton, rig, pose).joints[skeleton.index[one.id]]
                place = stands[:3, 3]
                grab = Grab(skeleton, rig, pose, one.id, place, standing_ends(rig, pose))
                pose = grab.led_to(place + np.array(way))
        document, _ = edits.keep_pose(edits.set_pose(document, pose), called)
    for called, begins in SETS.get(name, {}).items():
        some = tuple(c.id for c in rig.handles if c.id.startswith(begins))
        if some:
            document = edits.keep_set(document, called, some)
    return document


def main() -> None:
    for name, steps in STEPS.items():
        document = bare(open_project(DEMO / f"{name}.pegloom"))
        if name == "wick":
            document = document.with_character(with_morphs(document.require_character()))
        if name == "lantern":
            document = document.with_character(with_folded_wings(document.require_character()))
        pose = document.require_character().pose
        document, _ = run_steps(edits.set_pose(document, Pose()), steps)
        document = with_clips(document, name)
        document = with_poses(document, name, pose)
        document = edits.set_pose(document, pose)
        save_project(DEMO / f"{name}.pegloom", document)
        rig = document.require_character().require_rig()
        print(
            f"{name}: {len(rig.handles)} controls, {len(rig.solvers)} solvers, {len(rig.constraints)} constraints, "
            f"{len(rig.couplings)} couplings, {len(rig.springs)} springs, {len(rig.morphs)} morphs"
        )  # fmt: skip


def bare(document: Document) -> Document:
    """Without what this made before."""
    one = document.require_character()
    parts = tuple(replace(p, morphs=()) for p in one.parts if p.name != "folded_wings")
    clips = tuple(c for c in one.clips if c.name not in MADE)
    return document.with_character(
        replace(one, parts=parts, clips=clips, rig_changes=RigChanges(), rig_recipe={}, expressions=(), face_pairs={}, poses=(), control_sets={}, card=())
    )


BUMPS: Mapping[str, Sequence[tuple[tuple[float, float, float], float, tuple[float, float, float]]]] = {
    # morph: centre, radius, way; each side where the first number is given
    "smile": [((0.045, 1.325, 0.11), 0.026, (0.007, 0.014, -0.004)), ((-0.045, 1.325, 0.11), 0.026, (-0.007, 0.014, -0.004))],
    "frown": [((0.045, 1.322, 0.11), 0.026, (0.002, -0.014, 0.0)), ((-0.045, 1.322, 0.11), 0.026, (-0.002, -0.014, 0.0))],
    "jaw_open": [((0.0, 1.29, 0.09), 0.04, (0.0, -0.028, -0.004))],
    "pucker": [((0.0, 1.316, 0.118), 0.022, (0.0, 0.0, 0.016))],
    "cheeks": [((0.07, 1.345, 0.085), 0.03, (0.016, 0.0, 0.008)), ((-0.07, 1.345, 0.085), 0.03, (-0.016, 0.0, 0.008))],
    "nose": [((0.0, 1.372, 0.165), 0.022, (0.0, 0.01, -0.004))],
    "l_brow_up": [((0.045, 1.468, 0.11), 0.026, (0.0, 0.014, 0.0))],
    "r_brow_up": [((-0.045, 1.468, 0.11), 0.026, (0.0, 0.014, 0.0))],
    "brows_down": [((0.032, 1.462, 0.115), 0.026, (-0.004, -0.013, 0.006)), ((-0.032, 1.462, 0.115), 0.026, (0.004, -0.013, 0.006))],
    "l_blink": [((0.045, 1.445, 0.118), 0.02, (0.0, -0.03, 0.02))], "r_blink": [((-0.045, 1.445, 0.118), 0.02, (0.0, -0.03, 0.02))],
    "l_moustache": [((0.05, 1.338, 0.13), 0.022, (0.004, 0.012, 0.0))], "r_moustache": [((-0.05, 1.338, 0.13), 0.022, (-0.004, 0.012, 0.0))],
}  # fmt: skip


def with_morphs(character: Character) -> Character:
    """A dozen morph targets on Wick's face: smooth bumps, made without chance."""

    def of(part: Part) -> Part:
        if part.name != "body":
            return part
        points, morphs = part.mesh.points, []
        for name, bumps in BUMPS.items():
            deltas = np.zeros_like(points)
            for centre, radius, way in bumps:
                far = np.linalg.norm(points - np.array(centre), axis=1) / radius
                # Only what faces ahead: the nape stays.
                share = np.exp(-0.5 * far**2) * (far < 3.0) * (points[:, 2] > 0.02)
                deltas += share[:, None] * np.array(way)
            morphs.append(Morph(name, deltas))
        return replace(part, morphs=tuple(morphs))

    return replace(character, parts=tuple(of(p) for p in character.parts))


def with_folded_wings(character: Character) -> Character:
    """Another drawing of the moth's upper wings, folded; a choice swaps the two."""
    wings = next(p for p in character.parts if p.name == "upper_wings")
    points = wings.mesh.points * [0.42, 1.0, 1.0]
    points[:, 1] -= 0.35 * (np.abs(wings.mesh.points[:, 0]) - np.abs(points[:, 0]))
    folded = replace(wings, id="folded", name="folded_wings", mesh=with_points(wings.mesh, points))
    skin = character.skin
    assert skin is not None
    weights = {**skin.weights, "folded": skin.weights[wings.id]}
    return replace(character, parts=(*character.parts, folded), skin=replace(skin, weights=weights))


def with_clips(document: Document, name: str) -> Document:
    """The short clip that shows what was made."""
    rig = document.require_character().require_rig()
    ids = {c.name: c.id for c in rig.controls}
    if name == "wick":
        frames: list[tuple[float, Mapping[tuple[str, str], float]]] = [(0.0, {})]
        for k, values in enumerate(EXPRESSIONS.values()):
            told = {(control, "move_x" if control == "cheeks" else "move_y"): v for control, v in values.items()}
            frames += [(0.4 + 0.9 * k, told), (0.8 + 0.9 * k, told)]
        frames.append((5.0, {}))
        return keyed(document, "faces", 5.0, frames, tuple(ids[c] for c in FACE_AT), ids)
    if name == "lantern":
        frames = []
        for time, value, wings, lower in ((0.0, 1.0, 0.0, 1.0), (0.7, 2.2, 0.0, 1.0), (1.4, 0.6, 1.0, 1.0), (2.1, 1.4, 1.0, 0.0), (2.8, 1.0, 0.0, 1.0)):
            told = {ref: value for w in rig.widths for ref in (w.across, w.through)}
            frames.append((time, {**told, ("body", "wings"): wings, ("body", "lower_wings"): lower}))
        owners = tuple(dict.fromkeys([w.across.owner for w in rig.widths] + ["body"]))
        return keyed(document, "thin and thick", 2.8, frames, owners, {c.id: c.id for c in rig.controls})
    if name in KEYS:
        clip, length, some = KEYS[name]
        return keyed(document, clip, length, some, tuple(dict.fromkeys(ids[c] for _, values in some for c, _ in values)), ids)
    return document


def keyed(
    document: Document, name: str, length: float, frames: Sequence[tuple[float, Mapping[tuple[str, str], float]]],
    controls: tuple[str, ...], ids: Mapping[str, str],
) -> Document:  # fmt: skip
    document, clip = edits.add_clip(document, name, length=length)
    for time, values in frames:
        posed = edits.set_pose(document, Pose({(ids[c], key): v for (c, key), v in values.items()}))
        document = edits.key_controls(posed, clip, time, controls)
    return edits.set_pose(document, Pose())


if __name__ == "__main__":
    main()
