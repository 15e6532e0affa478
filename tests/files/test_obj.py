import numpy as np
import pytest
from PIL import Image as Picture

from pegloom.core.errors import MeshFileError
from pegloom.files.obj import read_obj, write_obj
from pegloom.files.reading import read_mesh
from tests.support.figures import DEMO

CUBE = """mtllib c.mtl
o box
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 0.5 0.5 1
vt 0 0
vt 1 0
vt 1 1
vt 0 1
usemtl red
f 1/1 2/2 3/3 4/4
usemtl blue
f -5/1 -4/2 -1/3
o lid
f 3 4 5
"""


def test_polygons_order_uvs_and_materials_are_kept(tmp_path):
    (tmp_path / "c.obj").write_text(CUBE)
    Picture.new("RGB", (4, 4), (200, 0, 0)).save(tmp_path / "red skin.png")
    (tmp_path / "c.mtl").write_text("newmtl red\nKd 1 0 0\nmap_Kd red skin.png\nnewmtl blue\nKd 0 0 1\nd 0.5\n")
    read = read_obj(tmp_path / "c.obj")
    box, lid = read.parts
    assert (box.name, lid.name) == ("box", "lid")
    assert box.mesh.points.tolist()[4] == [0.5, 0.5, 1]
    assert np.diff(box.mesh.starts).tolist() == [4, 3]
    assert box.mesh.uvs[:4].tolist() == [[0, 0], [1, 0], [1, 1], [0, 1]]
    assert lid.mesh.uvs is None
    red, blue, _ = read.materials
    assert red.base_image == "red skin.png"
    assert blue.base_colour == (0, 0, 1, 0.5)
    assert blue.see_through
    assert len(read.images) == 1


def test_a_file_written_comes_back_the_same(tmp_path):
    read = read_obj(DEMO / "wick.obj")
    write_obj(tmp_path / "w.obj", [(p.name, p.mesh) for p in read.parts], read.materials, read.images)
    again = read_obj(tmp_path / "w.obj")
    for a, b in zip(read.parts, again.parts, strict=True):
        assert a.name == b.name
        assert np.allclose(a.mesh.points, b.mesh.points, atol=1e-6)
        assert (a.mesh.corners == b.mesh.corners).all()
        assert np.allclose(a.mesh.uvs, b.mesh.uvs, atol=1e-6)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "empty"),
        ("v 0 0 0\nv 1 0\n", "line 2"),
        ("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "vertex 9"),
        ("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 0 1 2\n", "vertex 0"),
        ("v 0 0 0\nv 1 0 0\n", "no surface"),
        ("v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "not a number"),
        ("o \x00\x01\x02", "binary"),
        ("hello\nworld\n", "no surface"),
    ],
)
def test_broken_files_are_refused_in_one_clear_line(tmp_path, text, says):
    (tmp_path / "bad.obj").write_text(text)
    with pytest.raises(MeshFileError, match=r"bad\.obj") as caught:
        read_mesh(tmp_path / "bad.obj")
    assert says in str(caught.value)
    assert "\n" not in str(caught.value)


def test_pictures_outside_the_folder_are_not_read(tmp_path):
    Picture.new("RGB", (4, 4)).save(tmp_path / "secret.png")
    inner = tmp_path / "inner"
    inner.mkdir()
    (inner / "c.obj").write_text(CUBE)
    (inner / "c.mtl").write_text("newmtl red\nmap_Kd ../secret.png\n")
    read = read_obj(inner / "c.obj")
    assert read.images == ()
    assert any("secret.png" in note for note in read.notes)


def test_missing_and_unknown_files(tmp_path):
    with pytest.raises(MeshFileError, match="no such file"):
        read_mesh(tmp_path / "gone.obj")
    (tmp_path / "a.xyz").write_text("x")
    with pytest.raises(MeshFileError, match=r"\.glb"):
        read_mesh(tmp_path / "a.xyz")
