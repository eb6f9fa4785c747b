"""The report of the open session, and what it says of what files do not hold."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from gluvo import __version__
from gluvo.advise.source import source_notes
from gluvo.deliver import report
from gluvo.deliver.write import Outcome
from gluvo.desk.model.encode_check import EncodeCheck
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.opened.tasks import WRITING
from gluvo.session.song_parts import in_words, muted


@dataclass(frozen=True)
class Result:
    """What became of a row, and of what session."""

    outcome: Outcome
    explained: str
    """Why the row's target could not be met, if it could not."""
    of: tuple[object, ...]


class Reporting:
    """Puts together what reports are made of."""

    def __init__(self, bench: Workbench, results: Mapping[str, Result], encodings: EncodeCheck) -> None:
        """`results`: what was written, by the rows' ids."""
        self.bench, self._results, self._encodings = bench, results, encodings

    def left_out(self) -> str:
        """What is muted, and so in no file, and what is heard alone, which files do not follow; nothing, if neither is."""
        session = self.bench.session
        silent = muted(session)
        alone = [s.name for s in session.strips if s.id in session.view.solo]
        told = [f"Muted, and in no file: {', '.join(silent)}."] if silent else []
        told += [f"Heard alone now: {', '.join(alone)}. Files hold everything."] if alone else []
        return " ".join(told)

    def notes(self) -> tuple[str, ...]:
        """What is worth knowing about the song's two ends."""
        song, audio = self.bench.picture.song_render, self.bench.audio
        if song is None:
            return ()
        flat = sum(len(tops) for tops in audio.flat.values())
        return source_notes(self.bench.session, song.untouched.figures().true_peak, flat)

    def material(self, client: bool = False) -> report.Material:
        """What a report of the session as it now is is made of; `client`: in the form for the client. Raises `GluvoError`
        until the song is measured."""
        bench = self.bench
        song = bench.picture.song_render
        if song is None or not bench.picture.song_current:
            raise GluvoError("The song is still being measured. Write the report when it is done.")
        told = bench.session.view.report_watch_outs and not client
        if told and not bench.watching_out.current:
            raise GluvoError("Watch-outs are still being looked for. Write the report when that is done.")
        rows = [(d, self._results[d.id]) for d in bench.session.deliverables if d.id in self._results]
        return report.Material(
            bench.session,
            song,
            __version__,
            [(d.name, d.target or bench.session.target, f) for d, r in rows for f in r.outcome.files],
            list(self._encodings.found.values()) if self._encodings.current else [],
            bench.audio.reference_figures,
            bench.audio.reference_tone,
            (*self.notes(), *([self.left_out()] if self.left_out() else [])),
            watch_outs=bench.watching_out.told if told else None,
            parts={d.name: in_words(bench.session, d) for d, _ in rows if d.of != "mix"},
            client=client,
        )

    def write(self, path: Path, client: bool = False) -> None:
        """Write the report as HTML, and as JSON beside it, in the background; `client`: in the form for the client."""
        try:
            material = self.material(client)
        except GluvoError as error:
            self.bench.tell(str(error), True)
            return
        self.bench.background.run(
            WRITING,
            "Writing the report",
            lambda _: report.write_report(material, path),
            lambda found: self.bench.tell(f"{found[0].name} and {found[1].name} were written.", False),
        )
