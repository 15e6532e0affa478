"""Every field of a project is held against its record: wrong ones are refused with their path, or still evaluate."""

import copy
import json
import random
import zipfile

import numpy as np
import pytest

from pegloom.core.errors import ProjectFileError
from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.files.project import RECORDS, open_project, save_project
from pegloom.files.typed import _checks, wrong_field
from tests.support.figures import rigged_capsules, wick
from tests.support.hostile import zipped


@pytest.fixture(scope="module")
def saved(tmp_path_factory):
    """A rigged figure with a clip, a weave, an override, as the entries of its file."""
    document = edits.add_trial_clip(rigged_capsules())[0]
    document = edits.keep_weave(document, "first") if hasattr(edits, "keep_weave") else document
    document = document[0] if isinstance(document, tuple) else document
    document = edits.reshape_control(document, "body", size=1.5)
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


def test_every_record_has_checks_for_all_its_fields():
    for kind in RECORDS.values():
        assert _checks(kind), kind
    assert wrong_field(wick().character) == ""


DAMAGE = [None, True, "x", -1, 7.5, 10**9, [], [1, 2, 3], {"pairs": []}, {"array": 0}, {"is": "Peg", "name": "p"}, {"choice": "Side", "value": "left"}]


@pytest.mark.parametrize("seed", range(8))
def test_a_field_of_another_kind_is_refused_with_its_path_or_the_figure_still_moves(saved, seed, tmp_path):
    chance = random.Random(seed)
    tree = json.loads(saved["document.json"])
    ways = [w for w in places(tree["document"], ("document",)) if len(w) > 1 and w[-1] not in ("is", "choice")]
    refused = 0
    for way in chance.sample(ways, 40):
        value = chance.choice(DAMAGE)
        try:
            document = opened(saved, changed(tree, way, value), tmp_path)
        except ProjectFileError as error:
            refused += 1
            text = str(error)
            assert "\n" not in text
            assert "document" in text or "part" in text or "figure" in text or "clip" in text or "morph" in text, (way, value, text)
            continue
        character = document.character
        if character is None:
            continue
        frame = evaluate(character)
        assert all(np.isfinite(p).all() for p in frame.points.values()), (way, value)
        for clip in character.clips:
            evaluate(character, sample(clip, 0.3, character.skeleton, character.pose, character.rig))
        edits.stand_up(document)
    assert refused > 10


@pytest.mark.parametrize(("field", "value", "words"), [
    ("size", "large", r"characters\[0\]\.rig\.controls\[3\]\.size: a number was expected, found text"),
    ("rest", [1, 2, 3], r"characters\[0\]\.rig\.controls\[3\]\.rest: 16 numbers were expected, found 3"),
    ("parent", "control:nobody", r"characters\[0\]\.rig: the rig refers to control nobody"),
    ("free", ["turn_x", 5], r"controls\[3\]\.free\[1\]: text was expected, found a whole number"),
    ("shape", {"choice": "Side", "value": "left"}, r"controls\[3\]\.shape: one of circle"),
    ("id", None, r"controls\[3\]\.id: text was expected, found nothing"),
])  # fmt: skip
def test_the_path_leads_to_the_field(saved, field, value, words, tmp_path):
    tree = json.loads(saved["document.json"])
    damaged = changed(tree, ("document", "characters", 0, "rig", "controls", 3, field), value)
    with pytest.raises(ProjectFileError, match=words.replace(": ", ".*")):
        opened(saved, damaged, tmp_path)


def test_a_record_that_lacks_a_field_says_which(saved, tmp_path):
    tree = json.loads(saved["document.json"])
    del tree["document"]["characters"][0]["rig"]["controls"][3]["size"]
    with pytest.raises(ProjectFileError, match=r"controls\[3\].*lacks.*size"):
        opened(saved, tree, tmp_path)


def test_weights_of_a_joint_that_is_not_there_are_refused(saved, tmp_path):
    tree = json.loads(saved["document.json"])
    ids = tree["document"]["characters"][0]["skin"]["weights"]["pairs"][0][1]["joint_ids"]
    ids[2] = "nobody"
    with pytest.raises(ProjectFileError, match=r"skin\.weights\[part0\].*nobody"):
        opened(saved, tree, tmp_path)
