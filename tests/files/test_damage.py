"""Every file, however broken, ends in a loaded document or in one clear error: never in anything else."""

import struct
import tempfile
from functools import cache
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pegloom.core.errors import PegLoomError
from pegloom.document import edits
from pegloom.files import reading
from pegloom.files.bvh import read_bvh
from pegloom.files.gltf_write import write_glb
from pegloom.files.opening import open_any
from pegloom.files.project import save_project
from pegloom.files.usd import SUFFIXES
from pegloom.files.usd.reader import read_here
from tests.support.figures import rigged_capsules


@pytest.fixture(autouse=True)
def usd_in_this_process(monkeypatch):
    """A process for each of some hundred files would take minutes; `test_usd_outside` reads through the real one."""
    for suffix in SUFFIXES:
        monkeypatch.setitem(reading.READERS, suffix, read_here)


KINDS = (".obj", ".glb", ".gltf", ".ply", ".stl", ".pegloom", ".zip", ".usda")


@cache
def good(kind):
    """Bytes of a sound file of a kind."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"sound{kind}"
        ball = trimesh.creation.icosphere(subdivisions=1)
        if kind == ".glb":
            write_glb(path, rigged_capsules().character)
        elif kind == ".pegloom":
            save_project(path, edits.add_clip(rigged_capsules(), "wave")[0])
        elif kind == ".gltf":
            path.write_bytes(ball.export(file_type="gltf", embed_buffers=True)["model.gltf"]) if isinstance(
                ball.export(file_type="gltf"), dict
            ) else path.write_bytes(ball.export(file_type="gltf"))
        elif kind == ".zip":
            import zipfile

            with zipfile.ZipFile(path, "w") as made:
                made.writestr("ball.obj", ball.export(file_type="obj"))
        elif kind == ".usda":
            path.write_text(USDA)
        else:
            data = ball.export(file_type=kind[1:])
            path.write_bytes(data.encode() if isinstance(data, str) else data)
        return path.read_bytes()


USDA = """#usda 1.0
( upAxis = "Y" )
def Mesh "sheet"
{
    point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
}
"""


def opens_or_says_why(data, kind):
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"harmed{kind}"
        path.write_bytes(data)
        try:
            document = open_any(path)
        except PegLoomError as error:
            text = str(error)
            assert 10 < len(text) < 600, text
            assert "Traceback" not in text
            return None
    character = document.require_character()
    for part in character.parts:
        assert np.isfinite(part.mesh.points).all()
        assert part.mesh.corners.max(initial=-1) < part.mesh.vertex_count
        assert part.mesh.corners.min(initial=0) >= 0
    return document


@pytest.mark.parametrize("kind", KINDS)
def test_the_sound_file_is_read(kind):
    document = opens_or_says_why(good(kind), kind)
    assert document is not None
    assert sum(p.mesh.face_count for p in document.character.parts) > 0


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=25, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(share=st.floats(0.0, 1.0))
def test_a_file_cut_short(kind, share):
    data = good(kind)
    opens_or_says_why(data[: int(share * len(data))], kind)


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=40, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(seed=st.integers(0, 2**32 - 1), count=st.integers(1, 12))
def test_bytes_changed_anywhere(kind, seed, count):
    rng = np.random.default_rng(seed)
    data = bytearray(good(kind))
    # Heads and lengths stand at the front: they are hit as often as all the rest.
    for where in np.where(
        rng.random(count) < 0.5, rng.integers(0, min(len(data), 400), count), rng.integers(0, len(data), count)
    ):
        data[where] = int(rng.integers(0, 256))
    opens_or_says_why(bytes(data), kind)


@pytest.mark.parametrize("kind", [".obj", ".ply", ".gltf", ".usda", ".stl"])
@settings(max_examples=30, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
@given(
    seed=st.integers(0, 2**32 - 1),
    put=st.sampled_from(["-1", "99999999", "nan", "inf", "1e400", "0.5", "", "x", "2147483648", "-7"]),
)
def test_a_number_that_is_none_or_far_too_large(kind, seed, put):
    """Text files with one of their numbers exchanged."""
    import re

    text = good(kind) if kind != ".stl" else trimesh.creation.box().export(file_type="stl_ascii").encode()
    if kind == ".ply":
        text = trimesh.creation.box().export(file_type="ply", encoding="ascii")
    text = text.decode("utf-8", "replace")
    numbers = list(re.finditer(r"(?<![\w.])-?\d+(?:\.\d+)?(?:e-?\d+)?", text))
    one = numbers[int(np.random.default_rng(seed).integers(0, len(numbers)))]
    opens_or_says_why((text[: one.start()] + put + text[one.end() :]).encode(), kind)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(
    "data",
    [b"", b"\0" * 64, b"\xff\xfe" * 40, b"{}", b"[]", b"null", b"PK\x03\x04", b"ply\n", b"solid\n", b"\x89PNG\r\n"],
)
def test_what_is_no_such_file_at_all(kind, data):
    opens_or_says_why(data, kind)


def test_a_name_that_runs_on_for_pages_is_shortened():
    text = good(".gltf").decode().replace("data:", "datap", 1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.gltf"
        path.write_text(text)
        with pytest.raises(PegLoomError) as told:
            open_any(path)
    assert len(str(told.value)) < 400
    assert "put it there" in str(told.value), "what to do still stands at its end"


def test_a_claimed_size_is_checked_before_memory_is_taken():
    huge = struct.pack("<80sI", b"", 2**32 - 1)
    assert opens_or_says_why(huge, ".stl") is None
    head = b"ply\nformat binary_little_endian 1.0\nelement vertex 4000000000\nproperty float x\nproperty float y\nproperty float z\nend_header\n"
    assert opens_or_says_why(head, ".ply") is None


BVH = """HIERARCHY
ROOT hips
{
  OFFSET 0 0 0
  CHANNELS 6 Xposition Yposition Zposition Zrotation Xrotation Yrotation
  JOINT spine
  {
    OFFSET 0 10 0
    CHANNELS 3 Zrotation Xrotation Yrotation
    End Site
    {
      OFFSET 0 10 0
    }
  }
}
MOTION
Frames: 2
Frame Time: 0.033333
0 90 0 0 0 0 10 0 0
0 90 0 0 5 0 20 0 0
"""


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(seed=st.integers(0, 2**32 - 1), count=st.integers(0, 6), share=st.floats(0.3, 1.0))
def test_recorded_motion_cut_short_or_changed(seed, count, share):
    rng = np.random.default_rng(seed)
    data = bytearray(BVH.encode()[: int(share * len(BVH))])
    for where in rng.integers(0, len(data), count):
        data[where] = int(rng.integers(32, 127))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "harmed.bvh"
        path.write_bytes(bytes(data))
        try:
            read = read_bvh(path)
        except PegLoomError as error:
            assert 10 < len(str(error)) < 600
        else:
            assert read is not None
