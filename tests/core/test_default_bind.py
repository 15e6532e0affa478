"""The default bind, and those by distance: laws, leaks, shapes unlike characters."""

import tracemalloc
from dataclasses import replace
from functools import partial

import numpy as np
import pytest
import trimesh
from scipy import ndimage

from pegloom.core.geometry.mesh import from_faces, place_edges, shells, weld
from pegloom.core.geometry.symmetry import partners
from pegloom.core.jobs import Cancelled
from pegloom.core.skeleton.joints import Joint, Origin, Side, Skeleton, bone_segments
from pegloom.core.skeleton.pegs import place_pegs
from pegloom.core.skeleton.uses import bones_of
from pegloom.core.skin.bind import BindMethod
from pegloom.core.skin.bind.branches import Hold, Spread, Tree, Trunk
from pegloom.core.skin.bind.distances import limb_radii, way_out
from pegloom.core.skin.bind.held_close import held_apart
from pegloom.core.skin.bind.surface import body_solid
from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.edits.weights import METHODS
from pegloom.files.project import open_project
from tests.support.figures import DEMO, as_mesh, box_limb, document_of, human, one_skin, wick

SOFT = (BindMethod.SEGMENT, BindMethod.THROUGH_BODY, BindMethod.BY_REACH)


def chain(*places, parents=None):
    made = []
    for k, place in enumerate(places):
        parent = (
            (f"j{k - 1}" if k else None) if parents is None else (f"j{parents[k]}" if parents[k] is not None else None)
        )
        made.append(Joint(f"j{k}", f"joint {k}", parent, Side.CENTRE, tuple(float(v) for v in place)))
    return Skeleton(tuple(made))


def tube(rows=40, length=1.0, radius=0.08, sides=16):
    points = [
        (length * i / rows, radius * np.cos(t), radius * np.sin(t))
        for i in range(rows + 1)
        for t in 2 * np.pi * np.arange(sides) / sides
    ]
    faces = [
        [i * sides + k, i * sides + (k + 1) % sides, (i + 1) * sides + (k + 1) % sides, (i + 1) * sides + k]
        for i in range(rows)
        for k in range(sides)
    ]
    points += [(0, 0, 0), (length, 0, 0)]
    last = len(points)
    faces += [[(k + 1) % sides, k, last - 2] for k in range(sides)]
    faces += [[rows * sides + k, rows * sides + (k + 1) % sides, last - 1] for k in range(sides)]
    return from_faces(points, faces)


@pytest.mark.parametrize("method", SOFT)
def test_a_tube_blends_at_the_joint_and_nowhere_else(method):
    mesh = tube()
    skeleton = chain((0.02, 0, 0), (0.5, 0, 0), (0.98, 0, 0))
    weights = METHODS[method](mesh, skeleton, body_solid([mesh]), influences=4)
    x = mesh.points[:, 0]
    first = weights.column("j0")
    assert first[x < 0.3].min() > 0.9
    assert first[x > 0.72].max() < 0.1
    ring = np.abs(x - 0.5) < 1e-9
    assert first[ring] == pytest.approx(0.5, abs=0.12)
    # All round the tube alike, and falling from one end to the other.
    for at in np.unique(np.round(x, 6)):
        assert np.ptp(first[np.abs(x - at) < 1e-6]) < 0.06
    means = [first[np.abs(x - at) < 1e-6].mean() for at in np.unique(np.round(x, 6))]
    assert (np.diff(means) < 0.02).all()
    assert row_sums_hold(weights)


def test_the_blend_is_as_wide_as_the_limb_is_thick():
    def width(radius):
        mesh = tube(rows=80, radius=radius)
        weights = METHODS[BindMethod.SEGMENT](mesh, chain((0.02, 0, 0), (0.5, 0, 0), (0.98, 0, 0)), body_solid([mesh]))
        first, x = weights.column("j0"), mesh.points[:, 0]
        return np.ptp(x[(first > 0.15) & (first < 0.85)])

    assert width(0.14) > 1.4 * width(0.06)


@pytest.mark.parametrize("method", METHODS)
def test_seams_limits_sums_and_sides_hold(method):
    character = wick().character
    document = edits.bind(wick(), method=method, influences=3)
    for part in character.included:
        weights = document.character.skin.weights[part.id]
        assert row_sums_hold(weights)
        assert most_influences(weights) <= 3
        g = weld(part.mesh)
        values = dense(weights)
        assert np.array_equal(values, values[g.first][g.group]), "vertices at one place move as one"
    if method in (BindMethod.SEGMENT, BindMethod.BY_REACH):
        part = character.parts[0]
        weights = document.character.skin.weights[part.id]
        ids = list(weights.joint_ids)
        across = [ids.index(character.skeleton.other_side(j)) for j in ids]
        pairs = partners(part.mesh, 0.0)
        has = pairs >= 0
        values = dense(weights)
        assert np.abs(values[has] - values[pairs[has]][:, across]).max() < 0.002


def test_no_arm_weight_on_the_trunk_and_no_leg_across_the_middle():
    made, at = human(down=0.7)
    document = edits.stand_up(document_of(as_mesh(made)), keep_size=True)
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    character = edits.bind(document).character
    part, skeleton = character.parts[0], character.skeleton
    weights = character.skin.weights[part.id]
    label = shells(part.mesh)
    points = part.mesh.points
    for s, sign in (("l", 1.0), ("r", -1.0)):
        arm = sum(weights.column(f"arm.{s}.{k}") for k in ("upper", "lower", "end"))
        shoulder = np.array(skeleton.joint(f"arm.{s}.upper").position)
        away = np.linalg.norm(points - shoulder, axis=1)
        chest = np.array(
            [label[int(np.argmin(np.linalg.norm(points - [0, y, 0.1], axis=1)))] for y in (1.3, 1.1, 0.97)]
        )
        trunk = np.isin(label, chest)
        assert arm[trunk & (away > 0.12)].max() < 0.1
        leg = sum(weights.column(f"leg.{s}.{k}") for k in ("upper", "lower", "end", "toes"))
        assert leg[points[:, 0] * sign < -0.06].max() < 0.02
    assert at["wrist"] is not None


