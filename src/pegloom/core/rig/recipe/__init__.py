"""Limb kits: the controls of each body plan."""

from pegloom.core.rig.recipe.choices import KitRig, KitSolver
from pegloom.core.rig.recipe.rig import build_rig

__all__ = ["KitRig", "KitSolver", "build_rig"]
