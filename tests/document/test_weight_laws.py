"""What holds of weights after any edit in any order: rows add up, none is negative, the limit is kept, vertices at one
place carry one row, locked joints keep theirs, the step before is untouched. Random sequences on a seamed figure."""

from functools import lru_cache

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pegloom.core.errors import PegLoomError
from pegloom.core.geometry.mesh import from_faces, weld
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.mirror import Way
from pegloom.core.skin.weights import dense, most_influences
from pegloom.document import edits
from pegloom.document.model import Part
from pegloom.files.project import open_project, save_project
from tests.support.figures import as_mesh, capsule_figure, document_of

LIMIT = 4
JOINTS = ("arm.l.upper", "arm.r.lower", "spine.chest", "leg.l.upper", "spine.hips", "arm.r.upper")


def parted(mesh, seed=0):
    """The mesh with every face's corners on vertices of their own, shuffled: as unwelded as a file can be."""
    rng = np.random.default_rng(seed)
    corners = np.asarray(mesh.corners)
    order = rng.permutation(len(corners))
    place = np.empty(len(corners), dtype=np.int64)
    place[order] = np.arange(len(corners))
    return from_faces(mesh.points[corners[order]], place.reshape(-1, 3))


@lru_cache(maxsize=1)
def seamed():
    """The capsule figure bound, each face on vertices of its own; and a shirt lying a centimetre off it."""
    document = edits.stand_up(document_of(parted(as_mesh(capsule_figure()))))
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    document = edits.bind(document, influences=LIMIT)
    body = document.character.parts[0].mesh
    g = weld(body)
    chest = np.all(np.abs(body.points[body.corners].reshape(-1, 3, 3) - [0, 1.25, 0]) < [0.25, 0.16, 0.3], axis=2).all(
        axis=1
    )
    faces = g.group[body.corners].reshape(-1, 3)[chest]
    used, back = np.unique(faces, return_inverse=True)
    points = body.points[g.first[used]] * [1.08, 1.0, 1.15]
    document = edits.add_parts(
        document.with_character(document.character), (Part("x", "shirt", from_faces(points, back.reshape(-1, 3))),)
    )
    return edits.bind(document, influences=LIMIT)


def some(number, count=40):
    """A patch of vertices, told by a number."""
    mesh = seamed().character.parts[0].mesh
    middle = mesh.points[number % mesh.vertex_count]
    return np.sort(np.argsort(np.linalg.norm(mesh.points - middle, axis=1))[:count])


def laws(document, limit=LIMIT):
    for part in document.character.parts:
        weights = document.character.skin.weights.get(part.id)
        if weights is None:
            continue
        values = dense(weights)
        assert values.min() >= 0.0
        assert np.abs(values.sum(axis=1) - 1.0).max() < 1e-6
        assert most_influences(weights) <= limit
        g = weld(part.mesh)
        assert np.abs(values - values[g.first][g.group]).max() < 1e-12, "a seam would open"


WEIGHT = st.sampled_from([0.0, 0.1, 0.5, 0.93, 1.0])
JOINT = st.sampled_from(JOINTS)
PLACE = st.integers(0, 18_000)
EDITS = st.one_of(
    st.tuples(st.just("fill"), JOINT, PLACE, WEIGHT, st.booleans()),
    st.tuples(st.just("smooth"), PLACE, st.booleans()),
    st.tuples(st.just("number"), JOINT, PLACE, WEIGHT),
    st.tuples(st.just("average"), PLACE),
    st.tuples(st.just("paste"), PLACE, PLACE, st.sampled_from([0.3, 1.0])),
    st.tuples(st.just("drop"), JOINT, PLACE),
    st.tuples(st.just("replace"), JOINT, JOINT, PLACE),
    st.tuples(st.just("mirror"), st.sampled_from(list(Way))),
    st.tuples(st.just("strays")),
    st.tuples(st.just("prune")),
    st.tuples(st.just("irrelevant")),
    st.tuples(st.just("reduce"), st.integers(1, LIMIT)),
    st.tuples(st.just("transfer")),
    st.tuples(st.just("mix"), PLACE),
    st.tuples(st.just("move"), st.sampled_from(["l_elbow", "r_knee", "chest"])),
    st.tuples(st.just("insert"), st.sampled_from(["arm.l.lower", "leg.r.lower"])),
    st.tuples(st.just("split"), st.sampled_from(["arm.l.lower", "spine.chest", "leg.r.lower"]), st.integers(2, 5)),
    st.tuples(st.just("extend"), st.sampled_from(["spine.chest", "leg.l.upper", "arm.r.lower", "head.head"])),
    st.tuples(st.just("count"), st.sampled_from(["spine", "neck"]), st.integers(1, 7)),
    st.tuples(st.just("twist"), st.sampled_from(["arm.l", "leg.r"]), st.integers(0, 3)),
    st.tuples(st.just("delete"), st.sampled_from(["arm.l.lower", "spine.chest"])),
)  # fmt: skip


