"""Proper depth, the slice window's cuts, and clean axes: laws that hold wherever a peg or a joint stands."""

from functools import lru_cache

import igl
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pegloom.core.skeleton.axes import crooked_axes
from pegloom.core.skeleton.depth import depth_moves
from pegloom.document import edits
from pegloom.document.edits.joints import surface_of
from pegloom.scene.slicing import slice_joint, slice_peg
from tests.support.figures import as_mesh, document_of, human, rigged_capsules, unrigged_wick, wick

LIMBS = ("l_elbow", "l_knee", "l_wrist", "l_ankle")


@lru_cache(maxsize=1)
def standing():
    made, _ = human(down=0.7)
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    return edits.set_pegs(document, edits.find_pegs(document, fingers=0))


def bend_of(pegs, first, middle, last):
    a, b, c = (np.array(pegs.position(p)) for p in (first, middle, last))
    u, v = (b - a) / np.linalg.norm(b - a), (c - b) / np.linalg.norm(c - b)
    return float(np.arccos(np.clip(u @ v, -1, 1)))


@settings(max_examples=12)
@given(st.sampled_from(LIMBS), st.floats(0.03, 0.08), st.floats(0, 2 * np.pi))
def test_a_peg_pushed_out_is_called_back_inside_and_then_left_alone(name, out, turn):
    document = standing()
    pegs = document.character.pegs
    away = out * np.array([np.cos(turn), 0.0, np.sin(turn)])
    pushed = edits.place_peg(document, name, tuple(np.array(pegs.position(name)) + away), both_sides=False)
    points, triangles = surface_of(pushed.character)
    moves = {m.peg: m for m in depth_moves(points, triangles, pushed.character.pegs, names=(name,))}
    assert name in moves, "far from where it belongs"
    winding = igl.fast_winding_number(points, triangles, np.array([moves[name].place]))
    assert abs(float(winding[0])) > 0.5, "where it is called to is inside"
    # The cut turns with the limb, so a second press may move it once more, and then no more.
    steps = []
    for _ in range(5):
        pushed = edits.place_peg(pushed, name, tuple(moves[name].place), both_sides=False)
        moves = {m.peg: m for m in depth_moves(points, triangles, pushed.character.pegs, names=(name,))}
        steps.append(moves[name].distance if name in moves else 0.0)
        if not moves:
            break
    assert steps[-1] < 0.006, steps


@settings(max_examples=10)
@given(st.floats(0.04, 0.09))
def test_centring_never_straightens_a_limb_that_bends(ahead):
    document = standing()
    x, y, z = document.character.pegs.position("l_knee")
    bent = edits.place_peg(document, "l_knee", (x, y, z + ahead))
    before = bend_of(bent.character.pegs, "l_hip", "l_knee", "l_ankle")
    points, triangles = surface_of(bent.character)
    for move in depth_moves(points, triangles, bent.character.pegs, names=("l_knee",)):
        bent = edits.place_peg(bent, "l_knee", tuple(move.place))
    after = bend_of(bent.character.pegs, "l_hip", "l_knee", "l_ankle")
    assert after >= min(before, np.radians(2.0)) - 1e-6
    knee, hip, ankle = (np.array(bent.character.pegs.position(f"l_{n}")) for n in ("knee", "hip", "ankle"))
    share = (hip[1] - knee[1]) / (hip[1] - ankle[1])
    assert knee[2] > hip[2] + share * (ankle[2] - hip[2]), "a knee bends ahead"


@pytest.mark.parametrize("name", LIMBS)
def test_the_slice_windows_outline_lies_on_the_skin(name):
    document = standing()
    points, triangles = surface_of(document.character)
    view = slice_peg(points, triangles, document.character.pegs, name)
    assert view is not None and view.sound
    for cut in view.cuts:
        assert cut.right @ cut.up == pytest.approx(0.0, abs=1e-9)
        line = np.concatenate(cut.lines)
        inside = line[np.abs(line).max(axis=1) < cut.reach]
        assert len(inside) > 8
        places = np.array(view.place) + inside[:, :1] * cut.right + inside[:, 1:2] * cut.up
        squared, _, _ = igl.point_mesh_squared_distance(places, points, triangles)
        assert np.sqrt(squared.max()) < 1e-6


def test_a_free_joint_belongs_in_the_middle_of_its_cut():
    document = rigged_capsules()
    points, triangles = surface_of(document.character)
    view = slice_joint(points, triangles, document.character.skeleton, "arm.l.lower")
    assert view is not None and view.proper is not None
    outline = max(view.cuts[0].lines, key=len)
    middle = 0.5 * (outline.min(axis=0) + outline.max(axis=0))
    assert np.linalg.norm(view.cuts[0].proper - middle) < 0.01


