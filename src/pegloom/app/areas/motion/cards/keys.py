"""Keys: written, removed; what was posed over the clip and is no key yet."""

from __future__ import annotations

from pegloom.app.areas.motion.keying import KeySettings, between, try_between
from pegloom.app.context import Context
from pegloom.app.state.state import HandSettings, State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import number, tick
from pegloom.app.widgets.sliders import SliderRow


class KeysCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Keys", "motion.keys", sentence="Pose controls, then set keys. Keys hold all free channels of a control."
        )
        q = c.actions.qactions
        self.row(
            action_button(q["keys.write"], "Set key", role="main"), action_button(q["keys.write_all"], "Set all")
        )
        self.row(action_button(q["keys.remove"], "Remove key"), action_button(q["pose.rest"], "To rest"))
        self.row(action_button(q["keys.curves"], "Curves"), action_button(q["keys.trails"], "Trails"), action_button(q["keys.ghosts"], "Ghosts"))
        self.between = SliderRow("keys.between", 0.0, 1.0, lambda v: f"{v:.0%}", self._between, lambda v: between(c, v))
        self.between.set(0.5)
        self.field("Between", self.between)
        self.row(action_button(q["keys.pick_controls"], "Pick the controls'"), action_button(q["keys.pick_here"], "Pick here"))
        self.row(action_button(q["keys.copy_here"], "Copy to here"), action_button(q["keys.snap"], "Onto frames"))
        self.body.addWidget(tick(self, KeySettings, "snap", "Moved keys stand on frames"))
        self.tolerance = number(self, KeySettings, "tolerance", 0.001, 90.0, name="keys.tolerance", decimals=3, step=0.1)
        self.tolerance.setToolTip("Degrees, or centimetres, that reduced keys may be off")
        self.field("Tolerance", self.tolerance)
        self.row(action_button(q["keys.reduce"], "Reduce keys"), action_button(q["keys.drop"], "Remove picked"))
        self.body.addWidget(tick(self, HandSettings, "auto_key", "Auto-key: every change sets a key", name="motion.auto"))
        self.posed = label("", "caption", wrap=True, name="motion.posed")
        self.body.addWidget(self.posed)

    def _between(self, share: float) -> None:
        """Under the mouse it is shown and becomes a step when let go; by keys each press is one."""
        (try_between if self.between.slider.isSliderDown() else between)(self.c, share)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.clip, state.draft_pose)

    def show_state(self, state: State) -> None:
        clip = state.clip
        self.note.setText(f"{len(clip.key_times)} key times" if clip is not None else "no clip shown")
        posed = state.draft_pose is not None
        self.posed.setText("Something is posed over the clip and not keyed: the bar in the view says what may become of it.")
        self.posed.setVisible(posed)
