"""Couplings: what drives the picked control, and what it drives; a new one from a pick. Each opens in the pane below."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout

from pegloom.app.areas.controls.made import couple, drop_coupling, open_coupling
from pegloom.app.areas.controls.settings_made import CouplingSettings
from pegloom.app.context import Context
from pegloom.app.state.state import JOINT, State
from pegloom.app.widgets import button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, fill, filled_by_pick, narrow
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.couplings import Coupling, What

MOST_ROWS = 12


class CouplingCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "Couplings", "controls.couplings", sentence="Let a channel of the picked control be driven by another, or by where something stands.", is_open=False
        )
        self.stays_on("control")
        self.drives = choice(self, CouplingSettings, "drives", (), name="controls.coupling_drives")
        self.field("Drives", self.drives)
        self.source = choice(self, CouplingSettings, "source", (), name="controls.coupling_source")
        self.field("Reads", filled_by_pick(self, self.source, CouplingSettings, "source", ("control", "joint"), "Reads"))
        self.what = choice(self, CouplingSettings, "what", [("its channel", None), *((f"its {w.value}", w) for w in What)], name="controls.coupling_what")
        self.field("What of it", self.what)
        self.channel = QComboBox()
        narrow(self.channel)
        self.channel.setObjectName("controls.coupling_channel")
        self.channel.activated.connect(lambda _: c.store.put_setting(CouplingSettings, source_channel=self.channel.currentData() or ""))
        self.field("Which", self.channel)
        self.body.addWidget(button("Couple", "controls.couple", lambda: c.attempt(lambda: couple(c, self.subject_id(c.state)))))
        self.rows = QVBoxLayout()
        self.rows.setSpacing(2)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.rig if one is not None else None, self.subject_id(state), state.settings.of(CouplingSettings))

    def show_state(self, state: State) -> None:
        one, lead = state.character, self.subject_id(state)
        rig = one.rig if one is not None else None
        told = state.settings.of(CouplingSettings)
        self.note.setText(rig.control(lead).name if rig is not None and lead else "select a control")
        clear(self.rows)
        if rig is None or one is None or one.skeleton is None:
            return
        own = [(x.title, x.key) for x in rig.control(lead).channels] if lead else []
        fill(self.drives, [("choose one", ""), *own])
        self.drives.setCurrentIndex(max(self.drives.findData(told.drives), 0))
        joints = [(f"{j.name} (joint)", f"{JOINT}{j.id}") for j in one.skeleton.joints]
        fill(self.source, [("pick one", ""), *((h.name, h.id) for h in rig.handles), *joints])
        self.source.setCurrentIndex(max(self.source.findData(told.source), 0))
        which: list[tuple[str, str]] = [("about or along x", "x"), ("about or along y", "y"), ("about or along z", "z")]
        if told.what is None:
            which = [(x.title, x.key) for x in rig.control(told.source).channels] if told.source in rig.index else []
        fill(self.channel, [("choose one", ""), *which])
        self.channel.setCurrentIndex(max(self.channel.findData(told.source_channel), 0))
        self.channel.setEnabled(told.what is not What.DISTANCE)
        some = related(rig, lead)
        if not lead:
            self.rows.addWidget(label(f"{len(some)} in all; pick a control to see its own", "caption", wrap=True))
            some = [x for x in some if x.id.startswith("couple.")]
        for coupling in some[:MOST_ROWS]:
            self._row(coupling, lead)
        if len(some) > MOST_ROWS:
            self.rows.addWidget(label(f"and {len(some) - MOST_ROWS} more", "caption"))

    def _row(self, coupling: Coupling, lead: str) -> None:
        line = QHBoxLayout()
        way = "drives this" if coupling.drives.owner == lead else "reads this" if lead else ""
        line.addWidget(label(f"{coupling.name}{f'  ({way})' if way else ''}", "caption", wrap=True), 1)
        line.addWidget(button("Open", f"controls.open.{coupling.id}", partial(open_coupling, self.c, coupling.id), role="plain"))
        line.addWidget(button("Drop", f"controls.drop.{coupling.id}", partial(drop_coupling, self.c, coupling.id), role="plain"))
        self.rows.addLayout(line)


def related(rig: ControlRig, control: str) -> list[Coupling]:
    """Couplings that drive a control, or read it; all where none is told."""
    if not control:
        return list(rig.couplings)
    driving = [c for c in rig.couplings if c.drives.owner == control]
    reading = [c for c in rig.couplings if c not in driving and any(r.channel is not None and r.channel.owner == control for r in c.readings)]
    return driving + reading
