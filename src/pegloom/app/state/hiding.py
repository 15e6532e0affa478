"""What is hidden in the view: parts, faces of parts, controls. It is a thing of the view alone and changes no character."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

from pegloom.core.arrays import BoolArray
from pegloom.core.geometry.mend import keep_faces
from pegloom.core.memo import of_the_latest
from pegloom.document.model import Part

HIDDEN_PART, HIDDEN_CONTROL = "part:", "control:"
NO_FACES: Mapping[str, BoolArray] = MappingProxyType({})


def hidden_part(part_id: str) -> str:
    """What a part is called among the things that are hidden."""
    return HIDDEN_PART + part_id


def hidden_control(control_id: str) -> str:
    """What a control is called among the things that are hidden."""
    return HIDDEN_CONTROL + control_id


@of_the_latest(16)
def without_faces(part: Part, mask: BoolArray) -> Part:
    """The part as it is shown without some of its faces (f,): its vertices are all there, and numbered as they were."""
    return replace(part, mesh=keep_faces(part.mesh, ~mask))
