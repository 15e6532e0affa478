"""Several characters in one project without a screen: listed, brought in, placed, carried, played together; and films of them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError, MeshFileError

Output = Annotated[Path, typer.Option("-o", "--output", help=".pegloom")]
Project = Annotated[Path, typer.Argument(metavar="PROJECT", help=".pegloom")]


def _open(project: Path) -> Any:
    from pegloom.files.opening import open_any

    document = open_any(project)
    document.require_character()
    return document


def _write(output: Path, document: Any) -> None:
    from pegloom.files.writing import write_rig

    if output.suffix.lower() != ".pegloom":
        raise MeshFileError(output.name, "only a project holds several characters", hint="name it NAME.pegloom; `export --together` writes a GLB")
    write_rig(output, document)


def _joint(document: Any, character: str, name: str) -> str:
    """A joint's id, by its name or id."""
    from pegloom.document import edits

    one = edits.figure_of(document, character)
    joints = one.skeleton.joints if one.skeleton is not None else ()
    found = next((j.id for j in joints if name in (j.id, j.name)), None)
    if found is None:
        raise EditError(f"{one.name} has no joint {name[:60]}")
    return str(found)


def _clip(document: Any, character: str, name: str) -> str:
    from pegloom.document import edits

    one = edits.figure_of(document, character)
    found = next((c.id for c in one.clips if name in (c.id, c.name)), None)
    if found is None:
        raise EditError(f"{one.name} has no clip {name[:60]}; it has {', '.join(c.name for c in one.clips[:12]) or 'none'}")
    return str(found)


def list_(project: Project, as_json: Json = False) -> None:
    """List the characters of a project: which is in hand, where each stands, who carries it, what it plays."""
    from pegloom.document.world import clip_of, prefixes, scene_length

    document = _open(project)
    told, names = prefixes(document), {c.id: c.name for c in document.characters}
    rows = []
    for k, one in enumerate(document.characters):
        clip = clip_of(one)
        stands = [
            {"from": s.start, "carried_by": names.get(s.carrier, ""), "joint": s.joint, "at": list(s.stance.at), "turn": list(s.stance.turn), "size": s.stance.scale}
            for s in one.figure.stands
        ]
        rows.append({
            "id": one.id, "name": one.name, "in_hand": k == document.active, "shown": one.figure.shown, "prefix": told[one.id], "stands": stands,
            "plays": clip.name if clip is not None else "", "from": one.figure.start, "loops": one.figure.loops,
        })  # fmt: skip
    lines = [f"{'*' if r['in_hand'] else ' '} {r['name']:32} {r['prefix']:20} {'' if r['shown'] else 'hidden  '}{r['plays'] or 'its pose'}" for r in rows]
    _print({"characters": rows, "seconds": scene_length(document)}, as_json, "\n".join(lines))


def add(
    project: Project,
    others: Annotated[list[Path], typer.Argument(metavar="OTHER...", help="Projects, meshes, or motion without one, whose figures come beside those that are there.")],
    output: Output,
    as_json: Json = False,
) -> None:
    """Bring in more characters, beside those that are there. Motion without a surface comes as joints alone."""
    from pegloom.document import edits
    from pegloom.files.figures import read_figures

    document = _open(project)
    in_hand, made = document.require_character().id, []
    tall = document.require_character().height
    for path in others:
        document, ids = edits.add_figures(document, read_figures(path, tall=tall))
        made += [edits.figure_of(document, one).name for one in ids]
    document = edits.take_character(document, in_hand)
    _write(output, document)
    _print({"output": str(output), "added": made}, as_json, f"{', '.join(made)}\nwritten: {output}")


def place(
    project: Project,
    character: Annotated[str, typer.Argument(help="Its name or id.")],
    output: Output,
    at: Annotated[str, typer.Option("--at", metavar="X,Y,Z", help="Metres in the world.")] = "",
    heading: Annotated[float | None, typer.Option("--turned", metavar="DEGREES", help="About the upright.")] = None,
    size: Annotated[float | None, typer.Option("--size", help="Of its own size.")] = None,
    show: Annotated[bool | None, typer.Option("--show/--hide", help="Whether it is seen and exported with the others.")] = None,
    prefix: Annotated[str | None, typer.Option("--prefix", help="Before its names where several are exported.")] = None,
    in_hand: Annotated[bool, typer.Option("--in-hand", help="Other commands work on this one from then on.")] = False,
    as_json: Json = False,
) -> None:
    """Put a character somewhere in the world."""
    import math

    from pegloom.document import edits

    document = _open(project)
    one = edits.figure_of(document, character).id
    document = edits.place_figure(document, one, at=_triple(at) if at else None, heading=None if heading is None else math.radians(heading), scale=size)
    if show is not None:
        document = edits.show_figure(document, one, show)
    if prefix is not None:
        document = edits.prefix_figure(document, one, prefix)
    if in_hand:
        document = edits.take_character(document, one)
    _write(output, document)
    _print({"output": str(output), "character": one}, as_json, f"written: {output}")


