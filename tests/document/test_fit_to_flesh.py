"""Weights fitted to flesh: no trial of any region worse than allowed, left as right, a weave before and after, one step."""

from __future__ import annotations

import json

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.checks.trials import joint_trials, trial_figures
from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.jobs import Cancelled
from pegloom.core.skin.mirror import joints_across, partners_within
from pegloom.core.skin.weights import dense_over, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.files.project import open_project, save_project
from tests.support.figures import as_mesh, capsule_figure, document_of, rigged_capsules, shipped


@pytest.fixture(scope="module")
def before():
    return shipped("harl")


@pytest.fixture(scope="module")
def fitted(before):
    return edits.fit_to_flesh(before)


def test_no_region_is_worse_in_any_trial_by_more_than_two_percent(before, fitted):
    after, reports = fitted
    assert reports[0].kept > 0.05 and reports[0].after_mm < reports[0].before_mm
    old = {(f.trial, f.joint): f for f in joint_trials(before.character)[0]}
    for now in joint_trials(after.character)[0]:
        was = old[now.trial, now.joint]
        for a, b in ((was.girth, now.girth), (was.area, now.area)):
            assert a is None or b is None or b >= a or abs(1 - b) <= abs(1 - a) + 0.0201 * a, now
        assert now.stretch <= 1.0201 * max(was.stretch, 1.0), now
    wholes = {f.trial: f for f in trial_figures(before.character)}
    gains = []
    for now in trial_figures(after.character):
        was = wholes[now.trial]
        assert now.folded <= was.folded and now.stretch <= 1.0201 * was.stretch
        assert now.stretch_most <= max(1.0201 * was.stretch_most, 1.5001)
        gains.append(was.stretch_most - now.stretch_most)
    assert max(gains) > 0.02, "somewhere it is better, and told so"


def test_weights_stay_weights_and_left_is_as_right(before, fitted):
    character = fitted[0].character
    part = character.parts[0]
    weights = character.skin.weights[part.id]
    assert row_sums_hold(weights) and most_influences(weights) <= before.character.skin.influences
    across = joints_across(character.skeleton, 0.0)
    ids = weights.joint_ids
    column = [ids.index(across[j]) if across[j] in ids else k for k, j in enumerate(ids)]
    places = partners_within(part.mesh, 0.0, None)
    values = dense_over(weights, ids)
    has = places >= 0
    was = dense_over(before.character.skin.weights[part.id], ids)
    uneven_before = np.abs(was[has] - was[places[has]][:, column]).max()
    assert np.abs(values[has] - values[places[has]][:, column]).max() <= uneven_before + 1e-6


def test_before_and_after_are_weaves(before, fitted):
    names = [w.name for w in fitted[0].character.weaves]
    assert names[-1] == "fitted to flesh"
    assert len(names) >= 2
    part, was = before.character.parts[0].id, before.character.skin.weights
    kept = [w.skin.weights[part] for w in fitted[0].character.weaves[:-1] if part in w.skin.weights]
    assert any(np.array_equal(dense_over(k, was[part].joint_ids), dense_over(was[part], was[part].joint_ids)) for k in kept)


def test_what_cannot_be_fitted_is_refused_and_a_stop_changes_nothing(before):
    with pytest.raises(EditError, match="no bound part of skin"):
        edits.fit_to_flesh(before, part_ids=())
    bare = edits.stand_up(document_of(as_mesh(capsule_figure())))
    with pytest.raises(EditError):
        edits.fit_to_flesh(bare)
    with pytest.raises(EditError, match="may be worse by"):
        edits.fit_to_flesh(before, worse=3.0)

    def stop(fraction, text):
        if fraction > 0.1:
            raise Cancelled

    with pytest.raises(Cancelled):
        edits.fit_to_flesh(before, progress=stop)


def test_from_the_command_line(before, tmp_path):
    save_project(tmp_path / "a.pegloom", rigged_capsules())
    done = CliRunner().invoke(app, ["flesh", str(tmp_path / "a.pegloom"), "-o", str(tmp_path / "b.pegloom"), "--worse", "10", "--json"])
    assert done.exit_code == 0, done.output
    (row,) = json.loads(done.output)["parts"]
    assert row["kept"] > 0.1 and row["poses"] > 20
    assert open_project(tmp_path / "b.pegloom").character.weaves[-1].name == "fitted to flesh"


def test_what_was_painted_by_hand_keeps_its_rows():
    document = rigged_capsules()
    part = document.character.parts[0]
    still = np.flatnonzero(part.mesh.points[:, 0] > 0.15)
    after, reports = edits.fit_to_flesh(document, still={part.id: still.tolist()})
    was, now = document.character.skin.weights[part.id], after.character.skin.weights[part.id]
    ids = tuple(dict.fromkeys((*was.joint_ids, *now.joint_ids)))
    change = np.abs(dense_over(was, ids) - dense_over(now, ids)).max(axis=1)
    assert change[still].max() < 1e-9
    assert reports[0].kept == 0.0 or change.max() > 0.0
