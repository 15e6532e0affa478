from dataclasses import replace
from types import MappingProxyType

import numpy as np

from pegloom.checks import Severity, find_snags, mesh_snags
from pegloom.core.geometry.mesh import from_faces
from pegloom.core.skeleton.pegs import PegSet
from pegloom.document import edits
from tests.support.figures import as_mesh, box_limb, capsule_figure, document_of, unrigged_wick, wick


def codes(snags):
    return {s.code: s.count for s in snags}


def test_what_is_wrong_with_a_mesh_is_found_counted_and_placed():
    points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [0, -1, 0], [5, 5, 5], [2, 0, 0]]
    faces = [[0, 1, 2], [0, 1, 3], [0, 1, 4], [0, 1, 2], [0, 1, 6]]
    snags = mesh_snags(from_faces(points, faces), "bad")
    found = codes(snags)
    assert found["loose-vertices"] == 1
    assert found["non-manifold-edges"] >= 1
    assert found["doubled-faces"] == 1
    assert found["zero-area-faces"] == 1
    assert found["open-edges"] > 0
    loose = next(s for s in snags if s.code == "loose-vertices")
    assert loose.where == (5.0, 5.0, 5.0)
    assert all(s.message.startswith("bad: ") for s in snags)


def test_seams_and_shells_are_notes_only():
    for mesh, code in ((box_limb(seam=True), "unwelded"), (as_mesh(capsule_figure()), "several-shells")):
        snags = mesh_snags(mesh, "m")
        assert code in codes(snags)
        assert all(s.severity is Severity.NOTE for s in snags)


def test_a_fresh_mesh_is_told_to_stand_up_and_a_finished_one_is_clean():
    assert "not-stood-up" in codes(find_snags(unrigged_wick().character))
    assert [s for s in find_snags(wick().character) if s.severity is not Severity.NOTE] == []


def test_weak_pegs_and_unbound_parts_are_snags_until_seen_to():
    document = edits.stand_up(document_of(as_mesh(capsule_figure(hidden_arm=True))))
    pegs = edits.find_pegs(document, fingers=0)
    weak = PegSet(pegs.pattern, 0, tuple(replace(p, confidence=0.2) if p.name == "r_wrist" else p for p in pegs.pegs))
    document = edits.set_pegs(document, weak)
    assert "weak-peg" in codes(find_snags(document.character))
    x, y, z = weak.position("r_wrist")
    document = edits.place_peg(document, "r_wrist", (x, y + 0.01, z), both_sides=False)
    # It is seen to; that it lies in no mesh (the arm is missing) is another matter.
    assert {s.code for s in find_snags(document.character) if s.subject == "r_wrist"} == {"outside-mesh"}
    character = wick().character
    fewer = {k: v for k, v in character.skin.weights.items() if k != "part2"}
    left = replace(character, skin=replace(character.skin, weights=MappingProxyType(fewer)))
    found = [s for s in find_snags(left) if s.severity is Severity.WRONG]
    assert [s.subject for s in found] == ["part2"]
    assert found[0].fix == "weights.bind"


def test_snags_are_listed_worst_first():
    order = [Severity.WRONG, Severity.DOUBT, Severity.NOTE]
    ranks = [order.index(s.severity) for s in find_snags(unrigged_wick().character)]
    assert ranks == sorted(ranks)
    assert np.all(np.diff(ranks) >= 0)


def test_a_vertex_far_off_is_a_snag_and_says_nothing_of_the_size():
    """One vertex left at 1e7 by a bad export: found, shown, and the figure still stands at its own height."""
    whole = as_mesh(capsule_figure())
    stray = from_faces(np.concatenate([whole.points, [[1e7, 0, 0]]]), whole.corners.reshape(-1, 3))
    snag = next(s for s in mesh_snags(stray, "m") if s.code == "far-vertices")
    assert snag.count == 1
    assert snag.where == (1e7, 0.0, 0.0)
    assert "far-vertices" not in codes(mesh_snags(whole, "m"))
    stood, clean = (edits.stand_up(document_of(m)).character for m in (stray, whole))
    assert abs(stood.height - clean.height) < 1e-6
    assert np.allclose(stood.parts[0].mesh.points[:-1], clean.parts[0].mesh.points, atol=1e-3)
    assert "off-floor" not in codes(find_snags(stood))
