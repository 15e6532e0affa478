"""Edits of weights around the joints that are locked."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pegloom.app.context import Context
from pegloom.document import edits
from pegloom.document.model import Document


def around_locks(c: Context, edit: Callable[..., Any]) -> Callable[..., Any]:
    """An edit of weights under which locked joints keep what they hold, whatever it does."""
    locked = c.state.tooling.locked

    def run(document: Document, *more: Any) -> Any:
        result = edit(document, *more)
        if isinstance(result, tuple):
            return (edits.with_locks_held(document, result[0], locked), *result[1:])
        return edits.with_locks_held(document, result, locked)

    return run if locked else edit
