"""Finders on bodies that come from no generator of ours: what is where, within shares of the longest side."""

import numpy as np
import pytest
import trimesh

from pegloom.core.errors import FindError
from pegloom.core.skeleton.build import build_joints
from pegloom.core.skeleton.find import find_pegs_in
from pegloom.core.skeleton.find.hand import finger_tips
from pegloom.core.skeleton.find.human import find_human_pegs
from pegloom.core.skeleton.patterns import pattern
from pegloom.core.skeleton.pegs import move_peg
from pegloom.document import edits
from tests.support import creatures
from tests.support.figures import as_mesh, document_of, human, lone_head, unrigged_wick

BODIES = {
    "dog": (creatures.four_legged(), "four-legged", 5.0),
    "long neck": (creatures.four_legged(neck=0.6, leg=1.3), "four-legged", 7.5),
    "fat": (creatures.four_legged(fat=1.5), "four-legged", 6.0),
    "short legs": (creatures.four_legged(leg=0.75), "four-legged", 5.0),
    "wader": (creatures.bird(), "winged", 6.0),
    "beetle": (creatures.insect(3), "many-legged", 5.5),
    "spider": (creatures.insect(4), "many-legged", 5.5),
    "snake": (creatures.serpent(), "serpent", 5.0),
    "rope": (creatures.rope(), "rope", 4.0),
}
TURNS = {
    "upright": np.eye(3),
    "z up": np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]),
    "facing x": np.array([[0.0, 0, 1], [0, 1, 0], [-1, 0, 0]]),
}


def stood(made, turn=None, scale=1.0):
    if turn is not None:
        matrix = np.eye(4)
        matrix[:3, :3] = turn * scale
        made = made.copy()
        made.apply_transform(matrix)
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    standing = np.array(document.character.standing.file_to_character).reshape(4, 4)
    return document, standing


def gaps(document, standing, at, plan, turn, scale):
    pegs = edits.find_pegs(document, plan=plan)
    size = float(np.ptp(document.character.all_points(), axis=0).max())
    found = {}
    for name, place in at.items():
        sided = abs(place[0]) > 1e-9 and name not in ("nose", "tail_tip", "body_3", "rope", "rope_tip")
        peg = np.array(pegs.position(("l_" if sided else "") + name))
        there = standing[:3, :3] @ (scale * turn @ np.array(place)) + standing[:3, 3]
        found[name] = 100 * float(np.linalg.norm(peg - there)) / size
    return pegs, found


@pytest.mark.parametrize("name", BODIES)
def test_landmarks_of_bodies(name):
    (made, at), plan, most = BODIES[name]
    document, standing = stood(made)
    assert edits.guess_plan(document) == plan
    pegs, found = gaps(document, standing, at, plan, np.eye(3), 1.0)
    assert max(found.values()) < most, found
    build_joints(pegs)


@pytest.mark.parametrize("turn", TURNS)
@pytest.mark.parametrize("scale", [1.0, 100.0])
def test_an_animal_is_stood_up_however_it_lies(turn, scale):
    made, at = creatures.four_legged()
    document, standing = stood(made, TURNS[turn], scale)
    _, found = gaps(document, standing, at, "four-legged", TURNS[turn], scale)
    assert max(found.values()) < 6.0, found


HUMANS = {
    "T": {}, "A": {"down": 0.7}, "relaxed": {"down": 1.25}, "fat T": {"fat": 1.5}, "fat A": {"fat": 1.5, "down": 0.7},
    "very fat": {"fat": 1.9, "down": 0.5}, "thin": {"fat": 0.75, "down": 0.5}, "big head": {"head": 1.6, "down": 0.6},
    "wide stance": {"wide": 2.0, "down": 0.8}, "bent": {"bend": 0.5, "down": 0.6}, "straight": {"bend": 0.0},
    "robe": {"robe": True, "down": 0.3}, "few faces": {"count": 8}, "relaxed fat": {"down": 1.25, "fat": 1.5},
    "relaxed thin": {"down": 1.2, "fat": 0.75}, "thin T": {"fat": 0.75}, "bent T": {"bend": 0.5},
    "bent relaxed": {"down": 1.2, "bend": 0.4}, "fat, big head": {"head": 1.5, "fat": 1.5, "down": 0.8},
}  # fmt: skip


