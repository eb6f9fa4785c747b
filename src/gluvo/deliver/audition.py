"""The end of a file as each kind of dither leaves it, raised so that it can be heard, and kept from being too loud."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np

from gluvo.deliver.rows import fade
from gluvo.dsp.dither import Ditherer
from gluvo.dsp.kernel import Audio
from gluvo.progress import Progress, no_progress
from gluvo.render.chain import run_chain
from gluvo.session.records import Deliverable
from gluvo.steps import Limiter
from gluvo.steps.settings import settings_of

Kind = Literal["none", "tpdf", "light", "ear", "deep"]
KINDS: tuple[tuple[str, str], ...] = tuple(settings_of(Deliverable)["dither"].options)
"""Each kind of dither, and its name."""
SHORTEST, LONGEST = 3.0, 12.0
"""Seconds of the end that are heard."""
SAFE = -12.0
"""dBTP that nothing passes, however much it is raised."""


def end_of(row: Deliverable, seconds: float) -> float:
    """How many seconds of the end are heard: the fade out, within bounds and the song."""
    return min(seconds, max(SHORTEST, min(LONGEST, row.fade_out)))


def raised_end(x: Audio, rate: int, row: Deliverable, kind: Kind, raised: float) -> np.ndarray:
    """The end of a song, (frames, 2), faded as a row has it, rounded to its depth with a kind of dither, and raised by so
    many dB; float32. A limiter keeps what is loud at `SAFE` dBTP."""
    bits = 16 if row.bits == "32f" else int(row.bits)
    gains = np.ones(len(x))
    count = min(len(x), round(row.fade_out * rate))
    gains[len(x) - count :] = fade(row.fade_shape, round(row.fade_out * rate))[::-1][-count:] if count else 1.0
    whole = Ditherer(bits, rate, kind, row.shaping / 100.0).run(x * gains[:, None]) / 2.0**31
    held = Limiter(ceiling=SAFE, release=200.0)
    louder = run_chain([held], whole * 10.0 ** (raised / 20.0), rate)
    return louder.astype(np.float32)


def auditioned(
    x: Audio, rate: int, row: Deliverable, raised: float, progress: Progress = no_progress
) -> dict[Kind, np.ndarray]:
    """As `raised_end`, for every kind."""
    found: dict[Kind, np.ndarray] = {}
    for n, kind in enumerate(get_args(Kind)):
        progress(n / len(KINDS))
        found[kind] = raised_end(x, rate, row, kind, raised)
    return found
