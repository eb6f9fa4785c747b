"""Kernels against what they stand for: plain loops, closed forms, an independent library; however blocks are cut."""

from __future__ import annotations

import math
import os
import subprocess
import sys
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numba
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import optimize, signal

from gluvo.dsp import shaping
from gluvo.dsp.bending import Bender
from gluvo.dsp.convolution import PARTITION, Convolver
from gluvo.dsp.delay import LOUDEST, Delay, ordinary
from gluvo.dsp.filters import Sections, low_cut
from gluvo.dsp.fourier import aligned, transform, twiddle_factors
from gluvo.dsp.kernel import kernel
from gluvo.dsp.lazy_kernels import LazyKernel
from gluvo.dsp.limiting import APART, HOPS_A_SECOND, LookAheadLimiter, ReleaseTimes, magnitudes, reduce_block
from gluvo.dsp.logarithms import to_db, to_factors
from gluvo.dsp.matched import _solved
from gluvo.dsp.oversampling import add_filtered
from gluvo.dsp.roots import root_between
from gluvo.dsp.simd_max import largest, largest_magnitude, largest_sum
from gluvo.dsp.vectors import _made
from gluvo.measure.hits import highest_peaks
from gluvo.measure.overview import REDUCTION_HOP, ReductionTracer
from gluvo.measure.trace import Span, Tracer, k_weighting, trace_of
from gluvo.measure.truepeak import hop_frames, peaks_of

from .conftest import RATE, music, noise, sine

SPLITS = st.lists(st.integers(1, 700), min_size=1, max_size=12)


def doubled(x: float) -> float:
    return 2.0 * x


def test_kernels_run_where_they_can_be_kept_nowhere(
    monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    compiled = numba.njit

    def refusing(function: object, cache: bool = False, **ways: object) -> object:
        if cache:
            raise RuntimeError("no locator available")
        return compiled(function, **ways)

    monkeypatch.setattr(numba, "njit", refusing)
    assert kernel(doubled)(3.0) == 6.0
    assert "NUMBA_CACHE_DIR" in caplog.text


def test_a_kernel_is_made_once_however_many_threads_call_it_first() -> None:
    made, meet = [], threading.Barrier(4)

    def make() -> Callable[[float], float]:
        made.append(1)
        return doubled

    deferred = LazyKernel(make)

    def call(x: float) -> float:
        meet.wait(timeout=10.0)
        return float(deferred(x))

    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(call, (1.0, 2.0, 3.0, 4.0))) == [2.0, 4.0, 6.0, 8.0]
    assert made == [1]


def cut(total: int, sizes: list[int]) -> list[tuple[int, int]]:
    """`total` frames in pieces of these sizes, over and over."""
    found, at, n = [], 0, 0
    while at < total:
        size = min(sizes[n % len(sizes)], total - at)
        found.append((at, at + size))
        at, n = at + size, n + 1
    return found


@settings(max_examples=50, deadline=None)
@given(st.integers(0, 2**32 - 1))
def test_logarithms_and_factors_are_those_of_the_library(seed: int) -> None:
    random = np.random.default_rng(seed)
    x = 10.0 ** random.uniform(-10.0, 6.0, 777)
    out = np.zeros_like(x)
    to_db(x, out)
    assert np.abs(out - 20.0 * np.log10(x)).max() < 1e-12
    reduction = random.uniform(0.0, 200.0, 777) * (random.uniform(size=777) > 0.2)
    to_factors(reduction, out)
    assert np.abs(out * 10.0 ** (reduction / 20.0) - 1.0).max() < 1e-13
    assert (out[reduction == 0.0] == 1.0).all()


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 3000), SPLITS)
def test_a_delay_is_a_shift_however_it_is_cut(frames: int, sizes: list[int]) -> None:
    x = noise(0.1)
    delay, out = Delay(frames), x.copy()
    for a, b in cut(len(x), sizes):
        delay.run(out[a:b], out[a:b])  # in place
    assert np.array_equal(out, np.concatenate([np.zeros((frames, 2)), x])[: len(x)])


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 3000), st.integers(0, 5000), st.integers(0, 4799))
def test_a_delay_goes_on_where_one_of_another_length_was(before: int, after: int, at: int) -> None:
    x = noise(0.1)
    out, first, second = np.zeros_like(x), Delay(before), Delay(after)
    first.run(x[:at], out[:at])
    second.adopt(first)
    second.run(x[at:], out[at:])
    there = np.concatenate([np.zeros((after, 2)), x])[at : len(x)]
    there[: max(0, after - len(first.ring))] = 0.0  # of longer ago it had nothing
    assert np.array_equal(out[at:], there)


