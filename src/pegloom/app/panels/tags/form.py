"""What a tag says of one kind of thing."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pegloom.app.context import Context
from pegloom.app.state.state import State

if TYPE_CHECKING:
    from pegloom.app.panels.tag import Tag


class Form:
    """Fills a tag with fields (`build`) and keeps them current (`show`); what is changed is the tag's own subject, whatever
    else is picked meanwhile."""

    def __init__(self, tag: Tag, c: Context, subject: str) -> None:
        self.tag, self.c, self.subject = tag, c, subject

    @staticmethod
    def there(state: State, subject: str) -> bool:
        """Whether there is such a thing."""
        raise NotImplementedError

    def build(self) -> None:
        raise NotImplementedError

    def show(self) -> None:
        raise NotImplementedError
