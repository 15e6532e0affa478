"""Weights fitted to a body that behaves like flesh."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import WITH_SKIN
from pegloom.app.areas.weights.settings import FleshSettings, WeaveSettings
from pegloom.app.context import Context
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.edits.weaves import kept_as
from pegloom.document.model import Document


def fit(c: Context) -> None:
    chosen, was = c.state.settings.of(FleshSettings), c.character

    def edit(document: Document, progress: Progress) -> object:
        return edits.fit_to_flesh(document, influences=chosen.influences or None, worse=0.01 * chosen.worse, progress=progress)

    def then(reports: Any) -> None:
        said = "\n".join(f"{r.part}: {r.says}" for r in reports)
        c.store.put_setting(FleshSettings, report=said)
        before = kept_as(replace(was, weaves=c.character.weaves))
        if before is not None:  # what the seam compares with
            c.store.put_setting(WeaveSettings, chosen=before.id)
        c.say(said.splitlines()[0])

    c.job("Fit to flesh", around_locks(c, edit), title="Fitting the weights to flesh", then=then)


ACTIONS = (
    Action("weights.fit_flesh", "Fit to flesh", "Weights", "Bend an elastic body through the range test and fit the weights to it; kept only where every trial is as good", fit, needs=WITH_SKIN),
)  # fmt: skip
