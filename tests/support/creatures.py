"""Animals of overlapping capsules with known landmarks; none comes from the demo's generator."""

from __future__ import annotations

import numpy as np
import trimesh

from tests.support.figures import _capsule, as_mesh, document_of

Landmarks = dict[str, tuple[float, float, float]]


def _both(pieces: list[trimesh.Trimesh], line: list[tuple[float, float, float]], radii: list[float]) -> None:
    for sign in (1, -1):
        for a, b, r in zip(line, line[1:], radii, strict=False):
            pieces.append(_capsule((sign * a[0], *a[1:]), (sign * b[0], *b[1:]), r))


def _chain(pieces: list[trimesh.Trimesh], line: list[tuple[float, float, float]], radii: list[float]) -> None:
    for a, b, r in zip(line, line[1:], radii, strict=False):
        pieces.append(_capsule(a, b, r))


def four_legged(
    *, neck: float = 0.22, tail: float = 0.35, fat: float = 1.0, leg: float = 1.0
) -> tuple[trimesh.Trimesh, Landmarks]:
    """A dog-like animal about 0.8 m at the back, facing +Z."""
    up = 0.62 * leg
    at: Landmarks = {
        "hip": (0.09, up, -0.36), "knee": (0.1, 0.4 * leg, -0.27), "hock": (0.1, 0.21 * leg, -0.43), "paw": (0.1, 0.05, -0.39), "toe": (0.1, 0.03, -0.29),
        "shoulder": (0.1, 0.55 * leg + 0.02, 0.34), "elbow": (0.1, 0.42 * leg, 0.25), "wrist": (0.1, 0.2 * leg, 0.27), "fore_paw": (0.1, 0.05, 0.27), "fore_toe": (0.1, 0.03, 0.36),
        "hips": (0, up + 0.06, -0.34), "chest": (0, up + 0.05, 0.26), "neck": (0, up + 0.1, 0.36), "head": (0, up + 0.1 + neck * 0.8, 0.4 + neck * 0.7), "nose": (0, up + 0.06 + neck * 0.8, 0.62 + neck * 0.7),
        "tail": (0, up + 0.06, -0.46), "tail_tip": (0, up - 0.02, -0.46 - tail),
    }  # fmt: skip
    pieces: list[trimesh.Trimesh] = []
    _chain(pieces, [(0, up, -0.34), (0, up + 0.01, 0), (0, up, 0.26)], [0.13 * fat, 0.15 * fat])
    _chain(pieces, [at["neck"], at["head"]], [0.075])
    _chain(pieces, [at["head"], at["nose"]], [0.06])
    _chain(pieces, [at["tail"], at["tail_tip"]], [0.025])
    _both(pieces, [at["hip"], at["knee"], at["hock"], at["paw"], at["toe"]], [0.075, 0.05, 0.035, 0.035])
    _both(
        pieces, [at["shoulder"], at["elbow"], at["wrist"], at["fore_paw"], at["fore_toe"]], [0.065, 0.045, 0.035, 0.035]
    )
    head = np.array(at["head"])
    _both(pieces, [tuple(head + [0.04, 0.04, 0]), tuple(head + [0.07, 0.15, -0.01])], [0.02])
    return trimesh.util.concatenate(pieces), at