def test_wicks_arms_hold_nothing_of_his_trunk():
    document = wick()
    character = edits.bind(document, part_ids=[document.character.included[0].id]).character
    part, skeleton = character.included[0], character.skeleton
    weights, points = character.skin.weights[part.id], part.mesh.points
    trunk = sum(weights.column(j) for j in weights.joint_ids if j.split(".")[0] in ("spine", "neck", "head"))
    for side in "lr":
        shoulder, elbow = (np.array(skeleton.joint(f"arm.{side}.{k}").position) for k in ("upper", "lower"))
        arm = [f"arm.{side}.upper"]
        for joint in skeleton.joints:
            arm += [joint.id] if joint.parent in arm else []
        held = sum(weights.column(j) for j in arm)
        bone = elbow - shoulder
        along = (points - shoulder) @ bone / (bone @ bone)
        aside = np.linalg.norm(points - shoulder - along[:, None] * bone, axis=1)
        radius = np.median(aside[(along > 0.3) & (along < 0.7) & (aside < 0.1)])
        assert 0.03 < radius < 0.08
        beyond = np.linalg.norm(points - shoulder, axis=1) > radius
        assert held[beyond & (trunk > 0.6)].max() <= 0.1


def test_an_arm_three_millimetres_from_the_body_does_not_leak():
    trunk = trimesh.creation.box((0.3, 1.0, 0.2)).subdivide().subdivide().subdivide().subdivide()
    arm = trimesh.creation.box((0.08, 0.7, 0.08)).subdivide().subdivide().subdivide().subdivide()
    arm.apply_translation([0.15 + 0.003 + 0.04, -0.05, 0])
    bridge = trimesh.creation.box((0.1, 0.08, 0.08)).subdivide().subdivide()
    bridge.apply_translation([0.18, 0.32, 0])
    mesh = as_mesh(trimesh.util.concatenate([trunk, arm, bridge]))
    skeleton = chain((0, -0.48, 0), (0, 0.0, 0), (0, 0.35, 0), (0.05, 0.33, 0), (0.193, 0.32, 0), (0.193, -0.05, 0), (0.193, -0.38, 0),
                     parents=[None, 0, 1, 2, 3, 4, 5])  # fmt: skip
    weights = METHODS[BindMethod.SEGMENT](mesh, skeleton, body_solid([mesh]))
    label = shells(mesh)
    limb = sum(weights.column(f"j{k}") for k in (4, 5, 6))
    trunk_shell = label == label[0]
    low = mesh.points[:, 1] < 0.15
    assert limb[trunk_shell & low].max() < 0.1
    arm_shell = label == label[len(trunk.vertices)]
    assert limb[arm_shell & low].min() > 0.9


def test_many_legs_and_an_open_sheet():
    from tests.support import creatures

    made, _ = creatures.insect(4)
    document = edits.stand_up(creatures.document(made), keep_size=True)
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, plan="many-legged")))
    character = edits.bind(document).character
    weights, skeleton = character.skin.weights["part0"], character.skeleton
    for number in range(1, 5):
        foot = np.array(skeleton.joint(f"leg{number}.l.end").position)
        near = np.linalg.norm(character.parts[0].mesh.points - foot, axis=1) < 0.04
        own = sum(weights.column(f"leg{number}.l.{k}") for k in ("upper", "lower", "end"))
        assert own[near].min() > 0.95
    sheet = box_limb(rows=20)
    open_weights = METHODS[BindMethod.SEGMENT](sheet, chain((0, 0, 0), (0.5, 0, 0), (1, 0, 0)), body_solid([sheet]))
    assert row_sums_hold(open_weights)
    assert open_weights.column("j0")[sheet.points[:, 0] < 0.2].min() > 0.8


def test_limb_radius_is_the_tubes():
    mesh = tube(radius=0.1)
    solid = body_solid([mesh])
    radius = limb_radii(np.array([[0.1, 0, 0]]), np.array([[0.9, 0, 0.0]]), np.array([0]), 1, solid)
    assert radius[0] == pytest.approx(0.1, abs=1.5 * solid.cell)
    out = way_out(solid.filled, solid.origin, solid.cell, np.array([[0.5, 0, 0]]), np.array([[0.0, 1, 0]]), 5.0)
    assert out[0] == pytest.approx(0.1, abs=1.5 * solid.cell)


@pytest.mark.parametrize("method", SOFT)
def test_a_bind_is_cancelled_between_its_stages(method):
    calls = []

    def progress(fraction, text):
        if fraction >= 0:
            calls.append(fraction)
        if fraction > 0.3:
            raise Cancelled

    with pytest.raises(Cancelled):
        edits.bind(wick(), method=method, progress=progress)
    assert calls == sorted(calls)


