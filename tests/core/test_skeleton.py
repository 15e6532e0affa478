import numpy as np
import pytest

from pegloom.core.errors import FindError, ShapeError
from pegloom.core.geometry.mesh import triangulate
from pegloom.core.geometry.solid import make_solid
from pegloom.core.skeleton.build import build_joints, limb_bend_axis
from pegloom.core.skeleton.find.human import find_human_pegs
from pegloom.core.skeleton.human import peg_names
from pegloom.core.skeleton.joints import Joint, Side, Skeleton, other_side_name, side_of_name
from pegloom.core.skeleton.patterns import sentence
from pegloom.core.skeleton.pegs import move_peg
from tests.support.figures import LANDMARKS, as_mesh, capsule_figure, wick


@pytest.fixture(scope="module")
def found():
    mesh = as_mesh(capsule_figure())
    return mesh, find_human_pegs(mesh.points, triangulate(mesh).vertices, fingers=0)


@pytest.mark.parametrize("name", sorted(LANDMARKS))
def test_limb_pegs_are_near_where_the_figure_is_jointed(found, name):
    _, pegs = found
    gap = np.linalg.norm(np.array(pegs.position(f"l_{name}")) - LANDMARKS[name])
    assert gap < 0.04 * 1.75, f"{name} is {100 * gap:.1f} cm off"


def test_sides_are_mirrored_to_the_last_digit(found):
    _, pegs = found
    for name in peg_names(0):
        if name.startswith("l_"):
            left, right = pegs.position(name), pegs.position("r_" + name[2:])
            assert left[0] > 0
            assert np.allclose(np.array(left) * [-1, 1, 1], right, atol=2e-6)
        elif not name.startswith("r_"):
            assert pegs.position(name)[0] == 0


def test_every_peg_lies_inside_or_on_the_body(found):
    mesh, pegs = found
    solid = make_solid(mesh.points, triangulate(mesh).vertices, cell=0.015)
    outside = [p.name for p in pegs.pegs if not solid.inside(np.array([p.position]))[0]]
    assert outside == []


def test_a_missing_arm_makes_weak_pegs_not_an_error():
    mesh = as_mesh(capsule_figure(hidden_arm=True))
    pegs = find_human_pegs(mesh.points, triangulate(mesh).vertices, fingers=0)
    assert min(pegs.by_name[f"r_{n}"].confidence for n in ("elbow", "wrist")) < 0.6


def test_a_lump_is_never_called_a_sure_human():
    import trimesh

    for lump in (trimesh.creation.box(), trimesh.creation.icosphere(subdivisions=3)):
        mesh = as_mesh(lump.subdivide())
        pegs = find_human_pegs(mesh.points + [0, 1, 0], triangulate(mesh).vertices, fingers=0)
        assert max(peg.confidence for peg in pegs.pegs) < 0.5


def test_flat_and_empty_meshes_are_refused_in_words():
    flat = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0]])
    with pytest.raises(FindError, match="empty or flat"):
        find_human_pegs(flat, np.array([[0, 1, 2]]))


def test_five_fingers_are_told_apart_on_the_demo_hand():
    pegs = wick().character.pegs
    tips = [pegs.position(f"l_{f}_tip") for f in ("thumb", "index", "middle", "ring", "little")]
    depth = [tip[2] for tip in tips]
    assert depth == sorted(depth, reverse=True)
    assert min(np.diff(sorted(depth))) > 0.01


@pytest.mark.parametrize("fingers", range(6))
def test_joints_have_clean_axes(fingers):
    mesh = as_mesh(capsule_figure())
    skeleton = build_joints(find_human_pegs(mesh.points, triangulate(mesh).vertices, fingers=fingers))
    for joint in skeleton.joints:
        children = skeleton.children(joint.id)
        ends = [c.position for c in children if c.id.split(".")[0] == joint.id.split(".")[0]] or [joint.tail]
        if joint.id == "root" or ends[0] is None or len(ends) > 1:
            continue
        aim = np.array(ends[0]) - joint.position
        assert joint.matrix[:3, 1] @ aim / np.linalg.norm(aim) == pytest.approx(1, abs=1e-6), joint.name
    for limb in ("arm", "leg"):
        left = skeleton.joint(f"{limb}.l.upper").matrix
        right = skeleton.joint(f"{limb}.r.upper").matrix
        assert np.allclose(right[:3, 0], -left[:3, 0] * [-1, 1, 1], atol=1e-5), "bend axes mirror as turns do"
        assert abs(left[:3, 0] @ left[:3, 1]) < 1e-9


def test_a_straight_limb_takes_its_bend_side_from_the_pattern():
    bulge = np.array([0.0, 0.0, 1.0])
    straight = limb_bend_axis(np.array([0.0, 1, 0]), np.array([0.0, 0.5, 0]), np.zeros(3), bulge)
    bent = limb_bend_axis(np.array([0.0, 1, 0]), np.array([0.0, 0.5, 0.1]), np.zeros(3), bulge)
    assert np.allclose(straight, [1, 0, 0])
    assert np.allclose(bent, [1, 0, 0])


def test_moving_a_peg_moves_its_partner_only_when_asked(found):
    _, pegs = found
    both = move_peg(pegs, "l_elbow", (0.5, 1.4, 0.1))
    assert both.position("r_elbow") == (-0.5, 1.4, 0.1)
    one = move_peg(pegs, "l_elbow", (0.5, 1.4, 0.1), both_sides=False)
    assert one.position("r_elbow") == pegs.position("r_elbow")
    assert both.by_name["l_elbow"].by_hand


@pytest.mark.parametrize(
    ("name", "other"),
    [("l_arm", "r_arm"), ("Arm_R", "Arm_L"), ("arm.l", "arm.r"), ("LeftHand", "RightHand"), ("spine", None)],
)
def test_side_names(name, other):
    assert other_side_name(name) == other
    assert (side_of_name(name) is Side.CENTRE) == (other is None)


def test_a_skeleton_refuses_orphans_and_doubles():
    joint = Joint("a", "a", None, Side.CENTRE, (0, 0, 0))
    with pytest.raises(ShapeError, match="two joints"):
        Skeleton((joint, joint))
    with pytest.raises(ShapeError, match="comes later"):
        Skeleton((Joint("b", "b", "a", Side.CENTRE, (0, 0, 0)),))


def test_every_peg_has_a_sentence():
    assert all(sentence(name).endswith(".") for name in peg_names(5))
