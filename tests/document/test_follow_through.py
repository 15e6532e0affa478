"""Follow-through: stable at any setting, the same however a moment is come to, baked as it swings; props and faces."""

from __future__ import annotations

import json
import struct
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import solve_ivp
from scipy.spatial.transform import Rotation

from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.follow_through import SpringTrack, joints_of, state_at
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.kernels.spring import swung
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import build_rig
from pegloom.core.skeleton.build import build_joints
from pegloom.core.skeleton.patterns import free_pegs, shipped_patterns
from pegloom.document import edits
from pegloom.document.delivery import Target
from pegloom.document.edits import Read
from pegloom.document.edits.rig.face import told_expressions, unmatched_controls
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Morph
from pegloom.document.told.poses import played, read_frames
from pegloom.document.told.verbs import run_steps
from pegloom.files.expressions import read_expressions, write_expressions
from pegloom.files.opening import open_any
from pegloom.files.project import open_project, save_project
from pegloom.files.proof import prove
from pegloom.files.writing import write_any
from tests.document.test_rig_by_hand import demo
from tests.support.figures import wick

CHAINS = {"dumble": ("tail.1", ""), "harl": ("tail.1", ""), "winch": ("rope.2", "")}


def moving(name="dumble", **settings):
    """A figure with a chain on springs, and a clip that shakes it."""
    document = demo(name)
    first, last = CHAINS[name]
    document, _ = edits.add_springs(document, first, last)
    if settings:
        document = edits.set_spring_group(document, "soft", **settings)
    document, clip = edits.add_clip(document, "shake", length=2.0)
    height = document.character.height
    for time, x, turn in ((0.0, 0.0, 0.0), (0.4, 0.25, 0.3), (0.7, -0.2, -0.5), (1.2, 0.1, 0.2), (2.0, 0.0, 0.0)):
        posed = edits.set_pose(document, Pose({("root", "move_x"): x * height, ("root", "rotate_y"): turn}))
        document = edits.set_pose(edits.key_controls(posed, clip, time, ("root",)), Pose())
    return document, document.character.clip(clip)


def joints_at(document, clip, times):
    character = document.character
    return joints_of(character.skeleton, character.rig, clip, np.atleast_1d(np.asarray(times, dtype=float)), Pose())


@pytest.mark.parametrize("name", list(CHAINS))
def test_at_rest_it_is_at_rest_and_in_motion_it_lags(name):
    document, clip = moving(name, gravity=9.8)
    character = document.character
    still = evaluate_rig(character.skeleton, character.rig, Pose()).joints
    assert np.abs(still - character.skeleton.world).max() < 1e-9 * character.height
    spring = character.rig.springs[0]
    stiff = edits.set_channels(document, spring.amount.owner, **{spring.amount.key: 0.0}) if spring.amount.owner != "rig" else None
    lag = 0.0
    for time in (0.3, 0.6, 0.9, 1.5):
        pose = sample(clip, time, character.skeleton, Pose(), character.rig)
        hung = evaluate_rig(character.skeleton, character.rig, pose).joints
        swung_ = joints_at(document, clip, time)[0]
        lag = max(lag, float(np.abs(swung_ - hung)[:, :3, 3].max()))
        others = [i for i, j in enumerate(character.skeleton.joints) if j.id not in spring.joints and not j.id.startswith(spring.joints[0].split(".")[0])]
        assert np.abs(swung_ - hung)[others].max() < 1e-9
    assert lag > 0.01 * character.height
    assert stiff is None or stiff is not document


@given(st.floats(-2, 2), st.floats(-5, 5), st.floats(0.05, 5), st.floats(0, 400), st.floats(0, 30), st.floats(0.001, 0.5))
def test_a_tick_is_the_oscillator_a_solver_of_equations_gives(x, v, mass, stiffness, damping, seconds):
    found = swung(x, v, mass, stiffness, damping, seconds)
    wanted = solve_ivp(lambda _, s: [s[1], (-stiffness * s[0] - damping * s[1]) / mass], (0, seconds), [x, v], rtol=1e-9, atol=1e-11).y[:, -1]
    scale = abs(x) + abs(v) + 1.0
    assert np.abs(np.array(found) - wanted).max() < 2e-5 * scale * (1.0 + (stiffness / mass) ** 0.5)


