"""Commands that hand a character over, without a screen: exported for a target, proved."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError, MeshFileError

JOINTS = {"all": (), "without-helpers": ("HELPERS",), "bones": ("HELPERS", "ENDS")}
"""Names of groups of joints that are left out, by what is typed."""
RESTS = {"as-it-stands": "AS_IT_STANDS", "t": "T_POSE", "a": "A_POSE", "in-hand": "IN_HAND"}
"""Names of `DeliveredRest` by what is typed."""
Together = Annotated[bool, typer.Option("--together", help="All shown characters of the project, each with its prefix before its names.")]


def target_of(name: str, output: Path, rest: str, joints: str) -> Any:
    """The target that is named, else everything as the output's ending has it; rest and joints over it where they are told."""
    from pegloom.core.skeleton.sets import JointGroup
    from pegloom.document.delivery import Target
    from pegloom.document.delivery.target import ENDINGS
    from pegloom.document.edits import DeliveredRest
    from pegloom.files.targets import target_named

    if rest and rest not in RESTS:
        raise EditError(f"there is no rest {rest}; choose {', '.join(RESTS)}")
    if joints and joints not in JOINTS:
        raise EditError(f"there is no choice of joints {joints}; choose {', '.join(JOINTS)}")
    kind = output.suffix.lower()
    if kind and kind not in ENDINGS:
        raise MeshFileError(output.name, "this ending cannot be exported", hint=f"use {', '.join(ENDINGS)}; a project is written by `convert`")
    target = target_named(name) if name else Target("everything", kind=kind or ".glb")
    if kind:
        target = replace(target, kind=kind)
    if rest:
        target = replace(target, rest=DeliveredRest[RESTS[rest]])
    if joints:
        target = replace(target, without=tuple(JointGroup[g] for g in JOINTS[joints]))
    return target


def chosen_clips(document: Any, names: list[str] | None) -> set[str] | None:
    """Ids of the clips of these names; None for all. Raises EditError naming one that is not there."""
    if not names:
        return None
    character = document.require_character()
    found = set()
    for name in names:
        clip = next((c for c in character.clips if name in (c.name, c.id)), None)
        if clip is None:
            raise EditError(f"there is no clip {name}; there are {', '.join(c.name for c in character.clips) or 'none'}")
        found.add(clip.id)
    return found


def export(
    project: Path,
    output: Annotated[Path, typer.Option("-o", "--output", help="its ending says the kind: .glb .gltf .usdc .usda .usdz .bvh .obj .ply .stl; without one the target's")],
    target: Annotated[str, typer.Option("--for", metavar="TARGET", help="a target's name, or its .json; see `pegloom targets`")] = "",
    clip: Annotated[list[str] | None, typer.Option("--clip", help="a clip that goes along; left out: all")] = None,
    rest: Annotated[str, typer.Option(help="as-it-stands, t, a or in-hand; left out: the target's")] = "",
    joints: Annotated[str, typer.Option(help="all, without-helpers or bones; left out: the target's")] = "",
    together: Together = False,
    as_json: Json = False,
) -> None:
    """Hand a project's character over: a file for a target, with its weights, textures and clips."""
    from pegloom.files.deliver import deliver
    from pegloom.files.opening import open_any

    document = open_any(project)
    told = target_of(target, output, rest, joints)
    made = deliver(output, document, told, clips=chosen_clips(document, clip), together=together)
    result = {"output": str(made.files[0]), "files": [str(f) for f in made.files], "target": told.name, "baked": list(made.baked), "left": list(made.left), "notes": list(made.notes)}
    lines = [*(f"written: {f}" for f in made.files[:8]), *([f"and {len(made.files) - 8} more files"] if len(made.files) > 8 else []), *made.notes]
    _print(result, as_json, "\n".join(lines))


