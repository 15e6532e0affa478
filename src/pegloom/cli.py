"""The command line: the same verbs as the window, without a screen.

An error is one line on stderr starting `error:` and exit code 1; wrong usage is exit code 2; never a traceback.
"""

from __future__ import annotations

import io
import json
import os
import sys
import time
import warnings
from collections.abc import Callable
from dataclasses import asdict, replace
from functools import wraps
from importlib import import_module, resources
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TypeVar

import click
import typer

from pegloom import (
    cli_batch,
    cli_capture,
    cli_clips,
    cli_deliver,
    cli_family,
    cli_flesh,
    cli_motion,
    cli_rig,
    cli_scene,
)
from pegloom.cli_flesh import Locks, _locked
from pegloom.core.errors import EditError, MeshFileError, PegLoomError
from pegloom.files.reports import unforeseen

if TYPE_CHECKING:
    import numpy as np

    from pegloom import checks
    from pegloom.checks import trials
    from pegloom.core.geometry import mesh as meshes
    from pegloom.core.geometry import standing
    from pegloom.core.skeleton import patterns as plans
    from pegloom.core.skeleton import pegs as landmarks
    from pegloom.core.skin.bind import BindMethod
    from pegloom.document import edits, model
    from pegloom.document.model import Document
    from pegloom.files import bodies, opening, reading, writing
    from pegloom.files import patterns as own_plans
else:

    class _Later:
        """A module that is loaded when it is first used: a command waits for nothing it does not need."""

        def __init__(self, name: str) -> None:
            self._name = name

        def __getattr__(self, what: str) -> Any:
            return getattr(import_module(self._name), what)

    np, checks, trials = _Later("numpy"), _Later("pegloom.checks"), _Later("pegloom.checks.trials")
    meshes, standing = _Later("pegloom.core.geometry.mesh"), _Later("pegloom.core.geometry.standing")
    plans, landmarks = _Later("pegloom.core.skeleton.patterns"), _Later("pegloom.core.skeleton.pegs")
    edits, model = _Later("pegloom.document.edits"), _Later("pegloom.document.model")
    opening, reading = _Later("pegloom.files.opening"), _Later("pegloom.files.reading")
    writing, own_plans = _Later("pegloom.files.writing"), _Later("pegloom.files.patterns")
    bodies = _Later("pegloom.files.bodies")

app = typer.Typer(no_args_is_help=True, pretty_exceptions_enable=False, help=__doc__)
R = TypeVar("R")
BIND_HELP = "default, skin, body, reach or hard"
PATTERN_HELP = "Body plan: auto, or a name `pegloom patterns` lists, or a pattern's .json."
Json = Annotated[bool, typer.Option("--json", help="Print the result as JSON on stdout.")]


def _axis(text: str) -> standing.Direction:
    """An axis as it is typed: y, +Y, -z."""
    name = text.strip().upper()
    try:
        return standing.Direction(name if name[:1] in ("+", "-") else f"+{name}")
    except ValueError:
        raise typer.BadParameter(f"{text} is no axis; use one of +X -X +Y -Y +Z -Z") from None


Up = Annotated[Any, typer.Option(parser=_axis, metavar="AXIS", help="The file's axis that is up, else by its shape.")]
Facing = Annotated[Any, typer.Option(parser=_axis, metavar="AXIS", help="The file's axis it faces, else by its shape.")]
Influences = Annotated[int, typer.Option(min=1, max=16, help="Most influences a vertex.")]
METHODS = {
    "default": "SEGMENT", "segment": "SEGMENT", "skin": "ALONG_SKIN", "along-the-skin": "ALONG_SKIN", "heat": "ALONG_SKIN",
    "body": "THROUGH_BODY", "through-the-body": "THROUGH_BODY", "reach": "BY_REACH", "by-reach": "BY_REACH", "hard": "HARD",
}  # fmt: skip
"""Names of `BindMethod` by what is typed."""


def _tell(error: Exception) -> None:
    """The one line an error ends in; of one that was not foreseen there is a report."""
    if isinstance(error, PegLoomError):
        text = str(error)
    elif isinstance(error, MemoryError):
        text = "not enough memory for this mesh; reduce it and try again"
    elif isinstance(error, OSError) and error.filename is not None:
        text = f"{error.filename}: {error.strerror or error}"
    else:
        text = unforeseen(error)
    print(f"error: {' '.join(text.split())}", file=sys.stderr)


