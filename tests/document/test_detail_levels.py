"""Detail levels of one body: told by names, shown one at a time, bound by the body's own weights."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
import pytest
from scipy.spatial import cKDTree

from pegloom.checks.quality import crossing_of
from pegloom.core.errors import EditError
from pegloom.core.motion.trials import trial_pose
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.edits.mesh import detail_told
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Part
from tests.document.test_parts_and_looks import coarser
from tests.support.figures import as_mesh, capsule_figure


@lru_cache(maxsize=1)
def levels():
    """A body with two coarser levels, as a game's file brings them, jointed."""
    body = as_mesh(capsule_figure())
    parts = (
        Part("a", "body_LOD0", body),
        Part("b", "body_LOD1", coarser(body)),
        Part("c", "body_LOD2", coarser(coarser(body))),
    )
    document = edits.stand_up(edits.bring_in(Document(), parts, name="figure"))
    return edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))


@pytest.mark.parametrize(
    ("name", "level"),
    [
        ("body_LOD0", 0),
        ("body_LOD2", 2),
        ("Coat.lod1", 1),
        ("lod3", 3),
        ("hat level 2", 2),
        ("explode1", 0),
        ("lodge", 0),
        ("body", 0),
    ],
)
def test_a_name_tells_the_level(name, level):
    assert detail_told(name) == level


def test_levels_are_known_from_the_file_and_shown_one_at_a_time():
    character = levels().character
    assert character.levels == (0, 1, 2)
    assert [p.name for p in character.at_level(0)] == ["body_LOD0"]
    assert [p.name for p in character.at_level(2)] == ["body_LOD2"]
    assert [p.name for p in character.at_level(7)] == ["body_LOD0"], "a level there is none of shows the body"
    coarse_only = edits.remove_part(levels(), "a").character
    assert {p.name for p in coarse_only.at_level(0)} == {"body_LOD1", "body_LOD2"}


def test_pegs_are_found_in_the_body_alone():
    alone = edits.remove_part(edits.remove_part(levels(), "b"), "c")
    one, other = edits.find_pegs(levels(), fingers=0), edits.find_pegs(alone, fingers=0)
    for peg in one.pegs:
        assert np.allclose(peg.position, other.position(peg.name), atol=1e-9)


def test_a_bind_binds_the_body_and_its_levels_read_from_it():
    alone = edits.bind(edits.remove_part(edits.remove_part(levels(), "b"), "c"))
    bound = edits.bind(levels())
    skin = bound.character.skin
    assert set(skin.weights) == {"a", "b", "c"}
    assert np.array_equal(dense(skin.weights["a"]), dense(alone.character.skin.weights["a"])), "as if it were alone"
    for part in ("b", "c"):
        assert row_sums_hold(skin.weights[part])
        assert most_influences(skin.weights[part]) <= 4
    posed = evaluate(bound.character, trial_pose(bound.character.skeleton, "crouch")).points
    for part in ("b", "c"):
        gap, _ = cKDTree(posed["a"]).query(posed[part])
        assert np.quantile(gap, 0.99) < 0.06


def test_a_level_alone_needs_the_body_bound_and_then_reads_from_it():
    with pytest.raises(EditError, match="body itself first"):
        edits.bind(levels(), part_ids=("b",))
    hard = edits.bind(levels(), method=BindMethod.HARD, part_ids=("a",))
    again = edits.bind(hard, part_ids=("b",))
    assert np.array_equal(dense(again.character.skin.weights["a"]), dense(hard.character.skin.weights["a"]))
    assert "c" not in again.character.skin.weights
    rows = dense(again.character.skin.weights["b"])
    assert (rows.max(axis=1) > 0.999).mean() > 0.5, "it reads the hard weights of the body"


def test_levels_lying_in_each_other_do_not_count_as_crossing():
    bound = edits.bind(levels()).character
    one = edits.bind(edits.remove_part(edits.remove_part(levels(), "b"), "c")).character
    pose = trial_pose(bound.skeleton, "knee")
    assert crossing_of(bound, evaluate(bound, pose).points).faces == crossing_of(one, evaluate(one, pose).points).faces


def test_a_file_of_levels_without_a_body_binds_them_all():
    parts = tuple(replace(p, detail=k + 1) for k, p in enumerate(levels().character.parts[:2]))
    document = levels().with_character(replace(levels().character, parts=parts))
    bound = edits.bind(document)
    assert set(bound.character.skin.weights) == {"a", "b"}
