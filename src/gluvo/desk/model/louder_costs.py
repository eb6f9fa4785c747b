"""What louder costs: the song at several loudnesses, measured and heard."""

from __future__ import annotations

from collections.abc import Callable

from gluvo.advise.loudness_target import driven
from gluvo.advise.prices import Price, prices
from gluvo.compare.hearables import PRICES, Hearable
from gluvo.compare.match import RESULT
from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.audio import ExtraSound, joint_of
from gluvo.opened.tasks import SEARCHING
from gluvo.session.records import Session
from gluvo.session.sounds import Sound


class LouderCosts:
    """The song at several loudnesses."""

    def __init__(self, bench: Workbench, changed: Callable[[], object]) -> None:
        """`changed` is called when what is known is another."""
        self.bench, self._changed = bench, changed
        self.lines: tuple[Price, ...] = ()
        """The first is the song as it was."""
        self._of = ""
        """The key of the result for which they were found."""

    def find(self) -> None:
        """Bring the song to its target and around it, and measure what each takes; have them in the Hear row."""
        bench = self.bench
        renderer, session, span = bench.renderer, bench.session, bench.span
        if renderer is None:
            bench.tell("There is no song yet to find prices for.", True)
            return
        key = renderer.plan(session).result.key

        def done(found: tuple[Price, ...]) -> None:
            for n in range(len(self.lines)):
                bench.listening.drop_extra(price_id(n))
            self.lines, self._of = found, key
            for n, price in enumerate(found):
                name = f"{figure(price.level)} LUFS" if price.wanted is not None else "As it was"
                tip = f"The song as it would be at {figure(price.level)} LUFS."
                heard = Hearable(price_id(n), PRICES, name, tip)
                sound = Sound(price.audio, renderer.rate)
                joint_of(sound, price.trace)
                bench.listening.add_extra(ExtraSound(heard, sound))
            bench.measurement.render()
            self._changed()

        bench.background.run(SEARCHING, "Finding prices", lambda p: prices(renderer, session, span, p), done)

    @property
    def current(self) -> bool:
        """Whether the prices are of the song as it now is, or as one of them has made it."""
        renderer = self.bench.renderer
        if renderer is None:
            return False
        now = self.bench.session.sound
        return renderer.plan(self.bench.session).result.key == self._of or any(
            p.session.sound == now for p in self.lines
        )

    def take(self, row: int) -> None:
        """Set the session as a line of the prices has it."""
        if not 0 <= row < len(self.lines):
            return
        if not self.current:
            self.bench.tell("The song has changed since these prices were found. Find them again first.", True)
            return
        price = self.lines[row]
        reached, now = price.reached, self.bench.session.sound

        def keep(s: Session) -> Session:
            if reached is None or any(p.session.sound == now for p in self.lines[1:]):
                return s.replace(strips=price.session.strips)  # from one line to another
            return driven(s, reached.step, reached.drive, reached.ceiling)  # what was changed without being heard stays

        self.bench.edit(f"Keep {figure(price.level)} LUFS", keep)
        if self.bench.session.view.hear == price_id(row):
            self.bench.listening.hear(RESULT)

    def forget(self) -> None:
        """Another session is open."""
        self.lines = ()


def price_id(row: int) -> str:
    """By which a line of the prices is heard."""
    return f"price-{row}"
