"""A master worn by a cast: changes come over, hand changes stay, what moves is told in millimetres."""

from __future__ import annotations

import json

import numpy as np
import pytest
from typer.testing import CliRunner

from pegloom.cli import app
from pegloom.core.errors import EditError
from pegloom.core.rig.changes import ChannelChange
from pegloom.core.rig.recipe.choices import KitRig
from pegloom.document import edits
from pegloom.document.edits.family import alike
from pegloom.document.evaluate import evaluate
from pegloom.files.project import open_project, save_project
from tests.support.figures import as_mesh, capsule_figure, document_of, rigged_capsules, shipped

CONTROL = "arm.l.upper.fk"


@pytest.fixture(scope="module")
def master():
    return rigged_capsules()


def sized(document, factor):
    """The same body in another size, with a pose of its own."""
    tall = edits.stand_up(document, height=document.character.height * factor)
    posed = edits.set_channels(tall, CONTROL, rotate_z=0.8, rotate_y=0.3)
    return edits.set_channels(edits.keep_pose(posed, "waves")[0], CONTROL, rotate_z=0.0, rotate_y=0.0)


@pytest.fixture(scope="module")
def member(master):
    made, told = edits.wear_master(sized(master, 1.3), edits.body_of(master.character))
    assert not told.kept
    return made


def test_nothing_changed_is_nothing_taken(master, member):
    again, told = edits.follow_master(member, edits.body_of(master.character))
    assert told == edits.Followed((), ())
    assert again.character.rig is member.character.rig
    assert again.character.skeleton is member.character.skeleton


def test_what_the_master_changes_comes_over_and_what_it_moves_is_told(master, member):
    limited = edits.change_channel(master, CONTROL, "rotate_z", ChannelChange(limits=(-0.5, 0.5)))
    coloured = edits.shape_controls(limited, (CONTROL,), colour="#33aa66", offset=(0.0, 0.02, 0.0))
    made, told = edits.follow_master(member, edits.body_of(coloured.character))
    rig, scale = made.character.rig, member.character.worn.scale
    assert rig.control(CONTROL).colour == "#33aa66"
    assert rig.control(CONTROL).channel("rotate_z").high == 0.5
    mine, theirs = (np.array(d.character.rig_changes.controls[CONTROL].offset) for d in (made, coloured))
    assert np.linalg.norm(theirs) > 0.01
    assert mine == pytest.approx(theirs * scale), "metres go with the size"
    waves = next(c for c in told.moves if c.name == "pose waves")
    here, there = (evaluate(c, edits.apply_pose(d, "waves").character.pose).joints[:, :3, 3] for d, c in ((member, member.character), (made, made.character)))
    far = 1000 * np.linalg.norm(here - there, axis=1).max()
    assert 1000 * waves.metres >= far - 0.01, "the skin goes at least as far as the joints"
    assert far > 20
    assert told.moves[0].name == "pose waves", "the farthest stands first"
    rest = next(c for c in told.moves if c.name == "rest")
    assert rest.metres < 1e-5
    assert np.array_equal(made.character.skeleton.positions, member.character.skeleton.positions), "its own pegs stay"


def test_hand_changes_stay_and_are_told_unless_the_master_counts_everywhere(master, member):
    own = edits.shape_controls(member, (CONTROL,), colour="#112233")
    theirs = edits.shape_controls(master, (CONTROL,), colour="#33aa66")
    kept, told = edits.follow_master(own, edits.body_of(theirs.character))
    assert kept.character.rig.control(CONTROL).colour == "#112233"
    assert told.taken == () and told.kept == ("control l_upper_arm_fk",)
    # Told once: from now on it is the member's own.
    assert edits.follow_master(kept, edits.body_of(theirs.character))[1].kept == ()
    over, told = edits.follow_master(own, edits.body_of(theirs.character), over=True)
    assert over.character.rig.control(CONTROL).colour == "#33aa66" and told.kept == ()


