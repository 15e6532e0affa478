"""Speed, as a table: `./loom bench`. Each of our kernels stands beside its peer in the same run."""

from __future__ import annotations

import difflib
import itertools
import shutil
import time
import zipfile
from dataclasses import replace

import igl
import numpy as np
import pytest
from scipy import sparse
from scipy.integrate import solve_ivp
from scipy.interpolate import PchipInterpolator
from scipy.optimize import least_squares, nnls
from scipy.sparse.linalg import spsolve
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation, Slerp
from tests.support.figures import DEMO, document_of, human, one_skin, unrigged_wick, wick
from tests.support.phrases import PHRASES
from tests.support.plain_rig import evaluate_plainly
from tools import takes

from pegloom.checks import guard
from pegloom.cli_batch import Job, rows_of
from pegloom.core.geometry.mesh import place_neighbours, place_triangles, weld, weld_points
from pegloom.core.geometry.subdivide import catmull_clark
from pegloom.core.geometry.transforms import compose, euler_quaternion
from pegloom.core.motion.clips import Clip, sample, values_at
from pegloom.core.motion.follow_through import SpringTrack
from pegloom.core.motion.retarget.live import LiveCarry
from pegloom.core.motion.retarget.source import moments_of, worlds_of
from pegloom.core.motion.retell import local_rows
from pegloom.core.motion.sampling import sampled_poses
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.rig.by_skin import Grab, standing_ends
from pegloom.core.rig.controls import ControlRig, with_values
from pegloom.core.rig.evaluate import evaluate_rig, joints_at, place_control, skin_matrices
from pegloom.core.rig.formulas import compiled
from pegloom.core.rig.kernels.formula import formula
from pegloom.core.rig.match import values_of_joints
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.shapes import rig_shapes, shape_lines
from pegloom.core.rig.solvers import BodyIk
from pegloom.core.skin.bake import bake_weights
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.dual import skin_dual
from pegloom.core.skin.relax import Relax, relaxed
from pegloom.core.skin.weights import dense, from_dense, packed
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.edits.borrow import soles_here
from pegloom.document.evaluate import evaluate
from pegloom.files.batches import BatchRecipe
from pegloom.files.motion import read_sources
from pegloom.files.project import open_project
from pegloom.files.shelf import Shelf
from pegloom.scene.brushes import BrushMode
from pegloom.scene.camera import Camera
from pegloom.scene.picking import line_distance, near_shapes
from pegloom.scene.stroke import Stroke, get_ready

JOINTS, VERTICES = 65, 100_000


@pytest.fixture(scope="module")
def crowd():
    random = np.random.default_rng(1)
    rows = np.zeros((VERTICES, JOINTS))
    for _ in range(4):
        rows[np.arange(VERTICES), random.integers(0, JOINTS, VERTICES)] += random.random(VERTICES)
    points = random.normal(size=(VERTICES, 3))
    matrices = np.array(
        [compose(random.normal(size=3), euler_quaternion(random.normal(size=3))) for _ in range(JOINTS)]
    )
    return points, rows / rows.sum(axis=1, keepdims=True), matrices


@pytest.mark.benchmark(group="linear skinning, 100 000 x 4, 65 joints")
def test_skinning_ours(benchmark, crowd):
    points, rows, matrices = crowd
    skin, out = packed(from_dense(rows, [str(j) for j in range(JOINTS)])), np.empty_like(points)
    benchmark(skin_linear, points, skin, matrices, out=out)


@pytest.mark.benchmark(group="linear skinning, 100 000 x 4, 65 joints")
def test_skinning_libigl_product(benchmark, crowd):
    points, rows, matrices = crowd
    system, stacked = igl.lbs_matrix(points, rows), np.concatenate([m[:3].T for m in matrices])
    benchmark(lambda: system @ stacked)


@pytest.mark.benchmark(group="linear skinning, 100 000 x 4, 65 joints")
def test_skinning_dual_quaternions(benchmark, crowd):
    points, rows, matrices = crowd
    skin = packed(from_dense(rows, [str(j) for j in range(JOINTS)]))
    benchmark(skin_dual, points, skin, matrices, np.ones(VERTICES))


@pytest.mark.benchmark(group="surface relax, Wick, 12 steps")
def test_relax_ours(benchmark):
    mesh = wick().character.parts[0].mesh
    benchmark(relaxed, mesh, Relax(12), mesh.points)


