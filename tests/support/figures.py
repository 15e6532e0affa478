"""Figures the tests rig: made of capsules and boxes by trimesh, so that none comes from the demo's generator."""

from __future__ import annotations

from functools import lru_cache
from itertools import pairwise
from pathlib import Path

import numpy as np
import trimesh

from pegloom.core.geometry.mesh import Mesh, from_faces, triangulate
from pegloom.core.skeleton.kits import FINGERS
from pegloom.document import edits
from pegloom.document.model import Document, Part
from pegloom.files.project import open_project
from pegloom.files.reading import read_mesh

DEMO = Path(__file__).parents[2] / "src/pegloom/assets/demo"

LANDMARKS = {
    "shoulder": (0.19, 1.42, 0.0),
    "elbow": (0.46, 1.42, -0.012),
    "wrist": (0.70, 1.42, 0.0),
    "hip": (0.10, 0.92, 0.0),
    "knee": (0.11, 0.50, 0.012),
    "ankle": (0.115, 0.09, -0.01),
}
"""Where the capsule figure's left limbs are jointed, metres."""


def _capsule(a: tuple[float, ...], b: tuple[float, ...], radius: float) -> trimesh.Trimesh:
    start, end = np.array(a), np.array(b)
    made = trimesh.creation.capsule(height=float(np.linalg.norm(end - start)), radius=radius, count=[14, 14])
    made.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], end - start))
    made.apply_translation((start + end) / 2)
    return made


def capsule_figure(*, hidden_arm: bool = False) -> trimesh.Trimesh:
    """A T-posed figure 1.75 m tall of overlapping closed shells, which is how many real meshes come."""
    pieces = [_capsule((0, 0.98, 0), (0, 1.38, 0), 0.15), _capsule((0, 1.48, 0), (0, 1.56, 0), 0.055)]
    head = trimesh.creation.icosphere(subdivisions=2, radius=0.1)
    head.apply_scale([0.9, 1.2, 1.05])
    head.apply_translation([0, 1.63, 0.015])
    pieces.append(head)
    for side in (1, -1):

        def at(name: str, side: int = side) -> tuple[float, ...]:
            x, y, z = LANDMARKS[name]
            return (side * x, y, z)

        def off(x: float, y: float, z: float, side: int = side) -> tuple[float, ...]:
            return (side * x, y, z)

        pieces.append(_capsule(off(0.1, 1.42, 0), at("shoulder"), 0.062))
        if not (hidden_arm and side < 0):
            pieces.append(_capsule(at("shoulder"), at("elbow"), 0.05))
            pieces.append(_capsule(at("elbow"), at("wrist"), 0.04))
            pieces.append(_capsule(off(0.72, 1.42, 0), off(0.83, 1.42, 0.0), 0.046))
        pieces.append(_capsule(at("hip"), at("knee"), 0.082))
        pieces.append(_capsule(at("knee"), at("ankle"), 0.055))
        foot = trimesh.creation.box([0.09, 0.075, 0.26])
        foot = foot.subdivide().subdivide()
        foot.apply_translation(off(0.12, 0.0375, 0.055))
        pieces.append(foot)
    return trimesh.util.concatenate(pieces)


def as_mesh(made: trimesh.Trimesh) -> Mesh:
    return from_faces(made.vertices, np.asarray(made.faces, dtype=np.int64))


def box_limb(rows: int = 12, *, seam: bool = False) -> Mesh:
    """A square tube along x from 0 to 1, 0.2 wide, open at both ends; with seam, one edge row is doubled."""
    ring = [(-0.1, -0.1), (0.1, -0.1), (0.1, 0.1), (-0.1, 0.1)]
    if seam:
        ring.append(ring[0])
    points = [(i / rows, y, z) for i in range(rows + 1) for y, z in ring]
    width = len(ring)
    faces = []
    for i in range(rows):
        for k in range(width - 1 if seam else width):
            a, b = i * width + k, i * width + (k + 1) % width
            faces.append([a, b, b + width, a + width])
    return from_faces(points, faces)


def document_of(mesh: Mesh, name: str = "figure") -> Document:
    return edits.bring_in(Document(), (Part("part0", name, mesh),), name=name)


@lru_cache(maxsize=1)
def wick() -> Document:
    """The shipped project: Wick, rigged."""
    return open_project(DEMO / "wick.pegloom")


