"""Parts mended, joined, split, swapped, smoothed; materials and reference pictures; starting clean from a rigged file."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import fields, replace
from functools import partial
from types import MappingProxyType

import numpy as np
from scipy import sparse

from pegloom.core.arrays import FloatArray, IntArray, owned_floats
from pegloom.core.errors import EditError
from pegloom.core.geometry import mend
from pegloom.core.geometry.mesh import Mesh, with_points
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.rig.changes import RigChanges
from pegloom.core.rig.pose import Pose
from pegloom.core.skeleton.axes import aim_of
from pegloom.core.skeleton.build import kits_in
from pegloom.core.skeleton.depth import limb_direction
from pegloom.core.skin.transfer import transfer_weights
from pegloom.core.skin.weights import Weights
from pegloom.document.edits.ids import fresh_ids
from pegloom.document.edits.mesh import detail_told
from pegloom.document.edits.skins import carried_to, each_skin, joined_to, stacked, with_weights, without_parts
from pegloom.document.model import (
    Character,
    Document,
    Image,
    Material,
    Part,
    Reference,
    Skin,
    Subdivision,
)

Mend = Callable[[Mesh], tuple[Mesh, sparse.csr_matrix]]
MENDS: dict[str, tuple[str, Mend]] = {
    "weld": ("Weld", mend.weld_vertices),
    "loose": ("Drop loose vertices", mend.drop_loose),
    "doubles": ("Drop doubled and flat faces", mend.drop_doubles),
    "outward": ("Turn faces outward", mend.turn_outward),
}
"""Safe mends by name: what the step is called, and the function."""


def mend_part(document: Document, part_id: str, name: str) -> Document:
    """One of MENDS on a part; UVs, morphs and weights go along. Raises EditError for an unknown one."""
    if name not in MENDS:
        raise EditError(f"there is no mend {name}; known are {', '.join(MENDS)}")
    part = document.require_character().part(part_id)
    return _carried(document, part, *MENDS[name][1](part.mesh))


def insert_edge_row(
    document: Document, part_id: str, place: tuple[float, float, float], along: tuple[float, float, float]
) -> Document:
    """Put an edge row around a limb at a place, square to `along`. Raises EditError where none can go."""
    part = document.require_character().part(part_id)
    result = mend.insert_row(part.mesh, np.array(place), np.array(along, dtype=np.float64))
    if result is None:
        raise EditError(f"{part.name} has an edge row there already, or no limb to put one around; try a little off")
    return _carried(document, part, *result)


EDGE_ROW_STEP = 0.008
"""How far the rows above and below a joint stand off it, as a share of the height."""


def edge_rows_at(document: Document, place_id: str, *, of_peg: bool) -> Document:
    """Rows at a peg or a joint, above and below it: where it bends, a limb needs them. Raises EditError where none of
    them can go."""
    character = document.require_character()
    if of_peg:
        pegs = character.require_pegs()
        kit = next(k for k in kits_in(pegs) if place_id in k.pegs)
        line = np.array([pegs.position(p) for p in kit.pegs])
        at, along = line[kit.pegs.index(place_id)], limb_direction(line, kit.pegs.index(place_id))
    else:
        skeleton = character.require_skeleton()
        joint = skeleton.joint(place_id)
        aim = aim_of(skeleton, joint)
        at, along = np.array(joint.position), np.asarray(joint.matrix[:3, 1] if aim is None else aim)
    parts = [p for p in character.included if p.mesh.vertex_count]
    if not parts:
        raise EditError("there is no mesh to put an edge row into")
    part = min(parts, key=lambda p: float(np.linalg.norm(p.mesh.points - at, axis=1).min()))
    step = EDGE_ROW_STEP * character.height
    result, last = document, None
    a, b, c = (float(v) for v in along)
    for offset in (0.0, -step, step):
        x, y, z = (float(v) for v in at + along * offset)
        try:
            result = insert_edge_row(result, part.id, (x, y, z), (a, b, c))
        except EditError as error:  # a row that is there already is no reason to stop
            last = error
    if result is document and last is not None:
        raise last
    return result


def _carried(document: Document, part: Part, mesh: Mesh, carry: sparse.csr_matrix) -> Document:
    character = document.require_character()
    morphs = tuple(replace(m, deltas=owned_floats(carry @ m.deltas)) for m in part.morphs)
    document = document.with_character(_with_part(character, replace(part, mesh=mesh, morphs=morphs)))
    character = each_skin(document.require_character(), partial(carried_skin, part.id, carry))
    sets = {name: carried_set(chosen, part.id, {part.id: carry}) for name, chosen in character.vertex_sets.items()}
    return document.with_character(replace(character, vertex_sets=MappingProxyType(sets)))


def carried_skin(part_id: str, carry: sparse.csr_matrix, skin: Skin) -> Skin:
    """A skin after one of its parts was changed: rows of shares of the old vertices."""
    return carried_to(skin, part_id, {part_id: carry})


def carried_set(
    chosen: Mapping[str, IntArray], source: str, carries: Mapping[str, sparse.csr_matrix]
) -> Mapping[str, IntArray]:
    """A kept selection after its part was changed: vertices at least half made of chosen ones."""
    result = {part: v for part, v in chosen.items() if part != source}
    if source in chosen:
        for part, carry in carries.items():
            marked = np.zeros(carry.shape[1])
            marked[chosen[source]] = 1.0
            result[part] = np.flatnonzero(np.asarray(carry @ marked) >= 0.5)
    return MappingProxyType({part: v for part, v in result.items() if len(v)})


def join_parts(document: Document, part_ids: tuple[str, ...], *, name: str = "") -> Document:
    """Several parts as one, in the place of the first; weights and morphs kept. Raises EditError for under two."""
    character = document.require_character()
    parts = [character.part(p) for p in part_ids]
    if len(parts) < 2:
        raise EditError("choose two parts or more to join")
    mesh = mend.joined([p.mesh for p in parts])
    offsets = np.cumsum([0, *[p.mesh.vertex_count for p in parts]])
    morphs = []
    for label in dict.fromkeys(m.name for p in parts for m in p.morphs):
        deltas = np.zeros((mesh.vertex_count, 3))
        rest = 0.0
        for part, start in zip(parts, offsets, strict=False):
            for morph in part.morphs:
                if morph.name == label:
                    deltas[start : start + len(morph.deltas)] = morph.deltas
                    rest = morph.at_rest
        morphs.append(
            replace(
                next(m for p in parts for m in p.morphs if m.name == label), deltas=owned_floats(deltas), at_rest=rest
            )
        )
    first = parts[0]
    result = replace(
        first, name=name or first.name, mesh=mesh, morphs=tuple(morphs), included=any(p.included for p in parts)
    )
    kept = tuple(result if p.id == first.id else p for p in character.parts if p.id == first.id or p.id not in part_ids)
    character = replace(each_skin(character, lambda skin: joined_to(skin, parts)), parts=kept)
    ids = {p.id for p in parts}
    sets = {}
    for name_, chosen in character.vertex_sets.items():
        gathered = {p: v for p, v in chosen.items() if p not in ids}
        inside = [offsets[i] + chosen[p.id] for i, p in enumerate(parts) if p.id in chosen]
        if inside:
            gathered[first.id] = np.concatenate(inside)
        sets[name_] = MappingProxyType(gathered)
    return document.with_character(replace(character, vertex_sets=MappingProxyType(sets)))


def split_part(document: Document, part_id: str) -> Document:
    """A part cut into its connected shells, the largest keeping the name; weights and morphs kept."""
    character = document.require_character()
    part = character.part(part_id)
    pieces = mend.split_by_shell(part.mesh)
    if len(pieces) < 2:
        raise EditError(f"{part.name} is one connected shell; there is nothing to split")
    pieces.sort(key=lambda piece: -piece[0].face_count)
    taken = {p.id for p in character.parts}
    result: list[Part] = []
    carries: dict[str, sparse.csr_matrix] = {}
    for number, (mesh, carry) in enumerate(pieces):
        own, k = part_id, number
        while number and own in taken:
            own, k = f"{part_id}.{k}", k + 1
        taken.add(own)
        morphs = tuple(replace(m, deltas=owned_floats(carry @ m.deltas)) for m in part.morphs)
        result.append(
            replace(
                part, id=own, name=part.name if number == 0 else f"{part.name} {number + 1}", mesh=mesh, morphs=morphs
            )
        )
        carries[own] = carry
    parts = [q for p in character.parts for q in (result if p.id == part_id else [p])]
    character = each_skin(character, lambda skin: carried_to(skin, part_id, carries))
    sets = {name: carried_set(chosen, part_id, carries) for name, chosen in character.vertex_sets.items()}
    return document.with_character(replace(character, parts=tuple(parts), vertex_sets=MappingProxyType(sets)))


def rename_part(document: Document, part_id: str, name: str) -> Document:
    """Give a part another name."""
    character = document.require_character()
    if not name.strip():
        raise EditError("a part needs a name")
    if any(p.name == name.strip() and p.id != part_id for p in character.parts):
        raise EditError(f"another part is called {name.strip()} already")
    return document.with_character(_with_part(character, replace(character.part(part_id), name=name.strip())))


def add_parts(
    document: Document, parts: tuple[Part, ...], materials: tuple[Material, ...] = (), images: tuple[Image, ...] = ()
) -> Document:
    """More meshes for the character (new clothes), stood up as its own mesh was. Weights of the rest stay."""
    character = document.require_character()
    matrix = _stood(character)
    taken, names = {p.id for p in character.parts}, {p.name for p in character.parts}
    offset = len(character.materials)
    new = []
    character, ids = fresh_ids(character, "part", taken, len(parts), first=0)
    for part, part_id in zip(parts, ids, strict=True):
        name = part.name
        while name in names:
            name += " 2"
        names.add(name)
        slots = part.mesh.materials + (offset if materials else 0)
        slots.setflags(write=False)
        mesh = replace(part.mesh, materials=slots) if materials else part.mesh
        mesh = moved_mesh(mesh, matrix)
        morphs = tuple(replace(m, deltas=owned_floats(m.deltas @ matrix[:3, :3].T)) for m in part.morphs)
        level = part.detail or detail_told(part.name)
        new.append(replace(part, id=part_id, name=name, mesh=mesh, morphs=morphs, detail=level))
    return document.with_character(
        replace(
            character,
            parts=(*character.parts, *new),
            materials=(*character.materials, *materials),
            images=(*character.images, *images),
        )
    )


def remove_part(document: Document, part_id: str) -> Document:
    """Take a part out for good; its weights go with it."""
    character = document.require_character()
    character.part(part_id)
    character = without(character, {part_id})
    return document.with_character(replace(character, parts=tuple(p for p in character.parts if p.id != part_id)))


def without(character: Character, part_ids: Collection[str]) -> Character:
    """Weights, weaves and kept selections without some parts."""
    character = each_skin(character, lambda skin: without_parts(skin, part_ids))
    sets = {
        name: MappingProxyType({p: v for p, v in chosen.items() if p not in part_ids})
        for name, chosen in character.vertex_sets.items()
    }
    return replace(character, vertex_sets=MappingProxyType(sets))


def _stood(character: Character) -> FloatArray:
    return np.array(character.standing.file_to_character).reshape(4, 4) if character.standing else np.eye(4)


def moved_mesh(mesh: Mesh, matrix: FloatArray) -> Mesh:
    """A mesh and its normals, turned, scaled and moved."""
    normals = None
    if mesh.normals is not None:
        turned = mesh.normals @ matrix[:3, :3].T
        normals = owned_floats(turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-12))
    return with_points(mesh, transform_points(matrix, mesh.points), normals=normals)


def set_detail(document: Document, part_id: str, level: int) -> Document:
    """Say that a part is a coarser detail level of the body (0: the body itself)."""
    if not 0 <= level <= 9:
        raise EditError("detail levels go from 0 to 9")
    character = document.require_character()
    return document.with_character(_with_part(character, replace(character.part(part_id), detail=level)))


def pass_weights_on(document: Document) -> Document:
    """Weights of the body's own parts read by all its coarser detail levels, from the nearest surface."""
    character = document.require_character()
    skin = character.skin
    if skin is None:
        raise EditError("bind first: there are no weights to pass on")
    sources = [p for p in character.parts if p.detail == 0 and p.id in skin.weights]
    targets = [p for p in character.parts if p.detail > 0]
    if not targets:
        raise EditError("no part is a detail level; set a part's detail level first")
    if not sources:
        raise EditError("no part of detail level 0 is bound")
    mesh = mend.joined([replace(p.mesh, uvs=None, normals=None) for p in sources])
    whole = stacked([skin.weights[p.id] for p in sources])
    result = {p.id: transfer_weights(mesh, whole, p.mesh, influences=skin.limit(p.id))[0] for p in targets}
    return _with_weights(document, result)


