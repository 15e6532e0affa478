"""Clips named, copied, ordered, dropped and played at another speed, whatever they are told by."""

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from tests.support.figures import wick


def joints(document, clip_id, time):
    one = document.character
    return evaluate(one, sample(one.clip(clip_id), time, one.skeleton, one.pose, one.rig)).joints


def layered():
    document = wick()
    clip = document.character.clips[0].id
    document, layer = edits.lay_over(document, clip, {("spine.head", "rotate_x"): 0.4})
    return edits.weigh_layer(document, clip, layer, 0.2, time=2.0), clip


def test_names_and_places():
    document, clip = layered()
    document, copy = edits.copy_clip(document, clip)
    names = [c.name for c in document.character.clips]
    assert names[:2] == ["greeting", "greeting 2"]
    assert document.character.clip(copy).layers == document.character.clip(clip).layers
    with pytest.raises(EditError, match="called greeting already"):
        edits.rename_clip(document, copy, " greeting ")
    named = edits.rename_clip(document, copy, "wave")
    assert named.character.clip(copy).name == "wave"
    first = edits.order_clip(named, copy, 0)
    assert [c.id for c in first.character.clips][:2] == [copy, clip]
    gone = edits.drop_clip(first, clip)
    assert clip not in {c.id for c in gone.character.clips}
    assert joints(gone, copy, 1.0) == pytest.approx(joints(document, clip, 1.0))


@pytest.mark.parametrize("sampled", [False, True])
@pytest.mark.parametrize("factor", [2.0, 0.4])
def test_at_another_speed_it_does_the_same(sampled, factor):
    document, clip = layered()
    if sampled:
        document = edits.to_joints(document, clip)
    other = edits.speed_clip(document, clip, factor)
    assert other.character.clip(clip).length == pytest.approx(document.character.clip(clip).length / factor)
    for time in (0.0, 0.77, 2.3, 3.9):
        np.testing.assert_allclose(joints(other, clip, time / factor), joints(document, clip, time), atol=1e-9)
    with pytest.raises(EditError, match="speed above 0"):
        edits.speed_clip(document, clip, 0.0)
