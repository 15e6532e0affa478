"""The end of a drag of a peg or a joint."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QTimer

from pegloom.app.jobs import Job
from pegloom.app.session import Session
from pegloom.document import edits


def keep_placed(session: Session, base: object, name: str, edit: Callable[[object], object]) -> None:
    """The end of a drag that showed drafts: the edit itself, once. With sampled clips to carry along it is a job, and the
    draft stands until it lands."""
    if not edits.carries_much(base) or session.jobs.busy:
        if not session.try_edit(name, edit):
            session.drop_preview()
        return

    def done(result: object) -> None:
        if session.history.present is base:
            session.commit(name, result)
        else:
            session.say(f"{name} is left: something else was changed meanwhile", error=True)

    def ended() -> None:
        session.jobs.finished.disconnect(ended)
        # A job that was cancelled or failed leaves what was there; by then a good one has landed.
        QTimer.singleShot(0, lambda: session.drop_preview() if session.history.present is base else None)

    session.jobs.finished.connect(ended)
    session.jobs.start(Job(name, lambda progress: edit(base), done))