def carry(
    project: Project,
    character: Annotated[str, typer.Argument(help="What is carried: its name or id.")],
    output: Output,
    by: Annotated[str, typer.Option("--by", help="Who carries it; without, it is set down in the world.")] = "",
    joint: Annotated[str, typer.Option("--joint", help="Which joint of theirs.")] = "",
    time: Annotated[float, typer.Option("--from", metavar="SECONDS", help="From which common time on.")] = 0.0,
    as_json: Json = False,
) -> None:
    """From a moment on let another character carry one, or set it down; it stays where it is then."""
    from pegloom.document import edits

    document = _open(project)
    if by:
        document = edits.carry_figure(document, character, by, _joint(document, by, joint) if joint else "", time=time)
    else:
        document = edits.set_down(document, character, time=time)
    _write(output, document)
    _print({"output": str(output)}, as_json, f"written: {output}")


def play(
    project: Project,
    character: Annotated[str, typer.Argument(help="Its name or id.")],
    output: Output,
    clip: Annotated[str, typer.Option("--clip", help="Which of its clips; without, it holds its pose.")] = "",
    start: Annotated[float, typer.Option("--from", metavar="SECONDS", help="The common time at which it begins.")] = 0.0,
    loops: Annotated[bool, typer.Option("--again", help="Again and again.")] = False,
    as_json: Json = False,
) -> None:
    """Say what a character plays beside the others."""
    from pegloom.document import edits

    document = _open(project)
    document = edits.play_figure(document, character, _clip(document, character, clip) if clip else "", start=start, loops=loops)
    _write(output, document)
    _print({"output": str(output)}, as_json, f"written: {output}")


def follow(
    project: Project,
    control: Annotated[str, typer.Argument(help="A control of the character in hand: its name or id.")],
    other: Annotated[str, typer.Argument(help="Whom it follows: name or id.")],
    output: Output,
    joint: Annotated[str, typer.Option("--joint", help="Which joint of theirs; without, the other itself.")] = "",
    clip: Annotated[str, typer.Option("--clip", help="In which clip of keys it begins; without, in the pose.")] = "",
    time: Annotated[float, typer.Option("--from", metavar="SECONDS", help="When in that clip.")] = 0.0,
    as_json: Json = False,
) -> None:
    """From a moment on let a control follow something of another character, without a jump."""
    from pegloom.document import edits

    document = _open(project)
    told = _clip(document, document.require_character().id, clip) if clip else ""
    document = edits.follow_figure(document, control, other, _joint(document, other, joint) if joint else "", clip=told, time=time)
    _write(output, document)
    _print({"output": str(output)}, as_json, f"written: {output}")


def lend(
    project: Project,
    lender: Annotated[str, typer.Argument(help="Whose motion: its name or id.")],
    output: Output,
    clip: Annotated[str, typer.Option("--clip", help="Which of its clips; without, the one it plays.")] = "",
    controls: Annotated[bool, typer.Option("--controls", help="Onto the controls instead of the joints.")] = False,
    as_json: Json = False,
) -> None:
    """Carry what another figure does over to the character in hand."""
    from pegloom.document import edits

    document = _open(project)
    document, source = edits.lend_motion(document, lender, _clip(document, lender, clip) if clip else "")
    document, _ = edits.pair_source(document, source)
    document, lent = edits.borrow(document, source, controls=controls)
    _write(output, document)
    made = document.require_character().clip(lent.clip).name
    _print({"output": str(output), "clip": made}, as_json, f"{made}\nwritten: {output}")


def for_two(
    project: Project,
    clip: Annotated[str, typer.Argument(metavar="CLIP", help="A clip of the shelf that two play, as `pegloom clips list` names it.")],
    first: Annotated[str, typer.Argument(help="Who plays it.")],
    second: Annotated[str, typer.Argument(help="Who plays the clip that belongs to it.")],
    output: Output,
    controls: Annotated[bool, typer.Option("--controls", help="Onto the controls instead of the joints.")] = False,
    mirror: Annotated[bool, typer.Option("--mirror", help="Its other side.")] = False,
    as_json: Json = False,
) -> None:
    """Take a clip for two from the shelf: both characters get theirs, stand and play together."""
    from pegloom.core.motion.borrowed import CarryOptions
    from pegloom.document import edits
    from pegloom.files.shelf import Shelf

    document, shelf = _open(project), Shelf()
    card = shelf.card(clip)
    if not card.partner:
        raise EditError(f"{card.title} is played by one alone")
    cards = (card, shelf.card(card.partner))
    who = (edits.figure_of(document, first).id, edits.figure_of(document, second).id)
    document, lent = edits.take_for_two(
        document, cards, (shelf.source(cards[0].id), shelf.source(cards[1].id)), who, controls=controls, options=CarryOptions(mirror=mirror)
    )
    _write(output, document)
    made = [edits.figure_of(document, one).clip(done.clip).name for one, done in zip(who, lent, strict=True)]
    _print({"output": str(output), "clips": made}, as_json, f"{' and '.join(made)}\nwritten: {output}")


