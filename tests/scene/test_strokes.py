"""What holds of any stroke: rows add up, the limit and the locks are kept, seams stay whole, nothing outside the brush,
the selection or the side in hand is touched, and what is shown while painting is what is committed."""

from functools import lru_cache

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.errors import EditError
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.evaluate import evaluate_rig, skin_matrices
from pegloom.core.skin.deform import skin_linear
from pegloom.core.skin.weights import dense, dense_over, most_influences, packed, row_sums_hold
from pegloom.document import edits
from pegloom.scene.brushes import BrushMode
from pegloom.scene.stroke import MaskStroke, Stroke
from tests.document.test_weight_laws import seamed
from tests.support.figures import wick

JOINTS = ("arm.l.upper", "leg.r.upper", "spine.chest", "spine.hips", "arm.r.lower", "arm.r.upper")


@lru_cache(maxsize=1)
def figure():
    return seamed().character


def seed_at(number, count=3):
    points = figure().parts[0].mesh.points
    return np.argsort(np.linalg.norm(points - points[number % len(points)], axis=1))[:count]


DABS = st.lists(
    st.tuples(
        st.integers(0, 18_000), st.sampled_from([0.02, 0.06, 0.15]), st.sampled_from(list(BrushMode)),
        st.sampled_from([0.2, 0.7, 1.0]), st.sampled_from([0.0, 0.4, 1.0]),
    ),
    min_size=1, max_size=6,
)  # fmt: skip


@settings(max_examples=40)
@given(st.sampled_from(JOINTS), DABS, st.booleans(), st.sets(st.sampled_from(JOINTS), max_size=2))
def test_any_stroke_keeps_the_laws_of_weights(joint, dabs, both, locked):
    character = figure()
    part = character.parts[0]
    locked = frozenset(locked - {joint})
    stroke = Stroke(character, part, joint, both_sides=both, locked=locked)
    for number, reach, paint, strength, value in dabs:
        stroke.dab(seed_at(number), reach, paint, strength=strength, value=value, hardness=0.3)
    made, before = stroke.weights(), character.skin.weights[part.id]
    values = dense(made)
    assert values.min() >= 0
    assert row_sums_hold(made)
    assert most_influences(made) <= character.skin.influences
    g = stroke.g
    assert np.abs(values - values[g.first][g.group]).max() < 1e-12
    ids = [j.id for j in character.skeleton.joints]
    was, now = dense_over(before, ids), dense_over(made, ids)
    for one in locked:
        assert np.abs(was[:, ids.index(one)] - now[:, ids.index(one)]).max() < 1e-12
    # Nothing farther from a dab than it reaches, on either side, has changed.
    changed = np.abs(was - now).max(axis=1) > 1e-9
    points = part.mesh.points
    near = np.zeros(len(points), dtype=bool)
    for number, reach, *_ in dabs:
        middle = points[seed_at(number)]
        for one in middle:
            for side in (one, one * [-1, 1, 1]) if both else (one,):
                near |= np.linalg.norm(points - side, axis=1) <= reach + 0.04
    assert not (changed & ~near).any()


@settings(max_examples=15)
@given(st.sampled_from(JOINTS), DABS)
def test_what_is_shown_while_painting_is_what_is_committed(joint, dabs):
    character = figure()
    part = character.parts[0]
    stroke = Stroke(character, part, joint, both_sides=True, locked=frozenset())
    joints = evaluate_rig(character.skeleton, None, trial_pose(character.skeleton, "arm_up")).joints
    matrices = skin_matrices(character.skeleton, joints)
    for number, reach, paint, strength, value in dabs:
        stroke.dab(seed_at(number), reach, paint, strength=strength, value=value, hardness=0.3)
        shown = stroke.points(matrices)
    made = stroke.weights()
    columns = [character.skeleton.index[j] for j in made.joint_ids]
    committed = skin_linear(part.mesh.points, packed(made), matrices[columns])
    assert np.abs(shown - committed).max() < 5e-4
    assert np.allclose(stroke.influence(joint), made.column(joint), atol=1e-6)


