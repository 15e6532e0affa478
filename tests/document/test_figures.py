"""Several characters in one document: placed, carried, handed on, played on one time, delivered together without a name twice."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from pegloom.core.errors import EditError, ProjectFileError
from pegloom.core.motion.together import Figure, Stance, Stand, stance_of
from pegloom.document import edits
from pegloom.document.edits.for_two import _hand_numbers
from pegloom.document.model import Document
from pegloom.document.world import frame_in, joints_in, plain_prefix, played_in, prefixes, scene_length, world_of
from pegloom.files.gltf_together import on_common_time, write_glb_together
from pegloom.files.project import open_project, save_project
from pegloom.files.shelf import Shelf
from pegloom.files.writing import write_together
from pegloom.scene.camera import Camera, placed_by
from tests.support.figures import rigged_capsules, shipped, wick
from tests.support.outside import Outside


@pytest.fixture(scope="module")
def three() -> Document:
    """Two characters of one name and a winch; the second is tilted, larger, and carried from 1 s on."""
    document, _ = edits.add_figures(wick(), rigged_capsules().characters)
    document = edits.rename_character(document, document.require_character().id, "Wick")
    document, (winch,) = edits.add_figures(document, shipped("winch").characters)
    one, two, _ = document.characters
    document = edits.play_figure(document, one.id, one.clips[0].id, start=0.5)
    document = edits.place_figure(document, one.id, at=(0.4, 0.0, -1.0), heading=0.6)
    tilted = Stance((2.0, 0.3, 0.2), tuple(Rotation.from_euler("xyz", [0.4, 0.2, -0.3]).as_quat().tolist()), 1.3)
    document = edits.stand_figure(document, two.id, tilted)
    document = edits.carry_figure(document, two.id, one.id, "arm.l.end", time=1.0)
    return edits.carry_figure(document, two.id, winch, time=2.5)


def test_who_comes_in_stands_beside_and_keeps_what_it_has():
    document, made = edits.add_figures(wick(), [*wick().characters, *shipped("harl").characters])
    ids, names = [c.id for c in document.characters], [c.name for c in document.characters]
    assert len(set(ids)) == 3 and len(set(names)) == 3 and made == tuple(ids[1:])
    assert document.require_character().id == made[0]
    spans = [frame_in(c, 0.0).points for c in document.characters]
    worlds = world_of(document, 0.0)
    sides = [np.concatenate(list(p.values()))[:, 0] + worlds[c.id][0, 3] for c, p in zip(document.characters, spans, strict=True)]
    assert sides[1].min() > sides[0].max() and sides[2].min() > sides[0].max()
    assert document.characters[1].parts == wick().require_character().parts
    with pytest.raises(EditError, match="at most"):
        edits.add_figures(document, [wick().require_character()] * 14)


def test_being_taken_up_and_set_down_moves_nothing_and_what_carries_takes_it_along(three):
    two = three.characters[1].id
    for time in (1.0, 2.5):
        before, after = world_of(three, time - 1e-7)[two], world_of(three, time)[two]
        assert np.abs(before - after).max() < 1e-4, time
    hand = three.characters[0].skeleton.index["arm.l.end"]
    offsets = []
    for time in (1.0, 1.7, 2.4):
        worlds = world_of(three, time)
        joint = worlds[three.characters[0].id] @ joints_in(three.characters[0], time)[hand]
        offsets.append(np.linalg.inv(joint) @ worlds[two])
    assert np.abs(offsets[0] - offsets[1]).max() < 1e-9 and np.abs(offsets[0] - offsets[2]).max() < 1e-9
    assert np.linalg.norm(world_of(three, 2.4)[two][:3, 3] - world_of(three, 1.0)[two][:3, 3]) > 0.02, "the hand moves"
    down = edits.set_down(three, two, time=2.0)
    assert np.allclose(world_of(down, 2.2)[two], world_of(three, 2.0)[two], atol=1e-9)


def test_nobody_carries_who_carries_them_and_what_makes_no_sense_is_refused(three):
    one, two, winch = (c.id for c in three.characters)
    with pytest.raises(EditError, match="neither can carry"):
        edits.carry_figure(three, one, two)
    with pytest.raises(EditError, match="itself"):
        edits.carry_figure(three, one, one)
    with pytest.raises(EditError, match="no joint"):
        edits.carry_figure(three, winch, one, "seventh arm")
    for bad in (0.0, -1.0, 1e9, np.nan):
        with pytest.raises(EditError, match="factor"):
            edits.place_figure(three, one, scale=bad)
    with pytest.raises(EditError, match="three numbers"):
        edits.place_figure(three, one, at=(np.nan, 0.0, 0.0))
    with pytest.raises(EditError, match="stays"):
        edits.drop_stand(three, two, 0)


def test_what_was_carried_by_one_who_leaves_stays_where_it_was(three):
    one, two, _ = (c.id for c in three.characters)
    left = edits.drop_character(three, one)
    assert [c.id for c in left.characters] == [c.id for c in three.characters[1:]]
    assert np.allclose(world_of(left, 1.5)[two], world_of(three, 1.0)[two], atol=1e-6)
    # The one in hand stays in hand.
    assert left.require_character().id == three.require_character().id
    # A circle in a file does no harm.
    looped = replace(three, characters=tuple(replace(c, figure=Figure(stands=(Stand(0.0, other),))) for c, other in zip(three.characters, (two, one, one), strict=True)))
    assert len(world_of(looped, 0.0)) == 3


def test_a_moment_stays_between_its_neighbours(three):
    two = three.characters[1].id
    late = edits.time_stand(three, two, 1, 9.0)
    starts = [s.start for s in late.characters[1].figure.stands]
    assert starts == sorted(starts) and 2.49 < starts[1] < 2.5
    gone = edits.drop_stand(three, two, 1)
    assert [s.start for s in gone.characters[1].figure.stands] == [0.0, 2.5]


def test_clips_begin_on_the_common_time_and_go_round(three):
    one = three.characters[0]
    clip = one.clips[0]
    assert scene_length(three) == pytest.approx(0.5 + clip.length)
    from pegloom.core.motion.clips import sample

    for time, own in ((0.0, 0.0), (0.5, 0.0), (1.3, 0.8), (99.0, clip.length)):
        assert played_in(one, time)[0].values == sample(clip, own, one.skeleton, one.pose, one.rig).values
    again = edits.play_figure(three, one.id, clip.id, start=0.5, loops=True).characters[0]
    assert again.figure.own_time(0.5 + 2.25 * clip.length, clip.length) == pytest.approx(0.25 * clip.length)


@given(st.lists(st.text(alphabet="abé_ -,9", max_size=5), min_size=2, max_size=6))
def test_no_two_names_meet_whatever_they_are_called(names):
    document = Document(tuple(replace(wick().require_character(), id=f"c{k}", name=n) for k, n in enumerate(names)))
    told = list(prefixes(document).values())
    for k, a in enumerate(told):
        assert a == plain_prefix(a) and a.isascii()
        assert not any(b.startswith(a) for j, b in enumerate(told) if j != k)


def test_a_document_of_several_is_saved_and_read_back_and_a_wrong_one_refused(three, tmp_path):
    save_project(tmp_path / "a.pegloom", three)
    back = open_project(tmp_path / "a.pegloom")
    assert [c.figure for c in back.characters] == [c.figure for c in three.characters]
    assert back.active == three.active
    for stands in ((), (Stand(1.0), Stand(0.5)), (Stand(0.0, stance=Stance(scale=0.0)),), (Stand(0.0, stance=Stance(turn=(0.0, 0.0, 0.0, 0.0))),)):
        one = replace(three.characters[0], figure=Figure(stands=stands))
        save_project(tmp_path / "b.pegloom", replace(three, characters=(one, *three.characters[1:])))
        with pytest.raises(ProjectFileError):
            open_project(tmp_path / "b.pegloom")


# Delivered together


@pytest.fixture(scope="module")
def together(three, tmp_path_factory):
    path = tmp_path_factory.mktemp("glb") / "all.glb"
    write_glb_together(path, three)
    return Outside(path)


def test_no_name_is_twice_in_a_file_of_several(three, together):
    for things in (together.gltf.nodes, together.gltf.meshes, together.gltf.materials, together.gltf.animations, together.gltf.skins, together.gltf.images):
        counts = Counter(one.name for one in things)
        assert counts and max(counts.values()) == 1, counts.most_common(2)
    told = prefixes(three)
    assert all(node.name.startswith(tuple(told.values())) for node in together.gltf.nodes)
    assert len(together.gltf.skins) == 3


def test_other_code_sees_every_figure_where_it_stands_at_every_moment(three, together):
    told = prefixes(three)
    scene = next(k for k, a in enumerate(together.gltf.animations) if a.name == "all figures")
    for time in (0.0, 0.5, 0.93, 1.0, 1.55, 2.31, 2.5, 2.9, 4.2):
        worlds = world_of(three, time)
        for character in three.characters:
            frame = frame_in(character, time)
            part = character.included[0]
            if character.skin is None or part.id not in character.skin.weights:
                continue
            seen = together.skinned(f"{told[character.id]}{part.name}", time, scene)
            matrix = worlds[character.id]
            wanted = frame.points[part.id] @ matrix[:3, :3].T + matrix[:3, 3]
            far, _ = cKDTree(wanted).query(seen)
            assert far.max() < 2e-3 * character.height, (character.name, time, far.max())


def test_other_formats_take_all_of_them_too(three, tmp_path):
    import trimesh
    from pxr import Usd, UsdSkel

    write_together(tmp_path / "a.obj", three)
    scene = trimesh.load(tmp_path / "a.obj", process=False)
    worlds = world_of(three, 0.0)
    rest = np.concatenate([c.all_points() @ worlds[c.id][:3, :3].T + worlds[c.id][:3, 3] for c in three.characters])
    assert np.allclose(np.array(scene.bounds), [rest.min(axis=0), rest.max(axis=0)], atol=1e-4)
    write_together(tmp_path / "a.usda", three)
    stage = Usd.Stage.Open(str(tmp_path / "a.usda"))
    names = [n for prim in stage.Traverse() if prim.IsA(UsdSkel.Skeleton) for n in UsdSkel.Skeleton(prim).GetJointNamesAttr().Get()]
    assert len(names) == sum(len(c.skeleton.joints) for c in three.characters) == len(set(names))


def test_hidden_figures_stay_at_home(three, tmp_path):
    some = edits.show_figure(three, three.characters[1].id, False)
    write_glb_together(tmp_path / "a.glb", some)
    assert len(Outside(tmp_path / "a.glb").gltf.skins) == 2
    none = some
    for one in some.characters:
        none = edits.show_figure(none, one.id, False)
    with pytest.raises(EditError, match="no character is shown"):
        write_glb_together(tmp_path / "b.glb", none)
    assert not (tmp_path / "b.glb").exists()


@given(st.floats(-3.0, 3.0), st.booleans(), st.floats(0.5, 4.0))
def test_samples_on_the_common_time_are_those_of_the_clip(start, loops, total):
    times = np.linspace(0.0, 1.2, 13)
    values = np.stack([np.sin(3 * times), times], axis=1)
    figure = Figure(start=start, loops=loops)
    told, rows = on_common_time(times, values, figure, 1.2, total)
    assert told[0] >= 0.0 and told[-1] <= total + 1e-9 and (np.diff(told) > 0).all()
    for time in np.linspace(0.0, total, 23):
        own = figure.own_time(float(time), 1.2)
        if loops and min(own, 1.2 - own) < 1e-3:
            continue
        wanted = [np.interp(own, times, values[:, k]) for k in range(2)]
        seen = [np.interp(time, told, rows[:, k]) for k in range(2)]
        assert np.allclose(wanted, seen, atol=2e-3)


# Clips for two


@pytest.mark.parametrize(("first", "touch"), [("hand_over_give", 0.25), ("shake_hands_one", 0.3), ("carry_together_front", None)])
def test_clips_for_two_play_on_two_of_unlike_size(first, touch):
    shelf = Shelf()
    document, other = edits.duplicate_character(wick())
    document = edits.place_figure(document, other, scale=0.85)
    one = document.characters[0].id
    document = edits.place_figure(edits.take_character(document, one), one, at=(3.0, 0.0, 1.0), heading=2.0)
    cards = (shelf.card(first), shelf.card(shelf.card(first).partner))
    document, lent = edits.take_for_two(document, cards, tuple(shelf.source(c.id) for c in cards), (one, other))
    assert document.require_character().id == one
    a, b = document.characters
    assert (a.figure.clip, b.figure.clip) == (lent[0].clip, lent[1].clip)
    assert a.figure.stands[0].stance.at == (3.0, 0.0, 1.0) and b.figure.stands[0].stance.scale == pytest.approx(0.85)
    nearest = np.inf
    for time in np.linspace(0.0, cards[0].seconds, 40).tolist():
        worlds = world_of(document, time)
        hands = [[(worlds[c.id] @ joints_in(c, time)[k])[:3, 3] for k in _hand_numbers(c.skeleton).values()] for c in (a, b)]
        nearest = min(nearest, *(float(np.linalg.norm(p - q)) for p in hands[0] for q in hands[1]))
    assert touch is None or nearest < touch
    with pytest.raises(EditError, match="two characters"):
        edits.take_for_two(document, cards, tuple(shelf.source(c.id) for c in cards), (one, one))


# The view


@given(st.floats(-2.0, 2.0), st.floats(-3.1, 3.1), st.floats(-1.4, 1.4), st.floats(0.1, 5.0), st.booleans())
def test_a_camera_over_a_placed_figure_shows_it_as_the_world_does(far, yaw, tilt, scale, perspective):
    matrix = Stance((far, 0.4, -far), tuple(Rotation.from_euler("yxz", [yaw, tilt, 0.3]).as_quat().tolist()), scale).matrix
    world = Camera((0.3, 0.7, -0.2), 4.0, 0.4, 0.2, perspective)
    placed = replace(world, placed=placed_by(matrix))
    points = np.array([[0.0, 0.0, 0.0], [0.2, 0.5, -0.1], [-0.3, 0.1, 0.4]])
    seen = placed.project(points, 800, 600)
    wanted = world.project(points @ matrix[:3, :3].T + matrix[:3, 3], 800, 600)
    assert np.allclose(seen[:, :2], wanted[:, :2], atol=1e-5)
    assert np.allclose(seen[:, 2] * scale, wanted[:, 2], atol=1e-6)
    ray, other = placed.ray(200, 400, 800, 600), world.ray(200, 400, 800, 600)
    start = matrix[:3, :3] @ ray.origin + matrix[:3, 3]
    assert np.allclose(np.cross(matrix[:3, :3] @ ray.direction / scale, other.direction), 0.0, atol=1e-6)
    assert np.allclose(np.cross(start - other.origin, other.direction), 0.0, atol=1e-5)
    for moved in (placed.orbit(12, 7), placed.pan(5, 3, 600), placed.zoom(2, 100, 50, 800, 600)):
        assert moved.placed == placed.placed
    assert placed.pan(5, 3, 600).looks_at == world.pan(5, 3, 600).looks_at
    assert placed.zoom(2, 100, 50, 800, 600).looks_at == world.zoom(2, 100, 50, 800, 600).looks_at


def test_a_stance_is_what_its_matrix_tells():
    one = Stance((1.0, -2.0, 3.0), tuple(Rotation.from_euler("y", 0.7).as_quat().tolist()), 1.4)
    back = stance_of(one.matrix)
    assert np.allclose(back.matrix, one.matrix) and back.heading == pytest.approx(0.7)
