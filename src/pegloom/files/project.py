"""The project file, `.pegloom`: a ZIP of `document.json`, `arrays/*.npy` and `blobs/*`.

document.json holds {"format": "pegloom", "version": 1, "document": ...}. A record is {"is": its class, fields...};
an array {"array": number}, bytes {"blob": number}, an enum {"choice": class, "value": ...}, a mapping {"pairs":
[[key, value]...]}, a tuple a list. Arrays used twice are written once. Read with pickles off; sizes a file claims are
checked against its own size first. Saved to a temporary file beside, synced, then renamed: a stop at any moment
leaves the old file or the new one.
"""

from __future__ import annotations

import dataclasses
import io
import json
import os
import zipfile
import zlib
from collections.abc import Mapping
from enum import Enum
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.errors import PegLoomError, ProjectFileError
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.motion.clips import Between, Clip, Curve, Track
from pegloom.core.rig.controls import Control, ControlRig, IkLimb, Pose, Shape
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.core.skin.relax import Relax
from pegloom.core.skin.weights import Weights
from pegloom.document.model import (
    Character,
    ControlOverride,
    Document,
    Image,
    JointOverride,
    KeptPose,
    Material,
    Morph,
    OwnJoint,
    Part,
    PartKind,
    Reference,
    Skin,
    Standing,
    Subdivision,
    Weave,
)
from pegloom.files.imported import reason

VERSION = 1
SUFFIX = ".pegloom"
RECORDS: dict[str, type[Any]] = {
    c.__name__: c
    for c in (
        Mesh, Clip, Curve, Track, Control, ControlRig, IkLimb, Pose, Joint, Skeleton, Kit, Peg, PegSet, Weights, Character,
        ControlOverride, Document, Image, JointOverride, KeptPose, Material, Morph, OwnJoint, Part, Reference, Relax, Skin,
        Standing, Weave,
    )
}  # fmt: skip
CHOICES: dict[str, type[Enum]] = {c.__name__: c for c in (Between, Shape, Side, PartKind, Subdivision)}
LARGEST_UNPACKED = 8 << 30


class _Packer:
    def __init__(self) -> None:
        self.arrays: list[np.ndarray] = []
        self.blobs: list[bytes] = []
        self.known: dict[int, int] = {}

    def pack(self, value: Any) -> Any:
        if value is None or isinstance(value, (str, bool, int, float)):
            return value
        if isinstance(value, np.ndarray):
            if id(value) not in self.known:
                self.known[id(value)] = len(self.arrays)
                self.arrays.append(value)
            return {"array": self.known[id(value)]}
        if isinstance(value, bytes):
            self.blobs.append(value)
            return {"blob": len(self.blobs) - 1}
        if isinstance(value, Enum):
            return {"choice": type(value).__name__, "value": value.value}
        if isinstance(value, Mapping):
            return {"pairs": [[self.pack(k), self.pack(v)] for k, v in value.items()]}
        if isinstance(value, (tuple, list)):
            return [self.pack(v) for v in value]
        if type(value).__name__ in RECORDS:
            fields = {f.name: self.pack(getattr(value, f.name)) for f in dataclasses.fields(value)}
            return {"is": type(value).__name__, **fields}
        raise TypeError(f"a {type(value).__name__} cannot be saved")


