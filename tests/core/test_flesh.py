"""The elastic body held against what must be: rest and rigid motion come back, turns are SciPy's, a bent limb keeps its girth."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.linalg import polar
from scipy.spatial.transform import Rotation

from pegloom.core.geometry.mesh import place_edges, place_triangles, weld
from pegloom.core.jobs import Cancelled
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.flesh.body import flesh_of
from pegloom.core.skin.flesh.elastic import _best_turn, posed_flesh
from pegloom.core.skin.measures import edge_stretch
from pegloom.core.skin.weights import dense, packed
from tests.support.figures import rigged_capsules


@pytest.fixture(scope="module")
def body():
    character = rigged_capsules().character
    part = character.parts[0]
    weights, g = character.skin.weights[part.id], weld(part.mesh)
    columns = [character.skeleton.index[j] for j in weights.joint_ids]
    points = part.mesh.points[g.first]
    return character, part, weights, columns, points, flesh_of(points, place_triangles(part.mesh), dense(weights)[g.first], character.skeleton, columns)


def matrices(character, trial):
    return skin_matrices(character.skeleton, evaluate_rig(character.skeleton, None, trial_pose(character.skeleton, trial)).joints)


def test_the_rest_and_any_rigid_motion_come_back(body):
    _, _, _, columns, points, flesh = body
    still = np.repeat(np.eye(4)[None], len(columns), axis=0)
    assert np.abs(posed_flesh(flesh, still, points) - points).max() < 1e-9
    moved = still.copy()
    moved[:, :3, :3] = Rotation.from_euler("xyz", [0.4, 1.1, -0.7]).as_matrix()
    moved[:, :3, 3] = [0.3, -0.2, 0.5]
    wanted = points @ moved[0, :3, :3].T + moved[0, :3, 3]
    assert np.abs(posed_flesh(flesh, moved, points) - wanted).max() < 1e-6


def test_turns_are_those_of_the_polar_decomposition():
    rng = np.random.default_rng(3)
    for _ in range(40):
        turn = Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix()
        stretch = rng.normal(size=(3, 3))
        a = turn @ (stretch @ stretch.T + 0.3 * np.eye(3))
        q = Rotation.from_matrix(turn @ Rotation.from_rotvec(0.4 * rng.normal(size=3)).as_matrix()).as_quat()
        _best_turn(np.ascontiguousarray(a), q, 200)
        assert np.abs(Rotation.from_quat(q).as_matrix() - polar(a)[0]).max() < 1e-6


@pytest.mark.parametrize("trial", ["arm_up", "elbow", "crouch"])
def test_flesh_stretches_less_than_plain_weights_do(body, trial):
    character, part, weights, columns, points, flesh = body
    posed = matrices(character, trial)[columns]
    g, edges = weld(part.mesh), place_edges(part.mesh)
    plain = skin_linear(part.mesh.points, packed(weights), posed)[g.first]
    soft = posed_flesh(flesh, posed, points)
    a, b = (np.quantile(edge_stretch(points, x, edges), 0.99) for x in (plain, soft))
    assert b <= a + 0.01
    # Where a bone leads alone, both agree: the body is the same figure in the same pose.
    assert np.median(np.linalg.norm(plain - soft, axis=1)) < 0.01 * character.height


def test_a_limb_beside_another_is_no_part_of_it(body):
    """An arm that is lifted takes nothing of the side along that is not joined to it by skin."""
    character, _, _, columns, points, flesh = body
    posed = matrices(character, "arm_up")[columns]
    soft = posed_flesh(flesh, posed, points)
    legs = points[:, 1] < 0.4 * points[:, 1].max()
    assert np.linalg.norm(soft[legs] - points[legs], axis=1).max() < 0.01 * character.height


def test_it_can_be_stopped(body):
    _, _, _, columns, points, flesh = body

    def stop(fraction, text):
        raise Cancelled

    with pytest.raises(Cancelled):
        posed_flesh(flesh, np.repeat(np.eye(4)[None], len(columns), axis=0), points, progress=stop)
