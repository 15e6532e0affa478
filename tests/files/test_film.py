"""Films: read back by other code, in sizes and rates asked for, whole or not at all, without a display."""

from __future__ import annotations

import os
import struct
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

from pegloom.core.errors import EditError, MeshFileError
from pegloom.core.jobs import Cancelled
from pegloom.document import edits
from pegloom.document.model import Document
from pegloom.files.film import film_writer, frame_name
from pegloom.render.film import labelled, make_film
from pegloom.render.studio import Studio, straight
from pegloom.scene.camera import Camera
from pegloom.scene.display import Display
from pegloom.scene.shot import Backdrop, Shot, check, looking_at, span_of
from tests.support.figures import shipped


@pytest.fixture(scope="module")
def winch() -> Document:
    return shipped("winch")


@pytest.fixture(scope="module")
def shot(winch) -> Shot:
    clip = next(c for c in winch.require_character().clips if c.name == "ring")
    plain = Shot(Camera(), (320, 180), 0.0, 0.5, 12.0, clip.id)
    return replace(plain, camera=looking_at(winch, plain, yaw=0.4, pitch=0.1))


def boxes(data: bytes, start: int = 0, end: int | None = None) -> dict[str, list[tuple[int, int]]]:
    """The boxes of an ISO base media file (ISO/IEC 14496-12), by kind: where their contents begin and end."""
    found: dict[str, list[tuple[int, int]]] = {}
    at, end = start, len(data) if end is None else end
    while at + 8 <= end:
        size, kind = struct.unpack_from(">I4s", data, at)
        head = 8
        if size == 1:
            size, head = struct.unpack_from(">Q", data, at + 8)[0], 16
        size = size or end - at
        found.setdefault(kind.decode("latin-1"), []).append((at + head, at + size))
        if kind in (b"moov", b"trak", b"mdia", b"minf", b"stbl"):
            for name, some in boxes(data, at + head, at + size).items():
                found.setdefault(name, []).extend(some)
        at += size
    return found


def test_an_mp4_has_the_frames_the_size_and_the_time_that_were_asked_for(winch, shot, tmp_path):
    path = tmp_path / "a.mp4"
    assert make_film(path, winch, shot) == 7
    data = path.read_bytes()
    found = boxes(data)
    start, _ = found["tkhd"][0]
    wide, high = (v >> 16 for v in struct.unpack_from(">II", data, start + 76))
    assert (wide, high) == (320, 180)
    start, _ = found["stsz"][0]
    assert struct.unpack_from(">I", data, start + 8)[0] == 7
    start, _ = found["mdhd"][0]
    scale, length = struct.unpack_from(">II", data, start + 12)
    assert length / scale == pytest.approx(7 / 12.0, abs=1e-3)


def test_a_films_frames_are_the_pictures_of_a_sequence(winch, shot, tmp_path):
    import av

    make_film(tmp_path / "a.mp4", winch, shot)
    make_film(tmp_path / "b.png", winch, shot)
    pictures = [np.asarray(Image.open(frame_name(tmp_path / "b.png", k + 1)).convert("RGB"), dtype=float) for k in range(7)]
    assert len(list(tmp_path.glob("b.*.png"))) == 7
    with av.open(str(tmp_path / "a.mp4")) as container:
        seen = [f.to_ndarray(format="rgb24").astype(float) for f in container.decode(video=0)]
    assert len(seen) == 7
    for a, b in zip(seen, pictures, strict=True):
        assert np.abs(a - b).mean() < 4.0
    assert np.abs(pictures[0] - pictures[3]).max() > 60, "something moves"


def test_what_is_seen_is_where_the_figure_stands(winch, shot):
    """The figure's points, told by the camera, lie where the picture differs from one without it."""
    bare = replace(shot, backdrop=Backdrop.SEE_THROUGH)
    with Studio() as studio:
        picture = studio.picture(winch, bare, 0.2)
        alone = studio.picture(winch, replace(bare, hidden=frozenset(p.id for p in winch.require_character().parts)), 0.2)
    assert alone[..., 3].max() == 0
    from pegloom.core.motion.clips import sample
    from pegloom.document.evaluate import evaluate

    one = winch.require_character()
    frame = evaluate(one, sample(one.clip(shot.clip), 0.2, one.skeleton, one.pose, one.rig))
    at = bare.camera.project(np.concatenate([frame.points[p.id] for p in one.included]), *shot.size)[:, :2].astype(int)
    inside = (at >= 1).all(axis=1) & (at[:, 0] < shot.size[0] - 1) & (at[:, 1] < shot.size[1] - 1)
    assert inside.all(), "all of it is in the picture"
    near = np.stack([picture[np.clip(at[:, 1] + dy, 0, 179), np.clip(at[:, 0] + dx, 0, 319), 3] for dx in (-1, 0, 1) for dy in (-1, 0, 1)])
    assert (near.max(axis=0) > 0).mean() > 0.995
    rows, columns = np.nonzero(picture[..., 3])
    assert rows.min() >= at[:, 1].min() - 3 and rows.max() <= at[:, 1].max() + 3
    assert columns.min() >= at[:, 0].min() - 3 and columns.max() <= at[:, 0].max() + 3


