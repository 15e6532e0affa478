"""Commands on motion: baked, and carried from one body to another, without a screen."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError, MeshFileError


def bake_motion(
    project: Path,
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom, .glb or .usda")],
    back: Annotated[bool, typer.Option("--back", help="The other way: from joints onto the controls.")] = False,
    as_json: Json = False,
) -> None:
    """Bake every clip of keys to sampled motion of the joints, or bring sampled ones onto the controls."""
    from pegloom.document import edits
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    document = open_any(project)
    character = document.require_character()
    if character.rig is None:
        raise EditError("there are no controls; build them first")
    rows, lines = [], []
    for clip in character.clips:
        if back and clip.tracks:
            document, told = edits.to_controls(document, clip.id)
            gap = 1000.0 * float(told.gaps.max(initial=0.0))
            rows.append({"clip": clip.name, "farthest_mm": gap, "joint": told.worst, "frame": told.frame, "on_fk": list(told.on_fk), "morphs_left": list(told.morphs)})
            lines.append(f"{clip.name}: on the controls, the farthest joint {gap:.3f} mm off, {told.worst} at frame {told.frame}")
        elif not back and not clip.tracks and clip.every_curve:
            document = edits.to_joints(document, clip.id)
            count = max(t.times.size for tracks in document.require_character().clip(clip.id).tracks.values() for t in tracks)
            rows.append({"clip": clip.name, "samples": int(count)})
            lines.append(f"{clip.name}: on the joints, {count} samples")
    if not rows:
        raise EditError(f"no clip of {project.name} is on {'joints' if back else 'controls'}; there is nothing to bake")
    write_rig(output, document)
    _print({"output": str(output), "clips": rows}, as_json, "\n".join([*lines, f"written: {output}"]))


def bring_back(
    project: Path,
    motion: Annotated[Path, typer.Argument(metavar="MOTION", help="A clip of this character changed elsewhere: .bvh, .glb or .gltf")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom or .glb")],
    clip: Annotated[str, typer.Option("--clip", help="The clip it is of; else the one of its name.")] = "",
    as_json: Json = False,
) -> None:
    """Motion that was edited elsewhere, as a layer over the clip it came from, by joints' names."""
    from pegloom.document import edits
    from pegloom.files.motion import read_motion
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    document = open_any(project)
    character = document.require_character()
    returned, notes = read_motion(motion, character.require_skeleton())
    rows, lines = [], list(notes)
    for one in returned:
        wanted = clip or one.name
        there = next((c for c in character.clips if c.name == wanted), None)
        if there is None:
            if clip or len(returned) == 1:
                raise EditError(f"{project.name} has no clip {wanted}; say which with --clip: {', '.join(c.name for c in character.clips[:8])}")
            lines.append(f"{wanted}: no clip of that name here, left out")
            continue
        document, layer, told = edits.come_back(document, there.id, one, name=f"from {motion.stem}"[:60])
        found = next(x for x in document.require_character().clip(there.id).layers if x.id == layer)
        rows.append({"clip": there.name, "layer": found.name, "channels": len(found.curves), "farthest_mm": 1000.0 * float(told.gaps.max(initial=0.0))})
        lines.append(f"{there.name}: layer {found.name}, {len(found.curves)} channels")
        if clip:
            break
    if not rows:
        raise EditError(f"no clip of {motion.name} is of {project.name}")
    write_rig(output, document)
    _print({"output": str(output), "clips": rows, "notes": list(notes)}, as_json, "\n".join([*lines, f"written: {output}"]))


