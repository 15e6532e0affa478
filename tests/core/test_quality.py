"""Sections, stretch, folds and crossings around joints, on shapes whose figures are known."""

import igl
import numpy as np
import pytest
import trimesh

from pegloom.core.geometry.mesh import from_faces, place_triangles
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.crossing import crossing_faces
from pegloom.core.skin.quality import bones_at, gauge_of, measured, worst_of
from pegloom.files.project import open_project
from tests.core.test_deformers import tube
from tests.support.figures import DEMO, wick


def limb() -> Skeleton:
    return Skeleton(
        (
            Joint("upper", "upper", None, Side.CENTRE, (0.0, 0, 0)),
            Joint("lower", "lower", "upper", Side.CENTRE, (0.5, 0, 0), tail=(1.0, 0, 0)),
        )
    )


def twisted(points: np.ndarray, angle: float) -> np.ndarray:
    """The right half turned about the tube by linear blending, the middle ring half of each."""
    share = np.where(points[:, 0] > 0.5 + 1e-9, 1.0, np.where(points[:, 0] < 0.5 - 1e-9, 0.0, 0.5))
    c, s = np.cos(angle), np.sin(angle)
    turned = points @ np.array([[1, 0, 0], [0, c, s], [0, -s, c]])
    return points + share[:, None] * (turned - points)


@pytest.mark.parametrize("angle", [0.0, 1.0, 2.0, 3.0])
def test_a_collapsing_twist_shows_as_lost_girth_and_area(angle):
    mesh = tube(21, 48)
    gauge = gauge_of(mesh, limb(), "lower")
    figures = measured(mesh, gauge, twisted(mesh.points, angle))
    assert figures.girth == pytest.approx(np.cos(angle / 2), abs=0.01)
    assert figures.area == pytest.approx(np.cos(angle / 2) ** 2, abs=0.01)


def test_at_rest_everything_is_kept():
    mesh, skeleton = wick().character.parts[0].mesh, wick().character.skeleton
    for joint in ("arm.l.upper", "leg.r.lower", "spine.chest", "hand.l.index.2"):
        figures = measured(mesh, gauge_of(mesh, skeleton, joint), mesh.points)
        assert figures.girth == pytest.approx(1.0) and figures.area == pytest.approx(1.0)
        assert figures.stretch == pytest.approx(1.0) and figures.folded == 0


def test_a_section_has_the_tubes_girth_and_radius():
    mesh = tube(21, 48, radius=0.1)
    gauge = gauge_of(mesh, limb(), "lower")
    assert len(gauge.rings) == 3
    assert gauge.radius == pytest.approx(0.1, rel=0.01)
    for ring, girth, area in gauge.rings:
        assert ring.closed
        assert girth == pytest.approx(2 * np.pi * 0.1, rel=0.01)
        assert area == pytest.approx(np.pi * 0.01, rel=0.01)


def test_open_cloth_is_measured_too():
    mesh = tube(21, 48)
    # Slit open along the bottom: sections are lines, not loops.
    from pegloom.core.geometry.mesh import from_faces

    faces = mesh.corners.reshape(-1, 4)
    kept = faces[~(mesh.points[faces][:, :, 1] < -0.095).all(axis=1)]
    cloth = from_faces(mesh.points, kept)
    gauge = gauge_of(cloth, limb(), "lower")
    assert not any(ring.closed for ring, _, _ in gauge.rings)
    figures = measured(cloth, gauge, cloth.points * [1, 0.5, 0.5])
    assert figures.girth == pytest.approx(0.5, abs=0.01)
    assert figures.area is None


def test_a_joint_with_no_surface_near_has_no_gauge():
    mesh = tube()
    far = Skeleton((Joint("a", "a", None, Side.CENTRE, (5.0, 0, 0), tail=(5.1, 0, 0)),))
    assert gauge_of(mesh, far, "a") is None
    assert worst_of([]) is None


def test_two_balls_through_each_other_cross_where_igl_says():
    ball = trimesh.creation.icosphere(subdivisions=2)
    points = np.concatenate([ball.vertices, ball.vertices * 0.9 + [1.2, 0.1, 0.05]])
    n = len(ball.faces)
    triangles = np.concatenate([ball.faces, ball.faces + len(ball.vertices)])
    found = crossing_faces(points, triangles)
    expected = np.zeros(2 * n, bool)
    for i in range(n):
        for j in range(n, 2 * n):
            a, b = points[triangles[i]], points[triangles[j]]
            if (a.min(0) <= b.max(0)).all() and (b.min(0) <= a.max(0)).all():
                hit = igl.tri_tri_intersection_test_3d(*[np.ascontiguousarray(p[None]) for p in (*a, *b)])
                if hit[0] and not hit[1]:
                    expected[i] = expected[j] = True
    assert expected.sum() > 20
    assert (found == expected).all()
    assert not crossing_faces(ball.vertices, ball.faces).any()
    apart = np.concatenate([ball.vertices, ball.vertices + [3, 0, 0]])
    assert not crossing_faces(apart, triangles).any()


def test_wick_at_rest_crosses_nowhere():
    mesh = wick().character.parts[0].mesh
    from pegloom.core.geometry.mesh import weld

    assert not crossing_faces(mesh.points[weld(mesh).first], place_triangles(mesh)).any()


def test_a_strap_passing_by_has_no_girth_at_the_joint():
    """A ribbon a hand away covers little of the way round; a cape over the back does, and is measured."""

    def sheet(turn):
        across = np.linspace(-turn / 2, turn / 2, 9)
        points = [(x, 0.12 * np.cos(a), 0.12 * np.sin(a)) for x in np.linspace(0.3, 0.7, 21) for a in across]
        faces = [[r * 9 + k, r * 9 + k + 1, r * 9 + k + 10, r * 9 + k + 9] for r in range(20) for k in range(8)]
        return from_faces(points, faces)

    strap, cape = sheet(0.2), sheet(3.0)
    assert gauge_of(strap, limb(), "lower") is None
    gauge = gauge_of(cape, limb(), "lower")
    assert gauge is not None
    assert measured(cape, gauge, cape.points).girth == pytest.approx(1.0)
    assert measured(cape, gauge, cape.points * [1, 0.5, 0.5]).girth == pytest.approx(0.5, abs=0.01)


@pytest.mark.parametrize("demo", ["wick", "dumble", "harl"])
def test_every_shoulder_and_hip_has_a_section_of_its_own(demo):
    """Sunk in the trunk, a limb's first joint is measured at a section that is the limb's where there is one near."""
    character = open_project(DEMO / f"{demo}.pegloom").character
    mesh, skeleton = character.parts[0].mesh, character.skeleton
    limbs = [
        j for j in skeleton.joints if j.id.split(".")[0] in ("arm", "leg", "foreleg", "wing") and j.id.endswith("upper")
    ]
    assert len(limbs) >= 4
    for joint in limbs:
        gauge = gauge_of(mesh, skeleton, joint.id)
        assert gauge is not None, joint.name
        if demo == "wick":
            assert gauge.radius < 0.6 * bones_at(skeleton, joint.id)[2]
