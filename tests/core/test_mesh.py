import numpy as np
import pytest
import trimesh

from pegloom.core.errors import ShapeError
from pegloom.core.geometry import mesh as m
from pegloom.core.geometry.solid import make_solid
from pegloom.core.geometry.split import split_vertices
from pegloom.core.geometry.standing import Direction, guess_height, guess_stance, standing_matrix
from pegloom.core.geometry.symmetry import find_plane, partners
from pegloom.core.geometry.transforms import transform_points
from tests.support.figures import as_mesh, box_limb, capsule_figure


def test_points_are_an_own_read_only_copy():
    source = np.zeros((3, 3))
    source[1, 0] = source[2, 1] = 1
    mesh = m.from_faces(source, [[0, 1, 2]])
    source[0, 0] = 9
    assert mesh.points[0, 0] == 0
    with pytest.raises(ValueError, match="read-only"):
        mesh.points[0, 0] = 1


@pytest.mark.parametrize(
    ("points", "faces"), [([[0, 0, 0]], [[0, 1, 2]]), ([[0, 0, 0]] * 3, [[0, 1]]), ([[0, 0, np.nan]] * 3, [[0, 1, 2]])]
)
def test_a_bad_mesh_is_refused(points, faces):
    with pytest.raises(ShapeError):
        m.from_faces(points, faces)


def test_triangles_of_a_closed_box_agree_with_trimesh():
    box = trimesh.creation.icosphere(subdivisions=2)
    mesh = as_mesh(box)
    assert m.is_watertight(mesh) == box.is_watertight
    ours = m.vertex_normals(mesh)
    assert np.einsum("nd,nd->n", ours, box.vertices).min() > 0.98


def test_a_concave_quad_is_cut_along_its_shorter_diagonal():
    arrow = m.from_faces([[0, 0, 0], [2, 1, 0], [0, 2, 0], [0.6, 1, 0]], [[0, 1, 2, 3]])
    tri = m.triangulate(arrow).vertices
    areas = m.triangle_normals(arrow.points, tri)[:, 2]
    assert (areas > 0).all()
    assert areas.sum() / 2 == pytest.approx(1.4)


def test_a_seam_welds_and_does_not_open_the_tube():
    seam, whole = box_limb(seam=True), box_limb()
    assert m.weld(seam).count == whole.vertex_count
    assert len(m.place_edges(seam)) == len(m.place_edges(whole))
    assert len(np.unique(m.shells(seam))) == 1


def test_splitting_at_uvs_keeps_the_first_vertices_in_order():
    quad = m.make_mesh(
        [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, 0], [2, 1, 0]],
        [0, 1, 2, 3, 1, 4, 5, 2],
        [0, 4, 8],
        uvs=[[0, 0], [0.4, 0], [0.4, 1], [0, 1], [0.5, 0], [1, 0], [1, 1], [0.5, 1]],
    )
    split = split_vertices(quad)
    assert split.vertex[:6].tolist() == [0, 1, 2, 3, 4, 5]
    assert sorted(split.vertex[6:].tolist()) == [1, 2]
    assert np.allclose(quad.points[split.vertex][split.triangles], quad.points[m.triangulate(quad).vertices])


def test_solid_of_a_sphere_has_its_volume_and_survives_a_hole():
    ball = trimesh.creation.icosphere(subdivisions=3)
    for faces in (ball.faces, ball.faces[20:]):
        solid = make_solid(np.asarray(ball.vertices), np.asarray(faces), cell=0.05)
        volume = solid.filled.sum() * 0.05**3
        assert volume == pytest.approx(4 / 3 * np.pi * 1.04**3, rel=0.08)
        assert solid.inside(np.array([[0.0, 0, 0]]))[0]
        assert not solid.inside(np.array([[0.9, 0.9, 0.9]]))[0]


