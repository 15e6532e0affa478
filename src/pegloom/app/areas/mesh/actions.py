"""What can be done to the mesh: stand it up, mend it, replace it, take it apart."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from pegloom.app.actions.action import Action
from pegloom.app.actions.locks import around_locks
from pegloom.app.actions.needs import CHARACTER, PART_PICKED, PLACE_PICKED, WITH_CHARACTER
from pegloom.app.areas.mesh.settings import MaterialSettings, ReportSettings, StandSettings
from pegloom.app.context import Context, Edit
from pegloom.app.jobs import Job
from pegloom.core.errors import EditError
from pegloom.core.jobs import Progress
from pegloom.core.said import counted
from pegloom.document import edits
from pegloom.document.model import Character, Document, Part
from pegloom.files.images import read_picture
from pegloom.files.opening import open_any
from pegloom.files.reading import read_mesh
from pegloom.scene.ghost import ghost_of

LARGE = 6000
"""Vertices from which on changes of meshes run as a job."""


# Standing


def stand_up(c: Context) -> None:
    chosen = c.state.settings.of(StandSettings)
    _stand(
        c,
        "Stand up",
        lambda d: edits.stand_up(d, up=chosen.up, facing=chosen.facing, height=chosen.height or None),
    )


def turn(degrees: float, c: Context) -> None:
    _stand(c, f"Rotate {degrees:+g}°", lambda d: edits.turn_by(d, degrees))


def _stand(c: Context, name: str, edit: Edit) -> None:
    """Stand or turn the figure; one that has joints is built anew for it, which takes a moment: as a job."""
    before, rigged = c.state.character, c.character.skeleton is not None

    def then(_: object) -> None:
        c.store.put(ghost=ghost_of(before, c.state.character))
        if rigged:
            c.say(f"{name}: pegs, joints, weights, controls and motion went along")

    c.change(name, edit, slow=rigged, doing="joints, controls and motion go along", then=then)


def even_out(c: Context) -> None:
    def edit(document: Document) -> tuple[Document, str]:
        result = edits.even_out(document)
        share, mean, _ = edits.evenness(result)
        return result, f"{share:.0%} of the vertices have a partner, now {1000 * mean:.2f} mm apart on average"

    _change(c, "Make symmetric", edit, c.say)


def show_middle(c: Context) -> None:
    c.store.put(middle_shown=not c.state.viewing.middle_shown)


# Files


def add_parts(c: Context) -> None:
    path = c.ask.open_file()
    if path:
        _bring(c, Path(path))


def _bring(c: Context, path: Path) -> None:
    def edit(document: Document, progress: Progress) -> object:
        progress(0.1, f"reading {path.name}")
        imported = read_mesh(path)
        progress(0.6, "putting the parts in")
        result = edits.add_parts(document, imported.parts, imported.materials, imported.images)
        return result, f"{counted(len(imported.parts), 'part')} added; bind them in Weights"

    def then(report: str) -> None:
        c.store.put_setting(ReportSettings, report=(report,), of=c.character.parts)
        c.say(report)

    c.job(f"Add parts of {path.name}", edit, title=f"Reading {path.name}", then=then)


def add_reference(c: Context) -> None:
    path = c.ask.open_picture()
    if path:
        image = read_picture(Path(path))
        c.try_edit(f"Reference picture {image.name}", lambda d: edits.add_reference(d, image))


def add_picture(c: Context) -> None:
    path = c.ask.open_picture()
    if path:
        image = read_picture(Path(path))
        c.try_edit(f"Import {image.name}", lambda d: edits.add_picture(d, image))


def look_from_file(c: Context) -> None:
    """The material of the card takes the values and pictures of one in another character's file."""
    slot = c.state.settings.of(MaterialSettings).slot
    materials = c.character.materials
    if slot >= len(materials):
        raise EditError("there is no material to change; import a mesh that has one")
    own, path = materials[slot].name, c.ask.open_file()
    if not path:
        return
    chosen = Path(path)

    def work(progress: Progress) -> object:
        progress(0.2, f"reading {chosen.name}")
        return open_any(chosen).require_character()

    def done(result: Any) -> None:
        other: Character = result
        used = sorted({int(s) for part in other.parts for s in part.mesh.materials})
        looks = [other.materials[s] for s in used if s < len(other.materials)]
        if not looks:
            c.say(f"{chosen.name} holds no material", error=True)
            return
        number = 0 if len(looks) == 1 else c.ask.one_of(f"Materials of {chosen.name}", [m.name for m in looks])
        if number >= 0:
            like = looks[number]
            c.try_edit(
                f"{own} like {like.name} of {chosen.name}", lambda d: edits.take_material(d, slot, like, other.images)
            )

    c.jobs.start(Job(f"Reading {chosen.name}", work, done))


# Parts


def _picked(c: Context) -> tuple[str, ...]:
    return c.state.selection.ids if c.state.selection.kind == "part" else ()


def join(c: Context) -> None:
    ids = _picked(c)

    def then(_: object) -> None:
        c.store.select("part", ids[0])
        c.say(f"{len(ids)} parts are one now; weights and morphs kept")

    _change(c, f"Join {counted(len(ids), 'part')}", lambda d: edits.join_parts(d, ids), then)


def split(c: Context) -> None:
    lead = c.state.selection.lead
    _change(c, "Split a part by its shells", lambda d: edits.split_part(d, lead))


def remove(c: Context) -> None:
    ids = _picked(c)

    def edit(document: Document) -> Document:
        for part in ids:
            document = edits.remove_part(document, part)
        return document

    c.try_edit("Delete parts", edit, lambda _: c.store.select(""))


