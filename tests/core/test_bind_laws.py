"""Laws of the default bind's pieces: softening, easing, cutting; and what no change of the file may change."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.checks.quality import doubtful, past_limits
from pegloom.core.geometry.mesh import from_faces, place_edges, weld
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.bind.branches import Spread, Tree, Trunk
from pegloom.core.skin.bind.easing import STRETCH, eased, nearness, opening, softened
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.quality import Figures
from pegloom.core.skin.weights import dense, limited_rows
from pegloom.core.tolerances import WEIGHT_TINY
from pegloom.document.edits.weights import METHODS
from tests.support.figures import as_mesh

SEEDS = st.integers(0, 10_000)


def limb(rows=30, length=1.0, radius=0.08, sides=12):
    """A closed tube along x."""
    turn = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    points = [(length * i / rows, radius * np.cos(t), radius * np.sin(t)) for i in range(rows + 1) for t in turn]
    faces = []
    for i in range(rows):
        for k in range(sides):
            a, b = i * sides + k, i * sides + (k + 1) % sides
            faces += [(a, b, b + sides), (a, b + sides, a + sides)]
    for end, first in ((0, 0), (1, rows * sides)):
        points.append((length * end, 0.0, 0.0))
        ring = [(first + k, first + (k + 1) % sides) for k in range(sides)]
        faces += [(len(points) - 1, b, a) if end == 0 else (len(points) - 1, a, b) for a, b in ring]
    return from_faces(np.array(points), np.array(faces))


def bones(*places):
    return Skeleton(
        tuple(
            Joint(f"j{k}", f"joint {k}", f"j{k - 1}" if k else None, Side.CENTRE, tuple(float(v) for v in place))
            for k, place in enumerate(places)
        )
    )


@settings(max_examples=40)
@given(SEEDS, st.integers(1, 5), st.sets(st.integers(0, 5), max_size=3))
def test_cutting_rows_leaves_locked_columns_to_the_last_digit(seed, influences, locked):
    rng = np.random.default_rng(seed)
    rows = rng.dirichlet(np.full(6, 0.3), 60)
    rows[0] = [1.0, 0, 0, 0, 0, 0]
    lock = np.array([k in locked for k in range(6)])
    made = limited_rows(rows, None, locked=lock)
    if lock.any():
        assert np.array_equal(made[:, lock], rows[:, lock])
    assert made.sum(axis=1) == pytest.approx(1.0)
    free = made[:, ~lock]
    held = rows[:, lock].sum(axis=1) < 1 - 6 * WEIGHT_TINY
    assert (free[held & (free.max(axis=1, initial=0.0) > 0)] >= 0).all()
    few = limited_rows(rows, influences)
    assert ((few > 0).sum(axis=1) <= influences).all()
    assert few[few > 0].min() >= WEIGHT_TINY


@settings(max_examples=30)
@given(SEEDS, st.floats(1e-3, 10.0), st.integers(1, 6))
def test_softening_keeps_rows_whole_and_makes_nothing_new(seed, scale, passes):
    mesh = limb(rows=12)
    count = weld(mesh).count
    near = nearness(mesh, np.full(count, scale))
    total = np.asarray(near.sum(axis=1)).ravel()
    assert total.max() <= 1.0 + 1e-12 and near.data.min() >= 0.0
    rows = np.random.default_rng(seed).dirichlet(np.ones(4), count)
    made = softened(rows, near, passes)
    assert made.sum(axis=1) == pytest.approx(1.0)
    assert made.min() >= rows.min() - 1e-12 and made.max() <= rows.max() + 1e-12


def test_softening_reaches_as_far_on_a_fine_mesh_as_its_edges_and_on_a_coarse_one_not_at_all():
    """One weight of 1 in the middle: what a pass gives away falls with the edges' length, down to nothing."""
    kept = []
    for rows in (80, 20, 5, 2):
        mesh = limb(rows=rows, length=2.0, radius=0.02)
        count = weld(mesh).count
        values = (mesh.points[weld(mesh).first][:, 0] > 1.0)[:, None].astype(float)
        made = softened(np.hstack([values, 1 - values]), nearness(mesh, np.full(count, 0.02)), 4)
        kept.append(float(np.abs(made[:, 0] - values[:, 0]).max()))
    assert kept == sorted(kept, reverse=True)
    assert kept[0] > 0.05 and kept[-1] < 0.01
    mesh = limb(rows=2, length=2.0, radius=0.02)
    assert nearness(mesh).sum(axis=1) == pytest.approx(1.0), "without a scale all neighbours count alike"


