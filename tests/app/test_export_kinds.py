"""Every kind of file that Handover writes, from the real window, read back."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.handover.settings import ExportSettings, FileKind, WhichClips
from pegloom.app.state.proved import Proved
from pegloom.app.state.state import Area
from pegloom.core.skeleton.sets import JointGroup
from pegloom.document.delivery import Content
from pegloom.files.bvh import parse_bvh
from pegloom.files.opening import open_any
from pegloom.files.targets import known_targets
from pegloom.scene.lenses import Lens
from tests.app.conftest import find
from tests.support.figures import shipped


@pytest.fixture
def winch(hand):
    hand.session.start_with(shipped("winch"), None)
    hand.session.go(Area.HANDOVER)
    return hand


def choose(hand, box, data):
    hand.until(lambda: box.findData(data) >= 0)
    box.setCurrentIndex(box.findData(data))
    box.activated.emit(box.currentIndex())
    hand.session.settle()


def exported(hand, kind, path):
    """Choose the kind in the card, press Export, and wait until the file is there."""
    box = find(hand.window, QComboBox, "handover.kind")
    box.setCurrentIndex(box.findText(kind.said))
    box.activated.emit(box.currentIndex())
    hand.session.settle()
    assert hand.c.state.settings.of(ExportSettings).kind is kind
    hand.window.answers.save_path = str(path)
    hand.click("button.file.export")
    for _ in range(6000):
        hand.session.settle()
        if not hand.c.jobs.busy:
            break
        QTest.qWait(10)
    return path


def test_each_kind_is_written_and_read_again(winch, tmp_path):
    character = winch.session.character
    points = sum(p.mesh.vertex_count for p in character.included)
    for kind in (FileKind.GLB, FileKind.GLTF, FileKind.USD, FileKind.USD_TEXT, FileKind.USD_PACKAGE):
        # The ending comes by itself.
        exported(winch, kind, tmp_path / f"winch_{kind.name}")
        back = open_any(tmp_path / f"winch_{kind.name}{kind.ending}").require_character()
        assert len(back.skeleton.joints) == len(character.skeleton.joints)
        assert [c.name for c in back.clips] == [c.name for c in character.clips]
        assert sum(p.mesh.vertex_count for p in back.included) == points
    winch.c.store.put_setting(ExportSettings, content=Content.CHARACTER)
    for kind in (FileKind.OBJ, FileKind.PLY, FileKind.STL):
        path = exported(winch, kind, tmp_path / f"winch{kind.ending}")
        bounds = trimesh.load(path, process=False).bounds
        assert np.allclose(bounds, [character.all_points().min(axis=0), character.all_points().max(axis=0)], atol=1e-4)


def test_bvh_holds_the_clip_on_the_strip_or_a_file_for_each(winch, tmp_path):
    path = tmp_path / "turning.bvh"
    winch.c.store.put_setting(ExportSettings, which=WhichClips.STRIP)
    exported(winch, FileKind.BVH, path)
    assert not path.exists() and "on the strip first" in winch.window.frame_.note.text()
    clip = winch.session.character.clips[0]
    winch.c.player.play_source(clip.id, 0.0)
    exported(winch, FileKind.BVH, path)
    told = parse_bvh(path.name, path.read_bytes())
    assert len(told.turns) == round(clip.length * clip.rate) + 1
    winch.c.store.put_setting(ExportSettings, which=WhichClips.ALL)
    exported(winch, FileKind.BVH, tmp_path / "all.bvh")
    moving = len(winch.session.character.clips)
    assert len(list(tmp_path.glob("all*.bvh"))) == moving
    winch.card("handover.details").set_open(True)
    for name in ("handover.meshes", "handover.pictures"):
        assert not find(winch.window, QComboBox, name).isEnabled(), "what BVH has no place for cannot be chosen"


def test_a_target_fills_the_card_is_changed_and_kept(winch, tmp_path, monkeypatch):
    monkeypatch.setattr("pegloom.files.targets.targets_folder", lambda: tmp_path / "targets")
    box = find(winch.window, QComboBox, "handover.target")
    choose(winch, box, "real-time")
    how = winch.c.state.settings.of(ExportSettings)
    assert (how.influences, how.rate, how.ends, how.helpers, how.twist) == (4, 30.0, True, True, False)
    winch.c.store.put_setting(ExportSettings, face=True, unit=0.01)
    winch.window.answers.given_name = "our game"
    winch.c.actions.run("handover.keep")
    kept = known_targets(tmp_path / "targets")["our game"]
    assert JointGroup.FACE in kept.without and kept.influences == 4
    choose(winch, box, "print")
    choose(winch, box, "our game")
    assert winch.c.state.settings.of(ExportSettings).face


def test_the_proof_is_measured_shown_on_the_mesh_and_put_into_a_page(winch, tmp_path):
    winch.c.actions.run("handover.where")
    assert "Measure the export first" in winch.window.frame_.note.text()
    winch.click("button.handover.prove")
    winch.until(lambda: bool(winch.c.state.settings.of(Proved).by_vertex))
    winch.idle()
    worst = winch.c.state.settings.of(Proved).worst
    assert 0.0 <= worst < 1e-4 * winch.session.character.height
    assert "Largest difference" in winch.value("handover.result").text()
    winch.click("button.handover.where")
    winch.until(lambda: winch.c.state.viewing.lens is Lens.DELIVERED)
    winch.window.answers.save_path = str(tmp_path / "winch.html")
    winch.c.actions.run("handover.page")
    winch.until((tmp_path / "winch.html").exists)
    winch.idle()
    page = (tmp_path / "winch.html").read_text()
    assert winch.session.character.name in page and page.count("data:image/png") >= 2
    assert "http" not in page.replace("http-equiv", ""), "nothing is fetched"
