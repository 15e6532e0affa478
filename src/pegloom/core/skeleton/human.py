"""The human pattern's own names, for its finder."""

from __future__ import annotations

from pegloom.core.skeleton.kits import FINGERS, finger_names

PATTERN = "human"
CENTRE_PEGS = ("hips", "waist", "chest", "neck", "head", "crown", "chin", "crotch")
SIDE_PEGS = ("clavicle", "shoulder", "elbow", "wrist", "palm", "hip", "knee", "ankle", "ball", "toe", "heel")


def peg_names(fingers: int) -> tuple[str, ...]:
    """All pegs of the pattern; sided ones as l_ and r_."""
    sided = [*SIDE_PEGS]
    for finger in finger_names(fingers):
        sided += [f"{finger}_base", f"{finger}_tip"]
    return CENTRE_PEGS + tuple(f"{side}_{name}" for name in sided for side in ("l", "r"))


__all__ = ["CENTRE_PEGS", "FINGERS", "PATTERN", "SIDE_PEGS", "finger_names", "peg_names"]