@pytest.mark.parametrize("method", SOFT)
def test_a_small_part_far_out_follows_what_it_sits_on(method):
    """A wide hat brim, small beside the body, is the head's all over."""
    character = edits.bind(wick(), method=method).character
    brim = next(p for p in character.parts if p.name == "hat_brim")
    weights = character.skin.weights[brim.id]
    # By plain distance the neck keeps a little, and limbs a trace at most.
    assert weights.column("spine.head").min() > (0.95 if method is BindMethod.SEGMENT else 0.6)
    assert max(weights.column(j).max() for j in weights.joint_ids if not j.startswith("spine.")) < 0.06


@pytest.mark.parametrize("demo", ["wick", "dumble", "harl"])
def test_no_cliffs_between_neighbours(demo):
    """Where limbs tie (a belly between four legs) weights still pass from one place to the next without a jump."""
    character = edits.bind(open_project(DEMO / f"{demo}.pegloom")).character
    part = character.parts[0]
    g = weld(part.mesh)
    values = dense(character.skin.weights[part.id])[g.first]
    edges = place_edges(part.mesh)
    step = np.abs(values[edges[:, 0]] - values[edges[:, 1]]).sum(axis=1)
    assert step.max() < 1.5  # 2 is nothing in common; fingers part within an edge


def head_on_a_neck(ears):
    """A ball on a thin stalk over a block, its chin level with the neck; the head joint holds ears alone, or nothing."""
    block = trimesh.creation.box((0.5, 0.5, 0.3)).subdivide().subdivide().subdivide().subdivide()
    stalk = trimesh.creation.cylinder(radius=0.06, height=0.3, sections=24)
    stalk.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    stalk.apply_translation([0, 0.3, 0])
    ball = trimesh.creation.icosphere(subdivisions=4, radius=0.2)
    ball.apply_translation([0, 0.5, 0.1])
    mesh = as_mesh(trimesh.util.concatenate([block, stalk, ball]))
    joints = [
        Joint("spine", "spine", None, Side.CENTRE, (0.0, -0.2, 0.0)),
        Joint("neck", "neck", "spine", Side.CENTRE, (0.0, 0.25, 0.0)),
        Joint("head", "head", "neck", Side.CENTRE, (0.0, 0.38, 0.02)),
    ]
    for side, sign in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
        joints.append(
            Joint(f"arm{sign}", f"arm{sign}", "spine", side, (0.2 * sign, 0.2, 0.0), tail=(0.25 * sign, 0.2, 0.0))
        )
        if ears:
            joints.append(
                Joint(f"ear{sign}", f"ear{sign}", "head", side, (0.15 * sign, 0.6, 0.1), tail=(0.2 * sign, 0.66, 0.1))
            )
    return mesh, Skeleton(tuple(joints))


def test_a_head_that_only_holds_ears_keeps_its_chin():
    mesh, skeleton = head_on_a_neck(ears=True)
    weights = METHODS[BindMethod.SEGMENT](mesh, skeleton, body_solid([mesh]))
    chin = (mesh.points[:, 2] > 0.22) & (mesh.points[:, 1] < 0.45)
    assert chin.sum() > 20
    assert weights.column("head")[chin].min() > 0.8
    ears = weights.column("ear1.0") + weights.column("ear-1.0")
    assert ears[chin].max() < 0.05


@pytest.mark.parametrize("name", ["Root", "B_Origin", "scene_world"])
def test_a_joint_that_only_carries_the_body_moves_no_vertex(name):
    mesh = tube()
    chained = chain((0.02, 0, 0), (0.5, 0, 0), (0.98, 0, 0)).joints
    carrier = Joint("c", name, None, Side.CENTRE, (0.0, 0.0, 0.0))
    carried = Skeleton((carrier, replace(chained[0], parent="c"), *chained[1:]))
    solid = body_solid([mesh])
    for method in METHODS.values():
        weights = method(mesh, carried, solid, influences=4)
        assert weights.column("c").max() == 0.0
    for name in ("Stem", "tail_root", "B_Root_Pelvis"):
        plain = Skeleton((replace(carrier, name=name), *carried.joints[1:]))
        assert METHODS[BindMethod.SEGMENT](mesh, plain, solid).column("c").max() > 0.0


def test_no_edge_tears_where_legs_part():
    """Per radian of a leg an edge opens by under four times its length (over five without the easing)."""
    character = edits.bind(wick()).character
    part, skeleton = character.parts[0], character.skeleton
    g = weld(part.mesh)
    weights = character.skin.weights[part.id]
    edges = place_edges(part.mesh)
    points = part.mesh.points[g.first]
    length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    for side, sign in (("l", 1.0), ("r", -1.0)):
        leg = sum(weights.column(j.id) for j in skeleton.joints if j.id.startswith(f"leg.{side}"))[g.first]
        lever = np.linalg.norm(points[edges].mean(axis=1) - skeleton.joint(f"leg.{side}.upper").position, axis=1)
        assert (np.abs(leg[edges[:, 0]] - leg[edges[:, 1]]) * lever / length).max() < 4.0
        # The crotch is the hips': neither leg has more than a trace beyond the middle.
        assert leg[points[:, 0] * sign < -0.005].max() < 0.05


def test_a_name_all_joints_share_does_not_hide_the_carrier():
    """Nettle_root only carries Nettle_spine and the rest, as root alone would; its way up from the floor is no bone."""
    mesh = tube()
    chained = chain((0.02, 0, 0), (0.5, 0, 0), (0.98, 0, 0)).joints
    named = [replace(joint, name=f"Nettle_{w}") for joint, w in zip(chained, ("spine", "chest", "neck"), strict=True)]
    carrier = Joint("c", "Nettle_root", None, Side.CENTRE, (0.3, -0.6, 0.0))
    arm = Joint("arm", "Nettle_arm", "j0", Side.CENTRE, (0.5, 0.06, 0.0))
    carried = Skeleton((carrier, replace(named[0], parent="c"), *named[1:], arm))
    for method in METHODS.values():
        assert method(mesh, carried, body_solid([mesh]), influences=4).column("c").max() == 0.0


