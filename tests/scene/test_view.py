from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.geometry.mesh import triangulate
from pegloom.core.motion.trials import turned_pose
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.weights import dense, most_influences, packed, row_sums_hold
from pegloom.scene import drawing, lenses, rig_drawing
from pegloom.scene.brushes import BrushMode
from pegloom.scene.camera import Camera
from pegloom.scene.drawlist import DrawList
from pegloom.scene.handles import HandleDrag, HandleKind, grip_under, handle_lines, make_handle
from pegloom.scene.picking import hit_surface, inside_box, line_distance, nearest_dot
from pegloom.scene.stroke import Stroke
from tests.support.figures import as_mesh, box_limb, capsule_figure, wick

SIZE = (900, 600)
CAMERAS = [Camera(), Camera(perspective=False), Camera(yaw=2.5, pitch=-0.7, distance=9.0)]


@pytest.mark.parametrize("camera", CAMERAS)
def test_a_ray_through_a_projected_point_passes_through_it(camera):
    points = np.random.default_rng(2).uniform(-0.6, 0.6, (30, 3)) + [0, 0.9, 0]
    for point, (x, y, depth) in zip(points, camera.project(points, *SIZE), strict=True):
        ray = camera.ray(x, y, *SIZE)
        way = point - ray.origin
        off = way - ray.direction * (way @ ray.direction)
        assert np.linalg.norm(off) < 1e-7
        assert depth > 0


@pytest.mark.parametrize("camera", CAMERAS)
def test_zooming_keeps_what_is_under_the_pointer(camera):
    ray = camera.ray(640, 150, *SIZE)
    along = ((np.array(camera.target) - ray.origin) @ camera.backward) / (ray.direction @ camera.backward)
    under = ray.origin + ray.direction * along
    nearer = camera.zoom(3, 640, 150, *SIZE)
    assert nearer.distance < camera.distance
    assert np.allclose(nearer.project(under, *SIZE)[0, :2], [640, 150], atol=1e-6)


def test_panning_moves_the_target_with_the_pointer():
    camera = Camera()
    before = camera.project(np.array(camera.target), *SIZE)[0, :2]
    after = camera.pan(50, -20, SIZE[1]).project(np.array(camera.target), *SIZE)[0, :2]
    assert np.allclose(after - before, [50, -20], atol=1e-6)


@pytest.mark.parametrize("camera", CAMERAS)
def test_framing_brings_everything_into_sight(camera):
    points = as_mesh(capsule_figure()).points * 30
    screen = camera.framing(points, aspect=SIZE[0] / SIZE[1]).project(points, *SIZE)
    assert screen[:, 0].min() > 0
    assert screen[:, 0].max() < SIZE[0]
    assert screen[:, 1].min() > 0
    assert screen[:, 1].max() < SIZE[1]
    assert np.ptp(screen[:, 1]) > 0.4 * SIZE[1] or np.ptp(screen[:, 0]) > 0.4 * SIZE[0]


def test_a_ray_hits_the_nearest_side_as_a_plain_search_says():
    mesh = as_mesh(capsule_figure())
    triangles = triangulate(mesh).vertices
    camera = Camera()
    hits = 0
    for x, y in np.random.default_rng(4).uniform([300, 50], [600, 550], (40, 2)):
        ray = camera.ray(x, y, *SIZE)
        a, b, c = (mesh.points[triangles[:, k]] for k in range(3))
        normal = np.cross(b - a, c - a)
        slope = normal @ ray.direction
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.einsum("td,td->t", a - ray.origin, normal) / slope
            p = ray.origin + t[:, None] * ray.direction
            inside = np.ones(len(t), dtype=bool)
            for u, v in ((a, b), (b, c), (c, a)):
                inside &= np.einsum("td,td->t", np.cross(v - u, p - u), normal) >= -1e-12
        t = np.where(inside & (t > 0), t, np.inf)
        found = hit_surface(ray, mesh.points, triangles)
        assert (found is None) == (not np.isfinite(t.min()))
        if found is not None:
            hits += 1
            assert found.distance == pytest.approx(t.min(), abs=1e-9)
    assert hits > 3


