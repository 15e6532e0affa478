#!/usr/bin/env python3
"""Make the rest of Saltmarsh Post: Dumble the pack tapir, Harl the heron, the bell winch, the moth lantern.

    .venv/bin/python tools/demo_world.py [dumble harl winch lantern]

The same means as make_demo.py; each is shipped as an unrigged mesh and as a started project.
"""

from __future__ import annotations

import io
import sys
from dataclasses import replace

import numpy as np
from PIL import Image as Picture

from make_demo import OUT, Field, ball, cone, mirror_partners, relax, smooth_min, surface_nets
from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.core.motion.clips import sample
from pegloom.document import edits
from pegloom.document.model import Document, Image, Material, PartKind
from pegloom.files.obj import write_obj
from pegloom.files.project import save_project
from pegloom.files.reading import read_mesh

TILE = 128
Pieces = list[tuple[str, Field, float]]


def whole(pieces: Pieces, *, floor: bool = True) -> Field:
    def field(p: np.ndarray) -> np.ndarray:
        q = p * 1.0
        q[:, 0] = np.abs(q[:, 0])
        value = np.full(len(q), 1e3)
        for _, piece, k in pieces:
            value = smooth_min(value, piece(q), k)
        return np.maximum(value, 0.003 - q[:, 1]) if floor else value

    return field


def organic(
    pieces: Pieces, low: tuple[float, ...], high: tuple[float, ...], cell: float, regions: tuple[str, ...]
) -> Mesh:
    """A mirrored body of even quads with one texture tile a region."""
    field = whole(pieces)
    for size in cell * (1 + 0.004 * np.arange(24)):
        points, quads = surface_nets(field, np.array(low), np.array(high), float(size))
        edges = np.sort(np.concatenate([quads[:, [i, (i + 1) % 4]] for i in range(4)]), axis=1)
        if np.unique(edges, axis=0, return_counts=True)[1].max() == 2:
            break
    partner = mirror_partners(points)
    points = relax(points, quads, field, steps=8)
    points = (points + points[partner] * [-1, 1, 1]) / 2
    points[:, 1] -= points[:, 1].min()
    middle = points[quads].mean(axis=1)
    middle[:, 0] = np.abs(middle[:, 0])
    nearest = np.argmin(np.stack([piece(middle) for _, piece, _ in pieces], axis=1), axis=1)
    region = np.array([regions.index(name) for name, _, _ in pieces])[nearest]
    corners = points[quads]
    span = np.ptp(points, axis=0)
    u = np.abs(corners[..., 0]) / span[0] * 2
    v = (corners[..., 1] - points[:, 1].min()) / span[1]
    w = (corners[..., 2] - points[:, 2].min()) / span[2]
    uv = np.stack([0.5 * u + 0.5 * w, v], axis=-1)
    return make_mesh(
        points,
        quads.ravel(),
        np.arange(len(quads) + 1) * 4,
        uvs=tiled(region[:, None], uv, len(regions)).reshape(-1, 2),
    )


def tiled(region: np.ndarray, uv: np.ndarray, count: int) -> np.ndarray:
    inner = 0.03 + 0.94 * np.clip(uv, 0, 1)
    return np.stack([(region + inner[..., 0]) / count, inner[..., 1]], axis=-1)


def sheet(colours: list[tuple[tuple[int, int, int], tuple[int, int, int], str]]) -> bytes:
    """One tile a region: two colours and a weave, speckle, feather or plank pattern."""
    grain = np.random.default_rng(5)
    y, x = np.mgrid[0:TILE, 0:TILE] / TILE
    noise = grain.normal(0, 1, (TILE, TILE))
    for axis in (0, 1):
        noise = (noise + np.roll(noise, 1, axis) + np.roll(noise, -1, axis)) / 3
    tiles = []
    for one, two, kind in colours:
        amount = {
            "plain": 0.5 + 0.5 * y,
            "speckle": np.clip(noise * 2.2 - 0.4, 0, 1),
            "feather": 0.5 + 0.5 * np.sin(x * 60 + 4 * np.sin(y * 22)),
            "plank": (np.abs((x * 6) % 1 - 0.5) > 0.46).astype(float),
            "weave": 0.5 + 0.25 * np.sin(x * 150) + 0.25 * np.sin(y * 150),
        }[kind]
        a = np.clip(amount, 0, 1)[..., None]
        tiles.append(np.array(one) * (1 - a) + np.array(two) * a + 5 * noise[..., None])
    out = io.BytesIO()
    Picture.fromarray(np.clip(np.concatenate(tiles, axis=1), 0, 255).astype(np.uint8)).save(out, "PNG", optimize=True)
    return out.getvalue()


