"""A character, or several, written as a target wants them: one file or some, and what became of what a file cannot hold."""

from __future__ import annotations

import io
import re
from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from PIL import Image as Picture

from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.geometry.mesh import with_points
from pegloom.core.jobs import Progress, part_of, silent
from pegloom.core.motion.clips import Clip, sample
from pegloom.document.delivery import Content, Delivery, Target, made_plain
from pegloom.document.delivery.target import Clips, PictureKind
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Character, Document, Image
from pegloom.files.bvh_write import write_bvh
from pegloom.files.gltf_together import write_glb_together
from pegloom.files.gltf_write import write_glb
from pegloom.files.images import FAILURES, opened
from pegloom.files.names import picture_name
from pegloom.files.usd import Axes, write_usd, write_usd_together
from pegloom.files.writing import write_any, write_together

MESHES = (".obj", ".ply", ".stl")
MOST_FRAMES = 5000
"""Of a sequence of meshes."""


@dataclass(frozen=True)
class Delivered:
    """files : written, in order. baked, left : see `Delivery`. plain : what they hold."""

    files: tuple[Path, ...]
    baked: tuple[str, ...]
    left: tuple[str, ...]
    plain: Document

    @property
    def notes(self) -> tuple[str, ...]:
        return (*self.baked, *self.left)


def deliver(
    path: Path, document: Document, target: Target, *, clips: Collection[str] | None = None, together: bool = False, progress: Progress = silent
) -> Delivered:
    """Write what a target wants.

    path : of the file; its ending stands before the target's. With clips in files of their own, and in a sequence of meshes, names
        are made from it. clips : ids of those that go along; None for all. together : all characters that are shown.
    Raises EditError, MeshFileError; a stop leaves what was there.
    """
    if path.suffix.lower() not in ("", target.kind):
        target = replace(target, kind=path.suffix.lower()).checked()
    path = path if path.suffix else path.with_name(path.name + target.kind)
    made = made_plain(document, target, clips=clips, together=together, progress=part_of(progress, 0.0, 0.6))
    made = _with_pictures(made, target)
    rest = part_of(progress, 0.6, 1.0)
    if target.kind in MESHES:
        files, notes = _meshes(path, made.document, target, together, rest)
    elif target.kind == ".bvh":
        files, notes = _bvh(path, made.document.require_character())
    elif target.clips is Clips.ONE_EACH and target.content is not Content.CHARACTER and not together:
        files, notes = _one_each(path, made.document, target, rest)
    else:
        notes = _write(path, made.document, target, together, rest)
        files = [path]
    progress(1.0, "written")
    return Delivered(tuple(files), made.baked, tuple(dict.fromkeys((*made.left, *notes))), made.document)


def _write(path: Path, document: Document, target: Target, together: bool, progress: Progress) -> list[str]:
    if target.is_gltf:
        if together:
            return write_glb_together(path, document, progress=progress)
        return write_glb(path, document.require_character(), one_top=target.one_top, progress=progress)
    axes = Axes(target.unit, target.up == "+z")
    progress(0.2, f"writing {path.name}")
    if together:
        return write_usd_together(path, document, axes=axes, turn=target.turned)
    return write_usd(path, document.require_character(), axes=axes)


def _one_each(path: Path, document: Document, target: Target, progress: Progress) -> tuple[list[Path], list[str]]:
    character = document.require_character()
    if not character.clips:
        return [path], _write(path, document, target, False, progress)
    files, notes, taken = [], [], set[str]()
    for number, clip in enumerate(character.clips):
        file = path.with_name(f"{path.stem}_{_word(clip.name, taken)}{path.suffix}")
        alone = document.with_character(replace(character, clips=(clip,)))
        notes += _write(file, alone, target, False, part_of(progress, number / len(character.clips), (number + 1) / len(character.clips)))
        files.append(file)
    return files, notes


def _bvh(path: Path, character: Character) -> tuple[list[Path], list[str]]:
    moving = [c for c in character.clips if c.tracks]
    if not moving:
        raise MeshFileError(path.name, "no clip moves a joint", hint="choose a clip with motion")
    files, notes, taken = [], [], set[str]()
    for clip in moving:
        file = path if len(moving) == 1 else path.with_name(f"{path.stem}_{_word(clip.name, taken)}{path.suffix}")
        notes += write_bvh(file, character, clip)
        files.append(file)
    return files, notes