def test_the_root_of_a_lone_chain_holds_its_skin():
    """tail_root above tail_mid and tail_tip is no carrier, though all three share a word."""
    mesh = tube()
    chained = chain((0.02, 0, 0), (0.5, 0, 0), (0.98, 0, 0)).joints
    named = [replace(joint, name=f"tail_{w}") for joint, w in zip(chained, ("root", "mid", "tip"), strict=True)]
    weights = METHODS[BindMethod.SEGMENT](mesh, Skeleton(tuple(named)), body_solid([mesh]))
    assert weights.column("j0")[mesh.points[:, 0] < 0.3].min() > 0.9


def test_a_skirts_hem_is_shared_by_the_legs_and_its_top_is_the_hips():
    """What ties between two legs is the hips' only where the hips are about as near."""
    tall = tube(rows=28, length=1.1, radius=0.2, sides=32)
    points = tall.points[:, [1, 0, 2]] * (1.0, 1.0, -0.6)
    skirt = from_faces(points, [list(face) for face in tall.corners.reshape(-1)[: 28 * 32 * 4].reshape(-1, 4)])
    joints = [
        Joint("hips", "hips", None, Side.CENTRE, (0.0, 0.95, 0.0)),
        Joint("spine", "spine", "hips", Side.CENTRE, (0.0, 1.05, 0.0), tail=(0.0, 1.1, 0.0)),
    ]
    for side, sign in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
        for name, parent, y in (("upper", "hips", 0.9), ("lower", "upper", 0.5), ("foot", "lower", 0.08)):
            above = parent if parent == "hips" else f"{parent}{sign}"
            joints.append(Joint(f"{name}{sign}", f"{name}{sign}", above, side, (0.1 * sign, y, 0.0)))
    weights = METHODS[BindMethod.SEGMENT](skirt, Skeleton(tuple(joints)), body_solid([skirt]))
    x, y = skirt.points[:, 0], skirt.points[:, 1]
    hips = weights.column("hips") + weights.column("spine")
    middle = np.abs(x) < 0.03
    assert hips[middle & (y < 0.3)].max() < 0.25
    assert hips[middle & (y > 0.9)].min() > 0.6
    left = sum(weights.column(f"{name}1.0") for name in ("upper", "lower", "foot"))
    hem = middle & (y < 0.2)
    assert left[hem & (x > -0.005)].min() > 0.2


@pytest.mark.parametrize("name", ["tag_head", "Head.Socket", "ik_look", "head_attach_prop"])
def test_no_skin_follows_a_joint_that_only_marks_a_place(name):
    mesh, skeleton = head_on_a_neck(ears=False)
    head = skeleton.joint("head")
    up = tuple(np.array(head.position) + (0.0, 0.02, 0.06))
    marked = Skeleton((*skeleton.joints, Joint("mark", name, "head", Side.CENTRE, up, origin=Origin.FILE)))
    document = document_of(mesh)
    character = replace(document.require_character(), skeleton=marked, adopted=marked)
    document = document.with_character(character)
    for method in BindMethod:
        weights = edits.bind(document, method=method).require_character().skin.weights["part0"]
        assert "mark" not in weights.joint_ids or weights.column("mark").max() == 0.0
    asked = edits.bind(document, joint_ids=["head", "mark"]).require_character().skin.weights["part0"]
    assert asked.column("mark").max() > 0.1


@pytest.mark.parametrize("name", ["eye_socket", "price_tag", "tent_mount", "crown"])
def test_what_is_called_after_a_mark_but_is_a_thing_holds_its_skin(name):
    _, skeleton = head_on_a_neck(ears=False)
    up = tuple(np.array(skeleton.joint("head").position) + (0.0, 0.02, 0.06))
    marked = Skeleton((*skeleton.joints, Joint("mark", name, "head", Side.CENTRE, up, origin=Origin.FILE)))
    assert bones_of(marked, {}) is marked


def dressed(*, wall=0.0):
    """Two legs and a block on them inside an open skirt that hangs from the block's waist; its wall is single or double.

    Returns the mesh, its skeleton with a head above, and which vertices are the skirt's.
    """
    block = trimesh.creation.box((0.3, 0.3, 0.2)).subdivide().subdivide().subdivide()
    block.apply_translation([0, 1.0, 0])
    pieces = [block]
    for sign in (1.0, -1.0):
        leg = trimesh.creation.capsule(height=0.85, radius=0.06, count=[16, 16])
        leg.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
        leg.apply_translation([0.09 * sign, 0.5, 0])
        pieces.append(leg.subdivide())
    skirt_from = sum(len(piece.vertices) for piece in pieces)
    for out in (0.0, wall) if wall else (0.0,):
        turns = np.arange(48) * 2 * np.pi / 48
        rows = [
            np.stack([(0.16 + 0.22 * k / 24 - out) * np.sin(turns), np.full(48, 1.0 - 0.85 * k / 24),
                      (0.11 + 0.22 * k / 24 - out) * np.cos(turns)], axis=1)
            for k in range(25)
        ]  # fmt: skip
        faces = []
        for r in range(24):
            for c in range(48):
                a, b = r * 48 + c, r * 48 + (c + 1) % 48
                quad = [[a, a + 48, b + 48], [a, b + 48, b]]
                faces += [face[::-1] for face in quad] if out else quad
        pieces.append(trimesh.Trimesh(np.concatenate(rows), faces, process=False))
    mesh = as_mesh(trimesh.util.concatenate(pieces))
    joints = [
        Joint("hips", "hips", None, Side.CENTRE, (0.0, 0.95, 0.0)),
        Joint("spine", "spine", "hips", Side.CENTRE, (0.0, 1.05, 0.0)),
        Joint("head", "head", "spine", Side.CENTRE, (0.0, 1.13, 0.0)),
    ]
    for side, sign in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
        for name, parent, y in (("upper", "hips", 0.9), ("lower", "upper", 0.5), ("foot", "lower", 0.08)):
            above = parent if parent == "hips" else f"{parent}{sign}"
            joints.append(Joint(f"{name}{sign}", f"{name}{sign}", above, side, (0.09 * sign, y, 0.0)))
    return mesh, Skeleton(tuple(joints)), np.arange(mesh.vertex_count) >= skirt_from


