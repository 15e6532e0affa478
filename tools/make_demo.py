#!/usr/bin/env python3
"""Make the demo world's meshes and pictures: Saltmarsh Post's Wick.

    ./loom run ... is not needed; run inside the environment:  .venv/bin/python tools/make_demo.py

Bodies are smooth implicit surfaces (rounded cones blended by a smooth minimum), meshed to quads by surface nets
(S. Gibson, "Constrained elastic surface nets", MICCAI 1998), relaxed and put back on the surface. Everything is
mirrored about x = 0 and made without chance, so that a second run gives the same files.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image as Picture

from pegloom.core.geometry.mesh import Mesh, make_mesh
from pegloom.document.model import Image, Material
from pegloom.files.obj import write_obj

OUT = Path(__file__).parents[1] / "src/pegloom/assets/demo"
CELL = 0.0122
REGIONS = ("head", "coat", "trousers", "boots", "hands", "hat", "eye", "hair")
TILE = 256
Field = Callable[[np.ndarray], np.ndarray]


def cone(a: tuple[float, ...], b: tuple[float, ...], ra: float, rb: float, squash: float = 1.0) -> Field:
    """A capsule whose radius runs from ra to rb; squash flattens it in z."""
    p0, p1 = np.array(a), np.array(b)

    def field(p: np.ndarray) -> np.ndarray:
        scale = np.array([1.0, 1.0, 1.0 / squash])
        q, start, end = (p - p0) * scale, np.zeros(3), (p1 - p0) * scale
        t = np.clip(((q - start) @ (end - start)) / max(float((end - start) @ (end - start)), 1e-12), 0, 1)
        return (np.linalg.norm(q - t[:, None] * (end - start), axis=1) - (ra + (rb - ra) * t)) * min(1.0, squash)

    return field


def ball(centre: tuple[float, ...], radii: tuple[float, ...]) -> Field:
    c, r = np.array(centre), np.array(radii)

    def field(p: np.ndarray) -> np.ndarray:
        k = np.linalg.norm((p - c) / r, axis=1)
        k2 = np.linalg.norm((p - c) / r**2, axis=1)
        return k * (k - 1.0) / np.maximum(k2, 1e-9)

    return field


def smooth_min(a: np.ndarray, b: np.ndarray, k: float) -> np.ndarray:
    h = np.clip(0.5 + 0.5 * (b - a) / k, 0, 1)
    return b + (a - b) * h - k * h * (1 - h)


ARM = np.array([np.cos(np.radians(38)), -np.sin(np.radians(38)), 0.0])
SHOULDER = np.array([0.178, 1.135, -0.012])
ELBOW = SHOULDER + ARM * 0.235 + [0, 0, -0.012]
WRIST = ELBOW + ARM * 0.205 + [0, 0, 0.022]


def wick_fields() -> list[tuple[str, Field, float]]:
    """(region, field, blend radius) of each piece; x is taken as |x|."""
    t = tuple
    down = np.array([ARM[1], -ARM[0], 0.0])  # out of the back of the hand is -down
    pieces: list[tuple[str, Field, float]] = [
        ("coat", cone((0, 0.86, 0.0), (0, 1.09, -0.012), 0.142, 0.158, 0.78), 0.05),
        ("coat", cone((0, 1.09, -0.015), (0.11, 1.135, -0.015), 0.118, 0.085, 0.85), 0.05),
        ("coat", ball((0, 0.93, 0.035), (0.145, 0.115, 0.125)), 0.05),
        ("coat", cone((0, 0.735, 0.0), (0, 0.87, 0.0), 0.15, 0.142, 0.84), 0.04),
        ("coat", cone(t(SHOULDER), t(ELBOW), 0.066, 0.05), 0.045),
        ("coat", cone(t(ELBOW), t(WRIST - ARM * 0.03), 0.05, 0.049), 0.03),
        ("coat", cone(t(WRIST - ARM * 0.045), t(WRIST - ARM * 0.03), 0.052, 0.053), 0.01),
        ("coat", cone((0, 1.2, -0.012), (0, 1.235, -0.01), 0.074, 0.066), 0.025),
        ("head", cone((0, 1.2, -0.01), (0, 1.31, 0.0), 0.05, 0.05), 0.03),
        ("head", ball((0, 1.405, 0.008), (0.112, 0.128, 0.122)), 0.04),
        ("head", ball((0, 1.335, 0.045), (0.07, 0.052, 0.068)), 0.04),
        ("head", cone((0, 1.405, 0.12), (0, 1.375, 0.152), 0.016, 0.022), 0.018),
        ("hair", cone((0.005, 1.349, 0.125), (0.05, 1.338, 0.105), 0.019, 0.010), 0.010),
        ("head", ball((0.116, 1.395, 0.0), (0.018, 0.034, 0.026)), 0.014),
        ("hair", ball((0, 1.415, -0.035), (0.116, 0.125, 0.105)), 0.02),
        ("hat", cone((0, 1.492, 0.0), (0, 1.575, -0.005), 0.108, 0.088), 0.02),
        ("trousers", cone((0.078, 0.775, 0.0), (0.094, 0.45, 0.008), 0.093, 0.064), 0.035),
        ("trousers", cone((0.094, 0.45, 0.008), (0.098, 0.22, -0.006), 0.064, 0.056), 0.03),
        ("boots", cone((0.098, 0.255, -0.006), (0.099, 0.09, -0.014), 0.064, 0.055), 0.012),
        ("boots", ball((0.101, 0.05, 0.035), (0.056, 0.05, 0.118)), 0.03),
        ("boots", ball((0.103, 0.042, 0.1), (0.057, 0.044, 0.062)), 0.03),
        ("boots", ball((0.099, 0.042, -0.03), (0.05, 0.045, 0.052)), 0.02),
        ("hands", cone(t(WRIST - ARM * 0.035), t(WRIST + ARM * 0.02), 0.03, 0.03), 0.02),
        (
            "hands",
            cone(t(WRIST + ARM * 0.04 + [0, 0, 0.022]), t(WRIST + ARM * 0.075 + [0, 0, 0.022]), 0.026, 0.022),
            0.02,
        ),
        (
            "hands",
            cone(t(WRIST + ARM * 0.04 + [0, 0, -0.022]), t(WRIST + ARM * 0.07 + [0, 0, -0.022]), 0.026, 0.022),
            0.02,
        ),
    ]
    for spread, length in ((0.047, 0.068), (0.016, 0.078), (-0.015, 0.07), (-0.044, 0.054)):
        base = WRIST + ARM * 0.078 + np.array([0, 0, spread * 0.78])
        tip = base + ARM * length + np.array([0, 0, spread * 0.45]) + down * 0.006
        pieces.append(("hands", cone(t(base), t(tip), 0.0155, 0.0128), 0.006))
    thumb = WRIST + ARM * 0.02 + np.array([0, 0, 0.036])
    middle = thumb + ARM * 0.028 + np.array([0, 0, 0.032]) + down * 0.008
    pieces.append(("hands", cone(t(thumb), t(middle), 0.02, 0.0165), 0.012))
    pieces.append(("hands", cone(t(middle), t(middle + ARM * 0.03 + [0, 0, 0.02]), 0.0165, 0.0135), 0.008))
    return pieces


def body_field(pieces: list[tuple[str, Field, float]]) -> Field:
    def field(p: np.ndarray) -> np.ndarray:
        q = p * [1, 1, 1]
        q[:, 0] = np.abs(q[:, 0])
        value = np.full(len(q), 1e3)
        for _, piece, k in pieces:
            value = smooth_min(value, piece(q), k)
        # A flat sole.
        return np.maximum(value, 0.004 - q[:, 1])

    return field


def surface_nets(field: Field, low: np.ndarray, high: np.ndarray, cell: float) -> tuple[np.ndarray, np.ndarray]:
    """Vertices (n, 3) and quads (q, 4) of the field's zero; cells are centred on x = 0."""
    half = int(np.ceil(high[0] / cell)) + 1
    xs = (np.arange(-half, half) + 0.5) * cell
    ys, zs = (np.arange(low[a] - 2 * cell, high[a] + 2 * cell, cell) for a in (1, 2))
    grid = np.stack(np.meshgrid(xs, ys, zs, indexing="ij"), axis=-1)
    value = np.concatenate([field(slab.reshape(-1, 3)) for slab in grid]).reshape(grid.shape[:3])
    inside = value < 0
    corners = [(i, j, k) for i in (0, 1) for j in (0, 1) for k in (0, 1)]
    n = np.array(value.shape) - 1

    def shifted(array: np.ndarray, c: tuple[int, int, int]) -> np.ndarray:
        return array[c[0] : c[0] + n[0], c[1] : c[1] + n[1], c[2] : c[2] + n[2]]

    count = sum(shifted(inside, c).astype(int) for c in corners)
    mixed = (count > 0) & (count < 8)
    number = np.full(mixed.shape, -1)
    number[mixed] = np.arange(mixed.sum())
    total, weight = np.zeros((mixed.sum(), 3)), np.zeros(mixed.sum())
    for a in corners:
        for axis in range(3):
            if a[axis]:
                continue
            b = tuple(1 if i == axis else a[i] for i in range(3))
            va, vb = shifted(value, a)[mixed], shifted(value, b)[mixed]
            crosses = (va < 0) != (vb < 0)
            t = np.where(crosses, va / np.where(crosses, va - vb, 1.0), 0.0)
            place = np.array(a, dtype=float) + t[:, None] * (np.array(b) - np.array(a))
            total += np.where(crosses[:, None], place, 0.0)
            weight += crosses
    cells = np.argwhere(mixed)
    points = np.array([xs[0], ys[0], zs[0]]) + cell * (cells + total / weight[:, None])
    quads = []
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        first = [slice(1, -1)] * 3
        first[axis] = slice(0, -1)
        second = list(first)
        second[axis] = slice(1, None)
        a, b = inside[tuple(first)], inside[tuple(second)]
        for flip, crossing in ((False, a & ~b), (True, ~a & b)):
            at = np.argwhere(crossing) + [0 if i == axis else 1 for i in range(3)]
            ring = []
            for du, dv in ((-1, -1), (0, -1), (0, 0), (-1, 0)):
                c = at.copy()
                c[:, u] += du
                c[:, v] += dv
                ring.append(number[tuple(c.T)])
            quad = np.stack(ring, axis=1)
            quads.append(quad[:, ::-1] if flip else quad)
    return points, np.concatenate(quads)


