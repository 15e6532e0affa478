"""Motion brought in as a trial: BVH and GLB, held against the file's own numbers."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from pegloom.core.errors import MeshFileError
from pegloom.core.motion.clips import sample
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.document import edits
from pegloom.files.bvh import read_bvh
from pegloom.files.gltf_write import write_glb
from pegloom.files.motion import read_motion
from tests.support.figures import wick

ARM = """HIERARCHY
ROOT shoulder
{
  OFFSET 0 10 0
  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
  JOINT elbow
  {
    OFFSET 3 0 0
    CHANNELS 3 Zrotation Xrotation Yrotation
    End Site
    {
      OFFSET 2 0 0
    }
  }
}
MOTION
Frames: 2
Frame Time: 0.05
0 10 0 0 0 0 0 0 0
1 11 2 90 0 0 0 0 90
"""


def bvh_of(skeleton, scale: float, turns: dict[str, tuple[float, float, float]]) -> str:
    """A two-frame BVH of a skeleton: rest, then some joints turned (degrees z x y about the world's axes)."""
    lines, order = ["HIERARCHY"], []

    def put(joint, depth: int) -> None:
        parent = skeleton.joint(joint.parent).position if joint.parent else (0, 0, 0)
        offset = scale * (np.array(joint.position) - parent)
        order.append(joint)
        lines.append(("ROOT " if depth == 0 else "JOINT ") + joint.name)
        lines.append("{")
        lines.append("OFFSET " + " ".join(f"{v:.9f}" for v in offset))
        lines.append("CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation")
        for child in skeleton.children(joint.id):
            put(child, depth + 1)
        if not skeleton.children(joint.id):
            lines.extend(["End Site", "{", "OFFSET 0 0.1 0", "}"])
        lines.append("}")

    put(skeleton.joints[0], 0)
    lines += ["MOTION", "Frames: 2", "Frame Time: 0.1"]
    for frame in (0, 1):
        row = []
        for joint in order:
            parent = skeleton.joint(joint.parent).position if joint.parent else (0, 0, 0)
            row += (scale * (np.array(joint.position) - parent)).tolist()
            row += list(turns.get(joint.id, (0, 0, 0))) if frame else [0, 0, 0]
        lines.append(" ".join(f"{v:.9f}" for v in row))
    return "\n".join(lines) + "\n"


def test_a_bvh_is_read_as_its_numbers_say(tmp_path):
    file = tmp_path / "arm.bvh"
    file.write_text(ARM)
    motion = read_bvh(file)
    assert [j.name for j in motion.joints] == ["shoulder", "elbow"]
    assert motion.step == pytest.approx(0.05)
    assert motion.moves[1, 0].tolist() == [1, 11, 2]
    assert motion.joints[1].tail.tolist() == [2, 0, 0]
    # By hand: the shoulder turned 90 degrees about z puts the elbow straight above it.
    shoulder = Rotation.from_quat(motion.turns[1, 0])
    assert np.allclose(motion.moves[1, 0] + shoulder.apply([3, 0, 0]), [1, 14, 2])
    hand = shoulder.apply([3, 0, 0]) + (shoulder * Rotation.from_quat(motion.turns[1, 1])).apply([2, 0, 0])
    assert np.allclose(hand, [0, 3, -2])


@pytest.mark.parametrize("scale", [1.0, 100.0])
def test_a_bvh_of_the_same_joints_moves_them_alike(tmp_path, scale):
    skeleton = wick().character.skeleton
    file = tmp_path / "wave.bvh"
    turns = {"arm.l.upper": (70.0, 10.0, 0.0), "spine.neck": (0.0, 20.0, 0.0), "leg.r.lower": (0.0, 60.0, 0.0)}
    file.write_text(bvh_of(skeleton, scale, turns))
    (clip,), notes = read_motion(file, skeleton)
    assert not notes
    rest = evaluate_rig(skeleton, None, sample(clip, 0.0, skeleton)).joints
    assert np.allclose(rest[:, :3, 3], skeleton.positions, atol=1e-4)
    posed = evaluate_rig(skeleton, None, sample(clip, 0.1, skeleton)).joints[:, :3, 3]
    # Outside our evaluation: plain forward kinematics over offsets and turns about the world's axes.
    expected, turned = {}, {}
    for joint in skeleton.joints:
        own = Rotation.from_euler("ZXY", turns.get(joint.id, (0, 0, 0)), degrees=True)
        if joint.parent is None:
            expected[joint.id], turned[joint.id] = np.array(joint.position), own
        else:
            offset = np.array(joint.position) - skeleton.joint(joint.parent).position
            expected[joint.id] = expected[joint.parent] + turned[joint.parent].apply(offset)
            turned[joint.id] = turned[joint.parent] * own
    assert np.allclose(posed, [expected[j.id] for j in skeleton.joints], atol=1e-4)


def test_an_exported_clip_comes_back_as_a_trial(tmp_path):
    document = wick()
    document, _ = edits.add_trial_clip(edits.build_controls(document))
    write_glb(tmp_path / "wick.glb", document.character)
    clips, _ = read_motion(tmp_path / "wick.glb", document.character.skeleton)
    brought, ids = edits.bring_motion(document, clips)
    live = document.character.clips[-1]
    made = next(c for c in brought.character.clips if c.id == ids[-1])
    skeleton, rig = document.character.skeleton, document.character.rig
    for time in (0.0, 0.5, 1.3):
        a = evaluate_rig(skeleton, rig, sample(live, time, skeleton, None, rig)).joints[:, :3, 3]
        b = evaluate_rig(skeleton, None, sample(made, time, skeleton)).joints[:, :3, 3]
        assert np.abs(a - b).max() < 2e-3


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("nothing of the sort", "HIERARCHY"),
        (ARM.replace("OFFSET 3 0 0", "OFFSET 3 0"), "3 numbers"),
        (ARM.replace("CHANNELS 3", "CHANNELS 4"), "channels"),
        (ARM.replace("Frames: 2", "Frames: 900000000"), "claims"),
        (ARM.replace("0 0 90\n", "0 0\n"), "9 numbers"),
        (ARM[: ARM.index("MOTION")], "too early"),
        (ARM.replace("1 11 2", "1 x 2"), "no number"),
        (ARM.replace("Frame Time: 0.05", "Frame Time: 0"), "no time"),
    ],
)
def test_broken_motion_is_one_clear_error(tmp_path, text, said):
    file = tmp_path / "broken.bvh"
    file.write_text(text)
    with pytest.raises(MeshFileError, match=said) as caught:
        read_bvh(file)
    assert caught.value.hint and "line" in caught.value.where


def test_motion_of_another_skeleton_is_refused(tmp_path):
    file = tmp_path / "arm.bvh"
    file.write_text(ARM)
    with pytest.raises(MeshFileError, match="another skeleton"):
        read_motion(file, wick().character.skeleton)
    (tmp_path / "x.txt").write_text("")
    with pytest.raises(MeshFileError, match="no motion"):
        read_motion(tmp_path / "x.txt", wick().character.skeleton)