def set_subdivision(document: Document, part_id: str, smooth: Subdivision, *, levels: int = 1) -> Document:
    """Show a part's cage smoothed; weights stay on the cage."""
    if not 1 <= levels <= 3:
        raise EditError("a cage is smoothed 1 to 3 times")
    character = document.require_character()
    return document.with_character(
        _with_part(character, replace(character.part(part_id), smooth=smooth, levels=levels))
    )


def set_material(document: Document, slot: int, **changes: object) -> Document:
    """Change fields of a material (see Material). Raises EditError for a number out of 0 to 1, or a missing picture."""
    character = document.require_character()
    if not 0 <= slot < len(character.materials):
        raise EditError(f"there is no material {slot}")
    for name in ("metallic", "roughness"):
        value = changes.get(name)
        if isinstance(value, float | int) and not 0.0 <= value <= 1.0:
            raise EditError(f"{name} goes from 0 to 1, not {value:g}")
    pictures = {i.name for i in character.images}
    for name, picture in changes.items():
        if name.endswith("_image") and picture is not None and picture not in pictures:
            raise EditError(f"there is no picture {picture}; bring it in first")
    result = replace(character.materials[slot], **changes)  # type: ignore[arg-type]
    materials = (*character.materials[:slot], result, *character.materials[slot + 1 :])
    return document.with_character(replace(character, materials=materials))


