"""Hide, isolate and show again in the view: parts, limbs, selected faces. What is left out of delivery is another thing."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np

from pegloom.app.actions.action import Action, Need
from pegloom.app.context import Context
from pegloom.app.state.hiding import HIDDEN_CONTROL, HIDDEN_PART, NO_FACES, hidden_control, hidden_part
from pegloom.app.state.state import Selection, State
from pegloom.core.arrays import BoolArray
from pegloom.core.geometry.mesh import Mesh
from pegloom.core.said import counted
from pegloom.document.model import Part

MOSTLY = 0.5
"""Share of a vertex's weight that a limb holds for the vertex to be the limb's."""


def _faces(mesh: Mesh, vertices: BoolArray) -> BoolArray:
    """Faces (f,) all of whose corners are among some vertices (n,)."""
    outside = np.add.reduceat(~vertices[mesh.corners], mesh.starts[:-1]) if mesh.face_count else np.zeros(0)
    return np.asarray(outside == 0)


def _of_limb(state: State, part: Part) -> BoolArray | None:
    """Vertices (n,) that follow mostly the picked joints and all below them; None of an unbound part."""
    character = state.character
    skin, skeleton = (character.skin, character.skeleton) if character is not None else (None, None)
    weights = skin.weights.get(part.id) if skin is not None else None
    if weights is None or skeleton is None:
        return None
    below = set(state.selection.ids)
    for joint in skeleton.joints:
        if joint.parent in below:
            below.add(joint.id)
    held = [k for k, joint in enumerate(weights.joint_ids) if joint in below]
    return np.asarray(np.asarray(weights.matrix()[:, held].sum(axis=1)).ravel() > MOSTLY)


def _meant(state: State) -> tuple[frozenset[str], Mapping[str, BoolArray]]:
    """What is picked: whole parts, or faces (f,) by part."""
    character = state.character
    assert character is not None
    parts = {part.id: part for part in state.shown_parts}
    if state.vertices:
        faces = {}
        for part_id, picked in state.vertices.items():
            if part_id in parts:
                chosen = np.zeros(parts[part_id].mesh.vertex_count, dtype=bool)
                chosen[picked] = True
                faces[part_id] = _faces(character.part(part_id).mesh, chosen)
        return frozenset(), faces
    if state.selection.kind == "part":
        return frozenset(i for i in state.selection.ids if i in parts), {}
    limbs = {part: _of_limb(state, character.part(part)) for part in parts}
    faces = {part: _faces(character.part(part).mesh, mine) for part, mine in limbs.items() if mine is not None}
    return frozenset(), {part: mask for part, mask in faces.items() if mask.any()}


def _with_masks(state: State, more: Mapping[str, BoolArray]) -> Mapping[str, BoolArray]:
    masks = dict(state.viewing.hidden_faces)
    for part, mask in more.items():
        before = masks.get(part)
        masks[part] = mask if before is None or len(before) != len(mask) else before | mask
    return MappingProxyType(masks)


def _controls(state: State) -> frozenset[str]:
    """The picked controls, as hidden things are called."""
    return frozenset(hidden_control(i) for i in state.selection.ids) if state.selection.kind == "control" else frozenset()


def hide(c: Context) -> None:
    controls = _controls(c.state)
    if controls:
        c.store.put(hidden=c.state.viewing.hidden | controls, selection=Selection())
        c.say(f"{counted(len(controls), 'control')} hidden in the view; nothing else has changed", offer="view.show_hidden")
        return
    parts, faces = _meant(c.state)
    if not parts and not any(mask.any() for mask in faces.values()):
        c.say("Nothing of the mesh is picked: pick a part, vertices, or a joint that holds some")
        return
    hidden = c.state.viewing.hidden | {hidden_part(p) for p in parts}
    c.store.put(hidden=hidden, hidden_faces=_with_masks(c.state, faces))
    c.say("Hidden in the view; it is delivered all the same", offer="view.show_hidden")


def isolate(c: Context) -> None:
    """All else is hidden."""
    controls = _controls(c.state)
    if controls:
        rig = c.character.require_rig()
        c.store.put(hidden=c.state.viewing.hidden | {hidden_control(h.id) for h in rig.handles} - controls)
        c.say("All other controls are hidden in the view", offer="view.show_hidden")
        return
    parts, faces = _meant(c.state)
    kept = parts | {part for part, mask in faces.items() if mask.any()}
    if not kept:
        c.say("Nothing of the mesh is picked: pick a part, vertices, or a joint that holds some")
        return
    others = {hidden_part(p.id) for p in c.state.shown_parts if p.id not in kept}
    masks = _with_masks(c.state, {part: ~mask for part, mask in faces.items() if part in kept})
    c.store.put(hidden=c.state.viewing.hidden | others, hidden_faces=masks)
    c.say("All else is hidden in the view", offer="view.show_hidden")


def show_hidden(c: Context) -> None:
    hidden = frozenset(t for t in c.state.viewing.hidden if not t.startswith((HIDDEN_PART, HIDDEN_CONTROL)))
    c.store.put(hidden=hidden, hidden_faces=NO_FACES)


def _picked(state: State) -> bool:
    return state.character is not None and bool(state.vertices or state.selection.kind in ("part", "joint", "control"))


PICKED = Need("something picked", "Pick a part, a joint, a control or vertices first", _picked)
HIDDEN = Need("something hidden", "Nothing is hidden in the view", lambda s: s.something_hidden)
ACTIONS = (
    Action("view.hide", "Hide in the view", "View", "The picked part, controls, the picked joint's limb, or the selected faces; delivered all the same", hide, key="N", needs=(PICKED,)),
    Action("view.isolate", "Isolate in the view", "View", "Hide all but what is picked", isolate, key="Ctrl+N", needs=(PICKED,)),
    Action("view.show_hidden", "Show all in the view", "View", "What was hidden there", show_hidden, key="Shift+N", needs=(HIDDEN,)),
)  # fmt: skip
