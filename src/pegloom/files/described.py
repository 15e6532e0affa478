"""A whole rig as an open description: JSON with a schema, weights beside it in one .npz, no mesh inside. Format: docs/describe.md."""

from __future__ import annotations

import dataclasses
import hashlib
import io
import json
import types
import typing
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import Enum
from importlib.resources import files
from pathlib import Path
from types import MappingProxyType
from typing import Any, NoReturn

import numpy as np
from scipy import sparse
from scipy.spatial import cKDTree

from pegloom.core.arrays import FloatArray, frozen
from pegloom.core.errors import MeshFileError, PegLoomError
from pegloom.core.geometry.mesh import Mesh, with_points
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.rig.plan import make_plan
from pegloom.core.skeleton.joints import Skeleton
from pegloom.core.skin.weights import Weights, from_dense
from pegloom.document.model import Character, Document, Morph, Part, PartKind, Skin, Subdivision
from pegloom.files.allowance import allowed, take
from pegloom.files.opening import open_any
from pegloom.files.outgoing import outgoing
from pegloom.files.project.checking import check_references, checked
from pegloom.files.project.reading import Unpacker
from pegloom.files.project.records import TAGS, decode, encode, fields_of
from pegloom.files.raw import checked_size, read_bytes, reason

FORMAT, VERSION = "peg loom rig", 1
LARGEST = 256 << 20
"""Bytes of a description."""
INLINE = 20_000
"""Numbers an array may have to stand in the JSON; larger ones lie with the weights."""
NEAREST = 4
"""Places whose weights a vertex takes where the mesh is another one."""
APART = ("parts", "materials", "images", "clips", "sources", "pairings", "weaves", "references", "figure", "stand_ins", "import_notes", "skin", "skeleton", "rig", "name", "worn")
"""Fields of a character that a description has not, or has by themselves."""
RECIPE = tuple(f.name for f in dataclasses.fields(Character) if f.name not in APART)


@dataclass(frozen=True)
class Rebuilt:
    """document, and a line for each thing that was found otherwise."""

    document: Document
    notes: tuple[str, ...]


class _Out:
    """Arrays of a description: short ones inline, long ones for the file of weights."""

    def __init__(self) -> None:
        self.arrays: dict[str, np.ndarray] = {}

    def keep_array(self, value: np.ndarray) -> Any:
        if value.size <= INLINE and value.dtype.kind in "iuf" and value.ndim <= 2:
            return value.tolist()
        name = f"array.{len(self.arrays)}"
        self.arrays[name] = value
        return name

    def keep_blob(self, value: bytes) -> NoReturn:
        raise TypeError("a description holds no pictures")


class _In:
    """What a description's records are read with."""

    def __init__(self, path: Path, archive: _Arrays) -> None:
        self.path, self.archive = path, archive

    def fail(self, what: str, where: str = "") -> MeshFileError:
        return MeshFileError(self.path.name, f"{where.lstrip('.')}: {what}" if where else what, hint="see docs/describe.md")

    def array(self, number: Any, where: str) -> np.ndarray:
        if type(number) is str:
            return self.archive.array(number)
        if type(number) is not list:
            raise self.fail("numbers were expected", where)
        try:
            result = np.array(number, dtype=np.float64)
        except (ValueError, TypeError, OverflowError):
            raise self.fail("rows of numbers of one length were expected", where) from None
        if not np.isfinite(result).all():
            raise self.fail("an array holds what is no number", where)
        result.setflags(write=False)
        return result

    def blob(self, number: Any, where: str) -> bytes:
        raise self.fail("a description holds no pictures", where)


class _Arrays:
    """The .npz beside a description, each array checked before it is made. Nothing in it is ever run."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def array(self, name: str) -> np.ndarray:
        try:
            with zipfile.ZipFile(io.BytesIO(read_bytes(self.path))) as archive:
                unpacker = Unpacker(self.path, archive)
                return unpacker.parsed(unpacker.entry(f"{name}.npy"), name)
        except (zipfile.BadZipFile, ValueError, OSError, EOFError) as error:
            raise MeshFileError(self.path.name, f"is no sound file of weights ({reason(error)})", hint="describe the rig again") from error


def hash_of(mesh: Mesh) -> str:
    """What a mesh's faces are told again by: SHA-256 over its corners and where its faces begin, as 64-bit whole numbers."""
    told = hashlib.sha256()
    for array in (mesh.corners, mesh.starts):
        told.update(np.ascontiguousarray(array, dtype="<i8").tobytes())
    return told.hexdigest()