@given(
    st.floats(1e-3, 1e4), st.sampled_from([0.0, 1e-6, 1.0, 50.0, 1e4, 1e6]), st.sampled_from([0.0, 1e-6, 1.0, 40.0, 1e4]), st.floats(1e-4, 10.0),
)
def test_no_setting_and_no_length_of_a_tick_runs_away(mass, stiffness, damping, seconds):
    x, v = 1.0, 0.0
    for _ in range(50):
        x, v = swung(x, v, mass, stiffness, damping, seconds)
        energy = 0.5 * stiffness * x * x + 0.5 * mass * v * v
        assert np.isfinite([x, v]).all() and energy <= 0.5 * stiffness * (1 + 1e-6) + 1e-9


def test_a_moment_is_the_same_however_it_is_come_to():
    document, clip = moving(gravity=4.0)
    character = document.character
    through = {t: state_at(character.skeleton, character.rig, clip, Pose(), t) for t in np.linspace(0, 2, 41).tolist()}
    rng = np.random.default_rng(2)
    for time in rng.permutation(list(through)).tolist():
        fresh = SpringTrack(character.skeleton, character.rig, clip, Pose())
        assert np.array_equal(fresh.at(time), through[time]), time
    # Starved: some at a time, as a busy machine gives it.
    slow = SpringTrack(character.skeleton, character.rig, clip, Pose())
    while not slow.go_on(1.7, 0.0):
        pass
    assert np.array_equal(slow.at(1.7), SpringTrack(character.skeleton, character.rig, clip, Pose()).at(1.7))


def test_the_frame_rate_changes_nothing():
    document, clip = moving()
    at = [0.5, 1.0, 1.5, 2.0]
    figures = [joints_at(document, replace(clip, rate=rate), at) for rate in (24.0, 30.0, 60.0, 120.0)]
    for other in figures[1:]:
        assert np.array_equal(figures[0], other)


@pytest.mark.parametrize("settings", [{"stiffness": 0.0}, {"stiffness": 1e6, "damping": 0.0}, {"mass": 1e4, "damping": 1e4}, {"gravity": 1000.0, "stiffness": 0.0}])
def test_starved_and_shaken_chains_keep_their_bones(settings):
    document, clip = moving(**settings)
    character, spring = document.character, document.character.rig.springs[0]
    joints = joints_at(document, clip, np.linspace(0, 2, 30))
    places = [joints[:, character.skeleton.index[j], :3, 3] for j in spring.joints]
    rest = [character.skeleton.world[character.skeleton.index[j], :3, 3] for j in spring.joints]
    assert np.isfinite(joints).all()
    for k in range(len(places) - 1):
        length = np.linalg.norm(places[k + 1] - places[k], axis=1)
        assert np.abs(length / np.linalg.norm(rest[k + 1] - rest[k]) - 1).max() < 1e-9


def test_swing_and_drift_are_two_amounts():
    document, clip = moving()
    spring = document.character.rig.springs[0]
    owner, index = spring.swing.owner, document.character.skeleton.index

    def tip(swing, drift):
        posed = edits.set_pose(document, Pose({(owner, spring.swing.key): swing, (owner, spring.drift.key): drift}))
        character = posed.character
        return joints_of(character.skeleton, character.rig, clip, np.array([0.55]), character.pose)[0][[index[j] for j in spring.joints]]

    stiff, swings, drifts = tip(0.0, 0.0), tip(1.0, 0.0), tip(0.0, 1.0)
    assert np.abs(stiff[0, :3, 3] - swings[0, :3, 3]).max() < 1e-9
    assert np.abs(stiff[:, :3, :3] - drifts[:, :3, :3]).max() < 1e-9 < np.abs(stiff[0, :3, 3] - drifts[0, :3, 3]).max()
    assert np.abs(stiff[-1, :3, 3] - swings[-1, :3, 3]).max() > 1e-3


def test_baked_it_does_what_it_did_and_can_be_nudged():
    document, clip = moving("harl", gravity=3.0)
    times = np.arange(61) / 30
    before = joints_at(document, clip, times)
    baked, layer = edits.bake_springs(document, clip.id)
    played_ = baked.character.clip(clip.id)
    after = joints_at(baked, played_, times)
    assert np.abs(after - before).max() < 1e-5 * document.character.height
    off = edits.switch_layer(baked, clip.id, layer, False)
    assert np.abs(joints_at(off, off.character.clip(clip.id), times) - before).max() < 1e-12


