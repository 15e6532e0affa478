"""A clip as a strip of pictures from two sides, drawn point by point: to be looked at before it is kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from pegloom.core.arrays import FloatArray
from pegloom.core.geometry.mesh import vertex_normals
from pegloom.core.motion.clips import Clip, sample
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character

SHADES = {"body": (196, 180, 160), "hat_brim": (190, 90, 70), "eyes": (40, 40, 48)}
LIGHT = np.array([0.6, 0.75, 0.45])


def _view(angle: float) -> FloatArray:
    a, b = np.radians(angle), np.radians(10.0)
    turn = np.array([[np.cos(a), 0, -np.sin(a)], [0, 1, 0], [np.sin(a), 0, np.cos(a)]])
    nod = np.array([[1, 0, 0], [0, np.cos(b), -np.sin(b)], [0, np.sin(b), np.cos(b)]])
    return nod @ turn


def draw(character: Character, clip: Clip, path: Path, *, frames: int = 9, views: tuple[float, ...] = (-35.0, -90.0), tall: int = 230, follow: bool = False) -> None:
    """frames : how many moments. views : degrees the camera stands round from the front."""
    times = np.linspace(0.0, clip.length, frames)
    posed = [evaluate(character, sample(clip, float(t), character.skeleton, None, character.rig)) for t in times]
    every = np.concatenate([f.points[p.id][::40] for f in posed for p in character.included if p.id in f.points])
    low, high = every.min(axis=0), every.max(axis=0)
    size = max(float(high[1] - low[1]), 0.6 * character.height) * 1.15
    wide = int(tall * min(max(1.0, (np.hypot(high[0] - low[0], high[2] - low[2]) if not follow else character.height) / size * 1.05), 1.9))
    sheet = Image.new("RGB", (wide * frames, tall * len(views)), (24, 27, 36))
    for row, angle in enumerate(views):
        view = _view(angle)
        for column, frame in enumerate(posed):
            middle = 0.5 * (low + high)
            if follow:
                some = np.concatenate([frame.points[p.id][::40] for p in character.included if p.id in frame.points])
                middle = np.array([some[:, 0].mean(), middle[1], some[:, 2].mean()])
            picture = np.zeros((tall, wide, 3)) + np.array([30, 34, 45])
            depth = np.full((tall, wide), -1e9)
            ground = _ground(low, high, middle, view, size, tall, wide)
            for x, y in ground:
                if 0 <= x < wide and 0 <= y < tall:
                    picture[y, x] = (62, 70, 92)
            for part in character.included:
                if part.id not in frame.points:
                    continue
                points = frame.points[part.id]
                normals = vertex_normals(part.mesh, points)
                seen = (points - middle) @ view.T
                shade = np.clip(normals @ LIGHT / np.linalg.norm(LIGHT), 0, 1) * 0.6 + 0.4
                x = (wide / 2 + seen[:, 0] * tall / size).astype(int)
                y = (tall / 2 - seen[:, 1] * tall / size).astype(int)
                colour = np.array(SHADES.get(part.name, (170, 140, 120)))
                for dx in (0, 1):
                    for dy in (0, 1):
                        xx, yy = x + dx, y + dy
                        ok = (xx >= 0) & (xx < wide) & (yy >= 0) & (yy < tall)
                        order = np.argsort(seen[ok, 2])
                        px, py, pz, ps = xx[ok][order], yy[ok][order], seen[ok, 2][order], shade[ok][order]
                        near = pz >= depth[py, px] - 0.004
                        picture[py[near], px[near]] = ps[near][:, None] * colour
                        depth[py[near], px[near]] = pz[near]
            sheet.paste(Image.fromarray(np.clip(picture, 0, 255).astype(np.uint8)), (column * wide, row * tall))
    pen = ImageDraw.Draw(sheet)
    pen.text((4, 2), f"{clip.name}  {clip.length:.2f} s", fill=(230, 220, 200))
    path.parent.mkdir(parents=True, exist_ok=True)
    sheet.save(path)


def _ground(low: FloatArray, high: FloatArray, middle: FloatArray, view: FloatArray, size: float, tall: int, wide: int) -> np.ndarray:
    """Pixels of a grid on the ground, half a metre wide."""
    del low, high
    rows = []
    for k in np.arange(-3, 3.01, 0.5):
        along = np.linspace(-3, 3, 400)
        rows += [np.stack([along, np.zeros(400), np.full(400, k)], axis=1), np.stack([np.full(400, k), np.zeros(400), along], axis=1)]
    seen = (np.concatenate(rows) - middle) @ view.T
    return np.stack([(wide / 2 + seen[:, 0] * tall / size).astype(int), (tall / 2 - seen[:, 1] * tall / size).astype(int)], axis=1)
