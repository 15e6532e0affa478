"""Proper depth of joints no peg stands for: from a file, or drawn by hand; and the snags that tell of them."""

from dataclasses import replace

import numpy as np
import pytest

from pegloom.checks import Severity, find_snags
from pegloom.core.errors import EditError
from pegloom.core.skeleton.body import body_of
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from tests.support.figures import rigged_capsules, unrigged_wick, wick


@pytest.fixture(scope="module")
def foreign(tmp_path_factory):
    """Wick as another program would hand him over: joints without pegs, vertices parted along the seams."""
    path = tmp_path_factory.mktemp("there") / "wick.glb"
    write_glb(path, replace(wick().character, clips=()))
    got = read_gltf(path)
    return edits.bring_in(Document(), got.parts, name="wick", skeleton=got.skeleton, weights=got.weights)


def at(document, joint):
    return np.array(document.character.skeleton.joint(joint).position)


def test_the_seams_of_a_file_cut_no_section_open(foreign):
    assert foreign.character.parts[0].mesh.vertex_count > wick().character.parts[0].mesh.vertex_count
    assert not edits.proposed_depths(wick())
    assert not edits.proposed_joint_depths(foreign), "what stands at its depth here stands there as well"
    body = edits.set_pegs(edits.start_clean(foreign), wick().character.pegs)
    assert not edits.proposed_depths(body)


@pytest.mark.parametrize(("role", "within"), [("arm.l.lower", 0.015), ("spine.chest", 0.01), ("spine.spine", 0.01)])
def test_a_files_joint_off_its_depth_is_told_and_brought_back(foreign, role, within):
    joint = body_of(foreign.character.skeleton).joint_of[role]
    before = at(foreign, joint)
    off = edits.move_joint(foreign, joint, tuple(before + [0.0, 0.0, 0.06]))
    moves = {m.peg: m for m in edits.proposed_joint_depths(off)}
    assert joint in moves
    assert np.allclose(at(off, joint), before + [0.0, 0.0, 0.06], atol=1e-9), "nothing is moved by proposing"
    back = edits.centre_joints(off)
    assert np.linalg.norm(at(back, joint) - before) < within
    for other in foreign.character.skeleton.joints:
        if other.id not in (joint, foreign.character.skeleton.other_side(joint)):
            assert np.allclose(at(back, other.id), at(foreign, other.id), atol=1e-9), "sound ones are left alone"
    only = edits.centre_joints(off, joints=[])
    assert np.allclose(at(only, joint), at(off, joint))


def test_a_limb_is_not_straightened(foreign):
    roles = body_of(foreign.character.skeleton).joint_of
    hip, knee, ankle = (roles[f"leg.l.{b}"] for b in ("upper", "lower", "end"))
    bent = edits.move_joint(foreign, knee, tuple(at(foreign, knee) + [0.0, 0.0, 0.05]))
    back = edits.centre_joints(bent)

    def bend(document):
        a, b = at(document, knee) - at(document, hip), at(document, ankle) - at(document, knee)
        return np.arccos(np.clip(a @ b / np.linalg.norm(a) / np.linalg.norm(b), -1, 1))

    assert bend(back) > 0.02
    line = at(back, ankle) - at(back, hip)
    off = at(back, knee) - at(back, hip)
    assert (off - line * (off @ line) / (line @ line))[2] > 0, "the knee still points ahead"


def test_joints_outside_the_mesh_are_snags_one_by_one_and_others_one_line(foreign):
    joint = body_of(foreign.character.skeleton).joint_of["arm.l.lower"]
    out = edits.move_joint(foreign, joint, tuple(at(foreign, joint) + [0.0, 0.0, 0.2]), both_sides=False)
    snags = [s for s in find_snags(out.character) if s.code == "outside-mesh"]
    assert [(s.subject, s.severity, s.fix) for s in snags] == [(joint, Severity.DOUBT, "joints.centre")]
    assert "outside the mesh" in snags[0].message
    mended = edits.centre_joints(out, both_sides=False)
    assert not [s for s in find_snags(mended.character) if s.code == "outside-mesh"]
    off = edits.move_joint(foreign, joint, tuple(at(foreign, joint) + [0.0, 0.0, 0.03]))
    notes = [s for s in find_snags(off.character) if s.code == "off-depth"]
    assert len(notes) == 1
    assert notes[0].severity is Severity.NOTE
    assert not [s for s in find_snags(wick().character) if s.code in ("outside-mesh", "off-depth")]


def test_a_peg_outside_is_a_snag_too():
    x, y, z = wick().character.pegs.position("l_knee")
    out = edits.place_peg(wick(), "l_knee", (x, y, z + 0.3))
    subjects = {s.subject for s in find_snags(out.character) if s.code == "outside-mesh"}
    assert subjects == {"l_knee", "r_knee"}


def test_a_drawn_chain_belongs_in_the_middle_of_its_cut():
    # A tail drawn along an arm's own axis, three centimetres off it, stands in for any limb drawn by hand.
    document = rigged_capsules()
    bare = edits.start_clean(document)
    parent = None
    ids = []
    for x in (0.3, 0.4, 0.5, 0.6):
        bare, made = edits.draw_joint(bare, (x, 1.42, 0.03), parent=parent, both_sides=False)
        parent = made
        ids.append(made)
    moves = {m.peg: m.place for m in edits.proposed_joint_depths(bare)}
    assert set(ids[1:3]) <= set(moves)
    done = edits.centre_joints(bare, both_sides=False)
    for joint in ids[1:3]:
        # The arm's axis runs from z = 0 at the shoulder over -0.012 at the elbow; standing up moved all of it.
        moved = np.array(document.character.standing.file_to_character).reshape(4, 4)[2, 3]
        assert np.allclose(at(done, joint)[1:], (1.42, moved - 0.009), atol=0.005)


def test_what_has_no_joints_or_no_surface_says_so(foreign):
    with pytest.raises(EditError, match="no joints yet"):
        edits.proposed_joint_depths(unrigged_wick())
    hidden = foreign
    for part in foreign.character.parts:
        hidden = edits.include_part(hidden, part.id, False)
    with pytest.raises(EditError, match="no included part"):
        edits.proposed_joint_depths(hidden)
    assert not [s for s in find_snags(hidden.character) if s.code == "outside-mesh"]
