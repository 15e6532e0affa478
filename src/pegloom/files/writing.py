"""Write a character to any format this program writes, by the ending."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from pegloom.core.arrays import frozen
from pegloom.core.errors import MeshFileError
from pegloom.core.geometry.mend import joined
from pegloom.core.geometry.transforms import transform_points
from pegloom.core.jobs import Progress, silent
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.model import Character, Document, Image, Material, Part
from pegloom.document.stand_ins import refreshed
from pegloom.document.world import prefixes, world_of
from pegloom.files.gltf_together import write_glb_together
from pegloom.files.gltf_write import write_glb
from pegloom.files.obj import write_obj
from pegloom.files.ply import write_ply
from pegloom.files.project import SUFFIX, save_project
from pegloom.files.stl import write_stl
from pegloom.files.usd import write_usd, write_usd_together

WRITABLE = (".glb", ".gltf", ".obj", ".ply", ".stl", ".usda", ".usdc", ".usd", ".usdz", SUFFIX)


def write_rig(path: Path, document: Document) -> list[str]:
    """`write_any` for formats that hold a rig. Raises MeshFileError for the others."""
    if path.suffix.lower() not in (SUFFIX, ".glb", ".gltf", ".usda", ".usdc", ".usd", ".usdz"):
        raise MeshFileError(path.name, "this ending cannot hold a rig", hint="use .glb, .usda or .pegloom")
    return write_any(path, document)


def write_together(path: Path, document: Document, *, joints: HandedJoints = HandedJoints.ALL, progress: Progress = silent) -> list[str]:
    """Write all shown characters of a document into one file, each with its prefix before its names, where they stand.

    Returns notes, raises as `write_any`. Meshes without a skeleton (OBJ, PLY, STL) stand at rest.
    """
    kind, document = path.suffix.lower(), refreshed(document)
    if kind in (".glb", ".gltf"):
        return write_glb_together(path, document, joints=joints, progress=progress)
    if kind in (".usda", ".usdc", ".usd", ".usdz"):
        return write_usd_together(path, document)
    if kind in (".obj", ".ply", ".stl"):
        return write_any(path, _as_one(document))
    return write_any(path, document, joints=joints)


def _as_one(document: Document) -> Document:
    """One character of meshes alone, made of all that are shown, where they stand."""
    told, worlds = prefixes(document), world_of(document, 0.0)
    parts: list[Part] = []
    materials: list[Material] = []
    images: dict[str, Image] = {}
    for character in document.characters:
        if not character.figure.shown:
            continue
        prefix, world, before = told[character.id], worlds[character.id], len(materials)
        for material in character.materials or (Material("surface"),):
            named = {name: prefix + name for name in material.pictures.values()}
            materials.append(replace(material, name=prefix + material.name).with_pictures(named))
        for image in character.images:
            images[prefix + image.name] = replace(image, name=prefix + image.name)
        for part in character.included:
            mesh = replace(part.mesh, points=frozen(transform_points(world, part.mesh.points)), materials=frozen(part.mesh.materials + before))
            parts.append(replace(part, id=f"{character.id}.{part.id}", name=prefix + part.name, mesh=mesh))
    return Document((Character("all", document.name, parts=tuple(parts), materials=tuple(materials), images=tuple(images.values())),))


def write_any(path: Path, document: Document, *, joints: HandedJoints = HandedJoints.ALL) -> list[str]:
    """Write the character in hand. Returns notes on what the format cannot hold. Raises MeshFileError, EditError.

    joints : which of them a GLB gets.
    """
    document = refreshed(document)
    character = document.require_character()
    kind = path.suffix.lower()
    lost = []
    if kind in (".obj", ".ply", ".stl"):
        if character.skeleton is not None:
            lost.append(f"{kind} holds no skeleton and no weights")
        if any(p.morphs for p in character.included):
            lost.append(f"{kind} holds no morph targets")
    if kind in (".obj", ".ply", ".stl") and any(p.mesh.layers for p in character.included):
        lost.append(f"{kind} gets no second UVs and no vertex colours")
    parts = [(p.name, p.mesh) for p in character.included]
    if kind in WRITABLE and kind != SUFFIX and not parts and not (character.bare and kind not in (".obj", ".ply", ".stl")):
        raise MeshFileError(path.name, "there is no included part to write", hint="take a part in first")
    if kind == SUFFIX:
        save_project(path, document)
    elif kind in (".glb", ".gltf"):
        return write_glb(path, character, joints=joints)
    elif kind == ".obj":
        lost += write_obj(path, parts, character.materials, character.images)
    elif kind == ".ply":
        if len(parts) > 1:
            lost.append("PLY holds one mesh: all parts were joined")
        write_ply(path, joined([m for _, m in parts]))
    elif kind == ".stl":
        write_stl(path, [m for _, m in parts])
    elif kind in (".usda", ".usdc", ".usd", ".usdz"):
        return write_usd(path, character)
    else:
        raise MeshFileError(path.name, "this ending cannot be written", hint=f"use {', '.join(WRITABLE)}")
    return lost