@pytest.mark.parametrize("count", range(18))
def test_sections_are_those_of_an_independent_library(count: int) -> None:
    x = noise(0.2)
    sos = np.concatenate([low_cut(40.0 * 1.7**n, 12, RATE) for n in range(count)]) if count else np.zeros((0, 6))
    wanted = signal.sosfilt(sos, x, axis=0) if count else x
    sections, out = Sections(sos), np.zeros_like(x)
    for a, b in cut(len(x), [333, 64, 1, 5, 9]):
        sections.run(x[a:b], out[a:b])
    assert np.abs(out - wanted).max() < 1e-11
    whole, again = Sections(sos), x.copy()
    whole.run(again, again)  # in place
    assert np.array_equal(again, out) and np.array_equal(whole.memory, sections.memory)
    apart = np.stack([sos, np.tile([1.0, 0, 0, 1, 0, 0], (count, 1))], axis=1).reshape(-1, 2, 6)
    sided = Sections(apart)
    sided.run(x, out)
    assert np.abs(out[:, 0] - wanted[:, 0]).max() < 1e-11 and np.array_equal(out[:, 1], x[:, 1])


@pytest.mark.parametrize("taps", [1, 7, 48])
@pytest.mark.parametrize("frames", [1, 23, 24, 25, 100])
def test_filters_in_registers_are_plain_sums(taps: int, frames: int) -> None:
    random = np.random.default_rng(taps)
    h, x = random.standard_normal(taps), random.standard_normal((frames + taps + 3, 2))
    out = random.standard_normal((frames, 2))
    wanted = out + np.array([(h[:, None] * x[i + 3 : i + 3 + taps]).sum(axis=0) for i in range(frames)])
    add_filtered(h, 3, x.reshape(-1), out.reshape(-1))
    assert np.abs(out - wanted).max() < 1e-12


@pytest.mark.parametrize("size", [64, 128, 512, 1024, 2048, 4096])
def test_transforms_are_those_of_an_independent_library(size: int) -> None:
    random = np.random.default_rng(size)
    z = random.standard_normal(size) + 1j * random.standard_normal(size)
    real, imaginary, work = z.real.copy(), z.imag.copy(), aligned(2, size)
    transform(real, imaginary, twiddle_factors(size), work)
    assert np.abs(real + 1j * imaginary - np.fft.fft(z)).max() < 1e-13 * np.sqrt(size)
    transform(imaginary, real, twiddle_factors(size), work)  # and back
    assert np.abs((real + 1j * imaginary) / size - z).max() < 1e-14


