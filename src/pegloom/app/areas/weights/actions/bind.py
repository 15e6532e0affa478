"""Bind, and what is done to all weights at once."""

from __future__ import annotations

from functools import partial
from time import monotonic

from pegloom.app.actions.action import Action
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import WITH_JOINTS, WITH_SKIN
from pegloom.app.areas.weights.actions.common import change, joint_name, parts, picked
from pegloom.app.areas.weights.judged import begin
from pegloom.app.areas.weights.settings import BindSettings, PaceSettings, StraySettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.checks.snags import Snag
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.core.skin.bind import BindMethod, likely_seconds
from pegloom.document import edits
from pegloom.document.model import Document


def size_of_bind(state: State) -> tuple[int, int]:
    """Vertices and joints of a bind of everything."""
    one = state.character
    if one is None or one.skeleton is None:
        return 0, 0
    return sum(part.mesh.vertex_count for part in one.included), len(one.skeleton.joints)


def keep_pace(c: Context, method: BindMethod, factor: float) -> None:
    """What a bind took tells what the next by this method will take, in this session and those to come."""
    known = c.state.settings.of(PaceSettings).of(method)
    c.keep_setting(PaceSettings, **{method.name.lower(): round(min(max((known + factor) / 2, 0.05), 50.0), 3)})


def bind(c: Context) -> None:
    chosen, state = c.state.settings.of(BindSettings), c.state
    joints: tuple[str, ...] | None = None
    if chosen.some_joints:
        joints = state.selection.ids if state.selection.kind == "joint" else ()
        if not joints:
            raise EditError("Select the joints to bind to first, or untick “Only to the selected joints”")
    some = tuple(picked(c)) if chosen.some_parts else None
    if some is not None and not some:
        raise EditError("Draw a box over the part to bind first, or untick “Only the selected vertices' parts”")
    offload = c.jobs.helper.offload

    def edit(document: Document, progress: Progress) -> Document:
        return edits.bind(
            document, method=chosen.method, influences=chosen.influences, part_ids=some, joint_ids=joints,
            own_branch=chosen.own_branch, in_sight=chosen.in_sight, detail=chosen.detail.factor, progress=progress,
            offload=partial(offload, waiting=partial(progress, -1.0, "")),
        )  # fmt: skip

    begun, likely = monotonic(), likely_seconds(chosen.method, *size_of_bind(state), chosen.detail)

    def then(_: object) -> None:
        if some is None:
            keep_pace(c, chosen.method, (monotonic() - begun) / max(likely, 0.1))
        if c.state.weighing:
            c.enter(c.state.area)
        c.say("Bound, and kept as a weave. Try the poses on the strip; next: Controls (4)")
        if c.state.weighing:
            begin(c)

    c.job(f"Bind {chosen.method.value}", around_locks(c, edit), title=f"Binding {chosen.method.value}", then=then)


def drop_strays(c: Context) -> None:
    change(
        c, "Drop stray weights", edits.drop_strays,
        lambda count: c.say(f"{counted(count, 'vertex', 'vertices')} freed of strays" if count else "There are no strays that are sure"),
    )  # fmt: skip


def choose_stray(c: Context, snag: Snag) -> None:
    c.store.put_setting(StraySettings, part=snag.subject, joint=snag.detail[0], vertex=int(snag.detail[1]))


def drop_stray(c: Context) -> None:
    """The stray region chosen in the list of snags."""
    chosen = c.state.settings.of(StraySettings)
    if not chosen.part:
        raise EditError("choose the stray in the list of snags first")
    name = joint_name(c, chosen.joint)
    change(
        c, f"Drop a stray of {name}", lambda d: edits.drop_stray(d, chosen.part, chosen.joint, chosen.vertex),
        lambda count: c.say(f"{counted(count, 'vertex does', 'vertices do')} not follow {name} any more"),
    )  # fmt: skip


def reduce(c: Context) -> None:
    most = c.state.settings.of(BindSettings).influences

    def edit(document: Document) -> tuple[Document, str]:
        document, worst, count = edits.reduce_influences(document, most)
        return document, f"At most {most} now; {counted(count, 'vertex', 'vertices')} lost something, {worst:.3f} at most"

    change(c, f"Reduce to {most} influences", edit, c.say)


def prune(c: Context) -> None:
    some = parts(c)

    def edit(document: Document) -> tuple[Document, int]:
        count = 0
        for part in some:
            document, touched = edits.prune_tiny(document, part.id)
            count += touched
        return document, count

    change(c, "Prune weights", edit, lambda count: c.say(f"{counted(count, 'vertex', 'vertices')} freed of weights under 0.005"))


def close_borders(c: Context) -> None:
    change(
        c, "Close the borders of parts that meet", edits.close_borders,
        lambda count: c.say(f"{counted(count, 'place')} closed" if count else "No border opens"),
    )  # fmt: skip


ACTIONS = (
    Action("weights.bind", "Bind", "Weights", "Compute weights of all included parts", bind, needs=WITH_JOINTS),
    Action("weights.drop_strays", "Drop stray weights", "Weights", "Regions far from their joint that surely are no good", drop_strays, needs=WITH_SKIN),
    Action("weights.drop_stray", "Drop one stray", "Weights", "The region chosen in the list of snags", drop_stray, needs=WITH_SKIN),
    Action("weights.close_borders", "Close borders", "Weights", "Parts that meet are held alike where they do", close_borders, needs=WITH_SKIN),
    Action("weights.reduce", "Reduce the influences", "Weights", "Keep the largest of finished weights, as many as Bind's number, the loss shown", reduce, needs=WITH_SKIN),
    Action("weights.prune", "Prune weights", "Weights", "Everything under 0.005", prune, needs=WITH_SKIN),
)  # fmt: skip