@pytest.mark.parametrize("wall", [0.0, 0.012])
def test_an_open_skirt_follows_the_legs_it_hangs_round(wall):
    """The way inside its wall leads over the waist; the legs lie across the air, near. The head never has a share."""
    mesh, skeleton, skirt = dressed(wall=wall)
    weights = METHODS[BindMethod.SEGMENT](mesh, skeleton, body_solid([mesh]))
    x, y = mesh.points[:, 0], mesh.points[:, 1]
    assert weights.column("head")[skirt].max() < 0.02
    for sign in (1.0, -1.0):
        leg = sum(weights.column(f"{name}{sign}") for name in ("upper", "lower", "foot"))
        aside = skirt & (y < 0.6) & (x * sign > 0.15)
        assert leg[aside].mean() > 0.85
        assert leg[aside].min() > 0.5
        assert leg[skirt & (x * sign < -0.15)].max() < 0.35, "and never the other leg"
    trunk = weights.column("hips") + weights.column("spine")
    assert trunk[skirt & (y < 0.45)].max() < 0.4
    assert trunk[skirt & (y > 0.97)].min() > 0.5


def test_giving_the_middle_back_again_gives_no_more():
    """It runs at every step of easing, so a share given each time would end as all of it."""
    joints = [
        Joint("hips", "hips", None, Side.CENTRE, (0.0, 1.0, 0.0)),
        Joint("spine", "spine", "hips", Side.CENTRE, (0.0, 1.2, 0.0)),
    ]
    for side, sign in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
        joints += [
            Joint(f"upper{sign}", f"upper{sign}", "hips", side, (0.1 * sign, 0.9, 0.0)),
            Joint(f"lower{sign}", f"lower{sign}", f"upper{sign}", side, (0.1 * sign, 0.5, 0.0)),
        ]
    skeleton = Skeleton(tuple(joints))
    tree = Tree(skeleton, list(range(len(joints))))
    rng = np.random.default_rng(4)
    distance = rng.uniform(0.05, 0.5, (200, len(joints)))
    trunk, held = Trunk(distance, np.full(len(joints), 0.1), tree), Hold(distance, np.full(len(joints), 0.1), tree, 0)
    assert 0.0 < held.close.mean() < 1.0
    values = rng.dirichlet(np.ones(len(joints)), 200)
    once = trunk.given_back(values, np.arange(200))
    twice = trunk.given_back(once, np.arange(200))
    assert np.abs(once - values).max() > 0.1
    assert twice == pytest.approx(once, abs=1e-12)
    assert once.sum(axis=1) == pytest.approx(1.0)
    both = np.minimum(once[:, tree.below[2]].sum(axis=1), once[:, tree.below[4]].sum(axis=1))
    assert both[held.close == 1.0] == pytest.approx(0.0, abs=1e-12)


def two_pairs():
    """A trunk of two joints with a pair of legs at either: rows hips, l_hind, r_hind, chest, l_fore, r_fore."""
    joints = [Joint("hips", "hips", None, Side.CENTRE, (0.0, 1.0, 0.0))]
    for name, z in (("hind", 0.0), ("fore", 1.0)):
        if z:
            joints.append(Joint("chest", "chest", "hips", Side.CENTRE, (0.0, 1.0, z)))
        for side, sign in ((Side.LEFT, 1.0), (Side.RIGHT, -1.0)):
            joints.append(Joint(f"{name}{sign}", f"{name}{sign}", joints[-1].id if sign > 0 else joints[-2].id, side,
                                (0.2 * sign, 0.8, z)))  # fmt: skip
    return Tree(Skeleton(tuple(joints)), list(range(len(joints))))


def test_what_more_than_two_limbs_hold_is_the_trunks_where_it_is_near():
    tree = two_pairs()
    assert tree.limbs == [1, 2, 4, 5]
    rng = np.random.default_rng(2)
    rows = rng.dirichlet(np.ones(6), 300)
    rows[0] = [0.0, 0.25, 0.25, 0.0, 0.25, 0.25]
    rows[1] = [0.2, 0.5, 0.3, 0.0, 0.0, 0.0]
    for far, kept in ((1.0, False), (9.0, True)):
        distance = np.ones((300, 6))
        distance[:, [0, 3]] = far
        trunk = Trunk(distance, np.full(6, 0.3), tree)
        given = trunk._between_many(rows, np.arange(300))
        assert given.sum(axis=1) == pytest.approx(1.0)
        assert given.min() >= 0.0
        if kept:
            assert given == pytest.approx(rows)
            continue
        limbs = given[:, tree.limbs]
        assert (np.sort(limbs, axis=1)[:, :2] < 1e-12).all()
        fore, hind = limbs[:, 2:].sum(axis=1), limbs[:, :2].sum(axis=1)
        assert np.minimum(fore, hind).max() < 1e-12
        assert given[0, [0, 3]].sum() == pytest.approx(1.0)
        assert given[1] == pytest.approx(rows[1])
        assert trunk._between_many(given, np.arange(300)) == pytest.approx(given)


