import io
import os
import zipfile

import numpy as np
import pytest

from pegloom.core.errors import ProjectFileError
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.project import open_project, save_project
from pegloom.files.project.records import encode
from pegloom.files.project.writing import Packer
from tests.support.figures import wick


def packed(document):
    packer = Packer()
    return encode(Document, document, packer), packer


def test_a_round_trip_is_exact(tmp_path):
    document = edits.set_channels(wick(), "arm.l.upper.fk", rotate_x=0.25)
    save_project(tmp_path / "w.pegloom", document)
    again = open_project(tmp_path / "w.pegloom")
    (tree, one), (tree2, two) = packed(document), packed(again)
    assert tree == tree2
    assert all(np.array_equal(a, b) and a.dtype == b.dtype for a, b in zip(one.arrays, two.arrays, strict=True))
    assert one.blobs == two.blobs
    assert not again.character.parts[0].mesh.points.flags.writeable


def test_a_stop_while_saving_leaves_the_old_file(tmp_path, monkeypatch):
    path = tmp_path / "w.pegloom"
    save_project(path, wick())
    before = path.read_bytes()

    def fail(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", fail)
    with pytest.raises(ProjectFileError, match="No space left"):
        save_project(path, edits.rest_controls(wick()))
    assert path.read_bytes() == before
    assert [f.name for f in tmp_path.iterdir()] == ["w.pegloom"]


@pytest.mark.parametrize("damage", ["cut", "text", "newer", "foreign", "pickle", "bad-face"])
def test_damaged_projects_are_refused_in_words(tmp_path, damage):
    path = tmp_path / "w.pegloom"
    save_project(path, wick())
    data = path.read_bytes()
    if damage == "cut":
        path.write_bytes(data[: len(data) // 2])
    elif damage == "text":
        path.write_bytes(b"not a project")
    else:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = {name: archive.read(name) for name in archive.namelist()}
        head = entries["document.json"]
        if damage == "newer":
            entries["document.json"] = head.replace(b'"version":2', b'"version":99', 1)
        elif damage == "foreign":
            entries["document.json"] = head.replace(b'"kind":"limb"', b'"kind":"Popen"', 1)
        elif damage == "pickle":
            out = io.BytesIO()
            np.save(out, np.array([{"a": 1}], dtype=object), allow_pickle=True)
            entries["arrays/0.npy"] = out.getvalue()
        else:
            for name in entries:
                if name.endswith("1.npy"):
                    corners = np.load(io.BytesIO(entries["arrays/1.npy"]))
                    out = io.BytesIO()
                    np.save(out, np.full_like(corners, 10**9))
                    entries["arrays/1.npy"] = out.getvalue()
                    break
        with zipfile.ZipFile(path, "w") as archive:
            for name, content in entries.items():
                archive.writestr(name, content)
    with pytest.raises(ProjectFileError, match=r"w\.pegloom"):
        open_project(path)