@pytest.mark.parametrize("paint", list(BrushMode))
def test_a_stroke_inside_a_selection_leaves_all_else_alone(paint):
    character = figure()
    part = character.parts[0]
    inside = seed_at(500, 200)
    stroke = Stroke(character, part, "spine.chest", both_sides=False, locked=frozenset(), inside=inside)
    stroke.dab(seed_at(500), 0.4, paint, strength=1.0, value=0.5, hardness=0.5)
    before, made = dense(character.skin.weights[part.id]), stroke.weights()
    now = dense_over(made, list(character.skin.weights[part.id].joint_ids))
    changed = np.flatnonzero(np.abs(now - before).max(axis=1) > 1e-9)
    whole = np.flatnonzero(np.isin(stroke.g.group, stroke.g.group[inside]))
    assert np.isin(changed, whole).all()


def test_a_brush_on_one_thigh_never_paints_the_other():
    character = wick().character
    part = character.parts[0]
    points = part.mesh.points
    left, right = points[:, 0] > 0.004, points[:, 0] < -0.004
    low = (points[:, 1] > 0.42) & (points[:, 1] < 0.5)  # the crotch is at 0.57
    inner = np.flatnonzero(left & low)
    middle = inner[np.argmin(points[inner, 0])]
    thigh = inner[np.argsort(np.linalg.norm(points[inner] - points[middle], axis=1))[:3]]
    stroke = Stroke(character, part, "leg.l.upper", both_sides=False, locked=frozenset())
    for _ in range(4):
        stroke.dab(thigh, 0.05, BrushMode.SET, strength=1.0, value=1.0, hardness=1.0)
    before, made = character.skin.weights[part.id], stroke.weights()
    grown = np.abs(made.column("leg.l.upper") - before.column("leg.l.upper"))
    other = right & low
    assert np.linalg.norm(points[other] - points[middle], axis=1).min() < 0.05, "near through the air"
    assert stroke.touched
    assert grown[other].max() < 1e-9


def test_a_stroke_goes_on_from_the_last_one_and_gives_the_same():
    character = figure()
    part = character.parts[0]
    first = Stroke(character, part, "arm.l.upper", both_sides=True, locked=frozenset())
    first.dab(seed_at(900), 0.1, BrushMode.ADD, strength=0.6, value=1.0, hardness=0.2)
    document = edits.set_part_weights(seamed(), part.id, first.weights())
    second = [
        Stroke(document.character, document.character.parts[0], "arm.l.upper", both_sides=True, locked=frozenset(), after=after)
        for after in (None, first)
    ]  # fmt: skip
    made = []
    for stroke in second:
        stroke.dab(seed_at(940), 0.1, BrushMode.EVEN, strength=0.8, value=1.0, hardness=0.2)
        made.append(dense(stroke.weights()))
    assert np.allclose(made[0], made[1], atol=1e-12)


def test_what_cannot_be_painted_says_why():
    character = figure()
    part = character.parts[0]
    with pytest.raises(EditError, match="locked"):
        Stroke(character, part, "arm.l.upper", both_sides=True, locked=frozenset({"arm.l.upper"}))
    with pytest.raises(EditError, match="no surface relax"):
        MaskStroke(character, part, "relax", both_sides=True)
    bare = edits.start_clean(seamed(), skeleton=False, controls=False, clips=False).character
    with pytest.raises(EditError, match="not bound"):
        Stroke(bare, bare.parts[0], "arm.l.upper", both_sides=True, locked=frozenset())
    with pytest.raises(EditError, match="not bound"):
        MaskStroke(bare, bare.parts[0], "dual", both_sides=True)


@settings(max_examples=20)
@given(DABS, st.booleans())
def test_a_painted_share_stays_between_none_and_all_and_goes_across(dabs, both):
    character = figure()
    part = character.parts[0]
    stroke = MaskStroke(character, part, "dual", both_sides=both)
    for number, reach, paint, strength, value in dabs:
        stroke.dab(seed_at(number), reach, paint, strength=strength, value=value, hardness=0.3)
    mask = stroke.mask
    assert mask.shape == (part.mesh.vertex_count,)
    assert mask.min() >= 0
    assert mask.max() <= 1
    g = stroke.g
    assert np.array_equal(mask, mask[g.first][g.group])