@settings(max_examples=15)
@given(
    st.sampled_from(("arm.l.upper", "arm.l.lower", "leg.r.lower", "spine.chest")),
    st.tuples(*[st.floats(-2.5, 2.5)] * 3),
)
def test_whatever_a_joints_axes_are_turned_to_mending_makes_them_clean_and_moves_nothing(joint, turn):
    document = rigged_capsules()
    skeleton = document.character.skeleton
    axes = skeleton.joint(joint).matrix[:3, :3] @ Rotation.from_rotvec(turn).as_matrix()
    turned = edits.turn_joints(document, {joint: axes})
    mended = edits.mend_axes(turned)
    assert not [c for c in crooked_axes(mended.character.skeleton) if c.joint == joint]
    before = {j.id: j.position for j in skeleton.joints}
    for one in mended.character.skeleton.joints:
        assert one.position == pytest.approx(before[one.id], abs=1e-9)
        matrix = one.matrix[:3, :3]
        assert matrix @ matrix.T == pytest.approx(np.eye(3), abs=1e-9)
        assert np.linalg.det(matrix) == pytest.approx(1.0)
    # Mending is its own end: done twice it is done once.
    assert edits.mend_axes(mended).character.skeleton is mended.character.skeleton


@settings(max_examples=10)
@given(st.floats(-1.2, 1.2))
def test_an_aligned_chain_has_no_twist_from_joint_to_joint(roll):
    document = rigged_capsules()
    first = document.character.skeleton.joint("arm.l.upper")
    rolled = first.matrix[:3, :3] @ Rotation.from_euler("y", roll).as_matrix()
    document = edits.turn_joints(document, {"arm.l.upper": rolled})
    aligned = edits.align_chain(document, "arm.l.upper", both_sides=False).character.skeleton
    upper, lower = (aligned.joint(f"arm.l.{n}").matrix[:3, :3] for n in ("upper", "lower"))
    # The shortest turn from one aim to the next carries the bend axis with it.
    across = np.cross(upper[:, 1], lower[:, 1])
    angle = np.arctan2(np.linalg.norm(across), upper[:, 1] @ lower[:, 1])
    axis = across / max(np.linalg.norm(across), 1e-12)
    assert Rotation.from_rotvec(axis * angle).apply(upper[:, 0]) == pytest.approx(lower[:, 0], abs=1e-6)
    assert upper[:, 0] == pytest.approx(rolled[:, 0], abs=0.2), "the first keeps its roll, put square to its bone"


def test_mirrored_axes_fold_both_sides_alike():
    document = edits.mirror_axes(rigged_capsules(), ["arm.l.upper", "arm.l.lower"])
    skeleton = document.character.skeleton
    flip = np.diag([-1.0, 1.0, 1.0])
    for name in ("upper", "lower"):
        left, right = (skeleton.joint(f"arm.{s}.{name}").matrix[:3, :3] for s in "lr")
        for channel in "xyz":
            turn = Rotation.from_euler(channel, 0.4).as_matrix()
            moved = [axes @ turn @ axes.T for axes in (left, right)]
            signs = flip @ moved[0] @ flip
            assert moved[1] == pytest.approx(signs, abs=1e-9) or pytest.approx(signs, abs=1e-9) == moved[1].T


@pytest.mark.parametrize("height", [0.0, 0.03, 0.06, 0.09])
def test_a_hip_is_never_called_to_the_middle_of_the_pelvis(height):
    """However high a hip stands, its cut goes through thigh or pelvis; of the pelvis the middle is no hip's place."""
    document = standing()
    x, y, z = document.character.pegs.position("l_hip")
    raised = edits.place_peg(document, "l_hip", (x, y + height, z))
    points, triangles = surface_of(raised.character)
    for move in depth_moves(points, triangles, raised.character.pegs):
        if move.peg in ("l_hip", "r_hip"):
            assert abs(move.place[0]) > 0.6 * x, move
    fresh = edits.stand_up(unrigged_wick())
    pegs = edits.find_pegs(fresh)
    points, triangles = surface_of(fresh.character)
    assert not {m.peg for m in depth_moves(points, triangles, pegs)} & {"l_hip", "r_hip"}


def test_a_hip_joint_sunk_in_the_pelvis_has_no_depth_of_its_own():
    character = wick().character
    points, triangles = surface_of(character)
    view = slice_joint(points, triangles, character.skeleton, "leg.l.upper")
    assert view is not None and view.proper is None and view.sound
    knee = slice_joint(points, triangles, character.skeleton, "leg.l.lower")
    assert knee.proper is not None
    assert np.linalg.norm(knee.proper - character.skeleton.joint("leg.l.lower").position) < 0.03
