"""Records to the file's JSON and back, by the types their fields declare.

The coders are made from the type hints once. A record is an object of its fields; one of several that may stand in a
place says which by "kind" (see TAGGED). An enum is its value, bytes {"blob": number}, an array {"array": number} or,
where it is short, a list; a mapping from names an object, from anything else a list of pairs; a set a sorted list. A
field that is missing takes its default; one that is not known, and any value of another type, is an error that names
its path: `characters[0].rig.controls[3].size`.
"""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Callable, Mapping
from enum import Enum
from functools import cache
from types import MappingProxyType
from typing import Any, Protocol

import numpy as np

from pegloom.core.errors import PegLoomError
from pegloom.core.rig.pose import JointPose, Pose
from pegloom.core.rig.solvers import BendIk, BodyIk, ChainIk, LimbIk, SplineIk
from pegloom.files.project.checking import out_of_rule
from pegloom.files.raw import reason

TAGGED: Mapping[str, type] = MappingProxyType({
    "controls": Pose, "joints": JointPose, "limb": LimbIk, "hock": BendIk, "chain": ChainIk, "curve": SplineIk, "body": BodyIk,
})
"""Words of the file for records of which several kinds may stand in one place, now or later."""
TAGS = {record: tag for tag, record in TAGGED.items()}
SHORT = 256
"""Numbers an array may have to stand in the JSON itself: thousands of curves need no file each."""
SPOKEN = {str: "text", bool: "yes or no", int: "a whole number", float: "a number", dict: "an object", list: "a list",
          type(None): "nothing"}  # fmt: skip


class Stores(Protocol):
    """Where arrays and bytes lie, and how an error is made."""

    def array(self, number: Any, where: str) -> np.ndarray: ...
    def blob(self, number: Any, where: str) -> bytes: ...
    def fail(self, what: str, where: str = "") -> Exception: ...


class Sinks(Protocol):
    """Where arrays and bytes go; both give the number they lie under."""

    def keep_array(self, value: np.ndarray) -> int: ...
    def keep_blob(self, value: bytes) -> int: ...


Decode = Callable[[Any, str, Stores], Any]
Encode = Callable[[Any, Sinks], Any]


def decode(hint: Any, value: Any, where: str, stores: Stores) -> Any:
    """What a value of the file's JSON stands for. Raises what `stores.fail` makes, with the path."""
    return _decoder(hint)(value, where, stores)


def encode(hint: Any, value: Any, sinks: Sinks) -> Any:
    """A value as the file's JSON."""
    return _encoder(hint)(value, sinks)


@cache
def fields_of(record: Any) -> Mapping[str, Any]:
    """Hints of a record's fields by name."""
    hints = typing.get_type_hints(record)
    return MappingProxyType({f.name: hints[f.name] for f in dataclasses.fields(record)})


def _wrong(expected: str, value: Any, where: str, stores: Stores) -> Exception:
    return stores.fail(f"{expected} was expected, found {SPOKEN.get(type(value), str(type(value).__name__))}", where)


@cache
def _decoder(hint: Any) -> Decode:
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return _union(arguments)
    if origin is np.ndarray or hint is np.ndarray:
        return _array(arguments)
    if origin is tuple:
        return _tuple(arguments)
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return _mapping(*arguments)
    if origin is frozenset:
        return _set(arguments[0])
    if dataclasses.is_dataclass(hint):
        return _record(hint)
    if isinstance(hint, type) and issubclass(hint, tuple):
        inner = _tuple(tuple(typing.get_type_hints(hint).values()))
        return lambda value, where, stores: hint(*inner(value, where, stores))
    if isinstance(hint, type) and issubclass(hint, Enum):
        return _enum(hint)
    return _plain(hint)


def _plain(hint: Any) -> Decode:
    def plain(value: Any, where: str, stores: Stores) -> Any:
        if hint is float and type(value) is int:
            if abs(value) > 2**53:
                raise stores.fail("a number of usable size was expected", where)
            return float(value)
        if type(value) is not hint:
            raise _wrong(SPOKEN.get(hint, str(hint)), value, where, stores)
        if hint is int and abs(value) >= 2**63:
            raise stores.fail("a whole number of usable size was expected", where)
        return value

    def data(value: Any, where: str, stores: Stores) -> bytes:
        if type(value) is not dict or set(value) != {"blob"}:
            raise _wrong("bytes", value, where, stores)
        return stores.blob(value["blob"], where)

    return data if hint is bytes else plain


