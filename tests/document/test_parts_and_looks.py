"""Parts, detail levels, materials, reference pictures, the centre line, units, starting clean."""

import io
from dataclasses import replace

import numpy as np
import pytest
import trimesh
from PIL import Image as Picture
from scipy.spatial import cKDTree

from pegloom.core.errors import EditError
from pegloom.core.geometry.mesh import from_faces, with_points
from pegloom.core.geometry.symmetry import find_plane
from pegloom.core.motion.trials import trial_pose
from pegloom.core.skin.weights import dense, most_influences, row_sums_hold
from pegloom.document import edits
from pegloom.document.evaluate import evaluate
from pegloom.document.model import Document, Image, Material, Morph, Part, PartKind, Subdivision
from pegloom.files.gltf import read_gltf
from pegloom.files.gltf_write import write_glb
from pegloom.files.project import open_project, save_project
from tests.support.figures import as_mesh, box_limb, capsule_figure, document_of, rigged_capsules, unrigged_wick, wick


def png(colour, name="dots.png"):
    held = io.BytesIO()
    Picture.new("RGB", (8, 8), colour).save(held, "PNG")
    return Image(name, "image/png", held.getvalue())


def with_coarse():
    """The bound capsules with a coarser body beside."""
    document = rigged_capsules()
    made = coarser(document.character.parts[0].mesh)
    document = edits.add_parts(document, (Part("x", "body far off", made),))
    return document, document.character.parts[-1].id


def coarser(mesh):
    """Every place pulled onto a grid of 3 cm, doubled faces dropped."""
    points = np.round(mesh.points / 0.03) * 0.03
    _, first, back = np.unique(points, axis=0, return_index=True, return_inverse=True)
    faces = back.reshape(-1)[mesh.corners].reshape(-1, 3)
    keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    return from_faces(points[first], faces[keep])


# Detail levels


def test_weights_are_passed_on_to_coarser_detail_levels():
    document, far = with_coarse()
    with pytest.raises(EditError, match="detail level"):
        edits.pass_weights_on(document)
    document = edits.set_detail(document, far, 1)
    document = edits.pass_weights_on(document)
    character = document.character
    weights = character.skin.weights[far]
    assert weights.vertex_count == character.part(far).mesh.vertex_count < character.parts[0].mesh.vertex_count
    assert row_sums_hold(weights)
    assert most_influences(weights) <= character.skin.influences
    posed = evaluate(character, trial_pose(character.skeleton, "arm_up")).points
    gap, _ = cKDTree(posed["part0"]).query(posed[far])
    assert gap.max() < 0.05, "the far body follows the near one within what the grid took"
    with pytest.raises(EditError, match="0 to 9"):
        edits.set_detail(document, far, 12)
    with pytest.raises(EditError, match="bind first"):
        edits.pass_weights_on(document_of(as_mesh(capsule_figure())))


def test_detail_and_kinds_survive_the_project(tmp_path):
    document, far = with_coarse()
    document = edits.set_part_kind(edits.set_detail(document, far, 2), far, PartKind.HARD)
    document = edits.set_subdivision(document, "part0", Subdivision.LOOP, levels=2)
    save_project(tmp_path / "a.pegloom", document)
    character = open_project(tmp_path / "a.pegloom").character
    assert (character.part(far).detail, character.part(far).kind) == (2, PartKind.HARD)
    assert (character.part("part0").smooth, character.part("part0").levels) == (Subdivision.LOOP, 2)
    with pytest.raises(EditError, match="1 to 3"):
        edits.set_subdivision(document, "part0", Subdivision.LOOP, levels=9)


def test_parts_are_renamed_taken_out_and_their_weights_go_with_them():
    document, far = with_coarse()
    with pytest.raises(EditError, match="called"):
        edits.rename_part(document, far, document.character.parts[0].name)
    with pytest.raises(EditError, match="needs a name"):
        edits.rename_part(document, far, "  ")
    document = edits.rename_part(document, far, "distant")
    assert document.character.part(far).name == "distant"
    document = edits.pass_weights_on(edits.set_detail(document, far, 1))
    document = edits.keep_vertices(document, "rim", {far: np.array([0, 1]), "part0": np.array([3])})
    gone = edits.remove_part(document, far)
    assert far not in gone.character.skin.weights
    assert set(gone.character.vertex_sets["rim"]) == {"part0"}
    assert far in document.character.skin.weights, "the step before has it still"


# Materials and pictures


