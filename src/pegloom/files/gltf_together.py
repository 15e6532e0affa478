"""Several characters in one GLB: each under a node of its own where it stands, each with its prefix before every name, their
clips, and one animation of all of them on the common time.

What is carried is a node of the scene like the others, whose place follows the one that carries it sample by sample: a file has
no other way to hand a thing on.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pegloom.core.arrays import FloatArray
from pegloom.core.errors import EditError
from pegloom.core.geometry.transforms import decompose
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.retell import local_rows
from pegloom.core.motion.together import Figure
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.skeleton.names import SideStyle
from pegloom.core.skeleton.uses import HandedJoints
from pegloom.document.model import Character, Document
from pegloom.document.world import clip_of, prefixes, scene_length, scene_rate, world_of, worlds_over
from pegloom.files.gltf_write import BESIDE, TRANSFORM_SPANS, Samples, Writer, write_glb
from pegloom.files.names import Unique

ALL = "all figures"
"""Name of the animation of all of them."""
JUST = 1e-4
"""Seconds before a moment at which something is handed on, or a clip begins anew, that still show what was before."""
FINEST = 60.0
"""Samples a second that a carried figure's place is told at, at least."""
MOST_TURNS = 10_000


def write_glb_together(
    path: Path, document: Document, *, names: SideStyle | None = None, joints: HandedJoints = HandedJoints.ALL, progress: Progress = silent,
) -> list[str]:  # fmt: skip
    """Write all shown characters of a document. Returns notes on what was baked. A stop leaves what was there.

    Raises EditError where nothing is shown, MeshFileError where the place cannot be written.
    """
    shown = [c for c in document.characters if c.figure.shown and (c.included or c.bare)]
    if not shown:
        raise EditError("no character is shown; tick one in Figures, in Motion")
    if len(shown) == 1 and len(document.characters) == 1:
        return write_glb(path, shown[0], names=names, joints=joints, progress=progress)
    told, total = prefixes(document), scene_length(document)
    writers: list[Writer] = []
    tops: list[int] = []
    for k, character in enumerate(shown):
        writer = Writer(character, names, joints, writers[0] if writers else None, told[character.id], beside=path.suffix.lower() == BESIDE)
        writer.all_of_it(part_of(progress, 0.8 * k / len(shown), 0.8 * (k + 1) / len(shown)))
        writers.append(writer)
        tops.append(writer.gather())
    whole = writers[0]
    whole.json["scenes"][0]["name"] = document.name
    progress(0.82, "putting them where they stand")
    ways = ways_of(document, shown, total)
    channels: list[Samples] = []
    for writer, top, (times, rows) in zip(writers, tops, ways, strict=True):
        node = whole.json["nodes"][top]
        for path_, span in TRANSFORM_SPANS:
            node[path_] = rows[0, span].tolist()
            if len(times) > 1 and not np.allclose(rows[:, span], rows[0, span], atol=1e-9):
                channels.append(Samples(top, path_, times, rows[:, span]))
        channels += _played(writer, total)
    if channels:
        whole.animation(ALL, channels)
    unique = Unique("_")
    for node in whole.json["nodes"]:
        node["name"] = unique(str(node.get("name", "")))
    progress(0.97, "writing to the disk")
    whole.save(path)
    progress(1.0, "written")
    return whole.notes


def _played(writer: Writer, total: float) -> list[Samples]:
    """What a figure's own clip moves, told on the common time; the pose it holds where it plays none."""
    character, clip = writer.character, clip_of(writer.character)
    if clip is None:
        return _held(writer)
    found = []
    for one in writer.samples(clip):
        count = one.values.size // max(len(one.times), 1)
        values = one.values.reshape(len(one.times), count)
        times, rows = on_common_time(one.times, values, character.figure, clip.length, total, step=one.step, turns=one.path == "rotation")
        found.append(Samples(one.node, one.path, times, rows, one.step))
    return found


def _held(writer: Writer) -> list[Samples]:
    """A pose as channels of one sample, where it differs from the rest."""
    character, skeleton = writer.character, writer.character.skeleton
    if skeleton is None:
        return []
    local = local_rows(skeleton, evaluate_rig(skeleton, character.rig, character.pose).joints[None])[0]
    found = []
    for joint in writer.joints:
        i = skeleton.index[joint.id]
        rest = np.concatenate(decompose(skeleton.local[i]))
        for path, span in TRANSFORM_SPANS:
            if not np.allclose(local[i, span], rest[span], atol=1e-9) and not np.allclose(local[i, span], -rest[span], atol=1e-9):
                found.append(Samples(writer.node_of[joint.id], path, np.zeros(1), local[i, span][None]))
    return found


