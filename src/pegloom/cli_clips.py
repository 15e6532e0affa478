"""The shelf of clips without a screen: listed, found, put there, taken onto a character."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_motion import _range
from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError


def _rows(found: Any) -> list[dict[str, Any]]:
    return [{"id": f.card.id, "title": f.card.title, "kinds": list(f.card.kinds), "score": round(f.score, 4), "matched": list(f.matched)} for f in found]


def _lines(rows: list[dict[str, Any]]) -> str:
    return "\n".join(f"{r['id']:24} {r['title']}  ({', '.join(r['kinds'])}){'  ' + '; '.join(r['matched']) if r['matched'] else ''}" for r in rows) or "nothing on the shelf fits"


def list_(
    kind: Annotated[str, typer.Option("--kind", help="Only clips of this kind, as walk or hand over.")] = "",
    as_json: Json = False,
) -> None:
    """List the clips of the shelf: those that ship, then your own."""
    from pegloom.core.motion.shelf.card import KINDS
    from pegloom.files.shelf import Shelf

    if kind and kind not in KINDS:
        raise EditError(f"there is no kind {kind[:40]}; there are {', '.join(KINDS)}")
    rows = [
        {"id": c.id, "title": c.title, "kinds": list(c.kinds), "score": 1.0, "matched": [], "tags": list(c.tags), "body": c.body, "seconds": c.seconds, "rate": c.rate,
         "loops": c.loops, "partner": c.partner, "origin": c.origin, "licence": c.licence, "may_deliver": c.may_deliver, "own": c.own}
        for c in Shelf().cards if not kind or kind in c.kinds
    ]  # fmt: skip
    _print({"clips": rows}, as_json, _lines(rows))


def find_(
    words: Annotated[list[str], typer.Argument(help="What is wanted, in any of eleven languages: someone tired walking home")],
    most: Annotated[int, typer.Option("--most", min=1, max=1000)] = 10,
    as_json: Json = False,
) -> None:
    """Find clips in plain words."""
    from pegloom.files.shelf import Shelf

    rows = _rows(Shelf().finder.find(" ".join(words)[:2000], most))
    _print({"clips": rows}, as_json, _lines(rows))


def like_(
    clip: Annotated[str, typer.Argument(metavar="ID")],
    most: Annotated[int, typer.Option("--most", min=1, max=1000)] = 10,
    as_json: Json = False,
) -> None:
    """Find clips that move like one, by measured qualities."""
    from pegloom.files.shelf import Shelf

    shelf = Shelf()
    shelf.card(clip)
    rows = _rows(shelf.finder.like(clip, most))
    _print({"clips": rows}, as_json, _lines(rows))


def put_(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Your own clips: .bvh, .glb, .gltf, .usd*")],
    origin: Annotated[str, typer.Option("--origin", help="captured, keyed or generated")] = "captured",
    licence: Annotated[str, typer.Option("--licence")] = "",
    keep: Annotated[bool, typer.Option("--not-to-deliver", help="It must not be given on.")] = False,
    as_json: Json = False,
) -> None:
    """Put clips of your own on the shelf."""
    from pegloom.files.shelf import Shelf

    if origin not in ("captured", "keyed", "generated"):
        raise EditError("an origin is captured, keyed or generated")
    shelf = Shelf()
    cards = [shelf.put(path, origin=origin, licence=licence, may_deliver=not keep) for path in files]
    rows = [{"id": c.id, "title": c.title, "kinds": list(c.kinds), "score": 1.0, "matched": []} for c in cards]
    _print({"clips": rows}, as_json, _lines(rows))


def take_(
    clip: Annotated[str, typer.Argument(metavar="ID")],
    onto: Annotated[Path, typer.Option("--onto", help="The character that is to move: .pegloom, or .glb with joints.")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".pegloom, .glb or .bvh")],
    mirror: Annotated[bool, typer.Option("--mirror", help="Its other side.")] = False,
    in_place: Annotated[bool, typer.Option("--in-place", help="Take the path out of the root.")] = False,
    speed: Annotated[float, typer.Option("--speed", min=0.1, max=10.0, help="How many times as fast.")] = 1.0,
    span: Annotated[str, typer.Option("--range", metavar="A:B", help="Frames of the clip; with a point or an s, seconds.")] = "",
    on_controls: Annotated[bool, typer.Option("--controls", help="Onto the controls instead of the joints.")] = False,
    as_json: Json = False,
) -> None:
    """Carry a clip of the shelf over to a character."""
    from pegloom.core.motion.retarget import CarryOptions, moments_of
    from pegloom.document import edits
    from pegloom.files.bvh_write import write_bvh
    from pegloom.files.opening import open_any
    from pegloom.files.shelf import Shelf
    from pegloom.files.writing import write_rig

    shelf = Shelf()
    card, source = shelf.card(clip), shelf.source(clip)
    first, last = _range(span, moments_of(source.clip))
    options = CarryOptions(in_place=in_place, first=first, last=last, mirror=mirror)
    document, lent = edits.take_clip(open_any(onto), card, source, options=options, speed=speed, controls=on_controls)
    character = document.require_character()
    made = character.clip(lent.clip)
    if output.suffix.lower() == ".bvh":
        write_bvh(output, character, made)
    else:
        write_rig(output, document)
    figures = lent.carried.figures
    row = {"output": str(output), "clip": made.name, "seconds": made.length, "rate": made.rate, "slide_mm": figures.slide_mm, "floor_mm": figures.floor_mm,
           "origin": card.origin, "licence": card.licence, "may_deliver": card.may_deliver, "partner": card.partner}  # fmt: skip
    _print(row, as_json, f"{made.name}: feet slide {figures.slide_mm:.1f} mm, the floor is held within {figures.floor_mm:.1f} mm\nwritten: {output}")


COMMANDS = {"list": list_, "find": find_, "like": like_, "put": put_, "take": take_}
