"""Projects of version 1, as they were shipped and one with all it could hold, open to the poses they had then.

`tests/data/v1/posed.npz` was made with the program that wrote version 1: joints, controls and every so many points of each
part, in hand, in kept trials and along each clip.
"""

import json
import random
import zipfile
from pathlib import Path

import numpy as np
import pytest

from pegloom.core.errors import ProjectFileError
from pegloom.core.motion.clips import sample, waiting_curves
from pegloom.core.rig.pose import JointPose
from pegloom.core.skeleton.joints import JointKind, Origin
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.hostile import zipped

V1 = Path(__file__).parents[1] / "data" / "v1"
SHARES = (0.0, 0.13, 0.37, 0.5, 0.71, 0.94, 1.0)


def poses(character):
    yield "hand", character.pose
    for trial in character.trials:
        yield f"trial {trial.id}", trial.pose
    for clip in character.clips:
        for share in SHARES:
            at = share * clip.length
            yield f"clip {clip.id} {share}", sample(clip, at, character.skeleton, character.pose, character.rig)


def shown(character, pose):
    frame = evaluate(character, pose)
    yield "joints", frame.joints[:, :3, 3]
    yield "controls", frame.controls[:, :3, :].reshape(-1, 12)
    for part, points in frame.points.items():
        yield part, points[:: max(len(points) // 60, 1)]


@pytest.mark.parametrize("name", ["dumble", "harl", "lantern", "lesson", "oilskin", "rich", "wick", "winch"])
def test_version_1_opens_to_the_same_points(name, tmp_path):
    # A limb of the rich one is near straight: its fold is the square root of what values are rounded by.
    bound = 1e-8 if name == "rich" else 1e-9
    document = open_project(V1 / f"{name}.pegloom")
    save_project(tmp_path / "again.pegloom", document)
    with np.load(V1 / "posed.npz") as posed:
        wanted = {key: posed[key] for key in posed.files if key.startswith(f"{name}/")}
    for opened in (document, open_project(tmp_path / "again.pegloom")):
        seen = set()
        for number, character in enumerate(opened.characters):
            for label, pose in poses(character):
                for what, points in shown(character, pose):
                    key = f"{name}/{number}/{label}/{what}"
                    assert np.abs(points - wanted[key]).max(initial=0.0) < bound, key
                    seen.add(key)
        assert seen == set(wanted)


def test_what_version_1_told_by_ids_and_rows_is_kept_as_data():
    first, second = open_project(V1 / "rich.pegloom").characters
    kinds = {j.kind for j in first.skeleton.joints}
    assert kinds == {JointKind.PLAIN, JointKind.TWIST}
    assert {j.origin for j in first.skeleton.joints} == {Origin.KIT, Origin.OWN}
    assert {Origin.FILE} <= {j.origin for j in second.skeleton.joints}
    assert any(isinstance(t.pose, JointPose) for t in first.trials)
    assert first.rig.value(first.pose, ("root", "scale")) > 1.0, "a grown root is a scaled one"
    assert waiting_curves(first.clips[0], first.rig), "keys of a control that is gone wait"
    assert first.rig_changes.controls


@pytest.mark.parametrize("seed", range(4))
def test_a_damaged_field_of_version_1_is_refused_in_words_or_opens(seed, tmp_path):
    chance = random.Random(seed)
    with zipfile.ZipFile(V1 / "rich.pegloom") as archive:
        entries = {name: archive.read(name) for name in archive.namelist()}
    refused = 0
    for _ in range(40):
        tree = json.loads(entries["document.json"])
        here, key = tree["document"]["characters"], 0
        while True:
            inside = here[key]
            if not isinstance(inside, (dict, list)) or not inside or chance.random() < 0.1:
                break
            here = inside
            key = chance.choice(list(here)) if isinstance(here, dict) else chance.randrange(len(here))
        here[key] = chance.choice([None, True, "x", -1, 7.5, [], [1, 2], {"pairs": []}, {"array": 0}, {"is": "Peg"}])
        path = tmp_path / "a.pegloom"
        path.write_bytes(zipped({**entries, "document.json": json.dumps(tree).encode()}, zipfile.ZIP_STORED))
        try:
            document = open_project(path)
        except ProjectFileError as error:
            refused += 1
            assert "\n" not in str(error)
        else:
            evaluate(document.character)
            edits.build_controls(document)
    assert refused > 10