def targets(
    save: Annotated[Path | None, typer.Option("--save", metavar="FOLDER", help="write those that ship into a folder, to be changed")] = None,
    as_json: Json = False,
) -> None:
    """List what an export can be for: the targets that ship, and the user's own."""
    import json

    from pegloom.files.targets import known_targets, target_json, targets_folder, write_target

    known = known_targets()
    if save is not None:
        if not save.is_dir():
            raise MeshFileError(save.name, "is no folder", hint="name one that is there")
        for name, one in known.items():
            write_target(save / f"{name}.json", one)
    rows = [json.loads(target_json(t)) for t in known.values()]
    lines = [f"{t.name:14} {t.kind:6} {t.title}: {t.use}" for t in known.values()]
    _print({"targets": rows, "own": str(targets_folder())}, as_json, "\n".join([*lines, f"your own lie in {targets_folder()}"]))


def drawn(document: Any, where: str = "") -> list[tuple[str, bytes]]:
    """Pictures of a character; none where the machine cannot draw."""
    from pegloom.render.portrait import pictures_of
    from pegloom.render.studio import NoScreenError

    try:
        return pictures_of(document, where)
    except NoScreenError:
        return []


def prove(
    project: Path,
    target: Annotated[str, typer.Option("--for", metavar="TARGET", help="a target's name, or its .json")] = "everything",
    clip: Annotated[list[str] | None, typer.Option("--clip", help="a clip that goes along; left out: all")] = None,
    page: Annotated[Path | None, typer.Option("--page", metavar="OUT.html", help="write the delivery page, with pictures where the machine can draw")] = None,
    as_json: Json = False,
) -> None:
    """Write a delivery to a place of its own, open it again by other code, and measure it against the live rig."""
    from pegloom.files.opening import open_any
    from pegloom.files.proof import prove as measured
    from pegloom.files.proof.page import write_page
    from pegloom.files.targets import target_named

    document, told = open_any(project), target_named(target)
    found = measured(document, told, clips=chosen_clips(document, clip))
    if page is not None:
        write_page(page, document, told, found, drawn(document, found.where))
    result = {
        "target": told.name, "worst_mm": 1000 * found.worst, "worst_of_height": found.worst / document.require_character().height, "where": found.where,
        "samples": found.samples, "losses": [{"choice": loss.choice, "worst_mm": 1000 * loss.worst, "where": loss.where} for loss in found.losses],
        "parts": {p: {"worst_mm": 1000 * float(v.max(initial=0.0)), "mean_mm": 1000 * float(v.mean()) if len(v) else 0.0} for p, v in found.by_vertex.items()},
        "baked": list(found.baked), "left": list(found.left), "files": [{"name": n, "bytes": b} for n, b in found.files],
    }  # fmt: skip
    lines = [f"at most {1000 * found.worst:.3f} mm at {found.where or 'rest'}, over {found.samples} moments"]
    lines += [f"{loss.choice}: {1000 * loss.worst:.3f} mm by itself" for loss in found.losses]
    _print(result, as_json, "\n".join([*lines, *found.baked, *found.left, *([f"written: {page}"] if page is not None else [])]))