@pytest.mark.each(2)
@pytest.mark.parametrize("name", HUMANS)
def test_landmarks_of_humans(name):
    made, at = human(**HUMANS[name])
    document, standing = stood(made)
    assert edits.guess_plan(document) == "human"
    assert document.character.standing.facing == "+Z"
    pegs = edits.find_pegs(document, fingers=0)
    for joint, place in at.items():
        sided = abs(place[0]) > 1e-9
        peg = np.array(pegs.position(("l_" if sided else "") + joint))
        there = standing[:3, :3] @ place + standing[:3, 3]
        gap = 100 * float(np.linalg.norm(peg - there)) / 1.75
        limit = {"elbow": 1.5, "wrist": 1.2, "knee": 1.5, "ankle": 1.5}.get(joint, 2.2)
        if name == "robe" and joint in ("ankle", "knee"):
            limit = 4.0  # the hem hides them
            assert pegs.by_name["l_ankle"].confidence < 0.5, "what cannot be seen is asked about"
        assert gap < limit, (joint, gap)


@pytest.mark.parametrize("hem", [0.62, 0.72])
def test_a_tunic_over_the_crotch_does_not_take_hips_and_knees_down(hem):
    """The hem ends the gap between the legs far under the crotch; the neck says how tall the legs must be."""
    made, at = human(down=0.7)
    tunic = trimesh.creation.cylinder(radius=1.0, height=1.15 - hem, sections=40)
    tunic.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    tunic.apply_scale((0.2, 1.0, 0.14))
    tunic.apply_translation((0, (1.15 + hem) / 2, 0))
    document, standing = stood(trimesh.util.concatenate([made, tunic]))
    pegs = edits.find_pegs(document, fingers=0)
    for joint, most in (("hip", 4.0), ("knee", 3.0), ("ankle", 1.5)):
        there = standing[:3, :3] @ at[joint] + standing[:3, 3]
        gap = 100 * float(np.linalg.norm(np.array(pegs.position(f"l_{joint}")) - there)) / 1.75
        assert gap < most, (joint, gap)
    assert pegs.by_name["l_hip"].confidence < 0.5


def test_a_child_with_many_legs_may_be_asked_for_more_pairs():
    document, _ = stood(creatures.insect(3)[0])
    pegs = edits.find_pegs(document, plan="many-legged", pairs=5)
    assert "l_leg5_foot" in pegs.by_name
    document = edits.set_pegs(document, pegs)
    less = edits.set_leg_pairs(document, 2).character.pegs
    assert "l_leg3_foot" not in less.by_name
    assert less.position("l_leg1_foot") == pegs.position("l_leg1_foot")


@pytest.mark.parametrize("plan", ["four-legged", "winged", "many-legged", "serpent", "flat", "hinge", "wheel", "face"])
def test_any_finder_gives_all_pegs_on_any_mesh(plan):
    box = document_of(as_mesh(creatures._capsule((0, 0, 0), (0, 1, 0), 0.3)))
    pegs = edits.find_pegs(box, plan=plan)
    assert np.isfinite([p.position for p in pegs.pegs]).all()
    build_joints(pegs)


def test_nothing_to_look_into_is_said():
    with pytest.raises(FindError):
        find_pegs_in(np.zeros((3, 3)), np.zeros((0, 3), dtype=np.int64), pattern("four-legged"))


def test_a_figure_facing_sideways_with_level_arms_is_turned_by_its_mirror_plane():
    """A T-pose whose legs touch says little of its feet; which plane mirrors says where it faces."""
    made, at = human()
    vertices = made.vertices.copy()
    # Legs pressed together, and the whole turned to look along +X.
    low = vertices[:, 1] < 0.9
    vertices[low, 0] *= 0.72
    turned = trimesh.Trimesh(vertices[:, [2, 1, 0]] * [1, 1, -1], made.faces, process=False)
    document = edits.stand_up(document_of(as_mesh(turned)), keep_size=True)
    assert document.character.standing.up == "+Y" and document.character.standing.facing == "+X"
    assert edits.guess_plan(document) == "human"
    pegs = edits.find_pegs(document, fingers=0)
    assert np.linalg.norm(np.array(pegs.position("l_wrist")) * [1, 1, 0] - at["wrist"] * [1, 1, 0]) < 0.04


