"""Weights fitted to a body that behaves like flesh, helper joints, and all ways of bending compared."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import WITH_SKIN
from pegloom.app.areas.weights.settings import FleshSettings, WeaveSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State, Tool
from pegloom.checks.ways import Told, told_ways
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of
from pegloom.document import edits
from pegloom.document.edits.flesh import FleshReport
from pegloom.document.edits.weaves import kept_as
from pegloom.document.model import Character, Document
from pegloom.files.reading import read_mesh


def fit(c: Context) -> None:
    chosen, was = c.state.settings.of(FleshSettings), c.character

    still = {part: [int(v) for v in some] for part, some in c.state.vertices.items()} if chosen.still else None

    def edit(document: Document, progress: Progress) -> object:
        return edits.fit_to_flesh(document, influences=chosen.influences or None, worse=0.01 * chosen.worse, anew=chosen.anew, still=still, progress=progress)

    c.job("Fit to flesh", around_locks(c, edit), title="Fitting the weights to flesh", then=lambda reports: _told(c, was, reports))


def help_joints(c: Context) -> None:
    chosen, was = c.state.settings.of(FleshSettings), c.character
    picked = None
    if c.state.selection.kind == "joint" and c.state.selection.ids:
        picked = c.state.selection.ids

    def edit(document: Document, progress: Progress) -> object:
        return edits.add_helpers(
            document, picked, digits=chosen.digits, influences=chosen.influences or None, worse=0.01 * chosen.worse, progress=progress
        )

    def then(reports: Any) -> None:
        more = len(c.character.helpers) - len(was.helpers)
        _told(c, was, reports, f"{more} helper joints. ")

    c.job("Helper joints", around_locks(c, edit), title="Putting in helper joints", then=then)


def drop_helpers(c: Context) -> None:
    def then(_: object) -> None:
        c.say("Helper joints are gone; what they held went half to each side")

    c.try_edit("Helper joints away", around_locks(c, edits.drop_helpers), then)


def add_shapes(c: Context) -> None:
    chosen = c.state.settings.of(FleshSettings)

    def edit(document: Document, progress: Progress) -> object:
        return edits.add_shapes(document, most=chosen.most, worse=0.01 * chosen.worse, progress=progress)

    def then(reports: Any) -> None:
        said = "\n".join(f"{r.part}: {r.says}" for r in reports)
        c.store.put_setting(FleshSettings, report=said)
        c.say(said.splitlines()[0])

    c.job("Corrective shapes", edit, title="Making corrective shapes", then=then)


def drop_shapes(c: Context) -> None:
    c.try_edit("Shapes away", edits.drop_shapes, lambda _: c.say("Corrective shapes are gone"))


def sculpt(c: Context) -> None:
    path = c.ask.open_sculpted()
    if not path:
        return

    def work(document: Document, progress: Progress) -> object:
        progress(0.2, f"reading {Path(path).name}")
        mesh = read_mesh(Path(path)).parts[0].mesh
        parts = [p.id for p in document.require_character().included if p.mesh.vertex_count == mesh.vertex_count]
        if not parts:
            raise EditError(f"no part has {mesh.vertex_count} vertices as {Path(path).name} has; export the posed part, correct it and bring it back without changing its faces")
        return edits.sculpt_shape(document, parts[0], mesh.points)

    c.job("Corrected mesh", work, title="Taking a corrected mesh", then=lambda name: c.say(f"{name} comes in as its joint turns to this pose"))


def pull(c: Context) -> None:
    c.store.put(tool=Tool.PICK if c.state.tooling.tool == Tool.PULL else Tool.PULL)


def compare(c: Context) -> None:
    chosen = c.state.settings.of(FleshSettings)

    def work(document: Document, progress: Progress) -> tuple[Told, ...]:
        made = edits.ways_to_bend(document, influences=chosen.influences or None, worse=0.01 * chosen.worse, progress=part_of(progress, 0.0, 0.8))
        return told_ways(made, part_of(progress, 0.8, 1.0))

    def done(base: Document, told: tuple[Told, ...]) -> None:
        number = c.ask.choose_way(told)
        if number > 0 and told[number].way.document is not None:
            way = told[number].way
            assert way.document is not None
            c.land(base, way.title, way.document)

    c.work_on("Trying ways to bend", work, done)


def _told(c: Context, was: Character, reports: tuple[FleshReport, ...], first: str = "") -> None:
    said = "\n".join(f"{r.part}: {r.says}" for r in reports)
    c.store.put_setting(FleshSettings, report=first + said)
    before = kept_as(replace(was, weaves=c.character.weaves))
    if before is not None:  # what the seam compares with
        c.store.put_setting(WeaveSettings, chosen=before.id)
    c.say((first + said).splitlines()[0])


def _helped(state: State) -> bool:
    return state.character is not None and bool(state.character.helpers)


def _has_shapes(state: State) -> bool:
    return state.character is not None and bool(state.character.shapes)


SHAPED = Need("shapes", "Add corrective shapes first, in Weights", _has_shapes, "weights.add_shapes")
HELPED = Need("helpers", "Put in helper joints first, in Weights", _helped, "weights.add_helpers")

ACTIONS = (
    Action("weights.fit_flesh", "Fit to flesh", "Weights", "Bend an elastic body through the range test and fit the weights to it; kept only where every trial is as good", fit, needs=WITH_SKIN),
    Action("weights.add_helpers", "Add helper joints", "Weights", "Half-turn joints where the body bends far (or at the picked joints), with weights fitted to them; exported as plain joints with their motion", help_joints, needs=WITH_SKIN),
    Action("weights.drop_helpers", "Take helper joints away", "Weights", "Remove all helper joints; what each holds goes half to each side of its joint", drop_helpers, needs=(*WITH_SKIN, HELPED)),
    Action("weights.add_shapes", "Add corrective shapes", "Weights", "A few morph targets for what the skin lacks in its trials, each brought in by one joint's turn; baked into each clip on export", add_shapes, needs=WITH_SKIN),
    Action("weights.drop_shapes", "Take corrective shapes away", "Weights", "Remove all corrective shapes and their morph targets", drop_shapes, needs=(*WITH_SKIN, SHAPED)),
    Action("weights.sculpt", "Take a corrected mesh", "Weights", "A mesh corrected elsewhere in the pose shown becomes a shape that comes in as its joint turns there", sculpt, needs=WITH_SKIN),
    Action("tool.pull", "Pull the skin", "Tools", "In a pose that bends badly, drag the skin where it belongs; its weights follow", pull, key="H", needs=WITH_SKIN, on=lambda s: s.tooling.tool == Tool.PULL),
    Action("weights.ways", "Compare ways to bend…", "Weights", "Fitted, with helper joints, dual quaternions and surface relax side by side in figures; take one, or none", compare, needs=WITH_SKIN),
)  # fmt: skip
