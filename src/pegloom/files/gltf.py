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
from typing import Any
from urllib.parse import unquote

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import make_mesh
from pegloom.document.model import Image, Material, Morph, Part
from pegloom.files.gltf_skin import local_matrix, read_clips, read_skeleton, skin_weights
from pegloom.files.images import image_from_bytes
from pegloom.files.imported import Imported, beside, read_bytes

COMPONENTS = {5120: "i1", 5121: "u1", 5122: "i2", 5123: "u2", 5125: "u4", 5126: "f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KNOWN_EXTENSIONS = {"KHR_texture_transform", "KHR_materials_unlit", "KHR_mesh_quantization"}


class GltfFile:
    """The parsed file and its buffers; `accessor` and `fail` are what the readers use."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.notes: list[str] = []
        data = read_bytes(path)
        binary = b""
        if data[:4] == b"glTF":
            data, binary = self._chunks(data)
        try:
            self.json: dict[str, Any] = json.loads(data)
        except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as error:
            raise self.fail(f"the JSON cannot be read ({error})") from None
        if not isinstance(self.json, dict) or "asset" not in self.json:
            raise self.fail("this is no glTF file: it has no 'asset'")
        if not str(self.json["asset"].get("version", "")).startswith("2"):
            raise self.fail(f"glTF version {self.json['asset'].get('version')} is not 2.x", hint="export as glTF 2.0")
        unknown = set(self.json.get("extensionsRequired", [])) - KNOWN_EXTENSIONS
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
        uri = entry.get("uri")
        if uri is None:
            data = binary
        elif uri.startswith("data:"):
            data = self._inline(uri, f"buffer {number}")
        else:
            file = beside(self.path, unquote(uri))
            if file is None:
                raise self.fail(f"its data file {uri} is not beside it", where=f"buffer {number}", hint="put it there")
            data = file.read_bytes()
        if len(data) < int(entry.get("byteLength", 0)):
            raise self.fail(f"claims {entry.get('byteLength')} bytes but holds {len(data)}", where=f"buffer {number}")
        return data

    def _inline(self, uri: str, where: str) -> bytes:
        try:
            return base64.b64decode(uri.split(",", 1)[1], validate=False)
        except (IndexError, binascii.Error) as error:
            raise self.fail("inline data cannot be decoded", where=where) from error

    def item(self, kind: str, number: Any, where: str) -> dict[str, Any]:
        """Entry of one of the file's lists. Raises MeshFileError for a missing one."""
        entries = self.json.get(kind, [])
        if not isinstance(number, int) or not 0 <= number < len(entries):
            raise self.fail(f"names {kind} {number}, but there are {len(entries)}", where=where)
        return dict(entries[number])

    def view(self, number: Any, where: str) -> bytes:
        """Bytes of a buffer view."""
        entry = self.item("bufferViews", number, where)
        start, length = int(entry.get("byteOffset", 0)), int(entry["byteLength"])
        buffer = self.buffers[entry["buffer"]] if entry["buffer"] < len(self.buffers) else b""
        if start < 0 or length < 0 or start + length > len(buffer):
            raise self.fail("a view runs past its buffer", where=f"view {number}")
        return buffer[start : start + length]

    def accessor(self, number: Any, where: str) -> np.ndarray:
        """Values (count, width) of an accessor, normalised integers as floats; sparse ones filled in."""
        entry = self.item("accessors", number, where)
        try:
            kind, width = np.dtype("<" + COMPONENTS[entry["componentType"]]), WIDTHS[entry["type"]]
        except KeyError:
            raise self.fail("has an unknown component or type", where=f"accessor {number}") from None
        count = int(entry["count"])
        if "bufferView" in entry:
            values = self._strided(entry, entry["bufferView"], kind, width, count, number)
        else:
            if count * width > 1 << 28:
                raise self.fail(f"claims {count} values without data", where=f"accessor {number}")
            values = np.zeros((count, width), dtype=kind)
        if "sparse" in entry:
            values = values.copy()
            s = entry["sparse"]
            index_kind = np.dtype("<" + COMPONENTS[s["indices"]["componentType"]])
            rows = self._strided(s["indices"], s["indices"]["bufferView"], index_kind, 1, s["count"], number)[:, 0]
            if len(rows) and rows.max() >= count:
                raise self.fail("a sparse index is out of range", where=f"accessor {number}")
            values[rows] = self._strided(s["values"], s["values"]["bufferView"], kind, width, s["count"], number)
        if entry.get("normalized") and kind.kind in "iu":
            values = np.maximum(values / float(np.iinfo(kind).max), -1.0)
        return values

    def _strided(
        self, entry: dict[str, Any], view: int, kind: np.dtype[Any], width: int, count: int, number: Any
    ) -> np.ndarray:
        data = self.view(view, f"accessor {number}")
        start = int(entry.get("byteOffset", 0))
        item = kind.itemsize * width
        stride = int(self.item("bufferViews", view, "").get("byteStride", item) or item)
        if count < 0 or start < 0 or stride < item or (count and start + (count - 1) * stride + item > len(data)):
            raise self.fail(f"claims {count} values, more than its view holds", where=f"accessor {number}")
        if count == 0:
            return np.zeros((0, width), dtype=kind)
        if stride == item:
            return np.frombuffer(data, kind, count * width, start).reshape(count, width)
        raw = np.frombuffer(data, np.uint8)
        rows = start + np.arange(count)[:, None] * stride + np.arange(item)
        return np.ascontiguousarray(raw[rows]).view(kind).reshape(count, width)

    def node_worlds(self) -> tuple[FloatArray, list[int]]:
        """World matrices (nodes, 4, 4) at rest, and each node's parent (-1 none). Raises on a loop."""
        nodes = self.json.get("nodes", [])
        parents = [-1] * len(nodes)
        for i, node in enumerate(nodes):
            for child in node.get("children", []):
                if not isinstance(child, int) or not 0 <= child < len(nodes):
                    raise self.fail(f"names node {child}, but there are {len(nodes)}", where=f"node {i}")
                parents[child] = i
        worlds = np.tile(np.eye(4), (max(len(nodes), 1), 1, 1))
        for i in range(len(nodes)):
            chain, here = [], i
            while here >= 0:
                chain.append(here)
                if len(chain) > len(nodes):
                    raise self.fail("nodes are their own parents", where=f"node {i}")
                here = parents[here]
            matrix = np.eye(4)
            for k in reversed(chain):
                matrix = matrix @ local_matrix(nodes[k])
            worlds[i] = matrix
        return worlds, parents


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
    names: set[str] = set()
    for number, node in enumerate(file.json.get("nodes", [])):
        if "mesh" not in node:
            continue
        mesh = file.item("meshes", node["mesh"], f"node {number}")
        name = _unique(str(node.get("name") or mesh.get("name") or f"mesh {number}"), names)
        skin = node.get("skin")
        matrix = skeleton.settle if skin is not None and skeleton is not None else worlds[number]
        part, joints, values = _part(file, f"part{len(parts)}", name, mesh, matrix, len(materials) - 1)
        if part is None:
            continue
        parts.append(part)
        if skin is not None and skeleton is not None and joints is not None and values is not None:
            weights[part.id] = skin_weights(file, skeleton, int(skin), joints, values)
    if not parts:
        raise file.fail("holds no surface", hint="export the mesh with its faces")
    clips = read_clips(file, skeleton, parents) if skeleton is not None else ()
    for kind, label in (("cameras", "cameras"), ("lights", "lights")):
        if file.json.get(kind):
            file.notes.append(f"{label} ignored: {len(file.json[kind])}")
    used = {m.base_image for m in materials} | {m.normal_image for m in materials}
    return Imported(
        tuple(parts),
        tuple(materials),
        tuple(i for i in images if i is not None and i.name in used),
        skeleton.skeleton if skeleton is not None else None,
        weights or None,
        clips,
        tuple(file.notes),
    )


def _unique(name: str, taken: set[str]) -> str:
    base, number = name, 2
    while name in taken:
        name, number = f"{base} {number}", number + 1
    taken.add(name)
    return name


def _part(
    file: GltfFile, part_id: str, name: str, mesh: dict[str, Any], matrix: FloatArray, plain: int
) -> tuple[Part | None, np.ndarray | None, np.ndarray | None]:
    """One part of a mesh: its primitives one after the other; those sharing an accessor share vertices."""
    blocks: dict[int, int] = {}
    points, corners, uvs, normals, materials, joints, values = [], [], [], [], [], [], []
    targets: list[tuple[int, int, list[dict[str, Any]]]] = []
    total, have_uv, have_normal, have_skin = 0, True, True, True
    for number, primitive in enumerate(mesh.get("primitives", [])):
        where = f"mesh {name}, primitive {number}"
        mode = primitive.get("mode", 4)
        attributes = primitive["attributes"]
        if mode not in (4, 5, 6) or "POSITION" not in attributes:
            file.notes.append(f"{name}: a primitive that is no surface ignored")
            continue
        position = attributes["POSITION"]
        fresh = position not in blocks
        p = file.accessor(position, where).astype(np.float64)
        if position not in blocks:
            blocks[position] = total
            points.append(p @ matrix[:3, :3].T + matrix[:3, 3])
            total += len(p)
            if "JOINTS_0" in attributes and "WEIGHTS_0" in attributes:
                sets = [k for k in range(8) if f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes]
                joints.append([file.accessor(attributes[f"JOINTS_{k}"], where).astype(np.int64) for k in sets])
                values.append([file.accessor(attributes[f"WEIGHTS_{k}"], where).astype(np.float64) for k in sets])
            else:
                have_skin = False
        base = blocks[position]
        if "indices" in primitive:
            index = file.accessor(primitive["indices"], where)[:, 0].astype(np.int64)
        else:
            index = np.arange(len(p))
        index = _as_triangles(index, mode)
        if len(index) and index.max() >= len(p):
            raise file.fail(f"a face names vertex {int(index.max())}, but there are {len(p)}", where=where)
        corners.append(index + base)
        if "TEXCOORD_0" in attributes:
            uv = file.accessor(attributes["TEXCOORD_0"], where).astype(np.float64)[index]
            uvs.append(np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1))
        else:
            have_uv = False
        if "NORMAL" in attributes:
            turn = np.linalg.inv(matrix[:3, :3]).T
            n = file.accessor(attributes["NORMAL"], where).astype(np.float64)[index] @ turn.T
            normals.append(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12))
        else:
            have_normal = False
        if fresh:
            targets.append((base, len(p), primitive.get("targets", [])))
        material = primitive.get("material")
        materials.append(np.full(len(index) // 3, plain if material is None else int(material)))
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
    )
    part = Part(part_id, name, mesh_record, morphs=_morphs(file, mesh, targets, total, matrix))
    if not have_skin or not joints:
        return part, None, None
    width = max(len(j) for j in joints)
    pad = [j + [np.zeros_like(j[0])] * (width - len(j)) for j in joints]
    pad_values = [v + [np.zeros_like(v[0])] * (width - len(v)) for v in values]
    all_joints = np.concatenate([np.concatenate(j, axis=1) for j in pad])
    return part, all_joints, np.concatenate([np.concatenate(v, axis=1) for v in pad_values])


def _morphs(
    file: GltfFile, mesh: dict[str, Any], targets: list[tuple[int, int, list[dict[str, Any]]]], total: int,
    matrix: FloatArray,
) -> tuple[Morph, ...]:  # fmt: skip
    """Morph targets of a mesh, over all its primitives: targets (first vertex, vertices, entries)."""
    count = max((len(entries) for _, _, entries in targets), default=0)
    extras = mesh.get("extras")
    names = extras.get("targetNames", []) if isinstance(extras, dict) else []
    weights = mesh.get("weights", [])
    made = []
    for k in range(count):
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
        made.append(Morph(name, deltas, float(weights[k]) if k < len(weights) else 0.0))
    return tuple(made)


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
    names: set[str] = set()
    for number, entry in enumerate(file.json.get("images", [])):
        uri = entry.get("uri")
        name = str(entry.get("name") or (uri if uri and not uri.startswith("data:") else f"image{number}"))
        data: bytes | None = None
        if uri is None:
            data = file.view(entry.get("bufferView"), f"image {number}")
        elif uri.startswith("data:"):
            data = file._inline(uri, f"image {number}")
        else:
            place = beside(file.path, unquote(uri))
            data = place.read_bytes() if place else None
        image = image_from_bytes(name, data) if data else None
        if image is None:
            file.notes.append(f"picture {name} is missing or no picture")
        else:
            stem = Path(image.name).stem or f"image{number}"
            image = Image(
                _unique(stem, names) + (".png" if image.kind == "image/png" else ".jpg"), image.kind, image.data
            )
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
    return Material(
        str(entry.get("name") or f"material {number}"),
        (r, g, b, a),
        float(shine.get("metallicFactor", 1.0)),
        float(shine.get("roughnessFactor", 1.0)),
        picture(shine.get("baseColorTexture")),
        picture(entry.get("normalTexture")),
        bool(entry.get("doubleSided", False)),
        entry.get("alphaMode", "OPAQUE") == "BLEND",
    )