def test_a_large_glove_ends_at_the_wrist_not_at_the_knuckles():
    made, at = human(down=0.5)
    out = (at["wrist"] - at["elbow"]) / np.linalg.norm(at["wrist"] - at["elbow"])
    pieces = [made]
    for side in (1.0, -1.0):
        flip = np.array([side, 1, 1])
        palm = trimesh.creation.icosphere(subdivisions=3, radius=0.075)
        palm.apply_translation((at["wrist"] + 0.085 * out) * flip)
        pieces.append(palm)
        for k in (-0.045, -0.015, 0.015, 0.045):
            start = at["wrist"] + 0.14 * out + [0, 0, k]
            finger = trimesh.creation.capsule(height=0.12, radius=0.014)
            finger.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], out))
            finger.apply_translation(start)
            finger.vertices *= flip
            pieces.append(finger)
    document, standing = stood(trimesh.util.concatenate(pieces))
    wrist = np.array(edits.find_pegs(document, fingers=0).position("l_wrist"))
    there = standing[:3, :3] @ at["wrist"] + standing[:3, 3]
    along = abs(float((wrist - there) @ (standing[:3, :3] @ out)))
    assert 100 * along / 1.75 < 1.5


@pytest.mark.parametrize("turn", ["upright", "z up"])
def test_an_animal_caught_in_mid_step_is_stood_on_its_feet(turn):
    """Its legs are in no mirrored pairs: the near fore and the far hind reach forward, the others back."""
    made, at = creatures.four_legged()
    walking = made.copy()
    belly = 0.9 * at["hip"][1]
    x, y, z = walking.vertices.T.copy()
    front = np.where(z > (at["shoulder"][2] + at["hip"][2]) / 2, 1.0, -1.0)
    swing = np.clip(1.0 - y / belly, 0.0, 1.0) * 0.22 * np.sign(x) * front
    walking.vertices = np.stack([x, y, z + swing], axis=1)
    document, standing = stood(walking, TURNS[turn])
    up = standing[:3, :3] @ TURNS[turn] @ [0, 1, 0]
    ahead = standing[:3, :3] @ TURNS[turn] @ [0, 0, 1]
    assert up[1] > 0.99 and ahead[2] > 0.99
    assert edits.guess_plan(document) == "four-legged"
    pegs = edits.find_pegs(document, plan="four-legged")
    size = float(np.ptp(document.character.all_points(), axis=0).max())
    for name in ("hip", "shoulder"):
        there = standing[:3, :3] @ TURNS[turn] @ at[name] + standing[:3, 3]
        assert np.linalg.norm(np.array(pegs.position("l_" + name)) - there) < 0.08 * size, name


def test_as_many_fingers_as_the_hand_shows_and_of_fewer_the_thumb_first():
    document = edits.stand_up(unrigged_wick())
    seen = edits.find_pegs(document)
    assert seen.fingers == 5
    assert min(p.confidence for p in seen.pegs if "_tip" in p.name and p.name.startswith("l_")) > 0.5
    few = edits.find_pegs(document, fingers=3)
    for finger in ("thumb", "index", "middle"):
        tip = np.array(few.position(f"l_{finger}_tip"))
        assert np.linalg.norm(tip - seen.position(f"l_{finger}_tip")) < 0.01, finger


def flyer():
    """A bird in flight, head toward +Z: a body, swept wings, a flat tail, no legs."""
    pieces = []
    for centre, radii in (((0, 0, 0), (0.09, 0.08, 0.25)), ((0, 0.03, 0.32), (0.06, 0.06, 0.07)),
                          ((0, 0.01, -0.35), (0.1, 0.012, 0.16))):  # fmt: skip
        ball = trimesh.creation.icosphere(subdivisions=3)
        ball.apply_scale(radii)
        ball.apply_translation(centre)
        pieces.append(ball)
    for sign in (1, -1):
        wing = trimesh.creation.box((0.8, 0.02, 0.2)).subdivide().subdivide().subdivide()
        out = np.abs(wing.vertices[:, 0] + 0.4)
        wing.vertices[:, 2] -= 0.25 * out
        wing.vertices[:, 1] += 0.1 * out
        wing.apply_translation([0.45, 0.02, 0.05])
        if sign < 0:
            wing.vertices[:, 0] *= -1
            wing.invert()
        pieces.append(wing)
    return trimesh.util.concatenate(pieces)


