"""What can be done in Handover: export, and prove the export."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER, WITH_SKIN
from pegloom.app.areas.handover.settings import ExportSettings, FileKind
from pegloom.app.context import Context
from pegloom.core.jobs import Progress
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.bvh_write import write_bvh
from pegloom.files.gltf_together import write_glb_together
from pegloom.files.gltf_write import write_glb
from pegloom.files.proof import prove_glb
from pegloom.files.writing import write_any, write_together


def export(c: Context) -> None:
    """Ask where to, and write what the card says."""
    how = c.state.settings.of(ExportSettings)
    kind, clip = how.kind, c.state.clip
    if kind is FileKind.BVH and clip is None:
        c.say("Pick the clip that is written on the strip first", error=True)
        return
    path = c.ask.save_file(f"Export {kind.ending.removeprefix('.').upper()}", f"{c.character.name}{kind.ending}", f"*{kind.ending}")
    if not path:
        return
    chosen = Path(path) if path.lower().endswith(kind.ending) else Path(path + kind.ending)

    def work(document: Document, progress: Progress) -> list[str]:
        if kind is FileKind.BVH and clip is not None:
            progress(0.3, "writing motion")
            return write_bvh(chosen, document.require_character(), clip)
        if kind is not FileKind.GLB:
            several = how.together and len(document.characters) > 1
            document, left = edits.delivered_together(document, how.rest) if several else (edits.delivered(document, how.rest), [])
            progress(0.3, f"writing {chosen.name}")
            return [*left, *(write_together(chosen, document) if several else write_any(chosen, document))]
        if how.together and len(document.characters) > 1:
            document, left = edits.delivered_together(document, how.rest)
            return [*left, *write_glb_together(chosen, document, names=how.names, joints=how.joints, progress=progress)]
        handed = edits.delivered(document, how.rest).require_character()
        return write_glb(chosen, handed, names=how.names, joints=how.joints, one_top=how.one_top, progress=progress)

    def done(_: Document, notes: Any) -> None:
        c.say("; ".join([f"Exported {chosen.name}", *notes]))

    c.work_on(f"Exporting {chosen.name}", work, done, must_end=True)


def prove(c: Context) -> None:
    """Write the export, open it again and measure it against the live rig."""
    rest = c.state.settings.of(ExportSettings).rest

    def work(document: Document, progress: Progress) -> object:
        handed = edits.delivered(document, rest).require_character()
        return prove_glb(document.require_character(), delivered=handed, progress=progress)

    def done(document: Document, result: Any) -> None:
        share = 100 * result.worst / document.require_character().height
        shown = f"Largest difference {1000 * result.worst:.3f} mm ({share:.4f} % of the height)"
        where = f", at {result.where}." if result.where else "."
        said = f"{shown} over {result.samples} moments, between keys too{where}"
        c.store.put_setting(ExportSettings, report=said)
        c.say(said)

    c.work_on("Proving the export", work, done)


ACTIONS = (
    Action("file.export", "Export", "File", "Character, weights, textures and clips as GLB or USD; the mesh, or motion alone", export, key="Ctrl+E", needs=WITH_CHARACTER),
    Action("handover.prove", "Measure the export", "File", "Open the exported file again and measure it", prove, needs=WITH_SKIN),
)  # fmt: skip
