"""Stand-ins for kernels, compiled or loaded when the first of them runs.

Loading the compiler takes a third of a second, which a window that opens, or a command that tells how it is used, need
not wait for.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any

making = threading.RLock()
"""Held while something is made; by who loads the compiler, too."""


class LazyKernel:
    """A kernel, or a part of kernels, that is made when it is first needed."""

    def __init__(self, make: Callable[[], Any]) -> None:
        self._make: Callable[[], Any] | None = make
        self._made: Any = None

    def made(self) -> Any:
        """What it stands for."""
        if self._make is not None:
            with making:
                if self._make is not None:
                    self._made = self._make()
                    self._make = None
        return self._made

    def __call__(self, *args: Any) -> Any:
        return (self._made or self.made())(*args)
