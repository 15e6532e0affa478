"""The project file, `.pegloom`: a ZIP of `document.json`, `arrays/*.npy` and `blobs/*`.

document.json holds {"format": "pegloom", "version": 1, "document": ...}. A record is {"is": its class, fields...};
an array {"array": number}, bytes {"blob": number}, an enum {"choice": class, "value": ...}, a mapping {"pairs":
[[key, value]...]}, a tuple a list. Arrays used twice are written once. Read with pickles off; sizes a file claims are
checked against what `allowance` grants first. Saved by `outgoing`: a stop at any moment leaves the old file or the
new one.
"""

from __future__ import annotations

import dataclasses
import io
import json
import math
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import replace
from enum import Enum
from pathlib import Path
from types import MappingProxyType
from typing import Any

import numpy as np

from pegloom.core.errors import MeshFileError, PegLoomError, ProjectFileError, ShapeError, TooLargeError, one_line
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.motion.clips import Between, Clip, Curve, Track
from pegloom.core.rig.controls import Control, ControlRig, IkLimb, Pose, Shape
from pegloom.core.rig.plan import make_plan
from pegloom.core.skeleton.joints import Joint, Side, Skeleton
from pegloom.core.skeleton.kits import Kit
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.core.skin.relax import Relax
from pegloom.core.skin.weights import Weights
from pegloom.core.tolerances import FARTHEST
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
from pegloom.files.allowance import MOST_PARTS, allowed, take
from pegloom.files.allowance import count as limited
from pegloom.files.images import KEPT, kind_of
from pegloom.files.imported import checked_size, reason
from pegloom.files.names import Unique, is_picture_name, picture_name
from pegloom.files.outgoing import outgoing
from pegloom.files.soundness import clip as sound_clip
from pegloom.files.soundness import joints as sound_joints
from pegloom.files.soundness import material as sound_material
from pegloom.files.soundness import part as sound_part
from pegloom.files.soundness import weights as sound_weights
from pegloom.files.typed import wrong_field

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
MOST_ENTRIES = 200_000


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


def save_project(path: Path, document: Document, *, pack: bool = True) -> None:
    """Save atomically. Raises ProjectFileError when the place cannot be written; the old file stays then.

    pack : whether its arrays are compressed.
    """
    packer = _Packer()
    tree = packer.pack(document)
    kind = zipfile.ZIP_DEFLATED if pack else zipfile.ZIP_STORED
    with (
        outgoing(error=ProjectFileError, hint="choose another place; nothing is lost") as out,
        zipfile.ZipFile(out.stream(path), "w", kind, compresslevel=1 if pack else None) as archive,
    ):
        head = {"format": "pegloom", "version": VERSION, "document": tree}
        archive.writestr("document.json", json.dumps(head, separators=(",", ":")))
        for number, array in enumerate(packer.arrays):
            made = io.BytesIO()
            np.save(made, array, allow_pickle=False)
            archive.writestr(f"arrays/{number}.npy", made.getvalue())
        for number, blob in enumerate(packer.blobs):
            archive.writestr(f"blobs/{number}", blob)


def open_project(path: Path, *, most: int | None = None) -> Document:
    """Open a project. most: bytes it may unpack to, None for what `allowance` grants.

    Raises ProjectFileError: what is wrong, where, what to do; TooLargeError past `most`. Nothing in a file is run.
    """
    try:
        size = checked_size(path)
        with allowed(path.name, size, most=most, project=True), zipfile.ZipFile(path) as archive:
            return _read(path, archive)
    except TooLargeError:
        raise
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
        raise ProjectFileError(
            path.name, "this is no Peg Loom project, or it is cut short", hint="open its autosave or an older copy"
        ) from error
    except OSError as error:
        raise ProjectFileError(path.name, f"cannot be read ({error.strerror or error})", hint="check rights") from error
    except ProjectFileError:
        raise
    except MeshFileError as error:
        raise ProjectFileError(path.name, error.what, where=error.where, hint=error.hint) from error
    except PegLoomError as error:
        raise ProjectFileError(path.name, str(error), hint="open an older copy") from error
    except MemoryError as error:
        raise ProjectFileError(path.name, "needs more memory than there is", hint="close other programs") from error
    except Exception as error:  # whatever damage leads to, nothing but words comes out
        raise ProjectFileError(
            path.name, f"its contents are damaged ({type(error).__name__}: {reason(error)})", hint="open an older copy"
        ) from error


JSON_TIMES = 24
"""Bytes that a byte of JSON may take once it is read: an empty list is three characters."""


