"""Playing: the same samples as the render, paths in step, no clicks, real time kept."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import cast

import msgspec
import numpy as np
import pytest
import soundfile

from gluvo.play.device import BLOCK, SilentDevice
from gluvo.play.engine import Engine, Monitoring
from gluvo.play.meters import DROPOUTS, POSITION, STALLS, TAKEN, Board
from gluvo.play.output import Output
from gluvo.play.playhead import Playhead
from gluvo.play.process import Host
from gluvo.play.remote import RemoteEngine
from gluvo.play.server import RECORD
from gluvo.render.chain import run_chain
from gluvo.session.media import Material
from gluvo.session.sounds import Sound
from gluvo.steps import STEP_KINDS, Band, Glue, Limiter, MidSideEq, Saturation, Split, Step, Trim, Width

from .conftest import FADED, RATE, material, music, noise, one, sine, until

STEPS: list[Step] = [
    Trim(id="t", gain=-3.0),
    Glue(id="g", ratio=4.0, threshold=-26.0, look_ahead=4.0, low_cut=90.0),
    Limiter(id="l", drive=7.0, ceiling=-1.0),
]


def sound(x: np.ndarray) -> Material:
    return material(x)


def samples(song: Material) -> np.ndarray:
    return song.sounds["stem-1"].samples


def song_as_reference(song: Material) -> dict[str, Sound]:
    return {"r": song.sounds["stem-1"]}


def pulled(engine: Engine, frames: int, size: int = BLOCK) -> np.ndarray:
    out = np.zeros((frames, 2))
    for at in range(0, frames, size):
        engine.pull(out[at : at + size])
    return out


def playing(engine: Engine, **monitoring: object) -> Engine:
    engine.listen(Monitoring(**monitoring))
    engine.play()
    return engine


@pytest.mark.parametrize("size", [64, 512, 1000])
def test_live_is_offline(size: int) -> None:
    song = sound(music(3.0))
    engine = playing(Engine(song, {}, one(STEPS, step="g")))
    live = pulled(engine, 2 * RATE, size)
    late = engine.late
    offline = run_chain(STEPS, samples(song), RATE)
    faded_in = FADED
    assert np.abs(live[late + faded_in :] - offline[faded_in : len(live) - late]).max() < 1e-9


def test_all_paths_are_aligned_to_the_sample() -> None:
    song = sound(music(3.0))
    engine = Engine(song, song_as_reference(song), one(STEPS, step="g"))
    late = engine.late
    before, after = run_chain(STEPS[:1], samples(song), RATE), run_chain(STEPS[:2], samples(song), RATE)
    wanted = {
        "untouched": samples(song),
        "step_out": run_chain([STEPS[0], STEPS[2]], samples(song), RATE),
        "r": samples(song),
    }
    for path, expected in wanted.items():
        live = pulled(playing(Engine(song, song_as_reference(song), one(STEPS, step="g")), path=path), RATE)
        assert np.abs(live[late + FADED :] - expected[FADED : RATE - late]).max() < 1e-9, path
    change = pulled(playing(Engine(song, {}, one(STEPS, step="g")), path="change"), RATE)
    assert np.abs(change[late + FADED :] - (after - before)[FADED : RATE - late]).max() < 1e-9


def test_switching_neither_jumps_nor_clicks() -> None:
    tone = sound(sine(220, 4.0, -12))
    ref = tone.sounds["stem-1"]
    engine = playing(Engine(tone, {"r": ref, "q": ref}, one([Trim(id="t")], step="t")))
    parts = []
    for path in ("result", "untouched", "r", "q", "step_out", "result"):
        engine.listen(Monitoring(path=path))
        parts.append(pulled(engine, 10 * BLOCK))
    out = np.concatenate(parts)[engine.late + FADED :]
    assert np.abs(out - sine(220, 4.0, -12)[FADED : FADED + len(out)]).max() < 1e-6


def test_a_gain_moves_within_twenty_milliseconds() -> None:
    engine = playing(Engine(sound(np.full((RATE, 2), 0.5)), {}, one([])))
    pulled(engine, 2048)
    engine.listen(Monitoring(gains={"result": -6.0}, dim=False))
    out = pulled(engine, 2048)[:, 0]
    assert np.abs(np.diff(out)).max() < 0.5 * 1.5 * 0.5 / (0.019 * RATE)
    assert out[engine.late + round(0.02 * RATE) :] == pytest.approx(0.5 * 10 ** (-6 / 20))


@pytest.mark.parametrize(
    ("view", "left", "right"),
    [
        ("stereo", 0.4, -0.2),
        ("mid", 0.1, 0.1),
        ("side", 0.3, -0.3),
        ("left", 0.4, 0.4),
        ("right", -0.2, -0.2),
        ("mono", 0.1, 0.1),
    ],
)
def test_monitor_views(view: str, left: float, right: float) -> None:
    engine = playing(Engine(sound(np.full((RATE, 2), 1.0) * np.array([0.4, -0.2])), {}, one([])), view=view)
    assert pulled(engine, 4096)[-1] == pytest.approx([left, right], abs=1e-6)
    engine.listen(Monitoring(view=view, level=-6.0, dim=True))
    assert pulled(engine, 4096)[-1] == pytest.approx(np.array([left, right]) * 10 ** (-26 / 20), abs=1e-6)


def test_the_loops_seam_is_smooth_and_in_time() -> None:
    tone = sine(331, 6.0, -6)
    engine = Engine(sound(tone), {}, one([]))
    engine.loop(1.0, 2.2345)
    engine.seek(1.9)
    out = pulled(playing(engine), 4 * RATE)
    assert np.abs(np.diff(out[1000:, 0])).max() < 2 * np.pi * 331 / RATE * 0.5012 + 2 * 0.5 / (0.010 * RATE)
    length = round(1.2345 * RATE)
    seam = round((2.2345 - 1.9) * RATE) + engine.late
    first, second = out[seam + 500 : seam + length], out[seam + length + 500 : seam + 2 * length]
    assert np.abs(first - second).max() < 1e-9
    assert np.abs(first - tone[RATE + 500 : RATE + length]).max() < 1e-6


def test_the_place_that_is_told_goes_round_only_with_the_sound() -> None:
    """What is heard is late; that it stands before the loop when it begins to play does not make it the loop's end."""
    engine = Engine(sound(noise(2.0)), {}, one(STEPS))
    engine.loop(0.5, 1.0)
    for start in (0.5, 0.48):
        engine.seek(start)
        engine.play()
        told: list[tuple[int, float]] = []
        for _ in range(60):
            pulled(engine, 128, 128)
            told.append(engine.position)
        assert told[0] == pytest.approx(start, abs=0.003) and max(told) < 0.7 and told == sorted(told)
        pulled(engine, RATE // 2 - 60 * 128 + engine.late // 2)
        assert 0.9 < engine.position < 1.0  # it has been read round, and is not heard there yet
        engine.stop()
        pulled(engine, RATE // 4)


def test_seek_stop_and_end() -> None:
    engine = playing(Engine(sound(sine(200, 1.0, -6)), {}, one(STEPS[:1])))
    pulled(engine, 4096)
    engine.seek(0.5)
    out = pulled(engine, 4096)
    assert engine.position == pytest.approx(0.5 + (4096 - engine.late) / RATE, abs=0.001)
    assert np.abs(np.diff(out[:, 0])).max() < 0.05
    engine.stop()
    out = pulled(engine, 4096)
    assert np.abs(np.diff(out[:, 0])).max() < 0.05 and not out[1536:].any()
    engine.play()
    pulled(engine, RATE)
    assert not engine.playing and engine.position == 0.0


def test_play_in_the_middle_sounds_as_if_it_had_come_from_before() -> None:
    song = sound(music(6.0))
    engine = Engine(song, {}, one(STEPS))
    engine.seek(4.0)
    live = pulled(playing(engine), RATE)
    late = engine.late
    offline = run_chain(STEPS, samples(song), RATE)[4 * RATE : 5 * RATE - late]
    assert np.abs(live[late + FADED :] - offline[FADED:]).max() < 0.01


def test_edits_during_play_end_where_a_render_does() -> None:
    song = sound(music(5.0))
    engine = playing(Engine(song, {}, one(STEPS, step="g")))
    pulled(engine, RATE)
    edited = [STEPS[0], msgspec.structs.replace(STEPS[1], threshold=-30.0, release=40.0), STEPS[2]]
    engine.change(one(edited, step="l"))
    engine.change(one([*edited[:2], msgspec.structs.replace(STEPS[2], look_ahead=5.0)], step="l"))
    live = pulled(engine, 3 * RATE)
    late = engine.late
    offline = run_chain([*edited[:2], msgspec.structs.replace(STEPS[2], look_ahead=5.0)], samples(song), RATE)
    shown = offline[3 * RATE - late : 4 * RATE - late]
    assert np.abs(live[2 * RATE : 3 * RATE] - shown).max() < 1e-3


def test_an_edit_is_heard_within_60_ms() -> None:
    engine = playing(Engine(sound(np.full((3 * RATE, 2), 0.5)), {}, one([*STEPS[1:2], Trim(id="t")])))
    pulled(engine, 8192)
    engine.change(one([*STEPS[1:2], Trim(id="t", gain=-20.0)]))
    before = np.abs(pulled(engine, BLOCK)).max()
    out = np.abs(pulled(engine, RATE // 10)[:, 0])
    from gluvo.play.device import DEPTH_SECONDS

    changed = int(np.argmax(out < 0.5 * before)) + BLOCK
    assert changed / RATE + DEPTH_SECONDS < 0.06


def test_the_silent_device_keeps_time_and_records(tmp_path: Path) -> None:

    path = tmp_path / "heard.wav"
    device = SilentDevice(RATE, path)
    x = noise(0.4).astype(np.float32)
    start = time.monotonic()
    for at in range(0, len(x), BLOCK):
        device.write(x[at : at + BLOCK])
    took = time.monotonic() - start
    device.close()
    assert took > 0.4 - 2 * 2048 / RATE  # it never runs ahead; how late it may be is the machine's affair
    assert np.array_equal(soundfile.read(path, dtype="float32")[0], x)


@pytest.mark.thorough
def test_the_process_plays_what_the_render_has(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    heard = tmp_path / "heard.wav"
    monkeypatch.setenv(RECORD, str(heard))
    song = sound(music(3.0))
    host = Host()
    engine = RemoteEngine(host, song, song_as_reference(song), one(STEPS, step="g"))
    engine.loop(0.5, 1.0)
    engine.seek(0.5)
    engine.listen(Monitoring())
    engine.play()
    host.wait()
    until(lambda: len(engine.read().power) and engine.position > 0.8)
    assert engine.playing and engine.device_name == "Silent device"
    assert engine.step_ids == ("t", "g", "l")
    engine.stop()
    engine.close()
    host.close()
    out = soundfile.read(heard)[0]
    start = int(np.argmax(np.abs(out).max(axis=1) > 0))
    late = sum(p.latency for p in (s.make(RATE) for s in STEPS))
    offline = run_chain(STEPS, samples(song), RATE)
    part = slice(start + 2000, start + 9000)
    shift = part.start - start
    best = min(
        float(np.abs(out[part] - offline[RATE // 2 + shift - late + d : RATE // 2 + shift - late + d + 7000]).max())
        for d in range(-4, 5)
    )
    assert best < 0.01


def test_a_request_is_told_as_taken_only_with_the_place_it_led_to() -> None:
    """Asked for in the middle of a block, a seek is not contradicted by the place that block ends with."""
    told: list[tuple[int, float]] = []

    class AskedMeanwhile(SilentDevice):
        def write(self, block: np.ndarray) -> bool:
            count = len(told) + 1
            engine.seek(0.01 * count)
            engine.mark(count)
            told.append((int(engine.board.state[TAKEN]), float(engine.board.state[POSITION])))
            return super().write(block)

    engine = Engine(sound(sine(200, 1.0, -6)), {}, one([]))
    engine.output.start(AskedMeanwhile(RATE))
    until(lambda: len(told) >= 20 or engine.output.failed)
    engine.output.close()
    assert [count for count, _ in told[:20]] == [max(0, n - 1) for n in range(20)]
    assert all(place == pytest.approx(0.01 * count, abs=1 / RATE) for count, place in told)


def test_the_next_song_can_be_loaded_and_takes_the_place_of_the_one_before() -> None:
    host, held = Host(), []
    for n in range(4):
        song = sound(noise(0.5, seed=n))
        engine = RemoteEngine(host, song, song_as_reference(song), one([Glue(id="g")]), "silent")
        engine.play()
        host.wait()
        assert engine.playing
        held.append(Path(f"/proc/{host._process.pid}/maps").read_text().count("memfd:gluvo"))
        engine.close()
    host.close()
    assert held[0] == held[-1] > 0  # the audio that the process that plays has mapped


def test_what_is_heard_never_passes_full_scale() -> None:
    """A level match that is a moment behind an edit must not clip the loudspeakers; what does not need it is left alone."""
    tone = sine(220, 3.0, -6)
    engine = playing(Engine(sound(tone), {}, one([])), gains={"result": 3.0})
    exact = pulled(engine, RATE)
    assert np.abs(exact[engine.late + FADED :] - tone[FADED : RATE - engine.late] * 10 ** (3 / 20)).max() < 1e-6
    engine.listen(Monitoring(gains={"result": 15.0}))
    pushed = pulled(engine, RATE // 2)
    assert np.abs(pushed).max() <= 1.0 + 1e-12 and np.abs(pushed[-4800:]).max() > 0.99
    engine.listen(Monitoring(gains={"result": 0.0}))
    pulled(engine, RATE)
    again = pulled(engine, 4800)
    assert np.abs(again).max() == pytest.approx(10 ** (-6 / 20), abs=1e-4)


def test_stems_that_begin_later_are_read_in_time() -> None:
    head, x = Playhead(RATE), noise(0.2).astype(np.float32)
    out = np.zeros((4096, 2))
    head.seek(900, fade=False)
    head.read(x, out, offset=1000)
    assert not out[:100].any() and np.array_equal(out[100:].astype(np.float32), x[:3996])
    head.seek(1000 + len(x) - 10, fade=False)
    head.read(x, out, offset=1000)
    assert np.array_equal(out[:10].astype(np.float32), x[-10:]) and not out[10:].any()


def test_a_burst_of_edits_ends_with_the_last_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    heard = tmp_path / "heard.wav"
    monkeypatch.setenv(RECORD, str(heard))
    song, host = sound(np.full((4 * RATE, 2), 0.5)), Host()
    engine = RemoteEngine(host, song, {}, one([Trim(id="t")]))
    engine.listen(Monitoring())
    engine.play()
    for gain in range(1, 40):
        engine.change(one([Trim(id="t", gain=-0.5 * gain)]))
    engine.seek(1.0)
    host.wait()
    goal = 0.5 * 10 ** (-19.5 / 20)
    until(lambda: len(levels := engine.read().peaks) and levels[-1, 0] == pytest.approx(goal, abs=1e-3))
    engine.close()
    host.close()
    assert np.abs(soundfile.read(heard)[0][-BLOCK // 2 :, 0]).max() == pytest.approx(goal, abs=1e-3)


COMPILED = """
import gc
from numba.core.dispatcher import Dispatcher
from gluvo.play import server
from tests.test_play import everything_played

def kernels():
    return {id(o): (o.py_func.__name__, len(o.signatures)) for o in gc.get_objects() if isinstance(o, Dispatcher)}

server.rehearse()
before = kernels()
for rate in (44_100, 48_000, 192_000):
    everything_played(rate)
now = kernels()
late = [name for key, (name, count) in now.items() if count != before.get(key, (name, 0))[1]]
assert not late, late
"""


def everything_played(rate: int) -> None:
    """Every step in its ways of working, edited from one into the next while it plays, heard by every path."""
    bell, other = Band(id=1, gain=3.0), Band(id=2, gain=2.0, target="side")
    left, moving = (
        msgspec.structs.replace(bell, **c) for c in ({"target": "left"}, {"target": "side", "dynamic": True})
    )
    chains: list[list[Step]] = [
        *(
            [MidSideEq(id="e", bands=bands, phase=phase)]
            for phase in ("minimum", "linear")
            for bands in ((bell,), (other,), (left, other), (moving,))
        ),
        *(
            [Saturation(id="e", drive=6.0, shape=shape, tilt=1.0, low=90.0)]
            for shape in ("soft", "warm", "dense", "edge")
        ),
        *([Saturation(id="e", drive=6.0, oversampling=times)] for times in (1, 2, 8, 16)),
        [Width(id="e", bands=4, width_1=80.0, mono_below=100.0, side_low_cut=80.0, balance_1=20.0)],
        [Glue(id="e", ratio=2.0, low_cut=100.0, mode="mid_side")],
        *(
            [msgspec.structs.replace(step, id="e")]
            for kind in cast("tuple[type[Step], ...]", (*STEP_KINDS, Split))
            if kind not in (MidSideEq, Saturation)
            for step in kind.examples()
        ),
    ]
    engine = Engine(material(music(2.0, rate), rate), {}, one(chains[0], step="e"))
    playing(engine)
    for chain in chains:
        for hear in ("result", "band", "change", "step_out"):
            engine.change(one(chain, step="e", band=1, hear=hear))
            engine.listen(Monitoring(hear, gains={"result": -1.0}, ceiling=-3.0))
            pulled(engine, 4096)


@pytest.mark.thorough
def test_nothing_is_compiled_while_it_plays() -> None:
    """In a process of its own, where only the rehearsal has come before."""
    done = subprocess.run(
        [sys.executable, "-c", COMPILED], capture_output=True, text=True, cwd=Path(__file__).parents[1]
    )
    assert done.returncode == 0, done.stderr[-600:]


@pytest.mark.parametrize("busy", [True, False])
def test_dropouts_that_are_not_the_sounds_own_are_told_apart(busy: bool) -> None:
    """A block that takes the processor longer than it lasts is late by itself; one that took nothing was let down."""

    class Late:
        rate, name, blocks = 48_000, "late", 0
        enough = threading.Event()

        def write(self, block: np.ndarray) -> bool:
            self.blocks += 1
            if self.blocks >= 5:
                self.enough.set()
            return True

        def close(self) -> None: ...

    class Busy:
        board, playing, position, sounding, marked = Board(), True, 0.0, True, 0

        def pull(self, out: np.ndarray) -> None:
            began = time.thread_time()
            while busy and time.thread_time() - began < 1.2 * len(out) / 48_000:
                pass

    device, player = Late(), Busy()
    output = Output(player)
    output.start(device)
    assert device.enough.wait(10.0)
    output.close()
    late, stalls = (int(player.board.state[n]) for n in (DROPOUTS, STALLS))
    assert late >= 4 and stalls == (0 if busy else late)