def test_backdrops_displays_controls_and_words(winch, shot):
    with Studio() as studio:
        plain = studio.picture(winch, replace(shot, backdrop=Backdrop.PLAIN, colour=(1.0, 0.0, 0.5)), 0.1)
        assert plain[2, 2].tolist() == [255, 0, 128, 255]
        view = studio.picture(winch, shot, 0.1)
        assert (studio.picture(winch, replace(shot, controls=True), 0.1) != view).any()
        assert (studio.picture(winch, replace(shot, display=Display.CLAY), 0.1) != view).any()
        small = studio.picture(winch, replace(shot, size=(64, 36)), 0.1)
        assert small.shape == (36, 64, 4)
    words = labelled(view, "ring   3")
    assert words.shape == view.shape
    changed = np.argwhere((words != view).any(axis=-1))
    assert len(changed) and changed[:, 0].min() > 0.8 * 180 and changed[:, 1].max() < 0.5 * 320
    assert labelled(view, "x" * 500).shape == view.shape
    half = np.array([[[100, 50, 0, 128]]], dtype=np.uint8)
    assert np.abs(straight(half)[0, 0].astype(int) - [199, 100, 0, 128]).max() <= 1


def test_all_figures_are_filmed_where_they_stand(winch):
    document, other = edits.duplicate_character(winch)
    plain = Shot(Camera(), (320, 160), 0.0, 0.0, 12.0, "", backdrop=Backdrop.SEE_THROUGH)
    shot = replace(plain, camera=looking_at(document, plain, yaw=0.0, pitch=0.0))
    with Studio() as studio:
        both = studio.picture(document, shot, 0.0)[..., 3] > 0
        one = studio.picture(edits.take_character(edits.show_figure(document, other, False), document.characters[0].id), shot, 0.0)[..., 3] > 0
    assert both[:, :160].any() and both[:, 160:].any()
    assert one.sum() < 0.6 * both.sum() and not (one & ~both).any()


def test_what_no_film_can_be_is_said_and_leaves_nothing(winch, shot, tmp_path):
    with pytest.raises(MeshFileError, match="seen through"):
        make_film(tmp_path / "a.mp4", winch, replace(shot, backdrop=Backdrop.SEE_THROUGH))
    with pytest.raises(MeshFileError, match="holds no film"):
        make_film(tmp_path / "a.avi", winch, shot)
    with pytest.raises(MeshFileError, match="folder is not there"):
        make_film(tmp_path / "no" / "a.mp4", winch, shot)
    for bad in ({"size": (8, 100)}, {"size": (100, 9000)}, {"rate": 0.0}, {"rate": 1e6}, {"last": -1.0}, {"last": float("inf")}, {"last": 1e7}):
        with pytest.raises(EditError):
            check(replace(shot, **bad))
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("name", ["a.mp4", "a.png"])
def test_a_film_that_is_stopped_leaves_what_was_there(winch, shot, tmp_path, name):
    if name == "a.mp4":
        (tmp_path / name).write_bytes(b"before")

    def stop(share: float, _: str) -> None:
        if share > 0.4:
            raise Cancelled

    with pytest.raises(Cancelled):
        make_film(tmp_path / name, winch, shot, progress=stop)
    assert [p.name for p in tmp_path.iterdir()] == (["a.mp4"] if name == "a.mp4" else [])
    assert name != "a.mp4" or (tmp_path / name).read_bytes() == b"before"


def test_pictures_that_are_there_are_not_written_over_unasked(winch, shot, tmp_path):
    frame_name(tmp_path / "a.png", 1).write_bytes(b"mine")
    short = replace(shot, last=0.0)
    with pytest.raises(MeshFileError, match="is there already"):
        make_film(tmp_path / "a.png", winch, short)
    assert frame_name(tmp_path / "a.png", 1).read_bytes() == b"mine"
    make_film(tmp_path / "a.png", winch, short, over=True)
    with Image.open(frame_name(tmp_path / "a.png", 1)) as picture:
        assert picture.size == (320, 180)


def test_odd_sizes_are_made_even_and_rates_are_kept(tmp_path):
    import av

    with film_writer(tmp_path / "a.mp4", rate=23.976, size=(65, 47)) as film:
        for k in range(5):
            film.add(np.full((47, 65, 4), 40 * k, dtype=np.uint8))
    with av.open(str(tmp_path / "a.mp4")) as container:
        stream = container.streams.video[0]
        assert (stream.width, stream.height) == (64, 46)
        assert float(stream.average_rate) == pytest.approx(23.976, abs=2e-3)
        assert [round(float(f.to_ndarray(format="rgb24").mean()) / 40) for f in container.decode(stream)] == [0, 1, 2, 3, 4]


def test_the_command_needs_no_display_and_says_so_where_it_cannot_draw(tmp_path):
    from tests.support.figures import DEMO

    here = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY")}
    command = [sys.executable, "-m", "pegloom", "film", str(DEMO / "winch.pegloom"), "-o", str(tmp_path / "a.mp4"), "--clip", "ring", "--size", "160x90", "--range", "0:0.2"]
    done = subprocess.run(command, env=here, capture_output=True, text=True, timeout=850, check=False)
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "a.mp4").stat().st_size > 1000
    # A driver that is not there.
    blind = here | {"__EGL_VENDOR_LIBRARY_DIRS": str(tmp_path), "__EGL_VENDOR_LIBRARY_FILENAMES": str(tmp_path / "none.json"), "LIBGL_DRIVERS_PATH": str(tmp_path)}
    done = subprocess.run([*command[:6], str(tmp_path / "b.mp4"), *command[7:]], env=blind, capture_output=True, text=True, timeout=850, check=False)
    assert done.returncode == 1 and "cannot draw off-screen" in done.stderr and done.stderr.count("\n") == 1, done.stderr
    assert not (tmp_path / "b.mp4").exists()


def test_the_span_of_a_film_is_the_clips(winch):
    clip = winch.require_character().clips[0]
    assert span_of(winch, clip.id) == (clip.length, clip.rate)
