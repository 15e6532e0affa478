"""Bodies of many builds whose joints are known: what finders are judged on, and what their confidence is held to.

All from the capsule and box figures, bent and stretched: a smooth map of space moves a body and its joints alike.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import trimesh

from pegloom.core.geometry.mesh import Mesh
from tests.support.creatures import bird, four_legged
from tests.support.figures import _capsule, as_mesh, box_figure, human, one_skin

Places = dict[str, np.ndarray]


@dataclass(frozen=True)
class Body:
    """A mesh standing, facing +Z, its pattern, the true places of its pegs (those known) and its height, metres."""

    name: str
    pattern: str
    mesh: Mesh
    at: Places
    size: float


def _pegs(at: dict[str, np.ndarray]) -> Places:
    """Both sides of what a figure tells of its left one."""
    middle = {"neck", "head", "hips", "crown", "chest", "tail", "tail_tip", "nose", "beak", "throat", "nape"}
    told: Places = {}
    for name, place in at.items():
        place = np.array(place, dtype=float)
        if name in middle:
            told[name] = place
        elif not name.startswith("r_"):
            told[f"l_{name}"] = place
            told[f"r_{name}"] = np.array(at.get(f"r_{name}", place * [-1, 1, 1]))
    return told


def _warp(rng: np.random.Generator, points: np.ndarray, marks: tuple[float, ...], spread: float) -> object:
    """A map of space: each stretch of height longer or shorter, the whole broader, leaning a little."""
    scale = 1.0 + rng.uniform(-spread, spread, len(marks) - 1)
    new = np.concatenate([[marks[0]], marks[0] + np.cumsum(scale * np.diff(marks))])
    broad, deep, lean = 1.0 + rng.uniform(-spread, spread), 1.0 + rng.uniform(-spread, spread), rng.uniform(-0.06, 0.06)

    def moved(p: np.ndarray) -> np.ndarray:
        y = np.interp(p[..., 1], marks, new)
        return np.stack([broad * p[..., 0], y, deep * p[..., 2] + lean * (y - 0.5 * new[-1])], axis=-1)

    return moved


def _with(made: trimesh.Trimesh, *pieces: trimesh.Trimesh) -> trimesh.Trimesh:
    return trimesh.util.concatenate([made, *pieces])


def _box(centre: tuple[float, float, float], size: tuple[float, float, float]) -> trimesh.Trimesh:
    piece = trimesh.creation.box(size)
    piece.apply_translation(centre)
    return piece


def _wings() -> list[trimesh.Trimesh]:
    """Wings folded out behind a human's shoulders, wider than its arms."""
    line = [(0.05, 1.35, -0.12), (0.45, 1.6, -0.2), (1.0, 1.45, -0.2)]
    return [
        _capsule((s * a[0], *a[1:]), (s * b[0], *b[1:]), r)
        for s in (1, -1)
        for a, b, r in zip(line, line[1:], (0.05, 0.03), strict=False)
    ]


def _human_marks(at: dict[str, np.ndarray]) -> tuple[float, ...]:
    return (-0.1, 0.0, float(at["hip"][1]), float(at.get("neck", np.array([0, 1.45, 0]))[1]), 1.9)


