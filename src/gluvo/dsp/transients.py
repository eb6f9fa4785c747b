"""Attack and sustain, told apart by how quickly the level moves."""

from __future__ import annotations

from gluvo.dsp.kernel import Audio, Floats, kernel

FULL = 12.0
"""dB of difference between two followers at which all of the set gain is given."""
SAME = 0.98
"""The share of a peak from which another one counts as being as high."""
FLOOR = -300.0
"""dBFS that digital silence reads."""
DEEPEST = 84.0
"""dB by which a level may be ahead of the follower that rises slowly: a hit after digital silence is one like any other,
however loud or soft it is."""


@kernel
def held_peaks(x: Audio, columns: Floats, hold: int, fall: float, state: Floats, out: Floats) -> None:
    """The louder of the meant columns of `x` (frames, 2) as a peak level, amplitudes ≥ 1e-15, into `out` (frames).

    A peak is held for `hold` frames from the last one that was `SAME` as high, and then falls by the factor `fall` a frame:
    a tone whose half-waves are no longer than that reads steadily. `state`: level, and how many frames are left to hold.
    """
    level, left = state[0], state[1]
    for i in range(x.shape[0]):
        now = max(max(abs(x[i, 0]) * columns[0], abs(x[i, 1]) * columns[1]), 1e-15)
        if now >= level * SAME:
            level, left = max(level, now), float(hold)
        elif left > 0.0:
            left -= 1.0
        else:
            level = max(level * fall, now)
        out[i] = level
    state[0], state[1] = level, left


@kernel
def shaping_gains(level: Floats, attack: float, sustain: float, times: Floats, state: Floats, out: Floats) -> None:
    """Gains in dB for a row of peak levels in dBFS.

    One follower rises slowly and falls at once: by as far as the level is ahead of it, it is an attack. Another rises at
    once and falls slowly: by as far as the level lags behind it, it dies away. Each difference gives its share of `attack`
    and `sustain` dB, all of it from `FULL` on. `times`: coefficients of the first one's rise, the second one's fall, and of
    the gain. `state`: both followers and the gain.
    """
    rise, fall, smooth = times[0], times[1], times[2]
    slow, last, gain = state[0], state[1], state[2]
    for i in range(level.shape[0]):
        now = max(level[i], FLOOR)
        slow = max(slow, now - DEEPEST)
        slow = now + (slow - now) * rise if now > slow else now
        last = now + (last - now) * fall if now < last else now
        wanted = attack * min(1.0, (now - slow) / FULL) + sustain * min(1.0, (last - now) / FULL)
        gain = wanted + (gain - wanted) * smooth
        out[i] = gain
    state[0], state[1], state[2] = slow, last, gain if abs(gain) > 1e-12 else 0.0
