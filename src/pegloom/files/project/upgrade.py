"""Older project files brought up to date, as JSON, one version at a time.

A step passes by what it cannot make sense of: the records' own types refuse it afterwards, with its path.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Any

from pegloom.files.project.records import Stores
from pegloom.files.project.version_1 import v1_to_v2

VERSION = 2
UPGRADES: Mapping[int, Callable[[Any, Stores], Any]] = MappingProxyType({1: v1_to_v2})
"""By the version they start from."""


def upgraded(tree: Any, version: int, stores: Stores) -> Any:
    """A document's JSON of any known version as that of VERSION."""
    for number in range(version, VERSION):
        tree = UPGRADES[number](tree, stores)
    return tree
