"""The edits by name, with arguments as JSON has them: each checked against what it takes before it is run."""

from __future__ import annotations

import inspect
import types
import typing
from collections.abc import Callable, Mapping, Sequence
from enum import Enum
from functools import cache
from typing import Any

from pegloom.core.errors import EditError, PegLoomError
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.recipe import KitRig
from pegloom.core.rig.refs import NodeRef
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.document.told.account import Names

CONTROL = ("control", "control_id", "control_ids")
JOINT = ("joint", "joint_id", "joint_ids", "first", "last", "parent_id")
RECORDS: tuple[type, ...] = (ChannelChange, KitRig, edits.Read, edits.KeyAt, edits.CarryOptions)
"""Records that edits take, told as objects of their fields."""


@cache
def verbs() -> Mapping[str, Callable[..., Any]]:
    """Edits whose arguments can be told in words and numbers, by name."""
    found = {}
    for name in sorted(edits.__all__):
        function = getattr(edits, name)
        if not inspect.isfunction(function):
            continue
        parameters = list(inspect.signature(function).parameters.values())
        hints = typing.get_type_hints(function)
        if not parameters or hints.get(parameters[0].name) is not Document or not _gives_document(hints.get("return")):
            continue
        if all(_told(hints[p.name]) or p.default is not inspect.Parameter.empty for p in parameters[1:]):
            found[name] = function
    return found


def _gives_document(hint: Any) -> bool:
    return hint is Document or (typing.get_origin(hint) is tuple and typing.get_args(hint)[:1] == (Document,))


def _told(hint: Any) -> bool:
    """Whether a value of this type can be told."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return any(_told(h) for h in inner if h is not type(None))
    if origin is tuple or origin in (frozenset, Sequence, list):
        return all(_told(h) for h in inner if h is not Ellipsis)
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return inner[0] is str and _told(inner[1])
    return hint in (str, int, float, bool, *RECORDS) or (isinstance(hint, type) and issubclass(hint, Enum))


def listed() -> list[dict[str, Any]]:
    """Every edit: its name, what it does, its arguments."""
    rows = []
    for name, function in verbs().items():
        hints = typing.get_type_hints(function)
        arguments = []
        for p in list(inspect.signature(function).parameters.values())[1:]:
            if not (_told(hints[p.name]) or p.kind is inspect.Parameter.VAR_KEYWORD):
                continue
            row: dict[str, Any] = {"name": p.name, "type": said(hints[p.name]), "needed": p.default is inspect.Parameter.empty}
            if p.kind is inspect.Parameter.VAR_KEYWORD:
                row |= {"name": "CHANNEL", "needed": False, "many": True}
            elif p.default is not inspect.Parameter.empty:
                row["default"] = plain(p.default)
            arguments.append(row)
        rows.append({"edit": name, "says": " ".join((inspect.getdoc(function) or "").split()), "arguments": arguments})
    return rows


def plain(value: Any) -> Any:
    """A value as JSON has it."""
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, (tuple, list, frozenset)):
        return [plain(v) for v in value]
    return value if isinstance(value, (str, int, float, bool, type(None))) else str(value)


def said(hint: Any) -> str:
    """A type in words."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        told = [said(h) for h in inner if h is not type(None) and _told(h)]
        return " or ".join(dict.fromkeys(told)) + (" or null" if type(None) in inner else "")
    if origin is tuple and Ellipsis not in inner:
        return f"list of {len(inner)}: {', '.join(said(h) for h in inner)}"
    if origin is tuple or origin in (frozenset, Sequence, list):
        return f"list of {said(inner[0])}"
    if isinstance(origin, type) and issubclass(origin, Mapping):
        return f"object of {said(inner[1])}"
    if isinstance(hint, type) and issubclass(hint, Enum):
        return "one of " + ", ".join(str(e.value) for e in hint)
    if hint in RECORDS:
        return "object: " + ", ".join(f"{k} ({said(h)})" for k, h in typing.get_type_hints(hint).items())
    return {str: "text", int: "whole number", float: "number", bool: "true or false"}.get(hint, str(hint))


def run_steps(document: Document, steps: Any, *, report: Callable[[str], None] = lambda _: None) -> tuple[Document, list[Any]]:
    """A list of {"edit": NAME, argument: value, ...}, one after the other; what each made besides the document.

    Raises EditError with the number of the step that could not be done; nothing of it is done then.
    """
    if not isinstance(steps, list):
        raise EditError('steps are a list: [{"edit": "build_controls"}, {"edit": "add_ik", "first": "...", "last": "..."}]')
    made = []
    for k, step in enumerate(steps):
        try:
            document, result = run_step(document, step)
        except PegLoomError as error:
            raise EditError(f"steps[{k}]: {error}") from None
        made.append(result)
        report(f"{step['edit']}: done" + ("" if result is None else f", {result}"))
    return document, made