def copy_material(document: Document, source: int, target: int) -> Document:
    """Give one material the values of another; its name stays."""
    materials = document.require_character().materials
    if not (0 <= source < len(materials) and 0 <= target < len(materials)):
        raise EditError("there is no such material to copy")
    return set_material(document, target, **_all_but_the_name(materials[source]))


def _all_but_the_name(like: Material) -> dict[str, object]:
    return {f.name: getattr(like, f.name) for f in fields(like) if f.name != "name"}


def take_material(document: Document, slot: int, like: Material, images: tuple[Image, ...] = ()) -> Document:
    """Give a material the values of another character's, with the pictures it uses; its name stays.

    images : the other character's pictures. One whose name another picture has here comes in under a new name.
    """
    character = document.require_character()
    own_images = {image.name: image for image in character.images}
    renamed: dict[str, str] = {}
    for name in sorted(set(like.pictures.values())):
        image = next((i for i in images if i.name == name), None)
        if image is None:
            raise EditError(f"the picture {name} of {like.name} is not in its file")
        own, number = name, 2
        while own in own_images and own_images[own].data != image.data:
            stem, dot, ending = name.rpartition(".")
            own, number = f"{stem or ending} {number}{dot if stem else ''}{ending if stem else ''}", number + 1
        renamed[name] = own
        if own not in own_images:
            document = add_picture(document, replace(image, name=own))
    return set_material(document, slot, **_all_but_the_name(like.with_pictures(renamed)))