def test_dots_and_lines_are_picked_by_pixels():
    camera = Camera(yaw=0.0, pitch=0.0)
    points = np.array([[0.0, 0.85, 0.0], [0.0, 0.85, 0.5], [0.5, 0.85, 0.0]])
    x, y, _ = camera.project(points[0], *SIZE)[0]
    assert nearest_dot(points, x, y, camera, SIZE) == 1, "of two at one place, the one in front"
    assert nearest_dot(points, x, y + 60, camera, SIZE) is None
    assert line_distance(points[[0, 2]], x + 30, y + 7, camera, SIZE) == pytest.approx(7, abs=0.5)
    assert inside_box(points, (x - 5, y - 5), (x + 5, y + 5), camera, SIZE).tolist() == [True, True, False]


@pytest.mark.parametrize("axis", "xyz")
def test_a_move_grip_moves_along_its_axis_only(axis):
    camera = Camera()
    frame = np.eye(4)
    frame[:3, 3] = [0.1, 1.0, 0.2]
    handle = make_handle(HandleKind.MOVE, frame, camera, SIZE)
    end = dict(handle_lines(handle, camera))[axis][1]
    x, y, _ = camera.project(end, *SIZE)[0]
    assert grip_under(handle, x, y, camera, SIZE) == axis
    target = end + np.eye(3)["xyz".index(axis)] * 0.3
    tx, ty, _ = camera.project(target, *SIZE)[0]
    change = HandleDrag(handle, axis, camera, SIZE, (x, y)).change(tx, ty)
    assert np.allclose(change[:3, 3], np.eye(3)["xyz".index(axis)] * 0.3, atol=1e-6)
    snapped = HandleDrag(handle, axis, camera, SIZE, (x, y)).change(tx + 1.3, ty, snap=True)[:3, 3] * 100
    assert np.allclose(snapped, np.round(snapped), atol=1e-9)


def test_a_turn_grip_turns_about_its_axis_and_keeps_the_middle():
    camera = Camera(yaw=0.0, pitch=0.0)
    frame = np.eye(4)
    frame[:3, 3] = camera.target
    handle = make_handle(HandleKind.TURN, frame, camera, SIZE)
    cx, cy, _ = camera.project(frame[:3, 3], *SIZE)[0]
    change = HandleDrag(handle, "z", camera, SIZE, (cx + 70, cy)).change(cx, cy - 70)
    assert np.allclose(change[:3, :3] @ [1, 0, 0], [0, 1, 0], atol=1e-9)
    assert np.allclose(change @ np.append(camera.target, 1), np.append(camera.target, 1))
    from_behind = replace(camera, yaw=np.pi)
    drag = HandleDrag(make_handle(HandleKind.TURN, frame, from_behind, SIZE), "z", from_behind, SIZE, (cx + 70, cy))
    assert np.allclose(drag.change(cx, cy - 70)[:3, :3] @ [1, 0, 0], [0, -1, 0], atol=1e-9)


def test_every_mark_of_the_demo_is_finite_and_counted():
    character = wick().character
    frame = evaluate_rig(character.skeleton, character.rig, character.pose)
    draw = DrawList()
    marks = drawing.Marks(frozenset({"arm.l.upper", "l_elbow", "body"}), "spine.head")
    drawing.draw_ground(draw, character.height)
    drawing.draw_stick(draw, character.height, 0.9)
    drawing.draw_skeleton(draw, character.skeleton, frame.joints, marks)
    drawing.draw_pegs(draw, character.pegs, marks, character.height)
    rig_drawing.draw_controls(draw, character.rig, frame.controls, {}, character.pose, marks)
    for rows in (draw.behind.packed(), draw.through.packed(), draw.over.packed(), draw.dots.packed()):
        assert len(rows) > 10
        assert np.isfinite(rows).all()
    assert draw.over.packed().shape[1] == 11


def test_a_twist_in_the_axes_is_a_twist_in_the_cord():
    character = wick().character
    worlds = character.skeleton.world.copy()
    plain, twisted = DrawList(), DrawList()
    drawing.draw_skeleton(plain, character.skeleton, worlds, drawing.Marks())
    i = character.skeleton.index["arm.l.lower"]
    worlds[i][:3, :3] = worlds[i][:3, :3] @ np.array([[0.0, 0, 1], [0, 1, 0], [-1, 0, 0]])
    drawing.draw_skeleton(twisted, character.skeleton, worlds, drawing.Marks())
    assert not np.allclose(plain.over.packed()[:, :6], twisted.over.packed()[:, :6], atol=1e-4)


