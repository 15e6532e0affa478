"""Write a character to any format this program writes, by the ending."""

from __future__ import annotations

from pathlib import Path

from pegloom.core.errors import MeshFileError
from pegloom.core.geometry.mend import joined
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.model import Document
from pegloom.files.gltf_write import write_glb
from pegloom.files.obj import write_obj
from pegloom.files.ply import write_ply
from pegloom.files.project import SUFFIX, save_project
from pegloom.files.stl import write_stl
from pegloom.files.usd import write_usd

WRITABLE = (".glb", ".obj", ".ply", ".stl", ".usda", ".usdc", ".usd", SUFFIX)


def write_rig(path: Path, document: Document) -> list[str]:
    """`write_any` for formats that hold a rig. Raises MeshFileError for the others."""
    if path.suffix.lower() not in (SUFFIX, ".glb", ".usda", ".usdc", ".usd"):
        raise MeshFileError(path.name, "this ending cannot hold a rig", hint="use .glb, .usda or .pegloom")
    return write_any(path, document)


def write_any(path: Path, document: Document, *, joints: HandedJoints = HandedJoints.ALL) -> list[str]:
    """Write the character in hand. Returns notes on what the format cannot hold. Raises MeshFileError, EditError.

    joints : which of them a GLB gets.
    """
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
    if kind in WRITABLE and kind != SUFFIX and not parts:
        raise MeshFileError(path.name, "there is no included part to write", hint="take a part in first")
    if kind == SUFFIX:
        save_project(path, document)
    elif kind == ".glb":
        return write_glb(path, character, joints=joints)
    elif kind == ".obj":
        lost += write_obj(path, parts, character.materials, character.images)
    elif kind == ".ply":
        if len(parts) > 1:
            lost.append("PLY holds one mesh: all parts were joined")
        write_ply(path, joined([m for _, m in parts]))
    elif kind == ".stl":
        write_stl(path, [m for _, m in parts])
    elif kind in (".usda", ".usdc", ".usd"):
        return write_usd(path, character)
    else:
        raise MeshFileError(path.name, "this ending cannot be written", hint=f"use {', '.join(WRITABLE)}")
    return lost
