"""Motion of other bodies as figures of their own: where they stand, that they go out with the others, and what they lend."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from tools.takes import Build, Style, perform, walk

from pegloom.core.errors import EditError
from pegloom.core.motion.retarget.bare import size_of
from pegloom.document import edits
from pegloom.document.world import frame_in, seen_in
from pegloom.files.figures import read_figures
from pegloom.files.project import open_project, save_project
from pegloom.files.shelf import Shelf
from pegloom.files.writing import write_any, write_together
from tests.support.figures import shipped, wick
from tests.support.outside import Outside

STYLES = {
    "centimetres": Style(),
    "metres, lying": Style(rest="A", up="z", unit=1.0, facing=1.1, names="short"),
    "no body at rest": Style(rest="stick", unit=0.01, names="none"),
}


@pytest.fixture(scope="module", params=STYLES)
def performed(request, tmp_path_factory):
    """A performer's file, and where its joints truly are (k, j, 3)."""
    take = perform(Build(), walk(Build(), turn=0.4), seconds=1.0, rate=30.0, style=STYLES[request.param])
    path = tmp_path_factory.mktemp("performed") / "ferry_crossing.bvh"
    path.write_text(take.bvh())
    return path, take


def nodes_at(path, time, clip):
    """Places of all nodes by name, by other code."""
    told = Outside(path)
    parents = {child: i for i, node in enumerate(told.gltf.nodes) for child in node.children or ()}
    found = {}
    for number, node in enumerate(told.gltf.nodes):
        matrix, here = np.eye(4), number
        while here is not None:
            matrix = told.node_local(here, time, clip) @ matrix
            here = parents.get(here)
        found[node.name] = matrix[:3, 3]
    return found


def test_it_stands_upright_in_metres_and_moves_as_it_was_performed(performed, tmp_path):
    path, take = performed
    (figure,) = read_figures(path)
    assert figure.bare and figure.figure.clip == figure.clips[0].id
    document, (made,) = edits.add_figures(wick(), [figure])
    document = edits.place_figure(document, made, at=(0.0, 0.0, 0.0))
    for one in document.characters:
        document = edits.show_figure(document, one.id, one.id == made)
    write_together(tmp_path / "a.glb", document)
    clip = [a.name for a in Outside(tmp_path / "a.glb").gltf.animations].index("all figures")
    told, true = [], []
    for k in (0, 7, 19, 30):
        places = nodes_at(tmp_path / "a.glb", k / 30.0, clip)
        told.append([next(v for n, v in places.items() if n.endswith(f"_{name}")) for name in take.names])
        true.append(take.truth[k])
    told, true = np.concatenate(told), np.concatenate(true)
    # Both stand upright; which way the file faced and where its first frame was is its own.
    turn, _ = Rotation.align_vectors(told - told.mean(axis=0), true - true.mean(axis=0))
    assert np.allclose(turn.apply([0.0, 1.0, 0.0]), [0.0, 1.0, 0.0], atol=1e-3)
    assert np.abs(turn.apply(true - true.mean(axis=0)) - (told - told.mean(axis=0))).max() < 1e-3
    assert abs(told[:, 1].min() - true[:, 1].min()) < 0.02, "its floor is the world's"


def test_a_source_stands_beside_stays_a_source_and_is_one_of_the_figures(tmp_path):
    document, (source,) = edits.add_sources(wick(), [Shelf().source("walk")])
    document, made = edits.stand_source(document, source)
    own, other = document.characters
    assert document.require_character() is own and other.id == made and own.sources[0].id == source
    assert other.figure.stands[0].stance.at[0] > 0.5, "beside, not within"
    assert [one.character.id for one in seen_in(document, 0.3)] == [own.id, made]
    document = edits.prefix_figure(edits.place_figure(document, made, at=(2.0, 0.0, 1.0), heading=0.5), made, "act")
    world = seen_in(document, 0.4)[1]
    before = frame_in(other, 0.4).joints
    assert np.allclose(world.world @ world.frame.joints, world.world @ before)
    save_project(tmp_path / "a.pegloom", document)
    back = open_project(tmp_path / "a.pegloom").characters[1]
    assert back.bare and back.prefix == "act" and np.allclose(frame_in(back, 0.4).joints, before, atol=1e-9)
    write_together(tmp_path / "a.usda", document)
    assert 'token[] joints = ["act_' in (tmp_path / "a.usda").read_text()
    hidden = edits.show_figure(document, made, False)
    assert [one.character.id for one in seen_in(hidden, 0.3)] == [own.id]
    gone = edits.drop_character(document, made)
    assert gone.characters[0].sources[0].id == source


def test_alone_it_goes_into_files_that_hold_joints_and_comes_back(tmp_path):
    figure = edits.performer_of(Shelf().source("bow"))
    document = edits.drop_character(*_with(figure))
    write_any(tmp_path / "a.glb", document)
    assert not Outside(tmp_path / "a.glb").gltf.meshes
    (back,) = read_figures(tmp_path / "a.glb")
    assert back.bare and len(back.skeleton.joints) == len(figure.skeleton.joints)
    assert np.allclose(frame_in(back, 0.8).joints[:, :3, 3], frame_in(figure, 0.8).joints[:, :3, 3], atol=1e-3)
    with pytest.raises(Exception, match="no included part"):
        write_any(tmp_path / "a.obj", document)


def _with(figure):
    document, _ = edits.add_figures(wick(), [figure])
    return document, document.characters[0].id


def test_a_figure_lends_its_motion_to_another():
    document, (lender,) = edits.add_figures(wick(), shipped("wick").characters)
    document = edits.place_figure(document, lender, scale=1.2)
    document = edits.take_character(document, document.characters[0].id)
    other = edits.figure_of(document, lender)
    moving = next(c for c in other.clips if c.curves)
    document, source = edits.lend_motion(document, lender, moving.id)
    document, _ = edits.pair_source(document, source)
    document, lent = edits.borrow(document, source)
    own = document.require_character()
    clip = own.clip(lent.clip)
    assert clip.tracks and clip.length == pytest.approx(moving.length, abs=1 / 30)
    document = edits.play_figure(edits.play_figure(document, own.id, clip.id), lender, moving.id)
    a, b = document.characters
    gaps = [np.linalg.norm(frame_in(a, t).joints[:, :3, 3] - frame_in(b, t).joints[:, :3, 3], axis=1).max() for t in (0.4, 1.2, 2.0)]
    assert max(gaps) < 0.01 * a.height, "the very body moves as it did"
    with pytest.raises(EditError, match="another figure"):
        edits.lend_motion(document, own.id)
    still, (empty,) = edits.add_clip(document, "empty")[0], (edits.add_clip(document, "empty")[1],)
    with pytest.raises(EditError, match="moves nothing"):
        edits.motion_of(still.require_character(), empty)


@pytest.mark.parametrize(("unit", "tall"), [(1.0, 1.0), (100.0, 1.0), (0.001, None), (39.37, None)])
def test_its_height_is_its_files_where_that_is_a_bodys(unit, tall):
    take = perform(Build(), walk(Build()), seconds=0.2, rate=30.0, style=Style(unit=1.0 / unit))
    from pegloom.files.motion import bvh_source

    source = bvh_source("a.bvh", take.bvh().encode())
    own = size_of(bvh_source("a.bvh", perform(Build(), walk(Build()), seconds=0.2, rate=30.0, style=Style(unit=1.0)).bvh().encode()), 9.0)
    found = size_of(source, 1.9)
    assert found == pytest.approx(own if tall else 1.9, rel=1e-3) or (unit == 39.37 and found == pytest.approx(own * 0.3937, rel=1e-3))
