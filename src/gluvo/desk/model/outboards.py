"""What goes out of the computer and comes back: sent and brought back by file, passed through a device in real time, and watched
for whether it is still of the sound that flows there."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QObject, Signal

from gluvo.deliver.outboard import (
    Stale,
    bring_back,
    flowing_in,
    outboard_of,
    punched,
    returned,
    send,
    stale,
    what_goes,
    with_return,
)
from gluvo.deliver.recordings import kept_recording
from gluvo.desk.model.background import Background
from gluvo.desk.model.listening import Listening
from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import GluvoError
from gluvo.measure.round_trip import framed
from gluvo.measure.trace import Span
from gluvo.opened.tasks import ADDING, LOOKING_OUT, PASSING, WRITING
from gluvo.play.duplex import LevelCheck, Way, check_level, run_pass
from gluvo.progress import Progress
from gluvo.render.song import Renderer
from gluvo.session.media import media_of
from gluvo.session.records import Session
from gluvo.session.sounds import Sound
from gluvo.steps import Outboard
from gluvo.steps.outboard import as_outboard

RETURNS = "Returns"
"""The folder beside the session that passes are recorded into."""
LEAD_IN = 1.0
"""Seconds before a section that are sent with it, so that what is outside has settled."""


class Outboards(QObject):
    """What comes back is an edit; what went out is remembered with one."""

    changed = Signal()
    """What is known of what flows in, or of a level check."""

    def __init__(self, bench: OpenSession, background: Background, listening: Listening) -> None:
        super().__init__(bench)
        self._bench, self._background, self._listening = bench, background, listening
        self.stale: dict[str, Stale] = {}
        """Of the Outboards whose sound has become another since it was sent, by their ids: how."""
        self._looked: object = None
        self.checked: LevelCheck | None = None

    # --- by file -------------------------------------------------------------------------------------------

    def send(self, step: str, path: Path) -> None:
        """Write what flows in at a step to a file between pings."""
        bench, renderer = self._bench, self._bench.renderer
        session, folder = bench.session, bench.document.folder
        if renderer is None:
            bench.refuse("Bring in audio first: there is nothing to send.")
            return

        def done(now: Session) -> None:
            went = outboard_of(now, step).sent
            name = outboard_of(now, step).called
            self._put(step, f"Send {name}", lambda item: msgspec.structs.replace(item, sent=went))
            bench.tell(
                f"{path.name} was written. Play it through what is outside, record what comes back, and bring that back.",
                False,
            )

        self._background.run(
            WRITING, "Sending", lambda told: send(renderer, session, step, path, folder, _now(), told), done
        )

    def bring_back(self, step: str, path: Path) -> None:
        """Lay a file that came back into a step's place."""
        bench, renderer = self._bench, self._bench.renderer
        session, folder = bench.session, bench.document.folder

        def work(told: Progress) -> Session:
            sent = _going(renderer, session, step) if renderer is not None else None
            return bring_back(session, step, path.resolve(), folder, _now(), sent, told)

        self._background.run(
            ADDING, f"Bringing back {path.name}", work, lambda now: self._take(step, outboard_of(now, step))
        )

    def _take(self, step: str, made: Outboard, punched_in: bool = False) -> None:
        back = made.returned
        if back is None:
            return

        def taken(item: Outboard) -> Outboard:
            """What is punched in is as loud and the same way round as what was there: level and polarity stay as they are set."""
            return msgspec.structs.replace(item, returned=back) if punched_in else with_return(item, back)

        self._put(step, f"Bring back {made.called}", taken)
        wrong = f" {'; '.join(back.failed).capitalize()}." if back.failed else ""
        self._bench.tell(f"{back.media.path.rsplit('/', 1)[-1]} is in its place.{wrong}", bool(back.failed))

    def _put(self, step: str, action: str, change: Callable[[Outboard], Outboard]) -> None:
        item = as_outboard(self._bench.session.item(step))
        if item is not None:
            changed = change(item)
            self._bench.edit(action, lambda s: s.with_step(changed))

    # --- in real time --------------------------------------------------------------------------------------

    def check(self, way: Way) -> None:
        """Send a tone out and look what comes back."""
        rate = self._rate()

        def work(told: Progress) -> LevelCheck:
            device = way.open(rate)
            try:
                return check_level(device, told)
            finally:
                device.close()

        def done(found: LevelCheck) -> None:
            self.checked = found
            self.changed.emit()

        self._quiet()
        self._background.run(PASSING, "Checking the level", work, done)

    def run(self, step: str, way: Way, span: Span | None) -> None:
        """Send what flows in at a step through a device and take back what comes: the whole song, or a section that is punched
        into what is there."""
        bench, renderer = self._bench, self._bench.renderer
        session, folder = bench.session, bench.document.folder
        if renderer is None:
            bench.refuse("Bring in audio first: there is nothing to send.")
            return
        item = outboard_of(session, step)
        if span is not None and item.returned is None:
            bench.refuse("Take the whole song once first; then sections can be punched in.")
            return
        there = bench.audio.material.sounds.get(step) if bench.audio.material is not None else None
        self._quiet()
        self._background.run(
            PASSING,
            f"{item.called}: {'a section' if span else 'the song'} goes out and comes back",
            lambda told: _passed(renderer, session, step, way, span, there, folder, told),
            lambda now: self._take(step, now, punched_in=span is not None),
        )

    def forget(self) -> None:
        """Another session is opened: what was known is of the one before."""
        self.stale, self._looked, self.checked = {}, None, None

    def _rate(self) -> int:
        material = self._bench.audio.material
        return material.rate if material is not None else 48_000

    def _quiet(self) -> None:
        """Nothing else plays meanwhile."""
        engine = self._listening.engine
        if engine is not None and engine.playing:
            engine.stop()

    # --- whether it is still so ----------------------------------------------------------------------------

    def look(self) -> None:
        """See whether what flows in is still what was sent; called when the song has been measured."""
        bench, renderer = self._bench, self._bench.renderer
        session, folder = bench.session, bench.document.folder
        items = [i for i in session.items if as_outboard(i) is not None and i.back is not None and i.on]
        key = renderer, session.sound
        if renderer is None or key == self._looked or not (items or self.stale):
            return
        self._looked = key

        def work(told: Progress) -> dict[str, Stale]:
            found = {}
            for item in items:
                told(0.0)
                try:
                    one = stale(renderer, session, item.id, folder, told)
                except GluvoError:
                    continue  # nothing flows there now
                if one is not None:
                    found[item.id] = one
            return found

        def done(found: dict[str, Stale]) -> None:
            if found != self.stale:
                self.stale = found
                self.changed.emit()

        self._background.run(LOOKING_OUT, "Looking at what goes out", work, done)


