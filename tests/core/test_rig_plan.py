"""Laws of the plan: one for many threads, the same for any order of the records, loops named, limits held."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.clips import values_at
from pegloom.core.rig.channels import Channel, Quantity
from pegloom.core.rig.controls import Drive, with_values
from pegloom.core.rig.evaluate import evaluate_rig, joints_at, nodes_at
from pegloom.core.rig.match import values_of_joints
from pegloom.core.rig.plan import make_plan
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.refs import ChannelRef, base_node, control_node, joint_node
from tests.support.figures import rigged_capsules, wick


def random_values(rig, rng, count):
    values = rig.slots.many(Pose(), count)
    for slot, channel in enumerate(rig.slots.channels):
        size = {Quantity.LENGTH: 0.05, Quantity.ANGLE: 0.5, Quantity.FACTOR: 0.1}.get(channel.quantity, 0.3)
        values[:, slot] += rng.normal(scale=size, size=count)
    return values


def test_one_plan_on_two_threads_gives_the_same_bits():
    character = wick().character
    skeleton, rig = character.skeleton, character.rig
    some = [random_values(rig, np.random.default_rng(seed), 60) for seed in range(8)]
    plan = make_plan(skeleton, rig)
    alone = [nodes_at(skeleton, rig, values) for values in some]
    with ThreadPoolExecutor(2) as pool:
        for _ in range(4):
            together = list(pool.map(lambda v: nodes_at(skeleton, rig, v), some * 2))
            assert all(np.array_equal(a, b) for a, b in zip(together, alone * 2, strict=True))
            solved = list(pool.map(lambda j: values_of_joints(skeleton, rig, j[:, len(rig.controls) :]), alone))
            again = [values_of_joints(skeleton, rig, j[:, len(rig.controls) :]) for j in alone]
            assert all(np.array_equal(a, b) for a, b in zip(solved, again, strict=True))
    assert make_plan(skeleton, rig) is plan
    assert not any(array.flags.writeable for array in plan.arrays), "a plan is never written to"


def test_values_given_are_left_as_they_are():
    character = wick().character
    values = random_values(character.rig, np.random.default_rng(3), 5)
    values[:, character.rig.slots.index["leg.l.goal", "blend"]] = 4.0
    kept = values.copy()
    joints_at(character.skeleton, character.rig, values)
    assert np.array_equal(values, kept), "limits are applied to a copy"


@pytest.mark.parametrize("seed", range(4))
def test_the_order_of_the_records_changes_no_bit(seed):
    character = wick().character
    skeleton, rig = character.skeleton, character.rig
    rng = np.random.default_rng(seed)
    values = random_values(rig, rng, 1)[0]
    pose = rig.slots.pose(values)
    records = ("controls", "drives", "solvers", "constraints", "couplings", "twists", "springs", "board")
    mixed = {kind: tuple(getattr(rig, kind)[i] for i in rng.permutation(len(getattr(rig, kind)))) for kind in records}
    shuffled = replace(rig, **mixed)
    one, other = evaluate_rig(skeleton, rig, pose), evaluate_rig(skeleton, shuffled, pose)
    assert np.array_equal(one.joints, other.joints)
    for control in rig.controls:
        assert np.array_equal(one.controls[rig.index[control.id]], other.controls[shuffled.index[control.id]])
        assert np.array_equal(one.bases[rig.index[control.id]], other.bases[shuffled.index[control.id]])


def test_a_loop_names_exactly_its_members():
    character = rigged_capsules().character
    rig = character.rig
    hung = tuple(replace(c, parent=control_node("spine.chest")) if c.id == "inner" else c for c in rig.controls)
    with pytest.raises(EditError, match="loop") as caught:
        make_plan(character.skeleton, replace(rig, controls=hung))
    said = str(caught.value)
    assert "inner root" in said
    assert "chest_fk" in said
    assert "root control" not in said
    assert "arm" not in said


@pytest.mark.parametrize(("change", "words"), [
    (lambda r: replace(r, drives=(*r.drives, Drive("nobody", control_node("root")))), "joint nobody"),
    (lambda r: replace(r, drives=(*r.drives, Drive("spine.chest", control_node("gone")))), "driven twice"),
    (lambda r: replace(r, drives=(*r.drives, Drive("arm.l.lower", control_node("root")))), "driven by a control and worked out by arm.l"),
    (lambda r: replace(r, solvers=(replace(r.solvers[0], amount=ChannelRef("root", "blend")),)), "channel root blend"),
    (lambda r: replace(r, solvers=(replace(r.solvers[0], pole=joint_node("nose")),)), "joint nose"),
])  # fmt: skip
def test_what_a_rig_says_wrongly_is_told(change, words):
    character = rigged_capsules().character
    with pytest.raises(EditError, match=words):
        make_plan(character.skeleton, change(character.rig))


def test_limits_hold_hard_and_ease_in_softly():
    character = rigged_capsules().character
    rig = character.rig

    def with_channel(**fields):
        def changed(control):
            if control.id != "body":
                return control
            return replace(control, channels=tuple(replace(c, **fields) if c.key == "move_y" else c for c in control.channels))

        return replace(rig, controls=tuple(changed(c) for c in rig.controls))

    def height(made, value):
        frame = evaluate_rig(character.skeleton, made, with_values(made, Pose(), "body", move_y=value))
        return frame.controls[made.index["body"]][1, 3] - made.control("body").matrix[1, 3]

    hard = with_channel(low=-0.1, high=0.2)
    assert height(hard, 0.5) == pytest.approx(0.2)
    assert height(hard, -0.5) == pytest.approx(-0.1)
    assert height(hard, 0.05) == pytest.approx(0.05)
    soft = with_channel(low=-0.1, high=0.2, soft=0.05)
    asked = np.linspace(-0.6, 0.6, 400)
    got = np.array([height(soft, v) for v in asked])
    assert got.max() <= 0.2 + 1e-12
    assert got.min() >= -0.1 - 1e-12
    assert (np.diff(got) > 0).all(), "the more is asked the more is given"
    inside = (asked > -0.05) & (asked < 0.15)
    assert np.allclose(got[inside], asked[inside])
    assert np.abs(np.diff(got, 2)).max() < 3e-4, "without a corner"


def test_what_rides_on_a_base_is_not_moved_by_the_controls_own_channels():
    character = rigged_capsules().character
    rig = character.rig
    hung = tuple(replace(c, parent=base_node("spine.chest")) if c.id == "spine.neck" else c for c in rig.controls)
    rig = replace(rig, controls=hung)
    neck = rig.index["spine.neck"]
    still = evaluate_rig(character.skeleton, rig, Pose()).controls[neck]
    turned = evaluate_rig(character.skeleton, rig, with_values(rig, Pose(), "spine.chest", rotate_x=0.7)).controls[neck]
    assert np.array_equal(still, turned)
    below = evaluate_rig(character.skeleton, rig, with_values(rig, Pose(), "body", rotate_x=0.7)).controls[neck]
    assert np.abs(below - still).max() > 0.1


def test_a_channel_that_is_more_than_a_transform_has_a_slot_and_changes_nothing_else():
    character = rigged_capsules().character
    rig = character.rig
    smile = Channel("smile", "smile", Quantity.SHARE, 0.25, 0.0, 1.0)
    more = tuple(replace(c, channels=(smile, *c.channels)) if c.id == "spine.head" else c for c in rig.controls)
    other = replace(rig, controls=more)
    pose = with_values(other, Pose(), "spine.head", smile=0.8, rotate_x=0.3)
    assert other.value(pose, ("spine.head", "smile")) == 0.8
    assert other.value(Pose(), ("spine.head", "smile")) == 0.25
    wanted = evaluate_rig(character.skeleton, rig, with_values(rig, Pose(), "spine.head", rotate_x=0.3)).joints
    assert np.array_equal(evaluate_rig(character.skeleton, other, pose).joints, wanted)
    assert other.slots.pose(other.slots.vector(pose)).values == pose.values


def test_moving_turning_and_scaling_the_root_does_the_same_to_all():
    character = wick().character
    skeleton, rig = character.skeleton, character.rig
    clip = character.clips[0]
    values = values_at(clip, np.array([0.3, 1.7]), rig)
    index = rig.slots.index
    moved = values.copy()
    moved[:, index["root", "move_x"]] += 0.4
    moved[:, index["root", "rotate_y"]] += 0.9
    moved[:, index["root", "scale"]] *= 1.7
    before, after = nodes_at(skeleton, rig, values), nodes_at(skeleton, rig, moved)
    root = rig.index["root"]
    change = after[:, root] @ np.linalg.inv(before[:, root])
    wanted = change[:, None] @ before
    assert np.abs(wanted - after)[:, :, :3].max() < 1e-9
