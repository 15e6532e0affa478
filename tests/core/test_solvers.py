"""Laws of the solvers, on chains and trees made at random."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.checks import find_snags
from pegloom.checks.snags import cone_visits
from pegloom.core.curves import curve
from pegloom.core.motion.clips import Clip
from pegloom.core.rig.cone import planes_kept
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.evaluate import NOTHING, evaluate_rig
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.match import fk_values, ik_values
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.solvers import BendIk, BodyIk, ChainIk, LimbIk, SplineIk
from tests.support.bare_rigs import rig_of, skeleton_of
from tests.support.figures import rigged_capsules

LENGTH = 1.5


def bones(points):
    return np.linalg.norm(np.diff(points, axis=0), axis=1)


def leg(rng, kind, straight=False):
    """A limb of two or three bones, bent or straight, anywhere, turned anyhow; and a pole beside it."""
    count = 3 if kind is LimbIk else 4
    down = rng.normal(size=3)
    down /= np.linalg.norm(down)
    side = np.cross(down, rng.normal(size=3))
    side /= np.linalg.norm(side)
    points = [rng.normal(size=3)]
    for k in range(count - 1):
        lean = 0.0 if straight else (0.35, -0.4, 0.3)[k] + rng.uniform(-0.1, 0.1)
        d = down + lean * side
        points.append(points[-1] + d / np.linalg.norm(d) * rng.uniform(0.3, 0.5))
    pole = points[1] + side + 0.05 * rng.normal(size=3)
    skeleton = skeleton_of(points, rng=rng)
    return skeleton, rig_of(skeleton, kind, pole=pole, rng=rng)


def chain(rng, kind, count=7, straight=False):
    if straight:
        points = np.cumsum(np.outer(np.full(count, 0.2), [0.6, 0.0, 0.8]), axis=0)
    else:
        points = np.cumsum(rng.normal(size=(count, 3)) * 0.08 + [0.0, 0.2, 0.03], axis=0)
    skeleton = skeleton_of(points, rng=rng)
    return skeleton, rig_of(skeleton, kind, rng=rng)


def made(rng, kind, **more):
    return chain(rng, kind, **more) if kind in (ChainIk, SplineIk) else leg(rng, kind, **more)


def by(rig, vector):
    """Channels of the goal that move it by a vector (3,) of the world, whatever its axes."""
    return dict(zip(("move_x", "move_y", "move_z"), rig.control("goal").matrix[:3, :3].T @ vector, strict=True))


def posed(rig, **goal):
    return with_values(rig, NOTHING, "goal", blend=1.0, **goal)


ALL = (LimbIk, BendIk, ChainIk, SplineIk)


@pytest.mark.parametrize("kind", ALL)
@pytest.mark.parametrize("straight", [False, True])
@pytest.mark.parametrize("seed", range(6))
def test_switched_on_at_rest_nothing_moves(kind, straight, seed):
    rng = np.random.default_rng(seed)
    skeleton, rig = made(rng, kind, straight=straight)
    for blend in (0.0, 0.4, 1.0):
        frame = evaluate_rig(skeleton, rig, with_values(rig, NOTHING, "goal", blend=blend))
        assert np.abs(frame.joints - skeleton.world).max() < 1e-9


@pytest.mark.parametrize("kind", [LimbIk, BendIk, ChainIk])
@pytest.mark.parametrize("seed", range(8))
def test_goals_within_reach_are_met_and_bones_keep_their_length(kind, seed):
    rng = np.random.default_rng(100 + seed)
    skeleton, rig = made(rng, kind)
    rest = skeleton.positions
    lengths = bones(rest)
    whole, least = lengths.sum(), max(0.0, 2 * lengths.max() - lengths.sum())
    for _ in range(60):
        d = rng.normal(size=3)
        far = rng.uniform(max(least + 0.01 * whole, 0.12 * whole), 0.999 * whole)
        wanted = rest[0] + d / np.linalg.norm(d) * far
        move = by(rig, wanted - rest[-1])
        frame = evaluate_rig(skeleton, rig, posed(rig, **move))
        found = frame.joints[:, :3, 3]
        assert np.linalg.norm(found[-1] - wanted) < 1e-6 * whole, far / whole
        assert np.abs(bones(found) - lengths).max() < 1e-9
        assert np.allclose(np.linalg.det(frame.joints[:, :3, :3]), 1.0, atol=1e-9)
        goal = frame.controls[rig.index["goal"], :3, :3]
        at_rest = rig.control("goal").matrix[:3, :3]
        assert np.abs(frame.joints[-1, :3, :3] - goal @ at_rest.T @ skeleton.world[-1, :3, :3]).max() < 1e-9


@pytest.mark.parametrize("kind", [LimbIk, BendIk, ChainIk])
def test_beyond_reach_the_limb_points_at_its_goal_and_stretch_reaches_it(kind):
    skeleton, rig = made(np.random.default_rng(5), kind)
    rest = skeleton.positions
    whole = bones(rest).sum()
    wanted = rest[0] + np.array([0.5, 0.7, -0.2]) / np.linalg.norm([0.5, 0.7, -0.2]) * whole * 1.7
    move = by(rig, wanted - rest[-1])
    found = evaluate_rig(skeleton, rig, posed(rig, **move)).joints[:, :3, 3]
    aim = (wanted - rest[0]) / np.linalg.norm(wanted - rest[0])
    assert np.abs(found[-1] - rest[0] - aim * whole).max() < 1e-6 * whole
    found = evaluate_rig(skeleton, rig, posed(rig, **move, stretch=1.0)).joints[:, :3, 3]
    assert np.abs(found[-1] - wanted).max() < 1e-9 * whole
    assert np.allclose(bones(found) / bones(rest), 1.7)


@pytest.mark.parametrize("kind", [LimbIk, BendIk])
def test_a_soft_limb_never_quite_stretches_out_and_slows_evenly(kind):
    skeleton, rig = made(np.random.default_rng(6), kind)
    rest = skeleton.positions
    whole = bones(rest).sum()
    aim = (rest[-1] - rest[0]) / np.linalg.norm(rest[-1] - rest[0])
    reached = []
    for far in np.linspace(0.8, 1.4, 61):
        move = by(rig, rest[0] + aim * far * whole - rest[-1])
        found = evaluate_rig(skeleton, rig, posed(rig, **move, soft=0.1)).joints[:, :3, 3]
        reached.append(np.linalg.norm(found[-1] - found[0]) / whole)
    steps = np.diff(reached)
    assert max(reached) < 1.0 and (steps > 0).all() and np.diff(steps).max() < 1e-9
    assert np.allclose(reached[:10], np.linspace(0.8, 1.4, 61)[:10])


@pytest.mark.parametrize("kind", ALL)
def test_all_goes_along_with_the_root_scaled_evenly_too(kind):
    rng = np.random.default_rng(7)
    skeleton, rig = made(rng, kind)
    pose = posed(rig, move_x=0.11, move_y=-0.13, move_z=0.07, rotate_x=0.4)
    if kind is SplineIk:
        pose = with_values(rig, pose, "through2", move_x=0.1, move_z=-0.05)
        pose = with_values(rig, pose, "through6", rotate_y=0.7)
    before = evaluate_rig(skeleton, rig, pose).joints
    moved = with_values(rig, pose, "root", move_x=2.0, rotate_y=1.1, rotate_x=-0.3, scale=1.7)
    frame = evaluate_rig(skeleton, rig, moved)
    root = frame.controls[rig.index["root"]]
    assert np.abs(frame.joints - root @ before).max() < 1e-7


@pytest.mark.parametrize("kind", [LimbIk, BendIk, ChainIk, BodyIk])
@pytest.mark.parametrize("seed", range(6))
def test_switching_either_way_moves_nothing(kind, seed):
    rng = np.random.default_rng(200 + seed)
    if kind is BodyIk:
        skeleton, rig = figure(rng)
    else:
        skeleton, rig = made(rng, kind)
    slots, solver = rig.slots, rig.solvers[0]
    values = {(f"j{k}.fk", f"rotate_{a}"): rng.uniform(-0.5, 0.5) for k in range(len(skeleton.joints)) for a in "xyz"}
    start = slots.vector(Pose(values))[None]
    on = ik_values(skeleton, rig, start, solver)
    blend = slots.index[("goal", "blend")]
    on[:, blend] = 1.0
    one = evaluate_rig(skeleton, rig, slots.pose(start[0])).joints
    other = evaluate_rig(skeleton, rig, slots.pose(on[0])).joints
    assert np.abs(one - other).max() < 1e-6
    on[:, slots.index[("goal3" if kind is BodyIk else "goal", "move_x")]] += 0.05
    other = evaluate_rig(skeleton, rig, slots.pose(on[0])).joints
    off = fk_values(skeleton, rig, on, solver)
    off[:, blend] = 0.0
    assert np.abs(evaluate_rig(skeleton, rig, slots.pose(off[0])).joints - other).max() < 1e-6


@pytest.mark.parametrize("kind", [LimbIk, BendIk])
def test_a_limb_is_continuous_outside_the_cone_about_its_pole(kind):
    """A path of goals all around, never within 10 degrees of the line through the pole; finer steps, smaller moves."""
    rng = np.random.default_rng(8)
    skeleton, rig = made(rng, kind)
    rest = skeleton.positions
    whole, pole = bones(rest).sum(), rig.control("pole").matrix[:3, 3] - rest[0]
    pole /= np.linalg.norm(pole)
    side = np.cross(pole, [0.3, 0.4, 0.5])
    side /= np.linalg.norm(side)
    up = np.cross(side, pole)
    t = np.linspace(0, 2 * np.pi, 4001)
    tilt = np.deg2rad(90 - 78 * np.sin(3 * t))
    paths = (0.35 + 0.6 * np.sin(2 * t)[:, None] ** 2) * whole * (
        np.cos(tilt)[:, None] * pole + np.sin(tilt)[:, None] * (np.cos(t)[:, None] * side + np.sin(t)[:, None] * up)
    )
    places = []
    for offset in paths:
        move = by(rig, rest[0] + offset - rest[-1])
        places.append(evaluate_rig(skeleton, rig, posed(rig, **move)).joints[:, :3, 3])
    step = np.linalg.norm(np.diff(places, axis=0), axis=2).max()
    assert step < 0.06 * whole


def figure(rng, limits=()):
    """A small body: a root, a spine of three, two arms and two legs of three joints."""
    points, parents = [np.zeros(3)], [-1]

    def grow(parent, steps):
        for step in steps:
            points.append(points[parent] + np.array(step) + 0.01 * rng.normal(size=3))
            parents.append(parent)
            parent = len(points) - 1
        return parent

    chest = grow(0, [(0, 0.2, 0), (0, 0.2, 0), (0, 0.15, 0)])
    ends = [chest]
    for x in (1, -1):
        ends.append(grow(chest, [(0.15 * x, 0, 0), (0.28 * x, 0, -0.03), (0.25 * x, 0, 0.03)]))
    for x in (1, -1):
        ends.append(grow(0, [(0.1 * x, -0.05, 0), (0, -0.45, 0.03), (0, -0.45, -0.03)]))
    skeleton = skeleton_of(points, parents, rng=rng)
    return skeleton, rig_of(skeleton, BodyIk, goals=ends, limits=limits)


@pytest.mark.parametrize("limited", [False, True])
def test_a_whole_body_meets_goals_that_come_from_a_pose(limited):
    rng = np.random.default_rng(9)
    plain, _ = figure(np.random.default_rng(1))
    limits = [JointLimit(j.id, (-1.2,) * 3, (1.2,) * 3) for j in plain.joints[1:]] if limited else []
    skeleton, rig = figure(np.random.default_rng(1), limits)
    for _ in range(25):
        values = {(f"j{k}.fk", f"rotate_{a}"): rng.uniform(-0.6, 0.6) for k in range(1, len(skeleton.joints)) for a in "xyz"}
        values |= {("j0.fk", f"move_{a}"): rng.uniform(-0.2, 0.2) for a in "xyz"}
        target = evaluate_rig(skeleton, rig, Pose(values)).joints
        pose = posed(rig)
        for goal in rig.solvers[0].goals:
            gap = target[skeleton.index[goal.joint], :3, 3] - skeleton.joint(goal.joint).matrix[:3, 3]
            pose = with_values(rig, pose, goal.node.id, move_x=gap[0], move_y=gap[1], move_z=gap[2])
        found = evaluate_rig(skeleton, rig, pose).joints
        missed = [np.linalg.norm((found - target)[skeleton.index[g.joint], :3, 3]) for g in rig.solvers[0].goals]
        assert max(missed) < 1e-3
        own = skeleton.parents[1:]
        lengths = np.linalg.norm(found[1:, :3, 3] - found[own, :3, 3], axis=1)
        assert np.abs(lengths - np.linalg.norm(skeleton.positions[1:] - skeleton.positions[own], axis=1)).max() < 1e-9


def test_a_chain_with_limits_keeps_to_them():
    rng = np.random.default_rng(10)
    points = np.cumsum(rng.normal(size=(6, 3)) * 0.05 + [0.0, 0.2, 0.03], axis=0)
    skeleton = skeleton_of(points, rng=rng)
    limits = [JointLimit(f"j{k}", (-0.3, -0.1, -0.2), (0.5, 0.1, 0.2)) for k in range(1, 6)]
    rig = rig_of(skeleton, ChainIk, limits=limits)
    from pegloom.core.rig.kernels.algebra import turn_vector

    for _ in range(30):
        move = by(rig, rng.normal(size=3) * 0.4)
        world = evaluate_rig(skeleton, rig, posed(rig, **move, turn=0.0)).joints
        for k in range(1, 6):
            now = world[k - 1, :3, :3].T @ world[k, :3, :3]
            rest = skeleton.world[k - 1, :3, :3].T @ skeleton.world[k, :3, :3]
            vector = turn_vector(np.ascontiguousarray(rest.T @ now))
            assert (vector > np.array([-0.3, -0.1, -0.2]) - 1e-6).all()
            assert (vector < np.array([0.5, 0.1, 0.2]) + 1e-6).all()


def test_a_curve_carries_its_joints_by_place_twist_and_length():
    rng = np.random.default_rng(11)
    skeleton, rig = made(rng, SplineIk)
    rest = bones(skeleton.positions)
    pose = with_values(rig, posed(rig), "through6", move_x=0.3, move_y=0.3, rotate_y=0.8)
    found = evaluate_rig(skeleton, rig, pose).joints
    assert np.abs(bones(found[:, :3, 3]) - rest).max() < 1e-9
    spread = evaluate_rig(skeleton, rig, with_values(rig, pose, "goal", keep=0.0)).joints
    tip = evaluate_rig(skeleton, rig, pose).controls[rig.index["through6"], :3, 3]
    assert np.linalg.norm(spread[-1, :3, 3] - tip) < 0.02
    rolled = evaluate_rig(skeleton, rig, with_values(rig, posed(rig), "goal", roll=0.5)).joints
    assert np.abs(rolled[:, :3, :3] - skeleton.world[:, :3, :3]).max() > 0.1


@pytest.mark.parametrize("kind", [LimbIk, BendIk])
def test_dragged_through_the_cone_a_limb_keeps_its_plane(kind):
    """The goal goes straight through the line to the pole, as a hand drags it: step by step, each from the one before."""
    skeleton, rig = made(np.random.default_rng(12), kind)
    rest = skeleton.positions
    whole = bones(rest).sum()
    pole = rig.control("pole").matrix[:3, 3] - rest[0]
    pole /= np.linalg.norm(pole)
    side = np.cross(pole, [0.3, 0.4, 0.5])
    side /= np.linalg.norm(side)

    def path(t):
        return rest[0] + 0.6 * whole * (np.cos(t) * pole + np.sin(t) * side) + 0.001 * whole * np.cross(pole, side)

    def run(keep):
        pose, places = posed(rig, **by(rig, path(0.5) - rest[-1])), []
        for t in np.linspace(0.5, -0.5, 201):
            new = with_values(rig, pose, "goal", **by(rig, path(t) - rest[-1]))
            pose = planes_kept(skeleton, rig, pose, new) if keep else new
            places.append(evaluate_rig(skeleton, rig, pose).joints[:, :3, 3])
        return np.linalg.norm(np.diff(places, axis=0), axis=2).max()

    assert run(False) > 0.1 * whole, "it turns over by itself"
    assert run(True) < 0.02 * whole


def test_a_clip_that_enters_the_cone_is_told_with_its_frame():
    character = rigged_capsules().character
    rig = character.rig
    shoulder = character.skeleton.joint("arm.l.upper").matrix[:3, 3]
    goal, pole = (rig.control(c).matrix[:3, 3] for c in ("arm.l.goal", "arm.l.pole"))
    out = shoulder + 0.8 * (pole - shoulder) - goal
    curves = {("arm.l.goal", "blend"): curve((0.0,), (1.0,))}
    curves |= {("arm.l.goal", f"move_{a}"): curve((0.0, 1.0), (0.0, float(v))) for a, v in zip("xyz", out, strict=True)}
    clip = Clip("c", "wave", 30.0, 1.0, curves=curves)
    (name, frame, count), = cone_visits(character.skeleton, rig, clip)
    assert name == rig.control("arm.l.goal").name and 15 < frame <= 30 and count == 31 - frame
    snags = find_snags(replace(character, clips=(clip,)))
    assert any(s.code == "pole-cone" and f"frame {frame}" in s.message for s in snags)
    still = Clip("c", "still", 30.0, 1.0, curves={("arm.l.goal", "blend"): curve((0.0,), (0.0,))})
    assert cone_visits(character.skeleton, rig, still) == []