class _Unpacker:
    """Records, arrays and bytes of a project, each read once."""

    def __init__(self, path: Path, archive: zipfile.ZipFile) -> None:
        self.path, self.archive = path, archive
        self.arrays: dict[int, np.ndarray] = {}
        self.blobs: dict[int, bytes] = {}

    def fail(self, what: str, where: str = "") -> ProjectFileError:
        return ProjectFileError(self.path.name, what, where=where, hint="open an older copy")

    def entry(self, name: str, times: int = 1, where: str = "") -> bytes:
        """The bytes of an entry; what it claims is checked before it is unpacked."""
        try:
            info = self.archive.getinfo(name)
        except KeyError:
            raise self.fail(f"names {name}, which is not in it", where) from None
        take(times * info.file_size, name, where)
        return self.archive.read(info)

    def number(self, text: str) -> float:
        value = float(text)
        if not np.isfinite(value):
            raise self.fail(f"{text[:20]} is no number", "document.json")
        return value

    def head(self) -> dict[str, Any]:
        data = self.entry("document.json", JSON_TIMES)
        try:
            head = json.loads(data, parse_float=self.number, parse_constant=self.number)
        except RecursionError:
            raise self.fail("its records are nested too deep", "document.json") from None
        if not isinstance(head, dict) or head.get("format") != "pegloom":
            raise ProjectFileError(self.path.name, "this is no Peg Loom project")
        if not isinstance(head.get("version"), int) or head["version"] < 1:
            raise self.fail("tells no version", "document.json")
        if head["version"] > VERSION:
            raise ProjectFileError(
                self.path.name, f"was saved by a newer Peg Loom (format {head['version']})", hint="update the program"
            )
        return head

    def array(self, number: int, where: str) -> np.ndarray:
        if number not in self.arrays:
            data = self.entry(f"arrays/{int(number)}.npy", where=where)
            self.arrays[number] = self._parsed(data, where)
        return self.arrays[number]

    def _parsed(self, data: bytes, where: str) -> np.ndarray:
        """An array over the entry's own bytes: nothing is copied, its header is held against what is there."""
        stream = io.BytesIO(data)
        try:
            version = np.lib.format.read_magic(stream)
            read_header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
            shape, by_columns, kind = read_header[version](stream)
        except (ValueError, KeyError, SyntaxError, RecursionError, MemoryError) as error:
            raise self.fail(f"an array's header makes no sense ({reason(error)})", where) from None
        if kind.kind not in "biuf" or kind.hasobject:
            raise self.fail(f"an array holds {kind} instead of numbers", where)
        count = math.prod(shape)
        if any(n < 0 for n in shape) or count * kind.itemsize != len(data) - stream.tell():
            raise self.fail("an array's size is not what it claims", where)
        made = np.frombuffer(data, kind, count, stream.tell()).reshape(shape, order="F" if by_columns else "C")
        if kind.kind == "f" and not np.isfinite(made).all():
            raise self.fail("an array holds what is no number", where)
        return made

    def blob(self, number: int, where: str) -> bytes:
        if number not in self.blobs:
            self.blobs[number] = self.entry(f"blobs/{int(number)}", where=where)
        return self.blobs[number]

    def unpack(self, value: Any, where: str) -> Any:
        """What a value of the file's JSON stands for. Raises ProjectFileError with its path."""
        try:
            return self._unpacked(value, where)
        except PegLoomError:
            raise
        except (KeyError, TypeError, ValueError, IndexError, AttributeError, OverflowError) as error:
            raise self.fail(f"cannot be understood ({type(error).__name__}: {reason(error)})", where) from None

    def _unpacked(self, value: Any, where: str) -> Any:
        if isinstance(value, list):
            if all(type(v) in PLAIN for v in value):
                return tuple(value)
            return tuple(self.unpack(v, f"{where}[{i}]") for i, v in enumerate(value))
        if not isinstance(value, dict):
            return value
        if "array" in value:
            return self.array(value["array"], where)
        if "blob" in value:
            return self.blob(value["blob"], where)
        if "choice" in value:
            return CHOICES[value["choice"]](value["value"])
        if "pairs" in value:
            return MappingProxyType(
                {self.unpack(k, where): self.unpack(v, f"{where}[{str(k)[:40]}]") for k, v in value["pairs"]}
            )
        kind = RECORDS.get(value.get("is", ""))
        if kind is None:
            raise self.fail(f"holds a record of a kind that is not known ({str(value.get('is'))[:40]})", where)
        known = {f.name for f in dataclasses.fields(kind)}
        fields = {k: self.unpack(v, f"{where}.{k}") for k, v in value.items() if k in known}
        if kind is Character and isinstance(fields.get("trials"), Mapping):
            # Until they had pictures, trials were a mapping from name to pose; no window ever filled it.
            fields["trials"] = ()
        try:
            made = kind(**fields)
        except TypeError as error:
            raise self.fail(f"a {kind.__name__} lacks something ({reason(error)})", where) from None
        except PegLoomError as error:
            raise self.fail(str(error), where) from None
        wrong = wrong_field(made) or _out_of_rule(made)
        if wrong:
            place, _, what = wrong.partition(": ")
            raise self.fail(what, f"{where}{place}")
        return made


