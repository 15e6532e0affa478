"""Kits for what a file's skeleton lacks: a hand whose fingers the mesh shows, a spine, a neck."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.skeleton.joints import Origin, Side, Skeleton
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick

NONE = ("hand.", "spine.neck", "spine.head")


def without_fingers(skip=("hand.",)):
    """Wick's mesh with his joints as a file's, but for some."""
    character = wick().character
    joints = [
        replace(j, id=f"b.{j.id}", parent=j.parent and f"b.{j.parent}", origin=Origin.FILE, role="")
        for j in character.skeleton.joints
        if not j.id.startswith(tuple(skip))
    ]
    return edits.bring_in(Document(), character.parts, name="wick", skeleton=Skeleton(tuple(joints)))


def test_fingers_are_added_to_a_wrist_a_file_brought_where_the_mesh_has_them(tmp_path):
    document, first = edits.add_kit(without_fingers(), "fingers", "b.arm.l.end")
    skeleton = document.character.skeleton
    ours = wick().character.skeleton
    assert first == "hand.l.thumb"
    for s in "lr":
        for finger in ("thumb", "index", "middle", "ring", "little"):
            chain = [skeleton.joint(f"hand.{s}.{finger}.{k}") for k in (1, 2, 3)]
            assert chain[0].parent == f"b.arm.{s}.end"
            for k, joint in enumerate(chain, 1):
                there = np.array(ours.joint(f"hand.{s}.{finger}.{k}").position)
                assert np.linalg.norm(np.array(joint.position) - there) < 0.012, joint.id
    left, right = (np.array(skeleton.joint(f"hand.{s}.index.2").position) for s in "lr")
    np.testing.assert_allclose(left * [-1, 1, 1], right, atol=1e-9)
    bound = edits.bind(document)
    part = max(bound.character.included, key=lambda p: p.mesh.vertex_count)
    for finger in ("thumb", "index", "middle", "ring", "little"):
        assert bound.character.skin.weights[part.id].column(f"hand.l.{finger}.3").max() > 0.6
    save_project(tmp_path / "fingers.pegloom", document)
    assert open_project(tmp_path / "fingers.pegloom").character.skeleton.index == skeleton.index


def test_another_number_and_a_second_hand_have_names_of_their_own():
    three, _ = edits.add_kit(without_fingers(), "fingers", "b.arm.r.end", count=3, both_sides=False)
    joints = three.character.skeleton.index
    assert "hand.r.middle.1" in joints and "hand.r.ring.1" not in joints and not [j for j in joints if j.startswith("hand.l")]
    again, first = edits.add_kit(three, "fingers", "b.arm.r.end", count=2, both_sides=False)
    assert first.startswith("hand2.r.")
    names = [j.name for j in again.character.skeleton.joints]
    assert len(set(names)) == len(names)
    with pytest.raises(EditError, match="two fingers"):
        edits.add_kit(three, "fingers", "b.arm.r.end", count=0)


@pytest.mark.parametrize("kind", ["spine", "neck"])
def test_a_spine_and_a_neck_hang_on_any_joint(kind):
    document = without_fingers(skip=NONE)
    on = "b.spine.chest" if kind == "neck" else "b.root"
    made, kit = edits.add_kit(document, kind, on)
    new = [j for j in made.character.skeleton.joints if j.id.startswith(f"{kit}.")]
    assert len(new) == (2 if kind == "neck" else 3)
    assert new[0].parent == on and all(j.side is Side.CENTRE for j in new)
    heights = [j.position[1] for j in new]
    assert heights == sorted(heights)
    more = edits.add_kit(document, kind, on, count=5)[0].character.skeleton
    assert len([j for j in more.joints if j.id.startswith(f"{kit}.")]) == 5