def leave_out(c: Context) -> None:
    """The picked parts out of the character, kept in the project."""
    for part in _picked(c):
        c.try_edit("Leave out a part", partial(edits.include_part, part_id=part, included=False))


def take_all_in(c: Context) -> None:
    def edit(document: Document) -> Document:
        for part in c.character.parts:
            document = edits.include_part(document, part.id, True)
        return document

    c.try_edit("Include all parts", edit)


def mend(name: str, c: Context, part: Part | None = None) -> None:
    """One of the safe mends, on a part or on all included ones."""
    ids = [part.id] if part is not None else [p.id for p in c.character.included]

    def edit(document: Document) -> Document:
        for one in ids:
            document = edits.mend_part(document, one, name)
        return document

    _change(c, edits.MENDS[name][0] + (f": {part.name}" if part is not None else ""), edit)


def _change(c: Context, name: str, edit: Edit, then: Any = None) -> None:
    """Change meshes: large ones as a job."""
    large = sum(part.mesh.vertex_count for part in c.character.parts) >= LARGE
    c.change(name, edit, slow=large, doing="UVs, morphs and weights go along", then=then)


def edge_rows(c: Context) -> None:
    """Rows above and below a joint: where it bends, a limb needs them."""
    lead, kind = c.state.selection.lead, c.state.selection.kind
    c.try_edit(
        f"Edge loops at {lead.replace('_', ' ')}",
        lambda d: edits.edge_rows_at(d, lead, of_peg=kind == "peg"),
        lambda _: c.say("Edge loops inserted; UVs, morphs and weights lie between their neighbours'"),
    )


def clean(what: str, c: Context) -> None:
    chosen = {kind: what in (kind, "all") for kind in ("skeleton", "weights", "clips", "controls")}

    def then(_: object) -> None:
        c.store.select("")
        c.say(f"Dropped: {what}; one undo brings it back")

    c.try_edit(
        f"Start clean: drop {what}", lambda d: edits.start_clean(d, morphs=what == "morphs", **chosen), then
    )


def pass_on(c: Context) -> None:
    c.try_edit(
        "Pass weights on to the detail levels",
        around_locks(c, edits.pass_weights_on),
        lambda _: c.say("Weights read by every detail level from the body's own surface"),
    )


def _clean(what: str) -> Action:
    title = f"Start clean: drop {'everything but the mesh' if what == 'all' else what}"
    return Action(f"mesh.clean_{what}", title, "Mesh", "Keep the mesh at rest", partial(clean, what), needs=WITH_CHARACTER)


ACTIONS = (
    Action("mesh.stand_up", "Stand up", "Mesh", "Rotate, scale and move the mesh to stand", stand_up, needs=WITH_CHARACTER),
    Action("mesh.turn_left", "Rotate a quarter left", "Mesh", "By 90 degrees about its upright", partial(turn, 90), needs=WITH_CHARACTER),
    Action("mesh.turn_right", "Rotate a quarter right", "Mesh", "By 90 degrees about its upright", partial(turn, -90), needs=WITH_CHARACTER),
    Action("mesh.even_out", "Make symmetric", "Mesh", "Each vertex and its partner to mirrored places", even_out, needs=WITH_CHARACTER),
    Action("mesh.middle", "Show the centre line", "Mesh", "Show the mirror plane and drag it", show_middle, needs=WITH_CHARACTER, on=lambda s: s.viewing.middle_shown),
    Action("mesh.add_parts", "Add parts from a file", "Mesh", "New clothes, eyes, tack", add_parts, needs=WITH_CHARACTER),
    Action("mesh.join", "Join the picked parts", "Mesh", "One part of several, weights kept", join, needs=(CHARACTER, PART_PICKED)),
    Action("mesh.split", "Split by shells", "Mesh", "The picked part cut into its separate shells", split, needs=(CHARACTER, PART_PICKED)),
    Action("mesh.remove", "Delete the picked parts", "Mesh", "Out of the character for good", remove, needs=(CHARACTER, PART_PICKED)),
    Action("parts.hide", "Leave out the picked part", "Mesh", "Not delivered and not bound; kept in the project", leave_out, needs=(CHARACTER, PART_PICKED)),
    Action("parts.show", "Include all parts", "Mesh", "Nothing left out", take_all_in, needs=WITH_CHARACTER),
    Action("mesh.edge_rows", "Edge loops at the selected joint", "Mesh", "Loops round the limb, so that it can bend there", edge_rows, needs=(CHARACTER, PLACE_PICKED)),
    Action("mesh.pass_on", "Pass weights on to detail levels", "Mesh", "Coarser levels read the body's weights", pass_on, needs=WITH_CHARACTER),
    Action("mesh.look_from", "Copy a material from another character…", "Mesh", "A material of its file, with its textures, for the one in the card", look_from_file, needs=WITH_CHARACTER),
    Action("mesh.reference", "Add a reference picture", "Mesh", "A picture behind the view, never delivered", add_reference, needs=WITH_CHARACTER),
    Action("mesh.picture", "Import a texture", "Mesh", "For the maps of materials", add_picture, needs=WITH_CHARACTER),
    *(Action(f"mesh.mend_{name}", title, "Mesh", "On every included part", partial(mend, name), needs=WITH_CHARACTER) for name, (title, _) in edits.MENDS.items()),
    *(_clean(what) for what in ("all", "skeleton", "weights", "controls", "clips", "morphs")),
)  # fmt: skip
