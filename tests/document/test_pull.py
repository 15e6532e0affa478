"""The skin pulled where it belongs: the handle goes there, other poses stay, both sides alike, marks hold, one weave."""

from __future__ import annotations

import json

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import place_edges, place_triangles, weld
from pegloom.core.jobs import Cancelled
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.skin.flesh.pull import around, drawn_surface
from pegloom.core.skin.measures import edge_stretch, folded_faces
from pegloom.core.skin.mirror import partners_within
from pegloom.core.skin.strays import find_strays
from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.figures import rigged_capsules, shipped


def posed(document, trial):
    character = document.character
    return evaluate(character, trial_pose(character.skeleton, trial)).points[character.parts[0].id]


def near(document, at):
    """The vertex of the first part nearest a place at rest."""
    return int(np.linalg.norm(document.character.parts[0].mesh.points - at, axis=1).argmin())


@pytest.fixture(scope="module")
def capsules():
    return rigged_capsules()


@pytest.fixture(scope="module")
def elbow(capsules):
    """The outside of the left elbow led outward, and what came of it."""
    character = capsules.character
    here = posed(capsules, "elbow")
    joint = character.skeleton.positions[character.skeleton.index["arm.l.lower"]]
    vertex = near(capsules, joint + [0.0, 0.0, -0.05])
    by = np.array([0.0, 0.0, -0.01])
    part = character.parts[0].id
    return vertex, by, *edits.pull_skin(capsules, part, here[vertex], by, pose=trial_pose(character.skeleton, "elbow"), radius=0.15)


def test_the_handle_goes_where_it_is_led_and_the_other_side_too(capsules, elbow):
    vertex, by, after, report = elbow
    way = posed(after, "elbow")[vertex] - posed(capsules, "elbow")[vertex]
    assert way @ by > 0.0 and report.reached == pytest.approx(way @ by / (by @ by), abs=1e-3)
    across = partners_within(capsules.character.parts[0].mesh, 0.0, None)[vertex]
    other = posed(after, "elbow")[across] - posed(capsules, "elbow")[across]
    assert np.abs(other - way * [-1.0, 1.0, 1.0]).max() < 2e-3, "the elbow trial bends both arms alike"


def test_a_weave_that_was_given_a_name_of_its_own_stays(capsules, elbow):
    vertex, by, after, _ = elbow
    named = edits.rename_weave(after, after.character.weaves[-1].id, "pulled sleeve")
    part, pose = named.character.parts[0].id, trial_pose(named.character.skeleton, "elbow")
    again, _ = edits.pull_skin(named, part, posed(named, "elbow")[vertex], by, pose=pose, radius=0.15)
    assert [w.name for w in again.character.weaves][-2:] == ["pulled sleeve", "pulled"]


def test_what_is_far_from_it_stays_to_the_last_digit(capsules, elbow):
    _, _, after, _ = elbow
    part = capsules.character.parts[0]
    was, now = (d.character.skin.weights[part.id] for d in (capsules, after))
    far = np.abs(part.mesh.points[:, 0]) < 0.1
    assert np.abs(dense(was)[far] - dense(now)[far]).max() < 1e-9
    assert row_sums_hold(now) and most_influences(now) <= capsules.character.skin.influences


def test_what_it_costs_elsewhere_is_what_it_says(capsules, elbow):
    _, _, after, report = elbow
    character = capsules.character
    for trial in trials_of(character.skeleton):
        far = np.linalg.norm(posed(after, trial.id) - posed(capsules, trial.id), axis=1).max()
        assert report.moved[trial.id] == pytest.approx(far, abs=1e-6)
    assert "of the way" in report.says and "longest edge here" in report.says


def test_the_bad_shoulder_is_mended_in_three_drags():
    document, good = shipped("lesson"), shipped("wick")
    part = document.character.parts[0]
    g, edges, pose = weld(part.mesh), place_edges(part.mesh), trial_pose(document.character.skeleton, "arm_up")
    sound = posed(good, "arm_up")

    def figures(some):
        now = posed(some, "arm_up")[g.first]
        return edge_stretch(part.mesh.points[g.first], now, edges), len(folded_faces(part.mesh.points[g.first], now, place_triangles(part.mesh)))

    before, _ = figures(document)
    strays = len(find_strays(part.mesh, document.character.skin.weights[part.id]))
    for drag in range(3):
        here = posed(document, "arm_up")
        # The armpit first, then what is farthest from where it belongs.
        vertex = int(np.linalg.norm(sound - here, axis=1).argmax()) if drag else near(document, [0.14, 1.02, 0.0])
        document, _ = edits.pull_skin(document, part.id, here[vertex], sound[vertex] - here[vertex], pose=pose)
    after, folded = figures(document)
    assert before.max() > 20.0 and after.max() < 3.5, "torn before, whole after"
    assert (after > 2.0).sum() < 0.25 * (before > 2.0).sum()
    assert folded < 90
    assert len(find_strays(part.mesh, document.character.skin.weights[part.id])) <= strays, "strays do not spread"
    names = [w.name for w in document.character.weaves]
    assert names.count("pulled") == 1 and "before the pull" in names, "a row of pulls is one weave"


