"""glTF 2.0 and GLB, read: meshes, node transforms, materials, textures, skins, joints, clips.

Specification: Khronos Group, "glTF 2.0", ISO/IEC 12113. Sizes a file claims are checked against the bytes it has
before memory is taken; buffers and pictures outside the file's folder are refused.
"""

from __future__ import annotations

import base64
import binascii
import json
import struct
from pathlib import Path
from types import MappingProxyType
from typing import Any
from urllib.parse import unquote

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS, make_mesh
from pegloom.core.tolerances import FARTHEST
from pegloom.document.model import Image, Material, Morph, Part, Placing
from pegloom.files.allowance import MOST_NODES, MOST_PARTS, take
from pegloom.files.allowance import count as limited
from pegloom.files.gltf_skin import local_matrices, read_clips, read_skeleton, skin_weights
from pegloom.files.images import WANTED, image_from_bytes
from pegloom.files.imported import Imported
from pegloom.files.names import Unique
from pegloom.files.raw import read_beside, read_bytes

LAYERS = {SECOND_UVS: "TEXCOORD_1", COLOURS: "COLOR_0"}
"""Attributes that are kept as a mesh's layers."""
KEPT = {"TEXCOORD_0", *LAYERS.values()}
COMPONENTS = {5120: "i1", 5121: "u1", 5122: "i2", 5123: "u2", 5125: "u4", 5126: "f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
LISTS = (
    "accessors",
    "animations",
    "buffers",
    "bufferViews",
    "images",
    "materials",
    "meshes",
    "nodes",
    "skins",
    "textures",
)
KNOWN_EXTENSIONS = {"KHR_texture_transform", "KHR_materials_unlit", "KHR_mesh_quantization"}


class GltfFile:
    """The parsed file and its buffers; `accessor` and `fail` are what the readers use."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.notes: list[str] = []
        self._files: dict[str, bytes | None] = {}
        self._values: dict[int, np.ndarray] = {}
        data = read_bytes(path)
        binary = b""
        if data[:4] == b"glTF":
            data, binary = self._chunks(data)
        try:
            self.json: dict[str, Any] = json.loads(data)
        except (ValueError, RecursionError) as error:
            raise self.fail(f"the JSON cannot be read ({error})") from None
        if not isinstance(self.json, dict) or not isinstance(self.json.get("asset"), dict):
            raise self.fail("this is no glTF file: it has no 'asset'")
        for kind in LISTS:
            if not isinstance(self.json.get(kind, []), list):
                raise self.fail(f"'{kind}' is no list")
        limited(len(self.json.get("nodes", [])), MOST_NODES, "nodes")
        if not str(self.json["asset"].get("version", "")).startswith("2"):
            raise self.fail(f"glTF version {self.json['asset'].get('version')} is not 2.x", hint="export as glTF 2.0")
        required = self.json.get("extensionsRequired", [])
        unknown = {str(e) for e in required if isinstance(required, list)} - KNOWN_EXTENSIONS
        if unknown:
            raise self.fail(
                f"needs the extension {', '.join(sorted(unknown))}", hint="export without compression and extensions"
            )
        self.buffers = [self._buffer(i, b, binary) for i, b in enumerate(self.json.get("buffers", []))]

    def fail(self, what: str, *, where: str = "", hint: str = "export the file again") -> MeshFileError:
        return MeshFileError(self.path.name, what, where=where, hint=hint)

    def _chunks(self, data: bytes) -> tuple[bytes, bytes]:
        if len(data) < 20:
            raise self.fail("the file is cut short", where="header")
        version, length = struct.unpack_from("<II", data, 4)
        if version != 2:
            raise self.fail(f"GLB version {version} is not 2", where="header")
        if length > len(data):
            raise self.fail(f"claims {length} bytes but holds {len(data)}: it is cut short", where="header")
        at, text, binary = 12, None, b""
        while at + 8 <= length:
            size, kind = struct.unpack_from("<II", data, at)
            if at + 8 + size > length:
                raise self.fail("a chunk runs past the end of the file", where=f"byte {at}")
            chunk = data[at + 8 : at + 8 + size]
            if kind == 0x4E4F534A and text is None:
                text = chunk
            elif kind == 0x004E4942 and not binary:
                binary = chunk
            at += 8 + size + (-size % 4)
        if text is None:
            raise self.fail("has no JSON chunk")
        return text, binary

    def _buffer(self, number: int, entry: dict[str, Any], binary: bytes) -> bytes:
        if not isinstance(entry, dict) or not isinstance(entry.get("uri", ""), str):
            raise self.fail("is no record of a buffer", where=f"buffer {number}")
        uri = entry.get("uri")
        if uri is None:
            data = binary
        elif uri.startswith("data:"):
            data = self._inline(uri, f"buffer {number}")
        else:
            found = self.beside(uri)
            if found is None:
                raise self.fail(f"its data file {uri} is not beside it", where=f"buffer {number}", hint="put it there")
            data = found
        if len(data) < whole(entry.get("byteLength", 0)):
            raise self.fail(f"claims {entry.get('byteLength')} bytes but holds {len(data)}", where=f"buffer {number}")
        return data

    def beside(self, uri: str) -> bytes | None:
        """The bytes of a file the file names, each read once; None where it is not beside it."""
        if uri not in self._files:
            self._files[uri] = read_beside(self.path, unquote(uri))
        return self._files[uri]

    def _inline(self, uri: str, where: str) -> bytes:
        take(len(uri), "inline data", where)
        try:
            return base64.b64decode(uri.split(",", 1)[1], validate=False)
        except (IndexError, binascii.Error) as error:
            raise self.fail("inline data cannot be decoded", where=where) from error

    def item(self, kind: str, number: Any, where: str) -> dict[str, Any]:
        """Entry of one of the file's lists. Raises MeshFileError for a missing one."""
        entries = self.json.get(kind, [])
        if not isinstance(number, int) or not 0 <= number < len(entries):
            raise self.fail(f"names {kind} {number}, but there are {len(entries)}", where=where)
        if not isinstance(entries[number], dict):
            raise self.fail(f"{kind} {number} is no record", where=where)
        return dict(entries[number])

    def view(self, number: Any, where: str) -> bytes:
        """Bytes of a buffer view."""
        entry = self.item("bufferViews", number, where)
        start, length, which = whole(entry.get("byteOffset", 0)), whole(entry["byteLength"]), whole(entry["buffer"])
        buffer = self.buffers[which] if 0 <= which < len(self.buffers) else b""
        if start < 0 or length < 0 or start + length > len(buffer):
            raise self.fail("a view runs past its buffer", where=f"view {number}")
        return buffer[start : start + length]

    def accessor(self, number: Any, where: str) -> np.ndarray:
        """Values (count, width) of an accessor, normalised integers as floats; sparse ones filled in. Read-only."""
        if isinstance(number, int) and number in self._values:
            return self._values[number]
        values = self._accessor(number, where)
        if values.dtype.kind == "f" and not np.isfinite(values).all():
            bad = int(np.flatnonzero(~np.isfinite(values).all(axis=1))[0])
            raise self.fail("holds what is no number", where=f"accessor {number}, value {bad}")
        values.setflags(write=False)
        self._values[number] = values
        return values

    def _accessor(self, number: Any, where: str) -> np.ndarray:
        entry = self.item("accessors", number, where)
        try:
            kind, width = np.dtype("<" + COMPONENTS[entry["componentType"]]), WIDTHS[entry["type"]]
        except KeyError:
            raise self.fail("has an unknown component or type", where=f"accessor {number}") from None
        count = whole(entry["count"])
        # Whatever it is stored as, it is worked with in eight bytes a number.
        take(8 * max(count, 0) * width, f"accessor {number}", where)
        if "bufferView" in entry:
            values = self._strided(entry, entry["bufferView"], kind, width, count, number)
        elif not 0 <= count * width * kind.itemsize <= max(sum(map(len, self.buffers)), 1 << 20):
            raise self.fail(f"claims {count} values without data", where=f"accessor {number}")
        else:
            values = np.zeros((count, width), dtype=kind)
        if "sparse" in entry:
            values = values.copy()
            s = entry["sparse"]
            index_kind = np.dtype("<" + COMPONENTS[s["indices"]["componentType"]])
            some = whole(s["count"])
            if some > count:
                raise self.fail(f"fills in {some} of {count} values", where=f"accessor {number}")
            rows = self._strided(s["indices"], s["indices"]["bufferView"], index_kind, 1, some, number)[:, 0]
            if len(rows) and not 0 <= rows.min() <= rows.max() < count:
                raise self.fail("a sparse index is out of range", where=f"accessor {number}")
            values[rows] = self._strided(s["values"], s["values"]["bufferView"], kind, width, some, number)
        if entry.get("normalized") and kind.kind in "iu":
            values = np.maximum(values / float(np.iinfo(kind).max), -1.0)
        return values

    def _strided(
        self, entry: dict[str, Any], view: int, kind: np.dtype[Any], width: int, count: int, number: Any
    ) -> np.ndarray:
        data = self.view(view, f"accessor {number}")
        start = whole(entry.get("byteOffset", 0))
        item = kind.itemsize * width
        stride = whole(self.item("bufferViews", view, "").get("byteStride", item) or item)
        if count < 0 or start < 0 or stride < item or (count and start + (count - 1) * stride + item > len(data)):
            raise self.fail(f"claims {count} values, more than its view holds", where=f"accessor {number}")
        if count == 0:
            return np.zeros((0, width), dtype=kind)
        if stride == item:
            return np.frombuffer(data, kind, count * width, start).reshape(count, width)
        rows = np.ndarray((count,), np.dtype((np.void, item)), data, start, (stride,))
        return np.ascontiguousarray(rows).view(kind).reshape(count, width)

    def node_worlds(self) -> tuple[FloatArray, list[int]]:
        """World matrices (nodes, 4, 4) at rest, and each node's parent (-1 none). Raises on a loop."""
        nodes = self.json.get("nodes", [])
        parents = [-1] * len(nodes)
        for i, node in enumerate(nodes):
            if not isinstance(node, dict):
                raise self.fail("is no record of a node", where=f"node {i}")
            for child in node.get("children", []):
                if not isinstance(child, int) or not 0 <= child < len(nodes):
                    raise self.fail(f"names node {child}, but there are {len(nodes)}", where=f"node {i}")
                parents[child] = i
        worlds = np.tile(np.eye(4), (max(len(nodes), 1), 1, 1))
        locals_ = local_matrices(nodes)
        known = [False] * len(nodes)
        for i in range(len(nodes)):
            chain, here = [], i
            while here >= 0 and not known[here]:
                chain.append(here)
                if len(chain) > len(nodes):
                    raise self.fail("nodes are their own parents", where=f"node {i}")
                here = parents[here]
            for k in reversed(chain):
                with np.errstate(over="ignore", invalid="ignore"):
                    worlds[k] = worlds[parents[k]] @ locals_[k] if parents[k] >= 0 else locals_[k]
                known[k] = True
        nowhere = np.flatnonzero(~(np.abs(worlds).max(axis=(1, 2)) < FARTHEST))
        if len(nowhere):
            where = f"node {nowhere[0]}"
            raise self.fail("stands nowhere: its place, turn or scale is no usable number", where=where)
        return worlds, parents


def whole(value: Any) -> int:
    """A whole number of the file. Raises ValueError for anything else."""
    if isinstance(value, bool) or not isinstance(value, (int, float)) or int(value) != value:
        raise ValueError(f"{str(value)[:40]!r} is no whole number")
    return int(value)


def read_gltf(path: Path) -> Imported:
    """Read a .gltf or .glb file. Raises MeshFileError: which file, what, where in it, what to do."""
    file = GltfFile(path)
    try:
        return _read(file)
    except (KeyError, TypeError, IndexError, ValueError, AttributeError) as error:
        raise file.fail(f"is not put together as glTF 2.0 says ({type(error).__name__}: {error})") from error
    except ShapeError as error:
        raise file.fail(str(error)) from error


def _read(file: GltfFile) -> Imported:
    worlds, parents = file.node_worlds()
    images = _images(file)
    materials = [_material(file, i, m, images) for i, m in enumerate(file.json.get("materials", []))]
    materials.append(Material("plain"))
    skeleton = read_skeleton(file, worlds, parents)
    parts: list[Part] = []
    weights = {}
    faces: dict[int, tuple[str, tuple[str, ...]]] = {}
    unique = Unique()
    holders = sum("mesh" in node for node in file.json.get("nodes", []))
    limited(holders, MOST_PARTS, "meshes")
    for number, node in enumerate(file.json.get("nodes", [])):
        if "mesh" not in node:
            continue
        mesh = file.item("meshes", node["mesh"], f"node {number}")
        name = unique(str(node.get("name") or mesh.get("name") or f"mesh {number}"))
        skin = node.get("skin")
        matrix = skeleton.settle if skin is not None and skeleton is not None else worlds[number]
        part, joints, values = _part(file, f"part{len(parts)}", name, mesh, matrix, len(materials) - 1)
        if part is None:
            continue
        parts.append(part)
        if part.morphs:
            faces[number] = part.name, tuple(m.name for m in part.morphs)
        if skin is not None and skeleton is not None and joints is not None and values is not None:
            weights[part.id] = skin_weights(file, skeleton, int(skin), joints, values)
    clips = read_clips(file, skeleton, parents, faces) if skeleton is not None else ()
    if not parts and not clips:
        raise file.fail("holds no surface", hint="export the mesh with its faces")
    for kind, label in (("cameras", "cameras"), ("lights", "lights")):
        if file.json.get(kind):
            file.notes.append(f"{label} ignored: {len(file.json[kind])}")
    used = {name for m in materials for name in m.pictures.values()}
    return Imported(
        tuple(parts),
        tuple(materials),
        tuple(i for i in images if i is not None and i.name in used),
        skeleton.skeleton if skeleton is not None else None,
        weights or None,
        clips,
        tuple(file.notes),
    )


def _part(
    file: GltfFile, part_id: str, name: str, mesh: dict[str, Any], matrix: FloatArray, plain: int
) -> tuple[Part | None, np.ndarray | None, np.ndarray | None]:
    """One part of a mesh: its primitives one after the other; those sharing an accessor share vertices."""
    blocks: dict[int, int] = {}
    points, corners, uvs, normals, materials, joints, values = [], [], [], [], [], [], []
    targets: list[tuple[int, int, list[dict[str, Any]]]] = []
    layers: dict[str, list[FloatArray]] = {layer: [] for layer in LAYERS}
    total, told, have_uv, have_normal, have_skin = 0, 0, True, True, True
    for number, primitive in enumerate(mesh.get("primitives", [])):
        where = f"mesh {name}, primitive {number}"
        mode = primitive.get("mode", 4)
        attributes = primitive["attributes"]
        more = sorted(k for k in attributes if k.startswith(("TEXCOORD_", "COLOR_")) and k not in KEPT)
        line = f"{name}: {', '.join(more)} are not kept"
        if more and line not in file.notes:
            file.notes.append(line)
        if mode not in (4, 5, 6) or "POSITION" not in attributes:
            file.notes.append(f"{name}: a primitive that is no surface ignored")
            continue
        position = attributes["POSITION"]
        fresh = position not in blocks
        p = file.accessor(position, where).astype(np.float64)
        if p.shape[1] != 3:
            raise file.fail("POSITION is not three numbers a vertex", where=where)
        if position not in blocks:
            blocks[position] = total
            points.append(p @ matrix[:3, :3].T + matrix[:3, 3])
            total += len(p)
            if "JOINTS_0" in attributes and "WEIGHTS_0" in attributes:
                sets = [k for k in range(8) if f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes]
                joints.append([_for_each(file, attributes, f"JOINTS_{k}", p, 4, where).astype(np.int64) for k in sets])
                values.append([_for_each(file, attributes, f"WEIGHTS_{k}", p, 4, where) for k in sets])
            else:
                have_skin = False
        base = blocks[position]
        if "indices" in primitive:
            index = file.accessor(primitive["indices"], where)[:, 0].astype(np.int64)
        else:
            index = np.arange(len(p))
        index = _as_triangles(index, mode)
        if len(index) and not 0 <= index.min() <= index.max() < len(p):
            raise file.fail(f"a face names vertex {int(index.max())}, but there are {len(p)}", where=where)
        # A mesh shown by several nodes is worked out for each.
        extra = 16 * ("TEXCOORD_0" in attributes) + 24 * ("NORMAL" in attributes) + 48 * ("COLOR_0" in attributes)
        take(24 * len(p) + (14 + extra) * len(index), f"mesh {name}", where)
        corners.append(index + base)
        if "TEXCOORD_0" in attributes:
            uv = _for_each(file, attributes, "TEXCOORD_0", p, 2, where)[index]
            uvs.append(np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1))
        else:
            have_uv = False
        for layer, attribute in LAYERS.items():
            if attribute in attributes:
                layers[layer].append(_layer(file, attributes, layer, attribute, p, where)[index])
        told += 1
        if "NORMAL" in attributes and abs(np.linalg.det(matrix[:3, :3])) > 1e-30:
            turn = np.linalg.inv(matrix[:3, :3]).T
            n = _for_each(file, attributes, "NORMAL", p, 3, where)[index] @ turn.T
            normals.append(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12))
        else:
            have_normal = False
        if fresh:
            targets.append((base, len(p), primitive.get("targets", [])))
        material = primitive.get("material")
        known = isinstance(material, int) and 0 <= material < plain
        if material is not None and not known:
            file.notes.append(f"{name}: material {str(material)[:20]} is not there, plain taken")
        materials.append(np.full(len(index) // 3, material if known else plain))
    if not corners or sum(len(c) for c in corners) == 0:
        file.notes.append(f"{name}: no faces, ignored")
        return None, None, None
    all_corners = np.concatenate(corners)
    if np.linalg.det(matrix[:3, :3]) < 0:  # a mirrored node turns faces inside out
        order = np.arange(len(all_corners)).reshape(-1, 3)[:, ::-1].ravel()
    else:
        order = np.arange(len(all_corners))
    mesh_record = make_mesh(
        np.concatenate(points),
        all_corners[order],
        np.arange(len(all_corners) // 3 + 1) * 3,
        uvs=np.concatenate(uvs)[order] if have_uv else None,
        normals=np.concatenate(normals)[order] if have_normal else None,
        materials=np.concatenate(materials),
        layers={name: np.concatenate(values)[order] for name, values in layers.items() if values and len(values) == told},
    )
    part = Part(part_id, name, mesh_record, morphs=_morphs(file, mesh, targets, total, matrix))
    if not have_skin or not joints:
        return part, None, None
    width = max(len(j) for j in joints)
    pad = [j + [np.zeros_like(j[0])] * (width - len(j)) for j in joints]
    pad_values = [v + [np.zeros_like(v[0])] * (width - len(v)) for v in values]
    all_joints = np.concatenate([np.concatenate(j, axis=1) for j in pad])
    return part, all_joints, np.concatenate([np.concatenate(v, axis=1) for v in pad_values])


def _layer(
    file: GltfFile, attributes: dict[str, Any], layer: str, attribute: str, points: FloatArray, where: str
) -> FloatArray:
    """What a layer has at each vertex (n, w) of a primitive: UVs with v up, colours with an alpha."""
    if layer == SECOND_UVS:
        uv = _for_each(file, attributes, attribute, points, 2, where)
        return np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1)
    values = file.accessor(attributes[attribute], where).astype(np.float64)
    if values.shape[1] == 3:
        values = np.concatenate([values, np.ones((len(values), 1))], axis=1)
    if values.shape != (len(points), 4):
        raise file.fail(f"{attribute} is not three or four numbers for each vertex", where=where)
    return values


def _for_each(
    file: GltfFile, attributes: dict[str, Any], name: str, points: FloatArray, width: int, where: str
) -> FloatArray:
    """An attribute (n, width) of a primitive's vertices. Raises MeshFileError where it is not one for each."""
    values = file.accessor(attributes[name], where)
    if values.shape != (len(points), width):
        raise file.fail(f"{name} is not {width} numbers for each of {len(points)} vertices", where=where)
    return values.astype(np.float64)


def _morphs(
    file: GltfFile, mesh: dict[str, Any], targets: list[tuple[int, int, list[dict[str, Any]]]], total: int,
    matrix: FloatArray,
) -> tuple[Morph, ...]:  # fmt: skip
    """Morph targets of a mesh, over all its primitives: targets (first vertex, vertices, entries)."""
    count = max((len(entries) for _, _, entries in targets), default=0)
    extras = mesh.get("extras")
    names = extras.get("targetNames", []) if isinstance(extras, dict) else []
    weights = mesh.get("weights", [])
    result = []
    for k in range(count):
        take(24 * total, f"morph target {k}")
        deltas = np.zeros((total, 3))
        for base, vertices, entries in targets:
            if k >= len(entries) or "POSITION" not in entries[k]:
                continue
            values = file.accessor(entries[k]["POSITION"], f"morph target {k}").astype(np.float64)
            if values.shape != (vertices, 3):
                raise file.fail(f"morph target {k} moves {len(values)} vertices of {vertices}")
            deltas[base : base + vertices] = values @ matrix[:3, :3].T
        deltas.setflags(write=False)
        name = str(names[k]) if k < len(names) else f"morph {k + 1}"
        result.append(Morph(name, deltas, float(weights[k]) if k < len(weights) else 0.0))
    return tuple(result)


def _as_triangles(index: np.ndarray, mode: int) -> np.ndarray:
    if mode == 4:
        return index[: len(index) // 3 * 3]
    if len(index) < 3:
        return index[:0]
    if mode == 6:
        return np.stack([np.full(len(index) - 2, index[0]), index[1:-1], index[2:]], axis=1).ravel()
    strip = np.stack([index[:-2], index[1:-1], index[2:]], axis=1)
    strip[1::2] = strip[1::2, [1, 0, 2]]
    return strip.ravel()


def _images(file: GltfFile) -> list[Image | None]:
    found: list[Image | None] = []
    unique = Unique("_")
    for number, entry in enumerate(file.json.get("images", [])):
        uri = entry.get("uri")
        name = str(entry.get("name") or (uri if uri and not uri.startswith("data:") else f"image{number}"))
        data: bytes | None = None
        if uri is None:
            data = file.view(entry.get("bufferView"), f"image {number}")
        elif uri.startswith("data:"):
            data = file._inline(uri, f"image {number}")
        else:
            data = file.beside(uri)
        image = image_from_bytes(name, data) if data else None
        if image is None:
            file.notes.append(f"picture {name[:60]} is missing or no sound {WANTED}")
        else:
            image = Image(unique(Path(image.name).stem) + Path(image.name).suffix, image.kind, image.data)
        found.append(image)
    return found


def _material(file: GltfFile, number: int, entry: dict[str, Any], images: list[Image | None]) -> Material:
    shine = entry.get("pbrMetallicRoughness", {})

    def picture(slot: dict[str, Any] | None) -> str | None:
        if not slot:
            return None
        texture = file.item("textures", slot.get("index"), f"material {number}")
        source = texture.get("source")
        image = images[source] if isinstance(source, int) and source < len(images) else None
        return image.name if image else None

    r, g, b, a = (float(v) for v in shine.get("baseColorFactor", (1, 1, 1, 1)))
    slots = {
        "base": shine.get("baseColorTexture"), "normal": entry.get("normalTexture"),
        "metal": shine.get("metallicRoughnessTexture"), "occlusion": entry.get("occlusionTexture"),
        "emissive": entry.get("emissiveTexture"),
    }  # fmt: skip
    x, y, z = (float(v) for v in entry.get("emissiveFactor", (0, 0, 0)))
    mask = entry.get("alphaMode") == "MASK"
    for what, slot in slots.items():
        if slot and _set_of(slot) == 1:
            file.notes.append(f"material {number}: its {what} picture lies on second UVs; the view shows it on the first")
        elif slot and _set_of(slot) != 0:
            file.notes.append(f"material {number}: its {what} picture lies on UVs {_set_of(slot)}, which are not kept")
    return Material(
        str(entry.get("name") or f"material {number}"),
        (r, g, b, a),
        float(shine.get("metallicFactor", 1.0)),
        float(shine.get("roughnessFactor", 1.0)),
        picture(shine.get("baseColorTexture")),
        picture(entry.get("normalTexture")),
        bool(entry.get("doubleSided", False)),
        entry.get("alphaMode", "OPAQUE") == "BLEND",
        normal_scale=float((slots["normal"] or {}).get("scale", 1.0)),
        metal_image=picture(slots["metal"]),
        occlusion_image=picture(slots["occlusion"]),
        occlusion=float((slots["occlusion"] or {}).get("strength", 1.0)),
        emissive=(x, y, z),
        emissive_image=picture(slots["emissive"]),
        cutoff=float(entry.get("alphaCutoff", 0.5)) if mask else None,
        placings=MappingProxyType({what: p for what, slot in slots.items() if (p := _placing(slot)) != Placing()}),
    )


def _placing(slot: dict[str, Any] | None) -> Placing:
    told = ((slot or {}).get("extensions") or {}).get("KHR_texture_transform") or {}
    (u, v), (a, b) = ((float(x) for x in told.get(k, usual)) for k, usual in (("offset", (0, 0)), ("scale", (1, 1))))
    return Placing((u, v), float(told.get("rotation", 0.0)), (a, b), second=bool(slot) and _set_of(slot or {}) == 1)


def _set_of(slot: dict[str, Any]) -> int:
    """Which UVs a picture lies on; the transform, where there is one, has the last word."""
    moved = (slot.get("extensions") or {}).get("KHR_texture_transform") or {}
    return whole(moved.get("texCoord", slot.get("texCoord", 0)))