def relax(points: np.ndarray, quads: np.ndarray, field: Field, steps: int = 12) -> np.ndarray:
    """Even out the quads and put the vertices back on the surface."""
    from scipy import sparse

    edges = np.concatenate([quads[:, [i, (i + 1) % 4]] for i in range(4)])
    graph = sparse.csr_matrix((np.ones(len(edges)), (edges[:, 0], edges[:, 1])), shape=(len(points),) * 2)
    graph = ((graph + graph.T) > 0).astype(float)
    mean = sparse.diags(1 / np.maximum(np.asarray(graph.sum(axis=1)).ravel(), 1)) @ graph
    for step in range(steps):
        points = points + (0.5 if step < steps - 2 else 0.0) * (mean @ points - points)
        for _ in range(2):
            h = 1e-4
            gradient = np.stack([(field(points + h * e) - field(points - h * e)) / (2 * h) for e in np.eye(3)], axis=1)
            value = field(points)
            points = points - 0.8 * value[:, None] * gradient / np.maximum(
                (gradient**2).sum(axis=1, keepdims=True), 0.2
            )
    return points


def mirror_partners(points: np.ndarray) -> np.ndarray:
    """Each vertex's partner across x = 0, looked up before relaxing, while the grid is exact."""
    from scipy.spatial import cKDTree

    distance, partner = cKDTree(points).query(points * [-1, 1, 1])
    assert distance.max() < 1e-6, distance.max()
    return np.asarray(partner)