def humans(count: int = 40, seed: int = 5) -> Iterator[Body]:
    """Humans of other builds, poses and dress."""
    rng = np.random.default_rng(seed)
    for k in range(count):
        fat = float(rng.choice([0.75, 1.0, 1.0, 1.3, 1.7]))
        made, at = human(
            down=float(rng.uniform(-0.25, 1.35)), fat=fat, head=float(rng.choice([1.0, 1.0, 1.15, 1.7])),
            wide=float(rng.uniform(0.8, 1.9)), bend=float(rng.choice([0.03, 0.08, 0.3])), robe=k % 9 == 8,
        )  # fmt: skip
        extra = ["", "", "", "pole", "wings", "pack", "hat", "cape"][k % 8]
        if extra == "pole":
            hand = at["wrist"] + 0.12 * (at["wrist"] - at["elbow"]) / np.linalg.norm(at["wrist"] - at["elbow"])
            made = _with(made, _capsule(tuple(hand - [0, 0.5, 0.1]), tuple(hand + [0, 0.7, 0.25]), 0.015))
        elif extra == "wings":
            made = _with(made, *_wings())
        elif extra == "pack":
            made = _with(made, _box((0, 1.25, -0.22), (0.3, 0.45, 0.2)))
        elif extra == "hat":
            made = _with(made, _box((0, 1.72, 0.0), (0.45, 0.03, 0.45)), _box((0, 1.82, 0.0), (0.16, 0.2, 0.16)))
        elif extra == "cape":
            made = _with(made, _box((0, 0.85, -0.2), (0.6, 1.2, 0.02)))
        moved = _warp(rng, made.vertices, _human_marks(at), 0.22)
        made.vertices = moved(made.vertices)  # type: ignore[operator]
        at = {n: moved(np.array(p)) for n, p in at.items()}  # type: ignore[operator]
        skin = k % 4 == 1
        mesh = one_skin(made) if skin else as_mesh(made)
        yield Body(f"human {k} {extra}{' one skin' if skin else ''}", "human", mesh, _pegs(at), float(np.ptp(made.vertices[:, 1])))


def game_figures(count: int = 14, seed: int = 6) -> Iterator[Body]:
    """Figures of some 200 faces."""
    rng = np.random.default_rng(seed)
    for k in range(count):
        made, at = box_figure(
            down=float(rng.uniform(0.0, 1.3)), head=float(rng.choice([1.0, 1.3, 2.0])), feet=float(rng.uniform(0.6, 1.4)),
            stance=float(rng.uniform(0.8, 1.5)), hat=k % 5 == 4, wide=float(rng.uniform(0.8, 1.5)),
        )  # fmt: skip
        moved = _warp(rng, made.vertices, _human_marks(at), 0.2)
        made.vertices = moved(made.vertices)  # type: ignore[operator]
        at = {n: moved(np.array(p)) for n, p in at.items()}  # type: ignore[operator]
        yield Body(f"game figure {k}", "human", as_mesh(made), _pegs(at), float(np.ptp(made.vertices[:, 1])))


def animals(count: int = 16, seed: int = 7) -> Iterator[Body]:
    """Four-legged bodies, slim and broad, and a bird or two."""
    rng = np.random.default_rng(seed)
    for k in range(count):
        if k % 5 == 4:
            made, at = bird()
            pattern, marks = "winged", (-0.1, 0.0, 0.43, 0.6, 1.2)
        else:
            made, at = four_legged(
                neck=float(rng.uniform(0.12, 0.45)), tail=float(rng.uniform(0.1, 0.6)), fat=float(rng.choice([0.8, 1.0, 1.4])),
                leg=float(rng.uniform(0.7, 1.3)),
            )  # fmt: skip
            pattern, marks = "four-legged", (-0.1, 0.0, float(at["hip"][1]), 1.6)
            if k % 3 == 2:
                # A broad rump, as a horse's or a bear's.
                for s in (1, -1):
                    ham = trimesh.creation.icosphere(subdivisions=3, radius=1.0)
                    ham.apply_scale((0.1, 0.2, 0.17))
                    ham.apply_translation([s * 0.09, at["hip"][1] - 0.02, -0.4])
                    made = _with(made, ham)
        moved = _warp(rng, made.vertices, marks, 0.2)
        made.vertices = moved(made.vertices)  # type: ignore[operator]
        at = {n: moved(np.array(p, dtype=float)) for n, p in at.items()}  # type: ignore[operator]
        yield Body(f"{pattern} {k}", pattern, as_mesh(made), _pegs(at), float(np.ptp(made.vertices, axis=0).max()))
