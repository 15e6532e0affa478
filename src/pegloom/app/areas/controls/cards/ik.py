"""IK by hand: on picked turners, on the whole body; what was added, and dropped again."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from pegloom.app.areas.controls.actions import drop_solver
from pegloom.app.areas.controls.editing import open_solver
from pegloom.app.areas.controls.settings import Ik, IkSettings
from pegloom.app.context import Context
from pegloom.app.state.state import State
from pegloom.app.widgets import action_button, button, clear, label
from pegloom.app.widgets.card import Card
from pegloom.app.widgets.fields import choice, whole
from pegloom.core.rig.use import controls_of
from pegloom.document.edits.rig.solvers import turners_of


class IkCard(Card):
    def __init__(self, c: Context) -> None:
        super().__init__(
            c, "IK by hand", "controls.ik",
            sentence="Pick the first turner of a chain, then its last with Shift. A limb may have several set-ups.", is_open=False,
        )  # fmt: skip
        self.which = choice(self, IkSettings, "kind", [(k.says, k) for k in Ik], name="controls.ik_kind")
        self.field("Kind", self.which)
        self.points = whole(self, IkSettings, "points", 3, 12, name="controls.ik_points")
        self.field("Curve of", self.points)
        q = c.actions.qactions
        self.row(action_button(q["controls.add_ik"], "Add IK"), action_button(q["controls.add_body"], "Whole body"))
        self.chosen = label("", "caption", wrap=True, name="controls.ik_chosen")
        self.body.addWidget(self.chosen)
        self.rows = QVBoxLayout()
        self.rows.setSpacing(2)
        self.body.addLayout(self.rows)

    def key(self, state: State) -> tuple[object, ...]:
        one = state.character
        return (one.rig if one is not None else None, state.selection.kind, state.selection.ids)

    def show_state(self, state: State) -> None:
        one = state.character
        rig = one.rig if one is not None else None
        self.points.setEnabled(state.settings.of(IkSettings).kind is Ik.CURVE)
        clear(self.rows)
        own = {s.id for s in one.rig_changes.own_solvers} if one is not None else set()
        some = [s for s in rig.solvers if s.id in own] if rig is not None else []
        lead = state.selection.lead if state.selection.kind == "control" else ""
        built = [s for s in rig.solvers if s.id not in own and (lead in s.fk or lead in controls_of(s))] if rig is not None else []
        for solver in built:
            line = QHBoxLayout()
            line.addWidget(label(solver.name or solver.id, "soft"), 1)
            line.addWidget(button("Open", f"controls.open.{solver.id}", partial(open_solver, self.c, solver.id), role="plain"))
            self.rows.addLayout(line)
        for solver in some:
            line = QHBoxLayout()
            line.addWidget(label(solver.name or solver.id, "soft"), 1)
            line.addWidget(button("Open", f"controls.open.{solver.id}", partial(open_solver, self.c, solver.id), role="plain"))
            line.addWidget(button("Drop", f"controls.drop.{solver.id}", partial(drop_solver, self.c, solver.id), role="plain"))
            self.rows.addLayout(line)
        self.note.setText(f"{len(some)} added" if some else "none")
        turners = set(turners_of(rig).values()) if rig is not None else set()
        picked = [i for i in state.selection.ids if i in turners] if state.selection.kind == "control" else []
        if rig is None or len(picked) < 2:
            self.chosen.setText("Pick two turners in the view: rings on joints.")
        else:
            self.chosen.setText(f"{rig.control(picked[0]).name} to {rig.control(picked[-1]).name}")