@settings(max_examples=25, deadline=None)
@given(
    st.integers(0, 9999), st.integers(1, 5000), st.sampled_from(["alike", "apart", "crossed", "mid and side"]), SPLITS
)
def test_convolution_is_a_plain_sum_however_it_is_cut(seed: int, length: int, kind: str, sizes: list[int]) -> None:
    random = np.random.default_rng(seed)
    a, b, c, d = random.standard_normal((4, length)) / length
    filters = {"alike": [[a, None], [None, a]], "crossed": [[a, b], [c, d]]}.get(kind, [[a, None], [None, b]])
    x = noise(0.15)
    convolver, out = Convolver(filters, mid_side=kind == "mid and side"), x.copy()
    for start, end in cut(len(x), sizes):
        convolver.run(out[start:end], out[start:end])  # in place
    given_ = np.stack([x.sum(axis=1), x[:, 0] - x[:, 1]], axis=1) / 2.0 if kind == "mid and side" else x
    made = np.stack(
        [
            sum(signal.fftconvolve(given_[:, i], h)[: len(x)] for i, h in enumerate(row) if h is not None)
            for row in filters
        ],
        axis=1,
    )
    if kind == "mid and side":
        made = np.stack([made.sum(axis=1), made[:, 0] - made[:, 1]], axis=1)
    assert np.abs(out[PARTITION:] - made[:-PARTITION]).max() < 1e-13 and not out[:PARTITION].any()


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(1, 90), st.integers(0, 90), SPLITS)
def test_what_a_ceiling_holds_is_the_running_maximum_smoothed(
    seed: int, ahead: int, smoothing: int, sizes: list[int]
) -> None:
    """Against a plain loop, with rests in which nothing is held: and nothing passes."""
    smoothing = min(smoothing, ahead)
    random = np.random.default_rng(seed)
    x = random.standard_normal((4000, 2)) * 0.3 * (np.arange(4000) // 700 % 2)[:, None]
    holder = LookAheadLimiter(
        lookahead=ahead,
        smoothing=smoothing,
        ceiling=-6.0,
        knee=0.0,
        link=1.0,
        times=ReleaseTimes(0.0, 0.0, 0.0),  # lets go at once, so that it falls to rest between
        longest_block=1024,
    )
    peaks, reduction, out = np.zeros((2, 1024)), np.zeros(1024), np.zeros_like(x)
    told = []
    for a, b in cut(len(x), sizes):
        magnitudes(x[a:b], peaks)
        holder.run(x[a:b], peaks, out[a:b], reduction)
        told.append(reduction[: b - a].copy())
    need = np.maximum(0.0, 20.0 * np.log10(np.maximum(np.abs(x).max(axis=1), 1e-12)) + 6.0)
    hold = ahead + 2
    held = np.array([need[max(0, i - hold + 1) : i + 1].max() for i in range(len(need))])
    second = max(1, smoothing // 2)
    first = max(1, smoothing + 1 - second)
    smooth = np.convolve(np.convolve(held, np.full(first, 1 / first)), np.full(second, 1 / second))[: len(held)]
    assert np.abs(np.concatenate(told) - smooth).max() < 1e-6
    assert np.abs(out).max() <= 10.0 ** (-6.0 / 20.0) + 1e-12
    late = np.concatenate([np.zeros((ahead, 2)), x])[: len(x)]
    assert np.array_equal(out[smooth == 0.0], late[smooth == 0.0])


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.005, 0.05), st.floats(0.01, 0.5), SPLITS)
def test_what_is_sustained_is_let_go_slowly(seed: int, window: float, slow: float, sizes: list[int]) -> None:
    """Against a plain loop: of every hop, what was wanted both in the last window and in the one before it."""
    random = np.random.default_rng(seed)
    x = np.repeat(random.uniform(0.0, 1.0, 12) ** 3, 700)[:, None] * sine(60.0, 8400 / RATE)
    ahead, hop, release = 40, round(RATE / HOPS_A_SECOND), 0.98
    charge, discharge = 0.99, 1.0 - 0.001 / slow
    made = dict(lookahead=ahead, smoothing=0, ceiling=-9.0, knee=0.0, link=1.0, longest_block=1024)
    holder = LookAheadLimiter(**made, times=ReleaseTimes(release, charge, discharge), sustained=window, rate=RATE)
    peaks, reduction, told = np.zeros((2, 1024)), np.zeros(1024), []
    for a, b in cut(len(x), sizes):
        magnitudes(x[a:b], peaks)
        holder.run(x[a:b], peaks, np.zeros((b - a, 2)), reduction)
        told.append(reduction[: b - a].copy())
    need = np.maximum(0.0, 20.0 * np.log10(np.maximum(np.abs(x).max(axis=1), 1e-12)) + 9.0)
    held = np.array([need[max(0, i - ahead - 1) : i + 1].max() for i in range(len(need))])
    hops = int(window * RATE / hop)
    late = hops + math.ceil((ahead + 2 + APART * RATE) / hop)
    most, quick, gentle, sustained, wanted = [0.0] * late, 0.0, 0.0, 0.0, []
    for i, v in enumerate(held):
        if (i + 1) % hop == 0:
            most.append(held[max(0, i + 1 - hops * hop) : i + 1].max())
            sustained = min(most[-1], most[-1 - late])
        quick = max(v, v + (quick - v) * release)
        gentle = sustained + (gentle - sustained) * (charge if sustained > gentle else discharge)
        wanted.append(max(quick, gentle))
    assert np.abs(np.concatenate(told) - wanted).max() < 1e-6


