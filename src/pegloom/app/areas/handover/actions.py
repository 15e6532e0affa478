"""What can be done in Handover: export for a target, keep a target, prove the export and write its page."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.needs import WITH_CHARACTER, WITH_JOINTS
from pegloom.app.areas.handover.settings import ExportSettings, FileKind, WhichClips, settings_of_target, target_of
from pegloom.app.context import Context
from pegloom.app.state.proved import Proved
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress, part_of
from pegloom.core.said import counted
from pegloom.document.delivery import Target
from pegloom.document.model import Document
from pegloom.files.deliver import Delivered, deliver
from pegloom.files.proof import Proof, prove
from pegloom.files.proof.page import write_page
from pegloom.files.targets import keep_target, known_targets
from pegloom.render.portrait import pictures_of
from pegloom.scene.lenses import Lens

SAID = 6
"""Notes that are said after an export, at most; the card has them all."""


def choose_target(c: Context, name: str) -> None:
    """Fill the card as a target has it."""
    found = known_targets().get(name)
    if found is not None:
        c.store.put_setting(ExportSettings, **settings_of_target(found))


def keep(c: Context) -> None:
    """What the card says, as a target of the user's own."""
    name = c.ask.name("Keep as a target", c.state.settings.of(ExportSettings).target)
    if not name:
        return
    told = target_of(c.state.settings.of(ExportSettings))
    place = keep_target(Target(**{**_fields(told), "name": name, "title": name, "use": "your own"}))
    c.store.put_setting(ExportSettings, target=name)
    c.say(f"Kept: {place}")


def _fields(target: Target) -> dict[str, Any]:
    return {name: getattr(target, name) for name in Target.__dataclass_fields__}


def chosen(c: Context) -> tuple[Target, set[str] | None, bool] | None:
    """Target, clips and whether all characters go, as the card says; None, and why is said, where something is missing."""
    how, state = c.state.settings.of(ExportSettings), c.state
    wants_one = how.which is WhichClips.STRIP or how.kind is FileKind.BVH
    clips: set[str] | None = None
    if wants_one:
        if state.clip is None and (how.which is WhichClips.STRIP or not state.document.require_character().clips):
            c.say("Pick the clip that is written on the strip first", error=True)
            return None
        clips = {state.clip.id} if how.which is WhichClips.STRIP and state.clip is not None else None
    together = how.together and len(state.document.characters) > 1 and how.kind is not FileKind.BVH
    return target_of(how).checked(), clips, together


def export(c: Context) -> None:
    """Ask where to, and write what the card says."""
    told = chosen(c)
    if told is None:
        return
    target, clips, together = told
    path = c.ask.save_file(f"Export {target.kind.removeprefix('.').upper()}", f"{c.character.name}{target.kind}", f"*{target.kind}")
    if not path:
        return
    place = Path(path) if path.lower().endswith(target.kind) else Path(path + target.kind)

    def work(document: Document, progress: Progress) -> Delivered:
        return deliver(place, document, target, clips=clips, together=together, progress=progress)

    def done(_: Document, made: Any) -> None:
        said = f"Exported {made.files[0].name}" if len(made.files) == 1 else f"Exported {counted(len(made.files), 'file')}, {made.files[0].name} and on"
        notes = list(made.notes)
        c.store.put_setting(ExportSettings, report="\n".join([said, *notes]))
        more = [f"and {len(notes) - SAID} more, in the card"] if len(notes) > SAID else []
        c.say("; ".join([said, *notes[:SAID], *more]))

    c.work_on(f"Exporting {place.name}", work, done, must_end=True)


def measure(c: Context) -> None:
    """Write the export, open it again by other code and measure it against the live rig."""
    told = chosen(c)
    if told is None:
        return
    target, clips, _ = told

    def work(document: Document, progress: Progress) -> Proof:
        return prove(document, target, clips=clips, progress=progress)

    def done(document: Document, found: Any) -> None:
        said = summed_up(document, found)
        c.store.put_setting(Proved, by_vertex=found.by_vertex, worst=found.worst, where=found.where)
        c.store.put_setting(ExportSettings, report=said)
        c.say(said.splitlines()[0])

    c.work_on("Proving the export", work, done)


def summed_up(document: Document, found: Proof) -> str:
    """A proof in words, its first line the one that counts."""
    share = 100 * found.worst / document.require_character().height
    where = f", at {found.where}." if found.where else "."
    lines = [f"Largest difference {1000 * found.worst:.3f} mm ({share:.4f} % of the height) over {found.samples} moments, between keys too{where}"]
    lines += [f"By itself, {loss.choice}: {1000 * loss.worst:.2f} mm{f' at {loss.where}' if loss.where else ''}" for loss in found.losses]
    return "\n".join([*lines, *found.baked, *found.left])


def page(c: Context) -> None:
    """A page of the delivery: what it is, what was checked, what was baked, with pictures."""
    told = chosen(c)
    if told is None:
        return
    target, clips, _ = told
    path = c.ask.save_file("Delivery page", f"{c.character.name}.html", "*.html")
    if not path:
        return
    place = Path(path) if path.lower().endswith((".html", ".htm")) else Path(path + ".html")

    def work(document: Document, progress: Progress) -> Proof:
        found = prove(document, target, clips=clips, progress=part_of(progress, 0.0, 0.7))
        progress(0.75, "drawing pictures")
        write_page(place, document, target, found, pictures_of(document, found.where))
        return found

    def done(document: Document, found: Any) -> None:
        c.store.put_setting(Proved, by_vertex=found.by_vertex, worst=found.worst, where=found.where)
        c.store.put_setting(ExportSettings, report=summed_up(document, found))
        c.say(f"The page is {place.name}")

    c.work_on("Writing the delivery page", work, done)


def show_where(c: Context) -> None:
    """The difference on the mesh, or off again."""
    if c.state.viewing.lens is Lens.DELIVERED:
        c.store.put(lens=Lens.NONE)
    elif not c.state.settings.of(Proved).by_vertex:
        raise EditError("Measure the export first: then its difference can be shown on the mesh")
    else:
        c.store.put(lens=Lens.DELIVERED)


ACTIONS = (
    Action("file.export", "Export", "File", "As GLB, glTF, USD, BVH or a mesh, for the target in Handover", export, key="Ctrl+E", needs=WITH_CHARACTER),
    Action("handover.keep", "Keep as a target", "File", "What the card says, among your own targets", keep, needs=WITH_CHARACTER),
    Action("handover.prove", "Measure the export", "File", "Open the exported file again by other code and measure it", measure, needs=WITH_JOINTS),
    Action("handover.page", "Write the delivery page", "File", "What it is, what was checked and baked, with pictures, as one HTML file", page, needs=WITH_JOINTS),
    Action("handover.where", "Show where it differs", "File", "The difference the last measure found, on the mesh", show_where, needs=WITH_JOINTS),
)  # fmt: skip
