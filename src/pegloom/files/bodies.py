"""Own bodies as files: JSON of a body's pegs, changes, recipe, sets and poses. Format: docs/patterns.md."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import platformdirs

from pegloom.core.errors import MeshFileError, PegLoomError, one_line
from pegloom.document.edits.bodies import Body, body_of
from pegloom.document.edits.rebuild import assembled
from pegloom.document.model import Character
from pegloom.files.outgoing import write_bytes
from pegloom.files.project.records import decode, encode
from pegloom.files.raw import checked_size, read_bytes

FORMAT, VERSION = "peg loom body", 1
LARGEST = 32 << 20
"""Bytes."""
MOST_NUMBERS, MOST_PEGS, TALLEST = 2_000_000, 2000, 1e4
HINT = "choose a file that was saved as a body"
ENDING = ".body.json"
CLOSED = ("parts", "materials", "images", "clips", "weaves", "trials", "references", "skin", "skeleton", "rig", "adopted", "worn")
"""Fields of a character that a body's file has none of."""


def bodies_folder() -> Path:
    """Where a user's own bodies lie."""
    return Path(platformdirs.user_data_dir("pegloom")) / "bodies"


def known_bodies(folder: Path | None = None) -> dict[str, Path]:
    """The user's own bodies by name."""
    place = bodies_folder() if folder is None else folder
    files = sorted(place.glob(f"*{ENDING}")) if place.is_dir() else []
    return {file.name.removesuffix(ENDING): file for file in files}


def path_of(name: str, folder: Path | None = None) -> Path:
    """Where a body of that name lies: nothing of a name leads out of the folder."""
    plain = "".join(c if c.isprintable() and c not in '/\\:*?"<>|' else "_" for c in name).strip(" .") or "body"
    return (bodies_folder() if folder is None else folder) / f"{plain[:80]}{ENDING}"


class _Out:
    """Arrays told in the file itself."""

    def __init__(self) -> None:
        self.arrays: list[Any] = []

    def keep_array(self, value: np.ndarray) -> int:
        self.arrays.append({"kind": value.dtype.kind, "rows": value.tolist()})
        return len(self.arrays) - 1

    def keep_blob(self, value: bytes) -> int:
        raise TypeError("a body holds no pictures")


class _In:
    def __init__(self, path: Path, arrays: list[Any]) -> None:
        self.path, self.arrays = path, arrays

    def array(self, number: Any, where: str) -> np.ndarray:
        if type(number) is not int or not 0 <= number < len(self.arrays) or not isinstance(self.arrays[number], dict):
            raise self.fail("names an array that is not there", where)
        told = self.arrays[number]
        kind = {"f": np.float64, "i": np.int64, "b": np.bool_}.get(str(told.get("kind")))
        try:
            result = np.array(told.get("rows"), dtype=kind)
        except (ValueError, TypeError, OverflowError):
            raise self.fail("an array of numbers was expected", where) from None
        if kind is None or result.size > MOST_NUMBERS or (kind is np.float64 and not np.isfinite(result).all()):
            raise self.fail("an array of usable numbers was expected", where)
        result.setflags(write=False)
        return result

    def blob(self, number: Any, where: str) -> bytes:
        raise self.fail("a body holds no pictures", where)

    def fail(self, what: str, where: str = "") -> Exception:
        return MeshFileError(self.path.name, what, where=where, hint=HINT)


def write_body(path: str | Path, body: Body) -> None:
    """Write a body; lengths in metres. Raises MeshFileError where the place cannot be written."""
    out = _Out()
    tree = encode(Character, body.character, out)
    tree = {k: v for k, v in tree.items() if k not in CLOSED}
    head = {"format": FORMAT, "version": VERSION, "height": body.height, "body": tree, "arrays": out.arrays}
    write_bytes(Path(path), json.dumps(head, indent=1, allow_nan=False).encode())


def read_body(path: str | Path) -> Body:
    """A body of a file. Raises MeshFileError: which file, what is wrong and where, what to do."""
    path = Path(path)

    def fail(what: str, where: str = "") -> MeshFileError:
        return MeshFileError(path.name, what, where=where, hint=HINT)

    try:
        if checked_size(path) > LARGEST:
            raise fail("is far too large for a body")
        tree = json.loads(read_bytes(path), parse_constant=_no_number)
    except (ValueError, RecursionError) as error:
        raise fail(f"is no JSON ({str(error)[:80]})") from None
    if not isinstance(tree, dict) or tree.get("format") != FORMAT:
        raise fail("holds no body")
    if tree.get("version") != VERSION:
        raise MeshFileError(path.name, "was written by a newer version", hint="open it with that one")
    height, told, arrays = tree.get("height"), tree.get("body"), tree.get("arrays", [])
    if isinstance(height, bool) or not isinstance(height, (int, float)) or not math.isfinite(height) or not 0 < height < TALLEST:
        raise fail("a height in metres was expected", "height")
    if not isinstance(told, dict) or not isinstance(arrays, list):
        raise fail("a body was expected", "body")
    full = next((k for k in CLOSED if told.get(k)), None)
    if full is not None:
        raise fail("is no field of a body", f"body.{full}")
    try:
        character = decode(Character, told, "body", _In(path, arrays))
        if character.pegs is None or not 0 < len(character.pegs.pegs) <= MOST_PEGS:
            raise fail("pegs were expected", "body.pegs")
        # Joints are made of it, so that what cannot be made is said here and not later.
        assembled(character)
        return Body(body_of(character).character, float(height))
    except MeshFileError:
        raise
    except (PegLoomError, RecursionError, ValueError, KeyError, IndexError, ZeroDivisionError, OverflowError) as error:
        raise fail(one_line(str(error))[:160], "body") from None


def _no_number(word: str) -> float:
    raise ValueError(f"{word} is no number")