def film(
    project: Annotated[Path, typer.Argument(metavar="PROJECT", help=".pegloom, or a .glb with clips")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".mp4, or .png for a sequence of pictures NAME.0001.png")],
    clip: Annotated[str, typer.Option("--clip", help="Which clip the character in hand plays; without, all play theirs, or it its first.")] = "",
    size: Annotated[str, typer.Option("--size", metavar="WxH", help="Pixels.")] = "1280x720",
    rate: Annotated[float, typer.Option("--rate", help="Frames a second; 0 for the clip's own.")] = 0.0,
    span: Annotated[str, typer.Option("--range", metavar="A:B", help="Seconds of what is played.")] = "",
    turn: Annotated[float, typer.Option("--turn", metavar="DEGREES", help="Where it is looked from, about the upright; 0 the front.")] = 25.0,
    up: Annotated[float, typer.Option("--up", metavar="DEGREES", help="Above the ground.")] = 8.0,
    display: Annotated[str, typer.Option("--display", help="textured, clay, wireframe or see-through")] = "textured",
    backdrop: Annotated[str, typer.Option("--backdrop", help="view, plain or see-through")] = "view",
    controls: Annotated[bool, typer.Option("--controls", help="Show the controls, too.")] = False,
    labels: Annotated[bool, typer.Option("--labels", help="Write the clip's name and the number of the frame into it.")] = False,
    over: Annotated[bool, typer.Option("--over", help="Write over pictures of a sequence that are there.")] = False,
    as_json: Json = False,
) -> None:
    """Film a project without a display, where the machine can draw off-screen."""
    import math
    from dataclasses import replace

    from pegloom.render.film import make_film
    from pegloom.scene.camera import Camera
    from pegloom.scene.display import Display
    from pegloom.scene.shot import Backdrop, Shot, check, looking_at, span_of

    document = _open(project)
    active = document.require_character()
    backdrops = {"view": Backdrop.VIEW, "plain": Backdrop.PLAIN, "see-through": Backdrop.SEE_THROUGH}
    displays = {"textured": Display.TEXTURED, "clay": Display.CLAY, "wireframe": Display.WIRE, "see-through": Display.SEE_THROUGH}
    for what, one, some in (("backdrop", backdrop, backdrops), ("display", display, displays)):
        if one not in some:
            raise EditError(f"there is no {what} {one[:40]}; choose {', '.join(some)}")
    chosen = _clip(document, active.id, clip) if clip else "" if len(document.characters) > 1 or not active.clips else active.clips[0].id
    length, own = span_of(document, chosen)
    first, last = _seconds(span, length)
    shot = Shot(
        Camera(), _size(size), first, last, rate or own, chosen, displays[display], controls, backdrop=backdrops[backdrop], named=labels, counted=labels
    )
    check(shot)
    shot = replace(shot, camera=looking_at(document, shot, yaw=math.radians(turn), pitch=math.radians(up)))
    frames = make_film(output, document, shot, over=over)
    _print({"output": str(output), "frames": frames, "rate": shot.rate, "size": list(shot.size)}, as_json, f"{frames} frames\nwritten: {output}")


def _triple(text: str) -> tuple[float, float, float]:
    try:
        x, y, z = (float(v) for v in text.split(","))
    except ValueError:
        raise EditError(f"{text[:40]} is no place; three numbers are expected, as 1.5,0,-0.2") from None
    return x, y, z


def _size(text: str) -> tuple[int, int]:
    found = re.fullmatch(r"(\d{1,5})[xX](\d{1,5})", text.strip())
    if found is None:
        raise EditError(f"{text[:40]} is no size; write it as 1280x720")
    return int(found[1]), int(found[2])


def _seconds(text: str, length: float) -> tuple[float, float]:
    if not text:
        return 0.0, length
    try:
        first, last = (float(v) if v.strip() else default for v, default in zip(text.split(":"), (0.0, length), strict=True))
    except ValueError:
        raise EditError(f"{text[:40]} is no range; write it as 0.5:2") from None
    if not 0.0 <= first <= last:
        raise EditError(f"{text[:40]} is no range: it ends before it begins")
    return first, min(last, length) if length > 0 else last


COMMANDS = {"list": list_, "add": add, "place": place, "carry": carry, "play": play, "lend": lend, "follow": follow, "for-two": for_two}
