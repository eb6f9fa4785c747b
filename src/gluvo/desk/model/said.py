"""What the window says in passing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Said:
    """A sentence for the user."""

    text: str
    trouble: bool = True
    act: str = ""
    """What can be done about it, in a few words."""
    then: Callable[[], object] | None = None
    """Does it."""
    solved: Callable[[], bool] | None = None
    """Whether it is no longer so, and the sentence can go; None where only the user can know."""
    aside: bool = False
    """It answers nothing that was just asked for, and waits behind what does."""