@pytest.mark.benchmark(group="surface relax, Wick, 12 steps")
def test_relax_peer_scipy_smoothing_alone(benchmark):
    mesh = wick().character.parts[0].mesh
    ring, points = place_neighbours(mesh), mesh.points[weld(mesh).first]
    mean = (
        sparse.diags(0.5 / np.asarray(ring.sum(axis=1)).ravel()) @ ring + 0.5 * sparse.identity(len(points))
    ).tocsr()

    def smooth() -> np.ndarray:
        p = points
        for _ in range(12):
            p = mean @ p
        return p

    benchmark(smooth)


@pytest.mark.benchmark(group="bake Wick's relax to 4 influences, 20 poses")
def test_bake_ours(benchmark):
    mesh, weights, poses = _relaxed_poses()
    benchmark.pedantic(lambda: bake_weights(mesh, weights, poses, len(poses), influences=4), rounds=2, iterations=1)


@pytest.mark.benchmark(group="bake Wick's relax to 4 influences, 20 poses")
def test_bake_peer_scipy_nnls_on_a_tenth(benchmark):
    """SciPy's non-negative least squares over the same poses, a tenth of the rows, each with its twelve joints."""
    mesh, weights, poses = _relaxed_poses()
    points, held = mesh.points, dense(weights)

    def solve() -> None:
        for v in range(0, mesh.vertex_count, 10):
            tried, p = np.argsort(-held[v])[:12], np.append(points[v], 1.0)
            rows = np.concatenate([(m[tried] @ p)[:, :3].T - x[v][:, None] for m, x in poses])
            nnls(np.vstack([rows, np.full((1, 12), 1e3)]), np.append(np.zeros(len(rows)), 1e3))

    benchmark.pedantic(solve, rounds=1, iterations=1)


def _relaxed_poses():
    character = wick().character
    mesh, weights = character.parts[0].mesh, character.skin.weights[character.parts[0].id]
    skeleton = character.skeleton
    columns = [skeleton.index[j] for j in weights.joint_ids]
    poses = []
    for pose in sampled_poses(skeleton, random=0)[:20]:
        matrices = skin_matrices(skeleton, evaluate_rig(skeleton, None, pose).joints)[columns]
        poses.append((matrices, relaxed(mesh, Relax(12), skin_linear(mesh.points, packed(weights), matrices))))
    return mesh, weights, poses


@pytest.mark.benchmark(group="evaluate the human rig, no skin")
def test_rig(benchmark):
    character = wick().character
    benchmark(evaluate_rig, character.skeleton, character.rig, character.pose)


@pytest.mark.benchmark(group="evaluate the human rig, no skin")
def test_rig_peer_plain_matrix_products(benchmark):
    character = wick().character
    count = len(character.skeleton.joints) + len(character.rig.controls)
    a = np.tile(np.eye(4), (count, 1, 1))

    def plain():
        for matrix in a:
            matrix @ a[0]

    benchmark(plain)


@pytest.fixture(scope="module")
def sampled():
    character = wick().character
    return character, baked_clip(character, character.clips[0])


@pytest.mark.benchmark(group="a sampled clip and its 52 joints, one moment")
def test_sampled_moment(benchmark, sampled):
    character, clip = sampled
    benchmark(lambda: evaluate_rig(character.skeleton, None, sample(clip, 0.77, character.skeleton)))


@pytest.mark.benchmark(group="a sampled clip and its 52 joints, one moment")
def test_sampled_moment_peer_scipy_slerp(benchmark, sampled):
    _, clip = sampled
    turns = [next(t for t in rows if t.path == "rotation") for rows in clip.tracks.values()]
    ways = [Slerp(t.times, Rotation.from_quat(t.values)) for t in turns]
    benchmark(lambda: [way(0.77).as_matrix() for way in ways])


@pytest.mark.benchmark(group="evaluate the human rig, no skin")
def test_rig_peer_worked_out_plainly(benchmark):
    character = wick().character
    benchmark(evaluate_plainly, character.skeleton, character.rig, character.pose)


@pytest.mark.benchmark(group="a played frame of the human rig, curves sampled, no skin")
def test_played_frame(benchmark):
    character = wick().character
    clip, times = character.clips[0], iter(np.linspace(0, 4, 1_000_000) % 4.0)
    skeleton, rig = character.skeleton, character.rig
    benchmark(lambda: evaluate_rig(skeleton, rig, sample(clip, next(times), skeleton, None, rig)))


@pytest.mark.benchmark(group="a played frame of the human rig, curves sampled, no skin")
def test_played_frame_peer_scipy_and_plain_python(benchmark):
    character = wick().character
    clip = character.clips[0]
    curves = {ref: PchipInterpolator(c.times, c.values) for ref, c in clip.curves.items() if len(c.times) > 1}

    def frame():
        pose = Pose({ref: float(c(1.3)) for ref, c in curves.items()})
        evaluate_plainly(character.skeleton, character.rig, pose)

    benchmark(frame)