def test_materials_change_within_their_range_and_reach_the_file(tmp_path):
    document = unrigged_wick()
    slot = int(document.character.parts[0].mesh.materials[0])
    red = edits.set_material(document, slot, base_colour=(0.8, 0.1, 0.1, 1.0), metallic=0.25, roughness=0.4)
    for name in ("metallic", "roughness"):
        with pytest.raises(EditError, match="from 0 to 1"):
            edits.set_material(document, slot, **{name: 1.5})
    with pytest.raises(EditError, match="no material"):
        edits.set_material(document, 99, metallic=0.0)
    with pytest.raises(EditError, match="bring it in"):
        edits.set_material(document, slot, normal_image="nowhere.png")
    bumps = png((128, 128, 255), "bumps.png")
    red = edits.set_material(edits.add_picture(red, bumps), slot, normal_image="bumps.png")
    write_glb(tmp_path / "red.glb", red.character)
    back = read_gltf(tmp_path / "red.glb")
    made = next(m for m in back.materials if abs(m.metallic - 0.25) < 1e-6)
    assert made.base_colour == pytest.approx((0.8, 0.1, 0.1, 1.0), abs=1e-6)
    assert made.roughness == pytest.approx(0.4)
    assert next(i for i in back.images if i.name == made.normal_image).data == bumps.data


def test_a_material_is_copied_onto_another_but_keeps_its_name():
    document = document_of(as_mesh(capsule_figure()))
    character = document.character
    document = document.with_character(
        replace(character, materials=(Material("dull"), Material("bright", metallic=1.0, roughness=0.1)))
    )
    copied = edits.copy_material(document, 1, 0).character.materials
    assert (copied[0].name, copied[0].metallic, copied[0].roughness) == ("dull", 1.0, 0.1)
    with pytest.raises(EditError, match="no such material"):
        edits.copy_material(document, 0, 7)


def test_a_look_of_another_character_comes_with_its_pictures_under_names_of_their_own():
    document = edits.add_picture(unrigged_wick(), png("red", "skin.png"))
    slot = int(document.character.parts[0].mesh.materials[0])
    name = document.character.materials[slot].name
    like = Material("hide", (0.5, 0.4, 0.3, 1.0), 0.1, 0.9, base_image="skin.png", normal_image="bumps.png")
    theirs = (png("brown", "skin.png"), png((128, 128, 255), "bumps.png"), png("white", "unused.png"))
    taken = edits.take_material(document, slot, like, theirs).character
    made = taken.materials[slot]
    assert (made.name, made.metallic, made.roughness) == (name, 0.1, 0.9)
    held = {i.name: i.data for i in taken.images}
    assert made.base_image == "skin 2.png"
    assert held["skin 2.png"] == theirs[0].data
    assert held["skin.png"] == png("red", "skin.png").data, "ours stays"
    assert held[made.normal_image] == theirs[1].data
    assert "unused.png" not in held
    again = edits.take_material(document.with_character(taken), slot, like, theirs).character
    assert len(again.images) == len(taken.images), "the same picture comes in once"
    with pytest.raises(EditError, match="not in its file"):
        edits.take_material(document, slot, like, ())


def test_a_picture_of_the_same_name_takes_the_place_of_the_old_one():
    document = edits.add_picture(edits.add_picture(unrigged_wick(), png("red")), png("blue"))
    held = [i for i in document.character.images if i.name == "dots.png"]
    assert len(held) == 1
    assert held[0].data == png("blue").data


def test_reference_pictures_are_placed_changed_kept_and_never_delivered(tmp_path):
    document = edits.add_reference(unrigged_wick(), png("green", "front.png"))
    document = edits.add_reference(document, png("grey", "side.png"), along="x")
    made = document.character.references
    assert [r.along for r in made] == ["z", "x"]
    assert made[0].height == pytest.approx(document.character.height)
    document = edits.change_reference(document, 1, alpha=0.3, height=2.5)
    save_project(tmp_path / "r.pegloom", document)
    kept = open_project(tmp_path / "r.pegloom").character.references
    assert (kept[1].alpha, kept[1].height, kept[1].image.data) == (0.3, 2.5, png("grey", "side.png").data)
    write_glb(tmp_path / "r.glb", document.character)
    names = {i.name for i in read_gltf(tmp_path / "r.glb").images}
    assert not names & {"front.png", "side.png"}
    assert len(edits.remove_reference(document, 0).character.references) == 1
    with pytest.raises(EditError, match="x, y or z"):
        edits.add_reference(document, png("red"), along="w")
    with pytest.raises(EditError, match="no reference"):
        edits.change_reference(document, 5, alpha=1.0)


# Standing, halves, units


@pytest.mark.parametrize(("factor", "unit"), [(1.0, "metres"), (100.0, "centimetres"), (39.37, "inches")])
def test_units_are_offered_the_likeliest_first(factor, unit):
    made = capsule_figure()
    made.apply_scale(factor)
    guesses = edits.unit_guesses(document_of(as_mesh(made)))
    assert guesses[0][0] == unit
    assert guesses[0][1] == pytest.approx(1.75, rel=0.05)
    stood = edits.stand_up(document_of(as_mesh(made)), height=guesses[0][1])
    assert edits.unit_guesses(stood)[0][0] == unit, "read from the file's own size, not from the present one"


