"""Undo and redo: a list of documents with the step that led to each, bounded by bytes."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from pegloom.core.rig.pose import Pose
from pegloom.document.model import Document

MOST_BYTES = 800 << 20
MOST_STEPS = 400


@dataclasses.dataclass(frozen=True, slots=True)
class Draft:
    """What was posed over a clip and is not keyed yet; laid over every frame of it.

    clip : its id.
    pose : values of the channels that were moved.
    """

    clip: str
    pose: Pose


@dataclasses.dataclass(frozen=True)
class Step:
    """One step.

    name : of what made it.
    document : as it left it.
    own_bytes : what the document holds that the one before does not.
    draft : of a pose; kept with the step, but no part of the document.
    """

    name: str
    document: Document
    own_bytes: int
    draft: Draft | None = None


class History:
    """Where the present document stands among those before and after it."""

    def __init__(self, document: Document) -> None:
        self.steps = [Step("opened", document, 0)]
        self.at = 0

    @property
    def present(self) -> Document:
        return self.steps[self.at].document

    @property
    def draft(self) -> Draft | None:
        return self.steps[self.at].draft

    @property
    def undo_name(self) -> str | None:
        return self.steps[self.at].name if self.at > 0 else None

    @property
    def redo_name(self) -> str | None:
        return self.steps[self.at + 1].name if self.at + 1 < len(self.steps) else None

    def commit(self, name: str, document: Document, draft: Draft | None = None) -> None:
        """A new step after the present one; what was undone before is dropped."""
        before = {id(a) for a in _arrays(self.present, document)}
        own = sum(a.nbytes for a in _arrays(document, self.present) if id(a) not in before)
        self.steps = [*self.steps[: self.at + 1], Step(name, document, own, draft)]
        while len(self.steps) > 2 and (
            len(self.steps) > MOST_STEPS or sum(step.own_bytes for step in self.steps) > MOST_BYTES
        ):
            self.steps.pop(0)
        self.at = len(self.steps) - 1

    def undo(self) -> Document:
        """One step back, if there is one."""
        self.at = max(self.at - 1, 0)
        return self.present

    def redo(self) -> Document:
        """One step forward, if there is one."""
        self.at = min(self.at + 1, len(self.steps) - 1)
        return self.present

    def go_to(self, index: int) -> Document:
        """Any step of the list."""
        self.at = min(max(index, 0), len(self.steps) - 1)
        return self.present


def _arrays(value: Any, other: Any) -> Iterator[np.ndarray]:
    """Arrays of `value` that are not at the same place in `other`; what both share is not walked."""
    if value is other:
        return
    if isinstance(value, np.ndarray):
        yield value
    elif isinstance(value, Mapping):
        counterpart = other if isinstance(other, Mapping) else {}
        for key, item in value.items():
            yield from _arrays(item, counterpart.get(key))
    elif isinstance(value, tuple):
        if value and isinstance(value[0], (str, int, float)):
            return
        beside = other if isinstance(other, tuple) else ()
        for number, item in enumerate(value):
            yield from _arrays(item, beside[number] if number < len(beside) else None)
    elif dataclasses.is_dataclass(value) and not isinstance(value, type):
        for field in dataclasses.fields(value):
            yield from _arrays(getattr(value, field.name), getattr(other, field.name, None))
