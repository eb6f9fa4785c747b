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
"""What is called the loudest span, if no length is given: a quarter minute."""

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
    return gated(_windows(trace, MOMENTARY, step=10))


def gated(power: Floats) -> float:
    """The loudness of blocks of K-weighted power behind both gates, LUFS."""
    power = power[_lufs(power) > ABSOLUTE_GATE]
    if not len(power):
        return SILENT
    gate = _lufs(power.mean()) - 10.0
    return float(_lufs(power[_lufs(power) > gate].mean()))


def gate_of(trace: Trace) -> float:
    """The relative gate in LUFS: blocks under it do not count for the integrated loudness.

    >>> from gluvo.measure.trace import trace_of
    >>> gate_of(trace_of(np.zeros((48000, 2)), 48000))
    -70.0
    """
    power = _windows(trace, MOMENTARY, step=10)
    power = power[_lufs(power) > ABSOLUTE_GATE]
    return max(ABSOLUTE_GATE, float(_lufs(power.mean())) - 10.0) if len(power) else ABSOLUTE_GATE


def building_up(trace: Trace, points: int = 300) -> tuple[Floats, Floats]:
    """The integrated loudness of all up to a place, LUFS, as it builds up: places in seconds, and what it is there.

    >>> from gluvo.measure.trace import trace_of
    >>> seconds, levels = building_up(trace_of(np.ones((96000, 2)), 48000))
    >>> seconds[:2].tolist(), round(float(levels[-1]), 1) == round(integrated(trace_of(np.ones((96000, 2)), 48000)), 1)
    ([0.4, 0.5], True)
    """
    power = _windows(trace, MOMENTARY, step=10)
    step = max(1, -(-len(power) // points))
    counts = np.unique(np.append(np.arange(1, len(power) + 1, step), len(power))[: len(power) and None])
    levels = np.array([gated(power[:count]) for count in counts if count])
    counts = counts[counts > 0]
    return 0.4 + (counts - 1) * 10 * trace.hop_seconds, levels


def loudest_rms(trace: Trace) -> float:
    """The RMS of the loudest 3 s in dBFS: both channels' powers averaged, unweighted, so that a sine of full scale on both
    reads −3.0; `SILENT` for silence. A piece that is shorter is taken as a whole.

    >>> from gluvo.measure.trace import trace_of
    >>> tone = np.sin(2 * np.pi * 1000 * np.arange(4 * 48000) / 48000)
    >>> round(loudest_rms(trace_of(np.stack([tone, tone], axis=1), 48000)), 1)
    -3.0
    """
    power = trace.squares[: trace.whole_hops].mean(axis=1)
    if not len(power):
        return SILENT
    hops = min(SHORT_TERM, len(power))
    total = np.concatenate([[0.0], np.cumsum(power)])
    most = float((total[hops:] - total[:-hops]).max() / hops)
    return max(SILENT, 10.0 * float(np.log10(max(most, 1e-30))))


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


def short_term_peak(trace: Trace) -> float:
    """The loudest short-term loudness, LUFS.

    >>> from gluvo.measure.trace import trace_of
    >>> short_term_peak(trace_of(np.zeros((48000, 2)), 48000)) == SILENT
    True
    """
    return float(short_term(trace).max(initial=SILENT))


def loudness_range(trace: Trace) -> float:
    """Loudness range in LU (EBU Tech 3342): 10th to 95th percentile of gated short-term loudness.

    >>> from gluvo.measure.trace import trace_of
    >>> loudness_range(trace_of(np.zeros((48000, 2)), 48000))
    0.0
    """
    low, high = range_edges(trace)
    return high - low


def range_edges(trace: Trace) -> tuple[float, float]:
    """The 10th and the 95th percentile of gated short-term loudness, LUFS; both 0 where there is no range.

    >>> from gluvo.measure.trace import trace_of
    >>> range_edges(trace_of(np.zeros((48000, 2)), 48000))
    (0.0, 0.0)
    """
    power = _windows(trace, SHORT_TERM, step=10)
    power = power[_lufs(power) >= ABSOLUTE_GATE]
    if len(power) < 2:
        return 0.0, 0.0
    levels = _lufs(power)
    levels = levels[levels >= _lufs(power.mean()) - 20.0]
    low, high = np.percentile(levels, [10.0, 95.0])
    return float(low), float(high)


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
