"""A pass from an input: a mix that comes from another program is recorded as a print of a stem, and heard through the chains
while it comes."""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QObject, Signal

from gluvo.compare.match import RESULT
from gluvo.deliver.recordings import kept_recording
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.open_session import OpenSession
from gluvo.desk.model.prints import Prints
from gluvo.errors import WriteError
from gluvo.opened.tasks import PASSING
from gluvo.play.duplex import Input, InputWay
from gluvo.progress import Progress
from gluvo.session.media import Material
from gluvo.session.scratch import scratch
from gluvo.session.sounds import Sound

LONGEST = 1200.0
"""Seconds that a pass lasts at most."""
AHEAD = 0.25
"""Seconds that are held before it is heard, so that what is heard never overtakes what comes."""
FOLDER = "Prints"
"""Beside the session; what is recorded goes there."""


class InputPass(QObject):
    """One pass at a time. Stop takes what has come as a print; Esc throws it away."""

    changed = Signal()

    def __init__(self, bench: OpenSession, background: Background, listening: Listening, prints: Prints) -> None:
        super().__init__(bench)
        self._bench, self._background, self._listening, self._prints = bench, background, listening, prints
        self._enough = threading.Event()
        self.running = False
        self.seconds = 0.0
        """How much has come."""
        self.peak = 0.0
        """The highest sample that has come, full scale being 1."""

    def start(self, way: InputWay) -> None:
        """Record from now on."""
        bench, stem, material = self._bench, self._prints.stem, self._bench.audio.material
        if stem is None or material is None:
            bench.refuse("Choose the stem that the pass is to be a print of.")
            return
        if self.running:
            return
        held = scratch((round(LONGEST * material.rate), 2), shared=True)
        sounds = {**material.sounds, stem.id: Sound(held, material.rate)}
        session = bench.session.with_strip(msgspec.structs.replace(stem, offset=0.0, mono=False)).looking(hear=RESULT)
        engine = self._listening.play_instead(Material(material.rate, sounds, len(held)), session)
        bench.look(hear=RESULT)
        self._enough.clear()
        self.running, self.seconds, self.peak = True, 0.0, 0.0
        folder, name = bench.document.folder, f"{bench.session.name} - {stem.name}"
        there = np.asarray(material.sounds[stem.id].samples) if stem.id in material.sounds else held[: material.rate]

        def heard() -> None:
            if engine is not None:
                engine.play()

        def work(check: Progress) -> Path:
            source = way.open(material.rate, there)
            try:
                count, lost = self._take_in(source, held, material.rate, heard, check)
            finally:
                source.close()
            if lost:
                text = f"The input lost something {lost} times. What came is kept, with gaps: take it again if they are heard."
                self._background.on_window(lambda: bench.tell(text, True))
            return _kept(held[:count], material.rate, folder, name)

        def done(path: Path) -> None:
            self._prints.take([path], stem)  # whichever is chosen by now

        self._background.run(PASSING, "Recording a pass", work, done, self._end)
        self.changed.emit()

    def stop(self) -> None:
        """It is enough: what has come becomes a print."""
        self._enough.set()

    def _take_in(
        self, source: Input, held: np.ndarray, rate: int, heard: Callable[[], None], check: Progress
    ) -> tuple[int, int]:
        """Fill `held` with what comes until it is enough; frames that came, and how often something was lost."""
        at, lost, plays = 0, 0, False
        while at < len(held) and not self._enough.is_set():
            check(at / len(held))
            block, was_lost = source.read()
            n = min(len(block), len(held) - at)
            held[at : at + n] = block[:n]
            at += n
            lost += was_lost
            self.peak = max(self.peak, float(np.abs(block).max(initial=0.0)))
            self.seconds = at / rate
            if not plays and at >= AHEAD * rate:
                plays = True
                self._background.on_window(heard)
            if at // rate != (at - n) // rate:
                self._background.on_window(self.changed.emit)
        return at, lost

    def _end(self) -> None:
        """The song is heard as it was again."""
        self.running = False
        self._listening.close()
        if self._bench.audio.material is not None:
            self._listening.open(self._bench.audio, 0.0, False)
        self.changed.emit()


def _kept(audio: np.ndarray, rate: int, folder: Path, name: str) -> Path:
    """What came, in a file of its own."""
    if not audio.any():
        raise WriteError("Nothing but silence came in, so nothing was kept. Check which input it is.")
    return kept_recording(audio, rate, folder / FOLDER, name)