def test_easing_closes_what_would_tear_and_leaves_the_rest():
    mesh = limb(rows=60)
    g = weld(mesh)
    places, ends = mesh.points[g.first], place_edges(mesh)
    skeleton = bones((0, 0, 0), (0.5, 0, 0), (1.0, 0, 0))
    tree = Tree(skeleton, [0, 1, 2])
    past = places[:, 0] > 0.65
    values = np.zeros((g.count, 3))
    values[:, 1] = past
    values[:, 0] = ~past
    distance, radius = np.full((g.count, 3), 0.08), np.full(3, 0.08)
    follow = np.array([[1.0, 0, 0], [1, 1, 0], [1, 1, 1]])
    torn = opening(values @ follow, places, skeleton.positions, ends)
    assert torn.max() > 4.0
    trunk, spread = Trunk(distance, radius, tree), Spread(values, distance, radius, np.zeros(g.count), tree)
    made = eased(values, mesh, skeleton.positions, trunk, spread, 4)
    assert opening(made @ follow, places, skeleton.positions, ends).max() <= STRETCH + 1e-9
    assert made.sum(axis=1) == pytest.approx(1.0)
    far = np.abs(places[:, 0] - 0.65) > 0.2
    assert made[far] == pytest.approx(values[far], abs=1e-3)
    again = eased(made, mesh, skeleton.positions, trunk, spread, 4)
    assert again == pytest.approx(made)


@pytest.fixture(scope="module")
def plain():
    """A tube with a side branch, its skeleton, and the weights of it."""
    trunk = limb(rows=30, length=1.2)
    side = trimesh.creation.capsule(height=0.6, radius=0.05, count=[12, 12])
    side.apply_translation([0.6, 0.0, 0.05])
    first = trimesh.Trimesh(trunk.points, np.array(trunk.corners).reshape(-1, 3), process=False)
    mesh = as_mesh(trimesh.util.concatenate([first, side]))
    skeleton = Skeleton((
        *bones((0.05, 0, 0), (0.4, 0, 0), (0.8, 0, 0), (1.15, 0, 0)).joints,
        Joint("side", "side", "j1", Side.CENTRE, (0.6, 0.0, 0.1)),
        Joint("tip", "tip", "side", Side.CENTRE, (0.6, 0.0, 0.55)),
    ))  # fmt: skip
    return mesh, skeleton, bound(mesh, skeleton)


def bound(mesh, skeleton):
    weights = METHODS[BindMethod.SEGMENT](mesh, skeleton, body_solid([mesh]))
    assert set(weights.joint_ids) <= {j.id for j in skeleton.joints}
    return {joint: weights.column(joint) for joint in (j.id for j in skeleton.joints)}, dense(weights)


def moved(skeleton, change):
    return Skeleton(tuple(replace(j, position=tuple(change(np.array(j.position)))) for j in skeleton.joints))


@pytest.mark.parametrize("scale", [0.01, 100.0])
def test_units_change_no_weight(plain, scale):
    mesh, skeleton, (before, _) = plain
    grown = from_faces(mesh.points * scale, np.array(mesh.corners).reshape(-1, 3))
    after, _ = bound(grown, moved(skeleton, lambda p: p * scale))
    for joint, column in before.items():
        assert np.abs(after[joint] - column).max() < 0.01, joint


def test_where_it_stands_changes_no_weight(plain):
    mesh, skeleton, (before, _) = plain
    step = np.array([3.0, -2.0, 7.0])
    there = from_faces(mesh.points + step, np.array(mesh.corners).reshape(-1, 3))
    after, _ = bound(there, moved(skeleton, lambda p: p + step))
    for joint, column in before.items():
        assert np.abs(after[joint] - column).max() < 0.01, joint


def test_the_order_of_vertices_and_faces_changes_no_weight(plain):
    mesh, skeleton, (before, _) = plain
    rng = np.random.default_rng(5)
    order = rng.permutation(mesh.vertex_count)
    back = np.argsort(order)
    faces = back[np.array(mesh.corners).reshape(-1, 3)]
    mixed = from_faces(mesh.points[order], faces[rng.permutation(len(faces))])
    after, _ = bound(mixed, skeleton)
    for joint, column in before.items():
        assert np.abs(after[joint] - column[order]).max() < 1e-9, joint


def test_the_order_of_joints_changes_no_weight(plain):
    mesh, skeleton, (before, _) = plain
    joints = skeleton.joints
    after, _ = bound(mesh, Skeleton((joints[0], joints[1], joints[4], joints[5], joints[2], joints[3])))
    for joint, column in before.items():
        assert np.abs(after[joint] - column).max() < 1e-6, joint


@settings(max_examples=60)
@given(st.floats(0.05, 1.5), st.floats(0.05, 1.5), st.floats(1.0, 6.0), st.floats(1.01, 1.5))
def test_figures_are_farther_past_their_limits_the_worse_they_are(girth, area, stretch, worse):
    skeleton = bones((0, 0, 0), (1, 0, 0))
    one = past_limits(skeleton, "j0", Figures(girth, area, stretch, 0))
    for figures in (
        Figures(girth / worse, area, stretch, 0),
        Figures(girth, area / worse, stretch, 0),
        Figures(girth, area, stretch * worse, 0),
    ):
        assert past_limits(skeleton, "j0", figures) >= one
    assert doubtful(skeleton, "j0", Figures(girth, area, stretch, 0)) == (one > 1.0)
    assert past_limits(skeleton, "j0", Figures(1.0, 1.0, 1.0, 0)) <= 1.0
    assert past_limits(skeleton, "j0", Figures(None, None, 1.0, 3)) <= 1.0