def test_the_centre_line_moves_and_evenness_follows():
    made = capsule_figure()
    document = edits.stand_up(document_of(as_mesh(made)))
    share, mean, worst = edits.evenness(document)
    assert share > 0.95
    assert worst < 1e-3
    aside = edits.set_middle(document, 0.05)
    assert aside.character.standing.middle == 0.05
    assert aside.character.standing.symmetry < document.character.standing.symmetry
    assert edits.evenness(aside)[0] < share
    with pytest.raises(EditError, match="stand the mesh up"):
        edits.set_middle(document_of(as_mesh(made)), 0.0)
    assert mean <= worst


def test_evening_out_brings_partners_to_mirrored_places_and_leaves_the_rest():
    mesh = as_mesh(capsule_figure())
    rng = np.random.default_rng(2)
    bumped = with_points(mesh, mesh.points + rng.normal(size=mesh.points.shape) * 0.0008)
    document = edits.stand_up(document_of(bumped), keep_size=True)
    before = edits.evenness(document)
    half, whole = edits.even_out(document, amount=0.5), edits.even_out(document)
    assert edits.evenness(whole)[1] < 0.1 * before[1]
    assert edits.evenness(whole)[1] < edits.evenness(half)[1] < before[1]
    plane = find_plane(whole.character.all_points(), 0)
    assert plane.score >= find_plane(document.character.all_points(), 0).score
    with pytest.raises(EditError, match="0 to 1"):
        edits.even_out(document, amount=2.0)


# Starting clean, morphs


def test_starting_clean_drops_what_is_named_and_keeps_the_mesh():
    document = wick()
    assert document.character.rig is not None
    no_controls = edits.start_clean(document, skeleton=False, weights=False, clips=False).character
    assert no_controls.rig is None
    assert no_controls.skin is document.character.skin
    assert no_controls.skeleton is document.character.skeleton
    no_weights = edits.start_clean(document, skeleton=False, controls=False, clips=False).character
    assert no_weights.skin is None
    assert no_weights.rig is not None
    bare = edits.start_clean(document).character
    assert (bare.skeleton, bare.skin, bare.rig, bare.clips, bare.pegs) == (None, None, None, (), None)
    for one, other in zip(bare.parts, document.character.parts, strict=True):
        assert one.mesh is other.mesh
    again = edits.build_joints(edits.set_pegs(document.with_character(bare), document.character.pegs))
    assert len(again.character.skeleton.joints) == len(document.character.skeleton.joints)


def test_morphs_are_joined_split_turned_and_dropped_with_their_parts():
    mesh = box_limb()
    up = np.zeros_like(mesh.points)
    up[:, 1] = 0.1
    one = Part("a", "one", mesh, morphs=(Morph("lift", up),))
    other = Part("b", "other", with_points(mesh, mesh.points + [0, 0, 1.0]))
    document = edits.bring_in(Document(), (one, other), name="pair")
    ids = tuple(p.id for p in document.character.parts)
    whole = edits.join_parts(document, ids)
    lifted = whole.character.parts[0].morphs[0].deltas
    assert np.array_equal(lifted[: mesh.vertex_count], up)
    assert not lifted[mesh.vertex_count :].any()
    parted = edits.split_part(whole, whole.character.parts[0].id)
    assert [float(p.morphs[0].deltas[:, 1].max()) for p in parted.character.parts] == [0.1, 0.0]
    turned = edits.stand_up(whole, height=2.0)
    matrix = np.array(turned.character.standing.file_to_character).reshape(4, 4)
    assert np.allclose(turned.character.parts[0].morphs[0].deltas, lifted @ matrix[:3, :3].T)
    bare = edits.start_clean(whole, morphs=True)
    assert not bare.character.parts[0].morphs
    with pytest.raises(EditError, match="two parts"):
        edits.join_parts(document, ids[:1])
    with pytest.raises(EditError, match="nothing to split"):
        edits.split_part(document, ids[0])


def test_what_is_joined_and_split_keeps_its_weights():
    document = wick()
    ids = tuple(p.id for p in document.character.parts)
    joined = edits.join_parts(document, ids[:2])
    first = dense(joined.character.skin.weights[ids[0]])
    before = [dense(document.character.skin.weights[i]) for i in ids[:2]]
    columns = joined.character.skin.weights[ids[0]].joint_ids
    for rows, weights, start in ((before[0], ids[0], 0), (before[1], ids[1], len(before[0]))):
        own = document.character.skin.weights[weights].joint_ids
        here = first[start : start + len(rows)][:, [columns.index(j) for j in own]]
        assert np.allclose(here, rows, atol=1e-12)


def test_clothes_added_to_a_stood_up_body_stand_as_it_does():
    made = capsule_figure()
    made.apply_scale(100.0)
    made.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    document = edits.stand_up(document_of(as_mesh(made)))
    again = edits.add_parts(document, (Part("x", "shirt", as_mesh(made)),))
    body, shirt = again.character.parts
    assert np.allclose(body.mesh.points, shirt.mesh.points)
    assert body.id != shirt.id
