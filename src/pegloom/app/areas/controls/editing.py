"""Which constraint, IK or coupling the pane beside the view is for, and what it does to it."""

from __future__ import annotations

from pegloom.app.areas.controls.settings import EditorSettings, Work
from pegloom.app.areas.controls.settings_made import CouplingSettings
from pegloom.app.areas.controls.working import working
from pegloom.app.context import Context
from pegloom.app.state.state import JOINT, State
from pegloom.core.errors import EditError
from pegloom.core.rig.constraints import Constraint
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.refs import NodeKind
from pegloom.core.rig.solvers import Solver
from pegloom.core.rig.use import controls_of
from pegloom.document import edits


def _rig(state: State) -> ControlRig | None:
    return state.character.rig if state.character is not None else None


def opened_hold(state: State) -> Constraint | None:
    """The constraint in the pane."""
    rig, told = _rig(state), state.settings.of(EditorSettings).hold
    return next((c for c in rig.constraints if c.id == told), None) if rig is not None and told else None


def opened_solver(state: State) -> Solver | None:
    """The IK in the pane."""
    rig, told = _rig(state), state.settings.of(EditorSettings).solver
    return next((s for s in rig.solvers if s.id == told), None) if rig is not None and told else None


def hold_wanted(state: State) -> bool:
    return working(Work.BUILD)(state) and opened_hold(state) is not None


def solver_wanted(state: State) -> bool:
    return working(Work.BUILD)(state) and opened_solver(state) is not None


def open_hold(c: Context, hold: str) -> None:
    """Show a constraint in the pane, which stays on it; "" closes it."""
    c.store.put_setting(CouplingSettings, open="")
    c.store.put_setting(EditorSettings, hold=hold, solver="", more="", joint="")


def open_solver(c: Context, solver: str) -> None:
    """Show IK in the pane, which stays on it; "" closes it."""
    c.store.put_setting(CouplingSettings, open="")
    c.store.put_setting(EditorSettings, hold="", solver=solver, more="", joint="")


def holds_of(state: State) -> list[Constraint]:
    """Constraints of what is picked, spaces last."""
    rig, picked = _rig(state), state.selection
    kinds = {"control": NodeKind.BASE, "joint": NodeKind.JOINT}
    if rig is None or picked.kind not in kinds:
        return []
    found = [c for c in rig.constraints if c.held.kind is kinds[picked.kind] and c.held.id == picked.lead]
    return sorted(found, key=lambda c: c.spaces)


def solvers_of(state: State) -> list[Solver]:
    """IK the picked control is of: as its goal or pole before as one of its turners."""
    rig, lead = _rig(state), state.selection.lead
    if rig is None or state.selection.kind != "control":
        return []
    found = [s for s in rig.solvers if lead in s.fk or lead in controls_of(s)]
    return sorted(found, key=lambda s: lead in s.fk)


def edit_hold(c: Context) -> None:
    """The pane for what the picked control or joint follows; pressed again the next one."""
    some = [h.id for h in holds_of(c.state)]
    if not some:
        raise EditError("What is picked follows nothing yet: let it follow something in the card Constraints")
    now = c.state.settings.of(EditorSettings).hold
    open_hold(c, some[(some.index(now) + 1) % len(some)] if now in some else some[0])


def edit_solver(c: Context) -> None:
    """The pane for the IK the picked control is of; pressed again the next one."""
    some = [s.id for s in solvers_of(c.state)]
    if not some:
        raise EditError("What is picked belongs to no IK; add some in the card IK by hand")
    now = c.state.settings.of(EditorSettings).solver
    open_solver(c, some[(some.index(now) + 1) % len(some)] if now in some else some[0])


def add_to_hold(c: Context) -> None:
    """What the pane names is followed, too: by its share, nothing at first."""
    told, one = c.state.settings.of(EditorSettings), opened_hold(c.state)
    if one is None:
        return
    if not told.more:
        raise EditError("Fill in what is followed, too: press the mark beside the field, then click it in the view")
    if not told.more.startswith(JOINT) and told.more == one.held.id:
        raise EditError("It cannot follow itself; pick something else")

    def then(_: object) -> None:
        c.store.put_setting(EditorSettings, more="")
        c.say("It follows that, too, by nothing yet: draw its share")

    c.try_edit(f"{one.name} follows one more", lambda d: edits.add_target(d, one.id, told.more), then)