@pytest.mark.benchmark(group="the human rig's plan made cold, beside one frame worked out plainly")
def test_plan_made_cold(benchmark):
    character = wick().character
    skeleton, rig = character.skeleton, character.rig

    def cold():
        # Made anew each time: what it derives from itself goes with it.
        make_plan.__wrapped__(skeleton, ControlRig(rig.controls, rig.drives, rig.solvers))

    benchmark(cold)


@pytest.mark.benchmark(group="the human rig's plan made cold, beside one frame worked out plainly")
def test_plan_peer_plain_frame(benchmark):
    character = wick().character
    benchmark(evaluate_plainly, character.skeleton, character.rig, Pose())


@pytest.fixture(scope="module")
def with_clips():
    """A human with three sampled clips of 600 moments."""
    document = wick()
    character = document.character
    long = replace(character.clips[0], length=20.0, rate=30.0)
    times = np.arange(600) / 30.0
    rows = local_rows(character.skeleton, joints_at(character.skeleton, character.rig, values_at(long, times, character.rig)))
    tracks = {
        j.id: tuple(Track(path, times, rows[:, i, span]) for path, span in (("translation", slice(0, 3)), ("rotation", slice(3, 7))))
        for i, j in enumerate(character.skeleton.joints)
    }
    clips = tuple(Clip(f"s{k}", f"s{k}", 30.0, 20.0, tracks=joint_tracks(tracks)) for k in range(3))
    return document.with_character(replace(character, clips=clips))


@pytest.mark.benchmark(group="one move of a peg's drag, a human with three sampled clips of 600 moments")
def test_peg_drag_draft(benchmark, with_clips):
    steps = iter(np.linspace(0.0, 0.03, 10_000))

    def move():
        edits.drafted(with_clips, lambda d: edits.place_peg(d, "l_elbow", (0.42, 1.34 + next(steps), -0.02), both_sides=True))

    benchmark(move)


@pytest.mark.benchmark(group="one move of a peg's drag, a human with three sampled clips of 600 moments")
def test_peg_drag_peer_the_whole_edit(benchmark, with_clips):
    benchmark.pedantic(edits.place_peg, (with_clips, "l_elbow", (0.42, 1.35, -0.02)), {"both_sides": True}, rounds=3)


@pytest.mark.benchmark(group="a project opened, beside its bytes unpacked")
def test_opening(benchmark):
    benchmark.pedantic(open_project, (DEMO / "wick.pegloom",), rounds=5, warmup_rounds=1)


@pytest.mark.benchmark(group="a project opened, beside its bytes unpacked")
def test_opening_peer_unpacking(benchmark):
    def unpack():
        with zipfile.ZipFile(DEMO / "wick.pegloom") as archive:
            return [archive.read(name) for name in archive.namelist()]

    benchmark.pedantic(unpack, rounds=5, warmup_rounds=1)


@pytest.fixture(scope="module")
def moments():
    character = wick().character
    times = np.linspace(0.0, character.clips[0].length, 300)
    rows = values_at(character.clips[0], times, character.rig)
    return character, rows, joints_at(character.skeleton, character.rig, rows)


@pytest.mark.benchmark(group="300 moments of joints back onto a human's controls")
def test_back_solving(benchmark, moments):
    character, _, joints = moments
    benchmark(values_of_joints, character.skeleton, character.rig, joints)


@pytest.mark.benchmark(group="300 moments of joints back onto a human's controls")
def test_back_solving_peer_control_by_control_three_moments(benchmark, moments):
    character, rows, _ = moments
    skeleton, rig = character.skeleton, character.rig

    def one_by_one():
        for row in rows[:3]:
            pose = rig.slots.pose(row)
            for control in rig.controls:
                place_control(skeleton, rig, pose, control, control.matrix)

    benchmark(one_by_one)


@pytest.mark.benchmark(group="300 moments of a human's controls evaluated")
def test_many_moments(benchmark, moments):
    character, rows, _ = moments
    benchmark(joints_at, character.skeleton, character.rig, rows)


@pytest.mark.benchmark(group="300 moments of a human's controls evaluated")
def test_many_moments_peer_plain_python_one_moment(benchmark, moments):
    character, rows, _ = moments
    pose = character.rig.slots.pose(rows[40])
    benchmark(evaluate_plainly, character.skeleton, character.rig, pose)