def test_a_solid_is_mirrored_like_its_mesh():
    mesh = as_mesh(capsule_figure())
    solid = make_solid(mesh.points, m.triangulate(mesh).vertices, cell=0.02)
    assert (solid.filled != solid.filled[::-1]).mean() < 2e-3


@pytest.mark.parametrize("up", ["+Y", "-Y", "+Z", "-Z", "+X"])
@pytest.mark.parametrize("scale", [1.0, 100.0])
def test_stance_is_found_however_the_figure_lies(up, scale):
    points = as_mesh(capsule_figure()).points
    away = {"+Y": "+Z", "-Y": "+Z", "+Z": "-Y", "-Z": "+Y", "+X": "+Z"}[up]
    y, z = Direction(up).vector, Direction(away).vector
    turn = np.stack([np.cross(y, z), y, z], axis=1)
    laid = scale * points @ turn.T + [3.0, -2.0, 5.0]
    stance = guess_stance(laid, m.triangulate(as_mesh(capsule_figure())).vertices)
    assert (stance.up.value, stance.facing.value) == (up, away)
    matrix = standing_matrix(laid, stance.up_vector, stance.facing_vector, height=1.75, lateral_offset=-stance.symmetry.offset if sum(np.cross(y, z)) < 0 else stance.symmetry.offset)
    stood = transform_points(matrix, laid)
    assert stood[:, 1].min() == pytest.approx(0, abs=1e-9)
    assert np.ptp(stood[:, 1]) == pytest.approx(1.75)
    assert np.abs(stood - points * 1.75 / np.ptp(points[:, 1]) - [0, 0, (stood - points)[0, 2]]).max() < 0.12


def test_height_guesses():
    assert guess_height(1.8) == 1.8
    assert guess_height(172.0) == pytest.approx(1.72)
    assert guess_height(1e6) == 1.75


def test_mirror_plane_off_the_origin_and_partners():
    points = as_mesh(capsule_figure()).points + [0.4, 0, 0]
    plane = find_plane(points, 0)
    assert plane.offset == pytest.approx(0.4, abs=1e-6)
    assert plane.score > 0.95
    mesh = as_mesh(capsule_figure())
    across = partners(mesh, 0.0)
    paired = across >= 0
    assert paired.mean() > 0.9
    gap = mesh.points[across[paired]] - mesh.points[paired] * [-1, 1, 1]
    assert np.linalg.norm(gap, axis=1).max() < 2e-3 * 1.8


def test_cloth_modelled_back_to_back_has_two_sides():
    """Faces doubled the other way round at the same places: each side keeps its own normals, here and while it bends."""
    sheet = trimesh.creation.box((1, 1, 1)).subdivide()
    top = sheet.vertices[:, 2] > 0.49
    keep = top[sheet.faces].all(axis=1)
    faces = sheet.faces[keep]
    count = len(sheet.vertices)
    both = m.from_faces(np.concatenate([sheet.vertices] * 2), [*faces.tolist(), *(faces[:, ::-1] + count).tolist()])
    normals = m.vertex_normals(both)
    up, down = np.unique(faces), np.unique(faces) + count
    assert normals[up] == pytest.approx(np.tile([0, 0, 1.0], (len(up), 1)))
    assert normals[down] == pytest.approx(np.tile([0, 0, -1.0], (len(down), 1)))
    turned = both.points[:, [1, 2, 0]]
    assert m.vertex_normals(both, turned)[up] == pytest.approx(np.tile([0, 1.0, 0], (len(up), 1)))


def test_hard_edges_of_an_unwelded_box_still_share_their_normals():
    box = trimesh.creation.box((1, 1, 1))
    loose = m.from_faces(box.vertices[box.faces].reshape(-1, 3), np.arange(36).reshape(-1, 3).tolist())
    whole = m.from_faces(box.vertices, box.faces.tolist())
    assert m.vertex_normals(loose) == pytest.approx(m.vertex_normals(whole)[box.faces.ravel()])