def test_easing_carries_a_limb_no_farther_than_it_was():
    tree = two_pairs()
    rng = np.random.default_rng(3)
    before, mixed = rng.dirichlet(np.ones(6), 200), rng.dirichlet(np.ones(6), 200)
    distance = np.repeat(rng.uniform(0.1, 1.5, (200, 1)), 6, axis=1)
    spread = Spread(before, distance, np.full(6, 0.3), np.zeros(200), tree)
    held = spread.held_in(mixed, np.arange(200))
    near, far = distance[:, 0] < 0.6, distance[:, 0] > 0.9
    assert held[near] == pytest.approx(mixed[near])
    limit = np.maximum(before[:, tree.limbs], Spread.LEFT)
    assert (held[:, tree.limbs] <= limit + 1e-12)[far].all()
    assert (held[:, tree.limbs] < mixed[:, tree.limbs] - 1e-3)[far].any()
    assert held.sum(axis=1) == pytest.approx(1.0)
    hanging = Spread(before, distance, np.full(6, 0.3), np.ones(200), tree)
    assert hanging.held_in(mixed, np.arange(200)) == pytest.approx(mixed)


def test_a_coarse_mesh_keeps_the_middle_of_a_bone():
    """Rows of vertices much farther apart than the tube is thick: softening carries nothing from one to the next."""
    mesh = tube(rows=6, length=1.2, radius=0.02, sides=8)
    weights = METHODS[BindMethod.SEGMENT](mesh, chain((0, 0, 0), (0.6, 0, 0), (1.2, 0, 0)), body_solid([mesh]))
    assert weights.column("j0")[mesh.points[:, 0] < 0.45].min() > 0.95
    assert weights.column("j1")[(mesh.points[:, 0] > 0.75) & (mesh.points[:, 0] < 1.1)].min() > 0.95


def test_no_step_is_left_in_a_belly_between_four_legs():
    """Dumble's belly hangs between the knees of all four: eight joints tie there for four places in a row."""
    document = open_project(DEMO / "dumble.pegloom")
    body = next(p for p in document.character.included if p.name == "body")
    values = dense(edits.bind(document, part_ids=[body.id]).character.skin.weights[body.id])
    g = weld(body.mesh)
    edges, places = place_edges(body.mesh), body.mesh.points[g.first]
    step = np.abs(values[g.first][edges[:, 0]] - values[g.first][edges[:, 1]]).sum(axis=1)
    belly = (places[:, 1] < 0.5) & (np.abs(places[:, 2] + 0.2) < 0.15)
    assert belly[edges].all(axis=1).sum() > 50
    assert step[belly[edges].all(axis=1)].max() < 0.8


def test_the_end_of_a_limb_does_not_reach_past_its_own_bones():
    """A lump beside a shin's middle is the shin's, not the toes', however thin the shin."""
    shin = trimesh.creation.capsule(height=1.6, radius=0.03, count=[16, 16])
    shin.apply_translation([0, 0, 0.75])
    lump = trimesh.creation.icosphere(subdivisions=4, radius=0.14)
    lump.apply_translation([0.12, 0.0, 0.3])
    mesh = as_mesh(trimesh.util.concatenate([shin, lump]))
    joints = chain((0, 0, 1.4), (0, 0, 0.8), (0, 0, 0.1)).joints
    weights = METHODS[BindMethod.SEGMENT](mesh, Skeleton(tuple(joints)), body_solid([mesh]))
    far = (mesh.points[:, 0] > 0.18) & (mesh.points[:, 2] > 0.3)
    assert far.sum() > 50
    end = joints[-1].id
    assert weights.column(end)[far].max() < 0.25


def test_a_flat_puppets_limbs_are_as_thick_as_they_are_broad():
    """A sheet's ways out across are next to nothing; its limbs must not lose to whatever end lies about."""
    sheet = trimesh.creation.box((1.0, 0.4, 0.004)).subdivide().subdivide().subdivide().subdivide().subdivide()
    mesh = as_mesh(sheet)
    skeleton = chain((-0.45, 0, 0), (0.0, 0, 0), (0.45, 0, 0))
    solid = body_solid([mesh])
    starts, ends, owner = bone_segments(skeleton)
    radius = limb_radii(starts, ends, owner, 3, solid)
    assert radius[:2] == pytest.approx(0.1, abs=0.03)


@pytest.mark.parametrize("scale", [0.002, 1.0, 300.0])
def test_a_skeleton_in_other_units_than_its_mesh_is_bound_in_little_memory(scale):
    """Bones that run far past a small body were followed in steps of the body's own grid, and took all memory."""
    mesh = tube()
    joints = chain((0.02, 0, 0), (0.5, 0.1, 0), (0.98, 0, 0.2)).joints
    far = Skeleton(tuple(replace(joint, position=tuple(np.array(joint.position) / scale)) for joint in joints))
    tracemalloc.start()
    for method in METHODS.values():
        weights = method(mesh, far, body_solid([mesh]), influences=4)
        assert row_sums_hold(weights) and most_influences(weights) <= 4
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak < 4e8