@pytest.mark.benchmark(group="welding, 100 000 loose vertices")
def test_welding(benchmark):
    points = np.random.default_rng(4).random((100_000, 3))
    benchmark(weld_points, points)


@pytest.mark.benchmark(group="welding, 100 000 loose vertices")
def test_welding_peer_scipy_pairs(benchmark):
    points = np.random.default_rng(4).random((100_000, 3))
    benchmark(lambda: cKDTree(points).query_pairs(1e-6, output_type="ndarray"))


@pytest.mark.benchmark(group="one posed frame of Wick, rig and skin")
def test_frame(benchmark):
    character = wick().character
    clip = character.clips[0]
    times = iter(np.linspace(0, 4, 100_000))
    benchmark(lambda: evaluate(character, sample(clip, next(times), character.skeleton, None, character.rig)))


@pytest.mark.benchmark(group="bind of Wick, 17 000 x 52")
@pytest.mark.parametrize(
    "method", [BindMethod.SEGMENT, BindMethod.ALONG_SKIN, BindMethod.BY_REACH], ids=lambda m: m.name
)
def test_bind_ours(benchmark, method):
    document = wick()
    benchmark.pedantic(edits.bind, (document,), {"method": method}, rounds=3, warmup_rounds=1)


@pytest.mark.benchmark(group="finding pegs in Wick, 17 000 vertices, beside voxelising by trimesh")
def test_finding_pegs(benchmark):
    document = edits.stand_up(unrigged_wick())
    benchmark.pedantic(edits.find_pegs, (document,), rounds=3, warmup_rounds=1)


@pytest.mark.benchmark(group="finding pegs in Wick, 17 000 vertices, beside voxelising by trimesh")
def test_finding_pegs_peer_voxels(benchmark):
    """What any finder by volume starts with, done by trimesh at the same fineness."""
    import trimesh

    from pegloom.core.geometry.mesh import place_triangles, weld

    mesh = wick().character.parts[0].mesh
    made = trimesh.Trimesh(mesh.points[weld(mesh).first], place_triangles(mesh), process=False)
    benchmark.pedantic(lambda: made.voxelized(made.extents.max() / 128).fill(), rounds=2)


@pytest.mark.benchmark(group="bind of Wick, 17 000 x 52")
def test_bind_peer_scipy_spsolve(benchmark):
    """The same heat system solved by SciPy's general sparse solver, all joints at once."""
    import robust_laplacian
    from scipy import sparse

    from pegloom.core.geometry.mesh import place_triangles, weld

    mesh = wick().character.parts[0].mesh
    laplacian, mass = robust_laplacian.mesh_laplacian(
        np.array(mesh.points[weld(mesh).first]), np.array(place_triangles(mesh))
    )
    system = (laplacian + mass * 100).tocsc()
    right = sparse.random(system.shape[0], 52, 0.05, format="csc", rng=3)
    benchmark.pedantic(spsolve, (system, right), rounds=1)


@pytest.mark.benchmark(group="brush dab on Wick, both sides")
def test_dab(benchmark):
    character = wick().character
    stroke = Stroke(character, character.parts[0], "arm.l.upper", both_sides=True, locked=frozenset())
    seed = np.flatnonzero(character.parts[0].mesh.points[:, 0] > 0.3)[:3]
    matrices = np.tile(np.eye(4), (len(character.skeleton.joints), 1, 1))

    def dab():
        stroke.dab(seed, 0.07, BrushMode.ADD, strength=0.2, value=1.0, hardness=0.3)
        return stroke.points(matrices)

    benchmark(dab)


@pytest.fixture(scope="module")
def large():
    """A human of one skin of 115 000 vertices with his joints, bound."""
    mesh = catmull_clark(one_skin(human(down=0.6)[0], cell=0.0095)).mesh
    document = edits.stand_up(document_of(mesh))
    return edits.bind(edits.build_joints(edits.set_pegs(document, edits.find_pegs(document))))


@pytest.mark.benchmark(group="default bind, 100 000 vertices")
def test_bind_of_a_large_body(benchmark, large):
    worst, last = [0.0], [time.perf_counter()]

    def progress(share, text):
        now = time.perf_counter()
        worst[0], last[0] = max(worst[0], now - last[0]), now

    benchmark.pedantic(lambda: edits.bind(large, progress=progress), rounds=1)
    benchmark.extra_info["longest step a cancel waits for, seconds"] = worst[0]
    benchmark.extra_info["vertices"] = large.character.parts[0].mesh.vertex_count