def test_lenses_say_what_they_mean():
    character = wick().character
    part = character.parts[0]
    weights = character.skin.weights[part.id]
    values = lenses.influence_values(weights, "arm.l.upper")
    assert np.allclose(values[:, 0], weights.column("arm.l.upper"))
    assert lenses.all_influences(weights).shape == (part.mesh.vertex_count, 4)
    counted = lenses.count_colours(weights, 4)
    assert np.allclose(counted[np.argmax(dense(weights).max(axis=1)), :3], lenses.rgb(lenses.RAMP[0])), "one joint"
    most = np.argmax((dense(weights) > 0.05).sum(axis=1))
    assert np.allclose(counted[most, :3], lenses.rgb(lenses.RAMP[-1])), "as many as may be"
    still = lenses.strain_colours(part, part.mesh.points)
    assert np.allclose(still[:, :3], lenses.rgb(lenses.CLAY))
    stretched = lenses.strain_colours(part, part.mesh.points * 2)
    assert np.allclose(stretched[:, :3], lenses.rgb(lenses.STRETCHED), atol=1e-6)
    lightness = [lenses.rgb(c) @ [0.2126, 0.7152, 0.0722] for c in lenses.RAMP]
    assert lightness == sorted(lightness)
    assert len({tuple(np.round(lenses.hue(i), 2)) for i in range(40)}) == 40


def test_a_stroke_shows_what_it_will_commit():
    character = wick().character
    part = character.parts[0]
    stroke = Stroke(character, part, "arm.l.upper", both_sides=True, locked=frozenset({"spine.chest"}))
    seed = np.argsort(np.linalg.norm(part.mesh.points - [0.25, 1.1, 0.05], axis=1))[:3]
    for paint in (BrushMode.ADD, BrushMode.SET, BrushMode.EVEN, BrushMode.TAKE):
        stroke.dab(seed, 0.08, paint, strength=0.8, value=0.7, hardness=0.2)
    weights = stroke.weights()
    assert row_sums_hold(weights)
    assert most_influences(weights) <= 4
    was = character.skin.weights[part.id]
    assert np.allclose(weights.column("spine.chest"), was.column("spine.chest"), atol=1e-12), "locked"
    changed = (
        np.abs(dense(weights) - dense(was)[:, [was.joint_ids.index(j) for j in weights.joint_ids]]).max(axis=1) > 1e-3
    )
    x = part.mesh.points[changed, 0]
    assert x.max() > 0.1
    assert x.min() < -0.1
    assert np.linalg.norm(np.abs(part.mesh.points[changed]) * [1, 1, 0] - [0.25, 1.1, 0], axis=1).max() < 0.11
    pose = turned_pose(character.skeleton, {"arm.l.upper": (0.0, 0.0, 0.3826834, 0.9238795)})
    matrices = skin_matrices(character.skeleton, evaluate_rig(character.skeleton, None, pose).joints)
    columns = [character.skeleton.index[j] for j in weights.joint_ids]
    committed = skin_linear(part.mesh.points, packed(weights), matrices[columns])
    assert np.abs(stroke.points(matrices) - committed).max() < 2e-4


def test_a_stroke_stays_inside_the_selection():
    character = wick().character
    part = character.parts[0]
    inside = np.flatnonzero(part.mesh.points[:, 1] > 1.1)
    stroke = Stroke(character, part, "arm.l.upper", both_sides=False, locked=frozenset(), inside=inside)
    seed = np.argsort(np.linalg.norm(part.mesh.points - [0.2, 1.1, 0.05], axis=1))[:3]
    stroke.dab(seed, 0.15, BrushMode.SET, strength=1.0, value=1.0, hardness=0.2)
    was = character.skin.weights[part.id].column("arm.l.upper")
    changed = np.abs(stroke.influence("arm.l.upper") - was) > 1e-6
    assert changed.any()
    assert part.mesh.points[changed, 1].min() > 1.1 - 1e-9


def test_an_open_tube_can_be_hit_from_inside():
    mesh = box_limb()
    from pegloom.scene.camera import Ray

    hit = hit_surface(Ray(np.array([0.5, 0, 0]), np.array([0.0, 1, 0])), mesh.points, triangulate(mesh).vertices)
    assert hit.point.tolist() == pytest.approx([0.5, 0.1, 0])
