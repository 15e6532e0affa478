"""Fit to flesh in the window: a card, a button, one step that is undone, and a line of what it brought."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QLabel

from pegloom.app.state.state import Area
from pegloom.core.skin.weights import dense
from pegloom.document.edits.weaves import kept_as
from tests.app.conftest import find
from tests.support.figures import rigged_capsules


def test_it_lands_as_one_step_with_locked_joints_held_and_is_undone(hand):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.WEIGHTS)
    before = hand.session.history.present
    part = before.character.parts[0].id
    lock = "arm.l.upper"
    hand.session.locked = frozenset({lock})
    hand.session.run("weights.fit_flesh")
    hand.until(lambda: hand.session.history.undo_name == "Fit to flesh", timeout=240_000)
    told = find(hand.window, QLabel, "weights.flesh.report").text()
    assert told.startswith("figure: ") and ("of that stays" in told or "the weights stay" in told)
    after = hand.session.character
    was, now = (dense(w)[:, w.joint_ids.index(lock)] for w in (c.skin.weights[part] for c in (before.character, after)))
    assert np.abs(was - now).max() < 1e-9, "a locked joint keeps what it holds"
    assert kept_as(after).name == "fitted to flesh", "what is kept is what is in hand, locks and all"
    assert after.skin.weights[part] is not before.character.skin.weights[part]
    assert after.skeleton is before.character.skeleton and after.rig is before.character.rig
    hand.session.run("edit.undo")
    assert hand.session.history.present is before


def test_without_weights_it_says_what_is_missing(hand):
    hand.session.go(Area.WEIGHTS)
    hand.session.run("weights.fit_flesh")
    hand.until(lambda: bool(hand.window.frame_.note.text()))
    assert not hand.c.jobs.busy and hand.session.history.undo_name != "Fit to flesh"