def test_settings_are_shared_and_go_with_the_last_chain():
    document = demo("dumble")
    document, tail = edits.add_springs(document, "tail.1", group="soft")
    document, ear = edits.add_springs(document, "ear.l.1", group="soft", swing=0.5)
    document = edits.set_spring_group(document, "soft", stiffness=300.0, name="floppy")
    group = document.character.rig.spring_groups[0]
    assert group.name == "floppy" and document.character.rig.slots.rest[document.character.rig.slots.index[group.stiffness]] == 300.0
    document = edits.put_in_group(document, [ear], "stiffer")
    assert {g.name for g in document.character.rig.spring_groups} == {"floppy", "stiffer"}
    mirrored, _ = edits.mirror_rig(document, "left")
    assert {s.joints[0] for s in mirrored.character.rig.springs} == {"tail.1", "ear.l.1", "ear.r.1"}
    fewer = edits.drop_springs(document, tail)
    assert [g.name for g in fewer.character.rig.spring_groups] == ["stiffer"]
    with pytest.raises(EditError, match="follows through already"):
        edits.add_springs(document, "tail.2")
    with pytest.raises(EditError, match="goes from"):
        edits.set_spring_group(document, "floppy", damping=-1.0)


def test_frames_on_the_command_line_count_springs():
    document, _ = moving()
    rate, frames = read_frames(document.character, {"rate": 30, "frames": [{"root": {"move_x": 0.002 * k * k}} for k in range(12)]})
    told = played(document.character, frames, rate)
    names = told["joints"]
    tail = names.index("tail_3") if "tail_3" in names else max(k for k, n in enumerate(names) if n.startswith("tail"))
    last = np.array(told["frames"][-1]["world"][tail]).reshape(4, 4)
    stiff = document.character.skeleton.world[document.character.skeleton.index["tail.3"]]
    assert last[0, 3] < stiff[0, 3] + 0.242 - 1e-3


def test_a_spring_after_ik_swings_the_chain_it_ends_and_a_half_of_it_is_refused():
    document, solver = edits.add_ik(demo("dumble"), "tail.1", "tail.4", "chain")
    document, _ = edits.add_springs(document, "tail.1", "tail.4")
    character = document.character
    assert np.abs(evaluate_rig(character.skeleton, character.rig, Pose()).joints - character.skeleton.world).max() < 1e-9
    with pytest.raises(EditError, match=r"leave .* behind"):
        edits.add_springs(edits.add_ik(demo("dumble"), "tail.1", "tail.4", "chain")[0], "tail.1", "tail.2")
    assert solver


# Props


@pytest.mark.parametrize("ik", [0.0, 1.0])
def test_a_prop_is_taken_passed_on_and_let_go_without_a_jump(ik):
    document, prop = edits.draw_joint(wick(), (0.4, 1.0, 0.3), parent="root", name="lamp", both_sides=False, tail=(0.4, 1.0, 0.5))
    document = edits.build_controls(document)
    document, clip = edits.add_clip(document, "handing over", length=3.0)
    poses = [(0.0, {}), (1.0, {("spine.chest", "rotate_y"): 0.4}), (2.0, {("spine.chest", "rotate_y"): -0.5}), (3.0, {})]
    for time, values in poses:
        posed = edits.set_pose(document, Pose({**values, ("arm.l.goal", "blend"): ik, ("arm.r.goal", "blend"): ik}))
        document = edits.key_controls(posed, clip, time, ("spine.chest", "arm.l.goal", "arm.r.goal"))
    document = edits.set_pose(document, Pose())
    held = next(d.node.id for d in document.character.rig.drives if d.joint == prop)

    def places(which, times):
        character = which.character
        i = character.rig.index[held]
        return np.array([evaluate_rig(character.skeleton, character.rig, sample(character.clip(clip), t, character.skeleton, Pose(), character.rig)).controls[i] for t in times])

    frames = np.arange(91) / 30
    taken = edits.take_hold(document, held, "l_hand", clip=clip, time=0.5)
    passed = edits.take_hold(taken, held, "r_hand", clip=clip, time=1.5)
    freed = edits.let_go(passed, held, clip=clip, time=2.5)
    for before, after, at in ((document, taken, 0.5), (taken, passed, 1.5), (passed, freed, 2.5)):
        same = frames <= at + 1e-9
        assert np.abs(places(after, frames[same]) - places(before, frames[same])).max() < 1e-6
    path = places(freed, frames)[:, :3, 3]
    assert np.linalg.norm(np.diff(path, axis=0), axis=1).max() < 0.1
    # In the hand it stays as it lay there.
    hand = []
    for time in (0.6, 0.9, 1.2):
        character = taken.character
        frame = evaluate_rig(character.skeleton, character.rig, sample(character.clip(clip), time, character.skeleton, Pose(), character.rig))
        hand.append(np.linalg.inv(frame.joints[character.skeleton.index["arm.l.end"]]) @ frame.controls[character.rig.index[held]])
    assert np.abs(hand[0] - hand[1]).max() < 1e-9 and np.abs(hand[1] - hand[2]).max() < 1e-9


