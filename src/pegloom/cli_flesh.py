"""How a body bends, without a screen: weights fitted to flesh, helper joints, and the ways side by side."""

from __future__ import annotations

import difflib
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError

if TYPE_CHECKING:
    from pegloom.document.edits.flesh import FleshReport
    from pegloom.document.edits.shapes import ShapesReport
    from pegloom.document.model import Document

Locks = Annotated[list[str] | None, typer.Option("--lock", metavar="JOINT", help="a joint that keeps what it holds")]


def _locked(document: Document, names: list[str] | None) -> frozenset[str]:
    """Ids of the joints of these names. Raises EditError naming one that is not there."""
    skeleton = document.require_character().skeleton
    ids = {joint.name: joint.id for joint in skeleton.joints} if skeleton is not None else {}
    unknown = [name for name in names or [] if name not in ids]
    if unknown:
        near = difflib.get_close_matches(unknown[0], ids, 3, 0.4) or list(ids)[:3]
        raise EditError(f"--lock {unknown[0]}: there is no joint of that name; near it are {', '.join(near) or 'none'}")
    return frozenset(ids[name] for name in names or [])


def flesh(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    influences: Annotated[int, typer.Option("--influences", min=0, max=16, help="most joints a vertex; 0: as each part is bound")] = 0,
    worse: Annotated[float, typer.Option("--worse", min=0.0, max=50.0, help="percent by which a figure of a region may be worse in any trial")] = 2.0,
    anew: Annotated[bool, typer.Option("--anew", help="bind by the default bind first: weights that tear are no place to start")] = False,
    lock: Locks = None,
    as_json: Json = False,
) -> None:
    """Fit the weights to an elastic body over the range test; what would be worse keeps its weights."""
    from pegloom.document import edits
    from pegloom.files import opening, writing

    document = opening.open_any(source)
    locked = _locked(document, lock)
    after, reports = edits.fit_to_flesh(document, influences=influences or None, worse=0.01 * worse, anew=anew)
    after = edits.with_locks_held(document, after, locked)
    writing.write_rig(output, after)
    rows = [{"part": r.part, "poses": r.poses, "before_mm": r.before_mm, "after_mm": r.after_mm, "kept": r.kept, "led_back": list(r.led_back)} for r in reports]
    _print({"parts": rows, "output": str(output)}, as_json, "\n".join([f"written: {output}", *(f"{r.part}: {r.says}" for r in reports)]))


def helpers(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    joint: Annotated[list[str] | None, typer.Option("--joint", help="that gets one, by name; may be given again. Without: where some trial bends far")] = None,
    digits: Annotated[bool, typer.Option("--digits", help="fingers and toes too")] = False,
    influences: Annotated[int, typer.Option("--influences", min=0, max=16, help="most joints a vertex; 0: as each part is bound")] = 0,
    worse: Annotated[float, typer.Option("--worse", min=0.0, max=50.0, help="percent by which a figure of a region may be worse in any trial")] = 2.0,
    drop: Annotated[bool, typer.Option("--drop", help="take all helper joints away instead")] = False,
    as_json: Json = False,
) -> None:
    """Put half-turn helper joints where the body bends far, and fit the weights with them; exported as plain joints."""
    from pegloom.document import edits
    from pegloom.files import opening, writing

    document = opening.open_any(source)
    reports: tuple[FleshReport, ...] = ()
    if drop:
        after = edits.drop_helpers(document)
    else:
        skeleton = document.require_character().require_skeleton()
        wanted = None if not joint else [found.id if (found := skeleton.by_name(name)) is not None else name for name in joint]
        after, reports = edits.add_helpers(document, wanted, digits=digits, influences=influences or None, worse=0.01 * worse)
    notes = writing.write_rig(output, after)
    names = [h.name for h in after.require_character().helpers]
    rows = [{"part": r.part, "before_mm": r.before_mm, "after_mm": r.after_mm, "kept": r.kept, "led_back": list(r.led_back)} for r in reports]
    told = [f"written: {output}", f"helper joints: {', '.join(names) or 'none'}", *(f"{r.part}: {r.says}" for r in reports), *notes]
    _print({"helpers": names, "parts": rows, "output": str(output)}, as_json, "\n".join(told))


def shapes(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    most: Annotated[int, typer.Option("--most", min=1, max=40, help="shapes a part gets at most, a left and a right one as one")] = 6,
    worse: Annotated[float, typer.Option("--worse", min=0.0, max=50.0, help="percent by which a figure of a region may be worse in any trial")] = 2.0,
    sculpted: Annotated[Path | None, typer.Option("--sculpted", metavar="MESH", help="take a mesh corrected in the project's pose as a shape instead")] = None,
    part: Annotated[str, typer.Option("--part", help="that was corrected, by name; without: the one that has as many vertices")] = "",
    drop: Annotated[bool, typer.Option("--drop", help="take all corrective shapes away instead")] = False,
    as_json: Json = False,
) -> None:
    """Add corrective shapes: a few morph targets that joints bring in as they turn, baked into each clip on export."""
    from pegloom.document import edits
    from pegloom.files import opening, reading, writing

    document = opening.open_any(source)
    reports: tuple[ShapesReport, ...] = ()
    if sculpted is not None:
        mesh = reading.read_mesh(sculpted).parts[0].mesh
        parts = [p for p in document.require_character().included if (p.name == part if part else p.mesh.vertex_count == mesh.vertex_count)]
        if not parts:
            raise EditError(f"no part is {part!r}" if part else f"no part has {mesh.vertex_count} vertices as {sculpted.name} has")
        after, _ = edits.sculpt_shape(document, parts[0].id, mesh.points)
    elif drop:
        after = edits.drop_shapes(document)
    else:
        after, reports = edits.add_shapes(document, most=most, worse=0.01 * worse)
    notes = writing.write_rig(output, after)
    names = [s.morph for s in after.require_character().shapes]
    rows = [{"part": r.part, "shapes": list(r.shapes), "before_mm": r.before_mm, "after_mm": r.after_mm} for r in reports]
    told = [f"written: {output}", f"corrective shapes: {', '.join(names) or 'none'}", *(f"{r.part}: {r.says}" for r in reports), *notes]
    _print({"shapes": names, "parts": rows, "output": str(output)}, as_json, "\n".join(told))


