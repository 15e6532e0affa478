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


class Detail(Enum):
    """How finely the inside of the body is looked into; what is thin and near needs more."""

    COARSE = "coarse"
    USUAL = "usual"
    FINE = "fine"
    FINEST = "finest"

    @property
    def factor(self) -> float:
        """On the cells along a side."""
        return {Detail.COARSE: 0.6, Detail.USUAL: 1.0, Detail.FINE: 1.6, Detail.FINEST: 2.4}[self]


THROUGH_THE_INSIDE = (BindMethod.SEGMENT, BindMethod.THROUGH_BODY, BindMethod.BY_REACH)
"""Methods that look into the solid."""
PACE = {
    BindMethod.SEGMENT: 3.5e-6, BindMethod.THROUGH_BODY: 3e-6, BindMethod.BY_REACH: 3e-6, BindMethod.ALONG_SKIN: 8e-7,
    BindMethod.HARD: 1e-6,
}  # fmt: skip
"""Seconds for a vertex and a joint, as measured on two cores."""
FILLING = 0.5
"""Seconds to fill the usual detail's cells."""


def likely_seconds(method: BindMethod, vertices: int, joints: int, detail: Detail = Detail.USUAL) -> float:
    """About how long a bind takes on the machine it was measured on."""
    inside = FILLING * detail.factor**3 if method in THROUGH_THE_INSIDE else 0.0
    return PACE[method] * vertices * joints + inside


__all__ = ["THROUGH_THE_INSIDE", "BindMethod", "Detail", "likely_seconds"]