def describe(document: Document, weights_file: str) -> tuple[dict[str, Any], dict[str, np.ndarray]]:
    """The description of the character in hand, and the arrays that lie beside it. Raises EditError without joints and controls."""
    character = document.require_character()
    skeleton, rig = character.require_skeleton(), character.require_rig()
    out = _Out()
    bare = replace(
        character, expressions=tuple(replace(e, picture=None) for e in character.expressions), poses=tuple(replace(p, picture=None) for p in character.poses),
        trials=tuple(replace(t, picture=None) for t in character.trials),
    )  # fmt: skip
    hints = fields_of(Character)
    parts = [
        {
            "id": p.id, "name": p.name, "kind": p.kind.value, "included": p.included, "detail": p.detail, "smooth": p.smooth.value, "levels": p.levels,
            "vertices": p.mesh.vertex_count, "faces": p.mesh.face_count, "hash": hash_of(p.mesh), "morphs": [m.name for m in p.morphs],
            "low": p.mesh.points.min(axis=0).tolist() if p.mesh.vertex_count else [0.0] * 3,
            "high": p.mesh.points.max(axis=0).tolist() if p.mesh.vertex_count else [0.0] * 3,
        }
        for p in character.parts
    ]  # fmt: skip
    skin = None
    if character.skin is not None:
        told = {}
        for part, own in character.skin.weights.items():
            points = character.part(part).mesh.points
            told[part] = {"joints": list(own.joint_ids), "limit": character.skin.limit(part)}
            out.arrays |= {f"{part}.starts": own.indptr, f"{part}.columns": own.indices, f"{part}.values": own.values, f"{part}.places": points.astype("<f4")}
        skin = {
            "file": weights_file, "method": character.skin.method, "influences": character.skin.influences, "parts": told,
            "dual": _encoded(fields_of(Skin)["dual"], character.skin.dual, out), "relax": _encoded(fields_of(Skin)["relax"], character.skin.relax, out),
        }  # fmt: skip
    tree = {
        "format": FORMAT, "version": VERSION, "name": character.name, "height": character.height,
        "space": "metres, y up, facing +z, right-handed; radians; places 4 x 4 row after row for column vectors; quaternions x y z w",
        "skeleton": {"joints": _encoded(hints["skeleton"], skeleton, out)["joints"]}, "rig": _encoded(hints["rig"], rig, out),
        "recipe": {name: _encoded(hints[name], getattr(bare, name), out) for name in RECIPE}, "mesh": {"parts": parts}, "weights": skin,
    }  # fmt: skip
    return tree, out.arrays


def _encoded(hint: Any, value: Any, out: _Out) -> Any:
    return _plain(encode(hint, value, out))


def _plain(tree: Any) -> Any:
    """{"array": [...]} as the list itself."""
    if isinstance(tree, dict):
        if set(tree) == {"array"} and isinstance(tree["array"], list):
            return tree["array"]
        return {k: _plain(v) for k, v in tree.items()}
    return [_plain(v) for v in tree] if isinstance(tree, list) else tree


def write_description(path: Path, document: Document) -> Path | None:
    """Write a description, and its weights beside it under the same name; gives that file, None where nothing is bound.

    Both are written, or neither. Raises EditError, MeshFileError.
    """
    beside = path.with_suffix(".npz")
    tree, arrays = describe(document, beside.name)
    with outgoing() as out:
        out.put(path, json.dumps(tree, indent=1, allow_nan=False).encode())
        if arrays:
            np.savez_compressed(out.stream(beside), **arrays)  # type: ignore[arg-type]
    return beside if arrays else None


def read_description(path: Path) -> dict[str, Any]:
    """The object of a description. Raises MeshFileError."""
    if checked_size(path) > LARGEST:
        raise MeshFileError(path.name, "is far too large for a description", hint="see docs/describe.md")
    data = read_bytes(path)
    with allowed(path.name, len(data)):
        take(20 * len(data), "a description", path.name)
        try:
            tree = json.loads(data)
        except (ValueError, RecursionError) as error:
            raise MeshFileError(path.name, f"is no JSON ({str(error)[:80]})", hint="see docs/describe.md") from None
    if not isinstance(tree, dict) or tree.get("format") != FORMAT:
        raise MeshFileError(path.name, "describes no rig", hint="write one with `pegloom describe`")
    if tree.get("version") != VERSION:
        raise MeshFileError(path.name, "was written by a newer version", hint="read it with that one")
    return tree


