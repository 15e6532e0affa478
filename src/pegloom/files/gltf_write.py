"""glTF 2.0 written as GLB: character, weights, clips, pictures. Vertex order kept; splits at UV seams come after.

Specification: Khronos Group, "glTF 2.0". Each material of a part is one primitive. Bind matrices are the inverse of
the rest; clips are sampled so finely that straight interpolation stays within BAKE_OF_SIZE of the live rig.
"""

from __future__ import annotations

import base64
import json
import os
import struct
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote, unquote

import numpy as np

from pegloom.core.arrays import FloatArray, IntArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import COLOURS, SECOND_UVS
from pegloom.core.geometry.split import Split, split_vertices
from pegloom.core.geometry.transforms import decompose
from pegloom.core.jobs import Progress, silent
from pegloom.core.motion.clips import Clip
from pegloom.core.skeleton.joints import Joint, Skeleton
from pegloom.core.skeleton.names import SideStyle, renamed
from pegloom.core.skeleton.uses import HandedJoints, not_handed_over
from pegloom.core.skin.weights import packed
from pegloom.document.baking import bake_clip, morph_weights_at, with_followers, with_widths
from pegloom.document.delivery.lost import not_exported
from pegloom.document.model import Character, Image, Material, Part, Placing
from pegloom.document.uses import said_of
from pegloom.files.names import Unique, picture_name
from pegloom.files.neighbours import Neighbours
from pegloom.files.outgoing import outgoing, write_bytes


def write_glb(
    path: Path, character: Character, *, names: SideStyle | None = None, joints: HandedJoints = HandedJoints.ALL,
    one_top: bool = True, progress: Progress = silent,
) -> list[str]:  # fmt: skip
    """Write a character: as GLB, or by the ending .gltf as text with its buffer and pictures beside it (inside it where the
    place is a link to another folder). Returns notes on what was baked. A stop leaves what was there.

    names : the style joint names tell their side in; None keeps them as they are.
    joints : which of the joints the file gets; what skin follows, and what that hangs on, always.
    one_top : one node of the character's name over all, geometry and skeleton apart under it. Without it every skinned mesh
        is a root of the scene, which the standard recommends: nodes above one do not move it.

    Raises EditError when there is nothing to write, MeshFileError where the place cannot be written.
    """
    if not character.included and not character.bare:
        raise EditError("there is no included part to export; include one in the parts drawer")
    writer = Writer(character, names, joints, beside=path.suffix.lower() == BESIDE)
    writer.all_of_it(progress)
    if one_top:
        writer.gather()
    progress(0.97, "writing to the disk")
    writer.save(path)
    progress(1.0, "written")
    return writer.notes


BESIDE, GENERATOR = ".gltf", "Peg Loom"
LARGEST_OWN = 1 << 26
"""Bytes of a file that stands at the place already, up to which it is looked into."""
TRANSFORM_SPANS = (("translation", slice(0, 3)), ("rotation", slice(3, 7)), ("scale", slice(7, 10)))
NAMED = 6
"""Joints named in a note, at most."""
TRANSFORM = "KHR_texture_transform"
SLOTS = (
    ("base", True, "baseColorTexture"), ("metal", True, "metallicRoughnessTexture"), ("normal", False, "normalTexture"),
    ("occlusion", False, "occlusionTexture"), ("emissive", False, "emissiveTexture"),
)  # fmt: skip
"""What a picture is for, whether it stands among metallic and roughness, and its key there."""


class Samples(NamedTuple):
    """A channel: of which node, what of it, at which times (k,) seconds, as what (k, n), and whether it holds between them."""

    node: int
    path: str
    times: FloatArray
    values: FloatArray
    step: bool = False