def test_what_must_not_move_does_not(capsules):
    character = capsules.character
    part, here = character.parts[0], posed(capsules, "arm_up")
    joint = character.skeleton.positions[character.skeleton.index["arm.l.upper"]]
    vertex = near(capsules, joint + [0.08, 0.06, 0.0])
    still = np.flatnonzero(part.mesh.points[:, 0] < joint[0])
    after, _ = edits.pull_skin(capsules, part.id, here[vertex], np.array([0.0, 0.01, 0.0]), pose=trial_pose(character.skeleton, "arm_up"), radius=0.25, still=still.tolist(), both_sides=False)
    change = np.abs(dense(after.character.skin.weights[part.id]) - dense(character.skin.weights[part.id])).max(axis=1)
    assert change[still].max() < 1e-9 and change.max() > 0.0
    with pytest.raises(EditError, match="must not move"):
        edits.pull_skin(capsules, part.id, here[vertex], np.array([0.0, 0.01, 0.0]), pose=trial_pose(character.skeleton, "arm_up"), still=[vertex])


def test_a_shape_takes_what_weights_cannot_on_both_sides(capsules):
    character = capsules.character
    part, here = character.parts[0], posed(capsules, "elbow")
    joint = character.skeleton.positions[character.skeleton.index["arm.l.lower"]]
    vertex, by = near(capsules, joint + [0.0, 0.0, -0.05]), np.array([0.0, 0.0, -0.03])
    after, report = edits.pull_skin(capsules, part.id, here[vertex], by, pose=trial_pose(character.skeleton, "elbow"), radius=0.12, shape=True)
    now = posed(after, "elbow")
    assert report.shape and len(after.character.shapes) == 2 and all(s.by_hand for s in after.character.shapes)
    assert np.abs(now[vertex] - here[vertex] - by).max() < 1e-3
    across = partners_within(part.mesh, 0.0, None)[vertex]
    assert np.abs(now[across] - here[across] - by * [-1.0, 1.0, 1.0]).max() < 2e-3


def test_width_is_kept_where_that_is_asked():
    document = shipped("wick")
    character = document.character
    part, here, pose = character.parts[0], posed(document, "elbow"), trial_pose(character.skeleton, "elbow")
    vertex = near(document, [0.41, 1.0, -0.06])
    plain, _ = edits.pull_skin(document, part.id, here[vertex], np.array([0.0, 0.0, 0.01]), pose=pose, radius=0.12)
    kept, _ = edits.pull_skin(document, part.id, here[vertex], np.array([0.0, 0.0, 0.01]), pose=pose, radius=0.12, keep_width=True)
    from pegloom.checks.trials import joint_trials

    area = [next(f.area for f in joint_trials(d.character)[0] if f.trial == "elbow" and f.joint == "l_forearm") for d in (plain, kept)]
    assert area[1] > area[0] + 0.02


def test_the_drawn_surface_is_led_at_the_handle_and_still_beyond_its_reach(capsules):
    part = capsules.character.parts[0]
    rest = part.mesh.points[weld(part.mesh).first]
    at = int(np.abs(rest - rest[np.argmax(rest[:, 0])]).sum(axis=1).argmin())
    share = around(part.mesh, at, 0.2)
    by = np.array([0.01, 0.02, 0.0])
    drawn = drawn_surface(part.mesh, rest, at, share, by)
    assert share[at] == pytest.approx(1.0) and np.abs(drawn[at] - rest[at] - by).max() < 1e-4
    assert np.array_equal(drawn[share == 0.0], rest[share == 0.0])
    turned = drawn_surface(part.mesh, rest + [0.3, -0.1, 0.2], at, share, np.zeros(3))
    assert np.abs(turned - rest - [0.3, -0.1, 0.2]).max() < 1e-6, "what is led nowhere stays as it is"


def test_what_cannot_be_pulled_is_refused_and_a_stop_changes_nothing(capsules):
    character = capsules.character
    part, here = character.parts[0], posed(capsules, "elbow")
    with pytest.raises(EditError, match="was not moved"):
        edits.pull_skin(capsules, part.id, here[0], np.zeros(3))
    with pytest.raises(EditError, match="stands as it was bound"):
        edits.pull_skin(capsules, part.id, part.mesh.points[0], np.array([0.0, 0.01, 0.0]))

    def stop(fraction, text):
        if fraction > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        edits.pull_skin(capsules, part.id, here[0], np.array([0.0, 0.01, 0.0]), pose=trial_pose(character.skeleton, "elbow"), progress=stop)


def test_from_the_command_line(capsules, elbow, tmp_path):
    source, to = tmp_path / "figure.pegloom", tmp_path / "pulled.pegloom"
    save_project(source, capsules)
    vertex, by, _, _ = elbow
    at = posed(capsules, "elbow")[vertex]
    words = ["pull", str(source), "-o", str(to), "--trial", "elbow", "--reach", "0.15", "--json", "--at", *map(str, at), "--by", *map(str, by)]
    result = CliRunner().invoke(app, words)
    assert result.exit_code == 0, result.output
    assert json.loads(result.stdout)["reached"] > 0.05
    assert open_project(to).character.weaves[-1].name == "pulled"
    assert CliRunner().invoke(app, [*words[:5], "nonsense", *words[6:]]).exit_code != 0
