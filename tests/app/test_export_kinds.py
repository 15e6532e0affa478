"""Every kind of file that Handover writes, from the real window, read back."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox

from pegloom.app.areas.handover.settings import ExportSettings, FileKind
from pegloom.app.state.state import Area
from pegloom.files.bvh import parse_bvh
from pegloom.files.opening import open_any
from tests.app.conftest import find
from tests.support.figures import shipped


@pytest.fixture
def winch(hand):
    hand.session.start_with(shipped("winch"), None)
    hand.session.go(Area.HANDOVER)
    return hand


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
    for kind in (FileKind.GLB, FileKind.USD, FileKind.USD_TEXT, FileKind.USD_PACKAGE):
        # The ending comes by itself.
        exported(winch, kind, tmp_path / f"winch_{kind.name}")
        back = open_any(tmp_path / f"winch_{kind.name}{kind.ending}").require_character()
        assert len(back.skeleton.joints) == len(character.skeleton.joints)
        assert [c.name for c in back.clips] == [c.name for c in character.clips]
        assert sum(p.mesh.vertex_count for p in back.included) == points
    for kind in (FileKind.OBJ, FileKind.PLY, FileKind.STL):
        path = exported(winch, kind, tmp_path / f"winch{kind.ending}")
        bounds = trimesh.load(path, process=False).bounds
        assert np.allclose(bounds, [character.all_points().min(axis=0), character.all_points().max(axis=0)], atol=1e-4)


def test_bvh_wants_a_clip_on_the_strip(winch, tmp_path):
    path = tmp_path / "turning.bvh"
    exported(winch, FileKind.BVH, path)
    assert not path.exists()
    clip = winch.session.character.clips[0]
    winch.c.player.play_source(clip.id, 0.0)
    exported(winch, FileKind.BVH, path)
    told = parse_bvh(path.name, path.read_bytes())
    assert len(told.turns) == round(clip.length * clip.rate) + 1
    for name in ("handover.names", "handover.joints"):
        assert not find(winch.window, QComboBox, name).isEnabled(), "what BVH has no place for cannot be chosen"
