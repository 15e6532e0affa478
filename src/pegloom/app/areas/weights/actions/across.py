"""Weights across the middle, between parts, and from another character."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import WITH_JOINTS, WITH_SKIN
from pegloom.app.areas.weights.actions.common import change, count_picked, picked
from pegloom.app.areas.weights.settings import MirrorSettings, TransferSettings
from pegloom.app.context import Context
from pegloom.app.jobs import Job
from pegloom.app.state.state import State
from pegloom.core.errors import EditError
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.core.skin.mirror import partners_within
from pegloom.document import edits
from pegloom.document.model import Character, Document
from pegloom.files.opening import open_any


def mirror(c: Context) -> None:
    chosen = c.state.settings.of(MirrorSettings)
    tolerance = chosen.tolerance / 100 or None
    some = picked(c) if chosen.only else None
    bound = tuple(c.character.require_skin().weights)

    def edit(document: Document) -> tuple[Document, tuple[int, list[str]]]:
        lost = 0
        lone: list[str] = []
        for part_id in bound:
            if some is not None and part_id not in some:
                continue
            document, missing = edits.mirror_weights(
                document, part_id, chosen.way, tolerance=tolerance, by_place=chosen.by_place,
                vertices=some[part_id] if some is not None else None,
            )  # fmt: skip
            lost += len(missing)
            lone += edits.unmatched_joints(document, part_id, by_place=chosen.by_place)
        return document, (lost, list(dict.fromkeys(lone)))

    def then(result: tuple[int, list[str]]) -> None:
        lost, lone = result
        said = f"; {counted(lost, 'vertex has no partner and keeps its own', 'vertices have no partner and keep theirs')}: Unmatched" if lost else ""
        if lone:
            more = f" and {len(lone) - 4} more" if len(lone) > 4 else ""
            said += f"; without a partner, and left: {', '.join(lone[:4])}{more}"
        c.say(f"Mirrored{said}")

    change(c, f"Mirror weights, {chosen.way.value}", edit, then)


def unmatched(c: Context) -> None:
    """Pick every vertex that has no partner across the middle."""
    character = c.character
    middle = character.standing.middle if character.standing else 0.0
    reach = c.state.settings.of(MirrorSettings).tolerance / 100 or None
    found = {}
    for part in character.included:
        pairs = partners_within(part.mesh, middle, reach) if reach else partners(part.mesh, middle)
        found[part.id] = np.flatnonzero(pairs < 0)
    c.store.pick_vertices(found)
    count = count_picked(c)
    c.say(counted(count, "vertex has no partner; it is selected", "vertices have no partner; they are selected") if count else "Every vertex has its partner")


def transfer_between(state: State) -> tuple[str, str]:
    """Ids of the parts weights are read from and written to: those chosen, else the first that may be; "" for none."""
    character, chosen = state.character, state.settings.of(TransferSettings)
    if character is None or character.skin is None:
        return "", ""
    parts = [p.id for p in character.parts]
    bound = [p for p in parts if p in character.skin.weights]
    source = chosen.source if chosen.source in bound else next(iter(bound), "")
    usual = parts[1] if len(parts) > 1 else next(iter(parts), "")
    return source, chosen.target if chosen.target in parts else usual


def transfer(c: Context) -> None:
    source, target = transfer_between(c.state)
    chosen = c.state.settings.of(TransferSettings)
    fill, left = chosen.fill, picked(c).get(source) if chosen.leave_out else None
    if chosen.leave_out and left is None:
        raise EditError("Select what is to be left out of the source first, or untick “Leave out the selected vertices”")
    names = [c.character.part(p).name for p in (source, target)]

    def edit(document: Document, progress: Progress) -> object:
        progress(0.1, "reading the nearest surface, filling between")
        return edits.transfer(document, source, target, fill=fill, leave_out=left)

    def then(report: Any) -> None:
        said = f"{counted(report.matched, 'vertex', 'vertices')} read, {report.filled} filled"
        said += f", {report.forced} read from the nearest place for want of a match" if report.forced else ""
        said += f"; farthest {100 * report.farthest:.1f} cm"
        c.store.put_setting(TransferSettings, report=said)
        c.say(said)

    c.job(f"Transfer weights, {names[0]} to {names[1]}", around_locks(c, edit), then=then)


def read_from(c: Context) -> None:
    """Weights of another character, from its file: read it, pair the joints, read the surface."""
    path = c.ask.open_file()
    if not path:
        return
    chosen = Path(path)

    def work(progress: Progress) -> object:
        progress(0.1, f"reading {chosen.name}")
        other = open_any(chosen).require_character()
        if other.skeleton is None or other.skin is None or not other.skin.weights:
            raise EditError(f"{chosen.name} is not bound; there are no weights to read")
        return other

    def done(result: Any) -> None:
        pairs = c.ask.pair_joints(result, c.skeleton)
        if pairs is not None:
            _read(c, result, pairs)

    c.jobs.start(Job(f"Reading {chosen.name}", work, done))


def _read(c: Context, other: Character, pairs: dict[str, str]) -> None:
    without = tuple(c.state.settings.of(TransferSettings).without.split(","))

    def edit(document: Document, progress: Progress) -> object:
        progress(0.1, "reading the nearest surface, filling between")
        return edits.read_weights(document, other, joint_map=pairs, only_asked=True, without=without)

    def then(result: Any) -> None:
        reports, read_as = result
        matched, filled = sum(r.matched for r in reports.values()), sum(r.filled for r in reports.values())
        said = f"{len(pairs)} joints of {other.name} read as {len(set(read_as.values()))} here; "
        said += f"{counted(matched, 'vertex', 'vertices')} read, {filled} filled"
        c.store.put_setting(TransferSettings, report=said)
        c.say(said)

    c.job(f"Read weights from {other.name}", around_locks(c, edit), then=then)


BOTH_PARTS = Need("two parts", "Choose the parts to read from and write to first", lambda s: all(transfer_between(s)))

ACTIONS = (
    Action("weights.mirror", "Mirror weights", "Weights", "As the card says: which half gives, how pairs are found", mirror, needs=WITH_SKIN),
    Action("weights.unmatched", "Select vertices without a partner", "Weights", "No vertex stands across the middle from them", unmatched, needs=WITH_SKIN),
    Action("weights.transfer", "Transfer weights between parts", "Weights", "By the nearest surface, filled smoothly", transfer, needs=(*WITH_SKIN, BOTH_PARTS)),
    Action("weights.read_from", "Read weights from another character…", "Weights", "A project or GLB; its joints are paired with these", read_from, needs=WITH_JOINTS),
)  # fmt: skip
