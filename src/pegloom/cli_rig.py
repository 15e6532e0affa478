"""Commands on a rig: it is told, posed and edited without a screen."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.core.errors import EditError, MeshFileError

MOST_JSON = 200_000_000
"""Bytes of a file of frames or steps that are read."""
Json = Annotated[bool, typer.Option("--json", help="Print the result as JSON on stdout.")]


def _print(result: dict[str, Any], as_json: bool, summary: str) -> None:
    print(json.dumps(result) if as_json else summary)


def controls(project: Path, as_json: Json = False) -> None:
    """List a rig: its controls with their channels, limbs, solvers, constraints, spaces, and what is wrong with it."""
    from pegloom import checks
    from pegloom.document.told.account import account
    from pegloom.files.opening import open_any

    character = open_any(project).require_character()
    findings = [
        {"code": s.code, "severity": s.severity.value, "message": s.message, "where": s.subject}
        for s in checks.find_snags(character)
        if s.area == "controls"
    ]
    told = account(character, findings)
    lines = [f"{c['name']:28} {c['kind']:8} on {c['parent']}" for c in told["controls"]]
    lines += [f"{s['name']}: {s['kind']} of {len(s['joints'])} joints" for s in told["solvers"]]
    lines += [f"{c['held']} follows {', '.join(t['node'] for t in c['targets'])} ({c['follow']})" for c in told["constraints"]]
    lines += [f"{c['held']} may follow {', '.join(t['name'] for t in c['targets'])}" for c in told["spaces"]]
    _print(told, as_json, "\n".join([*lines, *(f["message"] for f in findings)]))


def guard(project: Path, fix: Annotated[Path | None, typer.Option("--fix", help="Mend what can be mended safely and write it here.")] = None, as_json: Json = False) -> None:
    """Check a rig before other hands have it: every control does something, nothing is loose, sides agree.

    Exit code 1 where something is found that was not mended.
    """
    from pegloom import checks
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    document = open_any(project)
    character = document.require_character()
    if character.rig is None:
        raise EditError("there are no controls to check; build them first")
    found = checks.guard(character)
    if fix is not None:
        document = checks.mended(document, found)
        write_rig(fix, document)
        found = checks.guard(document.require_character())
    rows = [{"check": f.check, "message": f.message, "control": f.control, "joint": f.joint, "fix": f.fix} for f in found]
    failed = {f.check for f in found}
    lines = [f"{'not yet' if key in failed else 'holds  '}  {words}" for key, words in checks.CHECKS.items()]
    told = {"sound": not found, "checks": {key: key not in failed for key in checks.CHECKS}, "findings": rows}
    _print(told, as_json, "\n".join([*lines, *(f"{f.check}: {f.message}" for f in found)]))
    if found:
        raise typer.Exit(1)


def pose(
    project: Path,
    frames: Annotated[Path, typer.Option(help="FRAMES.json")],
    output: Annotated[Path | None, typer.Option("-o", "--output", help=".glb with the frames as a clip")] = None,
    as_json: Json = False,
) -> None:
    """Play frames of channel values on a rig and tell where its joints and controls stand.

    FRAMES is {"rate": 30, "frames": [{"CONTROL": {"CHANNEL": number}}]}: metres, radians, shares; a channel that a frame
    leaves out is at rest; between frames values run linearly.
    """
    from pegloom.document.told import poses
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_any

    document = open_any(project)
    rate, told_frames = poses.read_frames(document.require_character(), _json(frames))
    told = poses.played(document.require_character(), told_frames, rate)
    if output is not None:
        if output.suffix.lower() != ".glb":
            raise MeshFileError(output.name, "frames are written as .glb", hint="name the output NAME.glb")
        told["notes"] += write_any(output, poses.as_clip(document, rate, told_frames))
    words = [f"{len(told_frames)} frames on {len(told['joints'])} joints", *told["notes"]]
    _print(told, as_json, "\n".join(words if output is None else [*words, f"written: {output}"]))


def edit(
    project: Annotated[Path | None, typer.Argument()] = None,
    steps: Annotated[Path | None, typer.Argument(help="STEPS.json")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", help=".pegloom, .glb or .usda")] = None,
    listing: Annotated[bool, typer.Option("--list", help="Tell all edits and their arguments.")] = False,
    as_json: Json = False,
) -> None:
    """Run edits by name, in order, each checked: [{"edit": NAME, ARGUMENT: value, ...}, ...]."""
    from pegloom.document.told import verbs
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    if listing:
        rows = verbs.listed()
        lines = [f"{r['edit']}({', '.join(a['name'] for a in r['arguments'])})\n    {r['says']}" for r in rows]
        _print({"edits": rows}, as_json, "\n".join(lines))
        return
    if project is None or steps is None or output is None:
        raise EditError("name a project, the steps and, with -o, where to write; or --list for the edits there are")
    document = open_any(project)
    done: list[str] = []
    document, made = verbs.run_steps(document, _json(steps), report=done.append)
    write_rig(output, document)
    _print({"output": str(output), "made": made}, as_json, "\n".join([*done, f"written: {output}"]))


def _json(path: Path) -> Any:
    """A file of JSON, told plainly where it is none."""
    if path.stat().st_size > MOST_JSON:
        raise EditError(f"{path.name} holds {path.stat().st_size} bytes, more than is read")
    try:
        return json.loads(path.read_text(encoding="utf-8"))
    except (ValueError, RecursionError) as error:
        raise EditError(f"{path.name} is no JSON ({error})") from None


COMMANDS = (controls, guard, pose, edit)
