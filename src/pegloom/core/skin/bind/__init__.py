"""Ways to compute weights, one module a method."""

from enum import Enum


class BindMethod(Enum):
    """Binds by situation; the first is the default."""

    SEGMENT = "segment, then soften"
    ALONG_SKIN = "along the skin"
    THROUGH_BODY = "through the body"
    BY_REACH = "by reach"
    HARD = "hard"

    @property
    def says(self) -> str:
        """When to take it, for a person."""
        return {
            BindMethod.SEGMENT: "Settles which bone owns each vertex, then softens the borders: for bodies of every kind.",
            BindMethod.ALONG_SKIN: "Heat along the surface: long, soft blends on smooth bodies.",
            BindMethod.THROUGH_BODY: "By distance through the inside: for meshes of many shells.",
            BindMethod.BY_REACH: "By straight distance to the bones in sight: quick and short.",
            BindMethod.HARD: "Every vertex wholly to one joint: for things that do not bend.",
        }[self]


__all__ = ["BindMethod"]
