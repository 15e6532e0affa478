"""The one list of what is wrong or doubtful in all areas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np

from pegloom.core.arrays import IntArray
from pegloom.core.geometry.mend import inward_faces, rows_near
from pegloom.core.geometry.mesh import (
    Mesh,
    diagonal,
    edge_use,
    far_off,
    shells,
    triangle_normals,
    triangulate,
    unique_rows,
    upright,
    used_vertices,
    weld,
)
from pegloom.core.jobs import Progress, ask, silent
from pegloom.core.memo import by_identity
from pegloom.core.motion.clips import Clip, values_at, waiting_curves
from pegloom.core.rig.cone import CONE, cone_angles
from pegloom.core.rig.controls import ControlRig
from pegloom.core.rig.evaluate import AT_ONCE, nodes_at
from pegloom.core.said import counted
from pegloom.core.skeleton.axes import crooked_axes
from pegloom.core.skeleton.body import role_of
from pegloom.core.skeleton.joints import Joint, Origin, Skeleton, Vector
from pegloom.core.skin.select import over_influenced
from pegloom.core.skin.weights import Weights, row_sums_hold
from pegloom.core.tolerances import RATE_OF_SIZE
from pegloom.document import edits
from pegloom.document.baking import rates_of
from pegloom.document.edits import parted_moves
from pegloom.document.meeting import open_borders
from pegloom.document.model import Character, Document, Part, PartKind, Skin
from pegloom.document.strays import JudgedStray, judged_strays


class Severity(Enum):
    NOTE = "note"
    DOUBT = "doubt"
    WRONG = "wrong"


@dataclass(frozen=True, slots=True)
class Snag:
    """code : stable word.
    area : mesh, joints, weights...
    where : a point to show.
    fix : name of an action, or "".
    detail : what else its fix must know.
    """

    code: str
    area: str
    severity: Severity
    message: str
    count: int = 1
    where: Vector | None = None
    subject: str = ""
    fix: str = ""
    detail: tuple[str, ...] = ()


@by_identity
def mesh_snags(mesh: Mesh, name: str) -> tuple[Snag, ...]:
    """What will hurt later in one mesh."""
    found: list[Snag] = []

    def add(code: str, severity: Severity, message: str, count: int, vertex: int | None) -> None:
        where = None if vertex is None else tuple(float(v) for v in mesh.points[vertex])
        found.append(Snag(code, "mesh", severity, f"{name}: {message}", count, where, name))  # type: ignore[arg-type]

    g = weld(mesh)
    used = used_vertices(mesh)
    far = np.flatnonzero(far_off(mesh.points))
    if len(far):
        those = "one vertex lies" if len(far) == 1 else f"{len(far)} vertices lie"
        add(
            "far-vertices",
            Severity.DOUBT,
            f"{those} far off all others; the size is told without, but what is drawn there stretches",
            len(far),
            int(far[0]),
        )
    loose = np.flatnonzero(~used)
    if len(loose):
        add("loose-vertices", Severity.DOUBT, counted(len(loose), "vertex belongs to no face", "vertices belong to no face"), len(loose), int(loose[0]))
    tri = triangulate(mesh).vertices
    area = np.linalg.norm(triangle_normals(mesh.points, tri), axis=1)
    flat = np.flatnonzero(area < 1e-14 * max(diagonal(mesh.points), 1e-12) ** 2)
    if len(flat):
        add("zero-area-faces", Severity.DOUBT, counted(len(flat), "face has no area", "faces have no area"), len(flat), int(tri[flat[0], 0]))
    use = edge_use(mesh)
    for code, chosen, text, severity in (
        ("open-edges", use[:, 2] == 1, "edges are open (holes or borders)", Severity.NOTE),
        ("non-manifold-edges", use[:, 2] > 2, "edges belong to more than two faces", Severity.DOUBT),
    ):
        count = int(chosen.sum())
        if count:
            add(code, severity, f"{count} {text}", count, int(g.first[use[np.flatnonzero(chosen)[0], 0]]))
    doubled = len(tri) - len(unique_rows(np.sort(g.group[tri], axis=1), g.count)[0])
    if doubled:
        add("doubled-faces", Severity.DOUBT, counted(doubled, "face lies on another", "faces lie on others"), doubled, None)
    inward = np.flatnonzero(inward_faces(mesh))
    if len(inward):
        first = int(mesh.corners[mesh.starts[inward[0]]])
        add(
            "inward-faces",
            Severity.DOUBT,
            counted(len(inward), "face looks inward or against its neighbours", "faces look inward or against their neighbours"),
            len(inward),
            first,
        )
    seams = mesh.vertex_count - g.count
    if seams:
        add(
            "unwelded",
            Severity.NOTE,
            f"{counted(seams, 'vertex shares', 'vertices share')} a place with another (kept together always)",
            seams,
            None,
        )
    count = len(np.unique(shells(mesh)[used])) if used.any() else 0
    if count > 1:
        add("several-shells", Severity.NOTE, counted(count, "separate shell"), count, None)
    return tuple(found)


@by_identity
def find_snags(character: Character) -> tuple[Snag, ...]:
    """All snags of a character, the worst first."""
    return search_snags(character, silent)


def search_snags(character: Character, progress: Progress) -> tuple[Snag, ...]:
    """`find_snags` anew. progress: asked between two checks whether to go on; it may raise Cancelled."""
    found: list[Snag] = []
    for part in character.included:
        ask(progress)
        found += mesh_snags(part.mesh, part.name)
    points = character.all_points()
    if len(points) and character.standing is None and character.skeleton is None:
        found.append(
            Snag("not-stood-up", "mesh", Severity.DOUBT, "the mesh has not been stood up yet", fix="mesh.stand_up")
        )
    if character.pegs is not None:
        weak = [peg for peg in character.pegs.pegs if peg.weak]
        for peg in weak:
            message = f"the place of {peg.name} is a weak guess; look and drag it"
            found.append(Snag("weak-peg", "joints", Severity.DOUBT, message, where=peg.position, subject=peg.name))
    if len(points) and character.standing is not None:
        low = min(upright(part.mesh)[0] for part in character.included if part.mesh.vertex_count)
        if abs(low) > 0.01 * character.height:
            word = "above" if low > 0 else "below"
            message = f"the lowest point is {100 * abs(low):.1f} cm {word} the floor"
            found.append(Snag("off-floor", "mesh", Severity.NOTE, message, fix="mesh.stand_up"))
    if character.skeleton is not None:
        ask(progress)
        found += _bind_snags(character)
        ask(progress)
        found += _joint_snags(character)
    ask(progress)
    found += _depth_snags(character)
    ask(progress)
    found += _rig_snags(character)
    order = {Severity.WRONG: 0, Severity.DOUBT: 1, Severity.NOTE: 2}
    return tuple(sorted(found, key=lambda snag: order[snag.severity]))


def _depth_snags(character: Character) -> list[Snag]:
    """Pegs and joints outside the mesh, one by one; those just off their proper depth in one line."""
    if not any(part.mesh.face_count for part in character.included):
        return []
    document, skeleton = Document((character,)), character.skeleton
    moves = []
    if character.pegs is not None:
        moves += [(m, m.peg, character.pegs.position(m.peg)) for m in edits.proposed_depths(document)]
    if skeleton is not None:
        for m in edits.proposed_joint_depths(document):
            moves.append((m, skeleton.joint(m.peg).name, skeleton.joint(m.peg).position))
    found = []
    for move, name, here in moves:
        if move.outside:
            how_far = f" ({move.why})" if "mm" in move.why else ""
            message = f"{name} lies outside the mesh{how_far}; what it turns will stretch"
            found.append(Snag("outside-mesh", "joints", Severity.DOUBT, message, where=here, subject=move.peg, fix="joints.centre"))  # fmt: skip
    off = [(name, here) for move, name, here in moves if not move.outside]
    if off:
        message = (
            f"off their proper depth: {', '.join(name for name, _ in off[:4])}{' and more' if len(off) > 4 else ''}"
        )
        found.append(Snag("off-depth", "joints", Severity.NOTE, message, len(off), off[0][1], fix="joints.centre"))
    return found


def _joint_snags(character: Character) -> list[Snag]:
    """Crooked axes, changes by hand whose pegs have moved, too few edge rows where a limb bends."""
    skeleton = character.skeleton
    assert skeleton is not None
    found = []

    def doubt(code: str, area: str, message: str, joint: Joint, fix: str) -> None:
        found.append(Snag(code, area, Severity.DOUBT, message, where=joint.position, subject=joint.id, fix=fix))

    for crooked in crooked_axes(skeleton):
        joint = skeleton.joint(crooked.joint)
        own = joint.origin is Origin.FILE
        severity, fix = (Severity.NOTE, "") if own else (Severity.DOUBT, "axes.mend")
        message = f"{joint.name}: its axes are {np.degrees(max(crooked.aim, crooked.bend)):.0f} degrees off its limb"
        message += "; kept as the file has them, shown and held clean" if own else ""
        found.append(Snag("crooked-axes", "joints", severity, message, where=joint.position, subject=joint.id, fix=fix))
    for joint_id, gap in parted_moves(character).items():
        joint = skeleton.joint(joint_id)
        message = f"{joint.name}: moved by hand, and its pegs have moved {100 * gap:.1f} cm since; it went along"
        doubt("parted-move", "joints", message, joint, "joints.to_pegs")
    for joint in skeleton.joints:
        if not role_of(skeleton, joint.id).endswith(".lower"):
            continue
        length = float(
            np.linalg.norm(np.array(joint.position) - np.array(skeleton.joint(joint.parent or joint.id).position))
        )
        skin = [p for p in character.included if p.kind is PartKind.SKIN and p.mesh.vertex_count]
        if not skin or length <= 0:
            continue
        rows = max(rows_near(p.mesh, np.array(joint.position), joint.matrix[:3, 1], 0.22 * length) for p in skin)
        if 0 < rows < 3:
            message = f"{joint.name}: {counted(rows, 'edge row')} where it bends; three or more bend cleanly"
            doubt("few-rows", "mesh", message, joint, "mesh.edge_rows")
    return found


MOST_LOOKED = 20_000
"""Frames of a clip that are looked at."""
LISTED = 3
"""Names told of many that are alike."""


def _rig_snags(character: Character) -> list[Snag]:
    """Changes and curves that wait for a control or channel; controls an older recipe built."""
    rig = character.rig
    if rig is None or character.skeleton is None:
        return []
    found = []

    def add(code: str, area: str, severity: Severity, message: str, count: int = 1, fix: str = "") -> None:
        found.append(Snag(code, area, severity, message, count, fix=fix))

    waiting = edits.waiting_changes(character)
    if waiting:
        add("waiting-changes", "controls", Severity.NOTE, f"changes made by hand wait for {_some(waiting)}", len(waiting))
    for control, gap in edits.parted_rests(character).items():
        name = rig.control(control).name if control in rig.index else control
        message = f"{name}: its rest was moved by hand, and what it was built on has moved {100 * gap:.1f} cm since; it went along"
        add("parted-control", "controls", Severity.DOUBT, message)
    for clip in character.clips:
        lost = [str(ref) for ref in waiting_curves(clip, rig)]
        if lost:
            add("waiting-keys", "controls", Severity.DOUBT, f"{clip.name}: keys wait for {_some(lost)}", len(lost))
        if clip.every_curve and not clip.tracks:
            error, rate, least = rates_of(character.skeleton, rig, character.height, clip)
            if error > RATE_OF_SIZE * character.height:
                message = (
                    f"{clip.name}: a target that plays {clip.rate:g} frames a second strays from it by up to"
                    f" {1000 * error:.1f} mm; at {rate:g} by {1000 * least:.1f} mm"
                )
                add("low-rate", "motion", Severity.NOTE, message)
            for limb, frame, count in cone_visits(character.skeleton, rig, clip):
                message = (
                    f"{clip.name}: the goal of {limb} comes near the line through its pole at frame {frame}"
                    f" ({counted(count, 'frame')}), where it may turn over; move the pole there, or key its swivel"
                )
                add("pole-cone", "motion", Severity.DOUBT, message)
    newer = edits.newer_build(character)
    if newer is not None:
        message = f"an older Peg Loom built these controls; built anew, they move by up to {newer[1]:.1f} mm"
        add("older-controls", "controls", Severity.NOTE, message, fix="controls.build")
    return found


def cone_visits(skeleton: Skeleton, rig: ControlRig, clip: Clip) -> list[tuple[str, int, int]]:
    """Limbs on IK whose goal a clip brings near the line through the pole: a name, the first frame, how many frames."""
    count = min(int(clip.length * clip.rate) + 1, MOST_LOOKED)
    values = values_at(clip, np.arange(count) / clip.rate, rig)
    inside: dict[str, list[int]] = {}
    for first in range(0, count, AT_ONCE):
        some = values[first : first + AT_ONCE]
        angles = cone_angles(skeleton, rig, nodes_at(skeleton, rig, some))
        for limb in rig.limbs:
            on = some[:, rig.slots.index[limb.amount]] > 0.0
            inside.setdefault(limb.id, []).extend((first + np.flatnonzero(on & (angles[limb.id] < CONE))).tolist())
    named = {limb.id: rig.control(limb.goal.id).name for limb in rig.limbs}
    return [(named[limb], frames[0], len(frames)) for limb, frames in inside.items() if frames]


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - LISTED} more" if len(names) > LISTED else ""
    return ", ".join(names[:LISTED]) + more


def _bind_snags(character: Character) -> list[Snag]:
    found = []
    for border in open_borders(character):
        names = " and ".join(character.part(p).name for p in border.parts)
        message = f"{names}: the border where they meet opens by up to {1000 * border.opens:.1f} mm in the trials"
        found.append(
            Snag("open-border", "weights", Severity.DOUBT, message, border.count, border.where, border.parts[0], "weights.close_borders")
        )
    bound = character.skin.weights if character.skin else {}
    for part in character.included:
        weights = bound.get(part.id)
        if weights is None:
            if character.skin is not None:
                message = f"{part.name} is not bound and stays behind"
                found.append(
                    Snag("unbound-part", "weights", Severity.WRONG, message, subject=part.id, fix="weights.bind")
                )
        elif character.skeleton is not None and (
            strays := judged_strays(part.mesh, weights, character.skeleton)
        ):
            found += _stray_snags(part, strays, character.skeleton)
        elif not row_sums_hold(weights):
            found.append(Snag("not-normalised", "weights", Severity.WRONG, f"{part.name}: weights do not add up to 1"))
        if weights is not None and character.skin is not None:
            found += _row_snags(part, weights, character.skin)
    return found


def _stray_snags(part: Part, strays: Sequence[JudgedStray], skeleton: Skeleton) -> list[Snag]:
    """One each, so that each can be looked at and mended by itself; those that are sure can be mended together."""
    found = []
    for stray in strays[:LISTED_STRAYS]:
        name = skeleton.joint(stray.joint).name
        message = (
            f"{part.name}: {counted(len(stray.vertices), 'vertex', 'vertices')} {100 * stray.away:.0f} cm from {name} still"
            f" {'follows' if len(stray.vertices) == 1 else 'follow'} it ({stray.largest:.2f}), by up to {1000 * stray.moves:.1f} mm in the trials"
        )
        x, y, z = (float(v) for v in part.mesh.points[stray.vertices[0]])
        code, severity, fix = (
            ("stray-weights", Severity.DOUBT, "weights.drop_strays") if stray.sure
            else ("doubtful-weights", Severity.NOTE, "weights.drop_stray")
        )  # fmt: skip
        found.append(
            Snag(
                code, "weights", severity, message + ("" if stray.sure else "; it may be meant"), len(stray.vertices),
                (x, y, z), part.id, fix, (stray.joint, str(int(stray.vertices[0]))),
            )
        )  # fmt: skip
    return found


LISTED_STRAYS = 8
"""Regions of one part that are listed at once; mending them brings up the next."""
TINY = 0.005
"""A weight under this moves nothing one can see, and costs a slot."""


def _row_snags(part: Part, weights: Weights, skin: Skin) -> list[Snag]:
    """Rows with too many joints, with crumbs; and what few targets can play."""
    found = []

    def add(code: str, severity: Severity, message: str, vertices: IntArray, fix: str) -> None:
        where = tuple(float(v) for v in part.mesh.points[vertices[0]])
        found.append(
            Snag(code, "weights", severity, f"{part.name}: {message}", len(vertices), where, part.id, fix)  # type: ignore[arg-type]
        )

    many = over_influenced(weights, skin.limit(part.id))
    if len(many):
        add(
            "over-influenced",
            Severity.DOUBT,
            f"{counted(len(many), 'vertex follows', 'vertices follow')} more than {skin.limit(part.id)} joints",
            many,
            "weights.reduce",
        )
    rows = np.repeat(np.arange(weights.vertex_count), np.diff(weights.indptr))
    tiny = np.unique(rows[(weights.values > 0) & (weights.values < TINY)])
    if len(tiny) > 0.02 * weights.vertex_count:
        add("tiny-weights", Severity.NOTE, f"{counted(len(tiny), 'vertex holds', 'vertices hold')} weights under {TINY}", tiny, "weights.prune")
    everywhere = np.arange(weights.vertex_count)
    if part.id in skin.relax:
        add(
            "relax-unplayed",
            Severity.DOUBT,
            "surface relax plays in few targets; bake it before the handover",
            everywhere,
            "relax.bake",
        )
    if part.id in skin.dual:
        painted = np.flatnonzero(skin.dual[part.id] > 0)
        add(
            "dual-unplayed",
            Severity.DOUBT,
            "dual quaternion blending is no part of glTF or USD; bake it before the handover",
            painted,
            "relax.bake",
        )
    return found
