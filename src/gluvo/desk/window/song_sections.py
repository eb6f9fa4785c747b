"""The song's sections as the menus act on them: chosen, made from what is seen or heard, exchanged as CSV."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from gluvo.desk.model.said import Said
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.notices import Notice
from gluvo.desk.window.timeline import Timeline
from gluvo.measure.loudness import LOUDEST_SECONDS
from gluvo.session.sections import proposed_for_song, read_csv, same_span, with_section, write_csv

BEGUN_WITH = 1
"""Sections that a new song begins with: its loudest stretch."""
LEAST_SONG = 40.0
"""Seconds from which a song is worth sections."""


class SongSections:
    """The sections of the open session."""

    def __init__(
        self, bench: Workbench, timeline: Timeline, notice: Notice, attempt: Callable[[Callable[[], None]], None]
    ) -> None:
        """`attempt` does something whose failure is the user's to know."""
        self._bench, self._timeline, self._notice, self._attempt = bench, timeline, notice, attempt
        self._offered = -1
        """For which session sections were offered."""
        bench.picture_changed.connect(self.offer)

    def choose(self, by: int) -> None:
        """The next or the previous section; past the ends lies the whole song."""
        ids = ["", *(s.id for s in self._bench.session.sections)]
        now = self._bench.session.view.section
        index = (ids.index(now) + by) % len(ids) if now in ids else 0
        self._bench.look(section=ids[index])
        section = self._bench.session.section(ids[index])
        if section is not None:
            self._bench.listening.seek(section.start)

    def from_loudest(self, seconds: float = LOUDEST_SECONDS) -> None:
        """The loudest stretch of that length, as a section that is chosen."""
        start = self._bench.measurement.loudest(seconds)
        if start is None:
            self._notice.tell("The song is not measured yet, or shorter than that.", True)
            return
        there = next((s for s in self._bench.session.sections if same_span(s, start, start + seconds)), None)
        if there is not None:
            self._bench.look(section=there.id)
            return
        self.add(f"Loudest {seconds:g} s", start, start + seconds)

    def propose(self) -> None:
        """Sections where the song's loudness or density changes, in place of those that are there; can be undone."""
        untouched = self._bench.picture.untouched
        if untouched is None:
            self._notice.tell("The song is not measured yet.", True)
            return
        replaced = len(self._bench.session.sections)
        found = proposed_for_song(self._bench.session, untouched.trace)
        if self._bench.set_sections("Propose sections", found):
            before = (
                f" Those that were there are gone ({replaced}); undo brings them back." if replaced > BEGUN_WITH else ""
            )
            self._notice.tell(
                f"{len(found)} sections, named by what they are like. Ctrl+F2 renames one.{before}", False
            )

    def offer(self) -> None:
        """Offer to propose sections, once, where a new song has none."""
        bench = self._bench
        untouched, session = bench.picture.untouched, bench.session
        fresh = len(session.sections) <= BEGUN_WITH and not any(strip.chain for strip in session.strips)
        if untouched is None or self._offered == bench.generation or not fresh or untouched.trace.seconds < LEAST_SONG:
            return
        self._offered = bench.generation
        bench.told.emit(
            Said(
                "This song has no sections of its own yet.",
                False,
                "Propose sections",
                self.propose,
                lambda: len(bench.session.sections) > BEGUN_WITH,
            )
        )

    def from_view(self) -> None:
        """The stretch that the timeline shows, as a section."""
        view = self._timeline.view
        self.add(f"Section {len(self._bench.session.sections) + 1}", view.start, view.end)

    def add(self, name: str, start: float, end: float) -> None:
        session, made = with_section(self._bench.session, name, start, end)
        self._bench.edit("Add section", lambda s: s.replace(sections=session.sections))
        self._bench.look(section=made.id)

    def bring_in(self, path: Path) -> None:
        """Take the sections from a CSV file, in place of those that are there; can be undone."""

        def take() -> None:
            self._bench.set_sections("Import sections", read_csv(path, self._bench.session))

        self._attempt(take)

    def give_out(self, path: Path) -> None:
        def give() -> None:
            write_csv(path, self._bench.session)
            self._notice.tell(f"Sections written to {path}.", False)

        self._attempt(give)