def describe(
    project: Annotated[Path | None, typer.Argument(metavar="PROJECT")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", help="RIG.json; its weights go beside it as RIG.npz")] = None,
    kit: Annotated[Path | None, typer.Option("--kit", metavar="FOLDER", help="write the schema and the reference reader into a folder")] = None,
    as_json: Json = False,
) -> None:
    """Write the whole rig as an open description, from which it can be rebuilt here or anywhere."""
    from pegloom.files.described import write_description, write_kit
    from pegloom.files.opening import open_any

    made = []
    if project is not None:
        if output is None:
            raise EditError("say where to: -o RIG.json")
        beside = write_description(output, open_any(project))
        made += [output, *([] if beside is None else [beside])]
    if kit is not None:
        made += write_kit(kit)
    if not made:
        raise EditError("name a project and -o RIG.json, or a folder for --kit")
    _print({"files": [str(f) for f in made]}, as_json, "\n".join(f"written: {f}" for f in made))


def rebuild(
    description: Annotated[Path, typer.Argument(metavar="RIG.json", help="as `describe` writes it, its weights beside it")],
    mesh: Annotated[Path, typer.Argument(metavar="MESH", help="the mesh it is of: a project, an export, or the raw file; a later one too")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom, .glb or .usda")],
    as_json: Json = False,
) -> None:
    """Build a described rig on its mesh again."""
    from pegloom.files.described import rebuild as built
    from pegloom.files.writing import write_rig

    made = built(description, mesh)
    write_rig(output, made.document)
    character = made.document.require_character()
    result = {"output": str(output), "joints": len(character.require_skeleton().joints), "controls": len(character.require_rig().controls), "notes": list(made.notes)}
    _print(result, as_json, "\n".join([f"written: {output}", *made.notes]))


def approve(
    project: Path,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="APPROVED.json", help="what poses and clips look like now")],
    as_json: Json = False,
) -> None:
    """Keep what a character's poses and clips look like, for `check` to hold later projects against."""
    import json

    from pegloom.document.told.approved import approved
    from pegloom.files.opening import open_any
    from pegloom.files.outgoing import write_bytes

    kept = approved(open_any(project).require_character())
    write_bytes(output, json.dumps(kept).encode())
    names = list(dict.fromkeys(row["name"] for row in kept["shows"]))
    _print({"output": str(output), "approved": names}, as_json, f"written: {output} ({', '.join(names)})")


def check(
    project: Path,
    against: Annotated[Path, typer.Option("--against", metavar="APPROVED.json", help="as `approve` writes it")],
    tolerance: Annotated[float, typer.Option(min=0.0, help="millimetres that count as no change")] = 0.5,
    as_json: Json = False,
) -> None:
    """Hold poses and clips against what was approved: exit code 1 where one has changed, so that a pipeline can stop."""
    import math

    from pegloom.document.told.approved import FORMAT, VERSION, changes
    from pegloom.files.opening import open_any
    from pegloom.files.plain_json import read_kind

    found = changes(open_any(project).require_character(), read_kind(against, FORMAT, VERSION, "an approval"))
    rows, lines = [], []
    for one in found:
        mm = None if math.isinf(one.metres) else 1000 * one.metres
        changed = mm is None or mm > tolerance or bool(one.why)
        rows.append({"name": one.name, "changed": changed, "mm": mm, "where": one.where, "why": one.why})
        said = one.why if mm is None else f"{mm:.2f} mm{f' at {one.where}' if one.where else ''}{f'; {one.why}' if one.why else ''}"
        lines.append(f"{'CHANGED' if changed else 'as it was':9} {one.name}: {said}")
    bad = any(r["changed"] for r in rows)
    _print({"as_approved": not bad, "checks": rows}, as_json, "\n".join(lines))
    if bad:
        raise typer.Exit(1)


