"""What an action is: data, and a function of the context."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pegloom.app.context import Context
from pegloom.app.state.state import State


@dataclass(frozen=True, slots=True)
class Need:
    """What must hold before an action can run.

    says : what is missing, for a person; one wording wherever it is asked for.
    offer : id of an action that would bring it about.
    """

    id: str
    says: str
    holds: Callable[[State], bool]
    offer: str = ""


@dataclass(frozen=True, slots=True)
class Action:
    """One thing the user can do.

    id : dotted and unique.
    needs : in order; the first that does not hold speaks.
    on : for what is on or off.
    """

    id: str
    title: str
    menu: str
    tip: str
    run: Callable[[Context], object]
    key: str = ""
    needs: tuple[Need, ...] = ()
    on: Callable[[State], bool] | None = None

    def missing(self, state: State) -> Need | None:
        """The first need that does not hold; None where it can run."""
        return next((need for need in self.needs if not need.holds(state)), None)
