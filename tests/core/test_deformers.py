"""Dual quaternions, surface relax, the bake into plain weights: held against closed forms and SciPy."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import nnls
from scipy.spatial.transform import Rotation, Slerp

from pegloom.core.errors import ShapeError
from pegloom.core.geometry.mesh import make_mesh, weld
from pegloom.core.jobs import Cancelled
from pegloom.core.skin.bake import bake_weights
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.dual import rigid_parts, skin_dual
from pegloom.core.skin.relax import Relax, relaxed
from pegloom.core.skin.weights import Packed, dense, from_dense, most_influences, packed, row_sums_hold
from tests.support.figures import box_limb, wick


def rigid(seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    matrix = np.eye(4)
    matrix[:3, :3] = Rotation.random(random_state=seed).as_matrix()
    matrix[:3, 3] = rng.normal(size=3)
    return matrix


def tube(rows: int = 21, around: int = 16, length: float = 1.0, radius: float = 0.1):
    """A tube along x, open at both ends, as quads."""
    t = np.arange(around) / around * 2 * np.pi
    ring = np.stack([np.zeros(around), radius * np.cos(t), radius * np.sin(t)], axis=1)
    points = np.concatenate([ring + [x, 0, 0] for x in np.linspace(0, length, rows)])
    faces = [
        [i * around + k, i * around + (k + 1) % around, (i + 1) * around + (k + 1) % around, (i + 1) * around + k]
        for i in range(rows - 1)
        for k in range(around)
    ]
    return make_mesh(points, np.array(faces).ravel(), np.arange(0, 4 * len(faces) + 1, 4))


@given(st.integers(0, 10_000))
@settings(max_examples=30)
def test_one_joint_moves_points_alike_whatever_the_blend(seed):
    points = np.random.default_rng(seed).normal(size=(20, 3))
    matrix = rigid(seed)
    matrix[:3, :3] *= 1.0 + 0.5 * (seed % 3)
    skin = Packed(np.zeros((20, 1), np.int32), np.ones((20, 1)))
    linear = skin_linear(points, skin, matrix[None])
    for share in (0.0, 0.4, 1.0):
        assert np.allclose(skin_dual(points, skin, matrix[None], np.full(20, share)), linear, atol=1e-9)


@given(st.floats(-3.0, 3.0), st.floats(0.0, 1.0))
def test_a_twist_keeps_its_radius_with_dual_quaternions_only(angle, share):
    turned = np.eye(4)
    turned[:3, :3] = Rotation.from_rotvec([angle, 0, 0]).as_matrix()
    skin = Packed(np.array([[0, 1]], np.int32), np.array([[0.5, 0.5]]))
    point, matrices = np.array([[0.3, 1.0, 0.0]]), np.stack([np.eye(4), turned])
    dual = skin_dual(point, skin, matrices, np.ones(1))[0]
    assert np.linalg.norm(dual[1:]) == pytest.approx(1.0, abs=1e-9)
    half = Slerp([0, 1], Rotation.from_rotvec([[0, 0, 0], [angle, 0, 0]]))([0.5])
    assert np.allclose(dual, half.apply(point)[0], atol=1e-9)
    linear = skin_dual(point, skin, matrices, np.zeros(1))[0]
    assert np.linalg.norm(linear[1:]) == pytest.approx(abs(np.cos(angle / 2)), abs=1e-9)
    mixed = skin_dual(point, skin, matrices, np.array([share]))[0]
    assert np.allclose(mixed, linear + share * (dual - linear), atol=1e-12)


def test_a_turn_told_by_either_quaternion_is_the_same():
    # Two turns of 170 degrees about nearly opposite axes: their quaternions point away from each other.
    a, b = (Rotation.from_rotvec(v).as_matrix() for v in ([2.96, 0, 0], [-2.96, 0.02, 0]))
    matrices = np.tile(np.eye(4), (2, 1, 1))
    matrices[0, :3, :3], matrices[1, :3, :3] = a, b
    skin = Packed(np.array([[0, 1]], np.int32), np.array([[0.6, 0.4]]))
    point = np.array([[0.0, 1.0, 0.0]])
    blended = skin_dual(point, skin, matrices, np.ones(1))[0]
    # The short way between them: still close to both of the places the joints alone would give.
    for matrix in (a, b):
        assert np.linalg.norm(blended - matrix @ point[0]) < 0.4


def test_stretch_is_parted_from_the_turn():
    matrix = rigid(3)
    matrix[:3, :3] = matrix[:3, :3] @ np.diag([1.0, 2.0, 0.5])
    turns, _, stretch = rigid_parts(matrix[None])
    assert np.allclose(stretch[0], np.diag([1.0, 2.0, 0.5]), atol=1e-12)
    assert np.allclose(Rotation.from_quat(turns[0]).as_matrix() @ stretch[0], matrix[:3, :3], atol=1e-12)
    with pytest.raises(ShapeError):
        skin_dual(np.zeros((2, 3)), Packed(np.zeros((1, 1), np.int32), np.ones((1, 1))), matrix[None], np.zeros(2))


@given(st.integers(0, 1000))
@settings(max_examples=20)
def test_relax_leaves_a_rigid_motion_alone(seed):
    mesh = box_limb(9)
    matrix = rigid(seed)
    moved = mesh.points @ matrix[:3, :3].T + matrix[:3, 3]
    assert np.allclose(relaxed(mesh, Relax(10, 1.0), moved), moved, atol=1e-9)


def test_relax_takes_out_noise_and_not_shape():
    mesh = tube(31, 24)
    noise = np.random.default_rng(1).normal(scale=0.004, size=mesh.points.shape)
    before = np.linalg.norm(noise)
    after = np.linalg.norm(relaxed(mesh, Relax(12, 1.0), mesh.points + noise) - mesh.points)
    assert after < 0.45 * before
    half = np.linalg.norm(relaxed(mesh, Relax(12, 0.5), mesh.points + noise) - mesh.points)
    assert after < half < before
    mask = np.zeros(mesh.vertex_count)
    mask[:24] = 1.0
    held = relaxed(mesh, Relax(12, 1.0, mask), mesh.points + noise)
    assert (held[24:] == (mesh.points + noise)[24:]).all()
    assert (held[:24] != (mesh.points + noise)[:24]).any()
    # Nothing to do: not touched at all.
    assert relaxed(mesh, Relax(12, 0.0), noise) is noise


def test_an_open_rim_keeps_its_length_under_relax():
    mesh = tube(15, 20)
    bent = mesh.points + [0, 0.2, 0] * (mesh.points[:, :1] ** 2)
    out = relaxed(mesh, Relax(20, 1.0), bent)
    # Smoothed like any other place, the rim would creep in by more than an edge (0.07) in twenty steps.
    ends = out[:, 0].min(), out[:, 0].max()
    assert ends[0] == pytest.approx(0.0, abs=0.02) and ends[1] == pytest.approx(1.0, abs=0.02)


def test_relax_keeps_seams_closed():
    mesh = box_limb(11, seam=True)
    g = weld(mesh)
    assert g.count < mesh.vertex_count
    noise = np.random.default_rng(2).normal(scale=0.01, size=(g.count, 3))[g.group]
    out = relaxed(mesh, Relax(), mesh.points + noise)
    assert np.allclose(out, out[g.first][g.group], atol=1e-12)


def three_joint_poses(count: int):
    for k in range(count):
        matrices = np.stack([np.eye(4), rigid(3 * k + 1), rigid(3 * k + 2)])
        matrices[:, :3, 3] *= 0.3
        yield matrices


def test_a_bake_finds_the_weights_that_made_the_motion():
    mesh = box_limb(15)
    x, y = mesh.points[:, 0], mesh.points[:, 1]
    true = np.stack([1.2 - x, 0.2 + x * x, np.clip(x + 3 * y - 0.6, 0, None)], axis=1)
    wanted = from_dense(true[weld(mesh).first][weld(mesh).group], ("a", "b", "c"))
    start = from_dense(np.ones((mesh.vertex_count, 3)), ("a", "b", "c"))
    poses = [(m, skin_linear(mesh.points, packed(wanted), m)) for m in three_joint_poses(8)]
    baked = bake_weights(mesh, start, poses, len(poses), influences=3)
    assert np.abs(dense(baked.weights) - dense(wanted)).max() < 5e-3
    assert baked.error.max() < 1e-3 < baked.error_before.max()
    seen = [skin_linear(mesh.points, packed(baked.weights), m) - x for m, x in poses]
    assert np.allclose(np.sqrt((np.linalg.norm(seen, axis=2) ** 2).mean(axis=0)), baked.error, atol=1e-6)


def test_a_bake_is_as_good_as_scipys_least_squares():
    mesh = box_limb(7)
    rng = np.random.default_rng(5)
    start = from_dense(np.ones((mesh.vertex_count, 3)), ("a", "b", "c"))
    poses = [(m, mesh.points + rng.normal(scale=0.1, size=mesh.points.shape)) for m in three_joint_poses(6)]
    g = weld(mesh)
    poses = [(m, x[g.first][g.group]) for m, x in poses]
    baked = bake_weights(mesh, start, poses, len(poses), influences=3)
    for v in range(0, mesh.vertex_count, 5):
        p = np.append(mesh.points[v], 1.0)
        rows = np.concatenate([np.stack([(m[j] @ p)[:3] - x[v] for j in range(3)], axis=1) for m, x in poses])
        # The sum held at 1 by a row of great weight.
        solved, _ = nnls(np.vstack([rows, np.full((1, 3), 1e4)]), np.append(np.zeros(len(rows)), 1e4))
        best = np.sqrt(np.sum((rows @ (solved / solved.sum())) ** 2) / len(poses))
        assert baked.error[v] == pytest.approx(best, rel=2e-3)


@given(st.integers(1, 3))
@settings(max_examples=3)
def test_a_bake_keeps_the_limit_the_seams_and_makes_nothing_worse(influences):
    mesh = box_limb(11, seam=True)
    rng = np.random.default_rng(6)
    g = weld(mesh)
    start = from_dense(rng.random((g.count, 3))[g.group], ("a", "b", "c"), influences=influences)
    poses = [(m, relaxed(mesh, Relax(6), skin_linear(mesh.points, packed(start), m))) for m in three_joint_poses(5)]
    baked = bake_weights(mesh, start, poses, len(poses), influences=influences, spread=6)
    assert row_sums_hold(baked.weights) and most_influences(baked.weights) <= influences
    rows = dense(baked.weights)
    assert np.allclose(rows, rows[g.first][g.group], atol=1e-12)
    assert (baked.error <= baked.error_before + 1e-6).all()


def test_a_bake_can_be_cancelled():
    mesh, start = box_limb(5), None
    start = from_dense(np.ones((mesh.vertex_count, 3)), ("a", "b", "c"))

    def stop(share: float, text: str) -> None:
        raise Cancelled

    with pytest.raises(Cancelled):
        bake_weights(mesh, start, ((m, mesh.points) for m in three_joint_poses(3)), 3, influences=2, progress=stop)


def test_relax_on_wick_is_still_at_rest():
    mesh = wick().character.parts[0].mesh
    assert np.abs(relaxed(mesh, Relax(), mesh.points) - mesh.points).max() < 1e-9
