"""The capture desk: its packets, hostile ones, drop-outs, a desk that dies; takes filled, smoothed, carried over."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import struct
import subprocess
import sys
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from pegloom.core.errors import EditError
from pegloom.core.motion.capture import Recording, TakeOptions, onward, smoothed, taken
from pegloom.core.motion.retarget import moments_of
from pegloom.core.motion.retarget.live import LiveCarry, places_of
from pegloom.core.motion.retarget.source import worlds_of
from pegloom.core.motion.retell import posed_at
from pegloom.core.skeleton.joints import Skeleton
from pegloom.document import edits
from pegloom.document.edits.borrow import soles_here
from pegloom.files.desk import Body, Frame, Listener, body_packet, frame_packet, read_packet
from pegloom.files.desk.listener import DeskError
from pegloom.files.desk.osc import Double, Message, PacketError, bundle, message, read
from pegloom.files.desk.simulated import Faults, Performance, frames
from pegloom.files.shelf import Shelf
from tests.support.figures import DEMO, shipped, wick

SHELF = Shelf()


@pytest.fixture(scope="module")
def performance() -> Performance:
    return Performance([SHELF.source("wave"), SHELF.source("stroll")])


@pytest.fixture(scope="module")
def body(performance) -> Body:
    told = read_packet(body_packet(Body("performer", 7, 60.0, performance.skeleton)))
    assert isinstance(told, Body)
    return told


def free_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def until(holds, seconds: float = 30.0) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if holds():
            return True
        time.sleep(0.01)
    return False


# Packets


def test_messages_are_laid_out_as_the_standard_says():
    # The examples of the specification.
    assert message("/oscillator/4/frequency", 440.0) == b"/oscillator/4/frequency\0,f\0\0\x43\xdc\0\0"
    assert message("/foo", 1000, -1, "hello", 1.234, 5.678) == bytes.fromhex("2f666f6f000000002c69697366660000000003e8ffffffff68656c6c6f0000003f9df3b640b5b22d")
    one = message("/a", b"12345", Double(2.5))
    assert len(one) % 4 == 0 and read(one) == [Message("/a", (b"12345", 2.5))]
    assert [m.address for m in read(bundle([one, message("/b")]))] == ["/a", "/b"]


def test_a_body_and_its_frames_come_through(performance, body):
    assert np.abs(body.skeleton.positions - performance.skeleton.positions).max() < 1e-6
    assert [j.name for j in body.skeleton.joints] == [j.name for j in performance.skeleton.joints]
    rows = performance.rows(0.7)
    rows[3] = np.nan
    back = read_packet(frame_packet(Frame(7, 12, 0.7, rows)), len(rows))
    assert isinstance(back, Frame) and (back.body, back.number, back.seconds) == (7, 12, 0.7)
    assert np.isnan(back.rows[3]).all() and np.nanmax(np.abs(back.rows - rows)) < 1e-5
    assert read_packet(message("/weather", "mild")) is None


SEEDS = [b"", b"\0" * 4, b"#bundle\0", b"/frame", message("/frame", 7, 1, Double(0.0), b"\0" * 28), message("/frame", 7, 1, Double(float("nan")), b""), message("/figure", "x", 1, 1 << 30, 60.0),
         bundle([message("/figure", "x", 1, 1, 60.0)]), bundle([message("/figure", "x", 1, 1, 60.0), message("/joint", 0, 0, "a", *(0.0,) * 7)]), b"#bundle\0" + b"\0" * 8 + struct.pack(">i", 1 << 30)]  # fmt: skip


def malformed(rng: np.random.Generator, good: list[bytes]) -> bytes:
    """A packet with something wrong with it."""
    base = bytearray(good[rng.integers(len(good))])
    kind = rng.integers(6)
    if kind == 0:
        return bytes(rng.integers(0, 256, rng.integers(0, 3000), dtype=np.uint8))
    if kind == 1:
        return bytes(base[: rng.integers(len(base) + 1)])
    if kind == 2:
        return bytes(base) + bytes(rng.integers(0, 256, rng.integers(1, 60), dtype=np.uint8))
    if kind == 3:
        for k in rng.integers(0, len(base), rng.integers(1, 30)):
            base[k] = rng.integers(256)
        return bytes(base)
    if kind == 4:
        at = int(rng.integers(0, max(len(base) - 4, 1))) // 4 * 4
        base[at : at + 4] = struct.pack(">i", int(rng.choice([-1, 0, 1, 2**31 - 1, -(2**31), 65535])))
        return bytes(base)
    return SEEDS[rng.integers(len(SEEDS))]


def test_a_thousand_malformed_packets_are_refused_or_read_and_never_more(performance, body):
    rng = np.random.default_rng(5)
    good = [body_packet(Body("p", 7, 60.0, performance.skeleton)), frame_packet(Frame(7, 1, 0.1, performance.rows(0.1)))]
    refused = 0
    for _ in range(3000):
        packet = malformed(rng, good)
        try:
            told = read_packet(packet, len(body.skeleton.joints))
        except PacketError as error:
            refused += 1
            assert "\n" not in str(error)
            continue
        if isinstance(told, Frame):
            assert told.rows.shape == (len(body.skeleton.joints), 7)
            finite = told.rows[np.isfinite(told.rows).all(axis=1)]
            assert np.abs(finite[:, :3]).max(initial=0.0) <= 1e4 and np.allclose(np.linalg.norm(finite[:, 3:], axis=1), 1.0)
        elif isinstance(told, Body):
            assert len({j.name for j in told.skeleton.joints}) == len(told.skeleton.joints) <= 256
            assert all(j.name.isprintable() and len(j.name) <= 80 for j in told.skeleton.joints)
    assert refused > 1500


@given(st.binary(max_size=400))
@settings(max_examples=300)
def test_any_bytes_are_no_more_than_refused(data):
    with contextlib.suppress(PacketError):
        read_packet(data, 3)


# Hearing


def test_only_loopback_is_listened_to_and_a_taken_port_is_said():
    port = free_port()
    listener = Listener(lambda *_: None, port)
    try:
        assert listener.socket.getsockname() == ("127.0.0.1", port)
        with pytest.raises(DeskError, match="choose another port"):
            Listener(lambda *_: None, port)
    finally:
        listener.close()
    with pytest.raises(DeskError, match="1024"):
        Listener(lambda *_: None, 80)


def test_rubbish_between_frames_loses_none_of_them(performance):
    port, seen = free_port(), []
    listener = Listener(lambda body, frame, arrived: seen.append(frame.number), port)
    rng = np.random.default_rng(1)
    good = [body_packet(Body("p", 7, 60.0, performance.skeleton))]
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.sendto(good[0], ("127.0.0.1", port))
            for k in range(100):
                for _ in range(10):
                    # A description that makes sense would be another body's: it is not rubbish.
                    packet = malformed(rng, [frame_packet(Frame(3, k, k / 60, performance.rows(0.0)))])
                    out.sendto(packet[:60_000], ("127.0.0.1", port))
                out.sendto(frame_packet(Frame(7, k, k / 60, performance.rows(k / 60))), ("127.0.0.1", port))
                assert until(lambda k=k: bool(seen) and seen[-1] == k), (k, listener.heard)
        assert seen == list(range(100))
        assert listener.heard.wrong > 900 and listener.heard.why
    finally:
        listener.close()


def test_what_a_listener_does_with_a_frame_may_fail_and_the_next_is_heard(performance):
    port, seen = free_port(), []

    def heard(body: Body, frame: Frame, arrived: float) -> None:
        seen.append(frame.number)
        raise ValueError("no")

    listener = Listener(heard, port)
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.sendto(body_packet(Body("p", 7, 60.0, performance.skeleton)), ("127.0.0.1", port))
            for k in (0, 1, 5, 3):
                out.sendto(frame_packet(Frame(7, k, k / 60, performance.rows(0.0))), ("127.0.0.1", port))
        assert until(lambda: listener.heard.packets == 5)
        assert seen == [0, 1, 5] and listener.heard.missing == 3 and "too late" in listener.heard.why
    finally:
        listener.close()


def test_a_desk_killed_in_the_middle_of_a_take_loses_nothing_and_goes_on_when_it_is_back():
    port, takes = free_port(), []

    def heard(body: Body, frame: Frame, arrived: float) -> None:
        if not takes or takes[-1].skeleton is not body.skeleton:
            takes.append(Recording(body.skeleton, body.rate))
        takes[-1].add(frame.seconds, frame.rows, arrived)

    command = [sys.executable, "-m", "pegloom", "capture-desk", "--port", str(port), "--clip", "wave"]
    listener = Listener(heard, port)
    try:
        for count in (30, 80):
            desk = subprocess.Popen(command, stdout=subprocess.DEVNULL)
            try:
                assert until(lambda count=count: bool(takes) and len(takes[-1]) > count, 120.0)
            finally:
                os.kill(desk.pid, signal.SIGKILL)
                desk.wait()
            before = len(takes[-1])
            time.sleep(0.2)
            assert len(takes[-1]) >= before
    finally:
        listener.close()
    assert len(takes) == 1, "the same body described again is the same body"
    times, rows = takes[0].frames()
    assert (np.diff(times) > 0).all() and len(rows) == len(times)
    source, report = taken(takes[0].skeleton, times, rows, 60.0)
    assert report.longest > 0.2, "the time between both is a gap"
    document, lent = edits.keep_take(wick(), source)
    clip = document.require_character().clip(lent.clip)
    assert clip.origin is not None and clip.origin.made == "captured" and clip.length == pytest.approx(times[-1] - times[0], abs=0.04)


# Takes


def test_gaps_are_filled_and_the_end_of_smoothing_is_near_the_truth(body):
    # Nothing of it goes to and fro within the time a joint is out of sight.
    performance = Performance([SHELF.source("stroll")])
    truth = np.stack([performance.rows(t) for t in np.arange(181) / 60])
    times, rows = [], []
    for due, _, told in frames(performance, 60.0, Faults(dropped=0.08, lost=0.05), seed=3):
        if due > 3.0 + 1e-9:
            break
        if told is not None:
            times.append(due)
            rows.append(told)
    source, report = taken(body.skeleton, np.array(times), np.array(rows), 60.0, options=TakeOptions(0.15))
    assert report.filled > 3 and 0.005 < report.lost < 0.2
    assert (np.diff(moments_of(source.clip)) == pytest.approx(1 / 60, abs=1e-9))
    seen = posed_at(source.clip, body.skeleton, moments_of(source.clip))
    wanted = np.stack([places_of(performance.skeleton, r) for r in truth])
    count = min(len(seen), len(wanted))
    far = np.linalg.norm(seen[:count, :, :3, 3] - wanted[:count, :, :3, 3], axis=-1)
    assert np.percentile(far, 95) < 0.02 and np.percentile(far, 99) < 0.15
    raw, _ = taken(body.skeleton, np.array(times), np.array(rows), 60.0, options=TakeOptions(0.0))
    jerk = [np.abs(np.diff(posed_at(s.clip, body.skeleton, moments_of(s.clip))[:, :, :3, 3], n=3, axis=0)).mean() for s in (source, raw)]
    assert jerk[0] < 0.5 * jerk[1], "smoothing calms it"


def test_trimming_keeps_what_was_asked_for_and_too_little_is_refused(body, performance):
    times = np.arange(120) / 60
    rows = np.stack([performance.rows(t) for t in times])
    source, report = taken(body.skeleton, times, rows, 60.0, options=TakeOptions(0.0, 0.5, 1.25))
    assert report.frames == 46 and source.clip.length == pytest.approx(0.75)
    for options in (TakeOptions(0.0, 5.0), TakeOptions(0.0, 1.0, 0.5)):
        with pytest.raises(EditError):
            taken(body.skeleton, times, rows, 60.0, options=options)
    with pytest.raises(EditError, match="less than two"):
        taken(body.skeleton, times[:1], rows[:1], 60.0)
    rows[:, 5] = np.nan
    never, _ = taken(body.skeleton, times, rows, 60.0)
    assert np.allclose(posed_at(never.clip, body.skeleton, np.zeros(1))[0].shape, (len(body.skeleton.joints), 4, 4))


@given(st.floats(0.05, 0.6), st.floats(20.0, 120.0), st.integers(4, 40))
def test_smoothing_leaves_cubics_as_they_are(seconds, rate, count):
    t = np.arange(count) / rate
    rows = np.zeros((count, 1, 7))
    rows[:, 0, :3] = np.stack([1 + t, t**2, t**3 - t], axis=1)
    rows[:, 0, 3:] = Rotation.from_rotvec(np.outer(np.full(count, 0.3), [1.0, 0, 0])).as_quat()
    assert np.allclose(smoothed(rows, seconds, rate), rows, atol=1e-8)
    flipped = rows[:, 0, 3:] * np.where(np.arange(count) % 2, -1.0, 1.0)[:, None]
    assert np.allclose(onward(flipped), rows[:, 0, 3:])


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=12))
def test_a_recordings_time_goes_on_whatever_the_device_says(told):
    one = Recording(Skeleton(()), 60.0)
    for k, seconds in enumerate(told):
        one.add(seconds, np.zeros((0, 7)), 10.0 + k / 60)
    times, _ = one.frames()
    assert (np.diff(times) > 0).all() and one.seconds < 60.0 * len(told)


# Live


@pytest.mark.parametrize("name", ["wick", "harl"])
def test_live_it_is_carried_over_as_a_whole_take_is(name):
    character = shipped(name).require_character()
    source = SHELF.source("walk")
    carry = LiveCarry(source.skeleton, character.skeleton, soles=soles_here(character), plant=False)
    times = moments_of(source.clip)
    worlds = worlds_of(source, times)
    whole = edits.looked_at(character, source, options=edits.CarryOptions(plant=False, touch=False, limits=False, at_zero=True))
    batch = posed_at(whole, character.skeleton, times - times[0])
    from pegloom.core.rig.evaluate import evaluate_rig

    live = np.stack([evaluate_rig(character.skeleton, None, carry.pose(worlds[k], float(t))).joints for k, t in enumerate(times)])
    far = np.linalg.norm(live[:, :, :3, 3] - batch[:, :, :3, 3], axis=-1) / character.height
    assert np.median(far) < 2e-3 and np.percentile(far, 95) < (2e-3 if name == "wick" else 0.05)


def test_planted_feet_stay_and_none_is_under_the_floor():
    character = wick().require_character()
    source = SHELF.source("walk")
    carry = LiveCarry(source.skeleton, character.skeleton, soles=soles_here(character))
    times = moments_of(source.clip)
    from pegloom.document.evaluate import evaluate

    seen = [evaluate(character, carry.pose(w, float(t))) for t, w in zip(times, worlds_of(source, times), strict=True)]
    low = min(float(p[:, 1].min()) for f in seen[5:] for p in f.points.values())
    assert low > -0.004
    toes = [character.skeleton.index[f"leg.{s}.toes"] for s in "lr"]
    there = worlds_of(source, times)[:, :, :3, 3][:, [source.skeleton.index[j.id] for j in source.skeleton.joints if j.name.endswith("toes")]]
    here = np.stack([f.joints[:, :3, 3][toes] for f in seen])
    step = times[1] - times[0]
    for side in range(2):
        stands = np.linalg.norm(np.diff(there[:, side], axis=0), axis=1) / step < 0.03
        stands[:6] = False
        assert stands.sum() > 5
        slid = np.linalg.norm(np.diff(here[:, side], axis=0), axis=1)[stands] / step
        assert np.percentile(slid, 90) < 0.05


def test_nothing_that_goes_together_is_said_in_words():
    character = shipped("winch").require_character()
    with pytest.raises(EditError, match="goes with this body"):
        LiveCarry(SHELF.source("walk").skeleton, character.skeleton)


# Without a screen


def test_the_commands_record_a_take_and_say_when_nobody_sends(tmp_path):
    port = free_port()
    command = [sys.executable, "-m", "pegloom"]
    alone = subprocess.run([*command, "capture", str(DEMO / "wick.pegloom"), "--seconds", "1", "--wait", "0.3", "--port", str(port), "-o", str(tmp_path / "a.bvh")], capture_output=True, text=True, timeout=300, check=False)
    assert alone.returncode == 1 and alone.stderr.count("\n") == 1 and "nobody has sent" in alone.stderr
    desk = subprocess.Popen([*command, "capture-desk", "--port", str(port), "--clip", "bow", "--drop", "0.1", "--lose", "0.05"], stdout=subprocess.DEVNULL)
    try:
        done = subprocess.run([*command, "capture", str(DEMO / "wick.pegloom"), "--seconds", "1.5", "--wait", "120", "--port", str(port), "-o", str(tmp_path / "a.bvh"), "--json"], capture_output=True, text=True, timeout=400, check=False)
    finally:
        desk.terminate()
        desk.wait()
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert told["frames"] > 20 and told["rate"] == 60.0 and told["filled"] >= 0
    lines = (tmp_path / "a.bvh").read_text().splitlines()
    assert lines[0] == "HIERARCHY" and f"Frames: {told['frames']}" in lines