def atlas(
    points: np.ndarray, quads: np.ndarray, pieces: list[tuple[str, Field, float]]
) -> tuple[np.ndarray, np.ndarray]:
    """Per-corner UVs: each face in its region's tile, u the way around from front to back, v up or along the arm."""
    middle = points[quads].mean(axis=1)
    middle[:, 0] = np.abs(middle[:, 0])
    distances = np.stack([piece(middle) for _, piece, _ in pieces], axis=1)
    region = np.array([REGIONS.index(name) for name, _, _ in pieces])[np.argmin(distances, axis=1)]
    # The hem runs level round the hips, whatever piece is nearest there.
    hips = (
        np.isin(region, [REGIONS.index("coat"), REGIONS.index("trousers")])
        & (middle[:, 0] < 0.25)
        & (middle[:, 1] < 0.95)
    )
    region[hips] = np.where(middle[hips, 1] < 0.765, REGIONS.index("trousers"), REGIONS.index("coat"))
    uvs = np.zeros((len(quads), 4, 2))
    for number, name in enumerate(REGIONS):
        mine = np.flatnonzero(region == number)
        if len(mine) == 0:
            continue
        p = points[quads[mine]].reshape(-1, 3) * 1.0
        p[:, 0] = np.abs(p[:, 0])
        out = p - SHOULDER
        if name == "hands":
            u, v = (p[:, 2] + 0.07) / 0.16, (out @ ARM - 0.4) / 0.22
        elif name == "coat":
            sleeve = (out @ ARM > 0.03) & (np.linalg.norm(out - np.outer(out @ ARM, ARM), axis=1) < 0.085)
            sleeve = np.repeat(sleeve.reshape(-1, 4).mean(axis=1) > 0.5, 4)
            u = np.where(sleeve, 0.5 + 0.24 * (p[:, 2] / 0.07), np.arctan2(p[:, 0], p[:, 2]) / np.pi)
            v = np.where(sleeve, 0.02 + 0.3 * (out @ ARM) / 0.46, 0.36 + 0.62 * (p[:, 1] - 0.74) / 0.54)
        elif name in ("trousers", "boots"):
            centre = 0.096
            u = np.arctan2(p[:, 0] - centre, p[:, 2]) / (2 * np.pi) + 0.5
            u = np.abs(np.arctan2(np.abs(p[:, 0] - centre), p[:, 2])) / np.pi
            v = (p[:, 1] - 0.15) / 0.7 if name == "trousers" else p[:, 1] / 0.32
        else:
            u = np.arctan2(p[:, 0], p[:, 2]) / np.pi
            v = {"head": (p[:, 1] - 1.2) / 0.34, "hair": (p[:, 1] - 1.28) / 0.28, "hat": (p[:, 1] - 1.44) / 0.26}[name]
        uvs[mine] = tile_uv(number, np.stack([u, v], axis=1)).reshape(-1, 4, 2)
    return uvs.reshape(-1, 2), region


