"""The figures of a piece of audio."""

from __future__ import annotations

import msgspec
import numpy as np

from gluvo.dsp.db import db_of
from gluvo.measure import loudness
from gluvo.measure.trace import Span, Trace


class Figures(msgspec.Struct, frozen=True, kw_only=True):
    """What is told of a piece of audio, for the whole of it or a span."""

    integrated: float
    """Integrated loudness, LUFS."""
    loudness_range: float
    """Loudness range, LU."""
    max_momentary: float
    """Largest momentary loudness (400 ms), LUFS."""
    max_short_term: float
    """Largest short-term loudness (3 s), LUFS."""
    true_peak: float
    """True peak, dBTP."""
    sample_peak: float
    """Sample peak, dBFS."""
    rms: float
    """Root mean square of both channels, dBFS (a full-scale square wave reads 0)."""
    crest: float
    """Sample peak − RMS, dB."""
    plr: float
    """Peak to loudness: true peak − integrated loudness, dB."""
    psr: float
    """Peak to short-term loudness: true peak − largest short-term loudness, dB."""
    correlation: float
    """Of left and right, −1 to 1; 1 for silence."""
    width: float
    """Side to mid, dB."""
    mono_loss: float
    """What a mono sum loses against stereo, dB; 0 for mono, 3 for unrelated channels."""
    seconds: float


def figures_of(trace: Trace, span: Span | None = None) -> Figures:
    """All figures of a trace, or of a span of it. Silence reads `loudness.SILENT`, and 0 dB of differences."""
    part = trace.cut(span)
    left, right = (
        (float(v) for v in part.squares[: max(1, part.whole_hops)].mean(axis=0)) if len(part.squares) else (0.0, 0.0)
    )
    product = float(part.product[: max(1, part.whole_hops)].mean()) if len(part.product) else 0.0
    both = left + right
    mid, side = (both + 2.0 * product) / 4.0, max(0.0, (both - 2.0 * product) / 4.0)
    true_peak = db_of(float(part.true_peak.max(initial=0.0)))
    sample_peak = db_of(float(part.sample_peak.max(initial=0.0)))
    rms = db_of((both / 2.0) ** 0.5)
    whole = loudness.integrated(part)
    top_short = float(loudness.short_term(part).max(initial=loudness.SILENT))
    heard = whole > loudness.SILENT
    return Figures(
        integrated=whole,
        loudness_range=loudness.loudness_range(part),
        max_momentary=float(loudness.momentary(part).max(initial=loudness.SILENT)),
        max_short_term=top_short,
        true_peak=true_peak,
        sample_peak=sample_peak,
        rms=rms,
        crest=sample_peak - rms,
        plr=true_peak - whole if heard else 0.0,
        psr=true_peak - top_short if heard else 0.0,
        correlation=float(np.clip(product / (left * right) ** 0.5, -1.0, 1.0)) if left * right > 0.0 else 1.0,
        width=db_of(side**0.5) - db_of(max(mid, 0.0) ** 0.5),
        mono_loss=min(60.0, db_of((both / 2.0) ** 0.5) - db_of(max(mid, 0.0) ** 0.5)),
        seconds=part.seconds,
    )
