"""Where compiled kernels are kept, and when one is compiled anew.

Numba's own cache looks at the file a function stands in, not at the files whose kernels it calls: a change there would
run on in the old form. Here a kernel's stamp is a hash of its file and of all kernel files it draws on, so that a change
recompiles what it touches and nothing else. Named in `pegloom/__init__.py`, before Numba is first loaded.
"""

from __future__ import annotations

import ast
import hashlib
from functools import cache
from pathlib import Path
from typing import Any

from numba.core.caching import UserProvidedCacheLocator

PACKAGE = Path(__file__).resolve().parents[1]


class ClosureLocator(UserProvidedCacheLocator):  # type: ignore[misc]
    """Numba's cache in its folder, with stamps that know what a kernel calls."""

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> ClosureLocator | None:
        if not Path(py_file).resolve().is_relative_to(PACKAGE):
            return None
        found: ClosureLocator | None = super().from_function(py_func, py_file)
        return found

    def get_source_stamp(self) -> str:
        return stamp(Path(self._py_file).resolve(), PACKAGE)


@cache
def stamp(file: Path, package: Path) -> str:
    """A hash of a file and all it draws kernels or constants from."""
    digest = hashlib.sha256()
    for path in sorted(closure(file, package)):
        digest.update(str(path.relative_to(package)).encode() + b"\0" + path.read_bytes() + b"\0")
    return digest.hexdigest()


def closure(file: Path, package: Path) -> set[Path]:
    """The file, files with kernels it imports from, and from there on; and files it takes constants from."""
    found: set[Path] = set()
    waiting = [file]
    while waiting:
        here = waiting.pop()
        if here in found:
            continue
        found.add(here)
        for node in ast.walk(ast.parse(here.read_text())):
            if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith(package.name):
                continue
            folder = package.joinpath(*(node.module or "").split(".")[1:])
            for name in (alias.name for alias in node.names):
                source = _source(folder / name) or _source(folder)
                if source is None:
                    continue
                if "njit" in source.read_text():
                    waiting.append(source)
                elif name.isupper():
                    found.add(source)
    return found


def _source(module: Path) -> Path | None:
    """The file of a module or package, or None."""
    for path in (module.with_suffix(".py"), module / "__init__.py"):
        if path.is_file():
            return path
    return None