def on_common_time(
    times: FloatArray, values: FloatArray, figure: Figure, length: float, total: float, *, step: bool = False, turns: bool = False,
) -> tuple[FloatArray, FloatArray]:  # fmt: skip
    """Samples of a clip (k,), (k, n) where the clip begins at another moment, again and again where it loops.

    length : of the clip. total : of what is told, from 0 on; seconds. turns : they are quaternions. Returns times and values.
    """
    if len(times) < 2:
        return np.zeros(1), values[:1]
    if figure.loops and length > 1e-6:
        first = int(np.floor(-figure.start / length))
        last = min(int(np.ceil((total - figure.start) / length)), first + MOST_TURNS)
        inside = times < length - JUST
        own = np.append(times[inside], length - JUST)
        rows = np.concatenate([values[inside], _at(times, values, np.array([length - JUST]), step, turns)])
        moments = np.concatenate([own + figure.start + k * length for k in range(first, max(last, first + 1))])
        rows = np.tile(rows, (max(last - first, 1), 1))
    else:
        moments, rows = times + figure.start, values
    edges = np.array([t for t in (0.0, total) if moments[0] < t < moments[-1]])
    inside = (moments >= 0.0) & (moments <= total)
    kept = np.concatenate([moments[inside], edges])
    told = np.concatenate([rows[inside], _at(moments, rows, edges, step, turns)])
    if len(kept) == 0:
        # It has ended before, or begins after.
        return np.zeros(1), rows[-1:] if moments[-1] < 0.0 else rows[:1]
    order = np.argsort(kept, kind="stable")
    kept, told = kept[order], told[order]
    # float32, as written, must still go on.
    ahead = np.concatenate([[True], np.diff(kept.astype(np.float32)) > 0])
    return kept[ahead], told[ahead]


def _at(times: FloatArray, values: FloatArray, moments: FloatArray, step: bool, turns: bool) -> FloatArray:
    after = np.clip(np.searchsorted(times, moments, side="right"), 1, len(times) - 1)
    before = after - 1
    if step:
        return np.asarray(values[np.where(moments >= times[-1], len(times) - 1, before)])
    share = np.clip((moments - times[before]) / np.maximum(times[after] - times[before], 1e-12), 0.0, 1.0)[:, None]
    a, b = values[before], values[after]
    if turns:
        b = b * np.where((a * b).sum(axis=1, keepdims=True) < 0.0, -1.0, 1.0)
    mixed = (1.0 - share) * a + share * b
    return mixed / np.linalg.norm(mixed, axis=1, keepdims=True) if turns else mixed


def ways_of(document: Document, shown: list[Character], total: float) -> list[tuple[FloatArray, FloatArray]]:
    """Where each shown figure stands: times (k,) seconds and rows (k, 10) of place, quaternion, scale; one row where it stays."""
    moved = [c for c in shown if len(c.figure.stands) > 1 or c.figure.stands[0].carrier]
    if not moved:
        worlds = world_of(document, 0.0)
        return [(np.zeros(1), _row(worlds[c.id])) for c in shown]
    rate = max(scene_rate(document), FINEST)
    frames = np.arange(int(np.ceil(total * rate)) + 1) / rate
    handed = [s.start for c in moved for s in c.figure.stands[1:]]
    times = np.unique(np.clip([*frames, *handed, *(t - JUST for t in handed)], 0.0, None))
    worlds_at = worlds_over(document, times)
    result = []
    for character in shown:
        rows = np.concatenate([_row(worlds[character.id]) for worlds in worlds_at])
        flips = np.concatenate([[1.0], np.cumprod(np.where((rows[1:, 3:7] * rows[:-1, 3:7]).sum(axis=1) < 0.0, -1.0, 1.0))])
        rows[:, 3:7] *= flips[:, None]
        result.append((times, rows) if character in moved else (np.zeros(1), rows[:1]))
    return result


def _row(matrix: FloatArray) -> FloatArray:
    return np.concatenate(decompose(matrix))[None]
