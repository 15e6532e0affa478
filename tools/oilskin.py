#!/usr/bin/env python3
"""Make Wick's oilskin: a coat open in front, a satchel on its strap, buckles; and the project in which he wears them.

    .venv/bin/python tools/oilskin.py

The coat is a sheet without thickness: the body's own field puffed up and flared below the belt, cut off at hem, cuffs
and collar. Made without chance and mirrored, as everything of the demo world; only the satchel hangs on one side.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np

from make_demo import ARM, OUT, SHOULDER, ball, body_field, cone, mirror_partners, relax, surface_nets, wick_fields
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.core.geometry.slices import cut
from pegloom.document.model import Material
from pegloom.files.obj import write_obj

PUFF = 0.015
HEM, COLLAR, CUFF = 0.47, 1.235, 0.385
MATERIALS = (
    Material("oilskin", (0.80, 0.60, 0.16, 1.0), 0.0, 0.38, double_sided=True),
    Material("leather", (0.33, 0.19, 0.12, 1.0), 0.0, 0.7, double_sided=True),
    Material("brass", (0.80, 0.64, 0.32, 1.0), 0.85, 0.35),
)


def coat_field():
    """The body's coat pieces puffed up, and a skirt that flares."""
    pieces = [(n, lambda p, f=f: f(p) - PUFF, k) for n, f, k in wick_fields() if n == "coat"]
    pieces.append(("coat", cone((0, 0.86, -0.004), (0, 0.40, -0.008), 0.168, 0.262, 0.84), 0.06))
    return body_field(pieces)


def sheet(points: np.ndarray, quads: np.ndarray, keep: np.ndarray, material: int = 0) -> Mesh:
    """The kept quads as a mesh of their own."""
    quads = quads[keep]
    used = np.unique(quads)
    number = np.full(len(points), -1)
    number[used] = np.arange(len(used))
    uv = np.zeros((quads.size, 2))
    return make_mesh(
        points[used], number[quads].ravel(), np.arange(len(quads) + 1) * 4, uvs=uv,
        materials=np.full(len(quads), material),
    )  # fmt: skip


def coat() -> tuple[Mesh, np.ndarray, np.ndarray]:
    field = coat_field()
    points, quads = surface_nets(field, np.array([0, 0.36, -0.3]), np.array([0.62, 1.34, 0.3]), 0.0148)
    partner = mirror_partners(points)
    points = relax(points, quads, field)
    points = (points + points[partner] * [-1, 1, 1]) / 2
    middle = points[quads].mean(axis=1)
    x = np.abs(middle[:, 0])
    along = (np.column_stack([x, middle[:, 1:]]) - SHOULDER) @ ARM
    slit = (x < 0.016) & (middle[:, 2] > 0) & (middle[:, 1] < 0.80)
    sleeve = (along > CUFF) & (x > 0.30)
    keep = (middle[:, 1] > HEM) & (middle[:, 1] < COLLAR) & ~slit & ~sleeve
    return hemmed(sheet(points, quads, keep)), points, quads


def hemmed(mesh: Mesh) -> Mesh:
    """Rims drawn straight: hem and collar level, cuffs square to the arm, the slit plumb."""
    points = mesh.points.copy()
    quads = mesh.corners.reshape(-1, 4)
    edges = np.sort(np.concatenate([quads[:, [i, (i + 1) % 4]] for i in range(4)]), axis=1)
    unique, count = np.unique(edges, axis=0, return_counts=True)
    for v in np.unique(unique[count == 1]):
        x, y, z = points[v]
        side = np.sign(x) or 1.0
        along = (np.array([abs(x), y, z]) - SHOULDER) @ ARM
        if abs(y - HEM) < 0.02:
            points[v, 1] = HEM
        elif abs(y - COLLAR) < 0.02 and abs(x) < 0.16:
            points[v, 1] = COLLAR
        elif abs(x) > 0.3 and abs(along - CUFF) < 0.03:
            points[v] += (CUFF - along) * ARM * [side, 1, 1]
        elif z > 0 and abs(x) < 0.04 and y < 0.79:
            points[v, 0] = side * 0.012
    return replace(mesh, points=points)


def band(points: np.ndarray, quads: np.ndarray) -> Mesh:
    """A strap from the right shoulder to the left hip, lying on the coat all the way round."""
    triangles = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]])
    shoulder, hip = np.array([-0.088, 1.20, 0.0]), np.array([0.20, 0.70, 0.0])
    normal = np.cross(hip - shoulder, [0, 0, 1.0])
    normal /= np.linalg.norm(normal)
    loop = max(cut(points, triangles, (shoulder + hip) / 2, normal), key=lambda o: len(o.points)).points
    step = np.linalg.norm(np.diff(loop, axis=0, append=loop[:1]), axis=1)
    at = np.concatenate([[0], np.cumsum(step)])
    even = np.linspace(0, at[-1], 85)[:-1]
    closed = np.concatenate([loop, loop[:1]])
    line = np.stack([np.interp(even, at, closed[:, k]) for k in range(3)], axis=1)
    for _ in range(6):
        line = (line + np.roll(line, 1, 0) + np.roll(line, -1, 0)) / 3
    field, h = coat_field(), 1e-4
    rows = [line + normal * off for off in (-0.017, 0.0, 0.017)]
    for k, row in enumerate(rows):
        for _ in range(4):
            gradient = np.stack([(field(row + h * e) - field(row - h * e)) / (2 * h) for e in np.eye(3)], axis=1)
            gradient /= np.maximum(np.linalg.norm(gradient, axis=1, keepdims=True), 1e-9)
            row = row - (field(row) - 0.006)[:, None] * gradient
        rows[k] = row
    n, places = len(line), np.concatenate(rows)
    faces = [
        [r * n + i, r * n + (i + 1) % n, (r + 1) * n + (i + 1) % n, (r + 1) * n + i] for r in (0, 1) for i in range(n)
    ]
    faces = np.array(faces)
    return make_mesh(
        places, faces.ravel(), np.arange(len(faces) + 1) * 4, uvs=np.zeros((faces.size, 2)),
        materials=np.full(len(faces), 1),
    )  # fmt: skip


