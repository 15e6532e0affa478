"""Layers over a clip: they play in the place of its keys, go along with a new rest, and are kept in the file."""

import numpy as np
import pytest

from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick

HEAD = {("spine.head", "rotate_x"): 0.4, ("body", "move_y"): -0.03}


def layered():
    document = wick()
    clip = document.character.clips[0]
    return edits.lay_over(document, clip.id, HEAD)[0]


def shown(document, time):
    character = document.character
    clip = character.clips[0]
    return evaluate(character, sample(clip, time, character.skeleton, character.pose, character.rig)).joints


def test_a_layer_plays_in_the_place_of_the_keys_and_leaves_them():
    before, document = wick(), layered()
    clip = document.character.clips[0]
    for time in (0.0, 0.83, 2.2):
        pose = sample(clip, time, document.character.skeleton, None, document.character.rig)
        assert [pose.values[ref] for ref in HEAD] == pytest.approx(list(HEAD.values()))
    assert clip.curves is before.character.clips[0].curves
    off = edits.switch_layer(document, clip.id, clip.layers[0].id, False)
    assert np.array_equal(shown(off, 0.83), shown(before, 0.83))
    assert np.abs(shown(document, 0.83) - shown(before, 0.83)).max() > 0.01
    gone = edits.drop_layer(document, clip.id, clip.layers[0].id)
    assert np.array_equal(shown(gone, 0.83), shown(before, 0.83))


def test_it_is_baked_and_exported_as_it_plays():
    character = layered().character
    baked = baked_clip(character, character.clips[0])
    for time in (0.0, 0.9, 3.1):
        told = evaluate(character, sample(baked, time, character.skeleton)).joints
        live = evaluate(character, sample(character.clips[0], time, character.skeleton, None, character.rig)).joints
        assert np.abs(told - live).max() < 1e-3 * character.height


def test_it_goes_along_with_a_new_rest():
    document = layered()
    after = edits.rest_in_t(document)
    clip = after.character.clips[0]
    assert set(HEAD) <= set(clip.layers[0].curves)
    for time in (0.0, 1.1, 2.9):
        old, new = shown(document, time), shown(after, time)
        index = after.character.skeleton.index
        for joint in ("spine.head", "arm.l.end", "leg.r.end"):
            gap = np.linalg.norm(old[document.character.skeleton.index[joint]][:3, 3] - new[index[joint]][:3, 3])
            assert gap < 2e-3 * document.character.height, (joint, time)


def test_it_is_kept_in_the_project_and_an_older_one_has_none(tmp_path):
    document = layered()
    save_project(tmp_path / "w.pegloom", document)
    (layer,) = open_project(tmp_path / "w.pegloom").character.clips[0].layers
    assert layer.on
    assert {ref: curve.at(1.0) for ref, curve in layer.curves.items()} == pytest.approx(HEAD)
    assert wick().character.clips[0].layers == ()


def test_ids_of_layers_are_never_used_again():
    document = layered()
    clip = document.character.clips[0]
    first = clip.layers[0].id
    document = edits.drop_layer(document, clip.id, first)
    document, second = edits.lay_over(document, clip.id, HEAD)
    assert second != first
