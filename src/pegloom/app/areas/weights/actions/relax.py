"""Surface relax and dual quaternions, and their bake into weights any target plays."""

from __future__ import annotations

from functools import partial
from typing import Any

from pegloom.app.actions.action import Action, Need
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import WITH_SKIN
from pegloom.app.areas.weights.actions.common import on_vertices, picked
from pegloom.app.areas.weights.settings import BakeSettings, RelaxSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State, Tool
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.scene.brushes import Painting
from pegloom.scene.lenses import Lens


def part_of(state: State) -> str:
    """Id of the part the card is about: the one chosen, else the first bound one; "" for none."""
    character = state.character
    if character is None or character.skin is None:
        return ""
    bound = [p.id for p in character.parts if p.id in character.skin.weights]
    chosen = state.settings.of(RelaxSettings).part
    return chosen if chosen in bound else next(iter(bound), "")


def put(c: Context) -> None:
    part, chosen = part_of(c.state), c.state.settings.of(RelaxSettings)
    c.try_edit(
        "Surface relax on", lambda d: edits.set_relax(d, part, steps=chosen.steps, strength=chosen.strength)
    )


def off(c: Context) -> None:
    part = part_of(c.state)
    c.try_edit("Surface relax off", lambda d: edits.set_relax(d, part, strength=0.0))


def set_dual(c: Context) -> None:
    part, share = part_of(c.state), c.state.settings.of(RelaxSettings).dual
    name = f"Dual quaternion share {share:.2f}"
    if picked(c):
        on_vertices(c, name, lambda d, p, v: edits.set_dual(d, p, share, v))
    else:
        c.try_edit(name, lambda d: edits.set_dual(d, part, share))


def bake(c: Context) -> None:
    chosen = c.state.settings.of(BakeSettings)

    def edit(document: Document, progress: Progress) -> object:
        return edits.bake_relax(document, influences=chosen.influences, clips=chosen.clips, progress=progress)

    def then(reports: Any) -> None:
        said = "; ".join(f"{r.part}: {r.says}" for r in reports)
        c.store.put_setting(BakeSettings, report=f"{said}. {reports[0].poses} poses.")
        c.say(said)

    c.job(
        f"Bake to {chosen.influences} influences", around_locks(c, edit), title=f"Baking to {chosen.influences} influences", then=then
    )


def paint(painting: Painting, c: Context) -> None:
    c.go("weights")
    c.store.put(painting=painting, tool=Tool.BRUSH, lens=Lens.INFLUENCE)


PART = Need("bound part", "Bind a part first, in Weights", lambda s: bool(part_of(s)), "weights.bind")
ONE = (*WITH_SKIN, PART)

ACTIONS = (
    Action("relax.put", "Add surface relax", "Weights", "On the part chosen in the card", put, needs=ONE),
    Action("relax.off", "Remove surface relax", "Weights", "From the part chosen in the card", off, needs=ONE),
    Action("relax.dual", "Set the blend mode", "Weights", "Linear to dual quaternion", set_dual, needs=ONE),
    Action("relax.bake", "Bake relax into weights", "Weights", "By least squares over sampled poses; the state before is kept", bake, needs=WITH_SKIN),
    Action("relax.paint", "Paint the surface relax", "Weights", "Where it works, and how much", partial(paint, Painting.RELAX), needs=WITH_SKIN),
    Action("relax.paint_dual", "Paint the dual quaternion share", "Weights", "Where volume is kept", partial(paint, Painting.DUAL), needs=WITH_SKIN),
)  # fmt: skip
