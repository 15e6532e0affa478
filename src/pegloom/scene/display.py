"""How surfaces are shown."""

from enum import Enum


class Display(Enum):
    CLAY = "clay"
    TEXTURED = "textured"
    WIRE = "wire"
    SEE_THROUGH = "see-through"