def versions(
    project: Path,
    keep: Annotated[str | None, typer.Option(metavar="NOTE", help="keep the project as it is saved, with a note")] = None,
    compare: Annotated[int | None, typer.Option(metavar="N", help="say what the project has that version N has not")] = None,
    to: Annotated[int | None, typer.Option(metavar="M", help="compare with version M in the project's place")] = None,
    back: Annotated[int | None, typer.Option(metavar="N", help="write version N to --output")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="FILE.pegloom", help="where --back writes")] = None,
    snapshots: Annotated[bool, typer.Option("--snapshots", help="list what the window kept before long jobs and imports")] = False,
    as_json: Json = False,
) -> None:
    """Versions of a project, kept beside it: listed, one more kept, compared, one written out again."""
    from pegloom.document.told.differences import differences
    from pegloom.files import versions as kept
    from pegloom.files.leftovers import when_told
    from pegloom.files.outgoing import write_bytes
    from pegloom.files.project import open_project
    from pegloom.files.snapshots import snapshots as snapshots_of

    if keep is not None:
        one = kept.keep_version(project, keep)
        _print({"number": one.number, "path": str(one.path), "note": one.note, "when": one.when}, as_json, f"kept: version {one.number} ({one.path})")
        return
    if compare is not None:
        after = project if to is None else kept.version(project, to).path
        lines = differences(open_project(kept.version(project, compare).path), open_project(after))
        _print({"version": compare, "differences": lines}, as_json, "\n".join(lines) or f"nothing differs from version {compare}")
        return
    if back is not None:
        one = kept.version(project, back)
        if output is None or output.suffix.lower() != ".pegloom":
            raise EditError("say where the version is written: -o FILE.pegloom")
        open_project(one.path)
        write_bytes(output, one.path.read_bytes())
        _print({"number": one.number, "output": str(output)}, as_json, f"written: {output}, as version {one.number} was")
        return
    if snapshots:
        taken = snapshots_of(project)
        told = [{"path": str(s.path), "before": s.before, "when": s.when, "whole": s.whole} for s in taken]
        said = [f"{when_told(s.when):25}  before {s.before or 'something unknown'}{'' if s.whole else '  (not as it was kept)'}\n      {s.path}" for s in taken]
        _print({"snapshots": told}, as_json, "\n".join(said) or "no snapshot of this project is kept; the window keeps one before each long job")
        return
    found = kept.versions(project)
    rows = [{"number": v.number, "path": str(v.path), "note": v.note, "when": v.when, "whole": v.whole} for v in found]
    lines = [f"{v.number:4}  {v.when or 'time unknown':25}  {v.note}{'' if v.whole else '  (not as it was kept)'}" for v in found]
    _print({"versions": rows}, as_json, "\n".join(lines) or "no version is kept yet; keep one with --keep NOTE")


def gather(
    project: Path,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE.pegloom", help="the copy; its pictures go into a folder beside it")],
    as_json: Json = False,
) -> None:
    """A copy of a project, its textures and reference pictures as files in a folder beside it."""
    from pegloom.files.gathered import gather as gathered
    from pegloom.files.project import open_project

    files, notes = gathered(output, open_project(project))
    _print({"files": [str(f) for f in files], "notes": notes}, as_json, "\n".join([*(f"written: {f}" for f in files), *notes]))


def take_in(
    project: Path,
    revised: Annotated[Path, typer.Argument(metavar="FILE", help="A changed mesh or motion of this character")],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="OUT.pegloom", help="without it nothing is written: what would change is told")] = None,
    keep: Annotated[list[str] | None, typer.Option("--keep", metavar="PART", help="a part that stays though the file has it not; `all`: every one")] = None,
    as_json: Json = False,
) -> None:
    """A revised file under the same rig: parts by name, faces or place, joints by name; weights, controls and keys stay."""
    from dataclasses import replace

    from pegloom.document.edits.revised import foretold, propose
    from pegloom.document.edits.revised import take_in as taken_in
    from pegloom.files.arrived import read_arrived
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    document = open_any(project)
    character = document.require_character()
    arrived = read_arrived(revised, character)
    taking = propose(document, arrived)
    names = {p.name: p.id for p in character.parts}
    unknown = sorted(set(keep or ()) - set(names) - {"all"})
    if unknown:
        raise EditError(f"{character.name} has no part {unknown[0]}; there are: {', '.join(list(names)[:8])}")
    stay = set(names.values()) if "all" in (keep or ()) else {names[n] for n in keep or ()}
    taking = replace(taking, stay=taking.stay | frozenset(stay))
    rows = foretold(document, arrived, taking)
    report: tuple[str, ...] = (*(f"{row.name}: {row.said}" for row in rows), *arrived.notes)
    if output is not None:
        document, report = taken_in(document, arrived, taking)
        write_rig(output, document)
    told = {"output": str(output) if output else None, "rows": [{"kind": r.kind, "name": r.name, "said": r.said} for r in rows], "notes": list(arrived.notes)}
    _print(told, as_json, "\n".join([*report, f"written: {output}" if output else "nothing was written; -o OUT.pegloom takes it in"]))


COMMANDS = (export, targets, prove, describe, rebuild, approve, check, versions, gather, take_in)
