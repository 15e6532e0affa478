"""Figures the tests rig: made of capsules and boxes by trimesh, so that none comes from the demo's generator."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np
import trimesh

from pegloom.core.geometry.mesh import Mesh, from_faces
from pegloom.document import edits
from pegloom.document.model import Document, Part
from pegloom.files.project import open_project
from pegloom.files.reading import read_mesh

DEMO = Path(__file__).parents[2] / "src/pegloom/assets/demo"

LANDMARKS = {
    "shoulder": (0.19, 1.42, 0.0),
    "elbow": (0.46, 1.42, -0.012),
    "wrist": (0.70, 1.42, 0.0),
    "hip": (0.10, 0.92, 0.0),
    "knee": (0.11, 0.50, 0.012),
    "ankle": (0.115, 0.09, -0.01),
}
"""Where the capsule figure's left limbs are jointed, metres."""


def _capsule(a: tuple[float, ...], b: tuple[float, ...], radius: float) -> trimesh.Trimesh:
    start, end = np.array(a), np.array(b)
    made = trimesh.creation.capsule(height=float(np.linalg.norm(end - start)), radius=radius, count=[14, 14])
    made.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], end - start))
    made.apply_translation((start + end) / 2)
    return made


def capsule_figure(*, hidden_arm: bool = False) -> trimesh.Trimesh:
    """A T-posed figure 1.75 m tall of overlapping closed shells, which is how many real meshes come."""
    pieces = [_capsule((0, 0.98, 0), (0, 1.38, 0), 0.15), _capsule((0, 1.48, 0), (0, 1.56, 0), 0.055)]
    head = trimesh.creation.icosphere(subdivisions=2, radius=0.1)
    head.apply_scale([0.9, 1.2, 1.05])
    head.apply_translation([0, 1.63, 0.015])
    pieces.append(head)
    for side in (1, -1):

        def at(name: str, side: int = side) -> tuple[float, ...]:
            x, y, z = LANDMARKS[name]
            return (side * x, y, z)

        def off(x: float, y: float, z: float, side: int = side) -> tuple[float, ...]:
            return (side * x, y, z)

        pieces.append(_capsule(off(0.1, 1.42, 0), at("shoulder"), 0.062))
        if not (hidden_arm and side < 0):
            pieces.append(_capsule(at("shoulder"), at("elbow"), 0.05))
            pieces.append(_capsule(at("elbow"), at("wrist"), 0.04))
            pieces.append(_capsule(off(0.72, 1.42, 0), off(0.83, 1.42, 0.0), 0.046))
        pieces.append(_capsule(at("hip"), at("knee"), 0.082))
        pieces.append(_capsule(at("knee"), at("ankle"), 0.055))
        foot = trimesh.creation.box([0.09, 0.075, 0.26])
        foot = foot.subdivide().subdivide()
        foot.apply_translation(off(0.12, 0.0375, 0.055))
        pieces.append(foot)
    return trimesh.util.concatenate(pieces)


def as_mesh(made: trimesh.Trimesh) -> Mesh:
    return from_faces(made.vertices, np.asarray(made.faces, dtype=np.int64))


def box_limb(rows: int = 12, *, seam: bool = False) -> Mesh:
    """A square tube along x from 0 to 1, 0.2 wide, open at both ends; with seam, one edge row is doubled."""
    ring = [(-0.1, -0.1), (0.1, -0.1), (0.1, 0.1), (-0.1, 0.1)]
    if seam:
        ring.append(ring[0])
    points = [(i / rows, y, z) for i in range(rows + 1) for y, z in ring]
    width = len(ring)
    faces = []
    for i in range(rows):
        for k in range(width - 1 if seam else width):
            a, b = i * width + k, i * width + (k + 1) % width
            faces.append([a, b, b + width, a + width])
    return from_faces(points, faces)


def document_of(mesh: Mesh, name: str = "figure") -> Document:
    return edits.bring_in(Document(), (Part("part0", name, mesh),), name=name)


@lru_cache(maxsize=1)
def wick() -> Document:
    """The shipped project: Wick, rigged."""
    return open_project(DEMO / "wick.pegloom")


@lru_cache(maxsize=1)
def rigged_capsules() -> Document:
    """The capsule figure through the whole road."""
    document = edits.stand_up(document_of(as_mesh(capsule_figure())))
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    return edits.build_controls(edits.bind(document))


def unrigged_wick() -> Document:
    mesh = read_mesh(DEMO / "wick.obj")
    return edits.bring_in(Document(), mesh.parts, name="wick", materials=mesh.materials, images=mesh.images)
