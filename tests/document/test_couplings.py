"""Channels, couplings, twist, foot and hand comfort, outputs: on the shipped figures and on bodies nobody has seen."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from pegloom.core.errors import EditError
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.channels import Quantity
from pegloom.core.rig.controls import with_values
from pegloom.core.rig.couplings import Combine, What
from pegloom.core.rig.evaluate import driven, evaluate_rig, joints_at, place_control
from pegloom.core.rig.formulas import FormulaError
from pegloom.core.rig.match import values_of_joints
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig
from pegloom.document import edits
from pegloom.document.edits import Read
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Morph
from pegloom.document.told.account import account
from pegloom.document.told.verbs import run_steps
from pegloom.files.project import open_project, save_project
from tests.document.test_rig_by_hand import demo
from tests.support.figures import as_mesh, document_of, human, rigged_capsules, wick


@pytest.fixture(scope="module")
def rigged():
    return demo("wick")


def frame_of(document, values=()):
    character = document.character
    return evaluate_rig(character.skeleton, character.rig, Pose(dict(values)))


def joint(document, name, values=()):
    return frame_of(document, values).joints[document.character.skeleton.index[name]]


def value(document, control, key, values=()):
    return frame_of(document, values).values[document.character.rig.slots.index[control, key]]


def nothing_moved(document):
    character = document.character
    frame = frame_of(document)
    assert np.abs(frame.joints - character.skeleton.world).max() < 1e-9 * character.height
    assert np.abs(frame.values - character.rig.slots.rest).max() < 1e-9


def turned(a, b):
    return Rotation.from_matrix(a[:3, :3].T @ b[:3, :3]).magnitude()


# Couplings


def test_every_kind_of_reading_moves_nothing_at_rest_and_says_what_it_measures(rigged):
    document, key = edits.add_channel(rigged, "body", "meter", quantity=Quantity.NUMBER)
    readings = {
        "channel": Read("x", control="spine.head", channel="rotate_y"),
        "distance": Read("x", what=What.DISTANCE, node="leg.l.end", other="leg.r.end"),
        "along": Read("x", what=What.ALONG, node="leg.l.lower", other="root control", axis=(0, 1, 0)),
        "turn": Read("x", what=What.TURN, node="leg.l.lower", axis=(1, 0, 0)),
        "swing": Read("x", what=What.SWING, node="leg.l.upper", axis=(0, 1, 0)),
    }
    pose = {("leg.l.goal", "blend"): 0.0, ("leg.l.lower.fk", "rotate_x"): 0.7, ("leg.l.upper.fk", "rotate_z"): 0.4, ("spine.head", "rotate_y"): 0.3}
    moved = joint(document, "leg.l.end", pose)
    skeleton = document.character.skeleton
    feet = [skeleton.world[skeleton.index[f"leg.{s}.end"], :3, 3] for s in "lr"]
    wanted = {
        "channel": 0.3, "turn": 0.7, "swing": 0.4,
        "distance": np.linalg.norm(moved[:3, 3] - feet[1]) - np.linalg.norm(feet[0] - feet[1]),
        "along": joint(document, "leg.l.lower", pose)[1, 3] - joint(document, "leg.l.lower")[1, 3],
    }  # fmt: skip
    for what, read in readings.items():
        coupled, _ = edits.couple(document, "body", key, [read], gain=2.0)
        nothing_moved(coupled)
        got = value(coupled, "body", key, pose)
        assert got == pytest.approx(2.0 * wanted[what], abs=1e-6), what


@pytest.mark.parametrize("combine", Combine)
def test_how_it_combines_with_what_is_posed(rigged, combine):
    document, _ = edits.couple(rigged, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_x")], gain=0.5, combine=combine)
    nothing_moved(document)
    got = value(document, "spine.head", "rotate_x", {("spine.head", "rotate_x"): 0.3, ("spine.neck", "rotate_x"): 0.4})
    assert got == pytest.approx({Combine.ADD: 0.5, Combine.SET: 0.2, Combine.TIMES: 0.3 * 1.2}[combine])


def test_several_drivers_work_in_their_order_and_are_named(rigged):
    document, one = edits.couple(rigged, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_x")])
    document, two = edits.couple(document, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_y")], combine=Combine.TIMES)
    pose = {("spine.neck", "rotate_x"): 0.4, ("spine.neck", "rotate_y"): 0.5, ("spine.head", "rotate_x"): 0.1}
    assert value(document, "spine.head", "rotate_x", pose) == pytest.approx((0.1 + 0.4) * 1.5)
    swapped = edits.change_coupling(edits.change_coupling(document, one, order=1), two, order=0)
    assert value(swapped, "spine.head", "rotate_x", pose) == pytest.approx(0.1 * 1.5 + 0.4)
    told = next(c for c in account(document.character)["controls"] if c["id"] == "spine.head")
    assert next(c for c in told["channels"] if c["key"] == "rotate_x")["driven_by"] == ["head_fk rotate x 1", "head_fk rotate x 2"]


def test_a_curve_runs_through_its_points_and_limits_hold_after_it(rigged):
    points = [(0.0, 0.0), (0.5, 0.6), (1.0, 0.2)]
    document, key = edits.add_channel(rigged, "body", "lift", quantity=Quantity.SHARE)
    document, told = edits.couple(document, "spine.head", "rotate_z", [Read("x", control="body", channel=key)], curve=points)
    for x, y in points:
        assert value(document, "spine.head", "rotate_z", {("body", key): x}) == pytest.approx(y, abs=1e-9)
    document = edits.change_channel(document, "spine.head", "rotate_z", ChannelChange(limits=(-0.1, 0.4)))
    assert value(document, "spine.head", "rotate_z", {("body", key): 0.5}) == pytest.approx(0.4)
    flat = edits.change_coupling(document, told, curve=())
    assert flat.character.rig.coupling(told).curve is None


def test_a_loop_is_refused_by_what_would_close_it_and_named(rigged):
    document, key = edits.add_channel(rigged, "spine.head", "nod")
    document, _ = edits.couple(document, "spine.neck", "rotate_x", [Read("x", control="spine.head", channel=key)])
    with pytest.raises(EditError, match=r"loop: .*head_fk nod.*neck_fk rotate x|loop: .*neck_fk rotate x.*head_fk nod"):
        edits.couple(document, "spine.head", key, [Read("x", control="spine.neck", channel="rotate_x")])
    with pytest.raises(EditError, match="loop"):
        edits.couple(document, "spine.head", "rotate_x", [Read("x", what=What.TURN, node="spine.head")])
    # A hand may follow the head: what would open the loop is named.
    with pytest.raises(EditError, match="may follow head"):
        edits.couple(document, "spine.neck", "rotate_y", [Read("x", what=What.TURN, node="arm.l.end")])


def test_what_cannot_be_is_one_clear_error(rigged):
    good = Read("x", control="spine.neck", channel="rotate_x")
    for formula in ("y", "x +", "__import__('os')"):
        with pytest.raises(FormulaError):
            edits.couple(rigged, "spine.head", "rotate_x", [good], formula=formula)
    for wrong, said in (
        ([], "choose what is read"), ([replace(good, channel="rotate_q")], "no channel rotate_q"), ([replace(good, control="nobody")], "no control nobody"),
        ([good, good], "name of a reading"), ([replace(good, name="sin")], "name of a reading"), ([replace(good, name="2x")], "name of a reading"),
        ([Read("x", what=What.TURN, node="arm.l.lower", axis=(0, 0, 0))], "no axis"), ([Read("x", what=What.TURN, node="world")], "measures the world"),
    ):  # fmt: skip
        with pytest.raises(EditError, match=said):
            edits.couple(rigged, "spine.head", "rotate_x", wrong)
    with pytest.raises(EditError, match="left to right"):
        edits.couple(rigged, "spine.head", "rotate_x", [good], curve=[(1.0, 0.0), (0.0, 1.0)])


def test_the_other_side_and_mirror_everything_do_the_same_mirrored(rigged):
    document, key = edits.add_channel(rigged, "arm.l.clavicle", "shrug", quantity=Quantity.SHARE)
    document, _ = edits.couple(document, "arm.l.clavicle", "rotate_z", [Read("x", control="arm.l.clavicle", channel=key)], formula="x * 30 * deg")
    document, _ = edits.couple(
        document, "arm.l.clavicle", "rotate_x", [Read("a", what=What.TURN, node="leg.l.lower", axis=(1, 0, 0)), Read("b", control="leg.l.goal", channel="move_x")],
        formula="a * 0.3 + b",
    )  # fmt: skip
    mirrored, said = edits.mirror_rig(document, "left")
    assert "without" not in said
    nothing_moved(mirrored)
    skeleton, flip = mirrored.character.skeleton, np.diag([-1.0, 1, 1])
    pose = Pose({("arm.l.clavicle", key): 0.8, ("leg.l.goal", "move_x"): 0.06, ("leg.l.goal", "move_y"): 0.1, ("arm.r.clavicle", key): 0.3})
    other = edits.mirror_pose(edits.set_pose(mirrored, pose)).character.pose
    one, two = frame_of(mirrored, pose.values).joints, frame_of(mirrored, other.values).joints
    for j in skeleton.joints:
        gap = one[skeleton.index[j.id], :3, 3] @ flip - two[skeleton.index[skeleton.other_side(j.id)], :3, 3]
        assert np.abs(gap).max() < 1e-6 * mirrored.character.height, j.id
    again, _ = edits.mirror_rig(mirrored, "left")
    assert len(again.character.rig.couplings) == len(mirrored.character.rig.couplings)
    told = document.character.rig_changes.own_couplings[0].id
    copied, copy = edits.copy_coupling(document, told, "spine.head", "rotate_z")
    nothing_moved(copied)
    assert value(copied, "spine.head", "rotate_z", {("arm.l.clavicle", key): 1.0}) == pytest.approx(np.radians(30))
    with pytest.raises(EditError, match="of the middle"):
        edits.couple_across(copied, copy)


def test_what_is_driven_can_still_be_dragged_and_back_solved(rigged):
    document, _ = edits.couple(rigged, "spine.head", "rotate_x", [Read("x", control="spine.neck", channel="rotate_x")], gain=0.5)
    character = document.character
    pose = Pose({("spine.neck", "rotate_x"): 0.4, ("spine.head", "rotate_z"): 0.2})
    head = character.rig.control("spine.head")
    here = frame_of(document, pose.values).controls[character.rig.index["spine.head"]]
    again = place_control(character.skeleton, character.rig, Pose({("spine.neck", "rotate_x"): 0.4}), head, here)
    assert np.abs(frame_of(document, again.values).controls[character.rig.index["spine.head"]] - here).max() < 1e-9
    curled = Pose({("arm.l.end.fingers", "curl"): 0.0, **pose.values})
    shown = joints_at(character.skeleton, character.rig, character.rig.slots.vector(curled)[None])
    values = values_of_joints(character.skeleton, character.rig, shown)
    assert np.abs(joints_at(character.skeleton, character.rig, values) - shown).max() < 1e-9


def test_couplings_survive_a_rebuild_a_save_and_another_size(rigged, tmp_path):
    document, key = edits.add_channel(rigged, "body", "reach", quantity=Quantity.LENGTH, low=0.0, high=0.5)
    document, _ = edits.couple(document, "arm.l.goal", "move_z", [Read("x", control="body", channel=key)], formula="x * x * 2 + x", curve=[(0.0, 0.0), (1.0, 0.4)])
    document, _ = edits.couple(document, "spine.head", "rotate_x", [Read("d", what=What.DISTANCE, node="leg.l.end", other="leg.r.end")], gain=0.7)
    pose = {("body", key): 0.2, ("leg.l.goal", "move_x"): 0.1}
    before = frame_of(document, pose)
    moved = edits.build_controls(document)
    assert np.array_equal(frame_of(moved, pose).joints, before.joints)
    path = tmp_path / "coupled.pegloom"
    save_project(path, document)
    assert np.abs(frame_of(open_project(path), pose).joints - before.joints).max() < 1e-12
    large = edits.stand_up(document, height=3 * document.character.height)
    scaled = {("body", key): 0.6, ("leg.l.goal", "move_x"): 0.3}
    after = frame_of(large, scaled)
    i = document.character.rig.slots.index
    for ref, factor in ((("arm.l.goal", "move_z"), 3.0), (("spine.head", "rotate_x"), 1.0)):
        assert after.values[large.character.rig.slots.index[ref]] == pytest.approx(factor * before.values[i[ref]], rel=1e-6), ref


def test_steps_without_a_screen_and_their_account():
    steps = [
        {"edit": "build_controls"},
        {"edit": "add_channel", "control": "head_fk", "title": "blink", "quantity": "share"},
        {"edit": "couple", "control": "neck_fk", "channel": "rotate_y", "readings": [{"name": "b", "control": "head_fk", "channel": "blink"}],
         "formula": "b * 20 * deg", "combine": "set", "name": "blink turns"},
        {"edit": "couple", "control": "l_fingers", "channel": "curl", "readings": [{"what": "turn", "node": "l_shin", "axis": [1, 0, 0]}], "gain": 0.5},
        {"edit": "couple_across", "coupling": "l_fingers curl 1"},
        {"edit": "switch_channels", "controls": ["head_fk", "neck_fk"], "channels": ["rotate_z"], "locked": True},
    ]  # fmt: skip
    document, _ = run_steps(wick(), steps)
    nothing_moved(document)
    told = account(document.character)
    assert {c["name"] for c in told["couplings"]} >= {"blink turns", "l_fingers curl 1", "r_fingers curl 1"}
    locked = {c["name"] for c in told["controls"] for x in c["channels"] if x["key"] == "rotate_z" and x["locked"]}
    assert {"head_fk", "neck_fk"} <= locked
    with pytest.raises(EditError, match=r"steps\[0\].*character 3"):
        run_steps(document, [{"edit": "change_coupling", "coupling": "blink turns", "formula": "b+q"}])


# Comfort


@pytest.mark.parametrize("name", ["wick", "dumble", "harl"])
def test_feet_roll_about_what_stands_on_the_ground(name):
    document = edits.build_controls(demo(name))
    character = document.character
    rig, skeleton = character.rig, character.skeleton
    goals = [limb for limb in rig.limbs if limb.under is not None]
    assert goals, "no foot rolls"
    for limb in goals:
        goal, kit, on = limb.goal.id, limb.id, {limb.amount: 1.0}
        pivots = {p.rsplit(".", 1)[1]: rig.control(p).matrix[:3, 3] for p in rig.index if p.startswith(f"{kit}.foot.")}
        end = skeleton.index[limb.joints[-1]]
        still = frame_of(document, on)
        for key, amount, pivot in (("heel_roll", 0.3, "heel"), ("toe_roll", 0.3, "tip"), ("bank", 0.2, "outer"), ("bank", -0.2, "inner"), ("roll", -0.3, "heel")):
            frame = frame_of(document, {**on, (goal, key): amount})
            turn = frame.controls[rig.index[limb.under.id]] @ np.linalg.inv(still.controls[rig.index[limb.under.id]])
            fixed = turn @ np.append(pivots[pivot], 1.0)
            assert np.abs(fixed[:3] - pivots[pivot]).max() < 1e-9, (goal, key)
            assert Rotation.from_matrix(turn[:3, :3]).magnitude() == pytest.approx(abs(amount), abs=1e-9)
        if "ball" in pivots:
            frame = frame_of(document, {**on, (goal, "roll"): 0.4})
            below = next(j for j in skeleton.children(limb.joints[-1]) if np.allclose(j.position, pivots["ball"], atol=1e-6))
            toes = skeleton.index[below.id]
            # Joints rise within the reach of the leg: the foot turns, the toes stay as they were.
            assert turned(still.joints[toes], frame.joints[toes]) < 1e-6, goal
            assert turned(still.joints[end], frame.joints[end]) > 0.3, goal
    without = edits.set_kit_rig(document, goals[0].id, KitRig(roll=False))
    nothing_moved(without)
    assert without.character.rig.control(goals[0].goal.id).channel("roll") is None


def test_switching_a_rolled_foot_to_fk_and_back_moves_nothing():
    document = edits.build_controls(wick())
    pose = Pose({("leg.l.goal", "roll"): 0.6, ("leg.l.goal", "bank"): 0.1, ("leg.l.goal", "move_z"): 0.1, ("body", "move_y"): -0.05})
    document = edits.set_pose(document, pose)
    before = evaluate(document.character).joints
    fk = edits.switch_limb(document, "leg.l", 0.0)
    assert np.abs(evaluate(fk.character).joints - before).max() < 1e-6 * document.character.height
    back = edits.switch_limb(fk, "leg.l", 1.0)
    assert np.abs(evaluate(back.character).joints - before).max() < 1e-6 * document.character.height


def test_fingers_curl_toward_the_palm_and_spread_apart(rigged):
    skeleton = rigged.character.skeleton
    tips = [f"hand.l.{f}.3" for f in ("index", "middle", "ring", "little")]
    wrist = joint(rigged, "arm.l.end")[:3, 3]

    def reach(values):
        return [float(np.linalg.norm(joint(rigged, t, values)[:3, 3] - wrist)) for t in tips]

    flat, fist = reach({}), reach({("arm.l.end.fingers", "curl"): 1.0})
    assert all(b < 0.8 * a for a, b in zip(flat, fist, strict=True))
    one = reach({("arm.l.end.fingers", "curl_ring"): 1.0})
    assert one[2] < 0.8 * flat[2] and one[:2] == pytest.approx(flat[:2])

    def apart(values):
        ends = [joint(rigged, t, values)[:3, 3] for t in tips]
        return float(np.linalg.norm(ends[0] - ends[-1]))

    assert apart({("arm.l.end.fingers", "spread"): 1.0}) > 1.1 * apart({}) > 1.2 * apart({("arm.l.end.fingers", "spread"): -1.0})
    assert skeleton.joint(tips[0]).role == "finger"


# Twist


def test_twist_is_shared_out_evenly_and_swing_is_not():
    document = edits.build_controls(edits.set_twist(edits.set_twist(wick(), "arm.l", 2), "leg.l", 2))
    nothing_moved(document)
    rest = frame_of(document).joints
    index = document.character.skeleton.index

    def angles(names, values):
        frame = frame_of(document, values)
        return [np.degrees(turned(rest[index[n]], frame.joints[index[n]])) for n in names]

    lower = ["arm.l.lower", "arm.l.lower.twist1", "arm.l.lower.twist2", "arm.l.end"]
    assert angles(lower, {("arm.l.end.fk", "rotate_y"): np.pi / 2}) == pytest.approx([0, 30, 60, 90], abs=1.0)
    assert angles(lower[:3], {("arm.l.end.fk", "rotate_x"): 0.8}) == pytest.approx([0, 0, 0], abs=1.0)
    upper = ["arm.l.upper.twist1", "arm.l.upper.twist2", "arm.l.upper"]
    assert angles(upper, {("arm.l.upper.fk", "rotate_y"): np.pi / 2}) == pytest.approx([30, 60, 90], abs=0.1)
    leg = ["leg.l.upper.twist1", "leg.l.upper.twist2", "leg.l.upper"]
    fk = {("leg.l.goal", "blend"): 0.0}
    assert angles(leg, {**fk, ("leg.l.upper.fk", "rotate_y"): 0.9}) == pytest.approx(np.degrees([0.3, 0.6, 0.9]), abs=0.1)
    off = edits.set_kit_rig(document, "arm.l", KitRig(twist=False))
    assert not any(t.id.startswith("arm.l") for t in off.character.rig.twists)


def test_a_neck_with_twist_joints_shares_out_the_heads_turn():
    document = edits.build_controls(edits.set_twist(wick(), "neck", 1))
    spread = next(t for t in document.character.rig.twists if "neck" in t.id)
    frame = frame_of(document, {("spine.head", "rotate_y"): 0.8})
    i = document.character.skeleton.index[spread.joints[0]]
    assert turned(frame_of(document).joints[i], frame.joints[i]) == pytest.approx(0.4, abs=0.02)


def test_two_twist_joints_keep_ninety_percent_of_a_twisted_wrist():
    kept = {}
    for count in (0, 1, 2):
        document = rigged_capsules()
        if count:
            document = edits.set_twist(document, "arm.l", count)
        document = edits.bind(document)
        document = edits.build_controls(document)
        kept[count] = section_at_wrist(document)
    assert kept[2] > 0.9 and kept[1] > 0.85 and kept[2] > kept[1] > kept[0]


def section_at_wrist(document):
    """The least share of its section's area that the forearm keeps where the hand is twisted by 90 degrees."""
    character = document.character
    skeleton = character.skeleton
    part = character.parts[0]
    elbow, wrist = (np.array(skeleton.joint(f"arm.l.{n}").position) for n in ("lower", "end"))
    way = (wrist - elbow) / np.linalg.norm(wrist - elbow)
    along = (part.mesh.points - elbow) @ way / np.linalg.norm(wrist - elbow)
    near = np.linalg.norm(part.mesh.points - elbow - np.outer((part.mesh.points - elbow) @ way, way), axis=1) < 0.08 * character.height
    posed = evaluate(character, Pose({("arm.l.end.fk", "rotate_y"): np.pi / 2})).points[part.id]
    least = 1.0
    for k in range(2, 11):
        ring = near & (np.abs(along - k / 10) < 0.06)
        if ring.sum() < 8:
            continue
        least = min(least, (girth(posed[ring] - elbow, way) / girth(part.mesh.points[ring] - elbow, way)) ** 2)
    return least