def done(document, step):
    name, *args = step
    if name == "fill":
        joint, place, value, both = args
        return edits.fill_weight(document, "part0", joint, some(place), value, both_sides=both)
    if name == "smooth":
        return edits.smooth_weights(document, "part0", some(args[0]), both_sides=args[1])
    if name == "number":
        joint, place, value = args
        return edits.set_number(document, "part0", some(place, 6), joint, value)
    if name == "average":
        return edits.average_rows(document, "part0", some(args[0]))
    if name == "paste":
        row = edits.row_of(document, "part0", some(args[0], 1))
        return edits.paste_row(document, "part0", some(args[1], 12), row, share=args[2])
    if name == "drop":
        return edits.drop_influence(document, "part0", args[0], some(args[1]))
    if name == "replace":
        return edits.replace_influence(document, "part0", args[0], args[1], some(args[2]))
    if name == "mirror":
        return edits.mirror_weights(document, "part0", args[0])[0]
    if name == "strays":
        return edits.drop_strays(document)[0]
    if name == "prune":
        return edits.prune_tiny(document, "part0")[0]
    if name == "irrelevant":
        return edits.drop_irrelevant(document, "part0")[0]
    if name == "reduce":
        return edits.reduce_influences(document, args[0])[0]
    if name == "transfer":
        return edits.transfer(document, "part0", document.character.parts[1].id)[0]
    if name == "mix":
        # The state before the first step lies in the weave the bind kept.
        return edits.mix_weave(document, document.character.weaves[0].id, {"part0": some(args[0])})
    if name == "move":
        x, y, z = document.character.pegs.position(args[0])
        return edits.place_peg(document, args[0], (x, y + 0.01, z + 0.01))
    if name == "split":
        return edits.split_bone(document, args[0], args[1])
    if name == "extend":
        return edits.extend_joint(document, args[0])[0]
    if name == "count":
        return edits.set_joint_count(document, args[0], args[1])
    if name == "twist":
        return edits.set_twist(document, args[0], args[1])
    if name == "delete":
        return edits.delete_joint(document, args[0])
    assert name == "insert"
    return edits.insert_joint(document, args[0])[0]


@settings(max_examples=30, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(st.lists(EDITS, min_size=1, max_size=7))
def test_any_sequence_of_edits_keeps_the_laws_of_weights(steps):
    document = seamed()
    for step in steps:
        before = {p: dense(w).copy() for p, w in document.character.skin.weights.items()}
        try:
            after = done(document, step)
        except PegLoomError as error:
            assert len(str(error)) > 10, "what cannot be done is said in words"
            continue
        laws(after)
        for part, values in before.items():
            assert np.array_equal(dense(document.character.skin.weights[part]), values), "the step before is as it was"
        document = after


@pytest.mark.parametrize("step", [
    ("split", "spine.chest", 5), ("split", "arm.l.lower", 4), ("insert", "leg.r.lower"), ("extend", "spine.chest"),
    ("count", "spine", 7), ("twist", "leg.r", 3), ("twist", "arm.l", 3),
])  # fmt: skip
def test_joints_put_in_after_the_bind_keep_the_limit(step):
    document = done(seamed(), step)
    assert len(document.character.skeleton.joints) > len(seamed().character.skeleton.joints)
    laws(document)


@settings(max_examples=25)
@given(JOINT, PLACE, WEIGHT, st.sets(st.sampled_from(JOINTS[1:]), min_size=1, max_size=3))
def test_locked_joints_keep_what_they_hold(joint, place, value, locked):
    locked = locked - {joint}
    document = seamed()
    before = document.character.skin.weights["part0"]
    try:
        after = edits.fill_weight(document, "part0", joint, some(place), value, locked=locked)
    except PegLoomError:
        return
    for one in locked:
        assert np.allclose(after.character.skin.weights["part0"].column(one), before.column(one), atol=1e-12)
    laws(after)


def test_saved_and_opened_weights_are_the_same_to_the_last_digit(tmp_path):
    document = edits.fill_weight(seamed(), "part0", "arm.l.upper", some(77), 0.37)
    save_project(tmp_path / "a.pegloom", document)
    back = open_project(tmp_path / "a.pegloom")
    for part, weights in document.character.skin.weights.items():
        again = back.character.skin.weights[part]
        assert again.joint_ids == weights.joint_ids
        assert np.array_equal(dense(again), dense(weights))


@pytest.mark.parametrize("method", list(BindMethod))
@pytest.mark.parametrize("influences", [1, 2, 4, 8])
def test_every_bind_keeps_the_limit_and_the_seams_of_a_soup(method, influences):
    laws(edits.bind(seamed(), method=method, influences=influences), influences)