@pytest.mark.parametrize("seed", range(6))
def test_any_soup_of_triangles_is_bound_or_refused_in_words(seed):
    rng = np.random.default_rng(seed)
    points = rng.normal(0, 1, (30, 3)) * (1.0, 1.0, seed % 2)
    mesh = from_faces(points, [rng.choice(30, 3, replace=False).tolist() for _ in range(40)])
    sides = (Side.CENTRE, Side.LEFT, Side.RIGHT)
    joints = [Joint("j0", "n0", None, Side.CENTRE, tuple(points[0]))]
    for k in range(1, 6):
        place = points[rng.integers(0, 30)] + rng.normal(0, 0.2, 3)
        joints.append(Joint(f"j{k}", f"n{k}", f"j{rng.integers(0, k)}", sides[rng.integers(0, 3)], tuple(place)))
    document = document_of(mesh)
    skeleton = Skeleton(tuple(joints))
    document = document.with_character(replace(document.require_character(), skeleton=skeleton, adopted=skeleton))
    for method in BindMethod:
        weights = edits.bind(document, method=method).require_character().skin.weights["part0"]
        assert row_sums_hold(weights) and most_influences(weights) <= 4


SPOTS = {"brow": (0.045, 0.16, 0.11), "cheek": (0.06, 0.07, 0.1), "lip": (0.036, 0.02, 0.115), "temple": (0.1, 0.15, 0.0)}


@pytest.mark.parametrize("some", [("brow",), ("cheek",), ("temple",), ("brow", "lip"), tuple(SPOTS)])
def test_a_faces_joint_holds_what_is_near_it_and_the_head_the_rest(some):
    document = edits.stand_up(document_of(as_mesh(human(down=0.6, head=1.4)[0])), keep_size=True)
    document = edits.build_joints(edits.set_pegs(document, edits.find_pegs(document, fingers=0)))
    pivot = np.array(document.character.skeleton.joint("spine.head").position)
    for name in some:
        document, _ = edits.draw_joint(document, tuple(pivot + SPOTS[name]), parent="spine.head", name=f"l_{name}")
    chin, hinge = pivot + [0.0, -0.03, 0.11], pivot + [0, 0.02, 0.02]
    document, _ = edits.draw_joint(document, tuple(hinge), parent="spine.head", name="jaw", tail=tuple(chin))
    bound = edits.bind(document).character
    skeleton, points = bound.skeleton, bound.parts[0].mesh.points
    weights = bound.skin.weights["part0"]
    own = weights.column("spine.head").copy()
    for joint in [j for j in skeleton.joints if j.parent == "spine.head"]:
        column, at = weights.column(joint.id), np.array(joint.position)
        own += column
        away, arm = np.linalg.norm(points - at, axis=1), float(np.linalg.norm(at - pivot))
        if joint.name == "jaw":
            assert column[np.linalg.norm(points - chin, axis=1) < 0.03].min() > 0.6, "the chin is the jaw's"
            continue
        assert column[away > 0.75 * arm].max(initial=0.0) < 0.15, joint.name
        assert column[away > arm].max(initial=0.0) < 0.02, joint.name
        assert column[away < 0.3 * arm].max() > (0.15 if joint.name == "l_lip" else 0.4), joint.name  # the jaw is as near
    assert own[points[:, 1] > pivot[1] + 0.16].min() > 0.85, "but for a little of the neck all of it stays on the head"


def test_a_toys_arm_of_one_bone_is_no_face():
    made = trimesh.util.concatenate(
        [trimesh.creation.box((0.3, 0.6, 0.2)).subdivide().subdivide().subdivide()]
        + [trimesh.creation.cylinder(0.05, segment=[(s * 0.15, 0.2, 0), (s * 0.8, 0.2, 0)]).subdivide() for s in (1, -1)]
    )
    joints = [
        Joint("root", "root", None, Side.CENTRE, (0, -0.3, 0)), Joint("body", "body", "root", Side.CENTRE, (0, -0.2, 0)),
        *(Joint(f"arm{s}", f"arm{s}", "body", side, (s * 0.17, 0.2, 0), tail=(s * 0.8, 0.2, 0))
          for s, side in ((1, Side.LEFT), (-1, Side.RIGHT))),
    ]  # fmt: skip
    mesh = as_mesh(made)
    weights = METHODS[BindMethod.SEGMENT](mesh, Skeleton(tuple(joints)), body_solid([mesh]))
    assert weights.column("arm1")[mesh.points[:, 0] > 0.3].min() > 0.95


def hand_by_the_thigh():
    """Arms hanging, the thumb turned toward the thigh and two cells of the solid off it, all of it one skin."""
    down = 1.48
    made, at = human(down=down)
    pieces, places = [made], {}
    for side, mark in ((1, "l"), (-1, "r")):
        flip, arm = np.array([side, 1, 1]), np.array([side * np.cos(down), -np.sin(down), 0])
        wrist = at["wrist"] * flip
        base = wrist + 0.05 * arm
        tip = base + 0.05 * arm + [-0.04 * side, 0, 0]
        pieces.append(trimesh.creation.capsule(radius=0.01, height=float(np.linalg.norm(tip - base))))
        pieces[-1].apply_transform(trimesh.geometry.align_vectors([0, 0, 1], tip - base))
        pieces[-1].apply_translation(base)
        places |= {f"{mark}_thumb_base": base, f"{mark}_thumb_tip": tip, f"{mark}_palm": wrist + 0.09 * arm}
        places |= {f"{mark}_{j}": at[j] * flip for j in ("shoulder", "elbow", "wrist", "hip", "knee", "ankle")}
        places[f"{mark}_clavicle"] = np.array([0.02 * side, 1.43, -0.01])
    places |= {"hips": (0, 0.98, -0.01), "waist": (0, 1.1, -0.01), "chest": (0, 1.25, -0.02), "neck": at["neck"]}
    document = edits.stand_up(document_of(one_skin(trimesh.util.concatenate(pieces), 0.008)), keep_size=True)
    way = np.array(document.character.standing.file_to_character).reshape(4, 4)
    pegs = edits.find_pegs(document, fingers=2)
    placed = {n: tuple(float(v) for v in way[:3, :3] @ np.array(p) + way[:3, 3]) for n, p in places.items()}
    return edits.build_joints(edits.set_pegs(document, place_pegs(pegs, placed)))


