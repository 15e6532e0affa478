"""Weights by number and by influence, selections, mirroring with options, trials of one's own."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import from_faces, place_neighbours, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.motion.trials import trial_pose
from pegloom.core.skin import select
from pegloom.core.skin.brush import evened_along, sharpened
from pegloom.core.skin.mirror import Way
from pegloom.core.skin.transfer import filled, transfer_weights
from pegloom.core.skin.weights import dense, from_dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.edits.numbers import irrelevant_joints
from tests.document.test_weaves import body, bound, rows
from tests.support.figures import box_limb


def holds(document) -> None:
    weights = document.character.skin.weights[body(document)]
    assert row_sums_hold(weights)
    assert most_influences(weights) <= 4
    g = weld(document.character.part(body(document)).mesh)
    values = dense(weights)
    assert np.abs(values - values[g.first][g.group]).max() < 1e-12


@given(st.integers(0, 300), st.sampled_from(["arm.l.upper", "spine.chest", "leg.r.lower"]), st.floats(0, 1))
@settings(max_examples=25)
def test_a_typed_number_is_what_stands_there(vertex, joint, value):
    document = edits.set_number(bound(), body(bound()), vertex, joint, value)
    holds(document)
    held = document.character.skin.weights[body(document)].column(joint)[vertex]
    # Under a ten-thousandth a weight is a crumb and left out.
    assert held == pytest.approx(value, abs=3e-4)


def test_locked_joints_keep_their_number_and_bad_numbers_are_refused():
    document, part = bound(), body(bound())
    weights = document.character.skin.weights[part]
    vertex = int(np.argmax((dense(weights) > 0.1).sum(axis=1)))
    own = [j for j in weights.joint_ids if weights.column(j)[vertex] > 0.1]
    made = edits.set_number(document, part, vertex, own[0], 0.0, locked=(own[1],))
    after = made.character.skin.weights[part]
    assert after.column(own[1])[vertex] == pytest.approx(weights.column(own[1])[vertex], abs=1e-9)
    with pytest.raises(EditError, match="0 to 1"):
        edits.set_number(document, part, vertex, own[0], 1.4)
    with pytest.raises(EditError, match="no joint"):
        edits.set_number(document, part, vertex, "tentacle", 0.4)
    with pytest.raises(EditError, match="locked"):
        edits.set_number(document, part, vertex, own[0], 0.4, locked=(own[0],))


def test_copy_paste_and_average():
    document, part = bound(), body(bound())
    row = edits.row_of(document, part, np.array([5]))
    assert sum(row.values()) == pytest.approx(1.0)
    some = np.arange(100, 160)
    pasted = edits.paste_row(document, part, some, row)
    holds(pasted)
    weights = pasted.character.skin.weights[part]
    for joint, value in row.items():
        assert np.allclose(weights.column(joint)[some], value, atol=1e-4)
    even = edits.average_rows(document, part, some)
    holds(even)
    assert np.ptp(rows(even)[some], axis=0).max() < 1e-9
    with pytest.raises(EditError, match="not here"):
        edits.paste_row(document, part, some, {"nobody": 1.0})
    with pytest.raises(EditError, match="nothing"):
        edits.paste_row(document, part, some, {"arm.l.upper": 1.0}, locked=("arm.l.upper",))


def test_a_joint_is_taken_off_handed_over_and_slight_ones_dropped():
    document, part = bound(), body(bound())
    off = edits.drop_influence(document, part, "arm.l.lower")
    holds(off)
    assert off.character.skin.weights[part].column("arm.l.lower").max() == 0.0
    here = np.flatnonzero(document.character.skin.weights[part].column("arm.l.lower") > 0.5)[:10]
    partly = edits.drop_influence(document, part, "arm.l.lower", here)
    assert partly.character.skin.weights[part].column("arm.l.lower")[here].max() == 0.0
    assert partly.character.skin.weights[part].column("arm.l.lower").max() > 0.5
    with pytest.raises(EditError, match="holds nothing"):
        edits.drop_influence(off, part, "arm.l.lower")
    over = edits.replace_influence(document, part, "arm.l.lower", "arm.l.upper")
    holds(over)
    was = document.character.skin.weights[part]
    expected = was.column("arm.l.lower") + was.column("arm.l.upper")
    assert np.allclose(over.character.skin.weights[part].column("arm.l.upper"), expected, atol=1e-6)
    slight = edits.set_number(document, part, 3, "leg.r.end", 0.03)
    assert "leg.r.end" in irrelevant_joints(slight.character.skin.weights[part]) or (
        was.column("leg.r.end").max() > 0.05
    )
    clean, gone = edits.drop_irrelevant(slight, part)
    holds(clean)
    assert not irrelevant_joints(clean.character.skin.weights[part])
    assert set(gone) == set(irrelevant_joints(slight.character.skin.weights[part]))


def test_selections_grow_shrink_and_spread():
    mesh = box_limb(12, seam=True)
    start = np.array([25])
    more = select.grown(mesh, start)
    assert set(start) < set(more)
    assert set(select.shrunk(mesh, select.grown(mesh, more))) >= set(more)
    assert len(select.whole_shells(mesh, start)) == mesh.vertex_count
    rest = select.others(mesh, more)
    assert not set(rest) & set(more) and len(rest) + len(more) == mesh.vertex_count
    assert set(select.rim(mesh, more)) <= set(more)
    g = weld(mesh)
    # A seam's vertices go together.
    for chosen in (more, rest):
        assert set(chosen) == set(np.flatnonzero(np.isin(g.group, g.group[chosen])))
    share = select.softened(mesh, start, 0.3)
    assert share[25] == 1.0 and share[(share > 0) & (share < 1)].min() > 0 and share.min() == 0.0


def test_vertices_are_found_by_what_they_hold():
    weights = from_dense(np.array([[1, 0], [0.6, 0.4], [0.3, 0.7], [0, 1.0]]), ("a", "b"))
    assert select.held_between(weights, "a", 0.0, 0.5).tolist() == [2]
    assert select.held_between(weights, "a", 0.5, 1.0).tolist() == [0, 1]
    assert select.held_between(weights, "b", 0.0, 0.0).tolist() == [0]
    assert select.over_influenced(weights, 1).tolist() == [1, 2]


def test_kept_selections():
    document, part = bound(), body(bound())
    kept = edits.keep_vertices(document, "cuff", {part: np.array([4, 2, 2])})
    assert kept.character.vertex_sets["cuff"][part].tolist() == [2, 4]
    with pytest.raises(EditError):
        edits.keep_vertices(document, " ", {part: np.array([1])})
    assert "cuff" not in edits.drop_vertices(kept, "cuff").character.vertex_sets
    with pytest.raises(EditError, match="no kept"):
        edits.drop_vertices(document, "cuff")


@pytest.mark.parametrize("way", list(Way))
def test_mirroring_either_way_or_averaged(way):
    document, part = bound(), body(bound())
    mesh = document.character.part(part).mesh
    left, right = mesh.points[:, 0] > 0.3, mesh.points[:, 0] < -0.3
    odd = edits.fill_weight(document, part, "arm.l.upper", np.flatnonzero(left), 0.8, both_sides=False)
    made, lost = edits.mirror_weights(odd, part, way)
    assert len(lost) < 0.05 * mesh.vertex_count
    holds(made)
    after = made.character.skin.weights[part]
    a, b = after.column("arm.l.upper")[left].mean(), after.column("arm.r.upper")[right].mean()
    assert a == pytest.approx(b, abs=0.01)
    was = document.character.skin.weights[part].column("arm.r.upper")[right].mean()
    expected = {Way.LEFT_TO_RIGHT: 0.8, Way.RIGHT_TO_LEFT: was, Way.AVERAGED: (0.8 + was) / 2}[way]
    assert b == pytest.approx(expected, abs=0.02)


def test_mirroring_by_place_with_a_tolerance_onto_a_selection():
    document, part = bound(), body(bound())
    mesh = document.character.part(part).mesh
    renamed = edits.rename_joint(document, "arm.r.upper", "quite another name")
    some = np.flatnonzero(mesh.points[:, 0] < -0.4)
    odd = edits.fill_weight(
        renamed, part, "arm.l.upper", np.flatnonzero(mesh.points[:, 0] > 0.4), 0.5, both_sides=False
    )
    made, _ = edits.mirror_weights(odd, part, tolerance=0.05, by_place=True, vertices=some)
    after, before = made.character.skin.weights[part], odd.character.skin.weights[part]
    assert after.column("arm.r.upper")[some].mean() == pytest.approx(0.5, abs=0.05)
    others = np.setdiff1d(np.arange(mesh.vertex_count), some)
    assert np.allclose(after.column("arm.r.upper")[others], before.column("arm.r.upper")[others], atol=1e-6)


def test_sharpening_and_rings():
    mesh = box_limb(20)
    g, ring = weld(mesh), place_neighbours(mesh)
    x = mesh.points[g.first][:, 0]
    share = np.clip(0.5 + (x - 0.5) * 2, 0, 1)
    values = np.stack([1 - share, share], axis=1)
    everything = np.arange(g.count)
    crisp = sharpened(values, everything, np.ones(g.count), ring)
    assert np.allclose(crisp.sum(axis=1), 1.0)
    assert np.ptp(crisp[(x > 0.4) & (x < 0.6), 1]) > np.ptp(values[(x > 0.4) & (x < 0.6), 1])
    noisy = values + np.random.default_rng(0).uniform(-0.1, 0.1, (g.count, 1)) * [1, -1]
    noisy = np.clip(noisy, 0, 1) / np.clip(noisy, 0, 1).sum(axis=1, keepdims=True)
    even = evened_along(noisy, everything, np.ones(g.count), x, 0.05)
    spread = [np.ptp(even[np.abs(x - at) < 1e-9, 1]) for at in np.unique(x)]
    assert max(spread) < 1e-9
    assert np.abs(even[:, 1] - share).mean() < np.abs(noisy[:, 1] - share).mean()
    locked = evened_along(noisy, everything, np.ones(g.count), x, 0.05, locked=np.array([True, False]))
    assert np.allclose(locked, noisy)


def test_a_transfer_does_not_read_from_a_surface_that_faces_elsewhere():
    # Two plates a hand apart; a sleeve between them, nearer the wrong one in its middle.
    square = np.array([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], float)

    def plate(height: float, rows: int = 12):
        u = np.linspace(0, 1, rows + 1)
        points = np.array([[a, height, b] for a in u for b in u])
        n = rows + 1
        faces = [
            [i * n + k, i * n + k + 1, (i + 1) * n + k + 1, (i + 1) * n + k] for i in range(rows) for k in range(rows)
        ]
        return points, np.array(faces)

    assert square.shape == (4, 3)
    points, faces = plate(0.0)
    wall = np.array([[0.5, y, z] for y in (0.02, 0.06) for z in np.linspace(0, 1, 13)])
    wall_faces = np.array([[k, k + 1, 13 + k + 1, 13 + k] for k in range(12)])
    source = from_faces(np.concatenate([points, wall]), np.concatenate([faces, wall_faces + len(points)]))
    held = np.zeros((source.vertex_count, 2))
    held[: len(points), 0] = 1.0
    held[len(points) :, 1] = 1.0
    weights = from_dense(held, ("plate", "wall"))
    cloth_points, cloth_faces = plate(0.03)
    cloth = from_faces(cloth_points, cloth_faces)
    plain, _ = transfer_weights(source, weights, cloth, fill=False)
    wise, report = transfer_weights(source, weights, cloth)
    assert plain.column("wall").max() > 0.9
    assert wise.column("wall").max() < 0.05
    assert report.filled > 0 and report.matched + report.filled + report.forced == cloth.vertex_count
    assert row_sums_hold(wise)


def test_filling_is_smooth_and_keeps_what_is_known():
    mesh = box_limb(30)
    g = weld(mesh)
    x = mesh.points[g.first][:, 0]
    values = np.stack([1 - x, x], axis=1)
    known = (x < 0.2) | (x > 0.8)
    holed = np.where(known[:, None], values, 0.5)
    made = filled(mesh, holed, known)
    assert np.allclose(made[known], values[known])
    assert np.abs(made - values).max() < 0.02
    assert np.allclose(made.sum(axis=1), 1.0)


def test_weights_reach_another_character_by_a_joint_map():
    mesh = box_limb(8)
    weights = from_dense(np.tile([0.5, 0.3, 0.2], (mesh.vertex_count, 1)), ("upper", "twist", "hand"))
    made, _ = transfer_weights(mesh, weights, mesh, joint_map={"upper": "arm", "twist": "arm"})
    assert set(made.joint_ids) == {"arm", "hand"}
    assert np.allclose(made.column("arm"), 0.8)


def test_trials_of_ones_own():
    document = bound()
    pose = trial_pose(document.character.skeleton, "crouch")
    kept, made = edits.keep_trial(document, "low", pose)
    assert kept.character.trials[0].id == made
    with pytest.raises(EditError, match="not taken"):
        edits.keep_trial(kept, "low", pose)
    assert not edits.drop_trial(kept, made).character.trials
    with pytest.raises(EditError, match="no trial"):
        edits.drop_trial(document, made)


def test_weights_are_read_from_another_character():
    document = bound()
    other = document.character
    points = other.parts[0].mesh.points
    # Twice as large, elsewhere, its joints called otherwise: the same weights all the same.
    twin = edits.rename_joints(document, prefix="puppet:")
    grown, reports, told = edits.read_weights(twin, other)
    assert all(name.endswith(told[name].split(":")[-1]) for name in told)
    report = reports[other.parts[0].name]
    assert report.matched > 0.95 * len(points)
    for joint in ("arm.l.upper", "leg.r.lower", "spine.chest"):
        a, b = grown.character.skin.weights[body(grown)].column(joint), other.skin.weights[body(document)].column(joint)
        assert np.abs(a - b).max() < 0.02
    assert grown.character.weaves[-1].name.startswith("from ")
    mapped, _, told = edits.read_weights(document, other, joint_map={"arm.l.end": "arm.l.lower"})
    weights = mapped.character.skin.weights[body(mapped)]
    assert weights.column("arm.l.end").max() == 0.0
    assert weights.column("arm.l.lower").sum() > 1.3 * other.skin.weights[body(document)].column("arm.l.lower").sum()
    with pytest.raises(EditError, match="not here"):
        edits.read_weights(document, other, joint_map={"arm.l.end": "fin"})
    with pytest.raises(EditError, match="no joint of the two"):
        edits.read_weights(document, other, joint_map={}, only_asked=True)


@pytest.mark.parametrize("way", Way)
def test_painted_shares_go_across_with_the_weights(way):
    document = bound()
    part = body(document)
    mesh = document.character.parts[0].mesh
    x = mesh.points[:, 0]
    painted = np.where(x > 0.05, 0.75, 0.0)
    document = edits.set_dual_mask(document, part, painted)
    document = edits.set_relax_mask(edits.set_relax(document, part, steps=4), part, np.where(x < -0.05, 0.5, 1.0))
    made = edits.mirror_weights(document, part, way)[0].character.skin
    pairs = partners(mesh, document.character.standing.middle)
    has = pairs >= 0
    for mask in (made.dual.get(part, np.zeros(len(x))), made.relax[part].mask):
        assert np.abs(mask[has] - mask[pairs[has]]).max() < 1e-12
    wanted = {Way.LEFT_TO_RIGHT: 0.75, Way.RIGHT_TO_LEFT: 0.0, Way.AVERAGED: 0.375}[way]
    assert made.dual.get(part, np.zeros(len(x)))[has & (np.abs(x) > 0.06)] == pytest.approx(wanted)
    some = np.flatnonzero(x < -0.3)
    few = edits.mirror_weights(document, part, Way.LEFT_TO_RIGHT, vertices=some)[0].character.skin.dual[part]
    outside = np.setdiff1d(np.arange(len(x)), some)
    assert np.array_equal(few[outside], painted[outside]) and few[some[has[some]]] == pytest.approx(0.75)
