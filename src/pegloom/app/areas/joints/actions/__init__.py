"""What can be done in Joints: pegs, limb kits, single joints, axes, names, the rest."""

from pegloom.app.actions.action import Action
from pegloom.app.areas.joints.actions import axes, bodies, joints, kits, pegs, rest

ACTIONS: tuple[Action, ...] = (*pegs.ACTIONS, *kits.ACTIONS, *joints.ACTIONS, *axes.ACTIONS, *rest.ACTIONS, *bodies.ACTIONS)

__all__ = ["ACTIONS"]