def shipped(name: str) -> Document:
    """A shipped project as it is, with what was made on it by hand."""
    return open_project(DEMO / f"{name}.pegloom")


@lru_cache(maxsize=1)
def rigged_capsules() -> Document:
    """The capsule figure through the whole road."""
    document = edits.stand_up(document_of(as_mesh(capsule_figure())))
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    return edits.build_controls(edits.bind(document))


def unrigged_wick() -> Document:
    mesh = read_mesh(DEMO / "wick.obj")
    return edits.bring_in(Document(), mesh.parts, name="wick", materials=mesh.materials, images=mesh.images)


def human(
    *, down: float = 0.0, fat: float = 1.0, head: float = 1.0, robe: bool = False, wide: float = 1.0, bend: float = 0.05,
    count: int = 14, left_arm: float | None = None, left_fore: float = 1.0,
) -> tuple[trimesh.Trimesh, dict[str, np.ndarray]]:  # fmt: skip
    """A human of ordinary proportions and where its joints are (left side).

    down: arms below level, radians. fat: girth of trunk and limbs. wide: stance. bend: of elbow and knee, radians.
    left_arm: below level, where the left arm is held another way. left_fore: the left forearm's length in the right
    one's. The right side's places are told as r_... where they are not the left's mirrored.
    Lengths after Winter, Biomechanics and Motor Control of Human Movement, chapter 4, for 1.75 m.
    """
    back = np.array([0.0, 0.0, -1.0])
    shoulder = np.array([0.185 * (0.9 + 0.1 * fat), 1.425, -0.01])

    def arm(angle: float, length: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Elbow, wrist, and which way the forearm points."""
        out = np.array([np.cos(angle), -np.sin(angle), 0.0])
        upper = out * np.cos(bend / 2) + back * np.sin(bend / 2)
        fore = out * np.cos(bend / 2) - back * np.sin(bend / 2)
        return shoulder + 0.3 * upper, shoulder + 0.3 * upper + length * 0.255 * fore, fore

    elbow, wrist, fore = arm(down if left_arm is None else left_arm, left_fore)
    other_elbow, other_wrist, other_fore = arm(down, 1.0)
    hip = np.array([0.09 * wide, 0.925, 0.0])
    knee = hip + 0.43 * np.array([0.02 * wide, -1.0, np.sin(bend)])
    ankle = np.array([hip[0] + 0.015 * wide, 0.075, -0.015])
    at = {"shoulder": shoulder, "elbow": elbow, "wrist": wrist, "hip": hip, "knee": knee, "ankle": ankle,
          "neck": np.array([0, 1.47, -0.015]), "head": np.array([0, 1.56, 0.0]), "hips": np.array([0, 0.98, -0.01])}  # fmt: skip
    if left_arm is not None or left_fore != 1.0:
        at |= {f"r_{n}": p * [-1, 1, 1] for n, p in (("elbow", other_elbow), ("wrist", other_wrist))}
    pieces: list[trimesh.Trimesh] = []

    def tube(a: np.ndarray, b: np.ndarray, ra: float, rb: float) -> None:
        """A limb piece that tapers, as a stack of short capsules."""
        for k in range(4):
            p, q = a + (b - a) * k / 4, a + (b - a) * (k + 1) / 4
            pieces.append(_capsule(tuple(p), tuple(q), ra + (rb - ra) * (k + 0.5) / 4))

    def blob(centre: tuple[float, float, float], radii: tuple[float, float, float]) -> None:
        made = trimesh.creation.icosphere(subdivisions=3 if count > 10 else 2, radius=1.0)
        made.apply_scale(radii)
        made.apply_translation(centre)
        pieces.append(made)

    g = fat
    blob((0, 1.3, -0.01), (0.155 * g, 0.2, 0.105 * g))
    blob((0, 1.1, 0.01 * g), (0.14 * g, 0.19, 0.105 * g))
    blob((0, 0.97, -0.005), (0.16 * g, 0.14, 0.115 * g))
    tube(np.array([0, 1.42, -0.015]), np.array([0, 1.58, 0.0]), 0.058 * g**0.5, 0.05 * g**0.5)
    blob((0, 1.57 + 0.085 * head, 0.01), (0.075 * head, 0.11 * head, 0.095 * head))
    for side in (1.0, -1.0):
        flip = np.array([side, 1, 1])
        bent = (elbow, wrist, fore) if side > 0 else (other_elbow, other_wrist, other_fore)
        s, e, w, ahead, h, k, n = (p * flip for p in (shoulder, *bent, hip, knee, ankle))
        tube(np.array([0.06 * side, 1.425, -0.012]), s, 0.062 * g**0.5, 0.058 * g**0.7)
        tube(s, e, 0.052 * g**0.7, 0.042 * g**0.5)
        tube(e, w, 0.042 * g**0.5, 0.027 * g**0.3)
        tube(w, w + 0.09 * ahead, 0.028, 0.04)
        tube(w + 0.09 * ahead, w + 0.17 * ahead, 0.036, 0.018)
        tube(h, k, 0.082 * g**0.8, 0.058 * g**0.5)
        tube(k, n, 0.056 * g**0.5, 0.036 * g**0.3)
        tube(n + [0, -0.02, -0.02], n + [0.01 * side, -0.045, 0.12], 0.04, 0.03)
        tube(n + [0.01 * side, -0.045, 0.12], n + [0.015 * side, -0.05, 0.175], 0.03, 0.022)
    if robe:
        skirt = trimesh.creation.cone(radius=0.34, height=1.25, sections=48)
        skirt.apply_transform(trimesh.transformations.rotation_matrix(-np.pi / 2, [1, 0, 0]))
        skirt.apply_translation([0, 0.03, 0])
        pieces.append(skirt)
    return trimesh.util.concatenate(pieces), at


def box_figure(
    *, down: float = 0.5, head: float = 1.0, feet: float = 1.0, stance: float = 1.0, hat: bool = False, wide: float = 1.0
) -> tuple[trimesh.Trimesh, dict[str, np.ndarray]]:
    """A game's figure of some 200 faces: a box a limb, 1.7 m tall, facing +Z; where its left joints are.

    down: arms below level, radians. head: its size. feet: their length. stance: how far apart. hat: a broad brim.
    wide: girth of the trunk.
    """
    pieces: list[trimesh.Trimesh] = []

    def box(centre: object, size: object) -> None:
        piece = trimesh.creation.box(size)
        piece.apply_translation(centre)
        pieces.append(piece)

    def limb(a: np.ndarray, b: np.ndarray, thick: float) -> None:
        piece = trimesh.creation.box([thick, thick, float(np.linalg.norm(b - a))])
        piece.apply_transform(trimesh.geometry.align_vectors([0, 0, 1], b - a))
        piece.apply_translation((a + b) / 2)
        pieces.append(piece)

    arm = np.array([np.cos(down), -np.sin(down), 0.0])
    shoulder = np.array([0.19 * wide, 1.38, 0.0])
    at = {
        "shoulder": shoulder, "elbow": shoulder + 0.28 * arm, "wrist": shoulder + 0.52 * arm,
        "hip": np.array([0.1 * stance, 0.86, 0.0]), "knee": np.array([0.1 * stance, 0.46, 0.01]),
        "ankle": np.array([0.1 * stance, 0.09, -0.01]),
    }  # fmt: skip
    box([0, 1.15, 0], [0.34 * wide, 0.58, 0.2 * wide])
    box([0, 0.86, 0], [0.32 * wide, 0.16, 0.2 * wide])
    box([0, 1.47, 0], [0.1, 0.1, 0.1])
    box([0, 1.5 + 0.1 * head, 0.01], [0.17 * head, 0.22 * head, 0.2 * head])
    if hat:
        box([0, 1.5 + 0.21 * head, 0.01], [0.4 * head, 0.03, 0.42 * head])
    for side in (1.0, -1.0):
        flip = np.array([side, 1, 1])
        s, e, w, h, k, n = (at[j] * flip for j in ("shoulder", "elbow", "wrist", "hip", "knee", "ankle"))
        limb(s, e, 0.11)
        limb(e, w, 0.09)
        limb(w, w + 0.15 * arm * flip, 0.08)
        limb(h, k, 0.15)
        limb(k, n, 0.12)
        box(n + [0, -0.05, 0.06 * feet], [0.1, 0.08, 0.24 * feet])
    return trimesh.util.concatenate(pieces), at


def lone_head(
    *, eyes: bool = True, ears: bool = True, jaw: float = 1.0, nose: float = 1.0, shoulders: bool = False, wide: float = 1.0
) -> tuple[trimesh.Trimesh, dict[str, np.ndarray]]:
    """A head on its neck facing +Z, chin to crown 0.22 m, and where its landmarks are (left side).

    eyes : eyeballs of their own. jaw, nose : how far they stand out. shoulders : a bust. wide : the skull's breadth.
    """
    pieces: list[trimesh.Trimesh] = []

    def blob(centre: object, radii: object, fine: int = 4) -> None:
        piece = trimesh.creation.icosphere(subdivisions=fine, radius=1.0)
        piece.apply_scale(radii)
        piece.apply_translation(centre)
        pieces.append(piece)

    at = {
        "crown": np.array([0, 0.32, 0.0]), "eye": np.array([0.032 * wide, 0.215, 0.075]), "nose": np.array([0, 0.175, 0.1 + 0.022 * nose]),
        "mouth_line": np.array([0, 0.14, 0.1]), "chin": np.array([0, 0.105, 0.085 * jaw + 0.012]),
        "ear": np.array([0.078 * wide, 0.19, -0.005]), "brow": np.array([0.032 * wide, 0.24, 0.1]), "head": np.array([0, 0.17, -0.02]),
    }  # fmt: skip
    blob((0, 0.225, 0.0), (0.078 * wide, 0.095, 0.098))
    blob((0, 0.15, 0.035), (0.058 * wide, 0.055, 0.058))
    blob(at["nose"] - [0, 0, 0.012], (0.014, 0.018, 0.014), 3)
    blob((0, 0.2, 0.093), (0.009, 0.03, 0.01), 3)
    blob(at["chin"] - [0, 0, 0.015], (0.022, 0.014, 0.016), 3)
    for y, z in ((0.148, 0.09), (0.132, 0.088)):
        blob((0, y, z), (0.024, 0.0075, 0.012), 3)
    for sign in (1, -1):
        flip = np.array([sign, 1, 1])
        blob((at["brow"] - [0, 0, 0.013]) * flip, (0.022 * wide, 0.006, 0.014), 3)
        if eyes:
            blob(at["eye"] * flip, (0.0125, 0.0125, 0.0125), 3)
        if ears:
            blob((at["ear"] + [0.008, 0, 0]) * flip, (0.012, 0.032, 0.017), 3)
    pieces.append(_capsule((0, 0.02, -0.025), (0, 0.15, -0.015), 0.048))
    if shoulders:
        blob((0, -0.02, -0.03), (0.2, 0.06, 0.09))
    return trimesh.util.concatenate(pieces), at


def lone_hand(fingers: int = 5, *, curl: float = 0.5) -> trimesh.Trimesh:
    """A right hand flat on its palm, fingers toward +Z, each finger two shells; about 20 cm long."""
    pieces = [trimesh.creation.box([0.085, 0.03, 0.09]).subdivide().subdivide()]
    pieces.append(_capsule((0, 0, -0.04), (0, 0, -0.11), 0.027))
    for k in range(fingers - 1):
        x = -0.033 + 0.066 * k / max(fingers - 2, 1)
        a = np.array([x, 0, 0.045])
        b = a + [x * 0.2, -curl * 0.03, 0.045]
        c = b + [x * 0.15, -curl * 0.035, 0.03]
        pieces += [_capsule(tuple(a), tuple(b), 0.009), _capsule(tuple(b), tuple(c), 0.008)]
    pieces.append(_capsule((0.035, 0, -0.02), (0.065, -0.005, 0.02), 0.012))
    pieces.append(_capsule((0.065, -0.005, 0.02), (0.078, -0.005, 0.05), 0.01))
    return trimesh.util.concatenate(pieces)


def curled_hand(fold: float, fingers: int = 5) -> tuple[trimesh.Trimesh, dict[str, np.ndarray]]:
    """A left hand, wrist at the origin, fingers toward +X and folding down, and each finger's own joints and tip (4, 3).

    fold : radians by which a finger's last bone is turned against its palm, a third at each joint. Of one skin a bone.
    """
    pieces = [trimesh.creation.box([0.08, 0.026, 0.085]).subdivide().subdivide()]
    pieces[0].apply_translation([0.06, 0, 0])
    pieces.append(_capsule((-0.05, 0, 0), (0.03, 0, 0), 0.024))
    lines = {}
    for k, name in enumerate(FINGERS[1:fingers]):
        z = 0.033 - 0.066 * k / max(fingers - 2, 1)
        line, angle = [np.array([0.088, 0.0, z])], 0.0
        for length in (0.045, 0.03, 0.023):
            angle += fold / 3
            line.append(line[-1] + length * np.array([np.cos(angle), -np.sin(angle), 0.0]))
        pieces += [_capsule(tuple(a), tuple(b), 0.0085 - 0.0005 * i) for i, (a, b) in enumerate(pairwise(line))]
        lines[name] = np.array(line)
    thumb = np.array([[0.025, -0.004, 0.02], [0.052, -0.008, 0.046], [0.076, -0.01, 0.063], [0.098, -0.012, 0.07]])
    pieces += [_capsule(tuple(a), tuple(b), 0.0105 - 0.0005 * i) for i, (a, b) in enumerate(pairwise(thumb))]
    return trimesh.util.concatenate(pieces), lines | {"thumb": thumb}


def toed_human(toes: int) -> tuple[trimesh.Trimesh, list[np.ndarray]]:
    """A human whose feet, of one skin each, end in so many single toes; where the left ones' tips are, the inner one first."""
    made, at = human(down=0.7)
    kept = [piece for piece in made.split(only_watertight=False) if not (piece.bounds[0][1] < 0.05 and piece.bounds[0][2] > 0.02)]
    ankle = at["ankle"]
    ball = ankle + [0.005, -0.045, 0.12]
    foot, tips = [], []
    for centre, size in ((ball, [0.092, 0.036, 0.08]), (ankle + [0, -0.04, 0.04], [0.06, 0.05, 0.13])):
        box = trimesh.creation.box(size).subdivide()
        box.apply_translation(centre)
        foot.append(box)
    thin = 0.7 * min(0.07 / max(toes - 1, 1) / 2, 0.014)
    for k in range(toes):
        share = k / (toes - 1) - 0.5
        start = ball + [0.074 * share, -0.004, 0.02]
        end = start + [0.01 * share, -0.002, 0.06 - 0.016 * (share + 0.5)]
        foot.append(_capsule(tuple(start), tuple(end), thin))
        tips.append(end + [0, 0, thin])
    skin = one_skin(trimesh.util.concatenate(foot), 0.0028, 8)
    left = trimesh.Trimesh(skin.points, triangulate(skin).vertices, process=False)
    right = left.copy()
    right.apply_transform(np.diag([-1.0, 1.0, 1.0, 1.0]))
    return trimesh.util.concatenate([*kept, left, right]), tips


def cut_off(points: np.ndarray, triangles: np.ndarray, keep: np.ndarray) -> Mesh:
    """What is left of a mesh of the triangles whose corners are all kept: open where it was cut, raggedly."""
    chosen = triangles[keep[triangles].all(axis=1)]
    used, place = np.unique(chosen, return_inverse=True)
    return from_faces(points[used], place.reshape(chosen.shape))


def one_skin(made: trimesh.Trimesh, cell: float = 0.012, smooth: int = 12) -> Mesh:
    """The outside of a figure of many shells as one closed skin: the faces of its cells, smoothed.

    What stands less than a cell apart grows together.
    """
    from scipy import sparse

    from pegloom.core.geometry.solid import make_solid

    solid = make_solid(np.array(made.vertices), np.array(made.faces), cell=cell, middle=0.0)
    filled = np.pad(solid.filled, 1)
    corners, faces = {}, []

    def corner(at: tuple[int, int, int]) -> int:
        return corners.setdefault(at, len(corners))

    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        for sign in (1, -1):
            shifted = np.roll(filled, -sign, axis=axis)
            for cell_at in np.argwhere(filled & ~shifted):
                base = cell_at.copy()
                base[axis] += sign > 0
                ring = []
                for du, dv in ((0, 0), (1, 0), (1, 1), (0, 1)):
                    at = base.copy()
                    at[u] += du
                    at[v] += dv
                    ring.append(corner(tuple(int(k) for k in at)))
                faces.append(ring if sign > 0 else ring[::-1])
    points = solid.origin + (np.array(list(corners)) - 1.0) * solid.cell
    quads = np.array(faces)
    ends = np.concatenate([quads[:, [k, (k + 1) % 4]] for k in range(4)])
    graph = sparse.csr_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(len(points), len(points)))
    graph = ((graph + graph.T) > 0).astype(np.float64)
    degree = np.asarray(graph.sum(axis=1))
    for k in range(smooth):
        # Out again by a little more than in: it keeps its girth (G. Taubin, 1995).
        points = points + (0.5 if k % 2 == 0 else -0.53) * (graph @ points / degree - points)
    return from_faces(points, quads)
