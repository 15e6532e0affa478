"""Compile every compiled kernel once, so that no first use waits. The result is cached on disk."""

from __future__ import annotations

import numpy as np

from pegloom.core.curves.kernel import straight_keys
from pegloom.core.geometry.mend import inward_faces
from pegloom.core.geometry.mesh import from_faces
from pegloom.core.geometry.solid import make_solid, sight_inside
from pegloom.core.motion.retarget.live import LiveCarry
from pegloom.core.rig.by_skin import Grab
from pegloom.core.rig.cone import planes_kept
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.core.rig.limits import JointLimit
from pegloom.core.rig.match import fk_values, ik_values
from pegloom.core.rig.pose import Pose
from pegloom.core.rig.recipe import KitRig, KitSolver, build_rig
from pegloom.core.rig.recipe.fit import fit_shapes
from pegloom.core.skeleton.build import build_joints, kits_in
from pegloom.core.skeleton.find.shape import persistence
from pegloom.core.skeleton.human import peg_names
from pegloom.core.skeleton.patterns import free_pegs, shipped_patterns
from pegloom.core.skeleton.pegs import Peg, PegSet
from pegloom.core.skin.bake import bake_weights
from pegloom.core.skin.bind.distances import way_out
from pegloom.core.skin.bind.easing import opening
from pegloom.core.skin.crossing import crossing_faces
from pegloom.core.skin.deform import add_normals, skin_linear
from pegloom.core.skin.dual import skin_dual
from pegloom.core.skin.flesh.elastic import compiled
from pegloom.core.skin.relax import Relax, relaxed
from pegloom.core.skin.weights import Packed, from_dense, limited_rows
from pegloom.core.skin.weights import packed as packed_rows


def warm() -> None:
    """Run each kernel on a toy."""
    surfaces()
    rigs()


def surfaces() -> None:
    """Those of meshes, solids and skins."""
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
    triangles = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    solid = make_solid(points, triangles, cell=0.2)
    sight_inside(solid.filled, solid.origin, solid.cell, points, points)
    way_out(solid.filled, solid.origin, solid.cell, points, points, 0.1)
    persistence(np.array([0, 1, 2], dtype=np.int32), np.array([1, 0], dtype=np.int32), np.zeros(2), np.array([0, 1]))
    packed = Packed(np.zeros((4, 1), dtype=np.int32), np.ones((4, 1)))
    skin_linear(points, packed, np.eye(4)[None])
    skin_dual(points, packed, np.eye(4)[None], np.ones(4))
    mesh = from_faces(points, triangles)
    relaxed(mesh, Relax(2), points)
    start = from_dense(np.ones((4, 1)), ("a",))
    packed_rows(start)
    bake_weights(mesh, start, [(np.eye(4)[None], points)], 1, influences=1)
    compiled()
    inward_faces(mesh)
    crossing_faces(points, triangles)
    limited_rows(np.ones((2, 3)), 2)
    straight_keys(np.arange(3.0), np.array([0.0, 1.0, 0.0]), 0.1)
    opening(np.ones((4, 1)), points, points[:1], triangles[:, :2])
    add_normals(points, triangles, np.arange(4), np.zeros((4, 3)))


def rigs() -> None:
    """Those of skeletons and controls."""
    points = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])
    triangles = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])
    places = {name: (0.1 * i, 1.0 + 0.01 * i * i, 0.02 * i) for i, name in enumerate(peg_names(0))}
    pegs = PegSet("human", 0, tuple(Peg(n, p) for n, p in places.items()))
    skeleton = build_joints(pegs)
    rig = build_rig(skeleton, 1.7, kits_in(pegs))
    evaluate_rig(skeleton, rig, Pose())
    fit_shapes(rig, skeleton, points, triangles, 1.7)
    hand = skeleton.joints[-1]
    Grab(skeleton, rig, Pose(), hand.id, np.array(hand.position)).led_to(np.array(hand.position) + 0.1)
    solvers()
    # A person who plays themselves and sinks into the ground.
    carry = LiveCarry(skeleton, skeleton, limits=(JointLimit(hand.id, (-1.0, -1.0, -1.0), (1.0, 1.0, 1.0)),))
    sunk = np.eye(4)
    sunk[1, 3] = -0.05
    for k in range(3):
        carry.pose(sunk @ skeleton.world, k / 60)


def solvers() -> None:
    """Each kind of solver packed, run and matched once, on an animal."""
    pegs = free_pegs(shipped_patterns()["four-legged"])
    skeleton = build_joints(pegs)
    recipe = {"tail": KitRig(KitSolver.CURVE), "spine": KitRig(KitSolver.CHAIN)}
    rig = build_rig(skeleton, 1.0, pegs.kits, recipe)
    pose = Pose({solver.amount: 1.0 for solver in rig.solvers})
    evaluate_rig(skeleton, rig, pose)
    planes_kept(skeleton, rig, pose, pose)
    values = rig.slots.vector(pose)[None]
    for solver in rig.solvers:
        ik_values(skeleton, rig, values, solver)
        fk_values(skeleton, rig, values, solver)
