"""Values held against the types their records declare, so that a file's wrong field is told by its path.

The checks are made from the type hints once: plain values, tuples, mappings, unions, enums, records, arrays by kind.
"""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Callable, Mapping
from enum import Enum
from functools import cache
from typing import Any

import numpy as np

Check = Callable[[Any], str]
"""check(value) -> "" where it fits, else what is wrong and where in it: `[3]: a number was expected, found text`."""

SPOKEN = {str: "text", bool: "yes or no", int: "a whole number", float: "a number", bytes: "bytes", type(None): "nothing"}
KINDS = {"f": "numbers", "iu": "whole numbers", "b": "yes and no"}


def spoken(value: Any) -> str:
    """What a value is, for a person."""
    if isinstance(value, np.ndarray):
        return f"an array of {value.dtype}"
    if isinstance(value, Mapping):
        return "a mapping"
    return SPOKEN.get(type(value), "a list" if isinstance(value, tuple) else f"a {type(value).__name__}")


def wrong_field(record: Any) -> str:
    """What is wrong with a record's fields, or "": `.size: a number was expected, found text`."""
    kind: Any = type(record)
    for name, check in _checks(kind).items():
        wrong = check(getattr(record, name))
        if wrong:
            return f".{name}{wrong}"
    return ""


@cache
def _checks(kind: Any) -> Mapping[str, Check]:
    hints = typing.get_type_hints(kind)
    return {f.name: _check(hints[f.name]) for f in dataclasses.fields(kind)}


def _expected(what: str) -> Callable[[Any], str]:
    return lambda value: f": {what} was expected, found {spoken(value)}"


@cache
def _check(hint: Any) -> Check:
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if hint is Any or hint is object:
        return lambda value: ""
    if origin in (typing.Union, types.UnionType):
        return _union([_check(a) for a in arguments])
    if origin is tuple:
        return _tuple(arguments)
    if origin is not None and isinstance(origin, type) and issubclass(origin, Mapping):
        return _mapping(*(_check(a) for a in arguments))
    if origin is np.ndarray:
        return _array(arguments)
    return _plain(hint)


def _plain(hint: Any) -> Check:
    no = _expected(SPOKEN.get(hint, f"a {getattr(hint, '__name__', hint)}"))
    if hint is float:
        return lambda v: "" if isinstance(v, (int, float)) and not isinstance(v, bool) else no(v)
    if hint is int:
        return lambda v: "" if isinstance(v, int) and not isinstance(v, bool) else no(v)
    if isinstance(hint, type) and issubclass(hint, Enum):
        no = _expected(f"one of {', '.join(str(e.value) for e in hint)}")
    return lambda v: "" if isinstance(v, hint) else no(v)


def _union(checks: list[Check]) -> Check:
    def check(value: Any) -> str:
        said = [c(value) for c in checks]
        return "" if "" in said else max(said, key=lambda s: s.find(":"))

    return check


def _tuple(arguments: tuple[Any, ...]) -> Check:
    if len(arguments) == 2 and arguments[1] is Ellipsis:
        one, many = _check(arguments[0]), True
        each: list[Check] = []
    else:
        each, many = [_check(a) for a in arguments], False
        one = each[0] if each else (lambda value: "")

    def check(value: Any) -> str:
        if not isinstance(value, tuple):
            return f": a list was expected, found {spoken(value)}"
        if not many and len(value) != len(each):
            return f": {len(each)} values were expected, found {len(value)}"
        for i, v in enumerate(value):
            wrong = (one if many else each[i])(v)
            if wrong:
                return f"[{i}]{wrong}"
        return ""

    return check


def _mapping(key: Check, held: Check) -> Check:
    def check(value: Any) -> str:
        if not isinstance(value, Mapping):
            return f": a mapping was expected, found {spoken(value)}"
        for k, v in value.items():
            wrong = key(k) or held(v)
            if wrong:
                return f"[{str(k)[:40]}]{wrong}"
        return ""

    return check


def _array(arguments: tuple[Any, ...]) -> Check:
    told = str(arguments)
    kind = "b" if "bool" in told else "iu" if "int" in told else "f" if "float" in told else "biuf"

    def check(value: Any) -> str:
        if isinstance(value, np.ndarray) and value.dtype.kind in kind:
            return ""
        return f": an array of {KINDS.get(kind, 'numbers')} was expected, found {spoken(value)}"

    return check
