"""Skeletons that hang together in other ways: their limbs are found by where they stand, and tried as any."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.errors import EditError
from pegloom.core.motion.trials import trials_of, turns_of
from pegloom.core.skeleton.body import body_of, unknown_chains
from pegloom.core.skeleton.body_words import chain_title, chains
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project
from tests.support.figures import wick


def foreign(*, own_roots=(), without=(), extra=(), carrier=False):
    """Wick's joints as a file would bring them, called b0, b1, ...; and the new id of each old one.

    own_roots : joints that hang on nothing. extra : (id, above, below, place): a joint put in between two.
    carrier : whether all that has a root of its own hangs on one root on the floor.
    """
    skeleton = wick().character.skeleton
    number = {j.id: f"b{k}" for k, j in enumerate(skeleton.joints)}
    joints = []
    for j in skeleton.joints:
        if j.id in without:
            continue
        parent = None if j.id in own_roots or j.parent in without else number.get(j.parent)
        joints.append(replace(j, id=number[j.id], name=number[j.id], parent=parent, side=Side.CENTRE, origin=Origin.FILE, role=""))
    for name, above, below, place in extra:
        k = next(i for i, j in enumerate(joints) if j.id == number[below])
        joints.insert(k, Joint(name, name, number[above], Side.CENTRE, place, origin=Origin.FILE))
        joints[k + 1] = replace(joints[k + 1], parent=name)
    if carrier:
        joints = [replace(j, parent="floor") if j.parent is None else j for j in joints]
        joints.insert(0, Joint("floor", "floor", None, Side.CENTRE, (0.0, 0.0, 0.0), origin=Origin.FILE))
    return Skeleton(tuple(joints)), number


LIMBS = [f"{limb}.{s}.{bone}" for limb in ("arm", "leg") for s in "lr" for bone in ("upper", "lower", "end")]


def agrees(skeleton, number, roles=LIMBS):
    found = body_of(skeleton).joint_of
    return [role for role in roles if found.get(role) != number[role]]


def test_a_hip_s_own_joint_is_not_the_thigh():
    skeleton = wick().character.skeleton
    extra = []
    for s, sign in (("l", 1), ("r", -1)):
        thigh = np.array(skeleton.joint(f"leg.{s}.upper").position)
        # A bone from near the middle out to the thigh, a third of the thigh's length and more.
        knee = np.array(skeleton.joint(f"leg.{s}.lower").position)
        inward = thigh + [-sign * 0.45 * float(np.linalg.norm(thigh - knee)), 0.02, 0.0]
        extra.append((f"hip{s}", "spine.hips", f"leg.{s}.upper", tuple(inward)))
    made, number = foreign(extra=extra, without=("root",))
    assert not agrees(made, number)
    knee = turns_of(made, "knee").turns
    assert {number["leg.l.lower"], number["leg.r.lower"]} <= set(knee)
    assert not {"hipl", "hipr", number["leg.l.upper"]} & set(knee)


@pytest.mark.parametrize("carrier", [False, True])
def test_limbs_on_roots_of_their_own_are_this_body_s(carrier):
    tops = ("leg.l.upper", "leg.r.upper", "arm.l.clavicle", "arm.r.clavicle")
    made, number = foreign(own_roots=tops, without=("root",), carrier=carrier)
    assert not agrees(made, number)
    whole, _ = foreign(without=("root",))
    names = {t.id for t in trials_of(whole)}
    assert {t.id for t in trials_of(made)} == names


def test_a_trunk_in_three_pieces_is_one():
    chain = [j.id for j in wick().character.skeleton.joints if j.id.startswith("spine.") and j.id != "spine.head"]
    tops = (chain[1], "spine.chest")
    made, number = foreign(own_roots=tops, without=("root",))
    assert not agrees(made, number, [*LIMBS, "spine.hips", "spine.chest", "spine.head"])


def test_a_joint_alone_beside_the_body_is_hung_on_nothing():
    made, number = foreign(without=("root",))
    lone = Skeleton((*made.joints, Joint("m", "m", None, Side.CENTRE, (0.8, 0.1, 0.5), origin=Origin.FILE)))
    assert not agrees(lone, number)
    assert body_of(lone).skeleton.joint("m").parent is None


def adopted(skeleton):
    part = max(wick().character.included, key=lambda p: p.mesh.vertex_count)
    return edits.bring_in(Document(), (part,), name="wick", skeleton=skeleton)


WORN = {
    "a skirt": ("spine.hips", [[(0.2, 0.85, 0.1), (0.24, 0.5, 0.14), (0.28, 0.2, 0.17), (0.3, 0.06, 0.18)],
                               [(0.2, 0.85, -0.1), (0.24, 0.5, -0.14), (0.28, 0.2, -0.17), (0.3, 0.06, -0.18)]]),
    "a cape": ("spine.chest", [[(0.2, 1.25, -0.16), (0.26, 0.8, -0.2), (0.3, 0.4, -0.24), (0.32, 0.08, -0.26)]]),
    "wings": ("spine.chest", [[(0.1, 1.3, -0.15), (0.6, 1.6, -0.25), (1.2, 1.5, -0.3), (1.6, 1.2, -0.3)]]),
    "coat tails": ("spine.hips", [[(0.12, 0.9, -0.17), (0.13, 0.6, -0.2), (0.14, 0.3, -0.22), (0.14, 0.1, -0.24)]]),
    "chains hung below the floor": ("spine.hips", [[(0.3, 0.6, 0.0), (0.34, 0.1, 0.0), (0.36, -0.5, 0.0), (0.36, -0.9, 0.0)]]),
}  # fmt: skip


def dressed(what):
    """Wick's joints from a file, with chains of what he wears on both sides."""
    made, number = foreign(without=("root",))
    holder, chains_ = WORN[what]
    joints = list(made.joints)
    for k, chain in enumerate(chains_):
        for sign in (1, -1):
            parent = number[holder]
            for i, (x, y, z) in enumerate(chain):
                name = f"w{k}{'ab'[sign < 0]}{i}"
                joints.append(Joint(name, name, parent, Side.CENTRE, (sign * x, y, z), origin=Origin.FILE))
                parent = name
    return Skeleton(tuple(joints)), number


