"""Keys picked on the strip, changed together; told without a window, too."""

from __future__ import annotations

import numpy as np
import pytest

from pegloom.core.curves import Run
from pegloom.core.curves.curve import Beyond, Slope
from pegloom.core.errors import EditError
from pegloom.document import edits
from pegloom.document.edits import KeyAt
from pegloom.document.told.verbs import run_steps
from tests.support.figures import shipped


def start():
    document = shipped("wick")
    clip = next(c for c in document.require_character().clips if c.curves)
    return document, clip


def curve_of(document, clip, ref, layer=""):
    found = document.require_character().clip(clip.id)
    curves = found.curves if not layer else next(x.curves for x in found.layers if x.id == layer)
    return curves[ref]


def test_keys_are_moved_copied_scaled_and_removed_together():
    document, clip = start()
    keys = edits.keys_in(clip, controls={"body"}, first=0.5, last=2.0)
    assert keys and all(0.5 <= k.time <= 2.0 for k in keys)
    ref = (keys[0].control, keys[0].channel)
    before = clip.curves[ref]
    moved = curve_of(edits.shift_keys(document, clip.id, keys, seconds=0.1, value=0.02), clip, ref)
    inside = (before.times >= 0.5) & (before.times <= 2.0)
    assert np.allclose(moved.times[inside], before.times[inside] + 0.1) and np.allclose(moved.values[inside], before.values[inside] + 0.02)
    assert np.allclose(moved.values[~inside], before.values[~inside])
    longer = edits.copy_keys(document, clip.id, keys, seconds=10.0).require_character().clip(clip.id)
    assert longer.length == pytest.approx(max(k.time for k in keys) + 10.0)
    assert len(longer.curves[ref].times) == len(before.times) + inside.sum()
    scaled = curve_of(edits.scale_keys(document, clip.id, keys, about=0.5, factor=0.5), clip, ref)
    assert np.allclose(np.sort(scaled.times[: len(before.times)]), np.sort(np.where(inside, 0.5 + (before.times - 0.5) * 0.5, before.times)))
    gone = edits.drop_keys(document, clip.id, edits.keys_in(clip, controls={"body"})).require_character().clip(clip.id)
    assert not any(control == "body" for control, _ in gone.curves) and len(gone.curves) < len(clip.curves)
    # Keys of another clip's other controls stay the very same pieces.
    assert all(gone.curves[r] is clip.curves[r] for r in gone.curves)


def test_slopes_runs_values_and_ends():
    document, clip = start()
    ref, one = next((r, c) for r, c in clip.curves.items() if len(c.times) > 3)
    key = (KeyAt(*ref, float(one.times[1])),)
    level = curve_of(edits.slope_keys(document, clip.id, key, Slope.LEVEL), clip, ref)
    assert level.before[1] == level.after[1] == 0.0
    two = curve_of(edits.slope_keys(document, clip.id, key, Slope.TWO, before=1.0, after=-2.0), clip, ref)
    assert (two.before[1], two.after[1]) == (1.0, -2.0)
    step = 1e-6
    now = two.at_all(np.array([one.times[1] - step, one.times[1], one.times[1] + step]))
    assert np.diff(now) / step == pytest.approx([1.0, -2.0], rel=1e-3)
    held = curve_of(edits.run_keys(document, clip.id, key, Run.STEP), clip, ref)
    assert held.at(float(one.times[2]) - 1e-4) == one.values[1]
    put = curve_of(edits.value_keys(document, clip.id, key, 0.25), clip, ref)
    assert put.at(float(one.times[1])) == 0.25
    looped = curve_of(edits.ends_of_curves(document, clip.id, [ref], last=Beyond.LOOP), clip, ref)
    span = one.times[-1] - one.times[0]
    assert looped.at(float(one.times[1] + span)) == pytest.approx(one.at(float(one.times[1])), abs=1e-9)


def test_keys_between_and_fewer_keys():
    document, clip = start()
    ref, one = next((r, c) for r, c in clip.curves.items() if len(c.times) > 3 and np.ptp(c.values) > 0)
    time = float(one.times[1:3].mean())
    for share in (0.0, 0.3, 1.0):
        got = curve_of(edits.between_keys(document, clip.id, time, share, [ref[0]]), clip, ref)
        assert got.at(time) == pytest.approx(one.values[1] + share * (one.values[2] - one.values[1]))
    dense = document
    for t in np.arange(0, clip.length, 0.1):
        curve = curve_of(dense, clip, ref)
        dense = edits.between_keys(dense, clip.id, float(t), 0.5, [ref[0]]) if len(curve.times) < 12 else dense
    fewer, (was, left) = edits.reduce_keys(dense, clip.id, 0.02)
    assert left < was
    moments = np.linspace(0, clip.length, 400)
    for r, c in dense.require_character().clip(clip.id).curves.items():
        assert np.abs(curve_of(fewer, clip, r).at_all(moments) - c.at_all(moments)).max() < 0.03
    with pytest.raises(EditError, match="above 0"):
        edits.reduce_keys(document, clip.id, 0.0)


def test_keys_of_a_layer_and_off_the_frames():
    document, clip = start()
    document, layer = edits.add_layer(document, clip.id, "over")
    document = edits.key_layer(document, clip.id, layer, 0.513, ("spine.chest",), document.require_character().pose)
    found = document.require_character().clip(clip.id)
    keys = edits.keys_in(found, layer=layer)
    assert keys and {k.control for k in keys} == {"spine.chest"}
    snapped = edits.snap_keys(document, clip.id, keys, layer=layer).require_character().clip(clip.id)
    assert all(abs(k.time * 30 - round(k.time * 30)) < 1e-6 for k in edits.keys_in(snapped, layer=layer))
    assert snapped.curves is found.curves
    with pytest.raises(EditError, match="none of these keys"):
        edits.shift_keys(document, clip.id, [KeyAt("body", "move_x", 99.0)], seconds=1.0)


def test_they_are_told_without_a_window():
    document, clip = start()
    key = edits.keys_in(clip, controls={"body"})[0]
    told = {"control": "body", "channel": key.channel, "time": key.time}
    after, _ = run_steps(document, [{"edit": "shift_keys", "clip_id": clip.id, "keys": [told], "value": 0.1}])
    assert curve_of(after, clip, (key.control, key.channel)).at(key.time) == pytest.approx(clip.curves[(key.control, key.channel)].at(key.time) + 0.1)
