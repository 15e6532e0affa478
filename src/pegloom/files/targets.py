"""Targets of an export as open JSON: those that ship, the user's own, any file. Format: docs/targets.md."""

from __future__ import annotations

import json
import re
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any, NoReturn

import numpy as np
import platformdirs

from pegloom.core.errors import EditError, MeshFileError
from pegloom.document.delivery import Target
from pegloom.files.outgoing import write_bytes
from pegloom.files.plain_json import read_kind
from pegloom.files.project.records import decode, encode, fields_of

FORMAT, VERSION = "peg loom target", 1


class _Plain:
    """A target holds no arrays and no bytes."""

    def __init__(self, name: str) -> None:
        self.name = name

    def fail(self, what: str, where: str = "") -> Exception:
        return MeshFileError(self.name, f"{where.lstrip('.')}: {what}" if where else what, hint="see docs/targets.md, or compare it with one that ships")

    def array(self, number: Any, where: str) -> np.ndarray:
        raise self.fail("a word or a number was expected", where)

    def blob(self, number: Any, where: str) -> bytes:
        raise self.fail("a word or a number was expected", where)

    def keep_array(self, value: np.ndarray) -> NoReturn:
        raise NotImplementedError

    def keep_blob(self, value: bytes) -> NoReturn:
        raise NotImplementedError


def targets_folder() -> Path:
    """Where a user's own targets lie."""
    return Path(platformdirs.user_data_dir("pegloom")) / "targets"


def read_target(path: Path) -> Target:
    """A target of a file. Raises MeshFileError: which file, what is wrong and where, what to do."""
    tree = read_kind(path, FORMAT, VERSION, "a target")
    return _target(path.name, {k: v for k, v in tree.items() if k not in ("format", "version")}, path.stem)


def _target(file: str, tree: dict[str, Any], stem: str) -> Target:
    told = {"name": stem, **tree}
    made: Target = decode(Target, told, "", _Plain(file))
    try:
        return made.checked()
    except EditError as error:
        raise MeshFileError(file, str(error), hint="see docs/targets.md, or compare it with one that ships") from error


def target_json(target: Target) -> str:
    """A target as its file has it: what is as usual is written, too, so that a file tells all there is to choose."""
    tree = encode(Target, target, _Plain(target.name))
    return json.dumps({"format": FORMAT, "version": VERSION, **{k: tree[k] for k in fields_of(Target)}}, indent=1)


def write_target(path: Path, target: Target) -> None:
    """Write a target's file. Raises MeshFileError, EditError."""
    write_bytes(path, target_json(target.checked()).encode())


def keep_target(target: Target) -> Path:
    """Keep a target among the user's own, under its name."""
    plain = re.sub(r"[^\w-]+", "-", target.name.lower()).strip("-")
    if not plain:
        raise EditError("give the target a name of letters first")
    place = targets_folder() / f"{plain}.json"
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MeshFileError(str(place.parent), f"cannot be made ({error.strerror})", hint="make room in your folder for data") from error
    write_target(place, target)
    return place


@cache
def shipped_targets() -> dict[str, Target]:
    """Those that ship, by name, in their order."""
    folder = files("pegloom.assets") / "targets"
    found = {}
    for entry in sorted(folder.iterdir(), key=lambda e: e.name):
        if entry.name.endswith(".json"):
            tree = json.loads(entry.read_text())
            stem = entry.name.removesuffix(".json").partition("_")[2]
            found[stem] = _target(entry.name, {k: v for k, v in tree.items() if k not in ("format", "version")}, stem)
    return found


def known_targets(folder: Path | None = None) -> dict[str, Target]:
    """Shipped targets, then the user's own; one of a shipped one's name stands in its place, a broken file is passed by."""
    found = dict(shipped_targets())
    place = targets_folder() if folder is None else folder
    for file in sorted(place.glob("*.json")) if place.is_dir() else ():
        try:
            result = read_target(file)
        except MeshFileError:
            continue
        found[result.name] = result
    return found


def target_named(name: str) -> Target:
    """A target by name, or by the path of its file. Raises MeshFileError listing the known ones."""
    known = known_targets()
    if name in known:
        return known[name]
    if name.endswith(".json"):
        return read_target(Path(name))
    raise MeshFileError(name, "there is no such target", hint=f"use {', '.join(known)}, or a target's .json")
