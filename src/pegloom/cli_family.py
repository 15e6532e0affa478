"""A family of rigs without a screen: what a master's changes would do to each member, and taking them."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError, PegLoomError


def family(
    master: Annotated[Path, typer.Argument(metavar="MASTER", help="a project, or a .body.json")],
    members: Annotated[list[Path], typer.Argument(metavar="MEMBER...", help="projects that wear it, or are to")],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="FOLDER", help="where members are written as they then are; without it nothing is written")] = None,
    wear: Annotated[bool, typer.Option("--wear", help="members that wear no master yet wear this one")] = False,
    over: Annotated[bool, typer.Option("--over", help="the master's takes the place of what was changed by hand, too")] = False,
    page: Annotated[Path | None, typer.Option("--page", metavar="OUT.html", help="a page with pictures of what moves")] = None,
    as_json: Json = False,
) -> None:
    """What a master's changes do to the poses and clips of each member, in millimetres; taken where an output is named."""
    from pegloom.document import edits
    from pegloom.document.edits.family import lines_of
    from pegloom.files.families import LEAST_MM, Member, read_master, write_family_page
    from pegloom.files.patterns import known_patterns
    from pegloom.files.project import open_project, save_project

    body = read_master(master)
    if output is not None and any((output / m.name).resolve() == master.resolve() for m in members):
        raise EditError(f"{master.name} would be written over its own master; choose another folder")
    rows: list[dict[str, Any]] = []
    found, lines = [], []
    for path in members:
        row: dict[str, Any] = {"member": str(path), "taken": [], "kept": [], "moves": [], "output": None, "error": None}
        rows.append(row)
        try:
            before = open_project(path)
            worn = before.require_character().worn
            if worn is None and not wear:
                raise EditError(f"{path.name} wears no master yet; --wear lets it wear this one")
            after, told = edits.wear_master(before, body, plans=known_patterns()) if worn is None else edits.follow_master(before, body, over=over)
            pictures = _pictures(before, after, [c for c in told.moves if 1000 * c.metres >= LEAST_MM]) if page is not None else ()
            if output is not None:
                output.mkdir(parents=True, exist_ok=True)
                save_project(output / path.name, after)
                row["output"] = str(output / path.name)
        except PegLoomError as error:
            row["error"] = " ".join(str(error).split())
            found.append(Member(path.stem, error=row["error"]))
            lines.append(f"{path.name}: {row['error']}")
            continue
        row |= {
            "taken": list(told.taken), "kept": list(told.kept),
            "moves": [{"name": c.name, "mm": None if math.isinf(c.metres) else round(1000 * c.metres, 3), "where": c.where, "why": c.why} for c in told.moves],
        }  # fmt: skip
        found.append(Member(path.stem, told, pictures=pictures))
        farthest = next((c for c in told.moves if c.why or 1000 * c.metres >= LEAST_MM), None)
        went = "nothing moves" if farthest is None else f"{farthest.name} {farthest.why or f'goes by {1000 * farthest.metres:.2f} mm'} ({farthest.where})"
        lines += [f"{path.name}: {went}", *(f"  {line}" for line in lines_of(told))]
    if page is not None:
        write_family_page(page, body.character.name, found)
        lines.append(f"written: {page}")
    _print({"master": body.character.name, "members": rows, "page": str(page) if page else None}, as_json, "\n".join(lines))
    if any(row["error"] for row in rows):
        raise typer.Exit(1)


def _pictures(before: Any, after: Any, moves: list[Any]) -> list[tuple[str, bytes]]:
    """Pictures where the machine can draw; none elsewhere."""
    from pegloom.render.portrait import before_and_after
    from pegloom.render.studio import NoScreenError

    try:
        return before_and_after(before, after, moves)
    except NoScreenError:
        return []


COMMANDS = (family,)