def tile_uv(region: int, uv: np.ndarray) -> np.ndarray:
    inner = 0.02 + 0.96 * np.clip(uv, 0, 1)
    column, row = region % 4, region // 4
    return np.stack([(column + inner[:, 0]) / 4, 1.0 - (row + 1 - inner[:, 1]) / 2], axis=1)


def paint() -> np.ndarray:
    """The texture, 4 x 2 tiles."""
    grain = np.random.default_rng(11)
    y, x = np.mgrid[0:TILE, 0:TILE] / TILE
    u, v = (x - 0.02) / 0.96, (1 - y - 0.02) / 0.96
    noise = grain.normal(0, 1, (TILE, TILE))
    for axis in (0, 1):
        noise = (noise + np.roll(noise, 1, axis) + np.roll(noise, -1, axis)) / 3
    sheet = np.zeros((2 * TILE, 4 * TILE, 3))

    def put(name: str, colour: np.ndarray) -> None:
        i = REGIONS.index(name)
        sheet[(i // 4) * TILE : (i // 4 + 1) * TILE, (i % 4) * TILE : (i % 4 + 1) * TILE] = colour

    def base(rgb: tuple[int, int, int], rough: float = 5.0) -> np.ndarray:
        return np.array(rgb, dtype=float) + rough * noise[..., None]

    def mix(under: np.ndarray, rgb: tuple[int, int, int], amount: np.ndarray) -> np.ndarray:
        a = np.clip(amount, 0, 1)[..., None]
        return under * (1 - a) + np.array(rgb, dtype=float) * a

    def spot(cu: float, cv: float, ru: float, rv: float) -> np.ndarray:
        return np.clip(1.5 - ((u - cu) / ru) ** 2 - ((v - cv) / rv) ** 2, 0, 1)

    skin = base((226, 172, 140), 3)
    skin = mix(skin, (214, 116, 98), 0.55 * spot(0.2, 0.44, 0.09, 0.06))
    skin = mix(skin, (214, 112, 96), 0.5 * spot(0.0, 0.53, 0.06, 0.05))
    skin = mix(skin, (140, 62, 58), spot(0.0, 0.33, 0.1, 0.012))
    skin = mix(skin, (96, 62, 46), spot(0.155, 0.7, 0.07, 0.014))
    put("head", skin)
    weave = 6 * np.sin(u * 260) + 6 * np.sin(v * 260)
    coat = base((38, 88, 104), 4) + weave[..., None] * 0.6
    coat = mix(coat, (26, 60, 74), 0.8 * (np.abs(u - 0.035) < 0.008) * (v > 0.36))
    coat = mix(coat, (120, 74, 44), ((v > 0.6) & (v < 0.645)).astype(float))
    coat = mix(coat, (222, 186, 104), ((v > 0.597) & (v < 0.648) & (u < 0.05)).astype(float))
    for height in (0.68, 0.745, 0.81, 0.87):
        coat = mix(coat, (232, 198, 116), np.clip(2 * spot(0.085, height, 0.016, 0.01), 0, 1))
    coat = mix(coat, (206, 92, 62), ((v > 0.945) | ((v > 0.36) & (v < 0.385))).astype(float))
    coat = mix(coat, (206, 92, 62), ((v > 0.275) & (v < 0.3)).astype(float))
    put("coat", coat)
    trousers = base((104, 92, 84), 5) + (5 * np.sin(u * 200))[..., None]
    put("trousers", trousers)
    boots = base((74, 50, 40), 5)
    boots = mix(boots, (34, 28, 28), (v < 0.09).astype(float))
    boots = mix(boots, (140, 96, 62), (v > 0.9).astype(float))
    boots = mix(boots, (196, 160, 96), spot(0.5, 0.62, 0.08, 0.03))
    put("boots", boots)
    put("hands", base((226, 172, 140), 3))
    hat = base((190, 76, 54), 5)
    hat = mix(hat, (40, 44, 58), ((v > 0.13) & (v < 0.34)).astype(float))
    hat = mix(hat, (236, 204, 122), np.clip(2 * spot(0.0, 0.25, 0.08, 0.075), 0, 1))
    put("hat", hat)
    eye = base((246, 242, 232), 1)
    eye = mix(eye, (64, 104, 92), (v > 0.66).astype(float))
    eye = mix(eye, (22, 22, 28), (v > 0.8).astype(float))
    put("eye", eye)
    put("hair", base((150, 138, 128), 9) + (10 * np.sin(u * 120 + 3 * np.sin(v * 30)))[..., None])
    return np.clip(sheet, 0, 255).astype(np.uint8)


def eyes() -> Mesh:
    """Two spheres, each a closed shell; v runs from the back to the pupil."""
    rings, segments, radius = 10, 14, 0.026
    points: list[tuple[float, float, float]] = []
    corners: list[int] = []
    sizes: list[int] = []
    uvs: list[tuple[float, float]] = []

    def face(*vertices: tuple[int, int]) -> None:
        """Corners as (vertex, ring)."""
        corners.extend(vertex for vertex, _ in vertices)
        uvs.extend((0.5, ring / rings) for _, ring in vertices)
        sizes.append(len(vertices))

    for side in (1, -1):
        back = len(points)

        def place(ring: int, segment: int, side: int = side) -> tuple[float, float, float]:
            angle, turn = np.pi * ring / rings, side * 2 * np.pi * segment / segments
            x = side * 0.044 + radius * np.sin(angle) * np.cos(turn)
            return x, 1.42 + radius * np.sin(angle) * np.sin(turn), 0.105 - radius * np.cos(angle) * 0.9

        points.append(place(0, 0))
        for ring in range(1, rings):
            points += [place(ring, segment) for segment in range(segments)]
        points.append(place(rings, 0))
        front = len(points) - 1
        for s in range(segments):
            t = (s + 1) % segments
            a, b = (t, s) if side > 0 else (s, t)
            face((back, 0), (back + 1 + a, 1), (back + 1 + b, 1))
            for ring in range(1, rings - 1):
                low, high = back + 1 + (ring - 1) * segments, back + 1 + ring * segments
                face((low + b, ring), (low + a, ring), (high + a, ring + 1), (high + b, ring + 1))
            last = back + 1 + (rings - 2) * segments
            face((last + b, rings - 1), (last + a, rings - 1), (front, rings))
    starts = np.concatenate([[0], np.cumsum(sizes)])
    return make_mesh(points, corners, starts, uvs=tile_uv(REGIONS.index("eye"), np.array(uvs)))


def brim() -> Mesh:
    """A hat brim: an own closed shell, a thin bent ring."""
    segments = 48
    profile = [(0.098, 0.0), (0.13, -0.004), (0.165, -0.004), (0.192, 0.004), (0.196, 0.009)]
    profile += [(0.192, 0.013), (0.165, 0.006), (0.13, 0.006), (0.098, 0.01)]
    points, faces, uvs = [], [], []
    for s in range(segments):
        turn = 2 * np.pi * s / segments
        for r, h in profile:
            x, z = r * np.sin(turn), r * np.cos(turn) * 1.08
            points.append((x, 1.487 + h + 0.35 * x * x - 0.12 * max(z, 0) ** 2, z))
    m = len(profile)
    for s in range(segments):
        for k in range(m):
            a, b = s * m + k, s * m + (k + 1) % m
            c, d = ((s + 1) % segments) * m + (k + 1) % m, ((s + 1) % segments) * m + k
            faces.append([a, d, c, b])
            uvs += [(0.3, 0.6 + 0.02 * k)] * 4
    return make_mesh(
        np.array(points), np.array(faces).ravel(), np.arange(len(faces) + 1) * 4,
        uvs=tile_uv(REGIONS.index("hat"), np.array(uvs)),
    )  # fmt: skip


def make_wick() -> None:
    pieces = wick_fields()
    field = body_field(pieces)
    # A cell size at which the net has no edge shared by more than two faces.
    for cell in CELL * (1 + 0.004 * np.arange(24)):
        points, quads = surface_nets(field, np.array([0, 0.0, -0.2]), np.array([0.78, 1.72, 0.22]), float(cell))
        edges = np.sort(np.concatenate([quads[:, [i, (i + 1) % 4]] for i in range(4)]), axis=1)
        if np.unique(edges, axis=0, return_counts=True)[1].max() == 2:
            break
    partner = mirror_partners(points)
    points = relax(points, quads, field)
    points = (points + points[partner] * [-1, 1, 1]) / 2
    points[:, 1] -= points[:, 1].min()
    uvs, _ = atlas(points, quads, pieces)
    body = make_mesh(points, quads.ravel(), np.arange(len(quads) + 1) * 4, uvs=uvs)
    out = io.BytesIO()
    Picture.fromarray(paint()).save(out, "PNG", optimize=True)
    picture = Image("wick.png", "image/png", out.getvalue())
    material = Material("wick", (1.0, 1.0, 1.0, 1.0), 0.0, 0.85, picture.name)
    OUT.mkdir(parents=True, exist_ok=True)
    write_obj(OUT / "wick.obj", [("body", body), ("eyes", eyes()), ("hat_brim", brim())], (material,), (picture,))
    print(f"wick: {len(points)} vertices, {len(quads)} quads")


def rig_wick() -> None:
    """The started project: Wick stood up, jointed, bound, with controls, a clip and a pose in hand."""
    from pegloom.core.motion.clips import sample
    from pegloom.document import edits
    from pegloom.document.model import Document
    from pegloom.files.project import save_project
    from pegloom.files.reading import read_mesh

    mesh = read_mesh(OUT / "wick.obj")
    document = edits.bring_in(
        Document(), mesh.parts, name="Wick, the ferry postman", materials=mesh.materials, images=mesh.images
    )
    document = edits.stand_up(document, height=1.66)
    document = edits.set_pegs(document, edits.find_pegs(document))
    # His legs are short under the coat: the finder asks about hips and knees, and is told that they are right.
    for name in ("hips", "l_hip", "l_knee"):
        document = edits.accept_peg(document, name)
    document = edits.build_joints(document)
    document = edits.build_controls(edits.bind(document))
    document, _ = edits.add_trial_clip(document)
    # The pose in hand is a moment of the clip.
    character = document.require_character()
    document = edits.set_pose(document, sample(character.clips[0], 2.2, rig=character.rig))
    save_project(OUT / "wick.pegloom", document)


if __name__ == "__main__":
    make_wick()
    rig_wick()
