"""What can be done in Weights: bind, refine, carry across, keep versions, relax, try."""

from pegloom.app.actions.action import Action
from pegloom.app.areas.weights.actions import across, bind, flesh, influences, relax, trials, vertices, weaves

ACTIONS: tuple[Action, ...] = (
    *bind.ACTIONS, *vertices.ACTIONS, *influences.ACTIONS, *across.ACTIONS, *weaves.ACTIONS, *relax.ACTIONS, *flesh.ACTIONS, *trials.ACTIONS,
)  # fmt: skip

__all__ = ["ACTIONS"]
