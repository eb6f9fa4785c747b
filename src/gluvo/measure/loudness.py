"""Loudness after ITU-R BS.1770-5 and EBU Tech 3341 and 3342."""

from __future__ import annotations

import numpy as np

from gluvo.dsp.db import FLOOR_DB
from gluvo.dsp.kernel import Floats
from gluvo.measure.trace import Trace

OFFSET = -0.691
ABSOLUTE_GATE = -70.0
MOMENTARY, SHORT_TERM = 40, 300
"""Windows in hops of 10 ms."""

LOUDEST_SECONDS = 15.0
"""What is called the loudest span, if nobody says otherwise: a quarter minute."""

SILENT = FLOOR_DB
"""What silence reads in LUFS."""


def integrated(trace: Trace) -> float:
    """Gated loudness in LUFS; `SILENT` where nothing passes the gates.

    Blocks of 400 ms every 100 ms; absolute gate at −70 LUFS, relative gate 10 LU under the mean of what
    passes it (BS.1770-5, Annex 1). Audio shorter than 400 ms is taken as one block.

    >>> from gluvo.measure.trace import trace_of
    >>> tone = 0.1 * np.sin(2 * np.pi * 1000 * np.arange(96000) / 48000)
    >>> round(integrated(trace_of(np.stack([tone, tone], axis=1), 48000)), 1)
    -20.0
    """
    power = _windows(trace, MOMENTARY, step=10)
    power = power[_lufs(power) > ABSOLUTE_GATE]
    if not len(power):
        return SILENT
    gate = _lufs(power.mean()) - 10.0
    return float(_lufs(power[_lufs(power) > gate].mean()))


def momentary(trace: Trace) -> Floats:
    """Loudness of the 400 ms up to each hop, in LUFS, one value every 10 ms from 400 ms on.

    >>> from gluvo.measure.trace import trace_of
    >>> momentary(trace_of(np.ones((48000, 2)), 48000)).shape
    (61,)
    """
    return _lufs(_windows(trace, MOMENTARY, step=1))


def short_term(trace: Trace) -> Floats:
    """Loudness of the 3 s up to each hop, in LUFS, one value every 10 ms from 3 s on.

    >>> from gluvo.measure.trace import trace_of
    >>> short_term(trace_of(np.ones((4 * 48000, 2)), 48000)).shape
    (101,)
    """
    return _lufs(_windows(trace, SHORT_TERM, step=1))


def loudness_range(trace: Trace) -> float:
    """Loudness range in LU (EBU Tech 3342): 10th to 95th percentile of gated short-term loudness.

    >>> from gluvo.measure.trace import trace_of
    >>> loudness_range(trace_of(np.zeros((48000, 2)), 48000))
    0.0
    """
    power = _windows(trace, SHORT_TERM, step=10)
    power = power[_lufs(power) >= ABSOLUTE_GATE]
    if len(power) < 2:
        return 0.0
    levels = _lufs(power)
    levels = levels[levels >= _lufs(power.mean()) - 20.0]
    low, high = np.percentile(levels, [10.0, 95.0])
    return float(high - low)


def loudest_span(trace: Trace, seconds: float) -> float:
    """Where the loudest stretch of that length starts, in seconds.

    >>> from gluvo.measure.trace import trace_of
    >>> x = np.zeros((480000, 2)); x[240000:288000:7] = 0.5
    >>> round(loudest_span(trace_of(x, 48000), 1.0))
    5
    """
    hops = max(1, round(seconds / trace.hop_seconds))
    power = _windows(trace, hops, step=1)
    return float(np.argmax(power)) * trace.hop_seconds if len(power) else 0.0


def _windows(trace: Trace, hops: int, step: int) -> Floats:
    """Mean K-weighted power, channels summed, of windows of `hops` every `step` hops."""
    power = trace.weighted[: trace.whole_hops].sum(axis=1)
    if not len(power):
        return np.zeros(0)
    hops = min(hops, len(power))
    total = np.concatenate([[0.0], np.cumsum(power)])
    return np.maximum(0.0, (total[hops:] - total[:-hops])[::step] / hops)


def _lufs(power: Floats | float) -> Floats:
    floor = 10.0 ** ((SILENT - OFFSET) / 10.0)
    return OFFSET + 10.0 * np.log10(np.maximum(power, floor))