def _enum(hint: type[Enum]) -> Decode:
    known = {e.value: e for e in hint}

    def enum(value: Any, where: str, stores: Stores) -> Any:
        if type(value) not in (str, int) or value not in known:
            raise stores.fail(f"one of {', '.join(map(str, known))} was expected, found {str(value)[:30]}", where)
        return known[value]

    return enum


def _union(arguments: tuple[Any, ...]) -> Decode:
    some = [a for a in arguments if a is not type(None)]
    empty = len(some) < len(arguments)
    one = _decoder(some[0]) if len(some) == 1 else _tagged(some)

    def union(value: Any, where: str, stores: Stores) -> Any:
        return None if empty and value is None else one(value, where, stores)

    return union


def _tagged(records: list[Any]) -> Decode:
    known = {TAGS[record]: _record(record) for record in records}

    def tagged(value: Any, where: str, stores: Stores) -> Any:
        kind = value.get("kind") if type(value) is dict else None
        if type(kind) is not str or kind not in known:
            raise stores.fail(f"a record of a kind of {', '.join(known)} was expected", where)
        return known[kind](value, where, stores)

    return tagged


def _record(record: Any) -> Decode:
    tag = TAGS.get(record)
    needed = {
        f.name
        for f in dataclasses.fields(record)
        if f.default is dataclasses.MISSING and f.default_factory is dataclasses.MISSING
    }

    def decode(value: Any, where: str, stores: Stores) -> Any:
        if type(value) is not dict:
            raise _wrong("an object", value, where, stores)
        hints, values = fields_of(record), {}
        dot = "." if where else ""
        for name, held in value.items():
            if name in hints:
                values[name] = _decoder(hints[name])(held, f"{where}{dot}{name}", stores)
            elif name != "kind" or tag is None or held != tag:
                raise stores.fail("is a field that is not known", f"{where}{dot}{str(name)[:40]}")
        for name in needed - set(values):
            raise stores.fail("is missing", f"{where}{dot}{name}")
        try:
            record_made = record(**values)
        except PegLoomError as error:
            raise stores.fail(str(error), where) from None
        except (TypeError, ValueError, IndexError, OverflowError) as error:
            raise stores.fail(f"cannot be understood ({reason(error)})", where) from None
        wrong = out_of_rule(record_made)
        if wrong:
            place, _, what = wrong.partition(": ")
            raise stores.fail(what, f"{where}{place}")
        return record_made

    return decode


def _tuple(arguments: tuple[Any, ...]) -> Decode:
    many = len(arguments) == 2 and arguments[1] is Ellipsis
    each = [_decoder(a) for a in arguments if a is not Ellipsis]

    def several(value: Any, where: str, stores: Stores) -> tuple[Any, ...]:
        if type(value) is not list:
            raise _wrong("a list", value, where, stores)
        if not many and len(value) != len(each):
            raise stores.fail(f"{len(each)} values were expected, found {len(value)}", where)
        return tuple((each[0] if many else each[i])(v, f"{where}[{i}]", stores) for i, v in enumerate(value))

    return several


def _set(hint: Any) -> Decode:
    inner = _tuple((hint, Ellipsis))
    return lambda value, where, stores: frozenset(inner(value, where, stores))


def _mapping(key: Any, value_coder: Any) -> Decode:
    to_key, to_held = _decoder(key), _decoder(value_coder)

    def by_name(value: Any, where: str, stores: Stores) -> Mapping[Any, Any]:
        if type(value) is not dict:
            raise _wrong("an object", value, where, stores)
        return MappingProxyType({k: to_held(v, f"{where}[{k[:40]}]", stores) for k, v in value.items()})

    def by_pairs(value: Any, where: str, stores: Stores) -> Mapping[Any, Any]:
        if type(value) is not list:
            raise _wrong("a list of pairs", value, where, stores)
        result = {}
        for i, pair in enumerate(value):
            if type(pair) is not list or len(pair) != 2:
                raise stores.fail("a pair was expected", f"{where}[{i}]")
            k = to_key(pair[0], f"{where}[{i}][0]", stores)
            result[k] = to_held(pair[1], f"{where}[{i}][1]", stores)
        return MappingProxyType(result)

    return by_name if key is str else by_pairs


