"""Looks for watch-outs: only where something has changed since the last look."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence

from gluvo.advise.watchouts.base import Kind, Scene, WatchOut
from gluvo.progress import Progress, no_progress

MOST_KNOWN = 5000
"""Answers that are kept."""


class Finder:
    """Remembers what was found where, for as long as nothing that it depends on is another."""

    def __init__(self, kinds: Sequence[Kind]) -> None:
        self.kinds = tuple(kinds)
        self._known: OrderedDict[object, tuple[WatchOut, ...]] = OrderedDict()

    def find(self, scene: Scene, progress: Progress = no_progress) -> tuple[WatchOut, ...]:
        """All watch-outs of a scene, those first of which most can be heard."""
        found: list[WatchOut] = []
        for n, kind in enumerate(self.kinds):
            progress(n / len(self.kinds))
            for place in kind.places(scene):
                progress(n / len(self.kinds))
                question = kind.id, place, scene.seconds
                if question not in self._known:
                    self._known[question] = tuple(kind.look(scene, place))
                    while len(self._known) > MOST_KNOWN:
                        self._known.popitem(last=False)
                self._known.move_to_end(question)
                found += self._known[question]
        progress(1.0)
        return tuple(sorted(found, key=lambda w: -w.audible))
