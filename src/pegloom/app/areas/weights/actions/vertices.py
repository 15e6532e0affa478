"""Vertices: picked, grown, kept; weights set, smoothed, averaged, copied and pasted on them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.needs import ACTIVE_JOINT, VERTICES, WITH_SKIN
from pegloom.app.areas.weights.actions.common import count_picked, joint_name, on_vertices, picked
from pegloom.app.areas.weights.settings import SelectSettings
from pegloom.app.context import Context
from pegloom.app.state.state import Tool
from pegloom.core.arrays import IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.said import counted
from pegloom.core.skin import select
from pegloom.document import edits

NUMBERS = "weights.numbers"


def fill(c: Context) -> None:
    joint, tools = c.state.viewing.influence, c.state.tooling
    value, both = c.state.brush.value, c.state.hand.both_sides
    sides = " on both sides" if both else ""
    on_vertices(
        c,
        f"Set {joint_name(c, joint)} to {value:g} on {counted(count_picked(c), 'vertex', 'vertices')}{sides}",
        lambda d, p, v: edits.fill_weight(d, p, joint, v, value, both_sides=both, locked=tools.locked),
    )


def smooth(c: Context) -> None:
    tools = c.state.tooling
    both, strength = c.state.hand.both_sides, c.state.brush.strength
    on_vertices(
        c,
        f"Smooth {counted(count_picked(c), 'vertex', 'vertices')}" + (" on both sides" if both else ""),
        lambda d, p, v: edits.smooth_weights(
            d, p, v, strength=strength, both_sides=both, locked=tools.locked
        ),
    )


def average(c: Context) -> None:
    locked = c.state.tooling.locked
    name = f"Average {counted(count_picked(c), 'vertex', 'vertices')}"
    on_vertices(c, name, lambda d, p, v: edits.average_rows(d, p, v, locked=locked))


def copy(c: Context) -> None:
    part, vertices = next(iter(picked(c).items()))
    row = edits.row_of(c.store.history.present, part, vertices)
    c.store.put(copied=row)
    listed = ", ".join(f"{joint_name(c, j)} {w:.2f}" for j, w in sorted(row.items(), key=lambda r: -r[1])[:4])
    c.say(f"Copied: {listed}")


def paste(c: Context) -> None:
    row, locked = c.state.tooling.copied, c.state.tooling.locked
    if row is None:
        raise EditError("there is no copied row of weights")
    name = f"Paste weights on {counted(count_picked(c), 'vertex', 'vertices')}"
    on_vertices(c, name, lambda d, p, v: edits.paste_row(d, p, v, row, locked=locked))


def reselect(change: Callable[[Mesh, IntArray], IntArray], c: Context) -> None:
    """Each part's picked vertices become others."""
    c.store.pick_vertices({p: change(c.character.part(p).mesh, v) for p, v in picked(c).items()})


def by_weight(c: Context) -> None:
    """Vertices that hold so much of the active joint."""
    chosen, joint = c.state.settings.of(SelectSettings), c.state.viewing.influence
    skin = c.character.require_skin()
    c.store.pick_vertices(
        {p: select.held_between(w, joint, chosen.low, chosen.high) for p, w in skin.weights.items()}
    )
    c.say(f"{counted(count_picked(c), 'vertex holds', 'vertices hold')} {chosen.low:g} to {chosen.high:g} of {joint_name(c, joint)}")


def keep(c: Context) -> None:
    name, chosen = c.state.settings.of(SelectSettings).name, picked(c)
    c.try_edit(f"Keep a selection {name}", lambda d: edits.keep_vertices(d, name, chosen))


def recall(c: Context) -> None:
    kept = c.character.vertex_sets.get(c.state.settings.of(SelectSettings).name)
    if kept is None:
        raise EditError("Choose a kept selection in the list first")
    c.store.pick_vertices(kept)


def forget(c: Context) -> None:
    name = c.state.settings.of(SelectSettings).name
    c.try_edit(f"Forget the selection {name}", lambda d: edits.drop_vertices(d, name))


def numbers(c: Context) -> None:
    """Show the number table, or put it away."""
    panes = c.state.viewing.panes
    c.store.put(panes=panes - {NUMBERS} if NUMBERS in panes else panes | {NUMBERS})


def paint(c: Context) -> None:
    c.go("weights")
    c.store.put(tool=Tool.SELECT)


COPIED = Need("copied row", "Copy a row of weights first", lambda s: bool(s.tooling.copied), "vertices.copy")
SOME = (*WITH_SKIN, VERTICES)

ACTIONS = (
    Action("weights.fill", "Fill the selected vertices", "Weights", "Set the active joint's weight to the ladder's value", fill, key="F", needs=(*WITH_SKIN, ACTIVE_JOINT, VERTICES)),
    Action("weights.smooth", "Smooth the selected vertices", "Weights", "Blend toward the neighbours", smooth, needs=SOME),
    Action("vertices.paint", "Select vertices by painting", "Vertices", "Shift adds, Ctrl takes out", paint, key="Q", needs=WITH_SKIN, on=lambda s: s.tooling.tool == Tool.SELECT),
    Action("vertices.grow", "Grow the selection", "Vertices", "By one ring", partial(reselect, select.grown), key="Ctrl+Up", needs=SOME),
    Action("vertices.shrink", "Shrink the selection", "Vertices", "By one ring", partial(reselect, select.shrunk), key="Ctrl+Down", needs=SOME),
    Action("vertices.shell", "Select whole shells", "Vertices", "All that hangs together", partial(reselect, select.whole_shells), needs=SOME),
    Action("vertices.others", "Invert the selection", "Vertices", "What is not selected", partial(reselect, select.others), needs=SOME),
    Action("vertices.rim", "Select the border", "Vertices", "Those at the selection's border", partial(reselect, select.rim), needs=SOME),
    Action("vertices.held", "Select by weight", "Vertices", "Vertices holding so much of the active joint", by_weight, needs=(*WITH_SKIN, ACTIVE_JOINT)),
    Action("vertices.average", "Average the weights", "Vertices", "One mean row on all selected", average, needs=SOME),
    Action("vertices.copy", "Copy the weights", "Vertices", "The mean row of the selected vertices", copy, key="Ctrl+C", needs=SOME),
    Action("vertices.paste", "Paste the weights", "Vertices", "The copied row on the selected vertices", paste, key="Ctrl+V", needs=(*SOME, COPIED)),
    Action("vertices.numbers", "Number table", "Vertices", "Weights of the selected vertices as numbers", numbers, key="Ctrl+T", needs=WITH_SKIN, on=lambda s: NUMBERS in s.viewing.panes),
    Action("vertices.keep", "Keep the selection", "Vertices", "Under the name in the card", keep, needs=SOME),
    Action("vertices.recall", "Select a kept selection", "Vertices", "The one named in the card", recall, needs=WITH_SKIN),
    Action("vertices.forget", "Forget a kept selection", "Vertices", "The one named in the card", forget, needs=WITH_SKIN),
)  # fmt: skip