def _plain_errors(command: Callable[..., R]) -> Callable[..., R]:
    @wraps(command)
    def run(*args: Any, **kwargs: Any) -> R:
        try:
            return command(*args, **kwargs)
        except (typer.Exit, click.ClickException, click.Abort, BrokenPipeError):
            raise
        except Exception as error:
            _tell(error)
        raise typer.Exit(1)

    return run


def _print(result: dict[str, Any], as_json: bool, summary: str) -> None:
    print(json.dumps(result) if as_json else summary)


def _method(name: str) -> BindMethod:
    from pegloom.core.skin.bind import BindMethod

    method = METHODS.get(name.lower().replace(" ", "-"))
    if method is None:
        raise EditError(f"there is no bind method {name}; use one of {', '.join(METHODS)}")
    return BindMethod[method]


def _plan(document: Document, name: str) -> plans.Pattern:
    """The pattern asked for; `auto` looks at the mesh."""
    return plans.pattern(edits.guess_plan(document)) if name == "auto" else own_plans.pattern_named(name)


def _fresh(path: Path) -> Document:
    """A mesh file as a character to rig: what skeleton it may hold is left behind."""
    imported = reading.read_mesh(path)
    return edits.bring_in(
        model.Document(),
        imported.parts,
        name=path.stem,
        materials=imported.materials,
        images=imported.images,
        notes=imported.notes,
    )


def _snags(document: Document) -> list[dict[str, Any]]:
    return [
        {"code": s.code, "severity": s.severity.value, "message": s.message, "count": s.count}
        for s in checks.find_snags(document.require_character())
    ]


def _pegs(pegs: landmarks.PegSet) -> list[dict[str, Any]]:
    return [{"name": p.name, "position": list(p.position), "confidence": round(p.confidence, 3)} for p in pegs.pegs]


@app.command()
@_plain_errors
def survey(mesh: Path, up: Up = None, facing: Facing = None, as_json: Json = False) -> None:
    """Say what a mesh file holds and how it lies: parts, size, up, facing, symmetry, snags."""
    imported = reading.read_mesh(mesh)
    points = np.concatenate([p.mesh.points for p in imported.parts])
    document = opening.brought_in(mesh, imported)
    stance = standing.guess_stance(points, document.require_character().all_triangles())
    low, high = points.min(axis=0), points.max(axis=0)
    stood = edits.stand_up(_fresh(mesh), up=up, facing=facing).require_character()
    stands = stood.standing
    assert stands is not None
    snags = [s for p in imported.parts for s in checks.mesh_snags(p.mesh, p.name)]
    result = {
        "vertices": int(sum(p.mesh.vertex_count for p in imported.parts)),
        "faces": int(sum(p.mesh.face_count for p in imported.parts)),
        "parts": [
            {"name": p.name, "vertices": p.mesh.vertex_count, "faces": p.mesh.face_count} for p in imported.parts
        ],
        "bounds": {"min": low.tolist(), "max": high.tolist()},
        "height_m": round(stood.height, 6),
        "up": stands.up,
        "facing": stands.facing,
        "aside_degrees": stance.aside.degrees,
        "sure": {"up": round(stance.up_confidence, 3), "facing": round(stance.facing_confidence, 3)},
        "shells": int(sum(len(np.unique(meshes.shells(p.mesh)[meshes.used_vertices(p.mesh)])) for p in imported.parts)),
        "watertight": all(meshes.is_watertight(p.mesh) for p in imported.parts),
        "symmetry": {
            "axis": "XYZ"[stance.symmetry.axis],
            "offset": stance.symmetry.offset,
            "score": round(stance.symmetry.score, 4),
        },
        "snags": [
            {"code": s.code, "severity": s.severity.value, "message": s.message, "count": s.count} for s in snags
        ],
        "notes": list(imported.notes),
    }
    lines = [f"{document.name}: {result['vertices']} vertices, {result['faces']} faces, {result['shells']} shells",
             f"{_stands(stance, up is not None or facing is not None, stands)}, {stood.height:.3f} m once stood up"]  # fmt: skip
    lines += [f"snag: {s.message}" for s in snags]
    _print(result, as_json, "\n".join(lines))


