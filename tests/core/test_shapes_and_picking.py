"""Control shapes: the library, sizes from the mesh, colours; which line is meant by a click."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.geometry.slices import section_at
from pegloom.core.rig.controls import Shape
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.shapes import RigShapes, own_lines, shape_axes, shape_lines, unit_lines
from pegloom.core.skeleton.joints import Side
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.scene.camera import Camera
from pegloom.scene.colours import distance, oklab, taken_for
from pegloom.scene.lenses import rgb
from pegloom.scene.picking import LINE_NEAR, Near, best_shape, line_distance, near_shapes, shapes_inside
from tests.support.figures import shipped

SIZE = (900, 600)


@pytest.fixture(scope="module")
def wick():
    return edits.set_pose(edits.build_controls(shipped("wick")), Pose())


@pytest.mark.parametrize("shape", list(Shape))
def test_every_shape_is_lines_of_about_one_unit(shape):
    lines = unit_lines(shape)
    every = np.concatenate(lines)
    assert all(len(line) >= 2 and np.isfinite(line).all() for line in lines)
    assert 0.6 < np.abs(every).max() < 1.7
    assert all(not line.flags.writeable for line in lines)


def test_no_two_shapes_look_alike():
    looks = {tuple(np.round(np.concatenate(unit_lines(s)).ravel(), 6)) for s in Shape}
    assert len(looks) == len(Shape) >= 24


def test_own_lines_look_like_the_shape_they_were_made_of(wick):
    for control in wick.character.rig.handles[:12]:
        drawn = [np.array(line) @ shape_axes(control)[:3, :3].T + shape_axes(control)[:3, 3] for line in own_lines(control.shape)]
        for ours, line in zip(drawn, shape_lines(control), strict=True):
            assert np.abs(ours - line).max() < 1e-12


def rings(character):
    """FK rings with the joint each turns."""
    joint_of = {d.node.id: d.joint for d in character.rig.drives}
    for solver in character.rig.solvers:
        joint_of |= dict(zip(solver.fk, solver.joints, strict=True))
    return [(c, joint_of[c.id]) for c in character.rig.handles if c.shape is Shape.CIRCLE and c.id in joint_of]


@pytest.mark.parametrize("name", ["wick", "dumble", "harl"])
def test_a_ring_clears_the_limb_it_goes_round(name):
    """Held against the cut of the mesh that other code makes: every point of the outline lies inside the ring."""
    character = edits.set_pose(edits.build_controls(shipped(name)), Pose()).character
    points, triangles = character.all_points(), character.all_triangles()
    looked = clear = 0
    for control, _ in rings(character):
        axes = control.matrix @ shape_axes(control)
        centre, normal = axes[:3, 3], axes[:3, 1] / np.linalg.norm(axes[:3, 1])
        cut = section_at(points, triangles, centre, normal)
        if cut is None or not cut.holds or cut.radius > 1.05 * control.size:
            # A cut that runs into the trunk or another limb is not what the ring goes round.
            continue
        looked += 1
        outline = cut.origin + cut.flat[:, :1] * cut.right + cut.flat[:, 1:] * cut.up
        # Thighs are one outline where they meet: the other leg's part is none of this ring's.
        sign = {Side.LEFT: 1.0, Side.RIGHT: -1.0}.get(control.side, 0.0)
        outline = outline[outline[:, 0] * sign >= 0.0]
        inside = (outline - centre) @ np.linalg.inv(axes[:3, :3]).T
        reach, way = np.hypot(inside[:, 0], inside[:, 2]), np.arctan2(inside[:, 2], inside[:, 0])
        sector = ((way + np.pi) / (2 * np.pi) * 36).astype(int) % 36
        beyond = set(sector[reach > 1.0].tolist())
        # Wings and legs that leave a trunk in the plane of the cut go on through its ring.
        assert len(beyond) <= (12 if control.side is Side.CENTRE else 0), (control.name, len(beyond), reach.max())
        clear += not beyond
        assert np.median(reach) > 0.45, (control.name, "far too wide")
    assert looked >= 5 and clear >= 0.75 * looked


def test_rings_of_one_limb_do_not_overlap(wick):
    character = wick.character
    lines = {c.id: np.concatenate(shape_lines(c)) @ c.matrix[:3, :3].T + c.matrix[:3, 3] for c, _ in rings(character)}
    fingers = {c.id for c, j in rings(character) if character.skeleton.joint(j).role == "finger"}
    ids = [i for i in lines if i not in fingers]
    for k, a in enumerate(ids):
        for b in ids[k + 1 :]:
            gap = np.linalg.norm(lines[a][:, None] - lines[b][None], axis=2).min()
            assert gap > 0.003 * character.height, (a, b, gap)


def test_shapes_are_sized_alike_on_both_sides_and_nothing_moves(wick):
    rig, rest = wick.character.rig, wick.character.skeleton.world
    assert np.abs(evaluate(wick.character, Pose()).joints - rest).max() < 1e-9
    for control in rig.handles:
        other = rig.other_side(control.id)
        if control.side is Side.LEFT and other is not None:
            assert rig.control(other).size == pytest.approx(control.size, rel=0.12), control.name
            assert rig.control(other).shape is control.shape


def test_a_body_without_a_mesh_keeps_its_shapes_by_height(wick):
    bare = wick.with_character(replace(wick.character, parts=()))
    rig = edits.build_controls(bare).character.rig
    assert [c.id for c in rig.controls] == [c.id for c in wick.character.rig.controls]
    assert all(np.isfinite(c.size) and c.size > 0 and c.stretch == (1.0, 1.0, 1.0) for c in rig.controls)


# Colours


def test_oklab_agrees_with_its_paper():
    """White is lightness 1 without hue; red, green and blue as the paper's own page gives them."""
    assert np.allclose(oklab(np.ones(3)), [1, 0, 0], atol=1e-3)
    for colour, wanted in (("#FF0000", (0.628, 0.225, 0.126)), ("#00FF00", (0.866, -0.234, 0.179)), ("#0000FF", (0.452, -0.032, -0.312))):
        assert np.allclose(oklab(rgb(colour)), wanted, atol=2e-3)
    assert distance(rgb("#102030"), rgb("#102030")) == 0