@pytest.mark.parametrize("what", WORN)
def test_what_runs_along_a_sheet_or_outside_the_flesh_is_no_limb(what):
    made, number = dressed(what)
    assert agrees(made, number) or [r for r in body_of(made).joint_of if r.startswith(("foreleg", "leg1", "wing"))]
    document = adopted(made)
    body = body_of(document.character.skeleton)
    assert not agrees(document.character.skeleton, number)
    assert not [role for role in body.joint_of if role.startswith(("foreleg", "wing", "leg1"))]
    assert {t.id for t in trials_of(document.character.skeleton)} == {t.id for t in trials_of(adopted(foreign(without=("root",))[0]).character.skeleton)}


def test_a_chain_nobody_recognised_is_said_to_be_a_limb_and_a_limb_to_be_none():
    document = adopted(dressed("wings")[0])
    skeleton = document.character.skeleton
    wing = next(chain for chain in unknown_chains(skeleton) if chain[0] == "w0a0")
    assert wing == ("w0a0", "w0a1", "w0a2", "w0a3")
    said = edits.say_chain(document, wing, "wing.l")
    body = body_of(said.character.skeleton)
    assert [body.joint_of[f"wing.{s}.upper"] for s in "lr"] == ["w0a0", "w0b0"]
    assert not [c for c in unknown_chains(said.character.skeleton) if c[0].startswith("w0")]
    number = dressed("wings")[1]
    legs = tuple(number[f"leg.l.{bone}"] for bone in ("upper", "lower", "end"))
    none = body_of(edits.say_chain(said, legs, "-").character.skeleton).joint_of
    assert not [role for role in none if role.startswith("leg")] and "arm.l.upper" in none
    assert body_of(edits.say_chain(edits.say_chain(said, legs, "-"), legs, None).character.skeleton).joint_of == body.joint_of
    with pytest.raises(EditError, match="three joints"):
        edits.say_chain(document, wing[:2], "arm.l")
    with pytest.raises(EditError, match="no limb"):
        edits.say_chain(document, wing, "fin.l")


def test_how_deep_a_file_s_joints_lie_is_kept_with_the_project(tmp_path):
    document = adopted(dressed("a cape")[0])
    thick = {j.id: j.thick for j in document.character.skeleton.joints}
    assert min(v for k, v in thick.items() if not k.startswith("w")) >= 0 and max(v for k, v in thick.items() if k[0] == "w") == 0
    save_project(tmp_path / "worn.pegloom", document)
    assert {j.id: j.thick for j in open_project(tmp_path / "worn.pegloom").character.skeleton.joints} == thick


def test_what_a_person_says_of_a_bone_goes_for_its_limb_and_the_other_side(tmp_path):
    """A tentacled arm whose longest bones are its hand's; one says which is the forearm."""
    made, number = foreign(without=("root",))
    document = adopted(made)
    fore = number["arm.l.lower"]
    hand = number["arm.l.end"]
    wrong = edits.say_part(document, hand, "arm.l.lower")
    body = body_of(wrong.character.skeleton)
    assert body.joint_of["arm.l.upper"] == fore
    assert body.joint_of["arm.r.lower"] == number["arm.r.end"]
    assert number["arm.l.upper"] == body.joint_of["arm.l.clavicle"]
    save_project(tmp_path / "said.pegloom", wrong)
    assert body_of(open_project(tmp_path / "said.pegloom").character.skeleton).joint_of == body.joint_of
    # Said of another, it is no more said of the first; and taken back, all is found as before.
    right = edits.say_part(wrong, fore, "arm.l.lower")
    assert not agrees(right.character.skeleton, number)
    assert body_of(edits.say_part(right, fore, None).character.skeleton).joint_of == body_of(document.character.skeleton).joint_of


def test_what_is_said_to_be_nothing_is_no_limb_and_not_tried():
    made, number = foreign(without=("root",))
    document = edits.say_part(adopted(made), number["leg.l.upper"], "-")
    found = body_of(document.character.skeleton).joint_of
    assert not [role for role in found if role.startswith("leg")]
    assert "knee" not in {t.id for t in trials_of(document.character.skeleton)}


def test_the_chains_that_were_found_are_told_in_words():
    made, number = foreign(without=("root",))
    told = {chain_title(chain): joints for chain, joints in chains(body_of(made).joint_of).items()}
    assert {"left arm", "right arm", "left leg", "right leg", "left hand", "right hand", "trunk and head"} <= set(told)
    assert number["leg.r.lower"] in told["right leg"]
    with pytest.raises(EditError, match="no part"):
        edits.say_part(adopted(made), number["leg.l.upper"], "fin.l.upper")
