"""Ways to compute weights, one module a method."""

from enum import Enum


class BindMethod(Enum):
    """Binds by situation."""

    ALONG_SKIN = "along the skin"
    HARD = "hard"


__all__ = ["BindMethod"]
