"""Meshes mended, cut, subdivided and read by others."""

import igl
import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.geometry.mend import (
    drop_doubles,
    drop_loose,
    insert_row,
    inward_faces,
    joined,
    split_by_shell,
    turn_faces,
    turn_outward,
    weld_vertices,
)
from pegloom.core.geometry.mesh import from_faces, is_watertight, make_mesh, triangulate
from pegloom.core.geometry.slices import area_and_centre, cut, section_at
from pegloom.core.geometry.subdivide import catmull_clark, loop
from pegloom.core.skin.transfer import nearest_on, transfer_weights
from pegloom.core.skin.weights import dense, row_sums_hold
from tests.support.figures import as_mesh, box_limb, wick


def test_weld_joins_a_seam_and_carries_what_hangs_on_it():
    mesh = box_limb(rows=6, seam=True)
    made, carry = weld_vertices(mesh)
    assert made.vertex_count == mesh.vertex_count - 7
    assert np.allclose(carry @ mesh.points, made.points)
    assert made.face_count == mesh.face_count


def test_loose_and_doubled_things_go():
    points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [5, 5, 5], [2, 0, 0]]
    mesh = from_faces(points, [[0, 1, 2], [1, 2, 0], [0, 1, 4]])
    made, _ = drop_doubles(mesh)
    assert made.face_count == 1, "the double and the flat face go"
    less, carry = drop_loose(made)
    assert less.vertex_count == 3
    assert carry.shape == (3, 5)


@given(st.integers(0, 10_000))
@settings(max_examples=20)
def test_turned_faces_are_found_whatever_was_turned(seed):
    ball = as_mesh(trimesh.creation.icosphere(subdivisions=2))
    wrong = np.random.default_rng(seed).random(ball.face_count) < 0.4
    assert (inward_faces(turn_faces(ball, wrong)[0]) == wrong).all()
    whole = turn_outward(turn_faces(ball, wrong)[0])[0]
    assert not inward_faces(whole).any()


@pytest.mark.parametrize("at", [0.21, 0.5, 0.733])
def test_an_edge_row_lies_on_the_surface_it_cuts(at):
    mesh = box_limb(rows=4)
    uvs = mesh.points[mesh.corners][:, :2]
    mesh = make_mesh(mesh.points, mesh.corners, mesh.starts, uvs=uvs)
    if abs(at * 4 - round(at * 4)) < 0.01:
        assert insert_row(mesh, np.array([at, 0, 0]), np.array([1.0, 0, 0])) is None
        return
    made, carry = insert_row(mesh, np.array([at, 0.0, 0.0]), np.array([1.0, 0.0, 0.0]))
    assert made.vertex_count == mesh.vertex_count + 4
    assert made.face_count == mesh.face_count + 4
    assert np.allclose(made.points[-4:, 0], at)
    assert np.allclose(np.asarray(carry.sum(axis=1)).ravel(), 1.0)
    assert np.allclose(made.uvs, made.points[made.corners][:, :2])
    assert set(np.diff(made.starts)) == {4}


def test_a_row_goes_round_one_limb_only():
    character = wick().character
    mesh = character.parts[0].mesh
    knee = np.array(character.pegs.position("l_knee")) + [0, 0.006, 0]
    made, _ = insert_row(mesh, knee, np.array([0.0, 1.0, 0.0]))
    new = made.points[mesh.vertex_count :]
    assert (new[:, 0] > 0).all(), "the other leg is left alone"
    assert np.allclose(new[:, 1], knee[1], atol=1e-6)
    assert is_watertight(made)


def test_shells_part_and_join_again():
    two = trimesh.util.concatenate([trimesh.creation.box(), trimesh.creation.box().apply_translation([3, 0, 0])])
    pieces = split_by_shell(as_mesh(two))
    assert [p.face_count for p, _ in pieces] == [12, 12]
    assert joined([p for p, _ in pieces]).vertex_count == 16


def test_subdivision_agrees_with_libigl():
    # Six faces round every vertex: there all published weights for the vertex agree.
    made = trimesh.creation.torus(1.0, 0.4, major_sections=12, minor_sections=8)
    mesh = as_mesh(made)
    ours = loop(mesh, 2)
    v, f = np.array(made.vertices, dtype=np.float64), np.array(made.faces, dtype=np.int64)
    theirs, _ = igl.loop(v, f, 2)
    assert ours.mesh.vertex_count == len(theirs)
    distance = nearest_on(theirs, ours.mesh.points, triangulate(ours.mesh).vertices).distance
    assert distance.max() < 1e-9
    assert np.allclose(np.asarray(ours.matrix.sum(axis=1)).ravel(), 1.0)


def test_a_cube_becomes_round_and_a_sheet_keeps_its_border():
    cube = from_faces(
        [[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)],
        [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]],
    )
    once = catmull_clark(cube, 1)
    # Catmull and Clark 1978: a corner of a cube goes to 5/9 of its place.
    assert np.allclose(np.abs(once.mesh.points[:8]), 5 / 9)
    assert is_watertight(once.mesh)
    grid = from_faces(
        [[i, j, 0] for i in range(4) for j in range(4)],
        [[4 * i + j, 4 * i + j + 1, 4 * i + j + 5, 4 * i + j + 4] for i in range(3) for j in range(3)],
    )
    flat = catmull_clark(grid, 2)
    assert np.allclose(flat.mesh.points[:, 2], 0)
    assert flat.mesh.points[:, :2].max() <= 3 + 1e-12
    moved = flat.matrix @ (grid.points + [0, 0, 2])
    assert np.allclose(moved, flat.mesh.points + [0, 0, 2]), "the same matrix smooths any pose"


def test_a_cut_has_the_area_geometry_says():
    ball = as_mesh(trimesh.creation.icosphere(subdivisions=4))
    tri = triangulate(ball).vertices
    for height in (0.0, 0.5, -0.7):
        (outline,) = cut(ball.points, tri, np.array([0, height, 0]), np.array([0.0, 1.0, 0.0]))
        assert outline.closed
        area, _ = area_and_centre(outline.points[:, [0, 2]])
        assert abs(area) == pytest.approx(np.pi * (1 - height**2), rel=0.01)
    section = section_at(ball.points, tri, np.array([0.2, 0.0, 0.1]), np.array([0.0, 1.0, 0.0]))
    assert section.holds
    assert np.allclose(section.centre, 0, atol=0.01)
    assert section.span(np.zeros(3), np.array([1.0, 0, 0])) == pytest.approx((-1.0, 1.0), abs=0.01)
    assert section_at(ball.points, tri, np.array([0.0, 5, 0]), np.array([0.0, 1.0, 0.0])) is None


def test_weights_are_read_from_the_nearest_surface():
    character = wick().character
    mesh, weights = character.parts[0].mesh, character.skin.weights["part0"]
    same, report = transfer_weights(mesh, weights, mesh)
    assert report.far == 0
    assert np.abs(dense(same) - dense(weights)).max() < 1e-3
    fine, _ = transfer_weights(mesh, weights, catmull_clark(mesh, 1).mesh, influences=4)
    assert row_sums_hold(fine)
    away = make_mesh(mesh.points + [0, 0, 3], mesh.corners, mesh.starts)
    assert transfer_weights(mesh, weights, away)[1].far > 0.99 * mesh.vertex_count