# Faces


def with_face(document=None):
    document = document or demo("wick")
    part = document.character.parts[0]
    rng = np.random.default_rng(1)
    morphs = tuple(Morph(n, rng.normal(scale=0.002, size=part.mesh.points.shape)) for n in ("smile", "frown", "l_blink", "r_blink"))
    return document.with_character(replace(document.character, expressions=(), parts=(replace(part, morphs=morphs), *document.character.parts[1:])))


def test_a_handle_slides_morph_targets_and_stops_at_its_ends():
    document, mouth = edits.add_handle(with_face(), "mouth", up="smile", down="frown", reach=0.03)
    character = document.character
    control, part = character.rig.control(mouth), character.parts[0]
    assert np.abs(evaluate(character, Pose()).points[part.id] - evaluate(with_face().character, Pose()).points[part.id]).max() < 1e-12
    rest = evaluate(character, Pose()).points[part.id]
    for y, morph, weight in ((0.03, 0, 1.0), (0.015, 0, 0.5), (-0.03, 1, 1.0), (0.3, 0, 1.0)):
        moved = evaluate(replace(character, skin=None), Pose({(mouth, "move_y"): y})).points[part.id]
        assert np.abs(moved - part.mesh.points - weight * part.morphs[morph].deltas).max() < 1e-9
    assert control.channel("move_x") is None and rest.shape == part.mesh.points.shape
    with pytest.raises(EditError, match="no morph target smirk"):
        edits.add_handle(document, "x", up="smirk")


def test_expressions_are_kept_mixed_and_carried_to_another_by_name(tmp_path):
    document, mouth = edits.add_handle(with_face(), "mouth", up="smile", down="frown", reach=0.03)
    document, lids = edits.add_handle(document, "l_lid", down="l_blink", reach=0.02)
    posed = edits.set_pose(document, Pose({(mouth, "move_y"): 0.02, ("spine.head", "rotate_z"): 0.2, ("arm.l.upper.fk", "rotate_x"): 0.5}))
    document, happy = edits.keep_expression(posed, "happy")
    document, wink = edits.keep_expression(edits.set_pose(document, Pose({(lids, "move_y"): -0.02})), "wink")
    assert set(document.character.expressions[0].values) == {(mouth, "move_y")}, "an arm is no face, and how the head is held is none"
    start = edits.set_pose(document, Pose({("arm.l.upper.fk", "rotate_x"): 0.5}))
    mixed = edits.apply_expression(edits.apply_expression(start, "happy", 0.5), wink, 1.0)
    values = mixed.character.pose.values
    assert values[mouth, "move_y"] == pytest.approx(0.01) and values[lids, "move_y"] == pytest.approx(-0.02) and values["arm.l.upper.fk", "rotate_x"] == 0.5
    taken = edits.apply_expression(mixed, happy, 1.0, mix=False).character.pose.values
    assert (lids, "move_y") not in taken and taken[mouth, "move_y"] == pytest.approx(0.02)
    # To a file, and onto a figure whose mouth is called otherwise.
    path = tmp_path / "faces.json"
    write_expressions(path, told_expressions(document.character))
    told = read_expressions(path)
    other, own = edits.add_handle(with_face(), "muzzle", up="smile", reach=0.03)
    assert unmatched_controls(other.character, told) == ("mouth", "l_lid")
    matched, said = edits.take_expressions(other, told, pairs={"mouth": "muzzle"})
    assert "1 of 2" in said and "l_lid" in said
    shown = edits.apply_expression(matched, "happy").character.pose.values
    assert shown[own, "move_y"] == pytest.approx(0.02)
    assert unmatched_controls(matched.character, told) == ("l_lid",), "what was matched by hand is remembered"
    save_project(tmp_path / "kept.pegloom", matched)
    assert open_project(tmp_path / "kept.pegloom").character.face_pairs == {"mouth": "muzzle"}
    larger = edits.stand_up(document, height=2 * document.character.height)
    assert larger.character.expressions[0].values[mouth, "move_y"] == pytest.approx(0.04)