@app.command()
@_plain_errors
def pegs(
    mesh: Path,
    pattern: Annotated[str, typer.Option(help=PATTERN_HELP)] = "human",
    fingers: Annotated[
        int | None, typer.Option(min=0, max=5, help="Of each hand; left out: as the hands show.")
    ] = None,
    pairs: Annotated[int | None, typer.Option(min=1, max=30, help="Pairs of legs of a many-legged body.")] = None,
    height: Annotated[float | None, typer.Option(help="Metres.")] = None,
    up: Up = None,
    facing: Facing = None,
    as_json: Json = False,
) -> None:
    """Find a body's landmarks in a mesh; places in stood-up coordinates."""
    document = edits.stand_up(_fresh(mesh), up=up, facing=facing, height=height)
    plan = _plan(document, pattern)
    found = edits.find_pegs(document, plan=plan, fingers=fingers, pairs=pairs)
    apart = list(found.pairs_apart)
    _print({"pattern": found.pattern, "pegs": _pegs(found), "pairs_apart": apart}, as_json, _peg_lines(found))


def _stands(stance: standing.Stance, asked: bool, stands: model.Standing) -> str:
    """How a mesh stands in its file, in words; asked for, or guessed and how surely."""
    if asked:
        return f"up {stands.up}, facing {stands.facing}"
    sure = min(stance.up_confidence, stance.facing_confidence)
    return stance.told + ("" if sure >= 0.3 else " (unsure: --up and --facing say it)")


def _peg_lines(found: landmarks.PegSet) -> str:
    """Places and confidence in a table; under it which pairs stand apart."""
    lines = [f"{p.name:18} {p.position[0]:8.4f} {p.position[1]:8.4f} {p.position[2]:8.4f}" for p in found.pegs]
    if found.pairs_apart:
        lines.append(f"the body is not even there, so these pairs stand apart: {', '.join(found.pairs_apart)}")
    return "\n".join(lines)


def _given_pegs(path: Path, found: landmarks.PegSet) -> landmarks.PegSet:
    """Pegs of a JSON file ({"pegs": [{"name", "position"}]}) over the found ones."""
    try:
        entries = json.loads(path.read_text())["pegs"]
        given = {str(e["name"]): tuple(float(v) for v in e["position"]) for e in entries}
    except (OSError, UnicodeDecodeError, json.JSONDecodeError, KeyError, TypeError, ValueError, RecursionError) as error:
        raise MeshFileError(path.name, "holds no pegs", hint='it must read {"pegs": [{"name", "position"}]}') from error
    unknown = set(given) - set(found.by_name)
    if unknown or any(len(p) != 3 or not np.isfinite(p).all() for p in given.values()):
        raise MeshFileError(path.name, f"names unknown pegs or bad places ({', '.join(sorted(unknown)) or 'numbers'})")
    placed = tuple(
        landmarks.Peg(p.name, given[p.name], 1.0, True) if p.name in given else p  # type: ignore[arg-type]
        for p in found.pegs
    )
    return replace(found, pegs=placed)


