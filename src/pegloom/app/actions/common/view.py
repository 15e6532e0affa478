"""The camera, what is shown and how."""

from __future__ import annotations

from functools import partial

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER, WITH_SKIN
from pegloom.app.context import Context
from pegloom.app.state.state import GroundSettings, State
from pegloom.scene.display import Display
from pegloom.scene.ground import Tone
from pegloom.scene.lenses import Lens

KINDS = ("joints", "pegs", "controls", "mesh", "ground")
"""What can be shown and picked, or not."""


def toggle_kind(kind: str, c: Context) -> None:
    hidden = c.state.viewing.hidden
    c.store.put(hidden=hidden - {kind} if kind in hidden else hidden | {kind})


def see_through(c: Context) -> None:
    on = c.state.viewing.display is Display.SEE_THROUGH
    c.store.put(display=Display.CLAY if on else Display.SEE_THROUGH)


def wire_over(c: Context) -> None:
    c.store.put(wire_over=not c.state.viewing.wire_over)


def clean_view(c: Context) -> None:
    c.store.put(clean_view=not c.state.viewing.clean_view)


def kind_shown(kind: str, state: State) -> bool:
    return kind not in state.viewing.hidden


def look_along(axis: str, c: Context) -> None:
    c.view.look_along(axis)


def lens_is(lens: Lens, state: State) -> bool:
    return state.viewing.lens is lens


def select_lens(lens: Lens, c: Context) -> None:
    c.store.put(lens=lens)


def next_level(c: Context) -> None:
    """Look at another detail level; what is painted and picked is what is shown."""
    levels = c.character.levels
    if len(levels) < 2:
        c.say("There is one detail level only; say of a part in Picked part which one it is")
        return
    above = [level for level in levels if level > c.state.viewing.level]
    c.store.pick_vertices({}, level=above[0] if above else levels[0])
    names, level = ", ".join(part.name for part in c.state.shown_parts[:4]), c.state.viewing.level
    c.say(f"Detail level {level}: {names}" if level else f"The body itself: {names}")


def next_tone(c: Context) -> None:
    tones = list(Tone)
    tone = tones[(tones.index(c.state.settings.of(GroundSettings).tone) + 1) % len(tones)]
    c.keep_setting(GroundSettings, tone=tone)
    c.say(f"Ground: {tone.value}")


def back(c: Context) -> None:
    if not c.view.back():
        c.say("There is no view before this one")


def forward(c: Context) -> None:
    if not c.view.forward():
        c.say("There is no view after this one")


ACTIONS = (
    Action("view.centre", "Centre on the selection", "View", "Bring it into the middle", lambda c: c.view.show_selection(), key="C"),
    Action("view.all", "Centre on all", "View", "Everything in sight", lambda c: c.view.show_all(), key="Shift+C"),
    Action("view.back", "View back", "View", "The camera, what was hidden and the lens before; the work stays", back, key="Alt+Left"),
    Action("view.forward", "View forward", "View", "The view that was gone back from", forward, key="Alt+Right"),
    Action("view.perspective", "Perspective", "View", "With or without perspective", lambda c: c.view.toggle_perspective(), key="P"),
    Action("view.see_through", "See-through", "View", "Look into the mesh", see_through, key="L", on=lambda s: s.viewing.display is Display.SEE_THROUGH),
    Action("view.wire", "Wireframe over", "View", "Edges over the surface", wire_over, key="O", on=lambda s: s.viewing.wire_over),
    Action("view.clean", "Clean view", "View", "Only the character", clean_view, key="E", on=lambda s: s.viewing.clean_view),
    Action("view.theme", "Light or dark", "View", "The linen and the ink theme", lambda c: c.frame.toggle_theme()),
    Action("view.ground_tone", "Another ground tone", "View", "Darker or lighter under the figure", next_tone),
    Action("mesh.level", "Show the next detail level", "View", "The body itself, then its coarser levels", next_level, needs=WITH_CHARACTER),
    *(Action(f"view.{kind}", f"Show {kind}", "View", f"Show and pick {kind}, or not", partial(toggle_kind, kind), on=partial(kind_shown, kind)) for kind in KINDS),
    *(Action(f"view.{axis}", f"Look along {axis}", "View", "Again: from behind", partial(look_along, axis), key=axis.upper()) for axis in "xyz"),
    *(Action(f"lens.{lens.name.lower()}", f"Lens: {lens.value}", "View", "What the surface shows", partial(select_lens, lens), needs=WITH_SKIN, on=partial(lens_is, lens)) for lens in Lens),
)  # fmt: skip
