"""What a batch does to every file, as open JSON, and the table it keeps while it runs. Format: docs/batch.md."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

from pegloom import __version__
from pegloom.core.errors import MeshFileError
from pegloom.files.plain_json import read_kind

FORMAT, VERSION = "peg loom batch", 1
READ = (".obj", ".glb", ".gltf", ".ply", ".stl", ".usd", ".usda", ".usdc", ".usdz", ".pegloom")
"""Endings a batch takes in."""
ROWS, TABLE, REPORT = "rows.jsonl", "table.csv", "report.html"


@dataclass(frozen=True)
class BatchRecipe:
    """pattern : of the body; "auto" looks at each mesh. up, facing : the files' axes, "" as each mesh shows.
    height : metres; 0 as guessed. bind : a method's name. influences : most a vertex. rig : whether what has no skeleton is rigged.
    controls : whether controls are built. takes : motion files, beside the recipe or absolute, carried over to each.
    targets : what each is exported for. keep : whether its project is kept. pictures : whether it is drawn.
    seconds : a file may take at most; 0 for any time.
    """

    pattern: str = "auto"
    up: str = ""
    facing: str = ""
    height: float = 0.0
    bind: str = "SEGMENT"
    influences: int = 4
    rig: bool = True
    controls: bool = True
    takes: tuple[str, ...] = ()
    targets: tuple[str, ...] = ("real-time",)
    keep: bool = True
    pictures: bool = True
    seconds: float = 1800.0

    @property
    def stamp(self) -> str:
        """What tells whether a row was made by the same recipe."""
        return hashlib.sha256(json.dumps(asdict(self), sort_keys=True).encode()).hexdigest()[:16]


def read_recipe(path: Path) -> BatchRecipe:
    """A batch's recipe. Raises MeshFileError: which file, what is wrong and where, what to do."""
    tree = read_kind(path, FORMAT, VERSION, "a batch's recipe")
    known = {f.name: f for f in fields(BatchRecipe)}
    values: dict[str, Any] = {}
    for name, value in tree.items():
        if name in ("format", "version"):
            continue
        if name not in known:
            raise MeshFileError(path.name, f"{name[:40]} is not known", hint=f"use {', '.join(known)}")
        usual = known[name].default
        if isinstance(usual, tuple):
            if not isinstance(value, list) or not all(isinstance(v, str) and v for v in value) or len(value) > 1000:
                raise MeshFileError(path.name, f"{name}: a list of names was expected", hint="see docs/batch.md")
            value = tuple(value)
        elif isinstance(usual, float) and type(value) is int:
            value = float(value)
        if type(value) is not type(usual):
            raise MeshFileError(path.name, f"{name}: {type(usual).__name__} was expected", hint="see docs/batch.md")
        values[name] = value
    from pegloom.core.skin.bind import BindMethod

    made = BatchRecipe(**values)
    if made.bind not in BindMethod.__members__:
        raise MeshFileError(path.name, f"bind: there is no method {made.bind[:40]}", hint=f"use {', '.join(BindMethod.__members__)}")
    if not 1 <= made.influences <= 16 or not 0.0 <= made.height <= 1e4 or not made.seconds >= 0.0:
        raise MeshFileError(path.name, "influences go from 1 to 16, height from 0 to 10000 metres, seconds from 0 on", hint="see docs/batch.md")
    takes = tuple(str(t if Path(t).is_absolute() else path.parent / t) for t in made.takes)
    return BatchRecipe(**{**asdict(made), "takes": takes, "targets": made.targets})


def files_of(folder: Path) -> list[Path]:
    """Files of a folder, and of those in it, that a batch takes in; links that lead out of it are left. Raises MeshFileError."""
    if not folder.is_dir():
        raise MeshFileError(folder.name, "is no folder", hint="name the folder the files are in")
    root = folder.resolve()
    found = []
    for at, names, some in os.walk(folder):
        names[:] = sorted(n for n in names if not n.startswith("."))
        for name in sorted(some):
            path = Path(at) / name
            if path.suffix.lower() in READ and not name.startswith(".") and path.resolve().is_relative_to(root):
                found.append(path)
    return found


def place_of(folder: Path, file: Path, out: Path, taken: set[str]) -> Path:
    """A folder of its own for a file's results."""
    told = "_".join(file.relative_to(folder).with_suffix("").parts)
    stem = re.sub(r"[^\w-]+", "_", told).strip("_")[:80] or "file"
    name, number = stem, 1
    while name.lower() in taken:
        number += 1
        name = f"{stem}_{number}"
    taken.add(name.lower())
    return out / name


def seen(file: Path) -> str:
    """What tells whether a file has changed since its row was made."""
    try:
        status = file.stat()
    except OSError:
        return ""
    return f"{status.st_size} {status.st_mtime_ns}"


def read_rows(out: Path) -> Iterator[dict[str, Any]]:
    """Rows an earlier run left, whole ones alone: a killed run's last line may be half."""
    with contextlib.suppress(OSError):
        for line in (out / ROWS).read_text(errors="replace").splitlines():
            with contextlib.suppress(ValueError):
                row = json.loads(line)
                if isinstance(row, dict) and isinstance(row.get("file"), str):
                    yield row


def add_row(out: Path, row: dict[str, Any]) -> None:
    """One more row, on the disk at once."""
    with (out / ROWS).open("a", encoding="utf-8") as file:
        file.write(json.dumps(row) + "\n")
        file.flush()
        os.fsync(file.fileno())


COLUMNS = ("file", "state", "error", "pattern", "confidence", "vertices", "height_m", "joints", "stretch_p99", "folded", "snags", "clips", "slide_mm", "exports", "seconds")
"""Of the table."""


def table_text(rows: Iterable[dict[str, Any]]) -> str:
    """The table as CSV; what a spreadsheet would take for a formula begins with an apostrophe."""
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for row in rows:
        writer.writerow([_cell(row.get(name)) for name in COLUMNS])
    return out.getvalue()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:.4g}"
    text = " ".join(value) if isinstance(value, (list, tuple)) else str(value)
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t") else text


def report_text(rows: Sequence[dict[str, Any]], recipe: BatchRecipe, folder: str) -> str:
    """One HTML page of a batch; everything from files is escaped."""
    from pegloom.files.proof.page import filled

    good = sum(1 for r in rows if r["state"] == "ok")
    told = [(k, ", ".join(v) if isinstance(v, tuple) else str(v)) for k, v in asdict(recipe).items()]
    return filled("batch.html", folder=folder, rows=rows, good=good, bad=len(rows) - good, recipe=told, made=f"Peg Loom {__version__}")
