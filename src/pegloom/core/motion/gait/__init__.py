"""Gaits from numbers: footfalls, the way over the ground, a body that goes by them."""

from pegloom.core.motion.gait.making import Made, make_gait
from pegloom.core.motion.gait.numbers import PRESETS, Gait, gait_of
from pegloom.core.motion.gait.path import Way

__all__ = ["PRESETS", "Gait", "Made", "Way", "gait_of", "make_gait"]
