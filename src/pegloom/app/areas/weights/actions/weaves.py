"""Weaves: versions of the weights, kept, compared, taken back, mixed."""

from __future__ import annotations

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import VERTICES, WITH_SKIN
from pegloom.app.areas.weights.actions.common import change, count_picked, picked
from pegloom.app.areas.weights.settings import WeaveSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.core.said import counted
from pegloom.document import edits


def chosen_weave(state: State) -> str:
    """Id of the weave picked in the list, else of the compared one, else ""."""
    some = [w.id for w in state.character.weaves] if state.character is not None else []
    chosen = state.settings.of(WeaveSettings).chosen
    return chosen if chosen in some else state.viewing.compared


def keep(c: Context) -> None:
    c.try_edit("Keep a weave", edits.keep_weave)


def take(c: Context) -> None:
    weave = chosen_weave(c.state)
    c.try_edit("Restore a weave", lambda d: edits.take_weave(d, weave))


def drop(c: Context) -> None:
    weave = chosen_weave(c.state)
    c.try_edit("Forget a weave", lambda d: edits.drop_weave(d, weave))


def compare(c: Context) -> None:
    c.store.put(compared="" if c.state.viewing.compared else chosen_weave(c.state))
    if c.state.viewing.compared:
        c.say("In hand on the left, the weave on the right: drag the seam")


def mix(c: Context) -> None:
    """The weave on the picked vertices, with a soft border."""
    weave, chosen, both = chosen_weave(c.state), picked(c), c.state.hand.both_sides
    border = c.state.settings.of(WeaveSettings).border / 100
    name = next(w.name for w in c.character.weaves if w.id == weave)
    change(
        c, f"{name} on {counted(count_picked(c), 'vertex', 'vertices')}",
        lambda d: edits.mix_weave(d, weave, chosen, border=border, both_sides=both),
    )  # fmt: skip


SOME = Need(
    "some weave", "Keep a weave first: Keep, in the Weaves card",
    lambda s: s.character is not None and bool(s.character.weaves), "weave.keep",
)  # fmt: skip
CHOSEN = Need("chosen weave", "Pick a weave in the list first", lambda s: bool(chosen_weave(s)))
ONE = (*WITH_SKIN, SOME, CHOSEN)

ACTIONS = (
    Action("weave.keep", "Keep a weave", "Weights", "The current weights as a version by name", keep, needs=WITH_SKIN),
    Action("weave.take", "Restore a weave", "Weights", "The current weights are kept first", take, needs=ONE),
    Action("weave.drop", "Forget a weave", "Weights", "The current weights stay", drop, needs=ONE),
    Action("weave.compare", "Compare along the seam", "Weights", "Current weights left, the weave right, in the same pose", compare, needs=ONE, on=lambda s: bool(s.viewing.compared)),
    Action("weave.mix", "Weave on the selected vertices", "Weights", "With a soft border; elsewhere the current weights", mix, needs=(*ONE, VERTICES)),
)  # fmt: skip
