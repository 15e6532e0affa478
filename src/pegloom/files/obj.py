"""Wavefront OBJ with MTL: polygons, vertex order, UVs, normals, material slots and textures kept.

Format: Wavefront, "Object Files (.obj)", appendix B1 of the Advanced Visualizer manual. Free-form curves and
surfaces are not read; they are listed as ignored.
"""

from __future__ import annotations

import io
from array import array
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import MeshFileError, ShapeError
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.document.model import Image, Material, Part
from pegloom.files.allowance import MOST_PARTS, take
from pegloom.files.allowance import count as limited
from pegloom.files.images import WANTED, image_from_bytes
from pegloom.files.imported import Imported
from pegloom.files.names import Unique, word_of
from pegloom.files.neighbours import Neighbours
from pegloom.files.outgoing import outgoing
from pegloom.files.raw import beside, read_beside, read_bytes
from pegloom.files.soundness import usable

IGNORED = {"l", "p", "s", "cstype", "deg", "curv", "surf", "parm", "trim", "hole", "end", "vp", "bmat", "step", "curv2"}


class _Faces:
    """Faces of one part, flat: vertex, UV and normal (c,) of each corner (-1 none); size and material (f,)."""

    def __init__(self) -> None:
        self.vertex, self.uv, self.normal = array("q"), array("q"), array("q")
        self.sizes, self.materials = array("q"), array("q")


