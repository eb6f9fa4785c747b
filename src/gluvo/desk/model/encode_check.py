"""What lossy encodings make of the result: encoded, decoded, heard, and the margin that they need."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
import numpy as np

from gluvo.compare.hearables import ENCODINGS, Hearable
from gluvo.deliver.encoding import LOST, Encoded, Encoding, Margin, encoded, find_margin
from gluvo.deliver.formats import FORMATS
from gluvo.deliver.write import prepared
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.audio import ExtraSound
from gluvo.opened.tasks import SEARCHING
from gluvo.progress import Progress
from gluvo.session.records import Deliverable
from gluvo.session.sounds import Sound


class EncodeCheck:
    """The encodings that were tried, and the margin that was looked for."""

    def __init__(self, bench: Workbench, changed: Callable[[], object], folder: Callable[[], Path]) -> None:
        """`changed` is called when what is known is another. `folder`: where files go."""
        self.bench, self._changed, self._folder = bench, changed, folder
        self.found: dict[Encoding, Encoded] = {}
        self.margin: Margin | None = None
        self._of = ""
        """The key of the result that was encoded."""

    def lossy(self) -> tuple[Encoding, ...]:
        """The encodings of the rows, each once."""
        found = (Encoding(d.format, d.bit_rate) for d in self.bench.session.deliverables if FORMATS[d.format].lossy)
        return tuple(dict.fromkeys(found))

    def check(self, encodings: Sequence[Encoding]) -> None:
        """Encode the result and decode it again, and have it in the Hear row."""
        bench = self.bench
        renderer, session = bench.renderer, bench.session
        if renderer is None or not encodings:
            bench.tell("Choose an encoding to check, with a song to encode.", True)
            return
        key = renderer.plan(session).result.key

        def work(progress: Progress) -> list[tuple[Encoded, tuple[ExtraSound, ExtraSound]]]:
            result = renderer.joint(renderer.plan(session).result, None, lambda d: progress(0.2 * d))
            master = result.heard_in(None)
            found = []
            for n, encoding in enumerate(encodings):
                a, b = 0.2 + 0.8 * n / len(encodings), 0.8 / len(encodings)
                one = encoded(master, renderer.material.rate, encoding, lambda d, a=a, b=b: progress(a + 0.8 * b * d))  # type: ignore[misc]
                rate = renderer.material.rate
                lost = (one.decoded - master).astype(np.float32)
                found.append(
                    (
                        one,
                        (
                            ExtraSound(_hearable(encoding, False), Sound(one.decoded, rate)),
                            ExtraSound(_hearable(encoding, True), Sound(lost, rate)),
                        ),
                    )
                )
            return found

        def done(found: list[tuple[Encoded, tuple[ExtraSound, ExtraSound]]]) -> None:
            if self._of != key:
                self._forget()
            self._of = key
            for one, (decoded, lost) in found:
                self.found[one.encoding] = one
                bench.listening.add_extra(decoded)
                bench.listening.add_extra(lost)
            bench.measurement.render()
            self._changed()

        bench.background.run(SEARCHING, "Encoding and decoding", work, done)

    @property
    def current(self) -> bool:
        """Whether what was encoded is the song as it now is."""
        renderer = self.bench.renderer
        return renderer is not None and renderer.plan(self.bench.session).result.key == self._of

    def find_margin(self, encodings: Sequence[Encoding], highest: float) -> None:
        """Look for the highest ceiling at which every encoding stays at or under `highest` dBTP."""
        bench = self.bench
        renderer, session, folder = bench.renderer, bench.session, self._folder()
        if renderer is None:
            return
        plain = Deliverable(id="margin", name="margin")

        def at(margin: float, progress: Progress) -> tuple[np.ndarray, int]:
            row = prepared(renderer, session, msgspec.structs.replace(plain, margin=margin), folder)
            result = renderer.joint(renderer.plan(row.session).result, None, progress)
            return result.heard_in(None), renderer.material.rate

        def done(found: Margin) -> None:
            self.margin = found
            self._changed()

        bench.background.run(SEARCHING, "Finding a margin", lambda p: find_margin(at, encodings, highest, p), done)

    def use_margin(self) -> None:
        """Give the margin that was found to every lossy row."""
        if self.margin is None:
            return
        margin = self.margin.margin
        rows = tuple(
            msgspec.structs.replace(d, margin=margin) if FORMATS[d.format].lossy else d
            for d in self.bench.session.deliverables
        )
        self.bench.edit(f"Margin of {margin:.2f} dB", lambda s: s.replace(deliverables=rows))

    def _forget(self) -> None:
        for encoding in self.found:
            self.bench.listening.drop_extra(encoding.id)
            self.bench.listening.drop_extra(encoding.id + LOST)
        self.found.clear()

    def forget(self) -> None:
        """Another session is open."""
        self.found.clear()
        self.margin = None


def _hearable(encoding: Encoding, lost: bool) -> Hearable:
    if lost:
        tip = f"Only what {encoding.name} loses: the decoded file less the result."
        return Hearable(encoding.id + LOST, ENCODINGS, f"{encoding.name} lost", tip, is_difference=True)
    return Hearable(encoding.id, ENCODINGS, encoding.name, f"The result encoded as {encoding.name}, and decoded again.")