@pytest.mark.benchmark(group="default bind, 100 000 vertices")
def test_peer_one_laplacian_solve_for_all_joints(benchmark, large):
    """Harmonic weights over the surface, as a general library solves them: nothing of leaks, tears or sides."""
    part = large.character.parts[0]
    g = weld(part.mesh)
    points, triangles = part.mesh.points[g.first], place_triangles(part.mesh)
    system = (-igl.cotmatrix(points, triangles) + 1e-3 * sparse.identity(len(points))).tocsc()
    joints = large.character.skeleton.positions
    right = np.zeros((len(points), len(joints)))
    right[cKDTree(points).query(joints)[1], np.arange(len(joints))] = 1.0
    benchmark.pedantic(spsolve, (system, right), rounds=1)


@pytest.mark.benchmark(group="first press of the brush, 100 000 vertices")
def test_first_press(benchmark, large):
    character = large.character
    get_ready(character)
    seed = np.flatnonzero(character.parts[0].mesh.points[:, 0] > 0.3)[:3]

    def press():
        stroke = Stroke(character, character.parts[0], character.skeleton.joints[-1].id, both_sides=True, locked=frozenset())
        stroke.dab(seed, 0.07, BrushMode.ADD, strength=0.2, value=1.0, hardness=0.3)

    benchmark(press)


@pytest.mark.benchmark(group="first press of the brush, 100 000 vertices")
def test_a_full_copy_of_the_weights(benchmark, large):
    weights = large.character.skin.weights[large.character.parts[0].id]
    benchmark(lambda: weights.matrix().toarray())


@pytest.fixture(scope="module")
def reaching():
    """Dumble with a paw lifted: a whole body of twenty joints and four goals."""
    character = open_project(DEMO / "dumble.pegloom").character
    pose = with_values(character.rig, Pose(), "foreleg.l.goal", move_y=0.2, move_z=0.15)
    return character.skeleton, character.rig, pose


@pytest.mark.benchmark(group="a frame with a whole body of twenty joints on four goals")
def test_whole_body(benchmark, reaching):
    skeleton, rig, pose = reaching
    benchmark(evaluate_rig, skeleton, rig, with_values(rig, pose, "rig", whole_body=1.0))


@pytest.mark.benchmark(group="a frame with a whole body of twenty joints on four goals")
def test_whole_body_peer_scipy_least_squares_on_the_same_goals(benchmark, reaching):
    skeleton, rig, pose = reaching
    body = next(s for s in rig.solvers if isinstance(s, BodyIk))
    slots = [rig.slots.index[fk, f"rotate_{a}"] for fk in body.fk for a in "xyz"]
    start = rig.slots.vector(pose)
    for limb in rig.limbs:
        start[rig.slots.index[limb.amount]] = 0.0
    ends = [skeleton.index[g.joint] for g in body.goals]
    frame = evaluate_rig(skeleton, rig, pose)
    wanted = np.array([frame.controls[rig.index[g.node.id], :3, 3] for g in body.goals])

    def missing(turns):
        values = start.copy()
        values[slots] = turns
        return np.concatenate([(joints_at(skeleton, rig, values[None])[0, ends, :3, 3] - wanted).ravel(), 1e-3 * turns])

    benchmark(lambda: least_squares(missing, np.zeros(len(slots)), xtol=1e-6))


FORMULA = "clamp(x * 2 - y, -1, 1) + (sin(x) if x < y else mix(x, y, 0.3)) * 0.5"


@pytest.mark.benchmark(group="sixty formulas, once each")
def test_formulas(benchmark):
    program = compiled(FORMULA, ("x", "y"))
    steps, constants = np.array(program.steps, dtype=np.int64).ravel(), np.array(program.constants)
    inputs = np.array([0.3, 0.7])

    def run():
        for _ in range(60):
            formula(steps, constants, inputs)

    run()
    benchmark(run)


@pytest.mark.benchmark(group="sixty formulas, once each")
def test_formulas_peer_pythons_own_code(benchmark):
    known = {"clamp": lambda v, a, b: min(max(v, a), b), "mix": lambda a, b, s: a + (b - a) * s, "sin": np.sin, "x": 0.3, "y": 0.7}
    code = compile(FORMULA, "formula", "eval")

    def run():
        for _ in range(60):
            eval(code, known)

    benchmark(run)


@pytest.fixture(scope="module")
def springy():
    character = open_project(DEMO / "dumble.pegloom").require_character()
    return character, next(c for c in character.clips if c.name == "shake")


@pytest.mark.benchmark(group="a second of follow-through, eight tips, the whole rig with it")
def test_follow_through(benchmark, springy):
    character, clip = springy
    benchmark(lambda: SpringTrack(character.skeleton, character.rig, clip, Pose()).go_on(1.0))