class _Reader:
    def __init__(self, path: Path) -> None:
        self.path = path
        self.points, self.uvs, self.normals = array("d"), array("d"), array("d")
        self.faces: dict[str, _Faces] = {}
        self.materials: dict[str, int] = {}
        self.libraries: list[str] = []
        self.notes: dict[str, int] = {}

    def fail(self, number: int, what: str) -> MeshFileError:
        return MeshFileError(
            self.path.name, what, where=f"line {number}", hint="export the file again or mend that line"
        )

    def read(self, data: bytes) -> None:
        object_name, group_name, material = "", "", -1
        pending: list[str] = []
        # One line at a time: a list of all lines takes many times the room of the text.
        for number, raw in enumerate(io.TextIOWrapper(io.BytesIO(data), "utf-8", errors="replace"), 1):
            raw = raw.rstrip("\n")
            if raw.endswith("\\"):
                pending.append(raw[:-1])
                continue
            line = raw if not pending else " ".join([*pending, raw])
            pending = []
            words = uncommented(line).split()
            if not words:
                continue
            key, values = words[0], words[1:]
            try:
                if key == "v":
                    x, y, z = values[:3]
                    self.points.extend((float(x), float(y), float(z)))
                elif key == "vt":
                    self.uvs.extend((float(values[0]), float(values[1]) if len(values) > 1 else 0.0))
                elif key == "vn":
                    x, y, z = values[:3]
                    self.normals.extend((float(x), float(y), float(z)))
                elif key == "f":
                    corners = [self._corner(number, word) for word in values]
                    if len({c[0] for c in corners}) < 3:
                        self._note("faces with under three different corners left out")
                        continue
                    self._face(object_name or group_name or self.path.stem, corners, material)
                elif key == "o":
                    object_name = " ".join(values)
                elif key == "g":
                    group_name = " ".join(values)
                elif key == "usemtl":
                    material = self.materials.setdefault(" ".join(values), len(self.materials))
                elif key == "mtllib":
                    self.libraries.append(uncommented(line).split(None, 1)[1].strip())
                elif key in IGNORED:
                    self._note(f"'{key}' lines ignored")
                else:
                    self._note(f"unknown '{key[:20]}' lines ignored")
            except (ValueError, IndexError):
                raise self.fail(number, f"cannot make sense of '{line.strip()[:60]}'") from None

    def _face(self, part: str, corners: list[tuple[int, int, int]], material: int) -> None:
        faces = self.faces.get(part)
        if faces is None:
            limited(len(self.faces) + 1, MOST_PARTS, "parts")
            faces = self.faces[part] = _Faces()
        for vertex, uv, normal in corners:
            faces.vertex.append(vertex)
            faces.uv.append(uv)
            faces.normal.append(normal)
        faces.sizes.append(len(corners))
        faces.materials.append(material)

    def _note(self, text: str) -> None:
        self.notes[text] = self.notes.get(text, 0) + 1

    def _corner(self, number: int, word: str) -> tuple[int, int, int]:
        pieces = word.split("/")
        sizes = (len(self.points) // 3, len(self.uvs) // 2, len(self.normals) // 3)
        result = []
        for k in range(3):
            text = pieces[k] if k < len(pieces) else ""
            if not text:
                result.append(-1)
                continue
            value = int(text)
            index = value - 1 if value > 0 else sizes[k] + value
            if value == 0 or index < 0 or (k == 0 and index >= sizes[0]):
                kind = ("vertex", "UV", "normal")[k]
                raise self.fail(number, f"a face names {kind} {value}, but {sizes[k]} are known there")
            result.append(index if index < sizes[k] else -1)
        if result[0] < 0:
            raise self.fail(number, f"a face corner '{word}' names no vertex")
        return result[0], result[1], result[2]


def read_obj(path: Path) -> Imported:
    """Read an OBJ file. Raises MeshFileError: which file, what, which line, what to do."""
    data = read_bytes(path)
    if b"\x00" in data[:4096]:
        raise MeshFileError(path.name, "this is a binary file, not OBJ text", hint="check its type")
    take(len(data), "text")
    reader = _Reader(path)
    reader.read(data)
    if not reader.points or not reader.faces:
        raise MeshFileError(
            path.name,
            f"holds no surface ({len(reader.points) // 3} vertices, no faces)",
            hint="export the mesh with its faces",
        )
    points = np.array(reader.points, dtype=np.float64).reshape(-1, 3)
    if not np.isfinite(points).all():
        bad = int(np.flatnonzero(~np.isfinite(points).all(axis=1))[0])
        raise MeshFileError(path.name, "a vertex position is not a number", where=f"vertex {bad + 1}", hint="mend it")
    materials, images, missing = _read_materials(path, reader)
    notes = [f"{text}: {count}" for text, count in reader.notes.items()] + missing
    parts, loose = _make_parts(reader, points, notes)
    if loose:
        notes.append(f"vertices no face uses, kept in the first part: {loose}")
    return Imported(tuple(parts), tuple(materials), tuple(images), notes=tuple(notes))


def uncommented(line: str) -> str:
    """A line without its comment: from a `#` at its start or after a space, so that names may hold one."""
    at = line.find("#")
    while at > 0 and not line[at - 1].isspace():
        at = line.find("#", at + 1)
    return line if at < 0 else line[:at]


def _make_parts(reader: _Reader, points: FloatArray, notes: list[str]) -> tuple[list[Part], int]:
    uvs, normals = np.array(reader.uvs).reshape(-1, 2), np.array(reader.normals).reshape(-1, 3)
    owner = np.full(len(points), -1, dtype=np.int64)
    corners = {n: np.stack([np.asarray(a, dtype=np.int64) for a in (f.vertex, f.uv, f.normal)], axis=1)
               for n, f in reader.faces.items()}  # fmt: skip
    for number, part_corners in enumerate(corners.values()):
        owner[part_corners[:, 0]] = np.where(owner[part_corners[:, 0]] < 0, number, owner[part_corners[:, 0]])
    loose = int((owner < 0).sum())
    owner[owner < 0] = 0
    default = len(reader.materials)
    parts: list[Part] = []
    for number, (name, faces) in enumerate(reader.faces.items()):
        c = corners[name]
        # A part keeps its vertices in file order; one shared between parts is copied to each.
        mine = np.zeros(len(points), dtype=bool)
        mine[c[:, 0]] = True
        mine |= owner == number
        kept = np.flatnonzero(mine)
        new_index = np.cumsum(mine) - 1
        take(8 * (3 * len(kept) + 7 * len(c)), f"part {name[:40]}")
        slots = np.asarray(faces.materials, dtype=np.int64)
        own_uvs, own_normals = usable(
            uvs[c[:, 1]] if len(uvs) and (c[:, 1] >= 0).all() else None,
            _unit(normals[c[:, 2]]) if len(normals) and (c[:, 2] >= 0).all() else None,
            notes,
            name,
        )
        try:
            mesh = make_mesh(
                points[kept],
                new_index[c[:, 0]],
                np.concatenate([[0], np.cumsum(np.asarray(faces.sizes))]),
                uvs=own_uvs,
                normals=own_normals,
                materials=np.where(slots >= 0, slots, default),
            )
        except ShapeError as error:
            raise MeshFileError(reader.path.name, str(error), where=f"part {name}", hint="export it again") from error
        parts.append(Part(f"part{number}", name, mesh))
    return parts, loose


def _unit(vectors: FloatArray) -> FloatArray:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    return np.where(length > 1e-9, vectors / np.maximum(length, 1e-9), [0.0, 1.0, 0.0])


def _read_materials(path: Path, reader: _Reader) -> tuple[list[Material], list[Image], list[str]]:
    found: dict[str, dict[str, list[str]]] = {}
    notes: list[str] = []
    for library in reader.libraries:
        data = read_beside(path, library)
        if data is None:
            notes.append(f"material file not found beside the mesh: {library[:80]}")
            continue
        current = ""
        for line in io.TextIOWrapper(io.BytesIO(data), "utf-8", errors="replace"):
            words = uncommented(line).split()
            if len(words) >= 2 and words[0] == "newmtl":
                current = " ".join(words[1:])
                found[current] = {}
            elif len(words) >= 2 and current:
                found[current][words[0].lower()] = words[1:]
    images: dict[str, Image | None] = {}
    materials = []
    for name in reader.materials:
        entry = found.get(name, {})
        base = _picture(path, entry.get("map_kd"), images, notes)
        normal = _picture(path, entry.get("norm") or entry.get("map_bump") or entry.get("bump"), images, notes)
        colour = _floats(entry.get("kd"), (0.8, 0.8, 0.8))
        opacity = _floats(entry.get("d"), (1.0,))[0]
        shine = _floats(entry.get("ns"), (20.0,))[0]
        # Blinn's exponent to roughness: Karis, "Specular BRDF reference", 2013: exponent = 2 / roughness^4 - 2.
        roughness = _floats(entry.get("pr"), (float(np.clip((2.0 / (shine + 2.0)) ** 0.25, 0.05, 1.0)),))[0]
        metallic = _floats(entry.get("pm"), (0.0,))[0]
        r, g, b = (1.0, 1.0, 1.0) if base else colour
        materials.append(Material(name, (r, g, b, opacity), metallic, roughness, base, normal, see_through=opacity < 1))
    materials.append(Material("plain"))
    return materials, [i for i in images.values() if i is not None], notes


def _floats(words: list[str] | None, default: tuple[float, ...]) -> tuple[float, ...]:
    try:
        values = tuple(float(w) for w in words or ())
    except ValueError:
        return default
    return values[: len(default)] if len(values) >= len(default) else default


def _picture(path: Path, words: list[str] | None, images: dict[str, Image | None], notes: list[str]) -> str | None:
    if not words:
        return None
    for name in (" ".join(words), words[-1]):
        file = beside(path, name)
        if file is not None:
            key = str(file)
            if key not in images:
                image = image_from_bytes(file.name, read_beside(path, name) or b"")
                if image is None:
                    notes.append(f"no sound {WANTED}: {file.name}")
                else:
                    taken = {i.name for i in images.values() if i is not None}
                    while image.name in taken:
                        image = Image(f"_{image.name}", image.kind, image.data)
                images[key] = image
            found = images[key]
            return found.name if found is not None else None
    notes.append(f"picture not found beside the mesh: {words[-1][:80]}")
    return None


def write_obj(
    path: Path, parts: list[tuple[str, Mesh]], materials: tuple[Material, ...], images: tuple[Image, ...]
) -> list[str]:
    """Write meshes with their materials and pictures beside. Returns notes on what had to take another name.

    Raises MeshFileError where the place cannot be written; what was there stays then.
    """
    words = Unique("_")
    labels = [words(word_of(m.name, "material")) for m in materials]
    used = {name for m in materials for name in (m.base_image, m.normal_image) if name}
    with outgoing() as out:
        beside_it = Neighbours(out, path.parent)
        pictures = {i.name: beside_it.picture(i) for i in images if i.name in used}
        library = beside_it.text(f"{word_of(path.stem, 'materials')}.mtl", _mtl(materials, labels, pictures))
        stream = out.stream(path)
        for block in _obj_blocks(parts, labels, library):
            stream.write(block.encode())
    return beside_it.notes


def _obj_blocks(parts: list[tuple[str, Mesh]], labels: list[str], library: str) -> Iterator[str]:
    """The text of an OBJ file, piece by piece."""
    yield f"# Peg Loom\nmtllib {library}\n"
    at, uv_at, normal_at = 1, 1, 1
    names = Unique(" ")
    for name, mesh in parts:
        lines = [f"o {names(word_of(name, 'part'))}"]
        lines += [f"v {x:.7g} {y:.7g} {z:.7g}" for x, y, z in mesh.points]
        uv_index = normal_index = None
        if mesh.uvs is not None:
            unique, uv_index = np.unique(np.round(mesh.uvs, 7), axis=0, return_inverse=True)
            lines += [f"vt {u:.7g} {v:.7g}" for u, v in unique]
            uv_index = uv_index.ravel() + uv_at
            uv_at += len(unique)
        if mesh.normals is not None:
            unique, normal_index = np.unique(np.round(mesh.normals, 6), axis=0, return_inverse=True)
            lines += [f"vn {x:.6g} {y:.6g} {z:.6g}" for x, y, z in unique]
            normal_index = normal_index.ravel() + normal_at
            normal_at += len(unique)
        material = -1
        for face in range(mesh.face_count):
            if int(mesh.materials[face]) != material and labels:
                material = int(mesh.materials[face])
                lines.append(f"usemtl {labels[material]}")
            words = []
            for c in range(int(mesh.starts[face]), int(mesh.starts[face + 1])):
                word = str(int(mesh.corners[c]) + at)
                if uv_index is not None or normal_index is not None:
                    word += f"/{uv_index[c] if uv_index is not None else ''}"
                if normal_index is not None:
                    word += f"/{normal_index[c]}"
                words.append(word)
            lines.append("f " + " ".join(words))
        at += mesh.vertex_count
        yield "\n".join(lines) + "\n"


def _mtl(materials: tuple[Material, ...], labels: list[str], pictures: dict[str, str]) -> str:
    lines = []
    for entry, label in zip(materials, labels, strict=True):
        r, g, b, alpha = entry.base_colour
        lines += [f"newmtl {label}", f"Kd {r:.5g} {g:.5g} {b:.5g}", f"d {alpha:.5g}"]
        lines += [f"Pr {entry.roughness:.5g}", f"Pm {entry.metallic:.5g}"]
        lines += [f"map_Kd {pictures[entry.base_image]}"] if entry.base_image in pictures else []
        lines += [f"norm {pictures[entry.normal_image]}"] if entry.normal_image in pictures else []
    return "\n".join(lines) + "\n"
