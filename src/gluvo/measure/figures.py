"""The figures of a piece of audio, each declared once: its name, unit, digits, what it tells, and how it is taken.

Screens, tables, the command line and reports read the declarations; a new figure is a field of `Figures` here.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, get_type_hints

import msgspec
import numpy as np

from gluvo.dsp.db import FLOOR_DB, db_of
from gluvo.measure import loudness
from gluvo.measure.trace import Span, Trace


class FigureInputs:
    """A trace, and what several figures are taken from, reckoned once."""

    def __init__(self, trace: Trace) -> None:
        self.trace = trace

    @functools.cached_property
    def powers(self) -> tuple[float, float, float]:
        """Mean squares of left and right, and the mean of their product."""
        trace, hops = self.trace, max(1, self.trace.whole_hops)
        if not len(trace.squares):
            return 0.0, 0.0, 0.0
        left, right = (float(v) for v in trace.squares[:hops].mean(axis=0))
        return left, right, float(trace.product[:hops].mean())

    @functools.cached_property
    def mid_side(self) -> tuple[float, float]:
        """Mean squares of mid and side."""
        left, right, product = self.powers
        return max(0.0, (left + right + 2.0 * product) / 4.0), max(0.0, (left + right - 2.0 * product) / 4.0)

    @functools.cached_property
    def rms(self) -> float:
        """dBFS"""
        return db_of(((self.powers[0] + self.powers[1]) / 2.0) ** 0.5)

    @functools.cached_property
    def integrated(self) -> float:
        """LUFS"""
        return loudness.integrated(self.trace)

    @functools.cached_property
    def max_short_term(self) -> float:
        """LUFS"""
        return loudness.short_term_peak(self.trace)

    @functools.cached_property
    def true_peak(self) -> float:
        """dBTP"""
        return db_of(float(self.trace.true_peak.max(initial=0.0)))

    @functools.cached_property
    def sample_peak(self) -> float:
        """dBFS"""
        return db_of(float(self.trace.sample_peak.max(initial=0.0)))

    def if_heard(self, value: float) -> float:
        """A difference to a loudness; 0 where there is none."""
        return value if self.integrated > loudness.SILENT else 0.0

    @property
    def loudness_range(self) -> float:
        """LU"""
        return loudness.loudness_range(self.trace)

    @property
    def max_momentary(self) -> float:
        """LUFS"""
        return float(loudness.momentary(self.trace).max(initial=loudness.SILENT))

    @property
    def loudest_rms(self) -> float:
        """dBFS"""
        return loudness.loudest_rms(self.trace)

    @property
    def mono_loss(self) -> float:
        """dB"""
        return min(60.0, self.rms - db_of(self.mid_side[0] ** 0.5))

    @property
    def correlation(self) -> float:
        """−1 to 1"""
        left, right, product = self.powers
        return float(np.clip(product / (left * right) ** 0.5, -1.0, 1.0)) if left * right > 0.0 else 1.0

    @property
    def width(self) -> float:
        """dB"""
        mid, side = self.mid_side
        return db_of(side**0.5) - db_of(mid**0.5)


@dataclass(frozen=True)
class Figure:
    """A declared figure."""

    key: str
    name: str
    unit: str
    decimals: int
    tip: str
    take: Callable[[FigureInputs], float]
    short: str
    """The head of its column in a table."""

    def show(self, value: float, unit: bool = True) -> str:
        """The value as text, with a true minus sign; a dash where there is nothing to tell.

        >>> figure_named("integrated").show(-14.04)
        '−14.0 LUFS'
        """
        if value <= FLOOR_DB + 1.0:
            return "–"
        text = f"{value:.{self.decimals}f}"
        if float(text) == 0.0:
            text = text.lstrip("-")
        return text.replace("-", "−") + (f" {self.unit}" if unit and self.unit else "")


def _declared(
    name: str, unit: str, decimals: int, tip: str, take: Callable[[FigureInputs], float], short: str = ""
) -> msgspec.Meta:
    return msgspec.Meta(
        title=name, description=tip, extra={"unit": unit, "decimals": decimals, "take": take, "short": short or name}
    )


class Figures(msgspec.Struct, frozen=True, kw_only=True):
    """What is told of a piece of audio, for the whole of it or a span."""

    integrated: Annotated[
        float,
        _declared(
            "Integrated loudness",
            "LUFS",
            1,
            "How loud it is as a whole, quiet parts left out (ITU-R BS.1770-5).",
            lambda t: t.integrated,
            "LUFS",
        ),
    ]
    loudness_range: Annotated[
        float,
        _declared(
            "Loudness range",
            "LU",
            1,
            "How far loud and quiet parts lie apart (EBU Tech 3342).",
            lambda t: t.loudness_range,
            "LRA LU",
        ),
    ]
    max_momentary: Annotated[
        float,
        _declared(
            "Loudest momentary",
            "LUFS",
            1,
            "The loudest 400 ms.",
            lambda t: t.max_momentary,
            "max M",
        ),
    ]
    max_short_term: Annotated[
        float,
        _declared("Loudest short-term", "LUFS", 1, "The loudest 3 s.", lambda t: t.max_short_term, "max S"),
    ]
    loudest_rms: Annotated[
        float,
        _declared(
            "Loudest RMS",
            "dBFS",
            1,
            "The RMS of the loudest 3 s, both channels' powers averaged, unweighted: a sine of full scale reads −3.0.",
            lambda t: t.loudest_rms,
            "max RMS",
        ),
    ]
    true_peak: Annotated[
        float,
        _declared(
            "True peak", "dBTP", 2, "The highest peak at samples and between them.", lambda t: t.true_peak, "dBTP"
        ),
    ]
    sample_peak: Annotated[
        float, _declared("Sample peak", "dBFS", 2, "The highest sample.", lambda t: t.sample_peak, "dBFS")
    ]
    rms: Annotated[
        float,
        _declared(
            "RMS", "dBFS", 1, "Root mean square of both channels; a full-scale square wave reads 0.", lambda t: t.rms
        ),
    ]
    crest: Annotated[
        float,
        _declared(
            "Crest factor",
            "dB",
            1,
            "Sample peak less RMS: how dynamic it is.",
            lambda t: t.sample_peak - t.rms,
            "crest dB",
        ),
    ]
    plr: Annotated[
        float,
        _declared(
            "Peak to loudness",
            "dB",
            1,
            "True peak less integrated loudness: how much is left of its dynamics.",
            lambda t: t.if_heard(t.true_peak - t.integrated),
            "PLR dB",
        ),
    ]
    psr: Annotated[
        float,
        _declared(
            "Peak to short-term",
            "dB",
            1,
            "True peak less the loudest short-term loudness.",
            lambda t: t.if_heard(t.true_peak - t.max_short_term),
            "PSR dB",
        ),
    ]
    correlation: Annotated[
        float,
        _declared(
            "Correlation",
            "",
            2,
            "Of left and right: 1 is mono, 0 is wide, under 0 cancels in mono.",
            lambda t: t.correlation,
            "corr.",
        ),
    ]
    width: Annotated[float, _declared("Width", "dB", 1, "Side to mid: how wide it is.", lambda t: t.width, "width dB")]
    mono_loss: Annotated[
        float,
        _declared(
            "Mono loss",
            "dB",
            1,
            "What a mono sum loses against stereo: 0 for mono, 3 for unrelated channels.",
            lambda t: t.mono_loss,
            "mono dB",
        ),
    ]
    seconds: Annotated[float, _declared("Length", "s", 1, "How long it is.", lambda t: t.trace.seconds, "s")]


def _figures() -> dict[str, Figure]:
    found = {}
    for key, hint in get_type_hints(Figures, include_extras=True).items():
        meta = hint.__metadata__[0]
        found[key] = Figure(key, meta.title or key, tip=meta.description or "", **(meta.extra or {}))
    return found


FIGURES: dict[str, Figure] = _figures()
"""All figures by their keys, in the order in which they are told."""


def figure_named(key: str) -> Figure:
    """The declaration of a figure.

    >>> figure_named("true_peak").unit
    'dBTP'
    """
    return FIGURES[key]


def figures_of(trace: Trace, span: Span | None = None) -> Figures:
    """All figures of a trace, or of a span of it. Silence reads `loudness.SILENT`, and 0 dB of differences.

    >>> from gluvo.measure.trace import trace_of
    >>> t = np.arange(48000) / 48000
    >>> tone = 0.5 * np.sin(2 * np.pi * 1000 * t)
    >>> figures = figures_of(trace_of(np.stack([tone, tone], axis=1), 48000))
    >>> round(figures.integrated, 1), round(figures.sample_peak, 1)
    (-6.0, -6.0)
    """
    taken = FigureInputs(trace.cut(span))
    return Figures(**{key: figure.take(taken) for key, figure in FIGURES.items()})
