"""Flesh in the window: fit, helper joints, shapes and ways to bend, each one step that is undone, and a line of what it brought."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import trimesh
from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QLabel, QTableWidget

from pegloom.app.areas.weights.settings import PullSettings
from pegloom.app.dialogs.ways_sheet import WaysSheet
from pegloom.app.state.state import Area, Tool
from pegloom.core.motion.trials import trial_pose
from pegloom.core.skin.weights import dense
from pegloom.document.edits.ways import WAYS
from pegloom.document.edits.weaves import kept_as
from pegloom.document.evaluate import evaluate
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
    assert told.startswith("figure: ") and ("of the fit stays" in told or "the weights stay" in told)
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


def test_helper_joints_are_put_in_taken_away_and_undone(hand):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.WEIGHTS)
    before = hand.session.history.present
    hand.session.select("joint", "arm.l.lower", "arm.r.lower")
    hand.session.run("weights.add_helpers")
    hand.until(lambda: hand.session.history.undo_name == "Helper joints", timeout=240_000)
    character = hand.session.character
    assert [h.of for h in character.helpers] == ["arm.l.lower", "arm.r.lower"], "the picked joints get one"
    assert find(hand.window, QLabel, "weights.flesh.report").text().startswith("2 helper joints. ")
    hand.session.run("weights.drop_helpers")
    assert not hand.session.character.helpers and hand.session.history.undo_name == "Helper joints away"
    hand.session.run("edit.undo")
    hand.session.run("edit.undo")
    assert hand.session.history.present is before


def test_shapes_come_and_go_and_a_corrected_mesh_becomes_one(hand, tmp_path):
    document = rigged_capsules()
    document = document.with_character(replace(document.character, pose=trial_pose(document.character.skeleton, "elbow")))
    hand.session.start_with(document, None)
    hand.session.go(Area.WEIGHTS)
    part = document.character.parts[0]
    points = evaluate(document.character).points[part.id]
    corrected = points + [0.0, 0.004, 0.0]
    trimesh.Trimesh(corrected, np.asarray(part.mesh.corners).reshape(-1, 3), process=False).export(tmp_path / "sculpted.ply")
    hand.window.answers.open_path = str(tmp_path / "sculpted.ply")
    hand.session.run("weights.sculpt")
    hand.until(lambda: hand.session.history.undo_name == "Corrected mesh")
    (shape,) = hand.session.character.shapes
    assert shape.morph in hand.window.frame_.note.text()
    assert np.abs(evaluate(hand.session.character).points[part.id] - corrected).max() < 1e-5
    hand.session.run("weights.drop_shapes")
    assert not hand.session.character.shapes and not hand.session.character.parts[0].morphs


def test_ways_are_compared_and_one_is_taken(hand, monkeypatch):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.WEIGHTS)
    part = hand.session.character.parts[0].id
    monkeypatch.setattr("pegloom.document.edits.ways.WAYS", {k: v for k, v in WAYS.items() if k in ("dual", "relaxed")})
    hand.window.answers.take_number = 1
    hand.session.run("weights.ways")
    hand.until(lambda: hand.session.history.undo_name == "Dual quaternions", timeout=240_000)
    assert hand.session.character.skin.dual[part].min() == 1.0
    told = hand.window.answers.offered[-1]
    sheet = WaysSheet(told, hand.window)
    sheet.show()
    table = find(sheet, QTableWidget, "ways.table")
    assert [table.item(k, 0).text() for k in range(3)] == ["As bound", "Dual quaternions", "Surface relax"]
    assert "every engine" not in find(sheet, QLabel, "ways.says").text() and "some engines" in find(sheet, QLabel, "ways.says").text()
    table.selectRow(0)
    assert not sheet.take.isEnabled(), "what is there already cannot be taken"
    table.selectRow(2)
    sheet.take.click()
    assert sheet.chosen == 2


def test_the_skin_is_pulled_with_the_mouse_and_the_weights_follow(hand):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.WEIGHTS)
    character = hand.session.character
    part, pose = character.parts[0], trial_pose(character.skeleton, "elbow")
    hand.c.store.commit("Pose", hand.session.history.present.with_character(replace(character, pose=pose)))
    before = hand.session.history.present
    hand.session.run("tool.pull")
    hand.c.store.put_setting(PullSettings, shape=True)
    tall: list[int] = []

    def steady() -> bool:  # the strip grows a lane once there is a pose to judge
        tall.append(hand.stage.size_in_points[1])
        return len(tall) > 5 and len(set(tall[-5:])) == 1

    hand.until(steady)
    posed = evaluate(hand.session.character, pose).points[part.id]
    joint = character.skeleton.positions[character.skeleton.index["arm.l.lower"]]
    near = np.argsort(np.linalg.norm(part.mesh.points - joint, axis=1))[:60]
    size = hand.stage.size_in_points
    flat = hand.stage.camera.project(posed[near], *size)
    # The one of them the eye sees.
    start = next(QPoint(int(x), int(y)) for x, y, _ in flat if hand.stage.surface_at(int(x), int(y)) is not None)
    hand.drag(start, (0, -25))
    hand.until(lambda: hand.session.history.undo_name == "Pull the skin", timeout=120_000)
    after = hand.session.character
    assert after.skin.weights[part.id] is not character.skin.weights[part.id] and after.weaves[-1].name == "pulled"
    assert "of the way" in find(hand.window, QLabel, "weights.pull.report").text()
    moved = evaluate(after, pose).points[part.id] - posed
    assert (moved @ hand.stage.camera.up).max() > 0.02, "the skin went up as it was led, the shape takes what weights cannot"
    hand.session.run("edit.undo")
    assert hand.session.history.present is before


def test_a_click_with_the_pull_tool_changes_nothing_and_esc_lets_go(hand):
    hand.session.start_with(rigged_capsules(), None)
    hand.session.go(Area.WEIGHTS)
    hand.session.run("tool.pull")
    before = hand.session.history.present
    point = hand.stage.camera.project(hand.session.character.parts[0].mesh.points[:1], *hand.stage.size_in_points)[0]
    hand.drag(QPoint(int(point[0]), int(point[1])), (0, 0), steps=1)
    assert not hand.c.jobs.busy and hand.session.history.present is before
    hand.session.run("tool.pull")
    assert hand.c.state.tooling.tool == Tool.PICK