@app.command()
@_plain_errors
def rig(
    mesh: Path,
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom or .glb")],
    pattern: Annotated[str, typer.Option(help=PATTERN_HELP)] = "human",
    height: Annotated[float | None, typer.Option(help="Metres.")] = None,
    up: Up = None,
    facing: Facing = None,
    fingers: Annotated[
        int | None, typer.Option(min=0, max=5, help="Of each hand; left out: as the hands show.")
    ] = None,
    pairs: Annotated[int | None, typer.Option(min=1, max=30, help="Pairs of legs of a many-legged body.")] = None,
    bind: Annotated[str, typer.Option("--bind", help=BIND_HELP)] = "default",
    influences: Influences = 4,
    pegs_file: Annotated[Path | None, typer.Option("--pegs", help="JSON as `pegs --json` prints it.")] = None,
    body: Annotated[Path | None, typer.Option("--body", help="A kept body (.body.json) to wear; the pattern is its own.")] = None,
    as_json: Json = False,
) -> None:
    """From an unrigged mesh to controls: stand up, find pegs, build joints, bind, build controls, write."""
    method = _method(bind)
    document = edits.stand_up(_fresh(mesh), up=up, facing=facing, height=height)
    if body is not None:
        document, _ = edits.wear_body(document, bodies.read_body(body), plans=own_plans.known_patterns())
        found = document.require_character().require_pegs()
    else:
        found = edits.find_pegs(document, plan=_plan(document, pattern), fingers=fingers, pairs=pairs)
    if pegs_file is not None:
        found = _given_pegs(pegs_file, found)
    document = edits.build_joints(edits.set_pegs(document, found))
    start = time.perf_counter()
    document = edits.bind(document, method=method, influences=influences)
    seconds = time.perf_counter() - start
    document = edits.build_controls(document)
    writing.write_rig(output, document)
    skeleton = document.require_character().skeleton
    assert skeleton is not None
    result = {
        "pattern": found.pattern,
        "pegs": _pegs(found),
        "joints": [
            {
                "name": j.name,
                "parent": skeleton.joint(j.parent).name if j.parent else None,
                "side": j.side.value,
                "position": list(j.position),
            }
            for j in skeleton.joints
        ],
        "bind": {"method": method.value, "seconds": round(seconds, 3)},
        "snags": _snags(document),
    }
    _print(result, as_json, f"{output}: {len(skeleton.joints)} joints, bound {method.value} in {seconds:.1f} s")


@app.command()
@_plain_errors
def bind(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".glb or .pegloom with a skeleton")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    method: Annotated[str, typer.Option(help=BIND_HELP)] = "default",
    influences: Influences = 4,
    lock: Locks = None,
    as_json: Json = False,
) -> None:
    """New weights on an existing skeleton; joint names, vertex order and clips stay."""
    chosen = _method(method)
    document = opening.open_any(source)
    if document.require_character().skeleton is None:
        raise MeshFileError(source.name, "holds no skeleton to bind to", hint="use `pegloom rig` instead")
    locked = _locked(document, lock)
    start = time.perf_counter()
    bound = edits.bind(document, method=chosen, influences=influences)
    document = edits.with_locks_held(document, bound, locked)
    seconds = time.perf_counter() - start
    writing.write_rig(output, document)
    result = {"bind": {"method": chosen.value, "seconds": round(seconds, 3)}, "snags": _snags(document)}
    _print(result, as_json, f"{output}: bound {chosen.value} in {seconds:.1f} s")