def rebuild(path: Path, mesh: Path) -> Rebuilt:
    """The rig of a description on a mesh: the project's, an export's, or the raw file it came from. Raises MeshFileError, EditError."""
    tree = read_description(path)
    archive = _Arrays(path.parent / _file_name(path, tree))
    stores = _In(path, archive)
    brought = open_any(mesh).require_character()
    data = len(json.dumps(tree)) if len(tree) < 64 else LARGEST
    with allowed(path.name, data):
        try:
            told = {**_object(stores, tree.get("recipe"), "recipe"), "name": tree.get("name"), "skeleton": _object(stores, tree.get("skeleton"), "skeleton"), "rig": tree.get("rig")}
            made: Character = decode(Character, told, "", stores)
            if made.skeleton is None or made.rig is None:
                raise stores.fail("a description has joints and controls")
            notes: list[str] = []
            parts, ids = _parts(stores, tree, brought, made, notes)
            made = replace(made, parts=parts, materials=brought.materials, images=brought.images)
            made = replace(made, skin=_skin(stores, tree, made, ids, notes))
            check_references(path, made, "recipe")
            made = checked(path, made)
            make_plan(made.require_skeleton(), made.require_rig())
        except RecursionError:
            raise stores.fail("its records are nested too deep") from None
        except (KeyError, IndexError, TypeError, ValueError, AttributeError) as error:
            if isinstance(error, PegLoomError):
                raise
            raise stores.fail(f"makes no sense ({reason(error)})") from error
    return Rebuilt(Document((made,), name=made.name), tuple(notes))


