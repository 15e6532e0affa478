import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pegloom.core.geometry import transforms as t

angles = st.tuples(*[st.floats(-3.0, 3.0)] * 3)


@given(angles)
def test_euler_angles_agree_with_scipy(turn):
    ours = t.rotation_matrix(t.euler_quaternion(turn))
    assert np.allclose(ours, Rotation.from_euler("xyz", turn).as_matrix(), atol=1e-12)


@given(angles)
def test_euler_angles_come_back_as_the_same_turn(turn):
    q = t.euler_quaternion(turn)
    again = t.euler_quaternion(t.quaternion_euler(q))
    assert abs(abs(q @ again) - 1) < 1e-9


@given(angles, angles)
def test_quaternion_product_is_matrix_product(a, b):
    qa, qb = t.euler_quaternion(a), t.euler_quaternion(b)
    both = t.rotation_matrix(t.quaternion_product(qa, qb))
    assert np.allclose(both, t.rotation_matrix(qa) @ t.rotation_matrix(qb), atol=1e-12)


@given(angles)
def test_matrix_and_quaternion_agree(turn):
    matrix = Rotation.from_euler("xyz", turn).as_matrix()
    assert np.allclose(t.rotation_matrix(t.matrix_quaternion(matrix)), matrix, atol=1e-9)


def test_decompose_undoes_compose_and_tells_a_mirror():
    q = t.euler_quaternion([0.3, -1.0, 2.0])
    position, turn, scale = t.decompose(t.compose([1, 2, 3], q, [2, 3, 4]))
    assert np.allclose(position, [1, 2, 3])
    assert np.allclose(scale, [2, 3, 4])
    assert abs(abs(turn @ q) - 1) < 1e-12
    assert t.decompose(np.diag([-1.0, 1, 1, 1]))[2][0] == pytest.approx(-1)


def test_between_opposite_directions_is_half_a_turn():
    q = t.quaternion_between([0, 1, 0], [0, -1, 0])
    assert np.allclose(t.rotation_matrix(q) @ [0, 1, 0], [0, -1, 0], atol=1e-9)


def test_slerp_agrees_with_scipy():
    from scipy.spatial.transform import Slerp

    a, b = t.euler_quaternion([0.2, 0.1, -0.4]), t.euler_quaternion([1.2, -0.6, 0.9])
    for amount in (0.0, 0.25, 0.7, 1.0):
        wanted = Slerp([0, 1], Rotation.from_quat([a, b]))(amount).as_quat()
        assert abs(abs(t.slerp(a, b, amount) @ wanted) - 1) < 1e-12


def test_many_matrices_at_once_are_each_by_itself():
    rng = np.random.default_rng(2)
    matrices = []
    for k in range(60):
        q = rng.normal(size=4) if k else np.array([0.0, 1.0, 0.0, 0.0])
        scale = np.exp(rng.normal(scale=0.4, size=3)) * ([-1, 1, 1] if k % 5 == 0 else [1, 1, 1])
        matrices.append(t.compose(rng.normal(size=3), t.normalised(q), scale))
    many = t.decomposed(np.array(matrices))
    for k, matrix in enumerate(matrices):
        for a, b in zip(t.decompose(matrix), many, strict=True):
            assert np.allclose(a, b[k], atol=1e-12)
    assert np.allclose(t.composed(*many), matrices, atol=1e-9)