def run_step(document: Document, step: Any) -> tuple[Document, Any]:
    """One edit by name; what it made besides the document."""
    if not isinstance(step, dict) or not isinstance(step.get("edit"), str):
        raise EditError('a step is an object with "edit": the name of an edit')
    name = step["edit"]
    function = verbs().get(name)
    if function is None:
        raise EditError(f"there is no edit {name[:60]}; `pegloom edit --list` tells them all")
    hints = typing.get_type_hints(function)
    parameters = dict(list(inspect.signature(function).parameters.items())[1:])
    many = next((p for p in parameters.values() if p.kind is inspect.Parameter.VAR_KEYWORD), None)
    given = {k: v for k, v in step.items() if k != "edit"}
    values: dict[str, Any] = {}
    for key, value in given.items():
        if key in parameters and parameters[key] is not many:
            values[key] = _value(document, key, hints[key], value, key)
        elif many is not None:
            values[key] = _value(document, key, hints[many.name], value, key)
        else:
            raise EditError(f"{name} takes no {key[:60]}; it takes {', '.join(parameters) or 'nothing'}")
    for key, p in parameters.items():
        if p.default is inspect.Parameter.empty and p is not many and key not in values:
            raise EditError(f"{name} needs {key} ({said(hints[key])})")
    positional = {k for k, p in parameters.items() if p.kind is inspect.Parameter.POSITIONAL_ONLY}
    result = function(document, *(values.pop(k) for k in list(positional)), **values)
    closed = edits.refused(document, result[0] if isinstance(result, tuple) else result)
    if closed:
        raise EditError(f"{closed} (the edit open_up)")
    return (result[0], plain(result[1])) if isinstance(result, tuple) else (result, None)


def _value(document: Document, name: str, hint: Any, value: Any, where: str) -> Any:
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        if value is None and type(None) in inner:
            return None
        errors = []
        for each in inner:
            if each in (type(None), NodeRef) or not _told(each):
                continue
            try:
                return _value(document, name, each, value, where)
            except EditError as error:
                errors.append(error)
        raise errors[0] if errors else EditError(f"{where} cannot be told")
    if origin is tuple or origin in (frozenset, Sequence, list):
        if not isinstance(value, list):
            raise EditError(f"{where} is {said(hint)}")
        if origin is tuple and Ellipsis not in inner:
            if len(value) != len(inner):
                raise EditError(f"{where} is {said(hint)}")
            return tuple(_value(document, name, h, v, f"{where}[{k}]") for k, (h, v) in enumerate(zip(inner, value, strict=True)))
        found = [_value(document, name, inner[0], v, f"{where}[{k}]") for k, v in enumerate(value)]
        return frozenset(found) if origin is frozenset else tuple(found)
    if isinstance(origin, type) and issubclass(origin, Mapping):
        if not isinstance(value, dict):
            raise EditError(f"{where} is {said(hint)}")
        return {k: _value(document, name, inner[1], v, f"{where}.{k}") for k, v in value.items()}
    if isinstance(hint, type) and issubclass(hint, Enum):
        for each in hint:
            if value in (each.value, each.name.lower()):
                return each
        raise EditError(f"{where} is {said(hint)}, not {str(value)[:40]}")
    if hint in RECORDS:
        return _record(document, hint, value, where)
    if hint is float and isinstance(value, int) and not isinstance(value, bool):
        value = float(value)
    if type(value) is not hint:
        raise EditError(f"{where} is a {said(hint)}, not {str(value)[:40]}")
    return _named(document, name, value) if hint is str else value


def _record(document: Document, hint: type, value: Any, where: str) -> Any:
    hints = typing.get_type_hints(hint)
    if not isinstance(value, dict) or not set(value) <= set(hints):
        raise EditError(f"{where} is {said(hint)}")
    return hint(**{k: _value(document, k, hints[k], v, f"{where}.{k}") for k, v in value.items()})


def _named(document: Document, argument: str, value: str) -> str:
    """Controls and joints by name become ids; what is no name is left to the edit."""
    character = document.character if document.characters else None
    if character is None or character.skeleton is None:
        return value
    if argument in CONTROL and character.rig is not None and value not in character.rig.index:
        names = Names(character.skeleton, character.rig).controls
        return next((told for told, name in names.items() if name == value), value)
    if argument in JOINT and value not in character.skeleton.index:
        return next((j.id for j in character.skeleton.joints if j.name == value), value)
    return value
