"""Save: the project keeps everything, and numbered versions of it beside it."""

from __future__ import annotations

from pegloom.app.areas.handover.settings import VersionSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, label
from pegloom.app.widgets.card import Card


class SaveCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Save", "handover.save", sentence="The project keeps everything: recipe, weights, controls, keys. A version is kept beside it, numbered."
        )
        q = c.actions.qactions
        self.row(action_button(q["file.save"]), action_button(q["file.save_as"]))
        self.row(action_button(q["handover.keep_version"]), action_button(q["handover.versions"], "Versions…"))
        self.row(action_button(q["file.gather"], "Copy with pictures"), action_button(q["file.show_folder"], "Show in folder"))
        self.told = label("", "soft", wrap=True, name="handover.versions")
        self.body.addWidget(self.told)

    def key(self, state: State) -> tuple[object, ...]:
        return (state.settings.of(VersionSettings).report,)

    def show_state(self, state: State) -> None:
        report = state.settings.of(VersionSettings).report
        self.told.setVisible(bool(report))
        self.told.setText(report)
