"""The delivery page: one HTML file with its pictures inside, that says what was handed over, checked, baked and left out."""

from __future__ import annotations

import base64
import datetime
from collections.abc import Sequence
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from pegloom import __version__
from pegloom.core.said import counted
from pegloom.document.delivery import Target
from pegloom.document.model import Document
from pegloom.files.outgoing import write_bytes
from pegloom.files.proof.measure import Proof

SAME_MM = 0.1
"""Under this share of a millimetre a difference is called none that shows."""


@cache
def _template(name: str) -> Any:
    from jinja2 import Environment, FunctionLoader, StrictUndefined

    pages = FunctionLoader(lambda page: (files("pegloom.assets") / "pages" / page).read_text())
    # Everything that comes out of a document is escaped: names are other people's.
    made = Environment(loader=pages, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return made.get_template(name)


def filled(template: str, /, **values: Any) -> str:
    """A page of a template, all it is given escaped."""
    return str(_template(template).render(**values))


def as_data(png: bytes) -> str:
    """A PNG for the page's own text."""
    return f"data:image/png;base64,{base64.b64encode(png).decode()}"


def delivery_page(document: Document, target: Target, found: Proof, pictures: Sequence[tuple[str, bytes]]) -> str:
    """The page's HTML."""
    character = document.require_character()
    skeleton, skin = character.skeleton, character.skin
    facts = [
        ("Parts", ", ".join(p.name for p in character.included) or "none"),
        ("Vertices", f"{sum(p.mesh.vertex_count for p in character.included):,}".replace(",", " ")),
        ("Joints", str(len(skeleton.joints)) if skeleton is not None else "none"),
        ("Influences", f"at most {skin.most} a vertex" if skin is not None else "not bound"),
        ("Morph targets", str(sum(len(p.morphs) for p in character.included))),
        ("Height", f"{character.height:.3f} m"),
    ]  # fmt: skip
    chosen = [
        ("For", target.title or target.name), ("Unit", f"{target.unit:g} m, {target.up} up, facing {target.facing}" if not target.is_gltf else "metres, +y up"),
        ("Rest", target.rest.value), ("Motion", f"{target.rate:g} frames a second" if target.rate else "samples wherever they are needed"),
        ("Influences", str(target.influences) if target.influences else "as many as there are"),
        ("Joints left out", ", ".join(g.value for g in target.without) or "none"), ("Meshes", target.meshes.value), ("Morphs", target.morphs.value),
    ]  # fmt: skip
    origins = [
        (clip.name, f"{clip.length:.2f} s, {clip.rate:g} a second", clip.origin.made if clip.origin is not None else "made here",
         (clip.origin.licence or "not known") if clip.origin is not None else "yours", clip.origin is None or clip.origin.may_deliver)
        for clip in character.clips
    ]  # fmt: skip
    share = 100 * found.worst / character.height
    worst = 1000 * found.worst
    return filled(
        "delivery.html", name=character.name, facts=facts, chosen=chosen, files=[(n, f"{size / 1024:,.0f} KiB".replace(",", " ")) for n, size in found.files],
        worst=f"{worst:.3f}", share=f"{share:.4f}", where=found.where, same=worst < SAME_MM, samples=counted(found.samples, "moment"),
        losses=[(loss.choice, f"{1000 * loss.worst:.2f}", loss.where) for loss in found.losses], baked=found.baked, left=found.left,
        notes=character.import_notes, origins=origins, pictures=[(title, as_data(png)) for title, png in pictures],
        made=f"Peg Loom {__version__}", day=datetime.date.today().isoformat(),
    )  # fmt: skip


def write_page(path: Path, document: Document, target: Target, found: Proof, pictures: Sequence[tuple[str, bytes]]) -> None:
    """Write the page. Raises MeshFileError where the place cannot be written."""
    write_bytes(path, delivery_page(document, target, found, pictures).encode())
