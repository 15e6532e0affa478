"""From version 1: records carried their class ("is"), a control eight fixed channels, a pose rows of them.

Written against what version 1 was; nothing here changes when a record does.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from types import MappingProxyType
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from pegloom.files.project.records import Stores

FIELDS: Mapping[str, tuple[str, ...]] = MappingProxyType({
    name: tuple(fields.split()) for name, fields in {
        "Mesh": "points corners starts uvs normals materials",
        "Clip": "id name rate length curves tracks",
        "Curve": "times values between",
        "Track": "path times values step",
        "Control": "id name side parent rest shape size free offset tilt blend_at_rest",
        "ControlRig": "controls drivers limbs",
        "IkLimb": "id joints fk goal pole",
        "Pose": "controls turns placements",
        "Joint": "id name parent side position rotation tail floating",
        "Skeleton": "joints",
        "Kit": "id kind side attach pegs joints names at bend fold ik"
        " goal pole ik_at_rest slides least most twist roll part",
        "Peg": "name position confidence by_hand",
        "PegSet": "pattern fingers pegs kits spare",
        "Weights": "joint_ids indptr indices values",
        "Character": "id name prefix parts materials images standing pegs skeleton joint_overrides own_joints made adopted"
        " skin rig control_overrides pose clips weaves reaches vertex_sets trials references arrival",
        "ControlOverride": "shape size offset",
        "Document": "characters active name",
        "Image": "name kind data",
        "JointOverride": "name move turn parent dropped floating seen",
        "KeptPose": "id name pose picture",
        "Material": "name base_colour metallic roughness base_image normal_image double_sided see_through",
        "Morph": "name deltas at_rest",
        "OwnJoint": "id name parent side place turn tail between takes",
        "Part": "id name mesh kind included morphs detail smooth levels",
        "Reference": "image along centre height alpha",
        "Relax": "steps strength mask",
        "Skin": "method influences weights dual relax",
        "Standing": "up facing height middle symmetry file_to_character",
        "Weave": "id name skin",
    }.items()
})  # fmt: skip
"""What each record had. Others were passed by."""
CHANNELS = ("move_x", "move_y", "move_z", "turn_x", "turn_y", "turn_z", "grow", "blend")
KEYS = {**{f"turn_{a}": f"rotate_{a}" for a in "xyz"}, "grow": "scale"}
BETWEEN = {"smooth": 0, "linear": 1, "step": 2}
LEAST_SCALE = 0.01


def v1_to_v2(tree: Any, stores: Stores) -> Any:
    """A version 1 document as version 2 has it."""
    document = _plain(tree, "", stores)
    if type(document) is not dict or type(document.get("characters")) is not list:
        raise stores.fail("holds no document")
    for i, character in enumerate(document["characters"]):
        where = f"characters[{i}]"
        if type(character) is not dict:
            raise stores.fail("an object was expected", where)
        _character(character, where, stores)
    return document


def _plain(value: Any, where: str, stores: Stores) -> Any:
    """Objects without their classes, choices as their values, mappings by name as objects, others as pairs."""
    if type(value) is list:
        return [_plain(v, f"{where}[{i}]", stores) for i, v in enumerate(value)]
    if type(value) is not dict or "array" in value or "blob" in value:
        return value
    if "choice" in value:
        return value.get("value")
    if "pairs" in value:
        pairs = value["pairs"]
        if type(pairs) is not list or not all(type(p) is list and len(p) == 2 for p in pairs):
            raise stores.fail("a list of pairs was expected", where)
        result = [(_plain(k, where, stores), _plain(v, f"{where}[{str(k)[:40]}]", stores)) for k, v in pairs]
        return dict(result) if all(type(k) is str for k, _ in result) else [[k, v] for k, v in result]
    kind = value.get("is")
    if type(kind) is not str or kind not in FIELDS:
        raise stores.fail(f"holds a record of a kind that is not known ({str(kind)[:40]})", where)
    dot = "." if where else ""
    return {k: _plain(v, f"{where}{dot}{k}", stores) for k, v in value.items() if k in FIELDS[kind]}


def _held(change: Callable[[], Any], where: str, stores: Stores) -> Any:
    """What a change makes; an error with its place where the file holds something else than version 1 did."""
    try:
        return change()
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, OverflowError):
        raise stores.fail("cannot be understood", where) from None


def _character(c: dict[str, Any], where: str, stores: Stores) -> None:
    if "arrival" in c:
        c["import_notes"] = c.pop("arrival")
    joints: list[Any] = []
    for name in ("skeleton", "adopted"):
        if c.get(name) is not None:
            joint_list = _held(lambda name=name: [_joint(j) for j in c[name]["joints"]], f"{where}.{name}.joints", stores)  # type: ignore[misc]
            c[name] = {"joints": joint_list}
            joints = joint_list if name == "skeleton" else joints
    rest = _held(lambda: _local_rows(joints), f"{where}.skeleton.joints", stores)
    used = _held(lambda: _used(c), f"{where}.pose", stores)
    blends = {}
    if c.get("rig") is not None:
        blends = _held(
            lambda: {x["id"]: x.get("blend_at_rest", 0.0) for x in c["rig"]["controls"]}, f"{where}.rig", stores
        )
        c["rig"] = _held(lambda: _rig(c["rig"], used), f"{where}.rig", stores)
    if c.get("pose") is not None:
        c["pose"] = _held(lambda: _pose(c["pose"], rest, blends), f"{where}.pose", stores)
    if type(c.get("trials")) is not list:
        # Until they had pictures, trials were a mapping from name to pose; no window ever filled it.
        c["trials"] = []
    for k, trial in enumerate(c["trials"]):
        change = partial(_trial, trial, rest, blends)
        c["trials"][k] = _held(change, f"{where}.trials[{k}].pose", stores)
    for k, clip in enumerate(c.get("clips") or []):
        _held(partial(_clip, clip), f"{where}.clips[{k}].curves", stores)
        place = f"{where}.clips[{k}].tracks"
        clip["tracks"] = _held(partial(_tracks, clip.get("tracks") or {}, place, stores), place, stores)
    if "made" in c:
        c["counted"] = {"own.": c.pop("made")}
    if "control_overrides" in c:
        overrides = c.pop("control_overrides")
        c["rig_changes"] = {"controls": overrides or {}}


def _joint(joint: Any) -> Any:
    name = joint["id"]
    origin = "file" if name.startswith("file.") else "own" if name.startswith("own.") else "kit"
    last = name.rpartition(".")[2] if "." in name else ""
    role = "finger" if name.startswith("hand.") else last if last.isalpha() else ""
    twist = ".twist" in name
    return joint | {
        "origin": origin, "kind": "twist" if twist else "plain", "role": "" if twist or origin != "kit" else role,
    }  # fmt: skip


def _local_rows(joints: list[Any]) -> dict[str, np.ndarray]:
    """Position and quaternion (7,) of each joint in its parent at rest."""
    world = {j["id"]: (np.array(j["position"], dtype=float), Rotation.from_quat(j["rotation"])) for j in joints}
    result = {}
    for joint in joints:
        place, turn = world[joint["id"]]
        if joint["parent"] is not None:
            at, axes = world[joint["parent"]]
            place, turn = axes.inv().apply(place - at), axes.inv() * turn
        result[joint["id"]] = np.concatenate([place, turn.as_quat()])
    return result


def _used(c: dict[str, Any]) -> set[tuple[str, str]]:
    """Channels that some pose or clip told though they may not have been free."""
    found: set[tuple[str, str]] = set()
    for pose in (c.get("pose"), *(t["pose"] for t in c.get("trials") or [] if type(t) is dict)):
        for control, row in ((pose or {}).get("controls") or {}).items():
            found |= {(control, key) for key, value in zip(CHANNELS, row, strict=True) if value != 0.0}
    for clip in c.get("clips") or []:
        found |= {(ref[0], ref[1]) for ref, _ in clip.get("curves") or []}
    return found


def _rig(rig: Any, used: set[tuple[str, str]]) -> Any:
    return {
        "controls": [_control(c, used) for c in rig["controls"]],
        "drives": [{"joint": joint, "node": _node(f"control:{control}")} for joint, control in rig["drivers"]],
        "solvers": [
            {
                "kind": "limb", "id": x["id"], "joints": x["joints"], "fk": x["fk"],
                "goal": _node(f"control:{x['goal']}"), "pole": _node(f"control:{x['pole']}"), "amount": [x["goal"], "blend"],
            }
            for x in rig["limbs"]
        ],
        "built_by": 1,
    }  # fmt: skip


def _node(text: str) -> Any:
    kind, _, name = text.partition(":")
    return {"kind": kind or "world", "id": name}


def _control(control: Any, used: set[tuple[str, str]]) -> Any:
    result = {k: v for k, v in control.items() if k not in ("free", "blend_at_rest", "parent")}
    free, blend = control["free"], control.get("blend_at_rest", 0.0)
    kept = [k for k in CHANNELS if k in free or (control["id"], k) in used or (k == "blend" and blend != 0.0)]
    channels = [_channel(k, blend) | ({} if k in free else {"locked": True, "shown": False}) for k in kept]
    return result | {"parent": _node(control["parent"]), "channels": channels}


def _channel(name: str, blend: float) -> dict[str, Any]:
    key = KEYS.get(name, name)
    result: dict[str, Any] = {"key": key, "title": key.replace("_", " ")}
    if name == "grow":
        return result | {"quantity": "factor", "rest": 1.0, "low": LEAST_SCALE}
    if name == "blend":
        return result | {"quantity": "share", "rest": blend, "low": 0.0, "high": 1.0}
    return result | {"quantity": "length" if name.startswith("move") else "angle"}


def _pose(pose: Any, rest: Mapping[str, np.ndarray], blends: Mapping[str, float]) -> Any:
    turns, placements = pose.get("turns") or {}, pose.get("placements") or {}
    if turns or placements:
        return _joint_pose(turns, placements, rest)
    values = []
    for control, row in (pose.get("controls") or {}).items():
        for name, value in zip(CHANNELS, row, strict=True):
            resting = blends.get(control, 0.0) if name == "blend" else 0.0
            if value != resting:
                values.append([[control, KEYS.get(name, name)], value + (1.0 if name == "grow" else 0.0)])
    return {"kind": "controls", "values": values}


def _joint_pose(turns: Any, placements: Any, rest: Mapping[str, np.ndarray]) -> Any:
    """Turns stood on the rest, or on where the joint was placed."""
    joints = [j for j in dict.fromkeys((*placements, *turns)) if j in placements or j in rest]
    rows = []
    for joint in joints:
        row = np.array(placements[joint] if joint in placements else [*rest[joint], 1.0, 1.0, 1.0], dtype=float)
        if joint in turns:
            # A turn came after the scale; scales of placed and turned joints were even.
            row[3:7] = (Rotation.from_quat(row[3:7]) * Rotation.from_quat(turns[joint])).as_quat()
        rows.append(row.tolist())
    return {"kind": "joints", "joints": joints, "rows": rows}


def _trial(trial: Any, rest: Mapping[str, np.ndarray], blends: Mapping[str, float]) -> Any:
    return trial | {"pose": _pose(trial["pose"], rest, blends)}


def _clip(clip: Any) -> None:
    result = []
    for (control, name), keys in clip.get("curves") or []:
        plus = 1.0 if name == "grow" else 0.0
        count = len(keys["times"])
        result.append([[control, KEYS.get(name, name)], {
            "times": keys["times"], "values": [v + plus for v in keys["values"]],
            "runs": [BETWEEN[keys.get("between", "smooth")]] * count, "slopes": [0] * count,
            "before": [0.0] * count, "after": [0.0] * count,
        }])  # fmt: skip
    clip["curves"] = result


def _tracks(tracks: Any, where: str, stores: Stores) -> Any:
    """One set of arrays for the tracks of all joints; keys they share are kept once."""
    table: list[tuple[int, ...]] = []
    times: list[np.ndarray] = []
    rows: list[np.ndarray] = []
    known: dict[int, int] = {}
    for j, some in enumerate(tracks.values()):
        for track in some:
            path = ("translation", "rotation", "scale").index(track["path"])
            number, values = track["times"]["array"], stores.array(track["values"]["array"], where)
            keys = stores.array(number, where)
            if keys.ndim != 1 or values.shape != (len(keys), 4 if path == 1 else 3) or not len(keys):
                raise stores.fail("a track is not one value for each of its times", where)
            if number not in known:
                known[number] = sum(map(len, times))
                times.append(keys)
            row = np.zeros((len(keys), 4))
            row[:, : values.shape[1]] = values
            table.append((j, path, int(track.get("step", False) is True), known[number], len(keys), sum(map(len, rows))))
            rows.append(row)
    columns = np.array(table, dtype=np.int64).reshape(-1, 6)
    return {
        "joints": list(tracks), "joint": columns[:, 0].copy(), "path": columns[:, 1].copy(),
        "step": columns[:, 2].astype(bool), "first": columns[:, 3].copy(), "count": columns[:, 4].copy(),
        "starts": columns[:, 5].copy(), "times": np.concatenate([np.zeros(0), *times]).astype(np.float64),
        "rows": np.concatenate([np.zeros((0, 4)), *rows]),
    }  # fmt: skip
