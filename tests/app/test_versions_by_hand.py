"""Versions in Handover's card Save: kept, compared, taken back as a step."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel

from pegloom.app.state.state import Area
from pegloom.document import edits
from pegloom.files.project import save_project
from pegloom.files.versions import versions
from tests.app.conftest import find
from tests.support.figures import shipped


def report(hand) -> str:
    return find(hand.window, QLabel, "handover.versions").text()


def test_a_version_is_kept_compared_and_taken_back(hand, tmp_path, monkeypatch):
    project = tmp_path / "winch.pegloom"
    save_project(project, shipped("winch"))
    hand.session.open(project)
    hand.until(lambda: hand.session.path == project)
    hand.session.go(Area.HANDOVER)
    asked = []
    monkeypatch.setattr(hand.window.c.ask, "name", lambda title, suggestion: "before the wind")
    monkeypatch.setattr(hand.window.c.ask, "one_of", lambda title, options: asked.append(options) or 0)
    hand.session.run("handover.keep_version")
    hand.until(lambda: len(versions(project)) == 1)
    hand.until(lambda: "before the wind" in report(hand))
    changed, _ = edits.add_clip(hand.session.history.present, "gale", length=1.0)
    hand.session.commit("A clip", changed)
    hand.session.run("handover.compare_version")
    hand.until(lambda: "clips new: gale" in report(hand))
    assert asked[0][0].startswith("1  before the wind")
    hand.session.run("handover.take_version")
    hand.until(lambda: "gale" not in [c.name for c in hand.session.character.clips])
    assert hand.session.path == project
    hand.session.run("edit.undo")
    assert "gale" in [c.name for c in hand.session.character.clips]


def test_a_project_without_a_place_is_saved_first(hand):
    hand.session.start_with(shipped("winch"), None)
    hand.session.go(Area.HANDOVER)
    hand.session.run("handover.keep_version")
    hand.until(lambda: "Save the project first" in hand.window.frame_.note.text())