def girth(points, way):
    out = points - np.outer(points @ way, way)
    return float(np.linalg.norm(out - out.mean(axis=0), axis=1).mean())


# Outputs


def test_a_channel_shows_parts_and_controls_and_moves_morph_targets(rigged):
    character = rigged.character
    part = character.parts[0]
    deltas = np.zeros_like(part.mesh.points)
    deltas[:, 1] = 0.02
    document = rigged.with_character(replace(character, parts=(replace(part, morphs=(Morph("swell", deltas),)), *character.parts[1:])))
    document, key = edits.add_channel(document, "body", "dress", quantity=Quantity.CHOICE, options=["hat", "bare", "both"])
    hat = next(p for p in character.parts if "hat" in p.name)
    document, _ = edits.show_by(document, hat.name, "body", key, when=0)
    document, _ = edits.show_by(document, hat.name, "body", key, when=2)
    document, _ = edits.show_by(document, "neck_fk", "body", key, when=1)
    seen = {v: evaluate(document.character, Pose({("body", key): float(v)})).unseen for v in (0, 1, 2)}
    assert seen[0] == {"control:spine.neck"} and seen[1] == {f"part:{hat.id}"} and seen[2] == {"control:spine.neck"}
    document, swell = edits.add_channel(document, "body", "swell", quantity=Quantity.SHARE)
    document, _ = edits.drive_morph(document, "swell", "body", swell)
    rest, half = (evaluate(document.character, Pose({("body", swell): v})).points[part.id] for v in (0.0, 0.5))
    assert np.abs(half - rest - [0, 0.01, 0]).max() < 1e-9
    with pytest.raises(EditError, match="no morph target swel;"):
        edits.drive_morph(document, "swel", "body", swell)
    gone = edits.drop_channel(document, "body", swell)
    assert not gone.character.rig.morphs and not gone.character.rig_changes.own_morphs
    # What counts by a channel goes with it, too, and nothing is left waiting for it.
    reads = [Read(control="arm.r.goal", channel="move_y")]
    counted, _ = edits.couple(document, "body", "move_y", reads, amount=Read(control="body", channel=swell))
    assert not edits.drop_channel(counted, "body", swell).character.rig_changes.own_couplings