def _out_of_rule(made: Any) -> str:
    """What a record's types do not tell: lengths and ranges. As `wrong_field`."""
    if isinstance(made, Control) and len(made.rest) != 16:
        return f".rest: 16 numbers were expected, found {len(made.rest)}"
    if isinstance(made, Standing) and len(made.file_to_character) != 16:
        return f".file_to_character: 16 numbers were expected, found {len(made.file_to_character)}"
    if isinstance(made, Pose):
        for joint, row in made.placements.items():
            if len(row) != 10:
                return f".placements[{joint[:40]}]: 10 numbers were expected, found {len(row)}"
    if isinstance(made, Relax) and not 0 <= made.steps <= MOST_STEPS:
        return f".steps: 0 to {MOST_STEPS} were expected, found {made.steps}"
    if isinstance(made, Reference) and made.along not in ("x", "y", "z"):
        return f".along: x, y or z was expected, found {made.along[:20]}"
    if isinstance(made, Skin) and not 0 <= made.influences <= MOST_INFLUENCES:
        return f".influences: 0 to {MOST_INFLUENCES} were expected, found {made.influences}"
    return ""


MOST_STEPS, MOST_INFLUENCES = 1000, 64
PLAIN = (int, float, str, bool, type(None))


def _read(path: Path, archive: zipfile.ZipFile) -> Document:
    limited(len(archive.infolist()), MOST_ENTRIES, "entries")
    unpacker = _Unpacker(path, archive)
    document = unpacker.unpack(unpacker.head().get("document"), "document")
    if not isinstance(document, Document):
        raise ProjectFileError(path.name, "holds no document")
    if not isinstance(document.active, int) or not 0 <= document.active < max(len(document.characters), 1):
        raise unpacker.fail(f"character {str(document.active)[:20]} is in hand, but it is not there", "document.active")
    for i, character in enumerate(document.characters):
        _check_references(path, character, f"document.characters[{i}]")
    return replace(document, characters=tuple(_checked(path, c) for c in document.characters))


def _check_references(path: Path, character: Character, where: str) -> None:
    """What one thing says of another: joints that hold weight, what a rig drives and rides on, the pegs of kits."""

    def fail(what: str, place: str) -> ProjectFileError:
        return ProjectFileError(path.name, what, where=f"{where}.{place}", hint="open an older copy")

    joints = character.skeleton.index if character.skeleton is not None else {}
    skins = [("skin", character.skin)] if character.skin is not None else []
    for place, skin in [*skins, *((f"weaves[{k}].skin", w.skin) for k, w in enumerate(character.weaves))]:
        for part, weights in skin.weights.items():
            missing = [j for j in weights.joint_ids if j not in joints]
            if missing or len(set(weights.joint_ids)) != len(weights.joint_ids):
                raise fail(f"names joint {str((missing or weights.joint_ids)[0])[:40]} wrongly", f"{place}.weights[{part}]")
    rig = character.rig
    if rig is not None:
        if character.skeleton is None:
            raise fail("there are controls, but no joints", "rig")
        if len(rig.index) != len(rig.controls):
            raise fail("two controls have one id", "rig.controls")
        try:
            make_plan(character.skeleton, rig)
        except PegLoomError as error:
            raise fail(str(error), "rig") from None
    if character.pegs is not None:
        known = {*character.pegs.by_name, *character.pegs.spare}
        for k, kit in enumerate(character.pegs.kits):
            if not set(kit.pegs) <= known:
                raise fail(f"names pegs that are not there ({', '.join(set(kit.pegs) - known)[:60]})", f"pegs.kits[{k}]")
            if not len(kit.joints) == len(kit.names) == len(kit.at):
                raise fail("has not one name and place for each joint", f"pegs.kits[{k}]")
            last = len(kit.pegs) - 1
            if kit.kind != "root" and not all(0 <= place <= last + 1e-9 for place in (last, *kit.at, *kit.fold)):
                raise fail("has joints beyond its pegs", f"pegs.kits[{k}]")


