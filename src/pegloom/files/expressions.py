"""Expressions of a face as a file: names of controls, keys of channels, numbers. Format: docs/expressions.md."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from pegloom.core.errors import MeshFileError
from pegloom.files.outgoing import write_bytes
from pegloom.files.plain_json import HINT, read_kind

FORMAT, VERSION = "peg loom expressions", 1
MOST, MOST_VALUES, LONGEST, FARTHEST = 2000, 20000, 200, 1e6
Told = list[tuple[str, dict[tuple[str, str], float]]]


def write_expressions(path: str | Path, told: Sequence[tuple[str, Mapping[tuple[str, str], float]]]) -> None:
    """Write expressions by name, with values by control name and channel key; metres, radians, shares."""
    some = [
        {"name": name, "values": [{"control": c, "channel": k, "value": v} for (c, k), v in values.items()]} for name, values in told
    ]
    write_bytes(Path(path), json.dumps({"format": FORMAT, "version": VERSION, "expressions": some}, indent=1).encode())


def read_expressions(path: str | Path) -> Told:
    """Expressions of a file. Raises MeshFileError: which file, what is wrong and where, what to do."""
    path = Path(path)
    tree = read_kind(path, FORMAT, VERSION, "expressions")
    some = tree.get("expressions")
    if not isinstance(some, list) or len(some) > MOST:
        raise MeshFileError(path.name, f"expressions: a list of up to {MOST} was expected", hint=HINT)
    return [_expression(path, one, f"expressions[{k}]") for k, one in enumerate(some)]


def _expression(path: Path, one: Any, where: str) -> tuple[str, dict[tuple[str, str], float]]:
    def fail(what: str, place: str) -> MeshFileError:
        return MeshFileError(path.name, what, where=place, hint=HINT)

    if not isinstance(one, dict) or not _word(one.get("name")):
        raise fail("an expression with a name was expected", where)
    values = one.get("values")
    if not isinstance(values, list) or len(values) > MOST_VALUES:
        raise fail("a list of values was expected", f"{where}.values")
    found: dict[tuple[str, str], float] = {}
    for k, row in enumerate(values):
        place = f"{where}.values[{k}]"
        if not isinstance(row, dict) or not _word(row.get("control")) or not _word(row.get("channel")):
            raise fail("a control and a channel were expected", place)
        value = row.get("value")
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not math.isfinite(value) or abs(value) > FARTHEST:
            raise fail("a number of usable size was expected", f"{place}.value")
        found[row["control"], row["channel"]] = float(value)
    return one["name"], found


def _word(value: Any) -> bool:
    return isinstance(value, str) and 0 < len(value) <= LONGEST