def _meshes(path: Path, document: Document, target: Target, together: bool, progress: Progress) -> tuple[list[Path], list[str]]:
    """Meshes as they rest, or one a frame of each clip."""
    character = document.require_character()
    moving = [] if together or target.content is Content.CHARACTER else [c for c in character.clips if c.tracks or c.morphs]
    if not moving:
        notes = write_together(path, document) if together else write_any(path, document)
        return [path], notes
    frames = sum(round(c.length * c.rate) + 1 for c in moving)
    if frames > MOST_FRAMES:
        raise EditError(f"a sequence would be {frames} files; at most {MOST_FRAMES} are written, so choose a clip, or a lower rate")
    files: list[Path] = []
    notes, taken = [], set[str]()
    for clip in moving:
        word = _word(clip.name, taken) + "." if len(moving) > 1 else ""
        for k in range(round(clip.length * clip.rate) + 1):
            progress(len(files) / frames, f"writing {clip.name}, frame {k}")
            file = path.with_name(f"{path.stem}.{word}{k:04d}{path.suffix}")
            notes += write_any(file, document.with_character(posed_as_mesh(character, clip, k / clip.rate)))
            files.append(file)
    return files, notes


def posed_as_mesh(character: Character, clip: Clip, time: float) -> Character:
    """A plain character's meshes as a clip has them at a time (seconds), with no joints."""
    points = evaluate(character, sample(clip, time, character.skeleton)).points
    parts = tuple(replace(p, mesh=with_points(p.mesh, points[p.id][: p.mesh.vertex_count]), morphs=()) for p in character.included)
    return replace(character, parts=parts, skeleton=None, skin=None, clips=())


def _word(name: str, taken: set[str]) -> str:
    """A clip's name for a file, each once."""
    plain = re.sub(r"[^\w-]+", "_", name).strip("_") or "clip"
    word, number = plain, 1
    while word in taken:
        number += 1
        word = f"{plain}_{number}"
    taken.add(word)
    return word


def _with_pictures(made: Delivery, target: Target) -> Delivery:
    """Pictures of the target's kind and size."""
    if target.pictures is PictureKind.AS_IT_IS and not target.picture_size:
        return made
    baked, left = list(made.baked), list(made.left)
    characters = []
    for character in made.document.characters:
        images, names = [], {}
        for image in character.images:
            changed = _converted(image, target)
            if changed is None:
                left.append(f"the picture {image.name} is damaged and stays as it is")
                changed = image
            elif changed is not image:
                baked.append(f"picture {image.name} as {changed.name}, {len(changed.data) // 1024} KiB")
            names[image.name] = changed.name
            images.append(changed)
        materials = tuple(m.with_pictures(names) for m in character.materials)
        characters.append(replace(character, images=tuple(images), materials=materials))
    return Delivery(replace(made.document, characters=tuple(characters)), tuple(baked), tuple(left))


def _converted(image: Image, target: Target) -> Image | None:
    """A picture made smaller and of another kind, itself where neither is needed; None where it is damaged."""
    kind = {PictureKind.PNG: "image/png", PictureKind.JPEG: "image/jpeg"}.get(target.pictures, image.kind)
    try:
        with opened(image.data) as picture:
            size = picture.size
            most = target.picture_size or max(size)
            if kind == image.kind and max(size) <= most:
                return image
            picture.load()
            shown = picture.convert("RGBA" if "A" in picture.getbands() or "transparency" in picture.info else "RGB")
            alpha = "A" in shown.getbands() and np.asarray(shown)[..., 3].min() < 255
            # A picture that is seen through cannot be a JPEG.
            kind = "image/png" if alpha else kind
            if max(size) > most:
                share = most / max(size)
                shown = shown.resize((max(round(size[0] * share), 1), max(round(size[1] * share), 1)), Picture.Resampling.LANCZOS)
            out = io.BytesIO()
            if kind == "image/jpeg":
                shown.convert("RGB").save(out, "JPEG", quality=90)
            else:
                shown.save(out, "PNG")
    except FAILURES:
        return None
    return Image(picture_name(image.name, kind, spaces=True), kind, out.getvalue())