@pytest.mark.parametrize(
    "damage",
    [
        b"", b"[]", b"{", b'{"format": "peg loom expressions", "version": 2, "expressions": []}', b'{"format": "other", "version": 1}',
        b'{"format": "peg loom expressions", "version": 1, "expressions": [{"name": "a"}]}',
        b'{"format": "peg loom expressions", "version": 1, "expressions": [{"name": 3, "values": []}]}',
        b'{"format": "peg loom expressions", "version": 1, "expressions": [{"name": "a", "values": [{"control": "c", "channel": "k", "value": NaN}]}]}',
        b'{"format": "peg loom expressions", "version": 1, "expressions": [{"name": "a", "values": [{"control": "c", "channel": "k", "value": true}]}]}',
        b'{"format": "peg loom expressions", "version": 1, "expressions": {}}', b"[" * 100000,
    ],
)  # fmt: skip
def test_a_damaged_file_of_expressions_is_one_clear_error(damage, tmp_path):
    path = tmp_path / "faces.json"
    path.write_bytes(damage)
    with pytest.raises(MeshFileError, match=r"faces\.json"):
        read_expressions(path)


def test_steps_make_a_face_and_follow_through_without_a_screen():
    document, made = run_steps(
        with_face(),
        [
            {"edit": "add_handle", "name": "brow", "up": "smile", "left": "frown", "on": "head"},
            {"edit": "add_springs", "first": "l_index_1", "group": "tips", "swing": 0.8},
            {"edit": "set_spring_group", "group": "tips", "stiffness": 90.0},
            {"edit": "set_channels", "control_id": "brow", "move_y": 0.01},
            {"edit": "keep_expression", "name": "raised"},
            {"edit": "spread_twist", "bone": "l_forearm", "joints": ["l_hand"]},
        ][:5],
    )
    assert made[0].startswith("own.") and made[4].startswith("face.")
    assert document.character.rig.springs[0].name == "l_index_1 to l_index_3"


def test_lids_go_along_with_the_eye_beside_them():
    pegs = free_pegs(shipped_patterns()["face"])
    skeleton = build_joints(pegs)
    rig = build_rig(skeleton, 0.3, pegs.kits)
    lids = [c for c in rig.couplings if c.id.endswith(".follows")]
    assert {skeleton.joint(c.drives.owner).side.value for c in lids} >= {"left", "right"}
    assert np.abs(evaluate_rig(skeleton, rig, Pose()).joints - skeleton.world).max() < 1e-9
    frame = evaluate_rig(skeleton, rig, Pose({("eyes.goal", "move_y"): 0.3}))
    for coupling in lids:
        lid = skeleton.index[coupling.drives.owner]
        eye = skeleton.index[coupling.readings[0].measure.node.id]
        turns = [Rotation.from_matrix(frame.joints[i][:3, :3] @ skeleton.world[i][:3, :3].T).as_rotvec() for i in (lid, eye)]
        assert turns[0][0] == pytest.approx(0.5 * turns[1][0], abs=0.05) and abs(turns[1][0]) > 0.1, coupling.name
    still = evaluate_rig(skeleton, rig, Pose({("eyes.goal", "move_y"): 0.3, ("eyes.goal", "lids_follow"): 0.0}))
    for coupling in lids:
        lid = skeleton.index[coupling.drives.owner]
        assert np.abs(still.joints[lid][:3, :3] - skeleton.world[lid][:3, :3]).max() < 1e-9