def pull(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    at: Annotated[tuple[float, float, float], typer.Option("--at", help="where the posed skin is taken hold of, metres: x y z")],
    by: Annotated[tuple[float, float, float], typer.Option("--by", help="how far it is led, metres: x y z")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb or .pegloom")],
    trial: Annotated[str, typer.Option("--trial", help="of the range test in which it is led, arm_up for example. Without: the project's own pose")] = "",
    part: Annotated[str, typer.Option("--part", help="by name; without: the one nearest to where the skin is taken hold of")] = "",
    reach: Annotated[float, typer.Option("--reach", min=0.0, help="metres along the skin over which it fades out; 0: 13 percent of the height")] = 0.0,
    one_side: Annotated[bool, typer.Option("--one-side", help="leave the other side as it is")] = False,
    keep_width: Annotated[bool, typer.Option("--keep-width", help="sections of the limb there keep their girth and area")] = False,
    under_cloth: Annotated[bool, typer.Option("--under-cloth", help="skin stays under the cloth that covers it")] = False,
    shape: Annotated[bool, typer.Option("--shape", help="what weights cannot reach becomes a corrective shape")] = False,
    lock: Locks = None,
    as_json: Json = False,
) -> None:
    """Lead the skin where it belongs in a pose; its weights follow, other poses stay as far as they can."""
    import numpy as np

    from pegloom.core.motion.trials import trial_pose, trials_of
    from pegloom.document import edits
    from pegloom.document.evaluate import evaluate
    from pegloom.files import opening, writing

    document = opening.open_any(source)
    character = document.require_character()
    skeleton, skin = character.require_skeleton(), character.require_skin()
    known = [t.id for t in trials_of(skeleton)]
    if trial and trial not in known:
        raise EditError(f"there is no trial {trial}; this skeleton has {', '.join(known)}")
    pose = trial_pose(skeleton, trial) if trial else None
    points = evaluate(character, pose).points
    parts = [p for p in character.included if p.id in skin.weights and (p.name == part if part else True)]
    if not parts:
        raise EditError(f"no bound part is {part!r}" if part else "no part is bound; bind first")
    nearest = min(parts, key=lambda p: float(((points[p.id] - np.array(at)) ** 2).sum(axis=1).min()))
    locked = _locked(document, lock)
    after, report = edits.pull_skin(
        document, nearest.id, np.array(at), np.array(by), pose=pose, radius=reach or None, both_sides=not one_side, keep_width=keep_width,
        under_cloth=under_cloth, shape=shape,
    )  # fmt: skip
    after = edits.with_locks_held(document, after, locked)
    notes = writing.write_rig(output, after)
    _print({"part": nearest.name, **asdict(report), "output": str(output)}, as_json, "\n".join([f"written: {output}", f"{nearest.name}: {report.says}", *notes]))


def ways(
    source: Annotated[Path, typer.Argument(metavar="IN", help=".pegloom or .glb, bound")],
    way: Annotated[list[str] | None, typer.Option("--way", help="to try: fitted, helpers, shapes, dual, relaxed; may be given again. Without: all")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", help="write what the first way that is named makes: .glb or .pegloom")] = None,
    influences: Annotated[int, typer.Option("--influences", min=0, max=16, help="most joints a vertex; 0: as each part is bound")] = 0,
    worse: Annotated[float, typer.Option("--worse", min=0.0, max=50.0, help="percent by which a figure of a region may be worse in any trial")] = 2.0,
    as_json: Json = False,
) -> None:
    """Compare the ways a body can be made to bend better, in figures over the range test, and what plays each."""
    from pegloom.checks.ways import as_lines, told_ways
    from pegloom.document import edits
    from pegloom.document.edits.ways import WAYS
    from pegloom.files import opening, writing

    document = opening.open_any(source)
    unknown = [w for w in way or () if w not in WAYS]
    if unknown:
        raise EditError(f"there is no way {unknown[0]}; known are {', '.join(WAYS)}")
    if output is not None and not way:
        raise EditError("say with --way which one is to be written")
    told = told_ways(edits.ways_to_bend(document, way or None, influences=influences or None, worse=0.01 * worse))
    if output is not None:
        made = next(t.way for t in told if way is not None and t.way.id == way[0])
        if made.document is None:
            raise EditError(made.why)
        writing.write_rig(output, made.document)
    rows = [{"way": t.way.id, "title": t.way.title, "plays": t.way.plays, "why": t.way.why, "bends": None if t.bends is None else asdict(t.bends)} for t in told]
    _print({"ways": rows}, as_json, "\n".join(as_lines(told)))


COMMANDS = (flesh, helpers, shapes, pull, ways)