def test_widths_thicken_a_joints_own_skin_and_nothing_below_it(rigged):
    document, _ = edits.add_width(rigged, "arm.l.lower")
    width = document.character.rig.widths[0]
    nothing_moved(document)
    owner, pose = width.across.owner, {width.across: 2.0}
    plain, wide = evaluate(document.character, Pose()), evaluate(document.character, Pose(pose))
    assert np.array_equal(plain.joints, wide.joints)
    moved = np.linalg.norm(wide.points["part0"] - plain.points["part0"], axis=1) > 1e-6
    weights = document.character.skin.weights["part0"]
    column = weights.matrix()[:, weights.joint_ids.index("arm.l.lower")].toarray().ravel()
    assert moved.any() and not moved[column == 0].any() and owner == "arm.l.lower.fk"
    # Its channels are its own: they cannot be taken out alone, and go when it goes.
    with pytest.raises(EditError, match="belongs to something made by hand"):
        edits.drop_channel(document, owner, width.across.key)
    gone = edits.drop_output(document, width.id)
    assert gone.character.rig_changes.empty == rigged.character.rig_changes.empty and gone.character.rig.slots.index == rigged.character.rig.slots.index


@pytest.mark.parametrize("build", [{"fat": 1.3, "wide": 1.2}, {"down": 0.8, "head": 1.2, "bend": 0.2}])
def test_unseen_bodies_take_comfort_and_couplings(build):
    document = edits.stand_up(document_of(as_mesh(human(**build)[0])))
    document = edits.build_controls(edits.build_joints(edits.set_pegs(document, edits.find_pegs(document))))
    nothing_moved(document)
    rig = document.character.rig
    assert {limb.id for limb in rig.limbs if limb.under is not None} == {"leg.l", "leg.r"}
    document, _ = edits.couple(document, "leg.l.goal", "roll", [Read("x", control="leg.l.goal", channel="move_y")], formula="clamp(x / (10 * cm), 0, 1) * 60 * deg")
    document, _ = edits.mirror_rig(document, "left")
    nothing_moved(document)
    lifted = {f"leg.{s}.goal": frame_of(document, {(f"leg.{s}.goal", "move_y"): 0.1}).joints for s in "lr"}
    feet = [lifted[f"leg.{s}.goal"][document.character.skeleton.index[f"leg.{s}.end"]] for s in "lr"]
    still = [joint(document, f"leg.{s}.end") for s in "lr"]
    assert [turned(a, b) for a, b in zip(still, feet, strict=True)] == pytest.approx([np.radians(60)] * 2, abs=1e-6)


def test_locked_and_shown_go_to_all_picked_controls(rigged):
    document = edits.switch_channels(rigged, ["l_upper_arm_fk", "r_upper_arm_fk"], locked=True)
    for s in "lr":
        assert document.character.rig.control(f"arm.{s}.upper.fk").free == ()
    with pytest.raises(EditError, match="no free channel"):
        edits.set_channels(document, "arm.l.upper.fk", rotate_x=0.2)
    free = edits.switch_channels(document, ["l_upper_arm_fk"], ["rotate_x"], locked=False)
    assert free.character.rig.control("arm.l.upper.fk").free == ("rotate_x",)
    assert with_values(free.character.rig, Pose(), "arm.l.upper.fk", rotate_x=0.1).values


def test_many_moments_are_driven_as_one_is(rigged):
    character = rigged.character
    rng = np.random.default_rng(3)
    values = character.rig.slots.many(Pose(), 5)
    values += rng.normal(scale=0.1, size=values.shape)
    many = driven(character.skeleton, character.rig, values)
    for k in range(5):
        one = evaluate_rig(character.skeleton, character.rig, character.rig.slots.pose(values[k])).values
        assert np.array_equal(one, many[k])
