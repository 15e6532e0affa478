"""Peg Loom: joints, skin weights and controls for character riggers."""

import os
from pathlib import Path

__version__ = "0.1.0"

# Compiled kernels are kept by what they draw on, see core/kernels.py. Numba reads these when it is first loaded.
_cache = Path(os.environ.get("XDG_CACHE_HOME") or "~/.cache").expanduser()
os.environ.setdefault("NUMBA_CACHE_DIR", str(_cache / "pegloom" / "kernels"))
os.environ.setdefault(
    "NUMBA_CACHE_LOCATOR_CLASSES",
    "pegloom.core.kernels.ClosureLocator,UserProvidedCacheLocator,InTreeCacheLocator,UserWideCacheLocator",
)