@pytest.mark.parametrize("turn", TURNS)
def test_a_bird_in_flight_is_level_and_looks_ahead(turn):
    document, standing = stood(flyer(), TURNS[turn])
    assert edits.guess_plan(document) == "winged"
    ahead = standing[:3, :3] @ TURNS[turn] @ np.array([0.0, 0.0, 1.0])
    above = standing[:3, :3] @ TURNS[turn] @ np.array([0.0, 1.0, 0.0])
    assert ahead == pytest.approx([0, 0, 1], abs=1e-6)
    assert above == pytest.approx([0, 1, 0], abs=1e-6)
    pegs = edits.find_pegs(document, plan="winged")
    for side, sign in (("l", 1.0), ("r", -1.0)):
        xs = [sign * pegs.position(f"{side}_{name}")[0] for name in ("shoulder", "elbow", "wrist", "wing_tip")]
        assert xs == sorted(xs), "a wing runs outward"
        assert xs[-1] > 0.7


def test_feet_set_close_together_are_still_two_pairs():
    """Hind feet a few millimetres apart touch in the grid the ground is read in."""
    pieces = []
    trunk = trimesh.creation.icosphere(subdivisions=3)
    trunk.apply_scale((0.22, 0.2, 0.55))
    trunk.apply_translation((0, 0.55, 0))
    head = trimesh.creation.icosphere(subdivisions=3, radius=0.16)
    head.apply_translation((0, 0.62, 0.65))
    pieces += [trunk, head]
    for x, z in ((0.16, 0.35), (-0.16, 0.35), (0.06, -0.35), (-0.06, -0.35)):
        leg = trimesh.creation.cylinder(radius=0.055, height=0.5, sections=20)
        leg.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
        leg.apply_translation((x, 0.25, z))
        pieces.append(leg)
    made = trimesh.util.concatenate(pieces)
    document, standing = stood(made)
    assert standing[:3, :3] @ np.array([0, 1.0, 0]) == pytest.approx([0, 1, 0], abs=1e-6)
    assert edits.guess_plan(document) == "four-legged"


def test_a_folded_wing_lies_along_the_birds_side():
    made, _ = creatures.bird()
    keep = np.abs(made.vertices[:, 0]) < 0.14  # the wings taken off at the body
    body = made.submesh([np.flatnonzero(keep[made.faces].all(axis=1))], append=True)
    document, _ = stood(body)
    pegs = edits.find_pegs(document, plan="winged")
    half = float(np.abs(document.character.all_points()[:, 0]).max())
    for name in ("shoulder", "elbow", "wrist", "wing_tip"):
        place = pegs.position(f"l_{name}")
        assert 0.02 < place[0] <= half, (name, place, half)
    assert pegs.position("l_elbow")[2] < pegs.position("l_shoulder")[2]
    assert all(peg.confidence < 0.5 for peg in pegs.pegs if peg.name.startswith(("l_wing", "l_elbow")))


def test_a_body_far_wider_than_tall_is_no_error_for_the_humans_finder():
    """The wrong pattern for a bird in flight still answers, weakly, instead of running out of grid."""
    document, _ = stood(flyer())
    wide = document.character.all_points()
    assert np.ptp(wide[:, 0]) > 5 * np.ptp(wide[:, 1])
    pegs = edits.find_pegs(document, plan="human")
    assert np.isfinite([peg.position for peg in pegs.pegs]).all()


def test_cloth_over_the_crotch_is_told_by_the_hips_standing_low_and_asked_about():
    made, at = human(down=0.7)
    cloth = trimesh.creation.icosphere(subdivisions=3)
    cloth.apply_scale((0.15, 0.16, 0.09))
    cloth.apply_translation((0, 0.78, 0))
    plain, _ = stood(made)
    covered, standing = stood(trimesh.util.concatenate([made, cloth]))
    seen = edits.find_pegs(plain, fingers=0)
    pegs = edits.find_pegs(covered, fingers=0)
    assert seen.by_name["l_hip"].confidence > 0.6
    assert pegs.by_name["l_hip"].confidence < 0.5
    for name, most in (("hip", 0.065), ("knee", 0.04)):
        there = standing[:3, :3] @ at[name] + standing[:3, 3]
        assert np.linalg.norm(np.array(pegs.position(f"l_{name}")) - there) < most * 1.75


