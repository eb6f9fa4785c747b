"""A draft for a strip: made in the background, parts kept or dropped, heard at equal loudness, and taken as one edit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from gluvo.advise.drafts import MOST_LOST, MOST_STRENGTH, Draft, draft_as_in, draft_start, drafted
from gluvo.advise.loudness_target import level_of, measured_by
from gluvo.advise.watchouts import KINDS, Finder, Scene
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.loudness import SILENT
from gluvo.measure.trace import Span
from gluvo.opened.drafting import model_of, reference_joints
from gluvo.opened.tasks import DRAFTING
from gluvo.progress import Progress
from gluvo.render.joint import Joint
from gluvo.render.song import Rendered
from gluvo.session.records import MIX, Session


@dataclass(frozen=True, eq=False)
class Made:
    """The session with what is kept of a draft."""

    session: Session
    render: Rendered
    gain: float
    """dB by which it is made as loud as the open one, in the section."""


class Drafting(QObject):
    """For one strip of the open session."""

    changed = Signal()
    """More is known, or something else is wanted."""

    def __init__(self, bench: Workbench, strip: str, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._bench, self.strip = bench, strip
        self._began = bench.session
        self._finder = Finder(KINDS)
        self._open: Rendered | None = None
        self.draft: Draft | None = None
        """None until it is made."""
        self.like = ""
        """The name of the session whose chain it is, where it is one's."""
        self.kept: frozenset[int] = frozenset()
        """The places of the parts that are kept."""
        self.strength = 100.0
        self.made: Made | None = None
        """None while it is being made."""
        self.working = False
        self.heard = False
        """Whether it is heard; what is open, otherwise."""
        self.share = 0.0
        self._over = False
        """Whether the dialog is closed: what still comes is of no use."""
        bench.background.changed.connect(self._follow)

    @property
    def name(self) -> str:
        found = self._began.strip(self.strip)
        return found.name if found is not None else ""

    def start(self) -> None:
        """Look at what is there, and propose."""
        bench, session, renderer = self._bench, self._began, self._bench.renderer
        flat, references = dict(bench.audio.flat), reference_joints(bench.audio)
        if renderer is None:
            return

        def work(check: Progress) -> tuple[Draft, Rendered]:
            render = renderer.song(session, lambda d: check(0.2 * d))
            scene = Scene(session, render, renderer, flat)
            draft = draft_start(scene, self.strip, self._finder, references, lambda d: check(0.2 + 0.8 * d))
            return draft, render

        self.like = ""
        self._run(f"Drafting a start for {self.name}", work)

    def start_as_in(self, path: Path) -> None:
        """Take the chain of another session, and find it anew here."""
        session, renderer = self._began, self._bench.renderer
        strip = session.strip(self.strip)
        if renderer is None or strip is None:
            return

        def work(check: Progress) -> tuple[Draft, Rendered]:
            model = model_of(path, strip, lambda d: check(0.7 * d))
            return draft_as_in(session, strip, model), renderer.song(session, lambda d: check(0.7 + 0.3 * d))

        self.like = path.stem
        self._run(f"Reading {path.stem}", work)

    def _run(self, title: str, work: Callable[[Progress], tuple[Draft, Rendered]]) -> None:
        self.draft, self.made, self.working = None, None, True
        self._bench.listening.hunt(None)
        self.heard = False

        def done(found: tuple[Draft, Rendered]) -> None:
            if self._over:
                return
            self.draft, self._open = found
            self.kept = frozenset(range(len(self.draft.parts)))
            self._make()

        self._bench.background.run(DRAFTING, title, work, done, self._ended)
        self.changed.emit()

    def _make(self) -> None:
        """Make the session anew with what is kept."""
        draft, renderer, bench = self.draft, self._bench.renderer, self._bench
        if draft is None or renderer is None or self._open is None:
            return
        kept, strength, span = self.kept, self.strength, self._bench.span or Span(0.0, renderer.seconds)
        before = self._open.result.loudness(span)

        def work(check: Progress) -> Made:
            made = drafted(renderer, self._began, draft, kept, strength, lambda d: check(0.7 * d))
            render = renderer.song(made, lambda d: check(0.7 + 0.3 * d))
            for shown in (self._end(self._open), self._end(render)):
                if shown is not None:  # what the dialog shows, so that the window does not have to reckon it
                    shown.figures()
                    shown.tone(None)
            after = render.result.loudness(span)
            return Made(made, render, before - after if min(before, after) > SILENT else 0.0)

        def done(made: Made) -> None:
            if not self._over and (kept, strength, draft) == (self.kept, self.strength, self.draft):
                self.made = made
                self._play()
                self.changed.emit()

        self.working = True
        bench.background.run(DRAFTING, f"Making the draft for {self.name}", work, done, self._ended)
        self.changed.emit()

    def _ended(self) -> None:
        if self._over:
            return
        self.working = self._bench.tasks.busy(DRAFTING)
        self.changed.emit()

    def _follow(self) -> None:
        """Take over how far it is."""
        task = next((t for t in self._bench.tasks.shown() if t.kind is DRAFTING), None)
        share = task.share if task is not None else 0.0
        if abs(share - self.share) >= 0.01:
            self.share = share
            self.changed.emit()

    # --- what was found --------------------------------------------------------------------------------------

    def ends(self) -> tuple[Joint | None, Joint | None]:
        """What comes out at present, and with the draft: of the song for the mix bus, else of the strip."""
        return tuple(self._end(render) for render in (self._open, self.made.render if self.made else None))  # type: ignore[return-value]

    def _end(self, render: Rendered | None) -> Joint | None:
        if render is None:
            return None
        return render.result if self.strip == MIX else render.end(self.strip)

    @property
    def short(self) -> str:
        """Why the target is not reached, in a sentence; nothing where it is, or is not asked for."""
        draft, made = self.draft, self.made
        if draft is None or made is None or not any(p.reaches for n, p in enumerate(draft.parts) if n in self.kept):
            return ""
        target, level = made.session.target, level_of(made.render.result, made.session.target)
        if level >= target.loudness - target.tolerance:
            return ""
        return (
            f"It stops at {level:.1f} {measured_by(target).unit}: more would cost over {MOST_LOST:.0f} dB of peak to loudness. "
            "What peaks highest is to be held before, on its own strip."
        ).replace("-", "−")

    # --- what the user does ----------------------------------------------------------------------------------

    def keep(self, n: int, on: bool) -> None:
        """Keep a part, or drop it."""
        kept = self.kept | {n} if on else self.kept - {n}
        if kept != self.kept:
            self.kept, self.made = kept, None
            self._make()

    def set_strength(self, strength: float) -> None:
        """Have more or less of it."""
        strength = min(MOST_STRENGTH, max(0.0, strength))
        if strength != self.strength:
            self.strength, self.made = strength, None
            self._make()

    def hear(self, on: bool) -> None:
        """Hear it at equal loudness, or what is open again."""
        self.heard = on
        self._play()
        if self._bench.engine is not None and not self._bench.engine.playing:
            self._bench.engine.play()
        self.changed.emit()

    def _play(self) -> None:
        if self.heard and self.made is not None:
            self._bench.listening.hunt(self.made.session, self.made.gain)
        elif not self.heard:
            self._bench.listening.hunt(None)

    @property
    def sounding(self) -> bool:
        """Whether it is what is heard now."""
        return self.heard and self.made is not None

    def stop(self) -> None:
        """Look no further."""
        self._bench.tasks.cancel_kind(DRAFTING)

    def take(self) -> bool:
        """Take what is kept of it as one edit; whether there was any."""
        made = self.made
        if made is None or not self.kept:
            return False
        strips = made.session.strips
        name = f"Chain as in {self.like}" if self.like else f"Draft for {self.name}"
        return self._bench.edit(name, lambda s: s.replace(strips=strips))

    def end(self) -> None:
        """Hear what is open again, and look no further."""
        self.heard, self._over = False, True
        self.stop()
        self._bench.listening.hunt(None)
