"""The proof: write the file, open it again, and measure the difference to the live rig."""

from __future__ import annotations

from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import sample
from pegloom.core.motion.follow_through import state_at
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Skin
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.scratch import scratch


@dataclass(frozen=True, slots=True)
class Proof:
    """worst : metres, over all vertices and moments looked at.
    where : the clip and time of it.
    """

    worst: float
    where: str
    samples: int


def prove_glb(character: Character, *, delivered: Character | None = None, progress: Progress = silent) -> Proof:
    """Export to a temporary file, read it back, compare at rest and through every clip, at keys and between.

    delivered : the character in the rest it is handed over in; its clips are compared with the live one's.
    Raises EditError when there is nothing to compare.
    """
    if character.skin is None or character.skeleton is None:
        raise EditError("bind first: there are no weights to prove")
    with scratch() as folder:
        file = folder / "proof.glb"
        handed = delivered or character
        write_glb(file, handed, progress=part_of(progress, 0.0, 0.5))
        back = read_gltf(file)
    skin = Skin("file", character.skin.influences, MappingProxyType(back.weights or {}))
    returned = Character("proof", "proof", parts=back.parts, skeleton=back.skeleton, skin=skin)
    clips = {clip.name: clip for clip in back.clips}
    worst, where, count = 0.0, "rest", 0
    moments: list[tuple[str, float]] = [("rest", 0.0)]
    for clip in character.clips:
        steps = min(int(clip.length * clip.rate), 40)
        moments += [(clip.name, clip.length * (k + 0.37) / (steps + 1)) for k in range(steps)]
        moments += [(clip.name, t) for t in clip.key_times]
    for number, (name, time) in enumerate(moments):
        progress(0.5 + 0.5 * number / len(moments), f"comparing {name}")
        live_clip = next((c for c in character.clips if c.name == name), None)
        if live_clip is None:
            live = {p.id: p.mesh.points for p in handed.included}
            again = {p.name: p.mesh.points for p in returned.parts}
        elif name not in clips:
            continue
        else:
            live = evaluate(
                character, sample(live_clip, time, character.skeleton, character.pose, character.rig),
                state_at(character.skeleton, character.rig, live_clip, character.pose, time),
            ).points
            posed = evaluate(returned, sample(clips[name], time, returned.skeleton)).points
            again = {p.name: posed[p.id] for p in returned.parts}
        for part in character.included:
            n = part.mesh.vertex_count
            gap = float(np.linalg.norm(live[part.id] - again[part.name][:n], axis=1).max()) if n else 0.0
            if gap > worst:
                worst, where = gap, f"{part.name}, {name} at {time:.2f} s" if live_clip else f"{part.name}, rest"
        count += 1
    return Proof(worst, where, count)
