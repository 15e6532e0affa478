"""What gives the figure weight and form in the view: its shadow on the ground, hollows and ridges, the ground's tone."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from pegloom.core.geometry.mesh import from_faces, spots_on
from pegloom.scene.cavity import cavity
from pegloom.scene.contact import CELLS, contact_shadow
from pegloom.scene.ground import Tone, ground_picture
from tests.support.figures import as_mesh, wick


def box(lift=0.0, x=0.0):
    made = trimesh.creation.box([0.4, 1.0, 0.4])
    made.apply_translation([x, 0.5 + lift, 0.0])
    spots = spots_on(as_mesh(made), 6000)
    return spots.at(as_mesh(made).points), np.full(6000, spots.area)


def dark_at(shadow, x, z):
    """How dark the shadow is at a place on the ground."""
    low, high = shadow.corners[0], shadow.corners[2]
    i, j = (int((v - a) / (b - a) * CELLS) for v, a, b in ((z, low[2], high[2]), (x, low[0], high[0])))
    return float(shadow.alpha[i, j])


def test_a_shadow_is_dark_where_the_figure_touches_and_ends_in_nothing():
    shadow = contact_shadow(*box(), 1.0)
    assert dark_at(shadow, 0.0, 0.0) > 0.4 > dark_at(shadow, 0.3, 0.0) > 0.0
    edge = np.concatenate([shadow.alpha[0], shadow.alpha[-1], shadow.alpha[:, 0], shadow.alpha[:, -1]])
    assert edge.max() == 0.0
    np.testing.assert_allclose(shadow.alpha, shadow.alpha[::-1], atol=0.06)


@pytest.mark.parametrize("x", [-2.0, 0.7])
def test_a_shadow_goes_with_the_figure(x):
    assert dark_at(contact_shadow(*box(x=x), 1.0), x, 0.0) == pytest.approx(dark_at(contact_shadow(*box(), 1.0), 0.0, 0.0), abs=0.02)


def test_who_jumps_casts_a_lighter_shadow_and_who_flies_none():
    stands, jumps = (dark_at(contact_shadow(*box(lift=lift), 1.0), 0.0, 0.0) for lift in (0.0, 0.2))
    assert 0.0 < jumps < 0.6 * stands
    assert contact_shadow(*box(lift=1.0), 1.0) is None
    assert contact_shadow(np.zeros((0, 3)), np.zeros(0), 1.0) is None


def test_spots_are_spread_evenly_and_go_along_with_a_pose():
    made = trimesh.creation.icosphere(subdivisions=3, radius=0.7)
    spots = spots_on(as_mesh(made), 2000)
    assert 2000 * spots.area == pytest.approx(made.area)
    at = spots.at(as_mesh(made).points)
    np.testing.assert_allclose(at.mean(axis=0), 0.0, atol=0.01)
    np.testing.assert_allclose(spots.at(as_mesh(made).points + [1.0, 2.0, 3.0]), at + [1.0, 2.0, 3.0])
    assert len(spots_on(from_faces(np.zeros((3, 3)), [[0, 1, 2]]), 10).shares) == 0


def test_a_crease_is_hollow_a_ridge_is_not_and_size_does_not_matter():
    """A sheet folded into a valley beside a ridge; a ball is a ridge all over."""
    x, z = np.meshgrid(np.linspace(-1, 1, 41), np.linspace(-0.5, 0.5, 21))
    y = 0.3 * np.abs(np.abs(x) - 0.5)
    at = np.arange(x.size).reshape(x.shape)
    faces = np.stack([at[:-1, :-1], at[1:, :-1], at[1:, 1:], at[:-1, 1:]], axis=-1).reshape(-1, 4)
    for size in (1.0, 100.0):
        sheet = from_faces(size * np.stack([x, y, z], axis=-1).reshape(-1, 3), faces)
        found = cavity(sheet).reshape(x.shape)[6:-6]
        assert found[:, 10].min() > 0.15 and found[:, 30].min() > 0.15, "valleys at x = 0.5 and -0.5"
        assert found[:, 20].max() < -0.15, "the ridge at x = 0"
    ball = cavity(as_mesh(trimesh.creation.icosphere(subdivisions=3)))
    assert ball.max() < 0.0
    assert np.abs(cavity(max(wick().character.parts, key=lambda p: p.mesh.vertex_count).mesh)).max() <= 1.0


def test_tones_of_the_ground_go_from_dark_to_light_and_fade_out():
    light = [int(ground_picture(tone)[32, 32, :3].sum()) for tone in Tone]
    assert light == sorted(light) and len(set(light)) == len(light)
    picture = ground_picture(Tone.SLATE)
    assert picture[0, :, 3].max() < 12 < picture[32, 32, 3]
