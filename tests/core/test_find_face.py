"""A face's landmarks are found where the shape has them: on a head alone, on a bust, on a whole body."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from pegloom.core.skeleton.build import build_joints
from pegloom.core.skeleton.find import find_pegs_in
from pegloom.core.skeleton.patterns import shipped_patterns
from pegloom.core.skeleton.pegs import PegSet
from tests.support.figures import human, lone_head

SIZE = 0.22
"""Metres from chin to crown."""
HEADS = {
    "plain": {}, "broad": {"wide": 1.3}, "narrow": {"wide": 0.85}, "strong jaw": {"jaw": 1.15}, "weak jaw": {"jaw": 0.9},
    "long nose": {"nose": 1.8}, "snub nose": {"nose": 0.7}, "bust": {"shoulders": True},
}  # fmt: skip


def found_on(made: trimesh.Trimesh) -> PegSet:
    return find_pegs_in(np.array(made.vertices), np.array(made.faces), shipped_patterns()["face"])


def off(pegs: PegSet, name: str, place: np.ndarray) -> float:
    """Share of the head by which a peg lies off."""
    return float(np.linalg.norm(np.array(pegs.position(name)) - place)) / SIZE


@pytest.mark.parametrize("name", HEADS)
def test_eyes_chin_mouth_brows_ears_and_pivot_are_where_the_shape_has_them(name):
    made, at = lone_head(**HEADS[name])
    pegs = found_on(made)
    assert off(pegs, "l_eye", at["eye"]) < 0.01
    assert off(pegs, "r_eye", at["eye"] * [-1, 1, 1]) < 0.01
    assert np.allclose(pegs.position("l_pupil"), at["eye"] + [0, 0, 0.0125], atol=0.001)
    assert off(pegs, "chin", at["chin"]) < 0.1
    assert abs(pegs.position("l_mouth")[1] - at["mouth_line"][1]) / SIZE < 0.04
    assert abs(pegs.position("l_brow")[1] - at["brow"][1]) / SIZE < 0.04
    assert abs(pegs.position("l_ear")[1] - at["ear"][1]) / SIZE < 0.08
    assert abs(pegs.position("l_ear")[2] - at["ear"][2]) / SIZE < 0.08
    assert off(pegs, "head", at["head"]) < 0.12
    assert off(pegs, "crown", at["crown"]) < 0.06
    assert not pegs.by_name["l_eye"].weak and not pegs.by_name["chin"].weak


@pytest.mark.parametrize("turned", [("eyes", "l_eye"), ("ears", "l_ear")])
def test_what_the_shape_does_not_have_is_a_guess(turned):
    """Without eyeballs of their own, or ears, they stand at usual places and are weak; the rest is found as before."""
    lacks, peg = turned
    made, at = lone_head(**{lacks: False})
    pegs = found_on(made)
    assert pegs.by_name[peg].weak
    assert off(pegs, "l_eye", at["eye"]) < 0.15
    assert off(pegs, "chin", at["chin"]) < 0.1
    assert not pegs.by_name["chin"].weak


@pytest.mark.parametrize("scale", [0.01, 1.0, 40.0])
def test_the_size_of_a_head_says_nothing(scale):
    made, _ = lone_head()
    plain = found_on(made)
    made.apply_scale(scale)
    scaled = found_on(made)
    for peg in plain.pegs:
        gap = np.linalg.norm(np.array(scaled.position(peg.name)) / scale - np.array(peg.position))
        assert gap / SIZE < 0.02 + 2e-6 / scale, peg.name


def test_on_a_whole_body_the_face_is_looked_for_on_its_head():
    body, _ = human(down=0.7)
    head, at = lone_head()
    # The body without its own head, the head on its neck.
    keep = body.triangles[:, :, 1].min(axis=1) < 1.46
    body.update_faces(keep)
    lift = np.array([0.0, 1.43, 0.0])
    head.apply_translation(lift)
    pegs = found_on(trimesh.util.concatenate([body, head]))
    assert off(pegs, "l_eye", at["eye"] + lift) < 0.01
    assert off(pegs, "chin", at["chin"] + lift) < 0.15
    assert abs(pegs.position("l_brow")[1] - at["brow"][1] - lift[1]) / SIZE < 0.05


def test_the_face_builds_its_joints():
    skeleton = build_joints(found_on(lone_head()[0]))
    assert {"eye.l.eye", "lid.r.lid", "brow.l.brow", "jaw.jaw", "ear.l.1", "mouth.r.mouth"} <= set(skeleton.index)
    assert skeleton.joint("mouth.l.mouth").parent == "jaw.jaw"