@pytest.mark.benchmark(group="a second of follow-through, eight tips, the whole rig with it")
def test_follow_through_peer_scipy_on_the_tips_alone(benchmark):
    def pulled(t, state):
        x, v = state[:24], state[24:]
        return np.concatenate([v, -160.0 * (x - np.sin(6.0 * t)) - 9.0 * v])

    benchmark(lambda: solve_ivp(pulled, (0.0, 1.0), np.zeros(48), max_step=1 / 120, rtol=1e-4))


@pytest.fixture(scope="module")
def led():
    """Wick, his left hand taken hold of by the skin, and where it is led."""
    character = edits.set_pose(open_project(DEMO / "wick.pegloom"), Pose()).require_character()
    skeleton, rig = character.require_skeleton(), character.require_rig()
    hand = skeleton.by_name("l_hand")
    grab = Grab(skeleton, rig, Pose(), hand.id, np.array(hand.position), standing_ends(rig, Pose()))
    return character, grab, np.array(hand.position) + [0.0, 0.15, 0.2]


@pytest.mark.benchmark(group="one move of a hand led by the skin, feet held, on a human's controls")
def test_by_skin(benchmark, led):
    _, grab, target = led
    benchmark(grab.led_to, target)


@pytest.mark.benchmark(group="one move of a hand led by the skin, feet held, on a human's controls")
def test_by_skin_peer_scipy_on_the_controls(benchmark, led):
    """The same asked of SciPy's least squares over the same controls' channels."""
    character, grab, target = led
    skeleton, rig = character.require_skeleton(), character.require_rig()
    owners = {grab.known[j].id for j in grab.order} | {s.goal.id for s in rig.limbs if s.joints[-1] in grab.pinned}
    slots = [k for (o, key), k in rig.slots.index.items() if o in owners and (key.startswith("rotate") or o == "body") and not rig.slots.channels[k].locked]
    start, hand = rig.slots.rest.copy(), skeleton.index[grab.joint]
    feet = [skeleton.index[p] for p in grab.pinned]

    def residual(x):
        values = start.copy()
        values[slots] = x
        joints = joints_at(skeleton, rig, values[None])[0]
        held = [(joints[i] - grab.start[i])[:3].ravel() for i in feet]
        return np.concatenate([joints[hand, :3, 3] - target, *held, 0.01 * x])

    benchmark.pedantic(lambda: least_squares(residual, start[slots], max_nfev=30), rounds=2, iterations=1)


@pytest.mark.benchmark(group="a dragged control: Wick's 17 000 vertices follow, before drawing")
def test_mesh_follows(benchmark):
    character = open_project(DEMO / "wick.pegloom").require_character()
    rig = character.require_rig()
    poses = [with_values(rig, Pose(), "body", move_y=-0.001 * k) for k in range(50)]
    some = iter(poses * 1000)
    benchmark(lambda: evaluate(character, next(some)))


@pytest.mark.benchmark(group="a dragged control: Wick's 17 000 vertices follow, before drawing")
def test_mesh_follows_peer_plain_rig_and_sparse_product(benchmark):
    character = open_project(DEMO / "wick.pegloom").require_character()
    skeleton, rig, skin = character.require_skeleton(), character.require_rig(), character.require_skin()
    parts = [(p.mesh.points, skin.weights[p.id]) for p in character.included]
    columns = [[skeleton.index[j] for j in w.joint_ids] for _, w in parts]

    def follow():
        _, joints = evaluate_plainly(skeleton, rig, character.pose)
        matrices = np.array([joints[j.id] for j in skeleton.joints]) @ skeleton.inverse_world
        for (points, weights), some in zip(parts, columns, strict=True):
            blended = (weights.matrix() @ matrices[some].reshape(len(some), 16)).reshape(-1, 4, 4)
            np.einsum("nij,nj->ni", blended[:, :3, :3], points)

    benchmark.pedantic(follow, rounds=3, iterations=1)


@pytest.mark.benchmark(group="which control lies under the pointer")
def test_picking_lines(benchmark):
    character = open_project(DEMO / "wick.pegloom").require_character()
    shapes, frame = rig_shapes(character.require_rig()), evaluate(character, Pose())
    camera = Camera().framing(character.all_points())
    benchmark(near_shapes, shapes, frame.shown, 450.0, 300.0, camera, (900, 600))