class Writer:
    """One character on its way into a file.

    into : the writer of a character that is in the same file already. prefix : goes before every name of this one.
    """

    def __init__(
        self, character: Character, names: SideStyle | None, which: HandedJoints, into: Writer | None = None, prefix: str = "", *, beside: bool = False
    ) -> None:
        self.character, self.names, self.prefix = character, names, prefix
        self.beside: list[tuple[dict[str, Any], Image]] | None = ([] if beside else None) if into is None else into.beside
        """Pictures that get a file of their own, and where the file tells of them; None where they are inside."""
        self.joints: list[Joint] = []
        """Those that are written, in the skeleton's order."""
        self.node_of: dict[str, int] = {}
        self.part_nodes: dict[str, int] = {}
        self.roots: list[int] = []
        """Nodes of this character that hang on nothing."""
        self.skin: int | None = None
        self._sampled: dict[str, list[Samples]] = {}
        self.binary: bytearray = bytearray() if into is None else into.binary
        self.notes: list[str] = [] if into is None else into.notes
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": GENERATOR},
            "scene": 0,
            "scenes": [{"name": character.name, "nodes": []}],
            "nodes": [],
            "meshes": [],
            "accessors": [],
            "bufferViews": [],
        } if into is None else into.json
        self.slots: dict[int, int] = {}
        self.notes += not_exported(character)
        if character.skeleton is not None:
            self._choose(character.skeleton, which)

    def _choose(self, skeleton: Skeleton, which: HandedJoints) -> None:
        """Which joints are written, and said of those that are no bones."""
        skin = self.character.skin
        held = {w.joint_ids[k] for w in skin.weights.values() for k in np.unique(w.indices).tolist()} if skin else set()
        said = said_of(self.character)
        left = not_handed_over(skeleton, said, which, held)
        self.joints = [joint for joint in skeleton.joints if joint.id not in left]
        helpers = not_handed_over(skeleton, said, HandedJoints.WITHOUT_HELPERS, held)
        told, line = (left, "left out as no bones") if left else (helpers, "in the file though they are no bones")
        if told:
            names = ", ".join(skeleton.joint(j).name for j in told[:NAMED])
            self.notes.append(f"{line}: {names}{f' and {len(told) - NAMED} more' if len(told) > NAMED else ''}")

    def all_of_it(self, progress: Progress = silent) -> None:
        """Materials, joints, parts and clips."""
        self.materials()
        self.skeleton()
        some = self.character.included
        for number, part in enumerate(some):
            progress(0.5 * number / len(some), f"writing {part.name}")
            self.part(part)
        for number, clip in enumerate(self.character.clips):
            progress(0.5 + 0.45 * number / max(len(self.character.clips), 1), f"sampling {clip.name}")
            self.clip(clip)

    def _root(self, node: int) -> None:
        self.roots.append(node)
        self.json["scenes"][0]["nodes"].append(node)

    def view(self, data: bytes, target: int | None = None) -> int:
        self.binary += b"\0" * (-len(self.binary) % 4)
        entry: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data)}
        if target:
            entry["target"] = target
        self.binary += data
        self.json["bufferViews"].append(entry)
        return len(self.json["bufferViews"]) - 1

    def accessor(self, array: np.ndarray, kind: str, *, target: int | None = None, extent: bool = False) -> int:
        component = {"f4": 5126, "u4": 5125, "u2": 5123, "u1": 5121}[array.dtype.str[1:]]
        entry: dict[str, Any] = {
            "bufferView": self.view(array.tobytes(), target),
            "componentType": component,
            "count": len(array),
            "type": kind,
        }
        if extent:
            flat = array.reshape(len(array), -1)
            entry["min"], entry["max"] = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.json["accessors"].append(entry)
        return len(self.json["accessors"]) - 1

    def materials(self) -> None:
        textures: dict[str, int] = {}
        if self.character.images:
            for key in ("images", "textures"):
                self.json.setdefault(key, [])
            self.json["samplers"] = [{"wrapS": 10497, "wrapT": 10497, "magFilter": 9729, "minFilter": 9987}]
            for image in self.character.images:
                textures[image.name] = len(self.json["textures"])
                source: dict[str, Any] = {"name": f"{self.prefix}{Path(image.name).stem}", "mimeType": image.kind}
                if self.beside is None:
                    source["bufferView"] = self.view(image.data)
                else:
                    self.beside.append((source, image))
                self.json["textures"].append({"source": len(self.json["images"]), "sampler": 0})
                self.json["images"].append(source)
        entries: list[dict[str, Any]] = []
        before = len(self.json.get("materials", []))
        used = {int(slot) for part in self.character.included for slot in part.mesh.materials}
        for slot, material in enumerate(self.character.materials):
            if slot not in used:
                continue
            self.slots[slot] = before + len(entries)
            shine: dict[str, Any] = {
                "baseColorFactor": [float(min(max(v, 0.0), 1.0)) for v in material.base_colour],
                "metallicFactor": float(min(max(material.metallic, 0.0), 1.0)),
                "roughnessFactor": float(min(max(material.roughness, 0.0), 1.0)),
            }
            entry: dict[str, Any] = {"name": f"{self.prefix}{material.name}", "pbrMetallicRoughness": shine}
            slots = {what: self._slot(material, what, textures[n]) for what, n in material.pictures.items() if n in textures}
            for what, holder, key in SLOTS:
                if what in slots:
                    (shine if holder else entry)[key] = slots[what]
            if "normal" in slots and material.normal_scale != 1.0:
                slots["normal"]["scale"] = material.normal_scale
            if "occlusion" in slots and material.occlusion != 1.0:
                slots["occlusion"]["strength"] = material.occlusion
            if any(material.emissive):
                entry["emissiveFactor"] = [float(min(max(v, 0.0), 1.0)) for v in material.emissive]
            if material.double_sided:
                entry["doubleSided"] = True
            if material.see_through:
                entry["alphaMode"] = "BLEND"
            elif material.cutoff is not None:
                entry |= {"alphaMode": "MASK", "alphaCutoff": material.cutoff}
            entries.append(entry)
        if entries:
            self.json.setdefault("materials", []).extend(entries)

    def _slot(self, material: Material, what: str, texture: int) -> dict[str, Any]:
        """A picture's place in a material, and how it lies on the UVs."""
        slot: dict[str, Any] = {"index": texture}
        placing = material.placings.get(what)
        if placing is not None and placing.second:
            slot["texCoord"] = 1
        if placing is not None and replace(placing, second=False) != Placing():
            used = self.json.setdefault("extensionsUsed", [])
            if TRANSFORM not in used:
                used.append(TRANSFORM)
            told = {"offset": list(placing.offset), "rotation": placing.rotation, "scale": list(placing.scale)}
            slot["extensions"] = {TRANSFORM: told}
        return slot

    def skeleton(self) -> None:
        skeleton = self.character.skeleton
        if skeleton is None:
            return
        nodes, base = self.json["nodes"], len(self.json["nodes"])
        label = {j.name: j.name for j in self.joints}
        if self.names is not None:
            label = dict(renamed([j.name for j in self.joints], style=self.names))
        self.node_of = {joint.id: base + i for i, joint in enumerate(self.joints)}
        for joint in self.joints:
            position, turn, _ = decompose(skeleton.local[skeleton.index[joint.id]])
            node: dict[str, Any] = {
                "name": f"{self.prefix}{label[joint.name]}",
                "translation": position.tolist(),
                "rotation": turn.tolist(),
            }
            children = [self.node_of[c.id] for c in skeleton.children(joint.id) if c.id in self.node_of]
            if children:
                node["children"] = children
            nodes.append(node)
            if joint.parent is None:
                self._root(self.node_of[joint.id])
        if self.character.skin is not None and self.character.skin.weights:
            rows = [skeleton.index[joint.id] for joint in self.joints]
            # float32 exactly as written, so that the last row is exactly 0 0 0 1.
            matrices = skeleton.inverse_world[rows].transpose(0, 2, 1).astype("<f4").reshape(-1, 16)
            self.skin = len(self.json.setdefault("skins", []))
            self.json["skins"].append(
                {
                    "name": f"{self.prefix}{self.character.name} skin",
                    "joints": list(self.node_of.values()),
                    "inverseBindMatrices": self.accessor(matrices, "MAT4"),
                }
            )

    def part(self, part: Part) -> None:
        split = split_vertices(part.mesh)
        weights = self.character.skin.weights.get(part.id) if self.character.skin else None
        arrays: dict[str, np.ndarray] = {
            "POSITION": part.mesh.points[split.vertex].astype("<f4"),
            "NORMAL": split.normals.astype("<f4"),
        }
        if split.uvs is not None:
            arrays["TEXCOORD_0"] = np.stack([split.uvs[:, 0], 1.0 - split.uvs[:, 1]], axis=1).astype("<f4")
        if SECOND_UVS in split.layers:
            uv = split.layers[SECOND_UVS]
            arrays["TEXCOORD_1"] = np.stack([uv[:, 0], 1.0 - uv[:, 1]], axis=1).astype("<f4")
            # A second set stands only beside a first one.
            arrays.setdefault("TEXCOORD_0", np.zeros((len(uv), 2), dtype="<f4"))
        if COLOURS in split.layers:
            arrays["COLOR_0"] = split.layers[COLOURS].astype("<f4")
        if weights is not None and self.character.skeleton is not None:
            arrays |= self._skin_arrays(weights, split.vertex)
        primitives = []
        for rows, faces, material in _blocks(split):
            attributes = {}
            for name, array in arrays.items():
                kind = {2: "VEC2", 3: "VEC3", 4: "VEC4"}[array.shape[1]]
                attributes[name] = self.accessor(
                    np.ascontiguousarray(array[rows]), kind, target=34962, extent=name == "POSITION"
                )
            base = rows.start
            targets = [
                {
                    "POSITION": self.accessor(
                        np.ascontiguousarray(m.deltas[split.vertex][rows].astype("<f4")), "VEC3", extent=True
                    )
                }
                for m in part.morphs
            ]
            for chosen, slot in zip(faces, material, strict=True):
                index = self.accessor((chosen - base).astype("<u4").reshape(-1, 1), "SCALAR", target=34963)
                primitive: dict[str, Any] = {"attributes": attributes, "indices": index, "mode": 4}
                if targets:
                    primitive["targets"] = targets
                if slot in self.slots:
                    primitive["material"] = self.slots[slot]
                primitives.append(primitive)
        entry: dict[str, Any] = {"name": f"{self.prefix}{part.name}", "primitives": primitives}
        if part.morphs:
            entry["extras"] = {"targetNames": [m.name for m in part.morphs]}
            entry["weights"] = [m.at_rest for m in part.morphs]
        self.json["meshes"].append(entry)
        node: dict[str, Any] = {"name": f"{self.prefix}{part.name}", "mesh": len(self.json["meshes"]) - 1}
        if weights is not None and self.skin is not None:
            node["skin"] = self.skin
        self.part_nodes[part.id] = len(self.json["nodes"])
        self._root(len(self.json["nodes"]))
        self.json["nodes"].append(node)

    def _skin_arrays(self, weights: Any, vertex: IntArray) -> dict[str, np.ndarray]:
        rows = packed(weights)
        width = -(-rows.indices.shape[1] // 4) * 4
        number = {joint.id: k for k, joint in enumerate(self.joints)}
        column = np.array([number.get(j, 0) for j in weights.joint_ids])
        indices = np.zeros((len(vertex), width), dtype="<u2")
        values = np.zeros((len(vertex), width), dtype="<f4")
        indices[:, : rows.indices.shape[1]] = column[rows.indices][vertex]
        values[:, : rows.values.shape[1]] = rows.values[vertex]
        indices[values == 0] = 0
        values /= values.sum(axis=1, keepdims=True, dtype=np.float32)
        result = {}
        for k in range(width // 4):
            result[f"JOINTS_{k}"] = np.ascontiguousarray(indices[:, 4 * k : 4 * k + 4])
            result[f"WEIGHTS_{k}"] = np.ascontiguousarray(values[:, 4 * k : 4 * k + 4])
        return result

    def clip(self, clip: Clip) -> None:
        told = self.samples(clip)
        if not told:
            return
        extras: dict[str, Any] = {}
        if clip.origin is not None:
            extras = {"origin": clip.origin.made, "licence": clip.origin.licence, "mayDeliver": clip.origin.may_deliver}
            if not clip.origin.may_deliver:
                self.notes.append(f"{clip.name}: its licence does not let it be given on; leave it out of a delivery")
        self.animation(f"{self.prefix}{clip.name}", told, extras)

    def animation(self, name: str, told: Iterable[Samples], extras: dict[str, Any] | None = None) -> None:
        """An animation of some channels."""
        samplers: list[dict[str, Any]] = []
        channels: list[dict[str, Any]] = []
        for one in told:
            kind = {"rotation": "VEC4", "weights": "SCALAR"}.get(one.path, "VEC3")
            values = one.values.astype("<f4")
            times = self.accessor(one.times.astype("<f4").reshape(-1, 1), "SCALAR", extent=True)
            output = self.accessor(values.reshape(-1, 1) if kind == "SCALAR" else values, kind)
            channels.append({"sampler": len(samplers), "target": {"node": one.node, "path": one.path}})
            samplers.append({"input": times, "output": output, "interpolation": "STEP" if one.step else "LINEAR"})
        entry: dict[str, Any] = {"name": name, "samplers": samplers, "channels": channels}
        if extras:
            entry["extras"] = extras
        self.json.setdefault("animations", []).append(entry)

    def samples(self, clip: Clip) -> list[Samples]:
        """What a clip moves, as channels of straight or held samples; worked out once."""
        if clip.id not in self._sampled:
            self._sampled[clip.id] = self._samples(clip)
        return self._sampled[clip.id]

    def _samples(self, clip: Clip) -> list[Samples]:
        skeleton = self.character.skeleton
        if skeleton is None or not (clip.tracks or clip.every_curve or clip.morphs):
            return []
        found: list[Samples] = []
        times = np.zeros(0)
        if clip.tracks:
            clip = with_followers(self.character, clip)
            for joint, tracks in clip.tracks.items():
                for track in tracks if joint in self.node_of else ():
                    found.append(Samples(self.node_of[joint], track.path, track.times, track.values, track.step))
        else:
            times, local = bake_clip(self.character, clip)
            local = with_widths(self.character, clip, times, local)
            self.notes.append(f"{clip.name}: controls baked to {len(times)} samples of each joint")
            for joint_record in self.joints:
                i = skeleton.index[joint_record.id]
                for path, span in TRANSFORM_SPANS:
                    values = local[:, i, span]
                    rest = np.concatenate(decompose(skeleton.local[i]))[span]
                    still = np.allclose(values, values[0], atol=1e-9)
                    if still and (np.allclose(values[0], rest, atol=1e-9) or np.allclose(values[0], -rest, atol=1e-9)):
                        continue
                    chosen = slice(0, 1) if still else slice(None)
                    found.append(Samples(self.node_of[joint_record.id], path, times[chosen], values[chosen].astype(np.float64)))
        for node, names, part_times, weights in self._morph_weights(clip, times):
            assert len(names) * len(part_times) == weights.size
            found.append(Samples(node, "weights", part_times, weights))
        return found

    def _morph_weights(self, clip: Clip, times: FloatArray) -> list[tuple[int, tuple[str, ...], FloatArray, FloatArray]]:
        """Node, targets, times (k,) and weights (k, m) of each part whose morph targets a clip moves."""
        found = []
        for part in self.character.parts:
            node = self.part_nodes.get(part.id)
            names = tuple(m.name for m in part.morphs)
            if node is None or not names:
                continue
            told = next((m for m in clip.morphs if m.part == part.name and m.names == names), None)
            if told is not None:
                found.append((node, names, told.times, told.weights))
                continue
            made = morph_weights_at(self.character, part, clip, times) if len(times) else None
            if made is not None:
                found.append((node, names, *made))
        return found

    def gather(self) -> int:
        """One node over all of this character: joints under one of its children, meshes under the other. Returns its number."""
        nodes, scene = self.json["nodes"], self.json["scenes"][0]
        unique = Unique("_")
        for node in nodes:
            unique(str(node.get("name", "")))
        meshes = set(self.part_nodes.values())
        groups = {"skeleton": [n for n in self.roots if n not in meshes], "geometry": [n for n in self.roots if n in meshes]}
        top: dict[str, Any] = {"name": unique(f"{self.prefix}{self.character.name or 'character'}"), "children": []}
        for name, children in groups.items():
            if children:
                top["children"].append(len(nodes))
                nodes.append({"name": unique(f"{self.prefix}{name}"), "children": children})
        scene["nodes"] = [n for n in scene["nodes"] if n not in self.roots] + [len(nodes)]
        nodes.append(top)
        return len(nodes) - 1

    def save(self, path: Path) -> None:
        """Write the file, and what stands beside it. Raises MeshFileError where the place cannot be written."""
        if self.beside is None:
            write_bytes(path, self.glb())
            return
        self._clean()
        if Path(os.path.realpath(path)).parent != path.parent.resolve():
            # Behind a link to another folder "beside" means two places.
            for source, image in self.beside:
                source["bufferView"] = self.view(image.data)
            inside = base64.b64encode(self.binary).decode()
            self.json["buffers"] = [{"byteLength": len(self.binary), "uri": f"data:application/octet-stream;base64,{inside}"}]
            write_bytes(path, json.dumps(self.json, indent=1).encode())
            return
        with outgoing() as out:
            beside_it = Neighbours(out, path.parent)
            for source, image in self.beside:
                source["uri"] = quote(beside_it.picture(image))
            buffer = beside_it.data(f"{picture_name(path.stem, '').removesuffix('.png')}.bin", bytes(self.binary), ours=_own_buffer(path))
            self.json["buffers"] = [{"byteLength": len(self.binary), "uri": quote(buffer)}]
            out.put(path, json.dumps(self.json, indent=1).encode())
            self.notes += beside_it.notes

    def _clean(self) -> None:
        # The standard has no empty lists.
        for key in ("meshes", "images", "textures"):
            if key in self.json and not self.json[key]:
                del self.json[key]

    def glb(self) -> bytes:
        self.json["buffers"] = [{"byteLength": len(self.binary)}]
        self._clean()
        text = json.dumps(self.json, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        binary = bytes(self.binary) + b"\0" * (-len(self.binary) % 4)
        head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
        return b"".join(
            [head, struct.pack("<II", len(text), 0x4E4F534A), text, struct.pack("<II", len(binary), 0x004E4942), binary]
        )


def _own_buffer(path: Path) -> str:
    """The buffer of a file of ours that stands at the place already: it may be written over; "" for none."""
    try:
        if not path.is_file() or path.stat().st_size > LARGEST_OWN:
            return ""
        tree = json.loads(path.read_bytes())
        ours = tree["asset"]["generator"] == GENERATOR
        return unquote(str(tree["buffers"][0]["uri"])) if ours else ""
    except (OSError, ValueError, LookupError, TypeError, RecursionError):
        return ""


def _blocks(split: Split) -> list[tuple[slice, list[IntArray], list[int]]]:
    """Vertex ranges with their faces by material.

    Materials whose vertices lie in separate ranges get accessors of their own, as files with one block a material
    had them; otherwise all share one range.
    """
    total = len(split.vertex)
    slots = np.unique(split.triangle_material)
    faces = [split.triangles[split.triangle_material == slot] for slot in slots]
    spans = sorted((int(f.min()), int(f.max()), k) for k, f in enumerate(faces))
    if len(spans) > 1 and all(a[1] < b[0] for a, b in zip(spans, spans[1:], strict=False)):
        result, start = [], 0
        for number, (_, last, k) in enumerate(spans):
            end = total if number == len(spans) - 1 else last + 1
            result.append((slice(start, end), [faces[k]], [int(slots[k])]))
            start = end
        return result
    return [(slice(0, total), faces, [int(s) for s in slots])]