def _now() -> str:
    return datetime.now().isoformat(timespec="seconds")


def _going(renderer: Renderer, session: Session, step: str) -> np.ndarray:
    return np.asarray(renderer.joint(flowing_in(renderer, session, step)).audio)


def _passed(
    renderer: Renderer,
    session: Session,
    step: str,
    way: Way,
    span: Span | None,
    there: Sound | None,
    folder: Path,
    told: Progress,
) -> Outboard:
    """An Outboard with what came back in real time, recorded to a file of its own."""
    item, rate = outboard_of(session, step), renderer.rate
    node = flowing_in(renderer, session, step)
    song = np.asarray(renderer.joint(node, None, lambda d: told(0.05 * d)).audio)
    first = max(0, round((span.start - LEAD_IN) * rate)) if span is not None else 0
    last = min(len(song), round((span.end + 0.5) * rate)) if span is not None else len(song)
    part = song[first:last]
    device = way.open(rate)
    try:
        made = run_pass(device, framed(part, rate), 1.0, lambda d: told(0.05 + 0.85 * d))
    finally:
        device.close()
    went = what_goes(node.key, song, rate, _now())
    back = returned(
        msgspec.structs.replace(went, frames=len(part)),
        Sound(made.came, rate),
        False,
        part,
        "What came back",
        lambda _: None,
    )
    failed = back.failed
    if made.lost:
        failed = (*failed, f"the device lost something {made.lost} time{'' if made.lost == 1 else 's'}: take it again")
    audio = made.came
    if span is not None and there is not None and item.returned is not None:
        audio = punched(
            there.samples, item.returned, audio, back, Span(span.start, min(span.end, len(song) / rate)), first, rate
        )
        like = item.returned
        back = msgspec.structs.replace(back, begins=0.0, drift=0.0, gain=like.gain, inverted=like.inverted)
        went = like.sent if like.sent.key != went.key else went  # the rest of it is still of what was sent then
    media = media_of(kept_recording(audio, rate, folder / RETURNS, f"{session.name} - {item.called}"), folder)
    told(1.0)
    whole = msgspec.structs.replace(back, media=media, sent=went, failed=failed, made=_now())
    return msgspec.structs.replace(item, returned=whole)