@pytest.mark.parametrize("count", [1, 7, 8, 9, 16, 100])
def test_extremes_are_those_of_an_independent_library(count: int) -> None:
    x = np.random.default_rng(count).standard_normal(count)
    for place in (0, count // 2, count - 1):
        for sign in (1.0, -1.0):
            x[place] = sign * (5.0 + place)
            assert largest(x) == x.max() and largest_magnitude(x) == np.abs(x).max()
    assert largest(-np.abs(x)) == -np.abs(x).min() and largest_sum(np.abs(x), x * x) == (np.abs(x) + x * x).max()


@pytest.mark.parametrize("factor", [1, 4, 16])
@pytest.mark.parametrize("shaper", [shaping.soft(4.0, 0.3), shaping.clip(0.4, 0.0), shaping.clip(0.4, 0.5)])
def test_bending_is_the_same_to_the_bit_however_it_is_cut(factor: int, shaper: shaping.Shaper) -> None:
    x = 3.0 * noise(0.3)
    whole, out, taken = Bender(shaper, factor, RATE), np.zeros_like(x), np.zeros(len(x))
    whole.run(x, out, taken)
    pieces, again, too = Bender(shaper, factor, RATE), x.copy(), np.zeros(len(x))
    for a, b in cut(len(x), [1, 511, 64, 3000]):
        pieces.run(again[a:b], again[a:b], too[a:b])  # in place
    assert np.array_equal(out, again) and np.array_equal(taken, too) and np.abs(out).max() > 0.01
    assert (taken > 0.0).any()


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf, 2 * LOUDEST])
@pytest.mark.parametrize("place", [0, 5, 1023])
def test_what_is_no_sane_number_is_seen(bad: float, place: int) -> None:
    x = noise(1024 / RATE)
    assert ordinary(x)
    x[place, place % 2] = bad
    assert not ordinary(x)


@settings(max_examples=60, deadline=None)
@given(st.floats(-20.0, 20.0), st.floats(0.05, 4.0), st.floats(0.0, 2.0))
def test_roots_are_those_of_an_independent_library(root: float, slope: float, bend: float) -> None:
    def amount(x: float) -> float:
        return float(slope * (x - root) + bend * (np.exp(0.2 * (x - root)) - 1.0))

    wanted = optimize.brentq(amount, -30.0, 40.0, xtol=1e-9)
    assert root_between(amount, -30.0, 40.0, 1e-6) == pytest.approx(wanted, abs=1e-4)


@settings(max_examples=50, deadline=None)
@given(st.integers(0, 9999), st.integers(1, 4), st.floats(0.0, 8.0))
def test_equations_are_solved_as_by_an_independent_library(seed: int, count: int, spread: float) -> None:
    random = np.random.default_rng(seed)
    half = random.standard_normal((count + 3, count)) * 10.0 ** random.uniform(-spread / 2, spread / 2, count)
    square, right = half.T @ half, random.standard_normal(count)
    wanted = np.linalg.solve(square, right)
    assert _solved(square.copy(), right.copy()) == pytest.approx(wanted, rel=1e-5)


WITHOUT_SCIPY = """
import sys
class Nothing:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] == "scipy":
            raise ImportError(name)
sys.meta_path.insert(0, Nothing())
from gluvo.render.warm import warm_up
from gluvo.steps import Band
warm_up()
Band(id=1, shape="low_cut", freq=9000.0, slope=96).sections(48_000)
"""


