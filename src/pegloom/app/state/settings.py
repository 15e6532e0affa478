"""What the cards' fields say: frozen records with defaults, one a card, looked up by their type.

A record belongs to the area that declares it; the state only carries it. Each has an id for the file of the user's own.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from enum import Enum
from types import MappingProxyType
from typing import Any, ClassVar, TypeVar, get_type_hints


class Setting:
    """Base of the records. `ID` names it in the user's file; `PASSING` are fields that are about this document only and
    are never kept as usual."""

    __slots__ = ()
    ID: ClassVar[str] = ""
    PASSING: ClassVar[frozenset[str]] = frozenset()


T = TypeVar("T", bound=Setting)


@dataclass(frozen=True, slots=True, eq=False)
class Settings:
    """Records by type.

    records : those that were changed; any other stands as its usual one.
    usual : what the user keeps as usual; the defaults where nothing is.
    """

    records: Mapping[type[Setting], Setting]
    usual: Mapping[type[Setting], Setting]

    def of(self, kind: type[T]) -> T:
        """The record of a kind as it stands."""
        found = self.records.get(kind)
        return found if isinstance(found, kind) else self.usual_of(kind)

    def usual_of(self, kind: type[T]) -> T:
        """What the user keeps as usual, else the defaults."""
        found = self.usual.get(kind)
        return found if isinstance(found, kind) else defaults_of(kind)

    def put(self, kind: type[Setting], /, **values: Any) -> Settings:
        """With some fields of a record changed."""
        now: Any = self.of(kind)
        return replace(self, records=MappingProxyType({**self.records, kind: replace(now, **values)}))

    def of_another_document(self) -> Settings:
        """Without what was about the one before."""
        records = {
            kind: replace(record, **{name: getattr(kind(), name) for name in kind.PASSING})  # type: ignore[type-var]
            for kind, record in self.records.items()
        }
        return replace(self, records=MappingProxyType(records))

    def with_usual(self, record: Setting) -> Settings:
        """With a record kept as the user's usual one."""
        return replace(self, usual=MappingProxyType({**self.usual, type(record): record}))


_DEFAULTS: dict[type[Setting], Setting] = {}


def defaults_of(kind: type[T]) -> T:
    """The record that ships; always the same one, so that who looks by identity sees no change."""
    found = _DEFAULTS.setdefault(kind, kind())
    assert isinstance(found, kind)
    return found


NO_SETTINGS = Settings(MappingProxyType({}), MappingProxyType({}))


def as_plain(record: Setting) -> dict[str, Any]:
    """The fields of a record as JSON holds them; enumerations by name."""
    passing = record.PASSING
    values = {f.name: getattr(record, f.name) for f in fields(record) if f.name not in passing}  # type: ignore[arg-type]
    return {name: value.name if isinstance(value, Enum) else value for name, value in values.items()}


def from_plain(kind: type[T], plain: object) -> T:
    """A record read back. A field that is missing, unknown or of another kind stands at its default."""
    result = kind()
    if not isinstance(plain, dict):
        return result
    hints = get_type_hints(kind)
    values: dict[str, Any] = {}
    for f in fields(result):  # type: ignore[arg-type]
        if f.name in plain and f.name not in kind.PASSING:
            ok, value = _read(hints[f.name], plain[f.name])
            if ok:
                values[f.name] = value
    return replace(result, **values)  # type: ignore[type-var]


def _read(hint: Any, value: object) -> tuple[bool, object]:
    options = getattr(hint, "__args__", None) or (hint,)
    for option in options:
        if option is type(None) and value is None:
            return True, None
        if isinstance(option, type) and issubclass(option, Enum) and isinstance(value, str):
            if value in option.__members__:
                return True, option[value]
        elif option is float and isinstance(value, (int, float)) and not isinstance(value, bool):
            number = float(value)
            return number == number and abs(number) < 1e12, number
        elif option in (int, str, bool) and type(value) is option:
            return True, value
    return False, None
