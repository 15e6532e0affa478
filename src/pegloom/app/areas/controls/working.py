"""What the Controls area is for now: building, posing, the face."""

from __future__ import annotations

from collections.abc import Callable

from pegloom.app.areas.controls.settings import Work, WorkSettings
from pegloom.app.state.state import State


def working(what: Work) -> Callable[[State], bool]:
    """Whether the area is for that now; without controls it is for building."""

    def there(state: State) -> bool:
        rig = state.character.rig if state.character is not None else None
        if rig is None:
            return what is Work.BUILD
        chosen = state.settings.of(WorkSettings).work
        # In the Animator's view nothing is built.
        return (Work.POSE if state.viewing.animators and chosen is Work.BUILD else chosen) is what

    return there