def _object(stores: _In, value: Any, where: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise stores.fail("an object was expected", where)
    return value


def _file_name(path: Path, tree: Mapping[str, Any]) -> str:
    """The file of weights: beside the description, nowhere else."""
    told = tree.get("weights")
    name = told.get("file") if isinstance(told, dict) else path.with_suffix(".npz").name
    if not isinstance(name, str) or Path(name).name != name or name in ("", ".", ".."):
        raise MeshFileError(path.name, "weights.file: a plain name was expected", hint="the weights lie beside the description")
    return name


def _parts(stores: _In, tree: Mapping[str, Any], brought: Character, made: Character, notes: list[str]) -> tuple[tuple[Part, ...], dict[str, bool]]:
    """The mesh's parts as the description knows them, standing as it stands; and of each that it knows whether it is the very mesh."""
    rows = _object(stores, tree.get("mesh"), "mesh").get("parts")
    if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
        raise stores.fail("a list of parts was expected", "mesh.parts")
    left = list(brought.parts)
    pairs: list[tuple[dict[str, Any], Part]] = []
    for row in rows:
        found = next((p for p in left if p.name.lower() == str(row.get("name")).lower()), None)
        found = found or next((p for p in left if p.mesh.vertex_count == row.get("vertices") and hash_of(p.mesh) == row.get("hash")), None)
        if found is None and len(rows) == len(brought.parts) == 1:
            found = left[0]
        if found is None:
            notes.append(f"{row.get('name')} is not in the mesh")
            continue
        left.remove(found)
        pairs.append((row, found))
    if not pairs:
        raise MeshFileError(stores.path.name, "no part of the mesh is one it describes", hint="take the mesh the rig was made on, or a later one of the same parts")
    place = _standing(made, pairs)
    parts, same = [], {}
    for row, part in pairs:
        told = str(row["id"])
        same[told] = part.mesh.vertex_count == row.get("vertices") and hash_of(part.mesh) == row.get("hash")
        if not same[told]:
            notes.append(f"{row['name']} is another mesh ({part.mesh.vertex_count} vertices for {row.get('vertices')}): its weights are those of the nearest places")
        one = _placed(part, place)
        missing = [m for m in row.get("morphs", []) if m not in {x.name for x in one.morphs}]
        if missing:
            notes.append(f"{row['name']} has no morph targets {', '.join(missing[:6])}")
        kind, smooth = PartKind(row["kind"]), Subdivision(row["smooth"])
        parts.append(replace(one, id=told, name=str(row["name"]), kind=kind, included=bool(row["included"]), detail=int(row["detail"]), smooth=smooth, levels=int(row["levels"])))
    taken = {p.id for p in parts}
    for part in left:
        number = 0
        while f"part{number}" in taken:
            number += 1
        taken.add(f"part{number}")
        notes.append(f"{part.name} is new, and bound to nothing")
        parts.append(replace(_placed(part, place), id=f"part{number}"))
    return tuple(parts), same


def _standing(made: Character, pairs: list[tuple[dict[str, Any], Part]]) -> FloatArray:
    """What takes the mesh's points into the character: nothing, or what stood the raw file up, whichever fits the better."""
    options = [np.eye(4)]
    if made.standing is not None:
        options.append(np.array(made.standing.file_to_character).reshape(4, 4))
    told = np.array([[row["low"], row["high"]] for row, _ in pairs], dtype=np.float64)

    def gap(place: FloatArray) -> float:
        boxes = []
        for _, part in pairs:
            points = transform_points(place, part.mesh.points)
            boxes.append([points.min(axis=0), points.max(axis=0)])
        return float(np.abs(np.array(boxes) - told).max())

    return min(options, key=gap)


def _placed(part: Part, place: FloatArray) -> Part:
    if np.array_equal(place, np.eye(4)):
        return part
    turn = place[:3, :3] / np.cbrt(np.linalg.det(place[:3, :3]))
    normals = None if part.mesh.normals is None else frozen(part.mesh.normals @ turn.T)
    mesh = with_points(part.mesh, transform_points(place, part.mesh.points), normals=normals)
    return replace(part, mesh=mesh, morphs=tuple(Morph(m.name, frozen(m.deltas @ place[:3, :3].T), m.at_rest) for m in part.morphs))


def _skin(stores: _In, tree: Mapping[str, Any], made: Character, same: Mapping[str, bool], notes: list[str]) -> Skin | None:
    told = tree.get("weights")
    if told is None:
        return None
    told = _object(stores, told, "weights")
    skeleton, weights, limits = made.require_skeleton(), {}, {}
    influences = int(told["influences"])
    for part_id, row in _object(stores, told.get("parts"), "weights.parts").items():
        if part_id not in same:
            continue
        joints = tuple(str(j) for j in row["joints"])
        unknown = [j for j in joints if j not in skeleton.index]
        if unknown:
            raise stores.fail(f"names the joint {unknown[0][:60]}, which is not there", f"weights.parts.{part_id}.joints")
        starts, columns, values = (stores.archive.array(f"{part_id}.{key}") for key in ("starts", "columns", "values"))
        count = len(starts) - 1
        if len(columns) != len(values) or starts[0] != 0 or starts[-1] != len(values) or (np.diff(starts) < 0).any() or (len(columns) and not 0 <= columns.min() <= columns.max() < len(joints)):
            raise stores.fail("weights that fit each other were expected", f"weights.parts.{part_id}")
        own = Weights(joints, np.asarray(frozen(starts.astype(np.int32))), np.asarray(frozen(columns.astype(np.int32))), np.asarray(frozen(values.astype(np.float64))))
        part = next(p for p in made.parts if p.id == part_id)
        if not same[part_id] or count != part.mesh.vertex_count:
            own = _from_places(stores.archive.array(f"{part_id}.places"), own, part.mesh.points, int(row["limit"]))
        weights[part_id] = own
        if int(row["limit"]) != influences:
            limits[part_id] = int(row["limit"])
    if not weights:
        notes.append("nothing it describes is bound any more")
        return None
    hints = fields_of(Skin)
    dual = decode(hints["dual"], told.get("dual", {}), "weights.dual", stores)
    relax = decode(hints["relax"], told.get("relax", {}), "weights.relax", stores)
    exact = {p for p, yes in same.items() if yes}
    return Skin(
        str(told["method"]), influences, MappingProxyType(weights), MappingProxyType({p: v for p, v in dual.items() if p in exact}),
        MappingProxyType({p: v for p, v in relax.items() if p in exact}), MappingProxyType(limits),
    )  # fmt: skip


def _from_places(places: FloatArray, own: Weights, points: FloatArray, limit: int) -> Weights:
    """Weights of other points (n, 3): of the nearest places, by how near they are."""
    count = min(NEAREST, len(places))
    away, index = cKDTree(places).query(points, k=count)
    away, index = np.asarray(away).reshape(len(points), count), np.asarray(index).reshape(len(points), count)
    share = 1.0 / np.maximum(away, 1e-9) ** 2
    share /= share.sum(axis=1, keepdims=True)
    mix = sparse.csr_matrix((share.ravel(), (np.repeat(np.arange(len(points)), count), index.ravel())), shape=(len(points), len(places)))
    return from_dense((mix @ own.matrix()).toarray(), own.joint_ids, influences=limit)


# The schema


def schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of a description, made from the records' own types."""
    made: dict[str, Any] = {}
    number3 = {"type": "array", "items": {"type": "number"}, "minItems": 3, "maxItems": 3}
    part = {
        "type": "object", "required": ["id", "name", "kind", "included", "detail", "smooth", "levels", "vertices", "faces", "hash", "morphs", "low", "high"],
        "properties": {
            "id": {"type": "string"}, "name": {"type": "string"}, "kind": {"enum": [k.value for k in PartKind]}, "included": {"type": "boolean"},
            "detail": {"type": "integer"}, "smooth": {"enum": [s.value for s in Subdivision]}, "levels": {"type": "integer"}, "vertices": {"type": "integer"},
            "faces": {"type": "integer"}, "hash": {"type": "string"}, "morphs": {"type": "array", "items": {"type": "string"}}, "low": number3, "high": number3,
        },
    }  # fmt: skip
    hints = fields_of(Character)
    weights = {
        "type": ["object", "null"], "required": ["file", "method", "influences", "parts", "dual", "relax"],
        "properties": {
            "file": {"type": "string"}, "method": {"type": "string"}, "influences": {"type": "integer"},
            "parts": {"type": "object", "additionalProperties": {"type": "object", "required": ["joints", "limit"], "properties": {"joints": {"type": "array", "items": {"type": "string"}}, "limit": {"type": "integer"}}}},
            "dual": _told(fields_of(Skin)["dual"], made), "relax": _told(fields_of(Skin)["relax"], made),
        },
    }  # fmt: skip
    properties = {
        "format": {"const": FORMAT}, "version": {"const": VERSION}, "name": {"type": "string"}, "height": {"type": "number"}, "space": {"type": "string"},
        "skeleton": {"type": "object", "required": ["joints"], "properties": {"joints": _told(typing.get_type_hints(Skeleton)["joints"], made)}},
        "rig": _told(hints["rig"], made), "recipe": {"type": "object", "required": list(RECIPE), "properties": {n: _told(hints[n], made) for n in RECIPE}},
        "mesh": {"type": "object", "required": ["parts"], "properties": {"parts": {"type": "array", "items": part}}}, "weights": weights,
    }  # fmt: skip
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Peg Loom rig description", "type": "object", "required": list(properties),
        "properties": properties, "$defs": made,
    }  # fmt: skip


