"""A family's master read from a project or a body's file, and the page of what its changes would do to each member."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from pegloom import __version__
from pegloom.document.edits.bodies import Body, body_of
from pegloom.document.edits.family import Followed
from pegloom.files.bodies import read_body
from pegloom.files.outgoing import write_bytes
from pegloom.files.project import SUFFIX, open_project
from pegloom.files.proof.page import as_data, filled

LEAST_MM = 0.01
"""Millimetres under which a move is none: kept poses are told in thousandths."""


@dataclass(frozen=True)
class Member:
    """name : of its file. error : why it could not be looked at. pictures : titles and PNG, before and after."""

    name: str
    followed: Followed = field(default_factory=Followed)
    error: str = ""
    pictures: Sequence[tuple[str, bytes]] = field(default_factory=tuple)


def read_master(path: Path) -> Body:
    """The master of a project, or of a body's file. Raises MeshFileError for one that is neither, EditError for a character whose
    joints come from no pegs."""
    return body_of(open_project(path).require_character()) if path.suffix.lower() == SUFFIX else read_body(path)


def write_family_page(path: Path, master: str, members: Sequence[Member]) -> None:
    """One self-contained HTML page."""
    rows = []
    for one in members:
        told = [c for c in one.followed.moves if c.why or 1000 * c.metres >= LEAST_MM]
        rows.append({
            "name": one.name, "error": one.error, "taken": one.followed.taken, "kept": one.followed.kept,
            "moves": [{"name": c.name, "mm": c.why if math.isinf(c.metres) else f"{1000 * c.metres:.2f} mm", "where": c.where} for c in told],
            "pictures": [(title, as_data(png)) for title, png in one.pictures],
        })  # fmt: skip
    made = f"{datetime.date.today().isoformat()}, Peg Loom {__version__}"
    write_bytes(path, filled("family.html", master=master, members=rows, made=made).encode())
