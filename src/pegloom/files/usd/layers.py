"""A stage that composes nothing from outside: every layer is looked through before anything it names is opened.

Sublayers, references, payloads, value clips and asset values may name files in the folder of the file that was
opened, or below it, symlinks followed; in a package, files of the package. Whatever else they name is taken out of
the layer as it stands in memory, and listed. Names with `[` reach into packages and are taken out as well.
"""

from __future__ import annotations

import re
import zipfile
from pathlib import Path, PurePosixPath
from typing import Any

from pegloom.core.errors import MeshFileError
from pegloom.files.allowance import count, grant, take
from pegloom.files.raw import reason

LEVELS = "pegloom_levels"
"""Key of how finely a mesh is meant to be smoothed, in its prim's custom data."""
LAYERS = {".usd", ".usda", ".usdc"}
"""Endings of what may be composed; other kinds of layers run code of their own and may read on."""
MOST_LAYERS = 200
SHOWN = 6


def open_stage(path: Path) -> tuple[Any, list[Any], list[str]]:
    """The stage of a file, the layers to keep alive with it, and lines on what it names and was not loaded.

    Raises MeshFileError, and whatever the library raises on damage.
    """
    from pxr import Sdf, Usd, UsdUtils

    root = path.resolve()
    package = _package(path, root)
    refused: dict[str, None] = {}
    alive: list[Any] = []
    waiting = [str(root)]
    seen = set(waiting)
    while waiting:
        count(len(seen), MOST_LAYERS, "layers")
        layer = Sdf.Layer.FindOrOpen(waiting.pop())
        if layer is None:
            if not alive:
                raise MeshFileError(path.name, "cannot be read as USD", hint="export it again")
            continue
        alive.append(layer)
        composed = set(layer.GetCompositionAssetDependencies())

        def settle(name: str, layer: Any = layer, composed: set[str] = composed) -> str:
            found = _inside(name, layer, root, package, name in composed)
            if found is None:
                if name:
                    refused[name] = None
                return ""
            if name in composed and found not in seen:
                seen.add(found)
                waiting.append(found)
                if not package:
                    grant(Path(found).stat().st_size)
            return name if package else found

        UsdUtils.ModifyAssetPaths(layer, settle)
    stage = Usd.Stage.Open(alive[0], Usd.Stage.LoadAll)
    if stage is None:
        raise MeshFileError(path.name, "cannot be read as USD", hint="export it again")
    allowed = {layer.identifier for layer in alive}
    strange = [u.identifier for u in stage.GetUsedLayers() if not u.anonymous and u.identifier not in allowed]
    if strange:
        raise MeshFileError(path.name, f"reaches for {strange[0]}", hint="flatten it into one file and open that")
    notes = []
    if refused:
        shown = ", ".join(n[:60] for n in list(refused)[:SHOWN])
        more = f" and {len(refused) - SHOWN} more" if len(refused) > SHOWN else ""
        notes.append(f"named but not loaded, as not beside the file: {shown}{more}")
    return stage, alive, notes


def told(error: BaseException) -> str:
    """What an error of the USD library says, without where in its own code it says so."""
    quoted = re.findall(r": '([^'\n]*)'", str(error))
    return str(quoted[0])[:160] if quoted else reason(error)


def _package(path: Path, root: Path) -> frozenset[str]:
    """The names in a package; none where the file is none."""
    if path.suffix.lower() != ".usdz" and root.suffix.lower() != ".usdz":
        return frozenset()
    try:
        with zipfile.ZipFile(root) as archive:
            entries = archive.infolist()
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise MeshFileError(path.name, f"is no sound package ({reason(error)})", hint="export it again") from error
    count(len(entries), 5000, "files")
    if not entries:
        raise MeshFileError(path.name, "is an empty package", hint="export it again")
    for entry in entries:
        if entry.compress_type != zipfile.ZIP_STORED or entry.file_size > root.stat().st_size:
            raise MeshFileError(path.name, "is packed, which a USD package is not", where=entry.filename[:60])
        take(entry.file_size, entry.filename[:60])
    return frozenset(entry.filename for entry in entries)


def _inside(name: str, layer: Any, root: Path, package: frozenset[str], composed: bool) -> str | None:
    """What a name in a layer stands for, where that lies inside; None where it does not, or is no layer's ending."""
    from pxr import Ar, Sdf

    if not name or "[" in name or "]" in name or ":" in name or not name.isprintable():
        return None
    if composed and PurePosixPath(name).suffix.lower() not in LAYERS:
        return None
    if package:
        resolved = Sdf.ComputeAssetPathRelativeToLayer(layer, name)
        if not Ar.IsPackageRelativePath(resolved):
            return None
        outer, inner = Ar.SplitPackageRelativePathOuter(resolved)
        return resolved if Path(outer) == root and inner in package else None
    try:
        folder = Path(layer.realPath).parent
        real = (folder / name.replace("\\", "/")).resolve()
        inside = real.is_relative_to(root.parent) and real.is_file()
    except (OSError, ValueError, RuntimeError):
        return None
    return str(real) if inside else None
