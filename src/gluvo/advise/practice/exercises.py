"""What is practised: hidden changes of the whole song, each by an ordinary step at the end of the mix chain."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from random import Random

from gluvo.session.records import MIX, Session
from gluvo.steps import Band, ChainItem, Glue, Limiter, MidSideEq, Saturation, Trim, Width
from gluvo.steps.settings import hertz

FREQS = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 12_500.0)
"""Hz of bands that are asked for."""
LOWEST = 10.0
"""Hz from which on a shelf is all of a sound."""


@dataclass(frozen=True)
class Change:
    """A hidden change."""

    size: float
    freq: float
    """Hz, where it has a place; 0 where it has none."""
    up: bool
    """Whether it raises, where it could do either."""
    words: str
    """What it is, told afterwards."""
    step: ChainItem | None
    """What makes it; None for an encoding, whose bit rate is its size."""


@dataclass(frozen=True)
class Exercise:
    """A kind of change, from plain to hardly there."""

    id: str
    name: str
    asks: str
    """What is listened for."""
    unit: str
    sizes: tuple[float, ...]
    """From easy to hard."""
    start: int
    """The place of the first one."""
    make: Callable[[float, float, bool], tuple[ChainItem | None, str]]
    """The step for a size, a frequency and a way, and what it is in words."""
    freqs: tuple[float, ...] = ()
    matched: bool = True
    """Whether it is made as loud as what it is compared with."""

    def change(self, size: float, chance: Random) -> Change:
        """A change of a size, somewhere."""
        freq = chance.choice(self.freqs) if self.freqs else 0.0
        up = chance.random() < 0.5
        step, words = self.make(size, freq, up)
        return Change(size, freq, up, words, step)


def _band(size: float, freq: float, up: bool) -> tuple[ChainItem, str]:
    gain = size if up else -size
    words = f"{gain:+.1f} dB at {hertz(freq)}".replace("-", "−")
    return MidSideEq(bands=(Band(id=1, freq=freq, gain=gain, q=1.4),)), words


def _reduction(size: float, _freq: float, up: bool) -> tuple[ChainItem, str]:
    attack = 30.0 if up else 1.0
    made = Glue(ratio=4.0, attack=attack, release=150.0, aim=size, aim_by="peaks", hold_aim=True)
    return made, f"{size:.1f} dB of reduction at peaks, attack {attack:.0f} ms"


def _saturation(size: float, _freq: float, _up: bool) -> tuple[ChainItem, str]:
    return Saturation(drive=size), f"saturation driven by {size:.1f} dB"


def _width(size: float, _freq: float, up: bool) -> tuple[ChainItem, str]:
    gain = size if up else -size
    whole = Band(id=1, target="side", shape="high_shelf", freq=LOWEST, gain=gain, q=0.71)
    return MidSideEq(bands=(whole,)), f"the side {gain:+.1f} dB".replace("-", "−")


def _limiter(size: float, _freq: float, _up: bool) -> tuple[ChainItem, str]:
    made = Limiter(ceiling=-3.0, aim=size, aim_by="peaks", hold_aim=True)
    return made, f"a limiter that takes {size:.1f} dB at peaks"


def _level(size: float, _freq: float, up: bool) -> tuple[ChainItem, str]:
    gain = size if up else -size
    return Trim(gain=gain), f"{gain:+.2f} dB".replace("-", "−")


def _mono(size: float, _freq: float, _up: bool) -> tuple[ChainItem, str]:
    return Width(mono_below=size), f"mono below {size:.0f} Hz"


def _encoding(size: float, _freq: float, _up: bool) -> tuple[None, str]:
    return None, f"MP3 at {size:.0f} kbit/s"


EXERCISES: tuple[Exercise, ...] = (
    Exercise(
        "band",
        "A band up or down",
        "One range is raised or cut.",
        "dB",
        (12.0, 9.0, 6.0, 4.5, 3.0, 2.0, 1.5, 1.0, 0.7, 0.5),
        2,
        _band,
        FREQS,
    ),
    Exercise(
        "reduction",
        "Reduction",
        "It is compressed, with a slow or a quick attack.",
        "dB at peaks",
        (12.0, 9.0, 7.0, 5.0, 4.0, 3.0, 2.0, 1.5, 1.0, 0.5),
        2,
        _reduction,
    ),
    Exercise(
        "saturation",
        "Saturation",
        "It is bent.",
        "dB of drive",
        (24.0, 18.0, 14.0, 11.0, 8.0, 6.0, 4.0, 2.0, 1.0),
        2,
        _saturation,
    ),
    Exercise(
        "width",
        "Width",
        "It is wider or narrower.",
        "dB of side",
        (12.0, 9.0, 6.0, 4.5, 3.0, 2.0, 1.5, 1.0, 0.5),
        2,
        _width,
    ),
    Exercise(
        "limiter",
        "Limiter",
        "Its tops are held.",
        "dB at peaks",
        (12.0, 9.0, 7.0, 5.0, 4.0, 3.0, 2.0, 1.0, 0.5),
        2,
        _limiter,
    ),
    Exercise(
        "level",
        "Level",
        "It is louder or softer.",
        "dB",
        (3.0, 2.0, 1.5, 1.0, 0.75, 0.5, 0.35, 0.25),
        2,
        _level,
        matched=False,
    ),
    Exercise(
        "mono",
        "Lows in mono",
        "Lows lose their width.",
        "Hz",
        (400.0, 320.0, 250.0, 200.0, 160.0, 125.0, 100.0, 80.0, 60.0),
        2,
        _mono,
    ),
    Exercise(
        "encoding",
        "Encoding",
        "It has been an MP3.",
        "kbit/s",
        (64.0, 96.0, 128.0, 160.0, 192.0, 256.0, 320.0),
        0,
        _encoding,
    ),
)
"""In the order in which they are offered; a new one is a record here."""


def with_change(session: Session, change: Change) -> Session:
    """The session with a change as the last step of the mix chain."""
    if change.step is None:
        return session
    chain = session.mix.chain
    return session.with_new_step(change.step, MIX, chain[-1].id if chain else "")