def test_fingers_are_looked_for_on_the_hand_and_not_on_the_skirt_beside_it():
    made, _ = human(down=1.2)
    skirt = trimesh.creation.cone(radius=0.42, height=0.7, sections=48)
    skirt.apply_transform(trimesh.transformations.rotation_matrix(-np.pi / 2, [1, 0, 0]))
    skirt.apply_translation([0, 0.45, 0])
    document, _ = stood(trimesh.util.concatenate([made, skirt.subdivide().subdivide()]))
    pegs = edits.find_pegs(document)
    length = np.linalg.norm(np.array(pegs.position("l_palm")) - pegs.position("l_wrist"))
    for peg in pegs.pegs:
        if peg.name.startswith("l_") and peg.name.endswith(("_base", "_tip")):
            assert np.linalg.norm(np.array(peg.position) - pegs.position("l_wrist")) < 3.0 * length, peg.name


@pytest.mark.parametrize("count", [3, 4])
def test_fingers_that_are_shells_of_their_own_are_counted(count):
    """An arm with a bare palm, and fingers stuck into it that share no vertex with it."""
    arm = trimesh.creation.capsule(height=0.3, radius=0.028, count=[20, 20]).subdivide_to_size(0.015)
    arm.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], [1, 0, 0]))
    arm.vertices -= [arm.vertices[:, 0].min(), 0, 0]
    x = arm.vertices[:, 0]
    arm.vertices[:, 1:] *= np.interp(x, [0.0, 0.2, 0.26, 0.33], [1.0, 1.0, 1.6, 1.6])[:, None]
    arm.vertices[:, 1] *= np.interp(x, [0.2, 0.26], [1.0, 0.45])
    pieces, tips = [arm], []
    for across in np.linspace(-0.032, 0.032, count):
        reach = 0.075 - 8.0 * across**2
        finger = trimesh.creation.capsule(height=reach, radius=0.008, count=[10, 10]).subdivide()
        finger.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], [1, 0, 0]))
        finger.vertices += [0.3 - finger.vertices[:, 0].min(), 0, across]
        tips.append([finger.vertices[:, 0].max(), 0, across])
        pieces.append(finger)
    made = trimesh.util.concatenate(pieces)
    found = finger_tips(
        made.vertices, np.asarray(made.faces, dtype=np.int64), np.array([0.2, 0, 0]), np.array([0.28, 0, 0])
    )
    assert len(found) == count
    gap = np.linalg.norm(found[:, None] - np.array(tips)[None], axis=2).min(axis=0)
    assert gap.max() < 0.015


def test_chin_crotch_and_heels_are_seen_and_lead_what_follows_from_them():
    made, at = human(down=0.6)
    keep = made.triangles[:, :, 1].min(axis=1) < 1.46
    made.update_faces(keep)
    head, face = lone_head()
    head.apply_translation([0.0, 1.43, 0.0])
    body = trimesh.util.concatenate([made, head])
    pegs = find_human_pegs(np.array(body.vertices), np.array(body.faces), fingers=0)
    size = float(np.ptp(body.vertices[:, 1]))
    assert np.linalg.norm(np.array(pegs.position("chin")) - face["chin"] - [0, 1.43, 0]) / size < 0.03
    assert not pegs.by_name["chin"].weak
    x, y, _ = pegs.position("crotch")
    assert x == 0.0 and at["knee"][1] < y < at["hip"][1]
    for s, sign in (("l", 1), ("r", -1)):
        heel, ankle, toe = (np.array(pegs.position(f"{s}_{n}")) for n in ("heel", "ankle", "toe"))
        assert heel[2] < ankle[2] < toe[2] and heel[1] < ankle[1]
        assert np.sign(heel[0]) == sign
        foot = body.vertices[(body.vertices[:, 1] < 0.06) & (body.vertices[:, 0] * sign > 0)]
        assert abs(heel[2] - foot[:, 2].min()) / size < 0.015
    # No joint stands at a landmark, and the skeleton is built as without.
    assert not {"chin", "crotch", "heel"} & {j.name[2:] for j in build_joints(pegs).joints}
    led = move_peg(pegs, "chin", tuple(np.array(pegs.position("chin")) + [0.0, -0.02, 0.0]))
    assert led.position("head")[1] == pytest.approx(pegs.position("head")[1] - 0.02)
    assert not led.by_name["head"].by_hand
    led = move_peg(led, "crotch", tuple(np.array(led.position("crotch")) + [0.0, 0.03, 0.0]))
    assert led.position("l_hip")[1] == pytest.approx(pegs.position("l_hip")[1] + 0.03)
    # What a hand placed stays where it was put.
    held = move_peg(pegs, "head", pegs.position("head"))
    assert move_peg(held, "chin", (0.0, 1.4, 0.1)).position("head") == pegs.position("head")
