"""Saving a project. Arrays used twice are written once; a stop at any moment leaves the old file or the new one."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np

from pegloom.core.errors import ProjectFileError
from pegloom.document.model import Document
from pegloom.files.outgoing import outgoing
from pegloom.files.project.records import encode
from pegloom.files.project.upgrade import VERSION

SUFFIX = ".pegloom"


class Packer:
    """Arrays and bytes of a document, by number."""

    def __init__(self) -> None:
        self.arrays: list[np.ndarray] = []
        self.blobs: list[bytes] = []
        self._known: dict[int, int] = {}

    def keep_array(self, value: np.ndarray) -> int:
        if id(value) not in self._known:
            self._known[id(value)] = len(self.arrays)
            self.arrays.append(value)
        return self._known[id(value)]

    def keep_blob(self, value: bytes) -> int:
        self.blobs.append(value)
        return len(self.blobs) - 1


def save_project(path: Path, document: Document, *, pack: bool = True) -> None:
    """Save atomically. Raises ProjectFileError when the place cannot be written; the old file stays then.

    pack : whether its arrays are compressed.
    """
    packer = Packer()
    tree = encode(Document, document, packer)
    kind = zipfile.ZIP_DEFLATED if pack else zipfile.ZIP_STORED
    with (
        outgoing(error=ProjectFileError, hint="choose another place; nothing is lost") as out,
        zipfile.ZipFile(out.stream(path), "w", kind, compresslevel=1 if pack else None) as archive,
    ):
        head = {"format": "pegloom", "version": VERSION, "document": tree}
        archive.writestr("document.json", json.dumps(head, separators=(",", ":"), allow_nan=False))
        for number, array in enumerate(packer.arrays):
            result = io.BytesIO()
            np.save(result, array, allow_pickle=False)
            archive.writestr(f"arrays/{number}.npy", result.getvalue())
        for number, blob in enumerate(packer.blobs):
            archive.writestr(f"blobs/{number}", blob)