@pytest.mark.benchmark(group="which control lies under the pointer")
def test_picking_lines_peer_line_by_line(benchmark):
    character = open_project(DEMO / "wick.pegloom").require_character()
    rig, frame = character.require_rig(), evaluate(character, Pose())
    camera = Camera().framing(character.all_points())

    def each():
        return [
            min(line_distance(line @ frame.shown[i][:3, :3].T + frame.shown[i][:3, 3], 450.0, 300.0, camera, (900, 600)) for line in shape_lines(c))
            for i, c in enumerate(rig.controls)
        ]

    benchmark(each)


@pytest.mark.benchmark(group="the check of a human's rig, beside its channels tried one by one")
def test_guard(benchmark):
    character = edits.set_pose(open_project(DEMO / "wick.pegloom"), Pose()).require_character()
    benchmark.pedantic(guard, (character,), rounds=3, warmup_rounds=1)


@pytest.mark.benchmark(group="the check of a human's rig, beside its channels tried one by one")
def test_guard_peer_plain_python_one_stance(benchmark):
    character = edits.set_pose(open_project(DEMO / "wick.pegloom"), Pose()).require_character()
    skeleton, rig = character.require_skeleton(), character.require_rig()

    def each():
        for ref in list(rig.slots.index)[:40]:
            evaluate_plainly(skeleton, rig, Pose({ref: 0.3}))

    benchmark.pedantic(each, rounds=1)


# Motion of another body


@pytest.fixture(scope="module")
def thousand(tmp_path_factory):
    """A thousand frames of a walk, and Wick, who takes them on."""
    folder = tmp_path_factory.mktemp("takes")
    take = takes.perform(takes.Build(), takes.walk(takes.Build()), seconds=999 / 60, rate=60.0)
    (folder / "walk.bvh").write_text(take.bvh())
    (source,), _ = read_sources(folder / "walk.bvh")
    document, (made,) = edits.add_sources(wick(), [source])
    document, _ = edits.pair_source(document, made)
    return document, made


def test_a_thousand_frames_carried_over(benchmark, thousand):
    document, source = thousand
    benchmark.extra_info["what"] = "a thousand frames carried over: paired, planted, hands held, measured"
    benchmark.pedantic(lambda: edits.borrow(document, source), rounds=5)


def test_a_thousand_frames_peer_turns_alone_with_scipy(benchmark, thousand):
    """Every joint's turn composed down the target's skeleton, a joint at a time, a hundred frames: nothing is planted."""
    document, _ = thousand
    skeleton = document.require_character().require_skeleton()
    rest = [Rotation.from_matrix(m[:3, :3]) for m in skeleton.local]
    rng = np.random.default_rng(2)
    turns = Rotation.from_rotvec(0.1 * rng.normal(size=(100 * len(rest), 3)))
    benchmark.extra_info["what"] = "peer: turns of a hundred of those frames composed with SciPy"

    def plainly():
        for k in range(100):
            worlds, places = [], []
            for j, parent in enumerate(skeleton.parents):
                local = rest[j] * turns[k * len(rest) + j]
                place = skeleton.local[j, :3, 3].copy()
                worlds.append(local if parent < 0 else worlds[parent] * local)
                places.append(place if parent < 0 else places[parent] + worlds[parent].apply(place))

    benchmark.pedantic(plainly, rounds=3)


# Gaits and the shelf


@pytest.fixture(scope="module")
def walking():
    """Wick on four strides of a walk."""
    document, result = edits.make_gait(wick(), {"preset": "walk"}, strides=4.0)
    return document, result.clip


@pytest.mark.benchmark(group="another number of a gait, beside its frames turned in plain Python")
def test_a_number_seen(benchmark, walking):
    document, clip = walking
    lifts = iter(np.linspace(0.05, 0.4, 400))
    benchmark.extra_info["what"] = "another lift of a gait of 119 frames, as it is first seen"
    benchmark.pedantic(lambda: edits.change_gait(document, clip, {"lift": float(next(lifts))}, sketch=True), rounds=20, warmup_rounds=2)


@pytest.mark.benchmark(group="another number of a gait, beside its frames turned in plain Python")
def test_a_number_on_the_controls(benchmark, walking):
    document, clip = walking
    lifts = iter(np.linspace(0.05, 0.4, 400))
    benchmark.extra_info["what"] = "the same on the controls, as it is kept"
    benchmark.pedantic(lambda: edits.change_gait(document, clip, {"lift": float(next(lifts))}), rounds=8, warmup_rounds=1)