def test_a_colour_that_may_be_mistaken_says_for_what():
    assert "right side" in taken_for("#E5A04A", Side.LEFT)
    assert "left side" in taken_for("#45B5A4", Side.CENTRE)
    assert "under the pointer" in taken_for("#F0EADE", Side.LEFT)
    assert "hardly shows" in taken_for("#202020", Side.LEFT)
    assert taken_for("#43B7A6", Side.LEFT) == "", "a side's own colour is its own"
    assert taken_for("#6FA0F2", Side.RIGHT) == ""


# Picking


def test_lines_near_the_pointer_are_those_a_plain_search_finds(wick):
    rig, frame = wick.character.rig, evaluate(wick.character, Pose())
    shapes, camera = RigShapes(rig), Camera().framing(wick.character.all_points())
    random = np.random.default_rng(3)
    met = 0
    for x, y in random.uniform((250, 60), (650, 560), (60, 2)):
        found = {rig.controls[n.row].id: n.away for n in near_shapes(shapes, frame.shown, x, y, camera, SIZE)}
        plain = {}
        for i, control in enumerate(rig.controls):
            if control.helper:
                continue
            lines = [line @ frame.shown[i][:3, :3].T + frame.shown[i][:3, 3] for line in shape_lines(control)]
            away = min(line_distance(line, x, y, camera, SIZE) for line in lines)
            if away <= LINE_NEAR:
                plain[control.id] = away
        assert set(found) == set(plain)
        assert all(found[k] == pytest.approx(plain[k], abs=1e-6) for k in plain)
        met += len(plain)
    assert met > 20


@pytest.mark.parametrize("some,idle,covered,meant", [
    ([Near(0, 1.0, 2.0, 50), Near(1, 6.0, 1.0, 50)], set(), np.inf, 0),  # the nearest line
    ([Near(0, 1.0, 2.0, 50), Near(1, 1.5, 1.5, 60)], set(), np.inf, 1),  # about as near: the one in front
    ([Near(0, 1.0, 2.0, 200), Near(1, 1.5, 2.01, 30)], set(), np.inf, 1),  # about as deep: the smaller one
    ([Near(0, 1.0, 1.5, 400), Near(1, 1.5, 2.0, 30)], set(), np.inf, 1),  # a ring round everything is no rival
    ([Near(0, 1.0, 2.0, 50), Near(1, 2.0, 2.0, 50)], {0}, np.inf, 1),  # out of use comes after in use
    ([Near(0, 1.0, 3.0, 50), Near(1, 2.5, 1.9, 50)], set(), 2.0, 1),  # covered comes after plain to see
    ([Near(0, 1.0, 3.0, 50)], {0}, 2.0, 0),  # but what is alone is meant
])  # fmt: skip
def test_which_of_several_lines_is_meant(some, idle, covered, meant):
    assert best_shape(some, idle, covered) == meant


def test_a_box_takes_what_is_mostly_inside(wick):
    rig, frame = wick.character.rig, evaluate(wick.character, Pose())
    left = shapes_inside(RigShapes(rig), frame.shown, lambda p: p[:, 0] > 0.12)
    names = {rig.controls[i].id for i in left}
    assert {"arm.l.lower.fk", "arm.l.goal"} <= names
    assert not names & {"root", "body", "spine.chest", "arm.r.goal"}
    assert all(rig.controls[i].side is Side.LEFT for i in left)