def _told(hint: Any, made: dict[str, Any]) -> dict[str, Any]:
    """The schema of a type; records go into `made`, each once."""
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (typing.Union, types.UnionType):
        return {"anyOf": [_told(i, made) for i in inner]}
    if hint is type(None):
        return {"type": "null"}
    if origin is np.ndarray or hint is np.ndarray:
        return {"anyOf": [{"type": "array"}, {"type": "object", "required": ["array"], "properties": {"array": {"type": ["string", "array"]}}}]}
    if origin is tuple and inner[-1] is Ellipsis:
        return {"type": "array", "items": _told(inner[0], made)}
    if origin is tuple or (isinstance(hint, type) and issubclass(hint, tuple)):
        places = inner or tuple(typing.get_type_hints(hint).values())
        return {"type": "array", "prefixItems": [_told(i, made) for i in places], "minItems": len(places), "maxItems": len(places)}
    if isinstance(origin, type) and issubclass(origin, Mapping):
        if inner[0] is str:
            return {"type": "object", "additionalProperties": _told(inner[1], made)}
        return {"type": "array", "items": {"type": "array", "prefixItems": [_told(i, made) for i in inner], "minItems": 2, "maxItems": 2}}
    if origin is frozenset:
        return {"type": "array", "items": _told(inner[0], made)}
    if dataclasses.is_dataclass(hint) and isinstance(hint, type):
        if hint.__name__ not in made:
            made[hint.__name__] = {}
            hints = fields_of(hint)
            properties = {name: _told(h, made) for name, h in hints.items()}
            if hint in TAGS:
                properties["kind"] = {"const": TAGS[hint]}
            told = " ".join((hint.__doc__ or "").split())
            made[hint.__name__] = {"type": "object", "description": told, "properties": properties, "required": list(properties), "additionalProperties": False}
        return {"$ref": f"#/$defs/{hint.__name__}"}
    if isinstance(hint, type) and issubclass(hint, Enum):
        return {"enum": [member.value for member in hint]}
    return {"type": {str: "string", bool: "boolean", int: "integer", float: "number", bytes: "null"}.get(hint, "string")}


def reader_text() -> str:
    """The reference reader, as it is handed to others."""
    return (files("pegloom.assets") / "reader" / "rig_reader.py").read_text()


def write_kit(folder: Path) -> list[Path]:
    """The schema and the reference reader into a folder. Raises MeshFileError."""
    if not folder.is_dir():
        raise MeshFileError(folder.name, "is no folder", hint="name one that is there")
    made = [folder / "rig.schema.json", folder / "rig_reader.py"]
    with outgoing() as out:
        out.put(made[0], json.dumps(schema(), indent=1).encode())
        out.put(made[1], reader_text().encode())
    return made


