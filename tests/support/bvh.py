"""BVH read by a few lines of its own: where the joints are, frame by frame."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation


def read_plainly(path: Path) -> tuple[list[str], np.ndarray]:
    """Names, and places (k, j, 3)."""
    words = path.read_text().split()
    names, parents, offsets, channels, stack = [], [], [], [], []
    i = 1
    while words[i] != "MOTION":
        word = words[i]
        if word in ("ROOT", "JOINT"):
            names.append(words[i + 1])
            parents.append(stack[-1] if stack else -1)
            channels.append([])
            offsets.append([0.0] * 3)
            stack.append(len(names) - 1)
            i += 3
        elif word == "End":
            i += 8
        elif word == "OFFSET":
            offsets[stack[-1]] = [float(w) for w in words[i + 1 : i + 4]]
            i += 4
        elif word == "CHANNELS":
            count = int(words[i + 1])
            channels[stack[-1]] = words[i + 2 : i + 2 + count]
            i += 2 + count
        else:
            stack.pop()
            i += 1
    frames = int(words[i + 2])
    rows = np.array([float(w) for w in words[i + 6 :]]).reshape(frames, -1)
    places = np.zeros((frames, len(names), 3))
    turns = np.zeros((frames, len(names), 3, 3))
    column = 0
    for j, some in enumerate(channels):
        local, turn = np.tile(np.array(offsets[j]), (frames, 1)), np.tile(np.eye(3), (frames, 1, 1))
        for c in some:
            values = rows[:, column]
            column += 1
            if c.endswith("position"):
                local[:, "XYZ".index(c[0])] = values
            else:
                turn = turn @ Rotation.from_euler(c[0], values[:, None], degrees=True).as_matrix()
        above = parents[j]
        turns[:, j] = turn if above < 0 else turns[:, above] @ turn
        places[:, j] = local if above < 0 else places[:, above] + np.einsum("kab,kb->ka", turns[:, above], local)
    return names, places