@pytest.mark.benchmark(group="another number of a gait, beside its frames turned in plain Python")
def test_a_number_peer_its_frames_turned_with_scipy(benchmark, walking):
    """Every joint's turn composed down the skeleton, a frame and a joint at a time: no foot is planted."""
    document, _ = walking
    skeleton = document.require_character().require_skeleton()
    rest = [Rotation.from_matrix(m[:3, :3]) for m in skeleton.local]
    turns = Rotation.from_rotvec(0.1 * np.random.default_rng(2).normal(size=(119 * len(rest), 3)))

    def plainly():
        for k in range(119):
            worlds = []
            for j, parent in enumerate(skeleton.parents):
                local = rest[j] * turns[k * len(rest) + j]
                worlds.append(local if parent < 0 else worlds[parent] * local)

    benchmark.pedantic(plainly, rounds=3)


@pytest.mark.benchmark(group="a phrase found on the shelf, beside every word likened to every other")
def test_a_phrase_found(benchmark):
    finder = Shelf().finder
    phrases = itertools.cycle(phrase for rows in PHRASES.values() for phrase, _ in rows)
    benchmark.pedantic(lambda: finder.find(next(phrases)), rounds=60, warmup_rounds=2)


@pytest.mark.benchmark(group="a phrase found on the shelf, beside every word likened to every other")
def test_a_phrase_peer_difflib(benchmark):
    words = {w for language in Shelf().lexicon.languages.values() for w in (*language.whole, *language.open_)}
    phrases = itertools.cycle(phrase for rows in PHRASES.values() for phrase, _ in rows)
    benchmark.pedantic(lambda: [difflib.get_close_matches(w, words, 3) for w in next(phrases).split()], rounds=6)


# A live performance, a frame at a time


@pytest.fixture(scope="module")
def performed():
    source = Shelf().source("walk")
    character = wick().require_character()
    times = moments_of(source.clip)
    return source, character, times, worlds_of(source, times)


def test_a_live_frame_posed(benchmark, performed):
    """A performer's frame on Wick: joints, planted feet, all points."""
    source, character, times, worlds = performed
    carry = LiveCarry(source.skeleton, character.skeleton, soles=soles_here(character), limits=character.rig.limits)
    count = itertools.count()

    def one():
        k = next(count)
        return evaluate(character, carry.pose(worlds[k % len(times)], k / 60))

    benchmark(one)


def test_a_live_frame_peer_turned_with_scipy_and_numpy(benchmark, performed):
    """The same joints turned by SciPy, the same skin by a plain product; no feet planted."""
    _, character, _, worlds = performed
    skeleton, skin = character.skeleton, character.skin
    parts = [(p.mesh.points, skin.weights[p.id]) for p in character.included]
    shares = [sparse.csr_matrix(dense(w)) for _, w in parts]
    columns = [[skeleton.index[j] for j in w.joint_ids] for _, w in parts]
    inverse = skeleton.inverse_world
    count = len(skeleton.joints)

    def one():
        turns = Rotation.from_matrix(worlds[7][:count, :3, :3]) * Rotation.from_matrix(skeleton.world[:, :3, :3])
        matrices = np.tile(np.eye(4), (count, 1, 1))
        matrices[:, :3, :3] = turns.as_matrix()
        matrices[:, :3, 3] = skeleton.positions
        skinned = matrices @ inverse
        result = []
        for (points, _), share, some in zip(parts, shares, columns, strict=True):
            blended = (share @ skinned[some].reshape(len(some), 16)).reshape(-1, 4, 4)
            result.append(np.einsum("nab,nb->na", blended[:, :3, :3], points) + blended[:, :3, 3])
        return result

    benchmark(one)


@pytest.fixture(scope="module")
def many(tmp_path_factory):
    """Eight figures, to be rigged, bound and exported."""
    folder = tmp_path_factory.mktemp("many")
    for k in range(8):
        shutil.copy(DEMO / "wick.obj", folder / f"{k}.obj")
    return folder


def _all_of(folder, out, processes):
    recipe = BatchRecipe(pictures=False, pattern="human", targets=("real-time",), keep=False)
    jobs = [Job(str(f), f.name, str(out / f.stem), recipe) for f in sorted(folder.glob("*.obj"))]
    assert all(row["state"] == "ok" for row in rows_of(jobs, processes))


@pytest.mark.benchmark(group="a batch of eight")
def test_batch_on_two_processes(benchmark, many, tmp_path):
    """At least 1.7 times as quick as one after the other, on two cores of their own."""
    benchmark.pedantic(_all_of, (many, tmp_path, 2), rounds=1)


@pytest.mark.benchmark(group="a batch of eight")
def test_batch_peer_one_after_the_other(benchmark, many, tmp_path):
    benchmark.pedantic(_all_of, (many, tmp_path, 1), rounds=1)