def _checked(path: Path, character: Character) -> Character:
    """What a damaged or hand-made file may get wrong that would only show later: refused, or mended with a line."""
    notes: list[str] = []
    limited(len(character.parts), MOST_PARTS, "parts")
    if len({p.id for p in character.parts}) != len(character.parts):
        raise ProjectFileError(path.name, "two parts have one id", hint="open an older copy")
    for part in character.parts:
        _check_mesh(path, part)
    skins = [*([character.skin] if character.skin else []), *(w.skin for w in character.weaves)]
    for skin in skins:
        _check_skin(path, character, skin)
    for chosen in character.vertex_sets.values():
        for part_id, vertices in chosen.items():
            most = character.part(part_id).mesh.vertex_count
            if len(vertices) and not 0 <= vertices.min() <= vertices.max() < most:
                raise ProjectFileError(path.name, "a vertex set names a missing vertex", where=part_id)
    materials = tuple(sound_material(m, notes) for m in character.materials)
    parts = tuple(sound_part(p, max(len(materials), 1), notes) for p in character.parts)
    images, renamed = _named_plainly(character.images, notes)
    pictured = [*character.images, *(r.image for r in character.references)]
    pictured += [t.picture for t in character.trials if t.picture is not None]
    for image in pictured:
        if KEPT.get(kind_of(image.data) or "") != image.kind:
            raise ProjectFileError(path.name, "a picture is neither PNG nor JPEG", where=one_line(str(image.name))[:60])
    if renamed:
        materials = tuple(
            replace(m, base_image=renamed.get(m.base_image, m.base_image), normal_image=renamed.get(m.normal_image, m.normal_image))
            for m in materials
        )  # fmt: skip
    skeleton = character.skeleton if character.skeleton is None else sound_joints(character.skeleton)
    clips = tuple(sound_clip(c) for c in character.clips)
    same = all(
        a is b
        for a, b in zip(
            (*materials, *parts, *clips), (*character.materials, *character.parts, *character.clips), strict=True
        )
    )
    if same and not notes and skeleton is character.skeleton:
        return character
    arrival = (*character.arrival, *(f"mended: {n}" for n in notes))
    return replace(
        character, materials=materials, parts=parts, images=images, skeleton=skeleton, clips=clips, arrival=arrival
    )


def _named_plainly(images: tuple[Image, ...], notes: list[str]) -> tuple[tuple[Image, ...], dict[str | None, str]]:
    """Pictures whose names are names and nothing else; what was renamed."""
    if all(is_picture_name(i.name) for i in images) and len({i.name for i in images}) == len(images):
        return images, {}
    unique = Unique("_")
    made, renamed = [], dict[str | None, str]()
    for image in images:
        name = image.name if is_picture_name(image.name) else picture_name(str(image.name), image.kind)
        name = unique(name)
        if name != image.name:
            notes.append(f"picture {one_line(str(image.name))[:60]} is called {name} now")
            renamed.setdefault(image.name, name)
        made.append(Image(name, image.kind, image.data))
    return tuple(made), renamed


def _check_mesh(path: Path, part: Part) -> None:
    mesh = part.mesh
    corners, faces = len(mesh.corners), len(mesh.starts) - 1
    fits = (
        mesh.points.ndim == 2
        and mesh.points.shape[1] == 3
        and mesh.corners.ndim == mesh.starts.ndim == mesh.materials.ndim == 1
        and all(a.dtype.kind in "iu" for a in (mesh.corners, mesh.starts, mesh.materials))
        and faces >= 0
        and mesh.starts[0] == 0
        and mesh.starts[-1] == corners
        and bool((np.diff(mesh.starts) >= 3).all())
        and len(mesh.materials) == faces
        and (mesh.uvs is None or mesh.uvs.shape == (corners, 2))
        and (mesh.normals is None or mesh.normals.shape == (corners, 3))
    )
    if not fits:
        raise ProjectFileError(
            path.name, "a mesh is not put together right", where=part.name, hint="open an older copy"
        )
    if corners and (mesh.corners.min() < 0 or mesh.corners.max() >= mesh.vertex_count):
        raise ProjectFileError(path.name, "a face names a missing vertex", where=part.name)
    # What is shown and worked out of a mesh takes several times its arrays.
    take(100 * mesh.vertex_count + 40 * corners, f"mesh {part.name}")
    if max(-mesh.points.min(initial=0.0), mesh.points.max(initial=0.0)) > FARTHEST:
        raise ProjectFileError(path.name, "a vertex lies farther off than anything is", where=part.name)


def _check_skin(path: Path, character: Character, skin: Skin) -> None:
    for part_id, weights in skin.weights.items():
        try:
            sound_weights(weights, character.part(part_id).mesh)
        except ShapeError as error:
            raise ProjectFileError(path.name, f"weights do not fit their part: {error}", where=part_id) from None
    masks = [(p, r.mask) for p, r in skin.relax.items() if r.mask is not None]
    for part_id, values in (*skin.dual.items(), *masks):
        if len(values) != character.part(part_id).mesh.vertex_count:
            raise ProjectFileError(path.name, "a painted mask does not fit its part", where=part_id)
