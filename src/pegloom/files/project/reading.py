"""Opening a project. Pickles are off; sizes a file claims are checked against what `allowance` grants first."""

from __future__ import annotations

import io
import json
import math
import zipfile
import zlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from pegloom.core.errors import MeshFileError, PegLoomError, ProjectFileError, TooLargeError
from pegloom.document.model import Document
from pegloom.files.allowance import allowed, take
from pegloom.files.allowance import count as limited
from pegloom.files.project.checking import check_references, checked
from pegloom.files.project.records import decode
from pegloom.files.project.upgrade import VERSION, upgraded
from pegloom.files.raw import checked_size, reason

MOST_ENTRIES = 200_000


def open_project(path: Path, *, most: int | None = None) -> Document:
    """Open a project. most: bytes it may unpack to, None for what `allowance` grants.

    Raises ProjectFileError: what is wrong, where, what to do; TooLargeError past `most`. Nothing in a file is run.
    """
    try:
        size = checked_size(path)
        with allowed(path.name, size, most=most, project=True), zipfile.ZipFile(path) as archive:
            return _read(path, archive)
    except TooLargeError:
        raise
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
        raise ProjectFileError(
            path.name, "this is no Peg Loom project, or it is cut short", hint="open its autosave or an older copy"
        ) from error
    except OSError as error:
        raise ProjectFileError(path.name, f"cannot be read ({error.strerror or error})", hint="check rights") from error
    except ProjectFileError:
        raise
    except MeshFileError as error:
        raise ProjectFileError(path.name, error.what, where=error.where, hint=error.hint) from error
    except PegLoomError as error:
        raise ProjectFileError(path.name, str(error), hint="open an older copy") from error
    except MemoryError as error:
        raise ProjectFileError(path.name, "needs more memory than there is", hint="close other programs") from error
    except Exception as error:  # whatever damage leads to, nothing but words comes out
        raise ProjectFileError(
            path.name, f"its contents are damaged ({type(error).__name__}: {reason(error)})", hint="open an older copy"
        ) from error


JSON_TIMES = 24
"""Bytes that a byte of JSON may take once it is read: an empty list is three characters."""


class Unpacker:
    """Arrays and bytes of a project, each read once."""

    def __init__(self, path: Path, archive: zipfile.ZipFile) -> None:
        self.path, self.archive = path, archive
        self.arrays: dict[int, np.ndarray] = {}
        self.blobs: dict[int, bytes] = {}

    def fail(self, what: str, where: str = "") -> ProjectFileError:
        return ProjectFileError(self.path.name, what, where=where, hint="open an older copy")

    def entry(self, name: str, times: int = 1, where: str = "") -> bytes:
        """The bytes of an entry; what it claims is checked before it is unpacked."""
        try:
            info = self.archive.getinfo(name)
        except KeyError:
            raise self.fail(f"names {name}, which is not in it", where) from None
        take(times * info.file_size, name, where)
        return self.archive.read(info)

    def number(self, text: str) -> float:
        value = float(text)
        if not np.isfinite(value):
            raise self.fail(f"{text[:20]} is no number", "document.json")
        return value

    def head(self) -> dict[str, Any]:
        data = self.entry("document.json", JSON_TIMES)
        try:
            head = json.loads(data, parse_float=self.number, parse_constant=self.number)
        except RecursionError:
            raise self.fail("its records are nested too deep", "document.json") from None
        if type(head) is not dict or head.get("format") != "pegloom":
            raise ProjectFileError(self.path.name, "this is no Peg Loom project")
        if type(head.get("version")) is not int or head["version"] < 1:
            raise self.fail("tells no version", "document.json")
        if head["version"] > VERSION:
            raise ProjectFileError(
                self.path.name, f"was saved by a newer Peg Loom (format {head['version']})", hint="update the program"
            )
        return head

    def array(self, number: Any, where: str) -> np.ndarray:
        """The array of that number; what its header claims is checked before it is made."""
        if type(number) is not int:
            raise self.fail("names an array by what is no number", where)
        if number not in self.arrays:
            data = self.entry(f"arrays/{number}.npy", where=where)
            self.arrays[number] = self.parsed(data, where)
        return self.arrays[number]

    def parsed(self, data: bytes, where: str) -> np.ndarray:
        """An array over the entry's own bytes: nothing is copied, its header is held against what is there."""
        stream = io.BytesIO(data)
        try:
            version = np.lib.format.read_magic(stream)
            read_header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
            shape, by_columns, kind = read_header[version](stream)
        except (ValueError, KeyError, SyntaxError, RecursionError, MemoryError) as error:
            raise self.fail(f"an array's header makes no sense ({reason(error)})", where) from None
        if kind.kind not in "biuf" or kind.hasobject:
            raise self.fail(f"an array holds {kind} instead of numbers", where)
        count = math.prod(shape)
        if any(n < 0 for n in shape) or count * kind.itemsize != len(data) - stream.tell():
            raise self.fail("an array's size is not what it claims", where)
        result = np.frombuffer(data, kind, count, stream.tell()).reshape(shape, order="F" if by_columns else "C")
        if kind.kind == "f" and not np.isfinite(result).all():
            raise self.fail("an array holds what is no number", where)
        return result

    def blob(self, number: Any, where: str) -> bytes:
        if type(number) is not int:
            raise self.fail("names bytes by what is no number", where)
        if number not in self.blobs:
            self.blobs[number] = self.entry(f"blobs/{number}", where=where)
        return self.blobs[number]


def _read(path: Path, archive: zipfile.ZipFile) -> Document:
    limited(len(archive.infolist()), MOST_ENTRIES, "entries")
    unpacker = Unpacker(path, archive)
    head = unpacker.head()
    if type(head.get("document")) is not dict:
        raise ProjectFileError(path.name, "holds no document")
    try:
        tree = upgraded(head["document"], head["version"], unpacker)
        document: Document = decode(Document, tree, "", unpacker)
    except RecursionError:
        raise unpacker.fail("its records are nested too deep", "document.json") from None
    if not 0 <= document.active < max(len(document.characters), 1):
        raise unpacker.fail(f"character {str(document.active)[:20]} is in hand, but it is not there", "active")
    for i, character in enumerate(document.characters):
        check_references(path, character, f"characters[{i}]")
    return replace(document, characters=tuple(checked(path, c) for c in document.characters))
