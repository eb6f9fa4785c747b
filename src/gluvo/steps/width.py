"""Width: the stereo image by band, mono lows, and a low cut on the side."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal, Self

import msgspec
import numpy as np

from gluvo.dsp.crossover import Crossover, all_pass, high_side
from gluvo.dsp.db import gain_of
from gluvo.dsp.filters import NOTHING, Sections, low_cut
from gluvo.dsp.kernel import Audio, Floats, kernel
from gluvo.steps import solved
from gluvo.steps.base import MAX_BLOCK, Analysis, Processor, Step
from gluvo.steps.settings import choice, number

BANDS, BALANCES, CROSSOVERS, LOWS = "Width by band", "Balance by band", "Where bands meet", "Lows and level"
SIDE_CUT_OUT = 20.0
"""Hz at which the side's low cut is out."""


def _width(n: int) -> object:
    where = ("the lowest band, or all of the sound", "the second band", "the third band", "the highest band")[n - 1]
    return number(
        f"Width {n}",
        "%",
        0.0,
        200.0,
        f"How wide {where} is: 0 is mono, 100 as it came, 200 twice the difference of the sides.",
        group=BANDS,
        decimals=0,
        fine=1.0,
    )


def _balance(n: int) -> object:
    return number(
        f"Balance {n}",
        "%",
        -100.0,
        100.0,
        "Moves the band to the left (−) or the right (+) by making the other side softer.",
        group=BALANCES,
        decimals=0,
        fine=1.0,
    )


def _crossover(n: int) -> object:
    return number(
        f"Crossover {n}",
        "Hz",
        30.0,
        16_000.0,
        f"Where band {n} ends and band {n + 1} begins, at 24 dB/oct.",
        group=CROSSOVERS,
        scale="log",
    )


class Width(Step, tag="width", frozen=True, kw_only=True):
    """Widens or narrows by band. At 100 % everywhere it passes bit for bit."""

    title: ClassVar[str] = "Width"
    summary: ClassVar[str] = "Stereo width and balance by band, and lows in mono"
    analyses: ClassVar[tuple[Analysis, ...]] = ("scatter",)
    leading: ClassVar[tuple[str, ...]] = ("width_1", "output")
    solved_settings: ClassVar[Mapping[str, solved.Solved]] = solved.OUTPUT
    not_in_sound: ClassVar[frozenset[str]] = Step.not_in_sound | {"hold_loudness"}

    width_1: Annotated[float, _width(1)] = 100.0
    width_2: Annotated[float, _width(2)] = 100.0
    width_3: Annotated[float, _width(3)] = 100.0
    width_4: Annotated[float, _width(4)] = 100.0
    balance_1: Annotated[float, _balance(1)] = 0.0
    balance_2: Annotated[float, _balance(2)] = 0.0
    balance_3: Annotated[float, _balance(3)] = 0.0
    balance_4: Annotated[float, _balance(4)] = 0.0

    bands: Annotated[
        Literal[1, 2, 3, 4],
        choice(
            "Bands",
            (("1", "one"), ("2", "two"), ("3", "three"), ("4", "four")),
            "How many bands the sound is split into. The first ones are used.",
            group=CROSSOVERS,
        ),
    ] = 1
    crossover_1: Annotated[float, _crossover(1)] = 200.0
    crossover_2: Annotated[float, _crossover(2)] = 1500.0
    crossover_3: Annotated[float, _crossover(3)] = 6000.0

    mono_below: Annotated[
        float,
        number(
            "Mono below",
            "Hz",
            0.0,
            400.0,
            "Takes the side out below this, at 24 dB/oct, without turning it against the mid. At 0 it is out.",
            group=LOWS,
            decimals=0,
            fine=1.0,
        ),
    ] = 0.0
    side_low_cut: Annotated[
        float,
        number(
            "Side low cut",
            "Hz",
            SIDE_CUT_OUT,
            1000.0,
            "A gentle low cut on the side alone, 12 dB/oct. At 20 Hz it is out.",
            group=LOWS,
            scale="log",
        ),
    ] = SIDE_CUT_OUT
    output: Annotated[float, solved.output(LOWS)] = 0.0
    hold_loudness: Annotated[bool, solved.hold(LOWS, "wider is not just louder.")] = False

    def make(self, rate: int) -> WidthProcessor:
        return WidthProcessor(self, rate)

    @classmethod
    def examples(cls) -> tuple[Step, ...]:
        return cls(), cls(width_1=80.0, bands=2, mono_below=100.0, side_low_cut=60.0)

    @property
    def widths(self) -> tuple[float, ...]:
        """Of the bands in use, %."""
        return (self.width_1, self.width_2, self.width_3, self.width_4)[: int(self.bands)]

    @property
    def balances(self) -> tuple[float, ...]:
        """Of the bands in use, %."""
        return (self.balance_1, self.balance_2, self.balance_3, self.balance_4)[: int(self.bands)]

    @property
    def crossovers(self) -> tuple[float, ...]:
        """Where the bands in use meet, Hz, in rising order."""
        return tuple(sorted((self.crossover_1, self.crossover_2, self.crossover_3)[: int(self.bands) - 1]))

    @property
    def edges(self) -> tuple[tuple[float, float], ...]:
        """Each band from where to where, Hz."""
        places = (20.0, *self.crossovers, 20_000.0)
        return tuple((a, max(a, b)) for a, b in itertools.pairwise(places))

    @property
    def ranges(self) -> tuple[str, ...]:
        """Each band in words: “to 200 Hz”, “200 Hz–1.5 kHz”, “from 1.5 kHz”; nothing where there is but one."""
        marks = [f"{f:.0f} Hz" if f < 1000.0 else f"{f / 1000.0:.3g} kHz" for f in self.crossovers]
        if not marks:
            return ("",)
        between = [f"{low}–{high}" for low, high in itertools.pairwise(marks)]
        return (f"to {marks[0]}", *between, f"from {marks[-1]}")

    @property
    def matrices(self) -> Floats:
        """For each band in use the matrix from left and right to left and right, ``(bands, 2, 2)``."""
        return np.array([_matrix(w / 100.0, b / 100.0) for w, b in zip(self.widths, self.balances, strict=True)])

    def split_output_gain(self) -> tuple[Self, float]:
        return msgspec.structs.replace(self, output=0.0), gain_of(self.output)

    def describe(self) -> str:
        words = []
        if any(w != 100.0 for w in self.widths):
            each = zip(self.widths, self.ranges, strict=True)
            words.append("width " + ", ".join(f"{w:.0f} % {where}".rstrip() for w, where in each))
        each = zip(self.balances, self.ranges, strict=True)
        moved = [f"{b:+.0f} % {where}".rstrip().replace("-", "−") for b, where in each if b]
        words += ["balance " + ", ".join(moved)] if moved else []
        words += [f"mono < {self.mono_below:.0f} Hz"] if self.mono_below else []
        words += [f"side > {self.side_low_cut:.0f} Hz"] if self.side_low_cut > SIDE_CUT_OUT else []
        return " · ".join(words) or "neutral"


