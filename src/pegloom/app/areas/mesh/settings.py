"""What the Mesh area's cards say."""

from __future__ import annotations

from dataclasses import dataclass

from pegloom.app.state.settings import Setting
from pegloom.core.geometry.standing import Direction


@dataclass(frozen=True, slots=True)
class StandSettings(Setting):
    """How to stand a figure up.

    up, facing : directions of the file; None for what the shape says.
    height : metres; 0 for a plausible one.
    """

    ID = "mesh.stand"
    PASSING = frozenset({"height"})

    up: Direction | None = None
    facing: Direction | None = None
    height: float = 0.0


@dataclass(frozen=True, slots=True)
class MaterialSettings(Setting):
    """slot : the material the card shows; -1 for all of them."""

    ID = "mesh.material"
    PASSING = frozenset({"slot"})

    slot: int = 0


@dataclass(frozen=True, slots=True)
class ReportSettings(Setting):
    """report : what bringing in said, line by line.
    of : the parts it is about; shown as long as they stand.
    """

    ID = "mesh.report"
    PASSING = frozenset({"report", "of"})

    report: tuple[str, ...] = ()
    of: object = None
