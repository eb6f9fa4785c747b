"""How a row's file will begin and end, told and heard before it is written."""

from __future__ import annotations

from gluvo.compare.hearables import ENCODINGS, Hearable, Stretch, TimeMap
from gluvo.deliver.ends import as_written, ends_of
from gluvo.deliver.write import node_of
from gluvo.desk.model.workbench import Workbench
from gluvo.measure.trace import Span
from gluvo.opened.audio import ExtraSound
from gluvo.opened.tasks import SEARCHING
from gluvo.progress import Progress
from gluvo.render.scaled import stretch_of
from gluvo.session.records import Deliverable
from gluvo.session.sounds import Sound

ROW = "row"
"""The id under which what a row holds is heard."""
LEAST_END = 6.0
"""Seconds of an end that are heard at least."""


class RowEnds:
    """The ends of what rows hold."""

    def __init__(self, bench: Workbench) -> None:
        self.bench = bench

    def _span_of(self, row: Deliverable) -> Span | None:
        """The stretch of the song that a row's (first) file holds; all of it, if it is no section's."""
        sections = self.bench.session.sections
        found = {"section": self.bench.session.section(row.section), "sections": sections[0] if sections else None}
        section = found.get(row.scope)
        return None if section is None else Span(section.start, section.end)

    def words(self, row: Deliverable) -> str:
        """How a row's file begins and ends, in words; of what holds all of the song, once that is rendered."""
        song = self.bench.picture.song_render
        if song is None or row.of != "mix" or row.scope == "sections":
            return ""
        span, result = self._span_of(row), song.result
        looked = (span, row.fade_in, row.fade_out, row.fade_shape, row.lead, row.tail)

        def look() -> str:
            frames = slice(0, len(result.audio)) if span is None else span.frames(result.rate, len(result.audio))
            part = stretch_of(result.audio, frames)
            return ends_of(part, result.rate, row, result.loudness(span)).words

        return result.once(("ends", looked), look)

    def hear(self, id: str, of_end: bool) -> None:
        """Hear what a row's file will hold, with its fades, from its beginning or to its end."""
        bench, renderer = self.bench, self.bench.renderer
        row = next((d for d in bench.session.deliverables if d.id == id), None)
        if row is None or renderer is None:
            bench.refuse("There is nothing to hear yet: bring in a mix first.")
            return
        session, span = bench.session, self._span_of(row)

        def work(progress: Progress) -> Sound:
            joint = renderer.joint(node_of(session, row), None, progress)
            return Sound(as_written(joint.audio, renderer.rate, row, span), renderer.rate)

        def done(sound: Sound) -> None:
            whole = span or Span(0.0, renderer.seconds)
            time = TimeMap((Stretch(whole.start, whole.end, 0.0, whole.end - whole.start),))
            heard = Hearable(ROW, ENCODINGS, row.name, "What the file will hold, with its fades.", time=time)
            bench.listening.drop_extra(ROW)
            bench.listening.add_extra(ExtraSound(heard, sound, matched=False))
            bench.listening.hear(ROW)
            at = max(whole.start, whole.end - max(LEAST_END, row.fade_out + 1.0)) if of_end else whole.start
            until = whole.end if of_end else min(whole.end, whole.start + max(LEAST_END, row.fade_in + 1.0))
            bench.listening.loop_span(Span(at, until))
            bench.listening.seek(at)
            if bench.engine is not None:
                bench.engine.play()

        bench.background.run(SEARCHING, f"Making what {row.name} holds", work, done)

    def forget(self) -> None:
        """What is heard is of what was before."""
        self.bench.listening.drop_extra(ROW)