def test_morph_weights_of_a_clip_are_in_the_glb_and_come_back(tmp_path):
    document, mouth = edits.add_handle(with_face(), "mouth", up="smile", down="frown", reach=0.02)
    document, clip = edits.add_clip(document, "grin", length=1.0)
    for time, y in ((0.0, 0.0), (0.5, 0.02), (1.0, -0.01)):
        document = edits.key_controls(edits.set_pose(document, Pose({(mouth, "move_y"): y})), clip, time, (mouth,))
    document = edits.set_pose(document, Pose())
    only = document.with_character(replace(document.character, clips=(document.character.clip(clip),)))
    path = tmp_path / "grin.glb"
    write_any(path, only)
    # Read by hand: the chunk of JSON, the accessors of the weights.
    data = path.read_bytes()
    length = struct.unpack_from("<I", data, 12)[0]
    tree, binary = json.loads(data[20 : 20 + length]), data[28 + length :]
    channel = next(c for a in tree["animations"] for c in a["channels"] if c["target"]["path"] == "weights")
    sampler = tree["animations"][0]["samplers"][channel["sampler"]]

    def numbers(k):
        accessor = tree["accessors"][k]
        view = tree["bufferViews"][accessor["bufferView"]]
        return np.frombuffer(binary, "<f4", accessor["count"], view.get("byteOffset", 0))

    times, weights = numbers(sampler["input"]), numbers(sampler["output"]).reshape(-1, 4)
    names = tree["meshes"][tree["nodes"][channel["target"]["node"]]["mesh"]]["extras"]["targetNames"]
    assert np.interp(0.5, times, weights[:, names.index("smile")]) == pytest.approx(1.0, abs=1e-6)
    assert np.interp(1.0, times, weights[:, names.index("frown")]) == pytest.approx(0.5, abs=1e-6)
    back = open_any(path).character
    pose = sample(back.clips[0], 0.5, back.skeleton)
    live = evaluate(only.character, sample(only.character.clips[0], 0.5, only.character.skeleton, Pose(), only.character.rig))
    part = next(p for p in back.parts if p.name == document.character.parts[0].name)
    again = evaluate(back, pose).points[part.id]
    whole = live.points[document.character.parts[0].id]
    assert np.abs(again[: len(whole)] - whole).max() < 1e-4
    proof = prove(only, Target("everything"), losses=False)
    assert proof.worst < 1e-4


def test_a_coupling_reads_more_and_less_and_the_rigs_own_channels_are_keyed():
    document = edits.build_controls(wick())
    document, told = edits.couple(document, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_x")])
    document = edits.add_reading(document, told, Read("x", control="spine.neck", channel="rotate_y"))
    one = document.character.rig.coupling(told)
    assert [r.name for r in one.readings] == ["x", "y"]
    both = edits.change_coupling(document, told, formula="x + 2 * y")
    with pytest.raises(EditError, match="no reading y"):
        edits.drop_reading(both, told, "y")
    assert len(edits.drop_reading(document, told, "y").character.rig.coupling(told).readings) == 1
    document, key = edits.add_channel(document, "rig", "wind")
    document, clip = edits.add_clip(document, "windy")
    document = edits.key_controls(edits.set_pose(document, Pose({("rig", key): 0.7})), clip, 0.5, ("rig",))
    assert document.character.clip(clip).curves["rig", key].at(0.5) == 0.7


def test_a_half_made_face_is_mirrored_and_what_has_no_partner_is_told():
    document = with_face()
    part = document.character.parts[0]
    lone = Morph("l_dimple", part.morphs[0].deltas)
    document = document.with_character(replace(document.character, parts=(replace(part, morphs=(*part.morphs, lone)), *document.character.parts[1:])))
    document, lid = edits.add_handle(document, "l_lid", down="l_blink", reach=0.02, place=(0.05, 1.43, 0.2))
    document, cheek = edits.add_handle(document, "l_cheek", left="l_dimple", reach=0.02, place=(0.09, 1.35, 0.15))
    mirrored, said = edits.mirror_rig(document, "left")
    assert "l_dimple" in said or "r_dimple" in said
    rig = mirrored.character.rig
    across = next(c for c in rig.controls if c.name == "r_lid")
    assert across.matrix[0, 3] == pytest.approx(-0.05) and rig.control(lid).side.value == "left"
    rest = part.mesh.points
    shut = evaluate(replace(mirrored.character, skin=None), Pose({(across.id, "move_y"): -0.02})).points[part.id]
    assert np.abs(shut - rest - part.morphs[3].deltas).max() < 1e-9
    other = next(c for c in rig.controls if c.name == "r_cheek")
    assert (other.channel("move_x").low, other.channel("move_x").high) == (-0.02, 0.0) and rig.control(cheek).channel("move_x").high == 0.02
    again, _ = edits.mirror_rig(mirrored, "left")
    assert len(again.character.rig.controls) == len(rig.controls) and len(again.character.rig.morphs) == len(rig.morphs)
