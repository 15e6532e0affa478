"""A live performance without a screen: recorded from a capture desk; and the simulated desk itself."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import Annotated

import typer

from pegloom.cli_rig import Json, _print
from pegloom.core.errors import EditError, MeshFileError

PORT = 39640
Port = Annotated[int, typer.Option("--port", help="UDP port on loopback.")]
PERFORMED = ("idle", "wave", "stroll", "bow", "point", "clap")
"""Clips the simulated performer plays, as many of them as the shelf has."""


def capture_desk(
    port: Port = PORT,
    rate: Annotated[float, typer.Option("--rate", min=1.0, max=240.0, help="Frames a second.")] = 60.0,
    clip: Annotated[list[str] | None, typer.Option("--clip", help="Which clips of the shelf are performed, one after the other.")] = None,
    jitter: Annotated[float, typer.Option("--jitter", min=0.0, max=1000.0, metavar="MS", help="How late a frame comes at most.")] = 4.0,
    drop: Annotated[float, typer.Option("--drop", min=0.0, max=1.0, help="Share of frames that never come.")] = 0.01,
    lose: Annotated[float, typer.Option("--lose", min=0.0, max=1.0, help="Share of joints out of sight.")] = 0.01,
    seconds: Annotated[float | None, typer.Option("--seconds", min=0.0, help="For so long; without, until it is stopped.")] = None,
    parent: Annotated[int, typer.Option("--parent", min=0, hidden=True, help="Ends when this process is no longer the one that started it.")] = 0,
) -> None:
    """Send a simulated performer's frames over loopback, as a capture desk does (docs/capture.md)."""
    from pegloom.files.desk.simulated import Faults, run
    from pegloom.files.shelf import Shelf

    shelf = Shelf()
    ids = {c.id for c in shelf.shipped}
    wanted = list(clip or [one for one in PERFORMED if one in ids] or sorted(ids)[:1])
    cards = [shelf.card(one) for one in wanted]
    if len({card.body for card in cards}) > 1:
        raise EditError("one performer plays clips of one kind of body; choose others")
    print(f"sending {', '.join(wanted)} to 127.0.0.1:{port}, {rate:g} frames a second; Ctrl+C ends", flush=True)
    try:
        sent = run([shelf.source(card.id) for card in cards], rate=rate, port=port, faults=Faults(jitter / 1000.0, drop, lose), seconds=seconds, ended=lambda: bool(parent) and os.getppid() != parent)
        print(f"sent {sent} frames")
    except KeyboardInterrupt:
        print("ended")


def capture(
    project: Annotated[Path, typer.Argument(metavar="PROJECT", help="The character that is to move: .pegloom, or .glb with joints.")],
    seconds: Annotated[float, typer.Option("--seconds", min=0.1, max=3600.0, help="How long is recorded.")],
    output: Annotated[Path, typer.Option("-o", "--output", help=".bvh, .pegloom or .glb")],
    port: Port = PORT,
    wait: Annotated[float, typer.Option("--wait", min=0.0, max=3600.0, help="Seconds to wait for somebody who sends.")] = 10.0,
    smooth: Annotated[float, typer.Option("--smooth", min=0.0, max=2.0, help="Seconds the smoothing looks over; 0 for none.")] = 0.1,
    name: Annotated[str, typer.Option("--name", help="What the take is called.")] = "take",
    controls: Annotated[bool, typer.Option("--controls", help="Onto the controls instead of the joints.")] = False,
    as_json: Json = False,
) -> None:
    """Record a take from a capture desk and carry it over to a character."""
    from pegloom.core.motion.capture import Recording, TakeOptions, taken
    from pegloom.document import edits
    from pegloom.files.bvh_write import write_bvh
    from pegloom.files.desk import Body, Frame, Listener
    from pegloom.files.opening import open_any
    from pegloom.files.writing import write_rig

    if output.suffix.lower() not in (".bvh", ".pegloom", ".glb"):
        raise MeshFileError(output.name, "this ending cannot hold motion", hint="use .bvh, .pegloom or .glb")
    document = open_any(project)
    document.require_character().require_skeleton()
    takes: list[Recording] = []

    def heard(body: Body, frame: Frame, arrived: float) -> None:
        if not takes or takes[-1].skeleton is not body.skeleton:
            takes.append(Recording(body.skeleton, body.rate))
        takes[-1].add(frame.seconds, frame.rows, arrived)

    listener = Listener(heard, port)
    try:
        begun = time.monotonic()
        while not takes and time.monotonic() - begun < wait:
            time.sleep(0.02)
        if not takes:
            wrong = f"; {listener.heard.wrong} packets came that make no sense ({listener.heard.why})" if listener.heard.wrong else ""
            raise EditError(f"nobody has sent a frame to port {port} in {wait:g} s{wrong}; start the desk, as with `pegloom capture-desk`")
        since = time.monotonic()
        while time.monotonic() - since < seconds:
            time.sleep(0.02)
    finally:
        listener.close()
    recording = max(takes, key=len)
    times, rows = recording.frames()
    source, report = taken(recording.skeleton, times, rows, recording.rate, name=name, options=TakeOptions(smooth))
    document, lent = edits.keep_take(document, source, controls=controls)
    character = document.require_character()
    made = character.clip(lent.clip)
    notes = write_bvh(output, character, made) if output.suffix.lower() == ".bvh" else (write_rig(output, document) or [])
    stopped = time.monotonic() - listener.heard.last > 1.0
    said = [
        f"{made.name}: {report.frames} frames at {recording.rate:g}, {report.filled} of them filled (longest gap {report.longest:.2f} s), {report.lost:.1%} of joints out of sight",
        *(["the desk had stopped before the end"] if stopped else []), *notes, f"written: {output}",
    ]  # fmt: skip
    result = {
        "output": str(output), "clip": made.name, "frames": report.frames, "rate": recording.rate, "filled": report.filled, "longest_gap_s": report.longest,
        "lost": report.lost, "missing": listener.heard.missing, "wrong_packets": listener.heard.wrong, "stopped": stopped, "seconds": made.length,
    }  # fmt: skip
    _print(result, as_json, "\n".join(said))