def box(centre: tuple[float, ...], size: tuple[float, ...], cuts: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """A box of quads."""
    points, quads = [], []
    for axis in range(3):
        for side in (-1, 1):
            u, v = (axis + 1) % 3, (axis + 2) % 3
            base = len(points)
            for i in range(cuts + 1):
                for j in range(cuts + 1):
                    p = np.zeros(3)
                    p[axis], p[u], p[v] = side / 2, i / cuts - 0.5, j / cuts - 0.5
                    points.append(np.array(centre) + p * size)
            for i in range(cuts):
                for j in range(cuts):
                    a = base + i * (cuts + 1) + j
                    ring = [a, a + cuts + 1, a + cuts + 2, a + 1]
                    quads.append(ring if side > 0 else ring[::-1])
    return np.array(points), np.array(quads)


def tube(
    line: list[tuple[float, ...]], radius: float, sides: int = 10, closed: bool = False
) -> tuple[np.ndarray, np.ndarray]:
    """A round tube along a line, its ends shut by a ring of no radius."""
    path = np.array(line)
    n = len(path)
    points, quads = [], []
    across = None
    for i in range(n):
        ahead = path[(i + 1) % n] - path[i - 1] if closed else path[min(i + 1, n - 1)] - path[max(i - 1, 0)]
        ahead = ahead / np.linalg.norm(ahead)
        if across is None:
            across = np.cross(ahead, np.eye(3)[int(np.argmin(np.abs(ahead)))])
        across = across - ahead * (across @ ahead)
        across = across / np.linalg.norm(across)
        other = np.cross(ahead, across)
        for s in range(sides):
            t = 2 * np.pi * s / sides
            points.append(path[i] + radius * (np.cos(t) * across + np.sin(t) * other))
    for i in range(n if closed else n - 1):
        for s in range(sides):
            a, b = i * sides + s, i * sides + (s + 1) % sides
            c, d = ((i + 1) % n) * sides + (s + 1) % sides, ((i + 1) % n) * sides + s
            quads.append([a, b, c, d])
    if not closed:
        for end, order in ((0, -1), (n - 1, 1)):
            base = len(points)
            points += [path[end] * 0.6 + points[end * sides + s] * 0.4 for s in range(sides)]
            for s in range(sides):
                ring = [end * sides + s, end * sides + (s + 1) % sides, base + (s + 1) % sides, base + s]
                quads.append(ring[::order])
    return np.array(points), np.array(quads)


def pieces_of(*blocks: tuple[np.ndarray, np.ndarray], region: int, count: int) -> Mesh:
    points, quads, at = [], [], 0
    for p, q in blocks:
        points.append(p)
        quads.append(q + at)
        at += len(p)
    p, q = np.concatenate(points), np.concatenate(quads)
    span = np.maximum(np.ptp(p, axis=0), 1e-6)
    local = (p[q] - p.min(axis=0)) / span
    uv = np.stack([0.5 * local[..., 0] + 0.5 * local[..., 2], local[..., 1]], axis=-1)
    return make_mesh(
        p, q.ravel(), np.arange(len(q) + 1) * 4, uvs=tiled(np.full((len(q), 1), region), uv, count).reshape(-1, 2)
    )


def ship(name: str, meshes: list[tuple[str, Mesh]], texture: bytes, rough: float = 0.85) -> None:
    picture = Image(f"{name}.png", "image/png", texture)
    write_obj(
        OUT / f"{name}.obj", meshes, (Material(name, (1.0, 1.0, 1.0, 1.0), 0.0, rough, picture.name),), (picture,)
    )
    print(f"{name}: {sum(m.vertex_count for _, m in meshes)} vertices")


def opened(name: str, title: str) -> Document:
    mesh = read_mesh(OUT / f"{name}.obj")
    return edits.bring_in(Document(), mesh.parts, name=title, materials=mesh.materials, images=mesh.images)


def make_dumble() -> None:
    r = ("hide", "saddle", "socks", "snout")
    p: Pieces = [
        ("hide", ball((0, 0.64, 0.28), (0.25, 0.27, 0.33)), 0.1),
        ("saddle", ball((0, 0.66, -0.02), (0.265, 0.285, 0.34)), 0.12),
        ("hide", ball((0, 0.64, -0.36), (0.235, 0.27, 0.29)), 0.12),
        ("hide", cone((0, 0.74, 0.46), (0, 0.86, 0.68), 0.17, 0.125), 0.1),
        ("hide", ball((0, 0.88, 0.8), (0.115, 0.125, 0.2)), 0.07),
        ("snout", cone((0, 0.84, 0.95), (0, 0.75, 1.08), 0.068, 0.05), 0.05),
        ("snout", cone((0, 0.75, 1.08), (0, 0.64, 1.12), 0.05, 0.04), 0.03),
        ("hide", cone((0, 0.775, 0.86), (0, 0.755, 0.97), 0.055, 0.042), 0.03),
        ("hide", cone((0.075, 0.97, 0.7), (0.115, 1.05, 0.69), 0.04, 0.034), 0.02),
        ("socks", ball((0.118, 1.055, 0.69), (0.036, 0.05, 0.024)), 0.02),
        ("hide", cone((0, 0.74, -0.62), (0, 0.66, -0.72), 0.036, 0.024), 0.03),
        ("hide", cone((0, 0.66, -0.72), (0, 0.55, -0.74), 0.026, 0.02), 0.02),
        ("hide", cone((0.13, 0.58, 0.33), (0.14, 0.36, 0.29), 0.12, 0.08), 0.07),
        ("hide", cone((0.14, 0.36, 0.29), (0.14, 0.18, 0.31), 0.078, 0.064), 0.04),
        ("socks", cone((0.14, 0.19, 0.31), (0.14, 0.07, 0.31), 0.063, 0.062), 0.03),
        ("socks", ball((0.14, 0.045, 0.335), (0.074, 0.05, 0.09)), 0.03),
        ("hide", cone((0.14, 0.58, -0.4), (0.15, 0.38, -0.31), 0.135, 0.088), 0.07),
        ("hide", cone((0.15, 0.38, -0.31), (0.145, 0.24, -0.43), 0.08, 0.06), 0.04),
        ("socks", cone((0.145, 0.24, -0.43), (0.145, 0.07, -0.4), 0.06, 0.06), 0.04),
        ("socks", ball((0.145, 0.045, -0.37), (0.074, 0.05, 0.09)), 0.03),
    ]
    body = organic(p, (0, 0, -0.86), (0.4, 1.2, 1.22), 0.0158, r)
    panniers = [box((s * 0.31, 0.62, -0.02), (0.13, 0.24, 0.32), 6) for s in (1, -1)]
    strap = tube(
        [(0.285 * np.sin(t), 0.655 + 0.305 * np.cos(t), -0.02) for t in np.linspace(0, 2 * np.pi, 49)[:-1]],
        0.014,
        8,
        True,
    )
    texture = sheet(
        [
            ((72, 66, 78), (58, 52, 66), "speckle"),
            ((214, 204, 188), (196, 184, 168), "speckle"),
            ((48, 44, 54), (40, 36, 46), "plain"),
            ((120, 92, 96), (88, 74, 84), "plain"),
            ((150, 74, 48), (186, 120, 66), "weave"),
        ]
    )
    uv = body.uvs * [4 / 5, 1]
    body = make_mesh(body.points, body.corners, body.starts, uvs=uv)
    tack = [pieces_of(*panniers, region=4, count=5), pieces_of(strap, region=4, count=5)]
    ship("dumble", [("body", body), ("panniers", tack[0]), ("girth", tack[1])], texture)
    document = edits.stand_up(opened("dumble", "Dumble, the pack tapir"), keep_size=True)
    for part in document.require_character().parts:
        if part.name == "panniers":
            document = edits.set_part_kind(document, part.id, PartKind.HARD)
        elif part.name == "girth":
            document = edits.set_part_kind(document, part.id, PartKind.CLOTH)
    plain = document
    for part in document.require_character().parts:
        if part.name != "body":
            document = edits.include_part(document, part.id, False)
    pegs = edits.find_pegs(document, plan="four-legged")
    document = edits.build_joints(edits.set_pegs(plain, pegs))
    # The snout is a chain of its own, hung on the head.
    document, kit = edits.add_kit(document, "chain", "spine.head", name="snout", count=4, both_sides=False)
    back = shift(document)
    for peg, (px, py, pz) in {
        "snout_base": (0, 0.82, 0.97), "snout_middle": (0, 0.75, 1.08), "snout_tip": (0, 0.61, 1.125), "nose": (0, 0.85, 0.95),
        "jaw": (0, 0.81, 0.8), "chin": (0, 0.757, 0.965), "l_ear": (0.08, 0.985, 0.7), "l_ear_tip": (0.118, 1.08, 0.69),
    }.items():  # fmt: skip
        document = edits.place_peg(document, peg, (px, py, pz + back))
    document = edits.build_controls(edits.bind(document))
    document = walk(document, kit)
    save_project(OUT / "dumble.pegloom", document)


def shift(document: Document) -> float:
    """How far standing up moved the figure along z."""
    standing = document.require_character().standing
    assert standing is not None
    return float(np.array(standing.file_to_character).reshape(4, 4)[2, 3])


def walk(document: Document, snout: str) -> Document:
    """A short clip on the spot: a step, a sniff."""
    document, clip = edits.add_clip(document, "sniff", length=3.0)
    rig = document.require_character().rig
    assert rig is not None
    script = {
        f"{snout}.1": ("rotate_x", (0, -0.5, 0.3, -0.3, 0)), f"{snout}.2": ("rotate_x", (0, -0.6, 0.4, -0.4, 0)),
        f"{snout}.3": ("rotate_x", (0, -0.6, 0.5, -0.5, 0)), "spine.neck": ("rotate_x", (0, -0.12, 0.2, 0.1, 0)),
        "tail.1": ("rotate_z", (0, 0.5, -0.5, 0.4, 0)), "ear.l.1": ("rotate_z", (0, 0.3, 0, 0.3, 0)),
        "foreleg.l.goal": ("move_y", (0, 0.1, 0.12, 0, 0)), "body": ("move_y", (0, -0.015, 0, -0.01, 0)),
    }  # fmt: skip
    for control, (channel, values) in script.items():
        if control not in rig.index:
            continue
        for k, value in enumerate(values):
            document = edits.set_channels(document, control, **{channel: value})
            document = edits.key_controls(document, clip, 0.75 * k, (control,))
        document = edits.set_channels(document, control, **{channel: 0.0})
    character = document.require_character()
    return edits.set_pose(document, sample(character.clip(clip), 0.9, rig=character.rig))


def make_harl() -> None:
    r = ("grey", "white", "wing", "beak", "legs")
    p: Pieces = [
        ("grey", ball((0, 0.5, -0.03), (0.095, 0.1, 0.19)), 0.05),
        ("white", ball((0, 0.475, 0.06), (0.075, 0.085, 0.12)), 0.05),
        ("white", cone((0, 0.53, 0.13), (0, 0.64, 0.225), 0.05, 0.031), 0.04),
        ("white", cone((0, 0.64, 0.225), (0, 0.78, 0.2), 0.031, 0.026), 0.02),
        ("white", cone((0, 0.78, 0.2), (0, 0.9, 0.165), 0.026, 0.026), 0.02),
        ("white", ball((0, 0.935, 0.195), (0.034, 0.036, 0.062)), 0.025),
        ("beak", cone((0, 0.93, 0.24), (0, 0.9, 0.43), 0.021, 0.008), 0.012),
        ("wing", cone((0.012, 0.955, 0.165), (0.018, 0.945, 0.05), 0.013, 0.008), 0.012),
        ("grey", cone((0, 0.49, -0.18), (0, 0.45, -0.34), 0.045, 0.028), 0.04),
        ("grey", ball((0.16, 0.55, 0.02), (0.15, 0.022, 0.09)), 0.03),
        ("wing", ball((0.36, 0.56, -0.01), (0.17, 0.019, 0.12)), 0.03),
        ("wing", ball((0.6, 0.555, -0.03), (0.2, 0.017, 0.115)), 0.03),
        ("wing", ball((0.8, 0.545, -0.06), (0.15, 0.015, 0.07)), 0.03),
        ("grey", cone((0.055, 0.46, -0.03), (0.06, 0.385, 0.01), 0.045, 0.024), 0.03),
        ("legs", cone((0.06, 0.385, 0.01), (0.062, 0.22, -0.04), 0.02, 0.0145), 0.012),
        ("legs", cone((0.062, 0.22, -0.04), (0.062, 0.03, 0.0), 0.0145, 0.014), 0.008),
        ("legs", cone((0.062, 0.016, 0.0), (0.062, 0.013, 0.1), 0.0145, 0.011), 0.008),
        ("legs", cone((0.062, 0.016, 0.005), (0.1, 0.013, 0.075), 0.013, 0.01), 0.008),
        ("legs", cone((0.062, 0.016, 0.005), (0.03, 0.013, 0.075), 0.013, 0.01), 0.008),
        ("legs", cone((0.062, 0.016, 0.0), (0.06, 0.013, -0.06), 0.013, 0.01), 0.008),
    ]
    body = organic(p, (0, 0, -0.38), (0.98, 1.0, 0.46), 0.0098, r)
    texture = sheet(
        [
            ((150, 160, 172), (120, 132, 150), "feather"),
            ((238, 234, 226), (214, 210, 204), "plain"),
            ((76, 88, 112), (48, 54, 74), "feather"),
            ((226, 164, 66), (196, 126, 50), "plain"),
            ((124, 108, 74), (96, 82, 60), "speckle"),
        ]
    )
    ship("harl", [("body", body)], texture)
    document = edits.stand_up(opened("harl", "Harl, the heron"), keep_size=True)
    document = edits.set_pegs(document, edits.find_pegs(document, plan="winged"))
    back = shift(document)
    for peg, (px, py, pz) in {
        "jaw": (0, 0.918, 0.25), "chin": (0, 0.898, 0.41), "l_hip": (0.055, 0.46, -0.03), "l_knee": (0.06, 0.385, 0.012),
    }.items():  # fmt: skip
        document = edits.place_peg(document, peg, (px, py, pz + back))
    document = edits.build_joints(document)
    document = edits.build_controls(edits.bind(document))
    document, clip = edits.add_clip(document, "stretch", length=3.0)
    rig = document.require_character().rig
    assert rig is not None
    script = {
        "wing.l.upper.fk": ("rotate_z", (0, 0.5, -0.4, 0.3, 0)), "wing.r.upper.fk": ("rotate_z", (0, 0.5, -0.4, 0.3, 0)),
        "neck.2": ("rotate_x", (0, 0.3, 0.1, 0.25, 0)), "neck.4": ("rotate_x", (0, -0.4, -0.1, -0.3, 0)),
        "body": ("move_y", (0, -0.04, 0, -0.03, 0)),
    }  # fmt: skip
    for control, (channel, values) in script.items():
        if control in rig.index:
            for k, value in enumerate(values):
                document = edits.set_channels(document, control, **{channel: value})
                document = edits.key_controls(document, clip, 0.75 * k, (control,))
            document = edits.set_channels(document, control, **{channel: 0.0})
    character = document.require_character()
    save_project(OUT / "harl.pegloom", edits.set_pose(document, sample(character.clip(clip), 0.8, rig=character.rig)))


def make_winch() -> None:
    wood, iron, brass, rope_ = 0, 1, 2, 3
    ring = [(0.12, 0.72 + 0.2 * np.sin(t), 0.2 * np.cos(t)) for t in np.linspace(0, 2 * np.pi, 41)[:-1]]
    spokes = [
        tube(
            [(0.12, 0.72 + 0.02 * np.sin(t), 0.02 * np.cos(t)), (0.12, 0.72 + 0.19 * np.sin(t), 0.19 * np.cos(t))],
            0.014,
            8,
        )
        for t in np.arange(6) * np.pi / 3
    ]
    profile = [
        (0.012, 0.0),
        (0.05, -0.01),
        (0.062, -0.06),
        (0.07, -0.11),
        (0.098, -0.15),
        (0.09, -0.152),
        (0.06, -0.1),
        (0.045, -0.03),
    ]
    turns = np.linspace(0, 2 * np.pi, 33)[:-1]
    bp = np.array([(r * np.cos(t), 0.98 + y, 0.62 + r * np.sin(t)) for t in turns for r, y in profile])
    m = len(profile)
    bq = np.array(
        [
            [((s + 1) % 32) * m + k, ((s + 1) % 32) * m + (k + 1) % m, s * m + (k + 1) % m, s * m + k]
            for s in range(32)
            for k in range(m)
        ]
    )
    line = [(0.0, 1.56 - 0.04 * k, 0.62) for k in range(15)]
    meshes = [
        ("base", pieces_of(box((0, 0.05, 0), (0.5, 0.1, 0.62), 5), box((0.0, 0.42, 0.0), (0.12, 0.66, 0.14), 6), box((0.0, 0.98, 0.0), (0.1, 0.5, 0.1), 5), region=wood, count=4)),
        ("wheel", pieces_of(tube(ring, 0.022, 10, True), *spokes, tube([(0.06, 0.72, 0), (0.2, 0.72, 0)], 0.03, 12), region=iron, count=4)),
        ("crank", pieces_of(tube([(0.2, 0.72, 0), (0.24, 0.72, 0), (0.24, 0.56, 0.0), (0.36, 0.56, 0.0)], 0.016, 10), region=brass, count=4)),
        ("boom", pieces_of(tube([(0, 1.2, -0.08), (0, 1.24, 0.0), (0, 1.42, 0.32), (0, 1.58, 0.62)], 0.036, 12), region=wood, count=4)),
        ("rope", pieces_of(tube(line, 0.012, 8), region=rope_, count=4)),
        ("bell", pieces_of((bp, bq), region=brass, count=4)),
    ]  # fmt: skip
    texture = sheet(
        [
            ((122, 86, 58), (96, 64, 44), "plank"),
            ((86, 92, 104), (64, 70, 82), "speckle"),
            ((214, 170, 86), (176, 128, 58), "plain"),
            ((206, 190, 158), (170, 150, 116), "weave"),
        ]
    )
    ship("winch", meshes, texture, 0.6)
    document = edits.stand_up(opened("winch", "The bell winch"), keep_size=True, up=None)
    character = document.require_character()
    standing = np.array(character.standing.file_to_character).reshape(4, 4) if character.standing else np.eye(4)

    def at(x: float, y: float, z: float) -> tuple[float, float, float]:
        p = standing[:3, :3] @ np.array([x, y, z]) + standing[:3, 3]
        return (float(p[0]), float(p[1]), float(p[2]))

    for part in character.parts:
        document = edits.set_part_kind(document, part.id, PartKind.HARD)
    pegs = edits.find_pegs(document, plan="wheel")
    document = edits.set_pegs(document, pegs)
    for name, place in (("base", (0, 0.05, 0)), ("hub", (0.12, 0.72, 0)), ("rim", (0.12, 0.92, 0))):
        document = edits.place_peg(document, name, at(*place), both_sides=False)
    document = edits.build_joints(document)
    document, crank = edits.add_kit(document, "hinge", "wheel.wheel", name="crank", both_sides=False)
    document, boom = edits.add_kit(document, "hinge", "base.base", name="boom", both_sides=False)
    document, rope = edits.add_kit(document, "chain", "boom.hinge", name="rope", count=6, both_sides=False)
    document, bell_kit = edits.add_kit(document, "hinge", "rope.6", name="bell", both_sides=False)
    for name, place in {
        "crank_pin": (0.2, 0.72, 0), "crank_tip": (0.24, 0.56, 0), "boom_pin": (0, 1.22, 0), "boom_tip": (0, 1.58, 0.62),
        "rope_base": (0, 1.56, 0.62), "rope_middle": (0, 1.28, 0.62), "rope_tip": (0, 1.0, 0.62),
        "bell_pin": (0, 0.99, 0.62), "bell_tip": (0, 0.83, 0.62),
    }.items():  # fmt: skip
        document = edits.place_peg(document, name, at(*place), both_sides=False)
    document = edits.bind(document)
    holders = {
        "base": "base.base",
        "wheel": "wheel.wheel",
        "crank": f"{crank}.hinge",
        "boom": f"{boom}.hinge",
        "bell": f"{bell_kit}.hinge",
    }
    for part in document.require_character().parts:
        if part.name in holders:
            every = np.arange(part.mesh.vertex_count)
            document = edits.fill_weight(document, part.id, holders[part.name], every, 1.0, both_sides=False)
        else:
            document = edits.set_part_kind(document, part.id, PartKind.SKIN)
    assert rope
    document = edits.build_controls(document)
    document, clip = edits.add_clip(document, "ring", length=2.4)
    for control, channel, values in (
        ("wheel.wheel", "rotate_x", (0, 1.5, 3.1, 1.5, 0)), ("boom.hinge", "rotate_x", (0, -0.2, -0.3, -0.1, 0)),
        ("rope.1", "rotate_x", (0, 0.3, 0.2, -0.1, 0)), ("rope.3", "rotate_x", (0, 0.25, -0.2, 0.1, 0)), ("bell.hinge", "rotate_x", (0, 0.5, -0.6, 0.4, 0)),
    ):  # fmt: skip
        for k, value in enumerate(values):
            document = edits.set_channels(document, control, **{channel: value})
            document = edits.key_controls(document, clip, 0.6 * k, (control,))
        document = edits.set_channels(document, control, **{channel: 0.0})
    save_project(OUT / "winch.pegloom", document)


def plate(
    outline: list[tuple[float, float]], centre: tuple[float, float], z: float, rings: int = 6, flip: bool = False
) -> tuple[np.ndarray, np.ndarray]:
    """A flat piece: rings of quads from its outline to a small middle."""
    edge = np.array(outline)
    if flip:
        edge = edge[::-1] * [-1, 1]
        centre = (-centre[0], centre[1])
    n = len(edge)
    points = [
        np.append(np.array(centre) + (p - np.array(centre)) * (1 - 0.97 * k / rings), z)
        for k in range(rings + 1)
        for p in edge
    ]
    quads = [
        [k * n + i, k * n + (i + 1) % n, (k + 1) * n + (i + 1) % n, (k + 1) * n + i]
        for k in range(rings)
        for i in range(n)
    ]
    return np.array(points), np.array(quads)


def wing_line(
    root: tuple[float, float], tip: tuple[float, float], wide: float, scallops: int
) -> list[tuple[float, float]]:
    a, b = np.array(root), np.array(tip)
    d = b - a
    side = np.array([-d[1], d[0]]) / np.linalg.norm(d)
    line = []
    for t in np.linspace(0, 2 * np.pi, 49)[:-1]:
        along, out = 0.5 - 0.5 * np.cos(t), np.sin(t)
        swell = wide * (0.25 + 0.75 * along) * (1 + 0.06 * np.cos(scallops * t) * along)
        line.append(tuple((a + d * along + side * out * swell).tolist()))
    return line


def make_lantern() -> None:
    upper, lower = wing_line((0.035, 0.56), (0.52, 0.82), 0.17, 9), wing_line((0.03, 0.46), (0.34, 0.14), 0.14, 8)
    body = [
        (0.055 * np.cos(t) * (1 - 0.25 * np.sin(t)), 0.44 + 0.24 * np.sin(t))
        for t in np.linspace(0, 2 * np.pi, 41)[:-1]
    ]
    head = [(0.06 * np.cos(t), 0.72 + 0.062 * np.sin(t)) for t in np.linspace(0, 2 * np.pi, 33)[:-1]]
    blocks = [
        ("upper_wings", [plate(upper, (0.25, 0.67), -0.004), plate(upper, (0.25, 0.67), -0.004, flip=True)]),
        ("lower_wings", [plate(lower, (0.18, 0.3), -0.008), plate(lower, (0.18, 0.3), -0.008, flip=True)]),
        ("body", [plate(body, (0, 0.44), 0.0)]),
        ("head", [plate(head, (0, 0.72), 0.004)]),
    ]
    size = 512
    y, x = np.mgrid[0:size, 0:size] / size
    px, py = (x - 0.5) * 1.2, 0.9 - y * 0.9
    picture = np.zeros((size, size, 3)) + [196, 138, 84]
    spot = lambda cx, cy, r: np.hypot(np.abs(px) - cx, py - cy) / r  # noqa: E731
    rays = 0.5 + 0.5 * np.sin(np.arctan2(py - 0.5, np.abs(px) - 0.02) * 40)
    picture = picture * (0.82 + 0.18 * rays[..., None])
    for cx, cy, r in ((0.34, 0.73, 0.085), (0.22, 0.26, 0.065)):
        s = spot(cx, cy, r)
        for limit, colour in (
            (1.0, (72, 48, 64)),
            (0.75, (236, 196, 112)),
            (0.42, (52, 86, 104)),
            (0.18, (244, 236, 214)),
        ):
            picture[s < limit] = colour
    picture[(np.abs(px) < 0.062) & (py > 0.18) & (py < 0.8)] = (120, 84, 92)
    bands = (np.abs(px) < 0.062) & (py > 0.2) & (py < 0.62) & ((py * 22) % 1 < 0.35)
    picture[bands] = (232, 214, 178)
    for sign in (-1, 1):
        picture[np.hypot(px - sign * 0.026, py - 0.735) < 0.014] = (28, 24, 34)
    out = io.BytesIO()
    Picture.fromarray(np.clip(picture, 0, 255).astype(np.uint8)).save(out, "PNG", optimize=True)
    meshes = []
    for name, made in blocks:
        points, quads, at = [], [], 0
        for p, q in made:
            points.append(p)
            quads.append(q + at)
            at += len(p)
        p, q = np.concatenate(points), np.concatenate(quads)
        uv = np.stack([p[:, 0] / 1.2 + 0.5, 1 - (0.9 - p[:, 1]) / 0.9], axis=1)
        meshes.append((name, make_mesh(p, q.ravel(), np.arange(len(q) + 1) * 4, uvs=uv[q.ravel()])))
    ship("lantern", meshes, out.getvalue(), 0.9)
    document = edits.stand_up(opened("lantern", "The moth lantern"), keep_size=True)
    character = document.require_character()
    document = document.with_character(
        replace(character, materials=tuple(replace(m, double_sided=True) for m in character.materials))
    )
    document = edits.set_pegs(document, edits.find_pegs(document, plan="flat"))
    low = min(y for _, y in lower)
    for peg, (px_, py_) in {
        "hips": (0, 0.3), "chest": (0, 0.52), "head": (0, 0.67), "crown": (0, 0.775), "l_shoulder": (0.035, 0.56),
        "l_elbow": (0.25, 0.68), "l_hand": (0.5, 0.81), "l_hip": (0.03, 0.46), "l_knee": (0.17, 0.31), "l_foot": (0.33, 0.16),
    }.items():  # fmt: skip
        document = edits.place_peg(document, peg, (px_, py_ - low, 0.0))
    document = edits.build_joints(document)
    document = edits.build_controls(edits.bind(document))
    document, clip = edits.add_clip(document, "flutter", length=2.0)
    for control, values in (
        ("arm.l.upper", (0, 0.35, -0.2, 0.3, 0)),
        ("arm.r.upper", (0, 0.35, -0.2, 0.3, 0)),
        ("leg.l.upper", (0, -0.2, 0.2, -0.15, 0)),
        ("leg.r.upper", (0, -0.2, 0.2, -0.15, 0)),
        ("spine.head", (0, 0.1, -0.1, 0.1, 0)),
    ):
        for k, value in enumerate(values):
            document = edits.set_channels(document, control, rotate_x=value)
            document = edits.key_controls(document, clip, 0.5 * k, (control,))
        document = edits.set_channels(document, control, rotate_x=0.0)
    save_project(OUT / "lantern.pegloom", document)


MAKERS = {"dumble": make_dumble, "harl": make_harl, "winch": make_winch, "lantern": make_lantern}

if __name__ == "__main__":
    for wanted in sys.argv[1:] or MAKERS:
        MAKERS[wanted]()