def _matrix(width: float, balance: float) -> list[list[float]]:
    same, other = 0.5 * (1.0 + width), 0.5 * (1.0 - width)
    left, right = min(1.0, 1.0 - balance), min(1.0, 1.0 + balance)
    return [[left * same, left * other], [right * other, right * same]]


@kernel
def add_turned(x: Audio, matrix: Floats, out: Audio) -> None:
    """Add `x` through a 2 × 2 matrix."""
    a, b, c, d = matrix[0, 0], matrix[0, 1], matrix[1, 0], matrix[1, 1]
    for i in range(x.shape[0]):
        left, right = x[i, 0], x[i, 1]
        out[i, 0] += a * left + b * right
        out[i, 1] += c * left + d * right


@kernel
def split_sides(x: Audio, mid: Floats, side: Floats) -> None:
    """Mid into both columns of `mid`, side into both of `side`."""
    for i in range(x.shape[0]):
        m, s = 0.5 * (x[i, 0] + x[i, 1]), 0.5 * (x[i, 0] - x[i, 1])
        mid[i, 0] = mid[i, 1] = m
        side[i, 0] = side[i, 1] = s


@kernel
def join_sides(mid: Floats, side: Floats, out: Audio) -> None:
    for i in range(out.shape[0]):
        out[i, 0] = mid[i, 0] + side[i, 0]
        out[i, 1] = mid[i, 0] - side[i, 0]


class WidthProcessor(Processor):
    """Bands first, through their matrices; then what is taken out of the side.

    Below `mono_below` the mid passes the all-pass that belongs to the side's crossover, so that the two keep their
    phase and nothing moves in the image above it.
    """

    def __init__(self, settings: Width, rate: int) -> None:
        super().__init__()
        self._matrices = settings.matrices
        self._turns = not np.array_equal(self._matrices, np.tile(np.eye(2), (len(self._matrices), 1, 1)))
        self._split = Crossover(settings.crossovers, rate, MAX_BLOCK)
        mono, cut = settings.mono_below, settings.side_low_cut
        self._mid = Sections(all_pass(mono, rate) if mono else NOTHING)
        self._mono = Sections(high_side(mono, rate) if mono else NOTHING)
        self._cut = Sections(low_cut(cut, 12, rate) if cut > SIDE_CUT_OUT else NOTHING)
        self._cuts = bool(len(self._mono.sos) or len(self._cut.sos))
        self._gain = gain_of(settings.output)
        self._work, self._m, self._s = (np.zeros((MAX_BLOCK, 2)) for _ in range(3))

    def process(self, x: Audio, out: Audio) -> None:
        n = len(x)
        work = self._work[:n]
        np.copyto(work, x)
        if self._turns:
            work[:] = 0.0
            for band, matrix in zip(self._split.run(x), self._matrices, strict=True):
                add_turned(band, matrix, work)
        if self._cuts:
            mid, side = self._m[:n], self._s[:n]
            split_sides(work, mid, side)
            self._mid.run(mid, mid)
            self._mono.run(side, side)
            self._cut.run(side, side)
            join_sides(mid, side, work)
        np.multiply(work, self._gain, out=out)

    def adopt(self, other: Processor) -> bool:
        if not isinstance(other, WidthProcessor):
            return False
        pairs = ((self._mid, other._mid), (self._mono, other._mono), (self._cut, other._cut))
        same = all([mine.adopt(theirs) for mine, theirs in pairs])
        ran = other._turns or not self._turns  # else its filters have stood still
        return self._split.adopt(other._split) and same and ran
