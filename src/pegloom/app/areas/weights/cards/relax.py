"""Surface relax and dual quaternions, per part; and their bake into weights any target plays."""

from __future__ import annotations

from pegloom.app.areas.weights.actions.relax import part_of
from pegloom.app.areas.weights.settings import BakeSettings, RelaxSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, slider, tick, whole


class RelaxCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Relax and bake", "weights.relax",
            sentence="Surface relax smooths what skinning crumples. Few targets play it: bake it into weights.",
            is_open=False,
        )  # fmt: skip
        q = c.actions.qactions
        self.part = choice(self, RelaxSettings, "part", (), name="weights.relax.part")
        self.field("Part", filled_by_pick(self, self.part, RelaxSettings, "part", "part", "Part"))
        self.part.setAccessibleName("Part")
        self.field("Passes", whole(self, RelaxSettings, "steps", 1, 200, name="weights.relax.steps"))
        strength = slider(
            self, RelaxSettings, "strength", 0.05, 1.0, lambda v: f"{v:.2f}", name="weights.relax.strength"
        )
        self.field("Strength", strength)
        self.row(action_button(q["relax.put"], "Add relax"), action_button(q["relax.off"], "Remove relax"))
        self.field("Dual quat.", slider(self, RelaxSettings, "dual", 0.0, 1.0, lambda v: f"{v:.2f}", name="weights.dual"))
        self.body.addWidget(
            label(
                "0 linear blend, 1 dual quaternion: keeps volume in twists. On the selected vertices, else the whole part.",
                "caption",
                wrap=True,
            )
        )
        self.row(action_button(q["relax.dual"], "Set the blend mode"))
        bake_to = whole(self, BakeSettings, "influences", 1, 16, name="weights.bake.influences", suffix=" per vertex")
        self.field("Bake to", bake_to)
        self.body.addWidget(tick(self, BakeSettings, "clips", "Follow the clips as well", name="weights.bake.clips"))
        self.body.addWidget(action_button(q["relax.bake"], "Bake into weights", role="main"))
        self.report = label("", "caption", wrap=True, name="weights.bake.report")
        self.body.addWidget(self.report)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        pieces = (one.parts, one.skin) if one is not None else ()
        return (*pieces, part_of(state), state.settings.of(BakeSettings).report)

    def show_state(self, state: State) -> None:
        one = state.character
        skin = one.skin if one is not None else None
        parts = [(p.name, p.id) for p in one.parts if p.id in skin.weights] if one is not None and skin is not None else []
        fill(self.part, parts)
        self.part.setCurrentIndex(self.part.findData(part_of(state)))
        on = [name for name, part_id in parts if skin is not None and part_id in skin.relax]
        dual = [name for name, part_id in parts if skin is not None and part_id in skin.dual]
        said = ([f"relax on {', '.join(on)}"] if on else []) + ([f"dual on {', '.join(dual)}"] if dual else [])
        self.note.setText("; ".join(said) or "off")
        self.report.setText(state.settings.of(BakeSettings).report)