@pytest.mark.thorough
def test_kernels_need_no_scipy() -> None:
    done = subprocess.run(
        [sys.executable, "-c", WITHOUT_SCIPY], capture_output=True, text=True, cwd=Path(__file__).parents[1]
    )
    assert done.returncode == 0, done.stderr[-800:]


def test_roots_need_two_signs() -> None:
    with pytest.raises(ValueError, match="same sign"):
        root_between(lambda x: x * x + 1.0, -1.0, 1.0, 1e-6)
    assert root_between(lambda x: x, 0.0, 1.0, 1e-6) == 0.0


@settings(max_examples=20, deadline=None)
@given(SPLITS, st.sampled_from([44_100, 48_000, 96_000, 192_000]))
def test_a_trace_is_the_same_to_the_bit_however_it_is_cut(sizes: list[int], rate: int) -> None:
    short = music(0.5, rate).astype(np.float32)
    x = short.astype(np.float64)
    whole = trace_of(x, rate)
    for pushed, between in ((x, True), (x, False), (short, False)):
        tracer = Tracer(rate, between=between)
        for a, b in cut(len(x), [13 * size for size in sizes]):
            tracer.push(pushed[a:b])
        parts = tracer.finish()
        for name in ("weighted", "squares", "product", "sample_peak", *(["true_peak"] if between else [])):
            assert np.array_equal(getattr(parts, name), getattr(whole, name)), name


def test_a_trace_is_plain_sums_of_every_hop() -> None:
    x = music(0.4, 44_100)[: 44_100 * 4 // 10 - 77]
    trace, hop = trace_of(x, 44_100), hop_frames(44_100)
    heavy = signal.sosfilt(k_weighting(44_100), x, axis=0)
    for n in range(len(trace.sample_peak)):
        part, weighted = x[n * hop : (n + 1) * hop], heavy[n * hop : (n + 1) * hop]
        assert trace.weighted[n] == pytest.approx((weighted**2).sum(axis=0) / hop, rel=1e-9)
        assert trace.squares[n] == pytest.approx((part**2).sum(axis=0) / hop, rel=1e-12)
        assert trace.product[n] == pytest.approx(part.prod(axis=1).sum() / hop, rel=1e-9, abs=1e-15)
        assert trace.sample_peak[n] == np.abs(part).max()


def test_peaks_that_are_read_when_asked_are_those_that_are_read_at_once() -> None:
    x = music(3.0)
    tracer = Tracer(RATE, between=False)
    tracer.push(x)
    lazy, eager = tracer.finish(x), trace_of(x, RATE)
    span = Span(1.0, 2.2)
    assert np.array_equal(lazy.cut(span).true_peak, eager.cut(span).true_peak)
    assert np.array_equal(lazy.scaled(-0.5).true_peak, 0.5 * eager.true_peak)
    assert np.array_equal(lazy.true_peak, eager.true_peak)
    assert np.array_equal(peaks_of(x, RATE, 7, 20), eager.true_peak[7:27]) and not len(peaks_of(x, RATE, 9999))


def test_a_peak_at_the_edge_of_a_hop_is_read() -> None:
    """A rising tone crosses every edge of a hop somewhere on its way up: each hop's peak is that of its finest samples."""
    freq = 100.0 / 3.0 * 1.013  # a third of a wave a hop, ever elsewhere
    x = sine(freq, 2.0, phase=0.3)
    fine = np.abs(sine(freq, 2.0, rate=RATE * 16, phase=0.3)[:, 0])
    hop = hop_frames(RATE)
    for n, peak in enumerate(peaks_of(x, RATE)[5:-5], start=5):
        wanted = fine[16 * n * hop : 16 * (n + 1) * hop + 1].max()
        assert peak == pytest.approx(wanted, rel=1e-3), n


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 999), SPLITS)
def test_reduction_is_collected_alike_however_it_is_cut(seed: int, sizes: list[int]) -> None:
    reduction = np.random.default_rng(seed).uniform(0.0, 9.0, 5000)
    tracer = ReductionTracer(RATE, 4900)  # what lies past the end does not count
    for a, b in cut(5000, sizes):
        tracer.push(reduction[a:b])
    found = tracer.finish()
    hop = hop_frames(RATE)
    for n in range(4900 // hop):
        part = reduction[n * hop : (n + 1) * hop]
        assert found.mean[n] == pytest.approx(part.mean()) and found.top[n] == part.max()
    whole = 4900 // REDUCTION_HOP
    tops = reduction[: whole * REDUCTION_HOP].reshape(whole, REDUCTION_HOP).max(axis=1)
    assert np.abs(found.curve[:whole] - tops).max() < 1e-5


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 999), st.integers(1, 40))
def test_the_highest_peaks_keep_others_away(seed: int, distance: int) -> None:
    values = np.random.default_rng(seed).uniform(0.0, 1.0, 300)
    found = highest_peaks(values, 0.5, distance)
    assert (np.diff(found) >= distance).all() and (values[found] >= 0.5).all()
    inner = [i for i in range(1, 299) if values[i - 1] < values[i] >= values[i + 1] and values[i] >= 0.5]
    for place in inner:  # one that is left out has a higher one near
        near = found[np.abs(found - place) < distance]
        assert place in found or values[near].max(initial=0.0) >= values[place]


