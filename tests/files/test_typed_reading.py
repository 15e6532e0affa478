"""Every field of a project is held against its record: wrong ones are refused with their path, or still evaluate."""

import copy
import dataclasses
import json
import random
import typing
import zipfile
from dataclasses import replace

import numpy as np
import pytest

from pegloom.core.curves import Curve
from pegloom.core.errors import ProjectFileError
from pegloom.core.motion.clips import sample
from pegloom.core.motion.tracks import JointTracks
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.changes import ChannelChange, RigChanges
from pegloom.core.rig.pose import JointPose, Pose
from pegloom.core.rig.solvers import LimbIk
from pegloom.document import edits
from pegloom.document.baking import baked_clip
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project
from pegloom.files.project.records import TAGGED, fields_of
from tests.support.figures import rigged_capsules
from tests.support.hostile import zipped


@pytest.fixture(scope="module")
def saved(tmp_path_factory):
    """A rigged figure with a clip, a weave, an override, as the entries of its file."""
    document = edits.add_trial_clip(rigged_capsules())[0]
    document = edits.keep_weave(document, "first")[0]
    document = edits.shape_controls(document, ("body",), size=1.5)
    document = edits.change_channel(document, "body", "move_x", ChannelChange(limits=(-1.0, 1.0)))
    skeleton, clip = document.character.skeleton, document.character.clips[0]
    document = edits.keep_trial(document, "bent", trial_pose(skeleton, "knee"))[0]
    short = baked_clip(document.character, replace(clip, id="short", length=0.2))
    document = document.with_character(replace(document.character, clips=(clip, short)))
    path = tmp_path_factory.mktemp("typed") / "a.pegloom"
    save_project(path, document)
    with zipfile.ZipFile(path) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def places(tree, way=()):
    """Every value of the tree by its way."""
    yield way
    pairs = tree.items() if isinstance(tree, dict) else enumerate(tree) if isinstance(tree, list) else ()
    for key, value in pairs:
        yield from places(value, (*way, key))


def changed(tree, way, value):
    made = copy.deepcopy(tree)
    here = made
    for key in way[:-1]:
        here = here[key]
    here[way[-1]] = value
    return made


def opened(entries, tree, tmp_path):
    path = tmp_path / "a.pegloom"
    path.write_bytes(zipped({**entries, "document.json": json.dumps(tree).encode()}, zipfile.ZIP_STORED))
    return open_project(path)


DAMAGE = [None, True, "x", -1, 7.5, 10**9, 10**30, [], [1, 2, 3], [["a", "b"]], {}, {"array": 0}, {"array": "0"}, {"blob": 0}, {"kind": "limb"}]


@pytest.mark.each(3)
@pytest.mark.parametrize("seed", range(8))
def test_a_field_of_another_kind_is_refused_with_its_path_or_the_figure_still_moves(saved, seed, tmp_path):
    chance = random.Random(seed)
    tree = json.loads(saved["document.json"])
    ways = [w for w in places(tree["document"], ("document",)) if len(w) > 1]
    # Long lists of like things, as keys of a curve, are each as good as the next.
    ways = [w for w in ways if not any(type(k) is int and k > 3 for k in w)]
    refused = 0
    for way in chance.sample(ways, 60):
        value = chance.choice(DAMAGE)
        try:
            document = opened(saved, changed(tree, way, value), tmp_path)
        except ProjectFileError as error:
            refused += 1
            text = str(error)
            assert "\n" not in text
            assert place_of(way) in text or "part" in text or "figure" in text or "clip" in text or "morph" in text, (way, value, text)
            continue
        character = document.character
        if character is None:
            continue
        frame = evaluate(character)
        assert all(np.isfinite(p).all() for p in frame.points.values()), (way, value)
        for clip in character.clips:
            evaluate(character, sample(clip, 0.3, character.skeleton, character.pose, character.rig))
        edits.stand_up(document)
        edits.build_controls(document)
    assert refused > 20


