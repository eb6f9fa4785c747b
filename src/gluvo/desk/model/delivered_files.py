"""What was delivered before, and what has become of it."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable
from pathlib import Path

from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.workbench import Workbench
from gluvo.opened.tasks import LOOKING, VERIFYING
from gluvo.session import deliveries
from gluvo.session.deliveries import Lies, lies, verified
from gluvo.session.records import Deliverable, Delivered, DeliveredFile


class DeliveredFiles:
    """The files that the open session delivered."""

    def __init__(self, bench: Workbench, changed: Callable[[], object]) -> None:
        """`changed` is called when what is known is another."""
        self.bench, self._changed = bench, changed
        self._compared_of: tuple[object, ...] = ()
        self._compared: dict[str, tuple[str, ...]] = {}
        """What has changed since deliveries, by their ids, of the session as it was looked at last."""
        self._lies: dict[str, Lies] = {}
        """How files that were delivered were found, by their places."""

    def look(self) -> None:
        """See whether the files that were delivered are where they were put, by their sizes."""
        bench, folder = self.bench, self.bench.document.folder
        last = {file.media.path: file for d in bench.session.deliveries for file in d.files}
        if not last:
            return

        def done(found: dict[str, Lies]) -> None:
            for path, how in found.items():  # a size that is right says nothing of content that was found to be wrong
                if how is not Lies.THERE or self._lies.get(path) is not Lies.ANOTHER:
                    self._lies[path] = how
            self._changed()

        work = lambda _: {path: lies(file, folder) for path, file in last.items()}  # noqa: E731
        bench.background.run(LOOKING, "Looking for what was delivered", work, done)

    def verify(self) -> None:
        """Read all that was delivered again, and tell what is no longer as it was written."""
        bench, session, folder = self.bench, self.bench.session, self.bench.document.folder
        if not session.deliveries:
            bench.tell("Nothing has been delivered of this session yet.", False)
            return

        def done(found: list[tuple[Delivered, DeliveredFile, Lies]]) -> None:
            self._lies = {file.media.path: how for _, file, how in found}
            wrong = [f"{Path(file.media.path).name} is {how.words}" for _, file, how in found if how is not Lies.THERE]
            count = f"{len(found)} file{'' if len(found) == 1 else 's'}"
            if wrong:
                bench.tell(f"Of {count} that were delivered: {'; '.join(wrong[:6])}.", True)
            else:
                bench.tell(f"All {count} that were delivered are as they were written.", False)
            self._changed()

        bench.background.run(VERIFYING, "Verifying deliveries", lambda p: verified(session, folder, p), done)

    def of(self, row: Deliverable) -> tuple[str, str, bool] | None:
        """Of a row that was written before the session was opened: what was measured, what has become of it, and whether it is
        as it would be written now. None, if it never was."""
        session = self.bench.session
        last = deliveries.latest(session, row.id)
        if last is None or not last.files:
            return None
        figures = last.files[0].figures
        measured = f"{figure(figures.get('integrated', float('nan')))} LUFS · {figure(figures.get('true_peak', float('nan')), 2)}"
        if len(last.files) > 1:
            measured = f"{len(last.files)} files"
        bad = next(
            (how for f in last.files if (how := self._lies.get(f.media.path, Lies.THERE)) is not Lies.THERE), None
        )
        day = ""
        with contextlib.suppress(ValueError):  # a file by hand may tell of a day that there is not
            day = f"{datetime.datetime.fromisoformat(last.made):, %-d %b}"
        if bad is not None:
            return measured, f"{bad.words}{day}", False
        changes = self._changes_since(last)
        if changes:
            more = f" and {len(changes) - 1} more" if len(changes) > 1 else ""
            return measured, f"changed since: {changes[0]}{more}{day}", False
        return measured, f"as now{day}", True

    def _changes_since(self, last: Delivered) -> tuple[str, ...]:
        """As `deliveries.changes_since`, looked for once for each state of the session."""
        session = self.bench.session
        of = (session.sound, session.target, session.sections, session.deliverables, session.deliveries)
        if self._compared_of != of:
            self._compared_of, self._compared = of, {}
        if last.id not in self._compared:
            self._compared[last.id] = deliveries.changes_since(session, last)
        return self._compared[last.id]

    def written_again(self, path: str) -> None:
        """A file has been written: what was found of it is of the one before."""
        self._lies.pop(path, None)

    def forget(self) -> None:
        """Another session is open."""
        self._lies.clear()