def satchel() -> Mesh:
    def field(p: np.ndarray) -> np.ndarray:
        half, round_ = np.array([0.036, 0.082, 0.105]), 0.02
        q = np.abs(p) - (half - round_)
        body = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0) - round_
        flap = ball((0, 0.02, 0), (0.046, 0.066, 0.103))(p)
        return np.minimum(body, flap)

    points, quads = surface_nets(field, np.array([0, -0.1, -0.13]), np.array([0.06, 0.1, 0.13]), 0.0125)
    points = relax(points, quads, field, 6)
    tilt = 0.2
    turn = np.array([[np.cos(tilt), -np.sin(tilt), 0], [np.sin(tilt), np.cos(tilt), 0], [0, 0, 1]])
    return sheet(points @ turn.T + [0.262, 0.655, 0.0], quads, np.ones(len(quads), bool), 1)


def frame_of(
    centre: np.ndarray, right: np.ndarray, up: np.ndarray, wide: float, tall: float
) -> tuple[np.ndarray, list]:
    """A square brass frame: a rounded rectangle swept by a small square."""
    out = np.cross(right, up)
    turn = np.linspace(0, 2 * np.pi, 25)[:-1]
    c, s = np.cos(turn), np.sin(turn)
    ring = np.stack([np.sign(c) * np.abs(c) ** 0.45 * wide, np.sign(s) * np.abs(s) ** 0.45 * tall], axis=1)
    points = []
    for grow, depth in ((1.0, -0.0022), (1.0, 0.0026), (0.72, 0.0026), (0.72, -0.0022)):
        points.append(centre + grow * (ring[:, :1] * right + ring[:, 1:] * up) + depth * out)
    n = len(turn)
    faces = [
        [k * n + i, k * n + (i + 1) % n, (k + 1) % 4 * n + (i + 1) % n, (k + 1) % 4 * n + i]
        for k in range(4)
        for i in range(n)
    ]
    return np.concatenate(points), faces


def buckles() -> Mesh:
    """One on each boot's outside, three down the front of the coat: hard, each a shell of its own."""
    x, y, z = np.eye(3)
    spots = [(np.array([s * 0.160, 0.185, -0.01]), s * -z, y, 0.016, 0.013) for s in (1, -1)]
    field = coat_field()
    for height in (0.86, 0.97, 1.08):
        front = np.array([[0.0, height, d] for d in np.linspace(0.05, 0.3, 400)])
        depth = front[np.argmax(field(front) > 0), 2]
        spots.append((np.array([0.0, height, depth + 0.009]), x, y, 0.024, 0.017))
    points, faces, start = [], [], 0
    for centre, right, up, wide, tall in spots:
        own, rings = frame_of(centre, right, up, wide, tall)
        faces += [[v + start for v in face] for face in rings]
        points.append(own)
        start += len(own)
    corners = np.array(faces)
    return make_mesh(
        np.concatenate(points), corners.ravel(), np.arange(len(corners) + 1) * 4, uvs=np.zeros((corners.size, 2)),
        materials=np.full(len(corners), 2),
    )  # fmt: skip


def make_oilskin() -> None:
    made, points, quads = coat()
    parts = [("coat", made), ("strap", band(points, quads)), ("satchel", satchel()), ("buckles", buckles())]
    write_obj(OUT / "oilskin_parts.obj", parts, MATERIALS, ())
    print("oilskin:", ", ".join(f"{name} {mesh.vertex_count}" for name, mesh in parts))


def dressed(document):
    """Wick with his oilskin on, each new part told what it is, nothing of it bound yet."""
    from pegloom.document import edits
    from pegloom.document.model import PartKind
    from pegloom.files.reading import read_mesh

    mesh = read_mesh(OUT / "oilskin_parts.obj")
    document = edits.add_parts(document, mesh.parts, mesh.materials, mesh.images)
    kinds = {"coat": PartKind.CLOTH, "strap": PartKind.CLOTH, "satchel": PartKind.PROP, "buckles": PartKind.HARD}
    for part in document.require_character().parts:
        if part.name in kinds:
            document = edits.set_part_kind(document, part.id, kinds[part.name])
    return document


def new_parts(document) -> tuple[str, ...]:
    return tuple(p.id for p in document.require_character().parts if p.name in ("coat", "strap", "satchel", "buckles"))


def rig_oilskin() -> None:
    """The started project: dressed after he was rigged; the coat by transfer, relax and bake."""
    from pegloom.document import edits
    from pegloom.files.project import open_project, save_project

    document = dressed(open_project(OUT / "wick.pegloom"))
    document = edits.bind(document, part_ids=new_parts(document))
    character = document.require_character()
    coat_id = next(p.id for p in character.parts if p.name == "coat")
    document = edits.set_relax(document, coat_id, steps=16)
    document, reports = edits.bake_relax(document)
    print(reports[0].says)
    document = replace(document, name="Wick in his oilskin")
    save_project(Path(OUT / "oilskin.pegloom"), document)


if __name__ == "__main__":
    make_oilskin()
    rig_oilskin()
