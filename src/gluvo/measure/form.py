"""The form of a finished track: its sections, proposed from how loud and how dense it is."""

from __future__ import annotations

import itertools

import numpy as np

from gluvo.dsp.kernel import Floats
from gluvo.measure.loudness import SILENT, integrated
from gluvo.measure.trace import Span, Trace

MOST_PARTS = 8
SHORTEST_SECONDS = 6.0
COST = 30.0
"""What one part more must save of the squared deviation from the parts' means, dB² s: about a step of 3 dB between two
stretches of 10 s."""
MOST_STEPS = 400
"""Into so many steps a track is divided at most; a step is never shorter than a second."""
FLOOR = -60.0


def form_of(trace: Trace) -> tuple[Span, ...]:
    """Where loudness or density changes: at most `MOST_PARTS` stretches that cover the whole track.

    Loudness in dB and, at half weight, crest factor in dB of every second are cut into constant pieces so that squared
    deviation plus a cost for every piece is least, by dynamic programming (Bellman 1961; the penalised form as in
    Jackson et al., "An algorithm for optimal partitioning of data on an interval", 2005). Nothing in it is random.

    >>> from gluvo.measure.trace import trace_of
    >>> tone = np.sin(np.arange(40 * 8000)) * np.repeat([0.05, 0.5], 20 * 8000)
    >>> [round(part.start) for part in form_of(trace_of(np.stack([tone, tone], axis=1), 8000))]
    [0, 20]
    """
    seconds = trace.seconds
    step = max(1.0, seconds / MOST_STEPS)
    count = int(seconds / step)
    if count < 2 or seconds < 2.0 * SHORTEST_SECONDS:
        return (Span(0.0, seconds),)
    levels, crests = _course(trace, count)
    least = max(1, round(SHORTEST_SECONDS / step))
    edges = _cut(np.stack([levels, 0.5 * crests]), least, COST / step)
    places = [edge * step for edge in edges[:-1]] + [seconds]
    return tuple(Span(start, end) for start, end in itertools.pairwise(places))


def _course(trace: Trace, count: int) -> tuple[Floats, Floats]:
    """Loudness and crest factor of `count` even steps, dB; a median of three keeps edges in place."""
    power = trace.weighted[: trace.whole_hops].sum(axis=1)
    peaks = trace.sample_peak[: trace.whole_hops]
    edges = np.linspace(0, len(power), count + 1).astype(int)[:-1]
    sizes = np.diff(np.append(edges, len(power)))
    means = np.add.reduceat(power, edges) / np.maximum(sizes, 1)
    tops = np.maximum.reduceat(peaks, edges)
    level = np.pad(np.maximum(FLOOR, 10.0 * np.log10(np.maximum(means, 1e-12))), 1, mode="edge")
    levels = np.median([level[:-2], level[1:-1], level[2:]], axis=0)
    crests = np.clip(20.0 * np.log10(np.maximum(tops, 1e-6)) - levels, 0.0, 30.0)
    return levels, np.where(levels <= FLOOR, 0.0, crests)


def _cut(values: Floats, least: int, cost: float) -> list[int]:
    """The best edges of constant pieces of `values` (kinds, steps), none shorter than `least` steps."""
    n = values.shape[1]
    sums = np.concatenate([np.zeros((len(values), 1)), np.cumsum(values, axis=1)], axis=1)
    squares = np.concatenate([np.zeros((len(values), 1)), np.cumsum(values**2, axis=1)], axis=1)
    best = np.full((MOST_PARTS + 1, n + 1), np.inf)
    came = np.zeros((MOST_PARTS + 1, n + 1), dtype=int)
    best[0, 0] = 0.0
    for parts in range(1, MOST_PARTS + 1):
        for end in range(least * parts, n + 1):
            starts = np.arange(0, end - least + 1)
            total = sums[:, end, None] - sums[:, starts]
            spread = squares[:, end, None] - squares[:, starts] - total**2 / (end - starts)
            all_of_it = best[parts - 1, starts] + spread.sum(axis=0) + cost
            k = int(np.argmin(all_of_it))
            best[parts, end], came[parts, end] = all_of_it[k], starts[k]
    parts = int(np.argmin(best[:, n]))
    edges = [n]
    while parts > 0:
        edges.append(int(came[parts, edges[-1]]))
        parts -= 1
    return edges[::-1]


def names_of(parts: tuple[Span, ...], trace: Trace) -> tuple[str, ...]:
    """What parts are called: the loudest, the quietest, and the others by their place.

    >>> from gluvo.measure.trace import trace_of
    >>> names_of((Span(0.0, 1.0),), trace_of(np.zeros((8000, 2)), 8000))
    ('Whole track',)
    """
    if len(parts) < 2:
        return ("Whole track",)
    powers = [float(trace.cut(part).weighted.sum(axis=1).mean()) for part in parts]
    loudest, quietest = int(np.argmax(powers)), int(np.argmin(powers))
    names = [f"Part {n}" for n in range(1, len(parts) + 1)]
    names[loudest], names[quietest] = "Loudest part", "Quietest part"
    return tuple(names)


LOUD, QUIET, RISES = 2.0, 8.0, 4.0
"""LU under the loudest part down to which a part is loud, and from which on it is quiet; and from its first third to its last
by which it builds up or fades."""


def likeness_of(parts: tuple[Span, ...], trace: Trace) -> tuple[str, ...]:
    """What parts of a song are called by what they are like, in ordinary words; those that are alike are numbered. The last one
    is the end, if it dies away.

    >>> from gluvo.measure.trace import trace_of
    >>> x = np.repeat([0.01, 0.2, 0.17], 3 * 48000)[:, None] * np.random.default_rng(1).standard_normal((432000, 2))
    >>> likeness_of((Span(0.0, 3.0), Span(3.0, 6.0), Span(6.0, 9.0)), trace_of(x, 48000))
    ('Quiet', 'Loudest', 'Loud')
    """
    levels = [integrated(trace.cut(part)) for part in parts]
    top = max(levels, default=SILENT)
    words = []
    for part, level in zip(parts, levels, strict=True):
        third = part.seconds / 3.0
        first = integrated(trace.cut(Span(part.start, part.start + third)))
        last = integrated(trace.cut(Span(part.end - third, part.end)))
        rise = last - first if min(first, last) > SILENT else 0.0
        dies_away = rise < -RISES or last <= SILENT < first
        if level == top and "Loudest" not in words:
            words.append("Loudest")
        elif rise > RISES:
            words.append("Build")
        elif dies_away:
            words.append("End" if part is parts[-1] else "Fade")
        else:
            words.append("Loud" if level >= top - LOUD else "Quiet" if level <= top - QUIET else "Middle")
    return tuple(
        f"{word} {words[: n + 1].count(word)}" if words.count(word) > 1 else word for n, word in enumerate(words)
    )
