"""The sum of moves of a strip: measured in the background, heard up to any stage at equal loudness."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from gluvo.advise.moves import Stage, moves_of, up_to
from gluvo.desk.model.trying import Trying
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.tasks import TRYING
from gluvo.progress import Progress


class Summing(QObject):
    """For one strip of the open session, in the chosen section."""

    changed = Signal()

    def __init__(self, bench: Workbench, strip: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._bench, self.strip = bench, strip
        self._trying = Trying(bench, lambda _: self.changed.emit())
        self.stages: tuple[Stage, ...] = ()
        self.chosen = 0
        self.heard = False
        self._over = False
        """Whether the dialog is closed: what still comes is of no use."""

    @property
    def name(self) -> str:
        found = self._bench.session.strip(self.strip)
        return found.name if found is not None else ""

    def measure(self) -> None:
        """Measure all stages."""
        bench, renderer, session, span = self._bench, self._bench.renderer, self._bench.session, self._bench.span
        if renderer is None:
            return

        def work(check: Progress) -> tuple[Stage, ...]:
            return moves_of(renderer, session, self.strip, span, check)

        def done(stages: tuple[Stage, ...]) -> None:
            if self._over:
                return
            self.stages, self.chosen = stages, len(stages) - 1
            self.changed.emit()

        bench.background.run(TRYING, f"Summing up the moves of {self.name}", work, done)

    def choose(self, n: int) -> None:
        """Look at a stage; if one is heard, it is this one from now on."""
        n = min(max(0, n), len(self.stages) - 1)
        if n != self.chosen and self.stages:
            self.chosen = n
            if self.heard:
                self._play()
            self.changed.emit()

    def hear(self, on: bool) -> None:
        """Hear the song with this chain as far as the chosen stage, at equal loudness; or all of it again."""
        self.heard = on and bool(self.stages)
        if self.heard:
            self._play()
            if self._bench.engine is not None and not self._bench.engine.playing:
                self._bench.engine.play()
        else:
            self._trying.end()
        self.changed.emit()

    def _play(self) -> None:
        self._trying.hear(up_to(self._bench.session, self.strip, self.stages[self.chosen].id))

    def end(self) -> None:
        """Hear what is open again."""
        self.heard, self._over = False, True
        self._trying.end()
        self._bench.tasks.cancel_kind(TRYING)
