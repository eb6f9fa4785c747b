"""What a draft is made of: parts, each an ordinary edit with its reason, and what proposes them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass

from gluvo.advise.watchouts import Scene, WatchOut
from gluvo.render.joint import Joint
from gluvo.session.records import MIX, Session

MOST_STRENGTH = 150.0
"""% of what is proposed."""
MOST_REDUCTION, MOST_BOOST = 3.0, 2.0
"""dB at peaks on the mix bus, and dB by which anything is raised, at the highest strength."""


@dataclass(frozen=True, eq=False)
class Part:
    """One thing that is proposed."""

    title: str
    """What it does, as the name of an action."""
    why: str
    """The reason, in one sentence."""
    figures: str
    """What was measured, in a few words."""
    edit: Callable[[Session], Session]
    """What it does at its own strength."""
    reaches: bool = False
    """Whether it brings the song to its target, which is looked for when everything else has been done."""


@dataclass(frozen=True, eq=False)
class Draft:
    """A start for a strip's chain: nothing but ordinary steps, each for a reason."""

    strip: str
    parts: tuple[Part, ...]
    told: tuple[WatchOut, ...] = ()
    """What is wrong elsewhere, where it is to be mended, and not here."""
    replaces: bool = False
    """Whether its steps take the place of those that are there."""


@dataclass(frozen=True, eq=False)
class Look:
    """What is looked at: the whole song, what was found to be wrong with it, and references."""

    scene: Scene
    strip: str
    found: tuple[WatchOut, ...]
    references: Sequence[Joint] = ()

    @property
    def is_mix(self) -> bool:
        return self.strip == MIX


Proposer = Callable[[Look], Iterable[Part]]
"""Looks at one thing, and proposes what it asks for: mostly nothing."""

KeptParts = Collection[int]
"""The places of parts that are kept."""