@app.command()
@_plain_errors
def transfer(
    source: Annotated[Path, typer.Argument(metavar="FROM", help="a bound character")],
    target: Annotated[Path, typer.Argument(metavar="TO", help="a character with joints")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    pairs: Annotated[list[str] | None, typer.Option("--map", metavar="THEIRS=OURS", help="joints to pair")] = None,
    lock: Locks = None,
    as_json: Json = False,
) -> None:
    """Read a character's weights from another, joints paired by name or as said."""
    wrong = [p for p in pairs or [] if "=" not in p]
    if wrong:
        raise EditError(f"--map {wrong[0]}: say which is which, as THEIRS=OURS")
    joint_map = dict(p.split("=", 1) for p in pairs or [])
    other = opening.open_any(source).require_character()
    before = opening.open_any(target)
    locked = _locked(before, lock)
    document, reports, read_as = edits.read_weights(before, other, joint_map=joint_map)
    document = edits.with_locks_held(before, document, locked)
    writing.write_rig(output, document)
    parts = {name: asdict(r) for name, r in reports.items()}
    lines = [f"{n}: {r.matched} read, {r.filled} filled, {r.forced} forced, {r.far} far" for n, r in reports.items()]
    _print({"parts": parts, "joints": read_as}, as_json, "\n".join([f"written: {output}", *lines]))


@app.command()
@_plain_errors
def bake(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    influences: Influences = 4,
    steps: Annotated[int, typer.Option(min=0, max=200, help="relax steps put on first; 0: bake what is there")] = 0,
    clips: Annotated[bool, typer.Option(help="Follow the clips as well.")] = False,
    lock: Locks = None,
    as_json: Json = False,
) -> None:
    """Bake surface relax and dual quaternion blending into plain weights."""
    document = opening.open_any(source)
    skin = document.require_character().skin
    for part in skin.weights if skin is not None and steps else ():
        document = edits.set_relax(document, part, steps=steps)
    before, locked = document, _locked(document, lock)
    document, reports = edits.bake_relax(document, influences=influences, clips=clips)
    document = edits.with_locks_held(before, document, locked)
    writing.write_rig(output, document)
    reports_said = [
        {"part": r.part, "poses": r.poses, "removed": r.removed, "rms_mm": 1000 * float(np.sqrt(np.mean(r.error**2))),
         "worst_mm": 1000 * float(r.error.max(initial=0.0))}
        for r in reports
    ]  # fmt: skip
    _print({"parts": reports_said}, as_json, "\n".join([f"written: {output}", *(f"{r.part}: {r.says}" for r in reports)]))


@app.command()
@_plain_errors
def trial(project: Path, as_json: Json = False) -> None:
    """Put a bound character through its trial poses and print what they do to the skin."""
    character = opening.open_any(project).require_character()
    figures = trials.trial_figures(character)
    if not figures:
        raise EditError(f"{project.name} is not bound; bind it first (`pegloom bind`), then try it")
    lines = [f"{'trial':16} {'part':16} {'stretch p99':>11} {'most':>6} {'folded':>6} {'volume':>6}"]
    for f in figures:
        volume = "open" if f.volume is None else f"{f.volume:.3f}"
        lines.append(f"{f.trial:16} {f.part:16} {f.stretch:11.2f} {f.stretch_most:6.2f} {f.folded:6d} {volume:>6}")
    joints, crossing = trials.joint_trials(character)
    doubtful = [f for f in joints if f.doubtful]
    lines.append(f"\n{'trial':16} {'joint':16} {'girth':>6} {'area':>6} {'stretch':>7} {'folded':>6}   past a limit")
    for j in sorted(doubtful, key=lambda j: j.girth if j.girth is not None else 9.0):
        girth, area = (f"{v:.2f}" if v is not None else "-" for v in (j.girth, j.area))
        lines.append(f"{j.trial:16} {j.joint:16} {girth:>6} {area:>6} {j.stretch:7.2f} {j.folded:6d}")
    lines.append("\nfaces that cross, and of which parts")
    for name, c in crossing.items():
        if c.faces:
            pairs = ", ".join(f"{a} {n}" if a == b else f"{a} with {b} {n}" for a, b, n in c.between[:4])
            lines.append(f"{name:16} {c.faces:6d}   {pairs}")
    report = {
        "trials": [asdict(f) for f in figures],
        "joints": [asdict(f) for f in joints],
        "crossing": {k: asdict(c) for k, c in crossing.items()},
    }
    _print(report, as_json, "\n".join(lines))


@app.command()
@_plain_errors
def patterns(as_json: Json = False) -> None:
    """List the body patterns: those shipped, and the user's own."""
    rows = []
    for plan in own_plans.known_patterns().values():
        kits = plan.kits()
        rows.append(
            {
                "name": plan.name, "title": plan.title, "sentence": plan.sentence,
                "kits": [k.id for k in kits], "pegs": list(plans.peg_order(kits)),
            }
        )  # fmt: skip
    text = "\n".join(f"{r['name']:12} {r['sentence']}" for r in rows)
    _print({"patterns": rows}, as_json, text)


@app.command()
@_plain_errors
def convert(
    source: Annotated[Path, typer.Argument(metavar="IN", help="Any mesh or project this program reads.")],
    output: Annotated[Path, typer.Argument(metavar="OUT", help=".glb, .obj, .ply, .stl, .usda, .usdc, .usdz or .pegloom")],
    stand_up: Annotated[bool, typer.Option("--stand-up", help="Stand the mesh up first.")] = False,
    clean: Annotated[bool, typer.Option("--clean", help="Keep only the mesh: no skeleton, weights, clips.")] = False,
    together: cli_deliver.Together = False,
    as_json: Json = False,
) -> None:
    """Read a file and write it in another format; points stay where they are unless asked."""
    document = opening.open_any(source)
    if clean:
        document = edits.start_clean(document)
    if stand_up:
        document = edits.stand_up(document)
    lost = writing.write_together(output, document) if together else writing.write_any(output, document)
    character = document.require_character()
    result = {
        "output": str(output), "parts": [p.name for p in character.included],
        "vertices": int(sum(p.mesh.vertex_count for p in character.included)),
        "notes": [*(n for n in character.import_notes if n.startswith("ignored")), *lost],
    }  # fmt: skip
    _print(result, as_json, "\n".join([f"written: {output}", *result["notes"]]))  # type: ignore[misc]


for _command in (*cli_deliver.COMMANDS, *cli_batch.COMMANDS, *cli_family.COMMANDS, *cli_flesh.COMMANDS, *cli_rig.COMMANDS, *cli_motion.COMMANDS, cli_scene.film, cli_capture.capture, cli_capture.capture_desk):
    app.command()(_plain_errors(_command))

_clips = typer.Typer(no_args_is_help=True, help="The shelf of clips: listed, found in plain words, found by likeness, taken onto a character.")
for _name, _verb in cli_clips.COMMANDS.items():
    _clips.command(_name)(_plain_errors(_verb))  # type: ignore[arg-type]
app.add_typer(_clips, name="clips")
_figures = typer.Typer(no_args_is_help=True, help="Several characters in one project: listed, brought in, placed, carried, played together.")
for _name, _verb in cli_scene.COMMANDS.items():
    _figures.command(_name)(_plain_errors(_verb))  # type: ignore[arg-type]
app.add_typer(_figures, name="figures")


def _version(wanted: bool) -> None:
    if wanted:
        from pegloom import __version__

        print(f"pegloom {__version__}")
        raise typer.Exit


@app.callback()
def _all(version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and end.")] = False) -> None:
    pass


@app.command("desktop")
@_plain_errors
def desktop_entry(
    remove: Annotated[bool, typer.Option("--remove", help="Take it away again.")] = False,
    as_json: Json = False,
) -> None:
    """Put Peg Loom among the desktop's programs: entry, icon, kind of file, manual, in your own folders."""
    from pegloom.files import desktop as entries

    program = sys.argv[0] if Path(sys.argv[0]).name == "pegloom" and Path(sys.argv[0]).is_file() else ""
    made = entries.remove() if remove else entries.install(str(Path(program).resolve()) if program else "")
    _print({"files": [str(p) for p in made]}, as_json, "\n".join(f"{'taken away' if remove else 'written'}: {p}" for p in made) or "nothing was there")


@app.command("open")
@_plain_errors
def open_file(
    file: Annotated[Path | None, typer.Argument()] = None,
    copy: Annotated[bool, typer.Option("--copy", help="a project without its place: saving asks for another")] = False,
) -> None:
    """Open a mesh or a project in the window; without one, the window alone."""
    if file is None:
        raise typer.Exit(_window().main(["pegloom"]))
    if not file.exists():
        raise MeshFileError(file.name, "there is no such file", hint="check the path")
    raise typer.Exit(_window().main(["pegloom", str(file)], copy=copy and file.suffix.lower() == ".pegloom"))


@app.command()
@_plain_errors
def demo() -> None:
    """Open the window with the demo character, Wick the ferry postman."""
    raise typer.Exit(_window().main(["pegloom", str(demo_file("wick.pegloom"))]))


def demo_file(name: str) -> Path:
    """A shipped demo file."""
    return Path(str(resources.files("pegloom.assets") / "demo" / name))


def _window() -> Any:
    # The window is loaded by name: the two front ends never import each other's code.
    return import_module("pegloom.app.main")


def main() -> None:
    """Entry point of the `pegloom` command."""
    # What a library warns of is no line of ours.
    warnings.simplefilter("ignore")
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            # Names of files may hold what the terminal's encoding cannot show.
            stream.reconfigure(errors="backslashreplace")
    try:
        app()
    except BrokenPipeError:  # whoever read along has gone
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        sys.exit(1)
    except Exception as error:
        _tell(error)
        sys.exit(1)