def retarget(
    clips: Annotated[list[Path], typer.Argument(metavar="CLIP...", help="Motion of any body: .bvh, .glb, .gltf, .usd*")],
    onto: Annotated[Path, typer.Option("--onto", help="The character that is to move: .pegloom, or .glb with joints.")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".glb, .pegloom or .bvh")],
    pairing: Annotated[Path | None, typer.Option("--pairing", help="A pairing saved before.")] = None,
    in_place: Annotated[bool, typer.Option("--in-place", help="Take the path out of the root.")] = False,
    span: Annotated[str, typer.Option("--range", metavar="A:B", help="Frames of the source, from 0; with a point or an s, seconds.")] = "",
    mirror: Annotated[bool, typer.Option("--mirror", help="Its other side.")] = False,
    controls: Annotated[bool, typer.Option("--controls", help="Onto the controls instead of the joints.")] = False,
    save_pairing: Annotated[Path | None, typer.Option("--save-pairing", help="Write the pairing that was used.")] = None,
    as_json: Json = False,
) -> None:
    """Carry motion of another body over to a character: paired, planted, measured."""
    from pegloom.core.motion.retarget import CarryOptions, moments_of, stood
    from pegloom.document import edits
    from pegloom.files.bvh_write import write_bvh
    from pegloom.files.motion import read_sources
    from pegloom.files.opening import open_any
    from pegloom.files.pairings import read_pairing, write_pairing
    from pegloom.files.writing import write_rig

    if output.suffix.lower() not in (".glb", ".pegloom", ".bvh"):
        raise MeshFileError(output.name, "this ending cannot hold motion", hint="use .glb, .pegloom or .bvh")
    document = open_any(onto)
    skeleton = document.require_character().require_skeleton()
    results, lines, made = [], [], []
    for path in clips:
        sources, _ = read_sources(path)
        document, ids = edits.add_sources(document, sources)
        for source_id, source in zip(ids, sources, strict=True):
            if pairing is not None:
                document, _ = edits.add_pairing(document, read_pairing(pairing, source.skeleton, skeleton))
            document, pairing_id = edits.pair_source(document, source_id)
            times = moments_of(source.clip)
            first, last = _range(span, times)
            document, lent = edits.borrow(document, source_id, options=CarryOptions(in_place=in_place, first=first, last=last, mirror=mirror), controls=controls)
            made.append(lent.clip)
            character = document.require_character()
            used = next(p for p in character.pairings if p.id == pairing_id)
            read = stood(source, used.rest)
            figures, rate = lent.carried.figures, source.clip.rate
            worst = figures.worst
            results.append({
                "clip": character.clip(lent.clip).name, "source": path.name, "frames": round(character.clip(lent.clip).length * rate) + 1,
                "pairing": [
                    {"part": c.part, "source": [source.skeleton.joint(j).name for j in c.source], "target": [skeleton.joint(j).name for j in c.target],
                     "confidence": round(c.confidence, 3), "why": c.why}
                    for c in used.chains
                ],
                "rest": {"source": lent.carried.rests[0], "target": lent.carried.rests[1], "source_frame": None if read.frame is None else round(read.frame * rate)},
                "scale": lent.carried.scale,
                "contacts": [
                    {"part": c.part, "joint": skeleton.joint(c.point).name, "frames": [round((c.first - times[0]) * rate), round((c.last - times[0]) * rate)], "level": c.level, "on": c.on}
                    for c in lent.carried.contacts
                ],
                "slide_mm": figures.slide_mm, "floor_mm": figures.floor_mm, "direction_deg": dict(figures.direction_deg), "limit_excess_deg": figures.limit_deg,
                "path_share": figures.path_share,
                "worst": None if worst is None else {"frame": round((worst.time - times[0]) * rate), "part": worst.part, "what": worst.what},
            })  # fmt: skip
            doubtful = [c.part for c in used.chains if c.source and not c.sure]
            lines.append(
                f"{character.clip(lent.clip).name}: {sum(1 for c in used.chains if c.source)} of {len(used.chains)} parts paired"
                f"{f', doubtful {chr(44).join(doubtful)}' if doubtful else ''}; feet slide {figures.slide_mm:.1f} mm, floor {figures.floor_mm:.1f} mm"
                f"{f'; worst: {worst.part} {worst.what}' if worst else ''}"
            )
            if save_pairing is not None:
                write_pairing(save_pairing, used, source.skeleton, skeleton)
    character = document.require_character()
    written = [output]
    if output.suffix.lower() == ".bvh":
        written = [output if k == 0 else output.with_stem(f"{output.stem}-{k + 1}") for k in range(len(made))]
        for path, clip_id in zip(written, made, strict=True):
            write_bvh(path, character, character.clip(clip_id))
    else:
        if output.suffix.lower() != ".pegloom":
            # Others get what was asked for, not what the project holds besides.
            document = document.with_character(replace(character, clips=tuple(c for c in character.clips if c.id in made)))
        write_rig(output, document)
    told: dict[str, Any] = {"output": str(output), **results[0], "clips": results}
    _print(told, as_json, "\n".join([*lines, *(f"written: {path}" for path in written)]))