def test_kits_spaces_couplings_and_what_is_dropped_come_over(master, member):
    first = edits.set_kit_rig(master, "leg.l", KitRig(roll=False))
    second, _ = edits.couple(first, "arm.r.upper.fk", "rotate_x", [edits.Read("a", control=CONTROL, channel="rotate_z")], formula="a * 0.5")
    third = edits.drop_control(second, "hand.r.thumb.1.fk" if "hand.r.thumb.1.fk" in second.character.rig.index else second.character.rig.controls[-1].id)
    made, told = edits.follow_master(member, edits.body_of(third.character))
    assert made.character.rig_recipe["leg.l"] == KitRig(roll=False)
    assert {c.id for c in made.character.rig.controls} == {c.id for c in third.character.rig.controls}
    assert len(made.character.rig.couplings) == len(third.character.rig.couplings)
    assert any("limb kit leg.l" in line for line in told.taken)
    back, told = edits.follow_master(made, edits.body_of(master.character))
    assert {c.id for c in back.character.rig.controls} == {c.id for c in master.character.rig.controls}
    assert "leg.l" not in back.character.rig_recipe


def test_a_limb_the_master_gains_grows_on_the_member_in_its_size(master, member):
    grown, _ = edits.add_kit(master, "tail", "spine.hips")
    made, told = edits.follow_master(member, edits.body_of(grown.character))
    assert any(line.startswith("limb kit tail") for line in told.taken)
    new = {j.id for j in grown.character.skeleton.joints} - {j.id for j in master.character.skeleton.joints}
    assert new and new <= set(made.character.skeleton.index)
    size = [np.ptp([s.joint(j).position for j in sorted(new)], axis=0) for s in (grown.character.skeleton, made.character.skeleton)]
    assert np.linalg.norm(size[1]) == pytest.approx(member.character.worn.scale * np.linalg.norm(size[0]), rel=0.05)
    assert all(p.position == made.character.pegs.position(p.name) for p in member.character.pegs.pegs), "its own pegs stay where they are"


def test_a_bare_mesh_wears_the_master_and_follows_it(master):
    bare = edits.stand_up(document_of(as_mesh(capsule_figure())))
    made, _ = edits.wear_master(bare, edits.body_of(master.character))
    assert made.character.worn is not None and made.character.rig is not None
    assert edits.follow_master(made, edits.body_of(master.character))[1] == edits.Followed((), ())


def test_standing_up_anew_keeps_the_member_in_step(master, member):
    larger = edits.stand_up(member, height=member.character.height * 1.7)
    assert larger.character.worn.scale == pytest.approx(member.character.worn.scale * 1.7)
    assert edits.follow_master(larger, edits.body_of(master.character))[1] == edits.Followed((), ())


def test_another_pattern_is_refused_in_words(member):
    with pytest.raises(EditError, match="a family has one pattern"):
        edits.follow_master(member, edits.body_of(shipped("dumble").character))
    with pytest.raises(EditError, match="wears no master yet"):
        edits.follow_master(rigged_capsules(), edits.body_of(rigged_capsules().character))


def test_likeness_knows_numbers_that_were_scaled_twice():
    assert alike({"a": (1.0, 2.0)}, {"a": (1.0 + 1e-12, 2.0)})
    assert not alike({"a": 1.0}, {"a": 1.0001}) and not alike(None, 0) and not alike(True, 1)


def test_a_project_keeps_its_master_and_the_command_line_tells_and_takes(master, member, tmp_path):
    first, second, out = tmp_path / "master.pegloom", tmp_path / "reed keeper.pegloom", tmp_path / "out"
    changed = edits.change_channel(master, CONTROL, "rotate_z", ChannelChange(limits=(-0.5, 0.5)))
    save_project(first, changed)
    save_project(second, member)
    assert alike(open_project(second).character.worn, member.character.worn)
    save_project(tmp_path / "stranger.pegloom", shipped("winch"))
    told = CliRunner().invoke(app, ["family", str(first), str(second), "--json"])
    assert told.exit_code == 0, told.output
    (row,) = json.loads(told.output)["members"]
    assert row["moves"][0]["name"] == "pose waves" and row["moves"][0]["mm"] > 20 and not out.exists()
    page = tmp_path / "family.html"
    both = CliRunner().invoke(app, ["family", str(first), str(second), str(tmp_path / "stranger.pegloom"), "-o", str(out), "--page", str(page)])
    assert both.exit_code == 1 and "wears no master yet" in both.output
    assert open_project(out / "reed keeper.pegloom").character.rig.control(CONTROL).channel("rotate_z").high == 0.5
    text = page.read_text()
    assert "pose waves" in text and "http" not in text.replace("http-equiv", "")
    wrong = CliRunner().invoke(app, ["family", str(first), str(first), "-o", str(tmp_path)])
    assert wrong.exit_code == 1 and "over its own master" in wrong.output
