"""Motion edited elsewhere comes back as a layer; switches of IK and FK go to the layer in hand."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from pegloom.core.arrays import frozen
from pegloom.core.errors import EditError
from pegloom.core.motion.clips import values_at
from pegloom.core.motion.tracks import joint_tracks
from pegloom.core.rig.evaluate import joints_at
from pegloom.document import edits
from pegloom.files.bvh_write import write_bvh
from pegloom.files.motion import read_motion
from tests.support.figures import shipped


def start(name="greeting"):
    document = shipped("pier")
    character = document.require_character()
    return document, character, next(c for c in character.clips if c.name == name)


def edited(character, clip, joint="arm.l.upper", degrees=20.0):
    """The clip as somebody else gives it back: one joint turned further in every frame."""
    tracks = {}
    for one, rows in clip.tracks.items():
        some = []
        for track in rows:
            if one == joint and track.path == "rotation":
                turned = (Rotation.from_quat(track.values) * Rotation.from_euler("z", degrees, degrees=True)).as_quat()
                track = replace(track, values=np.asarray(frozen(turned)))
            some.append(track)
        tracks[one] = tuple(some)
    return replace(clip, tracks=joint_tracks(tracks))


def joints_of(document, clip_id, times):
    character = document.require_character()
    rig = character.require_rig()
    return joints_at(character.require_skeleton(), rig, values_at(character.clip(clip_id), times, rig))


@pytest.mark.parametrize("name", ["greeting", "pier walk"])
def test_a_change_elsewhere_is_a_layer_and_nothing_else(name, tmp_path):
    document, character, clip = start(name)
    baked = edits.to_joints(document, clip.id).require_character()
    write_bvh(tmp_path / "out.bvh", replace(baked, clips=(edited(baked, baked.clip(clip.id)),)), edited(baked, baked.clip(clip.id)))
    (returned,), _ = read_motion(tmp_path / "out.bvh", character.require_skeleton())
    after, layer, _ = edits.come_back(document, clip.id, returned, name="nudged")
    found = after.require_character().clip(clip.id)
    made = next(x for x in found.layers if x.id == layer)
    assert made.name == "nudged" and found.curves is clip.curves and len(found.layers) == len(clip.layers) + 1
    assert {control for control, _ in made.curves} <= {c for c, _ in made.curves if c.startswith(("arm.l", "spine"))} and made.curves
    times = np.arange(int(clip.length * clip.rate)) / clip.rate
    now, before = joints_of(after, clip.id, times), joints_of(document, clip.id, times)
    skeleton = character.require_skeleton()
    hand, foot = skeleton.index["arm.l.end"], skeleton.index["leg.r.end"]
    wanted = joints_at_of(returned, skeleton, times)
    assert np.abs(now[:, hand, :3, 3] - wanted[:, hand]).max() < 2e-3 * character.height
    assert np.abs(now[:, hand, :3, 3] - before[:, hand, :3, 3]).max() > 0.02 * character.height
    assert np.abs(now[:, foot, :3, 3] - before[:, foot, :3, 3]).max() < 1e-3 * character.height
    # Switched off, it is the clip that was.
    off = edits.switch_layer(after, clip.id, layer, False)
    assert np.abs(joints_of(off, clip.id, times) - before).max() < 1e-9


def joints_at_of(clip, skeleton, times):
    from pegloom.core.motion.retarget import Source
    from pegloom.core.motion.retarget.source import worlds_of

    return worlds_of(Source("", "", skeleton, clip), times)[..., :3, 3]


def test_what_comes_back_as_it_went_makes_no_layer(tmp_path):
    document, _character, clip = start()
    baked = edits.to_joints(document, clip.id).require_character()
    with pytest.raises(EditError, match="as it went"):
        edits.come_back(document, clip.id, baked.clip(clip.id))


def test_a_switch_of_ik_and_fk_goes_to_the_layer_in_hand():
    document, character, clip = start()
    document, layer = edits.add_layer(document, clip.id, "over")
    limb = next(s for s in character.require_rig().solvers if s.id.startswith("arm.r"))
    rig = character.require_rig()
    times = np.arange(0.0, clip.length, 1 / 30)
    amount = values_at(clip, times, rig)[:, rig.slots.index[limb.amount]]
    to = 0.0 if amount[30] > 0.5 else 1.0
    after = edits.switch_limb_at(document, limb.id, to, clip.id, 1.0, layer=layer)
    found = after.require_character().clip(clip.id)
    assert found.curves is clip.curves
    values = values_at(found, np.array([29 / 30, 1.0, 1.5]), rig)[:, rig.slots.index[limb.amount]]
    assert values == pytest.approx([amount[29], to, to], abs=1e-6)
    at_keys = np.array([29 / 30, 1.0])
    assert np.abs(joints_of(after, clip.id, at_keys) - joints_of(document, clip.id, at_keys)).max() < 1e-4 * character.height
    off = edits.switch_layer(after, clip.id, layer, False)
    assert np.abs(joints_of(off, clip.id, times) - joints_of(document, clip.id, times)).max() < 1e-9