def test_a_hand_held_by_the_thigh_holds_nothing_of_it():
    bound = edits.bind(hand_by_the_thigh()).character
    points, weights = bound.parts[0].mesh.points, bound.skin.weights["part0"]
    hip, knee = (np.array(bound.skeleton.joint(f"leg.l.{j}").position) for j in ("upper", "lower"))
    share = np.clip((points - hip) @ (knee - hip) / ((knee - hip) @ (knee - hip)), 0, 1)
    thigh = (np.linalg.norm(points - hip - share[:, None] * (knee - hip), axis=1) < 0.088) & (share > 0.05) & (share < 0.95)
    assert thigh.sum() > 1000
    for joint in weights.joint_ids:
        if joint.startswith(("hand.", "arm.")):
            assert weights.column(joint)[thigh].max() < 0.005, joint
    hand = np.linalg.norm(points - bound.skeleton.joint("arm.l.end").position, axis=1) < 0.04
    legs = sum(weights.column(j) for j in weights.joint_ids if j.startswith("leg."))
    assert legs[hand].max() < 0.005


def test_what_is_held_close_is_as_far_as_the_skin_leads():
    """Two tubes of one bent skin, a little apart: along the skin the one is far from the other."""
    bend = np.linspace(0, np.pi, 24)
    line = [(0.0, 0.0, z) for z in np.linspace(1.0, 0.1, 30)] + [(0.06 - 0.06 * np.cos(b), 0.0, 0.1 - 0.06 * np.sin(b)) for b in bend[1:]]
    line += [(0.12, 0.0, z) for z in np.linspace(0.12, 1.0, 30)]
    line = np.array(line)
    ring = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    tangent = np.gradient(line, axis=0)
    tangent /= np.linalg.norm(tangent, axis=1, keepdims=True)
    across = np.array([0.0, 1.0, 0.0])
    points = [p + 0.045 * (np.cos(a) * across + np.sin(a) * np.cross(t, across)) for p, t in zip(line, tangent, strict=True) for a in ring]
    faces = [[i * 12 + k, i * 12 + (k + 1) % 12, (i + 1) * 12 + (k + 1) % 12, (i + 1) * 12 + k] for i in range(len(line) - 1) for k in range(12)]
    mesh = from_faces(points, faces)
    joints = [Joint("root", "root", None, Side.CENTRE, (0.06, 0, 0.0)), Joint("l", "l_1", "root", Side.LEFT, (0.12, 0, 0.1), tail=(0.12, 0, 1.0)), Joint("r", "r_1", "root", Side.RIGHT, (0, 0, 0.1), tail=(0, 0, 1.0))]
    skeleton = Skeleton(tuple(joints))
    tree = Tree(skeleton, [0, 1, 2])
    straight = np.stack([np.linalg.norm(mesh.points - [0.06, 0, 0], axis=1), np.hypot(mesh.points[:, 0] - 0.12, mesh.points[:, 1]), np.hypot(mesh.points[:, 0], mesh.points[:, 1])], axis=1)
    apart = held_apart(mesh, straight, np.array([0.05, 0.045, 0.045]), np.zeros(len(straight)), tree)
    far = (mesh.points[:, 2] > 0.6) & (mesh.points[:, 0] < 0.05)
    assert straight[far, 1].max() < 0.17 and apart[far, 1].min() > 0.3
    np.testing.assert_array_equal(apart[far, 2], straight[far, 2])
    near = mesh.points[:, 2] < 0.06
    np.testing.assert_allclose(apart[near], straight[near])


def test_a_bind_can_be_given_up_at_every_one_of_its_steps():
    mesh = tube(rows=30)
    skeleton = chain(*((x, 0, 0) for x in np.linspace(0, 1, 12)))
    asked = []

    def give_up(share, text, at):
        asked.append(share)
        if len(asked) > at:
            raise Cancelled

    def bind(at):
        asked.clear()
        METHODS[BindMethod.SEGMENT](mesh, skeleton, body_solid([mesh]), progress=partial(give_up, at=at))

    bind(10**6)
    told = [share for share in asked if share >= 0]
    assert told == sorted(told) and told[-1] == 1.0
    # Two joints at a time, a chain, a pass: no step of the work is much longer than another.
    steps = len(asked)
    assert steps > len(skeleton.joints) / 2 + 20
    for at in range(0, steps, 5):
        with pytest.raises(Cancelled):
            bind(at)
        assert len(asked) == at + 1


def test_a_finer_inside_tells_apart_what_lies_closer():
    """Two rods 16 mm apart on a body 2 m tall: cells of 18 mm see one lump, cells of 8 mm two."""
    pieces = [trimesh.creation.box([0.05, 2.0, 0.05]) for _ in range(2)]
    for side, piece in zip((1, -1), pieces, strict=True):
        piece.apply_translation([side * 0.033, 1.0, 0.0])
    mesh = as_mesh(trimesh.util.concatenate(pieces))
    lumps = [int(ndimage.label(body_solid([mesh], detail=detail).filled)[1]) for detail in (1.0, 2.4)]
    assert lumps == [1, 2]