def _kinds(arguments: tuple[Any, ...]) -> tuple[str, str]:
    known = str(arguments)
    if "bool" in known:
        return "b", "yes and no"
    if "int" in known:
        return "iu", "whole numbers"
    return ("f", "numbers") if "float" in known else ("biuf", "numbers")


def _array(arguments: tuple[Any, ...]) -> Decode:
    kinds, spoken = _kinds(arguments)
    short = _inline(arguments)

    def array(value: Any, where: str, stores: Stores) -> np.ndarray:
        if isinstance(value, np.ndarray):
            # An upgrade put it together.
            return value
        if type(value) is dict and set(value) == {"array"}:
            result = stores.array(value["array"], where)
            if result.dtype.kind not in kinds:
                raise stores.fail(f"an array of {spoken} was expected, found one of {result.dtype}", where)
            return result
        if type(value) is not list or short is None:
            raise _wrong(f"an array of {spoken}", value, where, stores)
        kind = np.int64 if short is int else np.float64
        usable = (int,) if short is int else (int, float)

        def row(some: list[Any], place: str) -> list[Any]:
            for i, v in enumerate(some):
                if type(v) not in usable or abs(v) >= 2**63:
                    raise _wrong("a whole number" if short is int else "a number", v, f"{place}[{i}]", stores)
            return some

        if value and all(type(v) is list for v in value):
            rows = [row(v, f"{where}[{i}]") for i, v in enumerate(value)]
            if len({len(r) for r in rows}) != 1:
                raise stores.fail("rows of one length were expected", where)
            result = np.array(rows, dtype=kind)
        else:
            result = np.array(row(value, where), dtype=kind)
        result.setflags(write=False)
        return result

    return array


def _inline(arguments: tuple[Any, ...]) -> type | None:
    """The kind of numbers an array's declared type fixes, so that a list of them can stand for it."""
    known = str(arguments)
    return int if "int64" in known else float if "float64" in known else None


@cache
def _encoder(hint: Any) -> Encode:
    origin, arguments = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        some = [a for a in arguments if a is not type(None)]
        if len(some) == 1:
            one = _encoder(some[0])
            return lambda value, sinks: None if value is None else one(value, sinks)
        each = {record: _encoder(record) for record in some}
        return lambda value, sinks: None if value is None else each[type(value)](value, sinks)
    if origin is np.ndarray or hint is np.ndarray:
        return _array_out(arguments)
    if origin is tuple and arguments[-1] is Ellipsis:
        inner = _encoder(arguments[0])
        return lambda value, sinks: [inner(v, sinks) for v in value]
    if origin is tuple or (isinstance(hint, type) and issubclass(hint, tuple)):
        places = [_encoder(a) for a in (arguments or typing.get_type_hints(hint).values())]
        return lambda value, sinks: [e(v, sinks) for e, v in zip(places, value, strict=True)]
    if isinstance(origin, type) and issubclass(origin, Mapping):
        key, value_coder = (_encoder(a) for a in arguments)
        if arguments[0] is str:
            return lambda value, sinks: {k: value_coder(v, sinks) for k, v in value.items()}
        return lambda value, sinks: [[key(k, sinks), value_coder(v, sinks)] for k, v in value.items()]
    if origin is frozenset:
        return lambda value, sinks: sorted(value)
    if dataclasses.is_dataclass(hint):
        return _record_out(hint)
    if hint is bytes:
        return lambda value, sinks: {"blob": sinks.keep_blob(value)}
    if isinstance(hint, type) and issubclass(hint, Enum):
        return lambda value, sinks: value.value
    return _number_out(hint)


def _number_out(hint: Any) -> Encode:
    if hint in (float, int, bool, str):
        # NumPy's own numbers are told as plain ones.
        return lambda value, sinks: hint(value)
    raise TypeError(f"{hint} cannot be saved")


def _record_out(record: Any) -> Encode:
    hints, tag = fields_of(record), TAGS.get(record)
    start = {} if tag is None else {"kind": tag}

    def out(value: Any, sinks: Sinks) -> Any:
        return start | {name: _encoder(h)(getattr(value, name), sinks) for name, h in hints.items()}

    return out


def _array_out(arguments: tuple[Any, ...]) -> Encode:
    short = {int: np.int64, float: np.float64}.get(_inline(arguments) or object)

    def out(value: Any, sinks: Sinks) -> Any:
        if short is not None and value.ndim == 1 and value.dtype == short and len(value) <= SHORT:
            return value.tolist()
        return {"array": sinks.keep_array(value)}

    return out
