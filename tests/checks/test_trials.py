"""Figures of the trial poses, against trimesh and known shapes."""

from dataclasses import replace

import numpy as np
import pytest
import trimesh

from pegloom.checks.quality import Crossing, crossing_of
from pegloom.checks.trials import trial_figures
from pegloom.core.geometry.mesh import place_edges, place_triangles, weld
from pegloom.core.motion.trials import trial_pose, trials_of
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skin.measures import folded_faces
from pegloom.core.skin.weights import from_dense
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Part, Skin
from tests.support.figures import as_mesh, rigged_capsules, wick


def test_wick_is_measured_in_every_trial_as_trimesh_does():
    character = wick().character
    figures = trial_figures(character)
    trials = trials_of(character.skeleton)
    assert {f.trial for f in figures} == {t.id for t in trials}
    assert {f.part for f in figures} == {p.name for p in character.included}
    body = character.parts[0]
    g, triangles = weld(body.mesh), place_triangles(body.mesh)
    edges = {
        tuple(e) for e in np.sort(place_edges(body.mesh), axis=1).tolist()
    }  # trimesh has the diagonals of faces too
    for trial in trials:
        points = evaluate(character, trial_pose(character.skeleton, trial.id)).points[body.id][g.first]
        made = trimesh.Trimesh(points, triangles, process=False)
        rest = trimesh.Trimesh(body.mesh.points[g.first], triangles, process=False)
        ours = next(f for f in figures if f.trial == trial.id and f.part == body.name)
        assert ours.volume == pytest.approx(made.volume / rest.volume, abs=1e-9)
        drawn = [(int(a), int(b)) in edges for a, b in np.sort(made.edges_unique, axis=1)]
        stretch = (made.edges_unique_length / rest.edges_unique_length)[drawn]
        assert ours.stretch_most == pytest.approx(stretch.max(), rel=1e-6)
        assert ours.stretch == pytest.approx(np.quantile(stretch, 0.99), rel=1e-6)
    rigid = [f for f in figures if f.part == "eyes"]
    assert all(f.stretch_most == pytest.approx(1, abs=1e-6) and f.folded == 0 for f in rigid)


def test_a_sheet_folded_over_is_counted():
    x, y = np.meshgrid(np.arange(5.0), np.arange(2.0))
    flat = np.stack([x.ravel(), y.ravel(), np.zeros(10)], axis=1)
    triangles = np.array([t for i in range(4) for t in ((i, i + 1, i + 6), (i, i + 6, i + 5))])
    assert len(folded_faces(flat, flat, triangles)) == 0
    over = flat.copy()
    over[:, 0] = np.abs(over[:, 0] - 2)
    assert len(folded_faces(flat, over, triangles)) == 2


def test_nothing_is_measured_before_a_bind():
    assert trial_figures(edits.bring_in(Document(), rigged_capsules().character.parts, name="bare").character) == ()


def test_crossing_is_told_by_parts_and_by_joints():
    """Two boxes on two joints: turned into each other they cross, counted as trimesh-made shapes do."""
    a = trimesh.creation.box((0.2, 1.0, 0.2)).subdivide().subdivide()
    b = a.copy()
    b.apply_translation([0.5, 0, 0])
    document = edits.bring_in(
        Document(), (Part("a", "first", as_mesh(a)), Part("b", "second", as_mesh(b))), name="two boxes"
    )
    left = Joint("left", "left", None, Side.CENTRE, (0.0, -0.5, 0.0), tail=(0.0, 0.5, 0.0))
    right = Joint("right", "right", "left", Side.CENTRE, (0.5, -0.5, 0.0), tail=(0.5, 0.5, 0.0))
    character = replace(document.character, skeleton=Skeleton((left, right)))
    parts = [p.id for p in character.included]
    whole = {
        p: from_dense(np.eye(2)[np.full(q.mesh.vertex_count, k)], ("left", "right"))
        for k, (p, q) in enumerate(zip(parts, character.included, strict=True))
    }
    character = replace(character, skin=Skin("hand", 4, whole))
    points = {p: q.mesh.points for p, q in zip(parts, character.included, strict=True)}
    assert crossing_of(character, points) == Crossing(0)
    moved = {**points, parts[1]: points[parts[1]] - [0.35, 0.01, 0.003]}
    found = crossing_of(character, moved)
    assert found.faces > 0
    ((first, second, count),) = found.between
    assert {first, second} == {p.name for p in character.included} and first != second and count == found.faces
    assert set(found.joints) == {"left", "right"} and sum(found.joints.values()) == found.faces
    assert found.joints["left"] == pytest.approx(found.joints["right"], rel=0.5)