def add_picture(document: Document, image: Image) -> Document:
    """Bring a picture in for materials; one of the same name is replaced."""
    character = document.require_character()
    images = (*(i for i in character.images if i.name != image.name), image)
    return document.with_character(replace(character, images=images))


def add_reference(document: Document, image: Image, *, along: str = "z") -> Document:
    """A picture behind the view looked at along an axis, sized to the character. Never delivered."""
    if along not in "xyz":
        raise EditError("a reference picture is looked at along x, y or z")
    character = document.require_character()
    height = character.height
    result = Reference(image, along, (0.0, height / 2, 0.0), height)
    return document.with_character(replace(character, references=(*character.references, result)))


def change_reference(document: Document, number: int, **changes: object) -> Document:
    """Move, size or fade a reference picture: along, centre, height, alpha."""
    character = document.require_character()
    if not 0 <= number < len(character.references):
        raise EditError(f"there is no reference picture {number + 1}")
    result = replace(character.references[number], **changes)  # type: ignore[arg-type]
    kept = (*character.references[:number], result, *character.references[number + 1 :])
    return document.with_character(replace(character, references=kept))


def remove_reference(document: Document, number: int) -> Document:
    """Take a reference picture away."""
    character = document.require_character()
    kept = tuple(r for i, r in enumerate(character.references) if i != number)
    return document.with_character(replace(character, references=kept))


def start_clean(
    document: Document, *, skeleton: bool = True, weights: bool = True, controls: bool = True, clips: bool = True,
    morphs: bool = False,
) -> Document:  # fmt: skip
    """Keep the mesh at rest and drop what is named. Without joints there can be no weights, controls or clips."""
    character = document.require_character()
    if skeleton:
        weights = controls = clips = True
    changed = character
    if controls:
        changed = replace(changed, rig=None, rig_recipe={}, rig_changes=RigChanges(), pose=Pose())
        changed = replace(changed, clips=tuple(c for c in changed.clips if c.tracks))
    if clips:
        changed = replace(changed, clips=(), trials=())
    if weights:
        changed = replace(changed, skin=None, weaves=())
    if skeleton:
        changed = replace(changed, skeleton=None, adopted=None, pegs=None, joint_overrides={}, own_joints=(), helpers=())
    if morphs:
        changed = replace(changed, parts=tuple(replace(p, morphs=()) for p in changed.parts))
    return document.with_character(changed)


def _with_part(character: Character, part: Part) -> Character:
    return replace(character, parts=tuple(part if p.id == part.id else p for p in character.parts))


def _with_weights(document: Document, weights: dict[str, Weights]) -> Document:
    character = document.require_character()
    if character.skin is None:
        return document
    return document.with_character(replace(character, skin=with_weights(character.skin, weights)))


__all__ = [
    "MENDS", "add_parts", "add_picture", "add_reference", "change_reference", "copy_material", "edge_rows_at", "insert_edge_row",
    "join_parts", "mend_part", "pass_weights_on", "remove_part", "remove_reference", "rename_part",     "set_detail", "set_material", "set_subdivision", "split_part", "start_clean", "take_material",
]  # fmt: skip