def gait(
    project: Path,
    numbers: Annotated[Path, typer.Option("--numbers", help="JSON: a preset and the numbers that differ; strides, rate, turn, slope, points, start, stop, in_place.")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom, .glb or .bvh")],
    as_json: Json = False,
) -> None:
    """Make a gait from numbers on a character with legs."""
    from pegloom.core.motion.gait.numbers import plain_of
    from pegloom.core.motion.gait.rates import proposed
    from pegloom.document import edits
    from pegloom.files.bvh_write import write_bvh
    from pegloom.files.opening import open_any
    from pegloom.files.plain_json import read_plain
    from pegloom.files.writing import write_rig

    told = read_plain(numbers)
    more: dict[str, Any] = {}
    if "points" in told:
        points = told.pop("points")
        if not isinstance(points, list) or not all(isinstance(p, list) and len(p) == 2 and all(type(v) in (int, float) for v in p) for p in points):
            raise EditError(f"{numbers.name}: points are a list of places [x, z], metres")
        more["points"] = tuple((float(x), float(z)) for x, z in points)
    kinds = (("strides", float), ("rate", float), ("turn", float), ("slope", float), ("start", bool), ("stop", bool), ("in_place", bool), ("controls", bool), ("name", str))
    for key, kind in kinds:
        if key in told:
            value = told.pop(key)
            value = float(value) if kind is float and type(value) is int else value
            if type(value) is not kind:
                raise EditError(f"{numbers.name}: {key} is {'a number' if kind is float else 'yes or no' if kind is bool else 'a text'}")
            more[key] = value
    document, result = edits.make_gait(open_any(project), told, **more)
    character = document.require_character()
    clip, made = character.clip(result.clip), result.made
    skeleton = character.require_skeleton()
    if output.suffix.lower() == ".bvh":
        write_bvh(output, character, clip)
    else:
        write_rig(output, document)
    rolls = edits.gait_rolls(document, result.clip)
    better = proposed(rolls, skeleton)
    row = {
        "output": str(output), "clip": clip.name, "period_s": made.period, "speed_m_s": made.speed, "length_s": clip.length, "rate": clip.rate, "sunk_mm": 1000.0 * made.sunk,
        "contacts": [{"part": c.part, "joint": skeleton.joint(c.point).name, "seconds": [c.first, c.last]} for c in made.contacts],
        "farthest_mm": None if result.brought is None else 1000.0 * float(result.brought.gaps.max(initial=0.0)),
        "cadence_min": 120.0 / made.period, "strides": clip.gait.strides if clip.gait is not None else None,
        "rolls_mm": {f"{rate:g}": 1000.0 * far for rate, far in rolls.items()}, "proposed_rate": better,
        "numbers": plain_of(clip.gait.gait) if clip.gait is not None else None,
    }  # fmt: skip
    cost = ", ".join(f"{1000.0 * far:.1f} mm at {rate:g}" for rate, far in rolls.items())
    lines = f"planted feet roll between frames: {cost}; {better:g} frames a second are enough"
    _print(row, as_json, f"{clip.name}: {made.speed:.2f} m/s, a stride in {made.period:.2f} s, {len(made.contacts)} footfalls\n{lines}\nwritten: {output}")


def _range(text: str, times: Any) -> tuple[float | None, float | None]:
    """First and last second of A:B; a whole number counts frames. Raises EditError."""
    if not text:
        return None, None
    found = re.fullmatch(r"(\d*\.?\d*s?):(\d*\.?\d*s?)", text.strip())
    if found is None:
        raise EditError(f"--range {text}: say which frames, as 10:80, or seconds, as 0.5:2.0")

    def second(word: str) -> float | None:
        if not word.strip("s."):
            return None
        if "." in word or "s" in word:
            return float(times[0]) + float(word.rstrip("s"))
        return float(times[min(int(word), len(times) - 1)])

    first, last = second(found[1]), second(found[2])
    if first is not None and last is not None and last < first:
        raise EditError(f"--range {text}: the end lies before the start")
    return first, last


COMMANDS = (bake_motion, bring_back, retarget, gait)
