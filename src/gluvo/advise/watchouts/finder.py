"""Looks for watch-outs: only where something has changed since the last look."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

from gluvo.advise.watchouts.base import Kind, Place, Scene, WatchOut
from gluvo.progress import Progress, no_progress, step_back

MOST_KNOWN = 5000
"""Answers that are kept."""
SIDE_BY_SIDE = 2
"""Places that are looked at at once: most of the time is spent where the interpreter is not needed."""


class Finder:
    """Remembers what was found where, for as long as nothing that it depends on is another."""

    def __init__(self, kinds: Sequence[Kind]) -> None:
        self.kinds = tuple(kinds)
        self._known: OrderedDict[object, tuple[WatchOut, ...]] = OrderedDict()

    def find(self, scene: Scene, progress: Progress = no_progress) -> tuple[WatchOut, ...]:
        """All watch-outs of a scene, those first of which most can be heard."""
        asked = [(kind, place) for kind in self.kinds for place in kind.places(scene)]
        new = [(kind, place) for kind, place in asked if (kind.id, place, scene.seconds) not in self._known]
        with ThreadPoolExecutor(SIDE_BY_SIDE, "gluvo-looking", step_back) as workers:
            looks = [workers.submit(_looked, scene, kind, place) for kind, place in new]
            try:
                for n, ((kind, place), look) in enumerate(zip(new, looks, strict=True)):
                    progress(n / len(new))
                    self._known[kind.id, place, scene.seconds] = look.result()
            finally:
                workers.shutdown(wait=True, cancel_futures=True)
        found: list[WatchOut] = []
        for kind, place in asked:
            self._known.move_to_end((kind.id, place, scene.seconds))
            found += self._known[kind.id, place, scene.seconds]
        while len(self._known) > MOST_KNOWN:
            self._known.popitem(last=False)
        progress(1.0)
        return tuple(sorted(found, key=lambda w: -w.audible))


def _looked(scene: Scene, kind: Kind, place: Place) -> tuple[WatchOut, ...]:
    return tuple(kind.look(scene, place))
