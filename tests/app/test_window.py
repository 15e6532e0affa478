import io
from dataclasses import replace

import numpy as np
import pytest
import trimesh
from PIL import Image as Picture
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QAbstractButton, QLabel, QLineEdit, QWidget

from pegloom.app.dialogs.import_sheet import ImportSheet
from pegloom.app.state.state import RANGE_TEST, Area, Tool
from pegloom.core.geometry.mesh import place_edges, weld
from pegloom.core.geometry.transforms import decompose
from pegloom.core.motion.clips import Clip
from pegloom.core.motion.tracks import Track, joint_tracks
from pegloom.core.motion.trials import trial_pose
from pegloom.core.rig.evaluate import evaluate_rig
from pegloom.document import edits
from pegloom.document.model import Document, Image, Material, Part
from pegloom.files.gltf_write import write_glb
from pegloom.files.import_choice import ImportChoice
from pegloom.scene.display import Display
from pegloom.scene.lenses import Lens
from tests.app.conftest import find, widgets
from tests.support.figures import DEMO, as_mesh, wick


def picture(stage) -> np.ndarray:
    image = stage.grabFramebuffer()
    bits = image.constBits()
    bits.setsize(image.sizeInBytes())
    return (
        np.frombuffer(bits, np.uint8)
        .reshape(image.height(), image.bytesPerLine() // 4, 4)[:, : image.width(), :3]
        .astype(int)
    )


def test_every_action_is_in_the_palette_has_a_tip_and_runs_or_says_why_not(hand):
    actions = hand.window.actions_
    said = []
    hand.session.said.connect(lambda text, *_: said.append(text))
    quiet = {"file.open", "file.demo", "file.demo_mesh", "help.sheet", "edit.steps"}
    for action in list(actions.entries.values()):
        assert action.tip
        assert action in actions.find(action.title)
        said.clear()
        missing = action.missing(hand.c.state)
        reason = missing.says if missing is not None else ""
        if action.id not in quiet:
            actions.run(action.id)
        if reason:
            assert said == [reason]
            assert len(reason) > 10
    shortcuts = [a.key for a in actions.entries.values() if a.key]
    assert len(shortcuts) == len(set(shortcuts))


def test_an_empty_window_says_how_to_begin(hand):
    assert hand.window.frame_.welcome.isVisible()
    hand.window.answers.open_path = ""
    hand.click("welcome.demo_wick")
    hand.until(lambda: hand.session.character is not None)
    assert not hand.window.frame_.welcome.isVisible()
    assert hand.session.character.rig is not None


def test_a_dropped_file_is_opened(hand):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(DEMO / "wick.obj"))])
    event = QDropEvent(
        QPointF(500, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    hand.window.dropEvent(event)
    hand.until(lambda: hand.session.character is not None)
    hand.idle()
    assert hand.session.character.skeleton is None


def test_a_broken_file_is_one_note_and_the_document_stays(rigged, tmp_path):
    (tmp_path / "bad.glb").write_bytes(b"glTF nonsense")
    before = rigged.session.document
    rigged.window.open_path(tmp_path / "bad.glb")
    rigged.idle()
    assert "bad.glb" in rigged.window.frame_.note.text()
    assert rigged.session.document is before


@pytest.mark.parametrize("area", list(Area))
def test_every_area_opens_and_its_inputs_are_named(rigged, area):
    rigged.key(Qt.Key(ord("1") + list(Area).index(area)))
    assert rigged.session.area is area
    rigged.bot.wait(30)
    bench = rigged.window.benches[area]
    assert bench.isVisible()
    for kind in (QAbstractButton, QLineEdit):
        for widget in bench.findChildren(kind):
            inside_box = widget.objectName().startswith("qt_")
            assert inside_box or widget.accessibleName() or widget.text(), widget
    assert bench.horizontalScrollBar().maximum() == 0


def test_the_stage_shows_the_character_in_each_display(rigged):
    seen = {}
    for display in Display:
        rigged.session.set_view(display=display, clean_view=True)
        rigged.bot.wait(40)
        seen[display] = picture(rigged.stage)
    x, y, _ = rigged.stage.camera.project(np.array([0.0, 0.95, 0.1]), *rigged.stage.size_in_points)[0]
    spot = {d: image[int(y) - 6 : int(y) + 6, int(x) - 6 : int(x) + 6].mean(axis=(0, 1)) for d, image in seen.items()}
    corner = seen[Display.CLAY][5:15, 5:15].mean(axis=(0, 1))
    assert np.abs(spot[Display.CLAY] - corner).max() > 60
    assert spot[Display.CLAY].mean() > spot[Display.SEE_THROUGH].mean() + 10
    assert np.ptp(spot[Display.CLAY]) < 40
    assert np.ptp(spot[Display.TEXTURED]) > 25, "the coat has a colour"


def test_the_influence_lens_lights_the_limb_up(rigged):
    rigged.key(Qt.Key.Key_3)
    rigged.session.select("joint", "leg.l.lower")
    rigged.session.set_view(lens=Lens.INFLUENCE, clean_view=True)
    rigged.bot.wait(40)
    image = picture(rigged.stage)
    frame = rigged.session.frame()
    points, weights = frame.points["part0"], rigged.session.character.skin.weights["part0"].column("leg.l.lower")
    strong, none = points[weights > 0.97], points[weights == 0]

    def lightness(some):
        pixels = rigged.stage.camera.project(some[:: max(len(some) // 60, 1)], *rigged.stage.size_in_points)[
            :, :2
        ].astype(int)
        return np.median([image[y, x].max() for x, y in pixels])

    assert lightness(strong) > lightness(none) + 60


def test_right_drag_orbits_middle_pans_and_the_wheel_zooms(rigged):
    camera = rigged.stage.camera
    middle = QPoint(400, 300)
    rigged.drag(middle, (60, 20), button=Qt.MouseButton.RightButton)
    turned = rigged.stage.camera
    assert turned.yaw != camera.yaw
    assert turned.looks_at == camera.looks_at
    rigged.drag(middle, (60, 20), button=Qt.MouseButton.MiddleButton)
    assert rigged.stage.camera.looks_at != camera.looks_at
    assert rigged.session.history.undo_name is None
    rigged.key(Qt.Key.Key_X)
    assert not rigged.stage.camera.perspective
    assert abs(rigged.stage.camera.backward[0]) == pytest.approx(1)
    rigged.key(Qt.Key.Key_X)
    assert rigged.stage.camera.backward[0] == pytest.approx(-1)


def test_escape_drops_a_drag(rigged):
    rigged.key(Qt.Key.Key_2)
    rigged.bot.wait(40)
    before = rigged.session.history.present
    start = rigged.at("peg", "l_knee")
    from PyQt6.QtTest import QTest

    QTest.mousePress(rigged.stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    rigged._move(start + QPoint(30, 5), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    assert rigged.session.document is not before
    rigged.key(Qt.Key.Key_Escape)
    assert rigged.session.document is before
    QTest.mouseRelease(rigged.stage, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    assert rigged.session.history.undo_name is None


def test_a_handle_turns_a_control_about_one_axis_and_the_mesh_follows(rigged):
    rigged.key(Qt.Key.Key_4)
    rigged.session.select("control", "spine.head")
    rigged.bot.wait(40)
    from pegloom.app.stage.drags.handle import handle_for
    from pegloom.scene.handles import grip_under, handle_lines

    held, _ = handle_for(rigged.c, rigged.stage.camera, rigged.stage.size_in_points)
    line = dict(handle_lines(held.handle, rigged.stage.camera))["y"]
    spots = rigged.stage.camera.project(line, *rigged.stage.size_in_points)[:, :2]
    spot = next(
        s for s in spots if grip_under(held.handle, *s, rigged.stage.camera, rigged.stage.size_in_points) == "y"
    )
    before = rigged.session.frame().points["part0"]
    keys = [("spine.head", f"rotate_{axis}") for axis in "xyz"]
    was = np.array([rigged.session.character.pose.values.get(key, 0.0) for key in keys])
    rigged.drag(QPoint(round(spot[0]), round(spot[1])), (25, 12))
    now = np.array([rigged.session.character.pose.values.get(key, 0.0) for key in keys])
    assert np.abs(now - was).max() > 0.05
    assert np.abs(rigged.session.frame().points["part0"] - before).max() > 0.005
    assert rigged.session.history.undo_name == "Rotate head_fk"


def test_typing_into_the_tag_sets_a_channel(rigged):
    rigged.key(Qt.Key.Key_4)
    rigged.session.select("control", "body")
    box = find(rigged.window, QWidget, "tag.move_y")
    box.setFocus()
    box.selectAll()
    rigged.bot.keyClicks(box, "-12")
    rigged.bot.keyClick(box, Qt.Key.Key_Return)
    assert rigged.session.character.pose.values["body", "move_y"] == pytest.approx(-0.12)
    assert rigged.session.history.undo_name == "body move y"


def test_auto_key_writes_what_is_changed(rigged):
    rigged.key(Qt.Key.Key_5)
    clip = rigged.session.character.clips[0]
    rigged.session.play_source(clip.id, 1.0)
    rigged.click("motion.auto")
    rigged.session.select("control", "body")
    rigged.bot.wait(30)
    keys = len(rigged.session.clip.key_times)
    rigged.drag(rigged.at("control", "body"), (30, 10))
    assert len(rigged.session.clip.key_times) == keys + 1
    assert "key" in rigged.session.history.undo_name


def test_the_range_test_plays_and_shows_its_stretch(rigged):
    rigged.key(Qt.Key.Key_3)
    rigged.session.play_source(RANGE_TEST, 20 / 30)
    watch = rigged.window.c.quality
    rigged.until(lambda: bool(watch.row(watch.region)) and None not in watch.row(watch.region))
    assert max(f.stretch for f in watch.row(watch.region)) > 1.2
    assert 0.2 < min(f.girth for f in watch.row(watch.region)) < 1.0
    hand = rigged.session.frame().joints[rigged.session.character.skeleton.index["arm.l.end"]][1, 3]
    assert hand > 1.3


def test_the_palette_finds_and_runs(rigged):
    rigged.key(Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    search = find(rigged.window, QLineEdit, "palette.search")
    rigged.until(search.isVisible)
    rigged.bot.keyClicks(search, "see thr")
    rigged.bot.keyClick(search, Qt.Key.Key_Return)
    assert rigged.session.display is Display.SEE_THROUGH


def test_hold_a_evens_and_ctrl_takes_away(rigged):
    rigged.key(Qt.Key.Key_3)
    rigged.session.set_view(tool=Tool.BRUSH)
    rigged.session.select("joint", "leg.l.upper")
    rigged.bot.wait(30)
    spot = rigged.at("joint", "leg.l.lower")
    was = rigged.session.character.skin.weights["part0"].column("leg.l.upper").sum()
    rigged.drag(spot, (8, 8), modifiers=Qt.KeyboardModifier.ControlModifier)
    taken = rigged.session.character.skin.weights["part0"].column("leg.l.upper").sum()
    assert taken < was
    rigged.session.undo()
    rigged.drag(spot, (8, 8))
    added = rigged.session.character.skin.weights["part0"].column("leg.l.upper").sum()
    assert added > was
    # A bump to even: the blend as bound is about as even as it can be.
    from PyQt6.QtTest import QTest

    before = rigged.session.character.skin.weights["part0"]
    rigged.stage.setFocus()
    QTest.keyPress(rigged.stage, Qt.Key.Key_A)
    assert rigged.stage.even_held
    rigged.drag(spot, (8, 8))
    QTest.keyRelease(rigged.stage, Qt.Key.Key_A)
    assert not rigged.stage.even_held
    even = rigged.session.character.skin.weights["part0"]
    assert even is not before
    edges = place_edges(rigged.session.character.parts[0].mesh)
    first = weld(rigged.session.character.parts[0].mesh).first[edges]

    def steps(weights):
        column = weights.column("leg.l.upper")
        return np.abs(column[first[:, 0]] - column[first[:, 1]]).sum()

    assert steps(even) < steps(before)


def test_the_grow_handle_scales_the_whole_rig(rigged):
    rigged.key(Qt.Key.Key_4)
    rigged.session.commit("rest", edits.rest_controls(rigged.session.document))
    rigged.session.select("control", "root")
    rigged.key(Qt.Key.Key_S)
    rigged.bot.wait(40)
    before = rigged.session.frame().joints[:, :3, 3]
    from pegloom.app.stage.drags.handle import handle_for
    from pegloom.scene.handles import handle_lines

    held, _ = handle_for(rigged.c, rigged.stage.camera, rigged.stage.size_in_points)
    line = dict(handle_lines(held.handle, rigged.stage.camera))["view"]
    x, y, _ = rigged.stage.camera.project(line[:1], *rigged.stage.size_in_points)[0]
    rigged.drag(QPoint(round(x), round(y)), (30, 0))
    scale = rigged.session.character.pose.values["root", "scale"]
    assert 1.1 < scale < 4
    assert np.allclose(rigged.session.frame().joints[:, :3, 3], before * scale, atol=1e-6)


def test_what_comes_in_is_chosen_before_it_does(hand, tmp_path):
    # A clip that begins with bent elbows.
    skeleton = wick().character.skeleton
    worlds = evaluate_rig(skeleton, None, trial_pose(skeleton, "elbow")).joints
    tracks = {}
    for joint in ("arm.l.lower", "arm.r.lower"):
        i = skeleton.index[joint]
        _, turn, _ = decompose(np.linalg.inv(worlds[skeleton.parents[i]]) @ worlds[i])
        tracks[joint] = (Track("rotation", np.array([0.0, 1.0]), np.tile(turn, (2, 1))),)
    document, _ = edits.bring_motion(wick(), (Clip("bent", "bent", length=1.0, tracks=joint_tracks(tracks)),))
    write_glb(tmp_path / "wick.glb", replace(document.character, clips=document.character.clips[-1:]))
    window = hand.window
    window.answers.take = None
    window.open_path(tmp_path / "wick.glb")
    hand.idle()
    # Left: nothing has changed.
    assert hand.session.character is None and len(window.answers.offered) == 1
    sheet = ImportSheet(window.answers.offered[0], window)
    sheet.show()
    hand.bot.wait(30)
    assert sheet.choice == ImportChoice(parts=frozenset(p.id for p in window.answers.offered[0].parts))
    hat = next(i for i, b in sheet.parts.items() if "hat_brim" in b.text())
    sheet.parts[hat].click()
    sheet.first.click()
    assert sheet.choice.rest_from_clip and hat not in sheet.choice.parts
    sheet.options["skeleton"].click()
    assert not sheet.choice.weights and not sheet.choice.clips and not sheet.choice.rest_from_clip
    sheet.options["skeleton"].click()
    window.answers.take = sheet.choice
    sheet.close()
    window.open_path(tmp_path / "wick.glb")
    hand.until(lambda: hand.session.character is not None)
    character = hand.session.character
    assert {p.name for p in character.parts} == {"body", "eyes"}
    assert character.skin is not None and character.clips
    # The first frame is the rest: the clip shows the file's own motion from there.
    offered = next(p for p in window.answers.offered[1].parts if p.name == "body").mesh.points
    assert np.abs(character.parts[0].mesh.points - offered).max() > 0.02


def test_an_error_nobody_foresaw_is_a_line_and_a_report(hand, monkeypatch):
    import sys

    from pegloom.app.main import catch_errors
    from pegloom.files.reports import reports_folder

    said = []
    hand.session.said.connect(lambda text, error, _: said.append((text, error)))
    monkeypatch.setattr(sys, "excepthook", sys.__excepthook__)
    catch_errors(hand.window)
    try:
        raise RuntimeError("a hole in the floor")
    except RuntimeError as error:
        sys.excepthook(RuntimeError, error, error.__traceback__)
    text, is_error = said[-1]
    assert is_error
    assert "a hole in the floor" in text
    assert text.endswith("nothing is lost")
    assert list(reports_folder().glob("*.txt"))


def test_a_file_that_unpacks_to_much_is_asked_about(hand, tmp_path):
    from tests.support.hostile import OBJ, zipped

    path = tmp_path / "much.zip"
    path.write_bytes(zipped({"a.obj": OBJ.encode() + b"# nothing\n" * 9_000_000}))
    answers, said = hand.window.answers, []
    hand.session.said.connect(lambda text, error, _: said.append((text, error)))
    answers.yes = False
    hand.session.open(path)
    hand.until(lambda: any("unpacks to more than" in q for q in answers.asked))
    assert hand.session.character is None
    assert said[-1][1]
    answers.yes = True
    hand.window.open_path(path)
    hand.until(lambda: hand.session.character is not None)


def test_a_project_that_was_mended_says_so(hand, tmp_path):
    import json
    import zipfile

    from pegloom.files.project import save_project
    from tests.support.hostile import zipped

    save_project(tmp_path / "w.pegloom", wick())
    with zipfile.ZipFile(tmp_path / "w.pegloom") as archive:
        entries = {n: archive.read(n) for n in archive.namelist()}
    name = wick().character.images[0].name
    entries["document.json"] = entries["document.json"].replace(json.dumps(name).encode(), b'"../../x.png"')
    (tmp_path / "w.pegloom").write_bytes(zipped(entries))
    said = []
    hand.session.said.connect(lambda text, *_: said.append(text))
    hand.session.open(tmp_path / "w.pegloom")
    assert any("is called x.png now" in text for text in said)


def test_a_name_that_looks_like_markup_is_shown_as_it_is_and_loads_nothing(hand):
    evil = '<img src="/etc/hostname"><b>body</b>'
    document = wick()
    character = document.character
    parts = tuple(replace(p, name=evil) for p in character.parts)
    hand.session.start_with(document.with_character(replace(character, name=evil, parts=parts)), None)
    hand.session.commit(f"Rename to {evil}", hand.session.document.with_character(replace(hand.session.character)))
    hand.session.say(f"{evil} is here")
    for area in Area:
        hand.session.go(area)
        hand.bot.wait(20)
        for widget in widgets(hand.window):
            if isinstance(widget, QLabel):
                assert widget.textFormat() != Qt.TextFormat.AutoText, widget.objectName()
                assert widget.textFormat() == Qt.TextFormat.PlainText or "<img" not in widget.text()
            assert "<img" not in widget.toolTip(), widget.objectName()
    assert hand.window.frame_.note.text().startswith(evil)


def test_a_view_at_rest_is_drawn_finer_and_a_change_begins_anew(rigged):
    """Silhouettes lose their steps: an edge's pixels come to lie between the figure and what is behind it."""
    hand, stage = rigged, rigged.window.stage
    hand.session.clean_view = True
    hand.idle()
    plain = picture(stage)
    stage.passes = 8
    stage.update()
    hand.until(lambda: stage.renderer.finer.done == 8)
    fine = picture(stage)
    assert stage._pass == 8, "looking changes nothing"

    def steps(image):
        """Pixels that differ from their neighbour by as much as the figure does from what is behind it."""
        return int((np.abs(np.diff(image.sum(axis=2), axis=1)) > 250).sum())

    assert steps(fine) < 0.5 * steps(plain)
    assert np.abs(fine - plain).mean() < 3.0, "it is the same picture"
    hand.session.clean_view = False
    assert stage._pass == 0
    hand.until(lambda: stage._pass == 8)


def png_of(pixels) -> bytes:
    stream = io.BytesIO()
    Picture.fromarray(pixels).save(stream, "PNG")
    return stream.getvalue()


def test_textured_shows_what_a_material_is_of(hand):
    """Metal mirrors, a normal texture has relief, occlusion takes light away, what is emissive shines; Clay knows none of it."""
    made = trimesh.creation.icosphere(subdivisions=4, radius=0.5)
    made.apply_translation([0, 0.5, 0])
    ball = as_mesh(made)
    away = ball.points[ball.corners] - [0, 0.5, 0]
    uvs = np.stack([np.arctan2(away[:, 0], away[:, 2]) / (2 * np.pi) + 0.5, np.arccos(np.clip(away[:, 1] / 0.5, -1, 1)) / np.pi], axis=1)
    ball = replace(ball, uvs=uvs)
    stripes = np.zeros((64, 64, 3), dtype=np.uint8)
    stripes[:] = (128, 128, 255)
    stripes[:, ::4] = stripes[:, 1::4] = (220, 128, 200)
    images = tuple(
        Image(name, "image/png", png_of(pixels))
        for name, pixels in (("bumps", stripes), ("dark", np.full((4, 4, 3), 40, np.uint8)), ("white", np.full((4, 4, 3), 255, np.uint8)))
    )
    plain = Material("plain", (0.5, 0.5, 0.5, 1.0), 0.0, 0.9)
    kinds = {
        "plain": plain, "metal": replace(plain, metallic=1.0, roughness=0.15), "relief": replace(plain, normal_image="bumps"),
        "shaded": replace(plain, occlusion_image="dark"), "shining": replace(plain, emissive=(0.9, 0.4, 0.1)),
    }  # fmt: skip
    shots = {}
    for display in (Display.CLAY, Display.TEXTURED):
        for name, material in kinds.items():
            document = edits.bring_in(Document(), (Part("ball", "ball", ball),), name="ball", materials=(material,), images=images)
            hand.session.start_with(document, None)
            hand.session.set_view(display=display, clean_view=True)
            hand.stage.show_all()
            hand.idle()
            image = picture(hand.stage)
            h, w = image.shape[:2]
            shots[display, name] = image[h // 2 - 60 : h // 2 + 60, w // 2 - 60 : w // 2 + 60]
    clay = [shots[Display.CLAY, name] for name in kinds]
    assert all(np.abs(one - clay[0]).max() <= 2 for one in clay), "Clay is one clay"
    shown = {name: shots[Display.TEXTURED, name].astype(float) for name in kinds}
    contrast = {name: float(image.sum(axis=2).std()) for name, image in shown.items()}
    assert contrast["metal"] > 1.5 * contrast["plain"]
    across = {name: float(np.abs(np.diff(image.sum(axis=2), axis=1)).mean()) for name, image in shown.items()}
    assert across["relief"] > 2.0 * across["plain"], "stripes can be seen"
    assert shown["shaded"].mean() < 0.75 * shown["plain"].mean()
    # Qt's pictures are blue, green, red.
    red = {name: float(image[..., 2].mean() - image[..., 0].mean()) for name, image in shown.items()}
    assert red["shining"] > red["plain"] + 40
