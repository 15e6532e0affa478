"""The card Gait: a preset, a number changed, a clip made and played."""

import numpy as np
from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.motion.gaits import GaitSettings, told
from pegloom.app.state.state import Area
from tests.app.conftest import find
from tests.support.figures import wick


def test_a_gait_is_made_from_the_card_and_plays(hand):
    hand.session.start_with(wick(), None)
    hand.session.go(Area.MOTION)
    hand.card("motion.gait").set_open(True)
    box = find(hand.window, QComboBox, "gait.preset")
    box.setCurrentIndex(box.findData("sneak"))
    box.activated.emit(box.currentIndex())
    hand.session.settle()
    assert hand.value("gait.height").value() == 78.0 and told(hand.c.state.settings.of(GaitSettings)) == {"preset": "sneak"}
    hand.value("gait.lift").setValue(24.0)
    hand.value("gait.strides").setValue(1.0)
    assert told(hand.c.state.settings.of(GaitSettings)) == {"preset": "sneak", "lift": 0.24}
    before = hand.session.history.present
    hand.c.actions.run("gait.make")
    hand.idle()
    clip = hand.c.state.clip
    assert clip.name == "sneak" and clip.curves and not clip.tracks
    foot = hand.session.character.skeleton.index["leg.l.end"]
    heights = []
    for k in range(12):
        hand.session.go_to(clip.length * k / 12)
        heights.append(hand.session.frame().joints[foot, 1, 3])
    assert np.ptp(heights) > 0.1
    hand.session.undo()
    assert hand.session.history.present is before
