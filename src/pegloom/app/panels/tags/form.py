"""What a tag says of one kind of thing."""

from __future__ import annotations

from collections.abc import Hashable
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

    @property
    def all(self) -> tuple[str, ...]:
        """What a field acts on: all that is picked, the tag's subject the last of them."""
        ids = self.tag.subject.ids
        known = tuple(i for i in ids if self.there(self.c.state, i))
        return known if self.subject in known else (self.subject,)

    @staticmethod
    def there(state: State, subject: str) -> bool:
        """Whether there is such a thing."""
        raise NotImplementedError

    @staticmethod
    def made_of(c: Context, subject: str) -> Hashable:
        """What its fields are made from: with something else they are made anew."""
        return ()

    def build(self) -> None:
        raise NotImplementedError

    def show(self) -> None:
        raise NotImplementedError