def save_project(path: Path, document: Document) -> None:
    """Save atomically. Raises ProjectFileError when the place cannot be written; the old file stays then."""
    packer = _Packer()
    tree = packer.pack(document)
    temporary = path.with_name(f".{path.name}.saving")
    try:
        with temporary.open("wb") as stream:
            with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
                head = {"format": "pegloom", "version": VERSION, "document": tree}
                archive.writestr("document.json", json.dumps(head, separators=(",", ":")))
                for number, array in enumerate(packer.arrays):
                    out = io.BytesIO()
                    np.save(out, array, allow_pickle=False)
                    archive.writestr(f"arrays/{number}.npy", out.getvalue())
                for number, blob in enumerate(packer.blobs):
                    archive.writestr(f"blobs/{number}", blob)
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(temporary, path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise ProjectFileError(
            path.name, f"cannot be saved ({error.strerror or error})", hint="choose another place; nothing is lost"
        ) from error


def open_project(path: Path) -> Document:
    """Open a project. Raises ProjectFileError: what is wrong, where, what to do. Nothing in a file is run."""
    try:
        with zipfile.ZipFile(path) as archive:
            return _read(path, archive)
    except FileNotFoundError as error:
        raise ProjectFileError(path.name, "there is no such file", hint="check the path") from error
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
        raise ProjectFileError(
            path.name, "this is no Peg Loom project, or it is cut short", hint="open its autosave or an older copy"
        ) from error
    except OSError as error:
        raise ProjectFileError(path.name, f"cannot be read ({error.strerror or error})", hint="check rights") from error
    except PegLoomError:
        raise
    except Exception as error:  # whatever damage leads to, nothing but words comes out
        raise ProjectFileError(
            path.name, f"its contents are damaged ({type(error).__name__}: {reason(error)})", hint="open an older copy"
        ) from error


def _read(path: Path, archive: zipfile.ZipFile) -> Document:
    if sum(info.file_size for info in archive.infolist()) > LARGEST_UNPACKED:
        raise ProjectFileError(path.name, "claims to unpack to over 8 GB", hint="this is no project of this program")
    head = json.loads(archive.read("document.json"))
    if not isinstance(head, dict) or head.get("format") != "pegloom":
        raise ProjectFileError(path.name, "this is no Peg Loom project")
    if int(head["version"]) > VERSION:
        raise ProjectFileError(
            path.name, f"was saved by a newer Peg Loom (format {head['version']})", hint="update the program"
        )
    arrays: dict[int, np.ndarray] = {}

    def array(number: int) -> np.ndarray:
        if number not in arrays:
            info = archive.getinfo(f"arrays/{int(number)}.npy")
            data = archive.read(info)
            loaded = np.load(io.BytesIO(data), allow_pickle=False)
            loaded.setflags(write=False)
            arrays[number] = loaded
        return arrays[number]

    def unpack(value: Any) -> Any:
        if isinstance(value, list):
            return tuple(unpack(v) for v in value)
        if not isinstance(value, dict):
            return value
        if "array" in value:
            return array(value["array"])
        if "blob" in value:
            return archive.read(f"blobs/{int(value['blob'])}")
        if "choice" in value:
            return CHOICES[value["choice"]](value["value"])
        if "pairs" in value:
            return MappingProxyType({unpack(k): unpack(v) for k, v in value["pairs"]})
        kind = RECORDS[value["is"]]
        known = {f.name for f in dataclasses.fields(kind)}
        fields = {k: unpack(v) for k, v in value.items() if k in known}
        if kind is Character and isinstance(fields.get("trials"), Mapping):
            # Until they had pictures, trials were a mapping from name to pose; no window ever filled it.
            fields["trials"] = ()
        return kind(**fields)

    document = unpack(head["document"])
    if not isinstance(document, Document):
        raise ProjectFileError(path.name, "holds no document")
    _check(path, document)
    return document


def _check(path: Path, document: Document) -> None:
    """What a damaged or hand-made file may get wrong that would only show later."""
    try:
        for character in document.characters:
            for part in character.parts:
                mesh = part.mesh
                if len(mesh.corners) and (mesh.corners.min() < 0 or mesh.corners.max() >= mesh.vertex_count):
                    raise ProjectFileError(path.name, "a face names a missing vertex", where=part.name)
            for skin in (*([character.skin] if character.skin else []), *(w.skin for w in character.weaves)):
                _check_skin(path, character, skin)
            for chosen in character.vertex_sets.values():
                for part_id, vertices in chosen.items():
                    if (
                        len(vertices)
                        and not 0 <= vertices.min() <= vertices.max() < character.part(part_id).mesh.vertex_count
                    ):
                        raise ProjectFileError(path.name, "a vertex set names a missing vertex", where=part_id)
    except ProjectFileError:
        raise
    except PegLoomError as error:
        raise ProjectFileError(path.name, str(error), hint="open an older copy") from error


def _check_skin(path: Path, character: Character, skin: Skin) -> None:
    for part_id, weights in skin.weights.items():
        if weights.vertex_count != character.part(part_id).mesh.vertex_count:
            raise ProjectFileError(path.name, "weights do not fit their part", where=part_id)
    masks = [(p, r.mask) for p, r in skin.relax.items() if r.mask is not None]
    for part_id, values in (*skin.dual.items(), *masks):
        if len(values) != character.part(part_id).mesh.vertex_count:
            raise ProjectFileError(path.name, "a painted mask does not fit its part", where=part_id)