PLAIN = """
import numpy as np
from tests.conftest import music
from gluvo.render.chain import run_chain
from gluvo.measure.trace import trace_of
from gluvo.steps import STEP_KINDS
x = music(0.6)
sounds = [run_chain([step], x, 48_000) for kind in STEP_KINDS for step in kind.examples()]
np.savez(OUT, trace_of(x, 48_000).true_peak, *sounds)
"""


@pytest.mark.thorough
def test_without_vectors_everything_sounds_the_same(tmp_path: Path) -> None:
    """Where Numba's internals are not as expected, tuples take the place of vectors."""
    found = {}
    for plain in ("", "1"):
        out = tmp_path / f"with{plain}.npz"
        cache = tmp_path / "kernels"  # of its own: kernels on disk do not tell how they were made
        done = subprocess.run(
            [sys.executable, "-c", PLAIN.replace("OUT", repr(str(out)))],
            env={**os.environ, "GLUVO_PLAIN": plain, **({"NUMBA_CACHE_DIR": str(cache)} if plain else {})},
            capture_output=True,
            text=True,
            cwd=Path(__file__).parents[1],
        )
        assert done.returncode == 0, done.stderr[-800:]
        found[plain] = np.load(out)
    for name in found[""].files:
        assert np.abs(found[""][name] - found["1"][name]).max() < 1e-9, name


def test_the_compiler_is_the_one_that_this_was_written_for() -> None:
    """Fails where another Numba no longer takes what is told to it: then everything would still work, only slower."""
    pairs, eights, between = _made()
    assert {type(part).__name__ for part in (*pairs, *eights, *between)} == {"_Intrinsic"}  # and not tuples
    done = subprocess.run(
        [sys.executable, "-c", LOADED], capture_output=True, text=True, check=True, cwd=Path(__file__).parents[1]
    )
    assert done.stdout.split() == ["True", "False"]  # Numba is there, linear algebra is not


LOADED = """
import sys
import numpy as np
from gluvo.dsp.delay import ordinary
ordinary(np.zeros((8, 2)))
print("numba.np.arraymath" in sys.modules, "scipy.linalg.cython_blas" in sys.modules)
"""


def test_what_a_kernel_names_is_made_before_it_is_compiled() -> None:
    module = sys.modules[reduce_block.__module__]
    peaks = np.full((2, 64), 0.5)
    LookAheadLimiter(
        lookahead=4, smoothing=4, ceiling=0.0, knee=0.0, link=1.0, times=ReleaseTimes(0.9, 0.0, 0.0), longest_block=64
    ).run(np.zeros((64, 2)), peaks, np.zeros((64, 2)), np.zeros(64))
    named = [getattr(module, name) for name in ("_need", "_smooth", "_hold", "_release", "_average")]
    assert not any(isinstance(found, LazyKernel) for found in named)