def place_of(way):
    """How the beginning of a way reads in an error: `characters[0].rig`, or the field at the top."""
    return "characters" if way[1] == "characters" else way[1]


@pytest.mark.parametrize(("field", "value", "words"), [
    ("size", "large", r"characters\[0\]\.rig\.controls\[3\]\.size: a number was expected, found text"),
    ("rest", [1, 2, 3], r"characters\[0\]\.rig\.controls\[3\]\.rest: 16 numbers were expected, found 3"),
    ("parent", {"kind": "control", "id": "nobody"}, r"characters\[0\]\.rig: the rig refers to control nobody"),
    ("parent", {"kind": "moon", "id": ""}, r"controls\[3\]\.parent\.kind: one of world, control"),
    ("channels", [{"key": 5}], r"controls\[3\]\.channels\[0\]\.key: text was expected, found a whole number"),
    ("shape", "comet", r"controls\[3\]\.shape: one of circle"),
    ("id", None, r"controls\[3\]\.id: text was expected, found nothing"),
    ("grow", 1.0, r"controls\[3\]\.grow: is a field that is not known"),
    ("offset", [0.0, True, 0.0], r"controls\[3\]\.offset\[1\]: a number was expected, found yes or no"),
])  # fmt: skip
def test_the_path_leads_to_the_field(saved, field, value, words, tmp_path):
    tree = json.loads(saved["document.json"])
    damaged = changed(tree, ("document", "characters", 0, "rig", "controls", 3, field), value)
    with pytest.raises(ProjectFileError, match=words.replace(": ", ".*")):
        opened(saved, damaged, tmp_path)


def test_a_record_that_lacks_a_field_says_which(saved, tmp_path):
    tree = json.loads(saved["document.json"])
    del tree["document"]["characters"][0]["rig"]["controls"][3]["size"]
    with pytest.raises(ProjectFileError, match=r"controls\[3\]\.size: is missing"):
        opened(saved, tree, tmp_path)


def test_weights_of_a_joint_that_is_not_there_are_refused(saved, tmp_path):
    tree = json.loads(saved["document.json"])
    ids = tree["document"]["characters"][0]["skin"]["weights"]["part0"]["joint_ids"]
    ids[2] = "nobody"
    with pytest.raises(ProjectFileError, match=r"skin\.weights\[part0\].*nobody"):
        opened(saved, tree, tmp_path)


def holes(hint, seen):
    """Hints that a record and all below it use."""
    if dataclasses.is_dataclass(hint) and hint not in seen:
        seen.add(hint)
        for inner in fields_of(hint).values():
            holes(inner, seen)
    for inner in typing.get_args(hint):
        holes(inner, seen)
    return seen


def test_every_record_a_document_may_hold_can_be_written_and_read():
    found = holes(Document, set())
    assert {Pose, JointPose, LimbIk, Curve, JointTracks, RigChanges} <= found
    for record in found:
        assert fields_of(record), record
    assert set(TAGGED.values()) <= found


def test_fields_with_a_default_may_be_missing(saved, tmp_path):
    tree = json.loads(saved["document.json"])
    character = tree["document"]["characters"][0]
    for name in ("rig_changes", "rig_recipe", "weaves", "import_notes", "counted"):
        del character[name]
    assert opened(saved, tree, tmp_path).character.rig_changes.controls == {}


@pytest.mark.parametrize("upside_down", [{"low": 2.0, "high": 1.0}, {"key": "move_x"}])
def test_channels_that_contradict_each_other_are_refused(saved, upside_down, tmp_path):
    tree = json.loads(saved["document.json"])
    channels = tree["document"]["characters"][0]["rig"]["controls"][0]["channels"]
    channels[2] |= upside_down
    with pytest.raises(ProjectFileError, match=r"controls\[0\]\.channels"):
        opened(saved, tree, tmp_path)