def bird() -> tuple[trimesh.Trimesh, Landmarks]:
    """A wader with spread wings, 1 m tall."""
    at: Landmarks = {
        "hips": (0, 0.46, -0.1), "chest": (0, 0.5, 0.08), "neck": (0, 0.54, 0.14), "throat": (0, 0.68, 0.22), "nape": (0, 0.82, 0.17), "head": (0, 0.92, 0.2), "beak": (0, 0.9, 0.42),
        "shoulder": (0.06, 0.53, 0.06), "elbow": (0.28, 0.55, -0.02), "wrist": (0.5, 0.55, 0.05), "wing_tip": (0.85, 0.55, -0.04),
        "hip": (0.05, 0.43, -0.04), "knee": (0.06, 0.36, 0.02), "hock": (0.06, 0.22, -0.05), "ball": (0.06, 0.02, 0.0), "toe": (0.06, 0.015, 0.1), "tail": (0, 0.45, -0.18), "tail_tip": (0, 0.42, -0.32),
    }  # fmt: skip
    pieces: list[trimesh.Trimesh] = []
    _chain(pieces, [at["hips"], at["chest"]], [0.1])
    _chain(pieces, [at["neck"], at["throat"], at["nape"], at["head"]], [0.035, 0.03, 0.03])
    skull = trimesh.creation.icosphere(subdivisions=2, radius=0.05)
    skull.apply_translation(at["head"])
    pieces.append(skull)
    _chain(pieces, [at["head"], at["beak"]], [0.014])
    _chain(pieces, [at["tail"], at["tail_tip"]], [0.03])
    _both(pieces, [at["shoulder"], at["elbow"], at["wrist"], at["wing_tip"]], [0.03, 0.025, 0.02])
    _both(pieces, [at["hip"], at["knee"], at["hock"], at["ball"], at["toe"]], [0.035, 0.022, 0.016, 0.014])
    return trimesh.util.concatenate(pieces), at


def insect(pairs: int = 3) -> tuple[trimesh.Trimesh, Landmarks]:
    """A beetle or spider with pairs of bent legs, facing +Z."""
    at: Landmarks = {"mouth": (0, 0.16, 0.62), "abdomen_tip": (0, 0.2, -0.75)}
    pieces: list[trimesh.Trimesh] = []
    _chain(pieces, [(0, 0.22, -0.2), (0, 0.22, 0.2)], [0.13])
    _chain(pieces, [(0, 0.22, -0.2), (0, 0.22, -0.55)], [0.17])
    _chain(pieces, [(0, 0.2, 0.3), (0, 0.18, 0.5)], [0.1])
    for k in range(pairs):
        z = 0.22 - 0.44 * k / max(pairs - 1, 1)
        out = 0.12 * (1 - 2 * k / max(pairs - 1, 1))
        line = [(0.08, 0.2, z), (0.3, 0.42, z + out), (0.5, 0.2, z + 1.6 * out), (0.62, 0.02, z + 2 * out)]
        for name, place in zip(("hip", "knee", "ankle", "foot"), line, strict=True):
            at[f"leg{k + 1}_{name}"] = place
        _both(pieces, line, [0.028, 0.022, 0.018])
    return trimesh.util.concatenate(pieces), at


def serpent() -> tuple[trimesh.Trimesh, Landmarks]:
    """A snake in three bends, its head toward +Z, tapering to the tail."""
    t = np.linspace(0, 1, 41)
    line = np.stack([0.25 * np.sin(t * 9), 0.05 + 0 * t, 1.0 - 2.0 * t], axis=1)
    pieces = [_capsule(tuple(a), tuple(b), float(0.05 - 0.035 * s)) for a, b, s in zip(line, line[1:], t, strict=False)]
    head = trimesh.creation.icosphere(subdivisions=2, radius=0.07)
    head.apply_translation(line[0])
    pieces.append(head)
    return trimesh.util.concatenate(pieces), {
        "nose": tuple(line[0]),
        "body_3": tuple(line[22]),
        "tail_tip": tuple(line[-1]),
    }


def rope() -> tuple[trimesh.Trimesh, Landmarks]:
    """A hanging rope."""
    line = [(0.02 * np.sin(3 * y), float(y), 0.0) for y in np.linspace(1.5, 0.0, 20)]
    pieces: list[trimesh.Trimesh] = []
    _chain(pieces, line, [0.03] * 20)
    return trimesh.util.concatenate(pieces), {"rope": line[0], "rope_tip": line[-1]}


def document(made: trimesh.Trimesh, name: str = "creature"):
    return document_of(as_mesh(made), name)
