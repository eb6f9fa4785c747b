"""Writing files and trying encodings, and what came of it, between the session and the Deliver page."""

from __future__ import annotations

import contextlib
import datetime
import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QObject, Signal

from gluvo import __version__
from gluvo.advise.loudness_target import driven
from gluvo.advise.prices import Price, prices
from gluvo.advise.source import source_notes
from gluvo.compare.hearables import ENCODINGS, PRICES, Hearable, Stretch, TimeMap
from gluvo.compare.match import RESULT
from gluvo.deliver import report
from gluvo.deliver.encoding import LOST, Encoded, Encoding, Margin, encoded, find_margin
from gluvo.deliver.ends import as_written, ends_of
from gluvo.deliver.formats import FORMATS
from gluvo.deliver.targets import shortfalls
from gluvo.deliver.usual import usual_set
from gluvo.deliver.write import Outcome, Row, node_of, places, prepared, same_names, verdict_of_part, write_rows
from gluvo.desk.controls.widgets import figure
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import AudioFileError, GluvoError
from gluvo.measure.trace import Span
from gluvo.opened.audio import ExtraSound, joint_of
from gluvo.opened.tasks import LOOKING, SEARCHING, VERIFYING, WRITING, Task
from gluvo.progress import Progress
from gluvo.render.scaled import stretch_of
from gluvo.session import deliveries
from gluvo.session.deliveries import Lies, lies, recorded, verified
from gluvo.session.files import numbered, reason_of, refuse_own
from gluvo.session.media import place_of
from gluvo.session.records import Deliverable, Delivered, DeliveredFile, Session
from gluvo.session.song_parts import in_words, muted
from gluvo.session.sounds import Sound

ROW = "row"
"""The id under which what a row holds is heard."""
LEAST_END = 6.0
"""Seconds of an end that are heard at least."""
KEEP_BOTH, REPLACE = "both", "replace"


@dataclass(frozen=True)
class Result:
    """What became of a row, and of what session."""

    outcome: Outcome
    explained: str
    """Why the row's target could not be met, if it could not."""
    of: tuple[object, ...]


def _recorded(outcomes: Mapping[str, Outcome], folder: Path) -> dict[str, list[DeliveredFile]]:
    """The records of what was written, by the rows' ids; what has gone meanwhile has none."""
    found: dict[str, list[DeliveredFile]] = {}
    for id, outcome in outcomes.items():
        for file in outcome.files:
            with contextlib.suppress(AudioFileError):
                figures = {
                    k: float(v) for k, v in msgspec.to_builtins(file.figures).items() if isinstance(v, int | float)
                }
                plain = {k: v for k, v in figures.items() if math.isfinite(v)}
                found.setdefault(id, []).append(recorded(file.path, folder, file.section, plain))
    return found


def _made_from(session: Session, row: Deliverable) -> tuple[object, ...]:
    """What a row's files depend on."""
    target = row.target or session.target
    return session.sound, session.tags, session.name, session.sections if row.scope == "sections" else (), row, target


class Delivery(QObject):
    """The deliverables of the open session at work."""

    changed = Signal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self.bench = bench
        self.results: dict[str, Result] = {}
        self.shares: dict[str, float] = {}
        """How far each row is that is being written, 0–1."""
        self.encodings: dict[Encoding, Encoded] = {}
        self.margin: Margin | None = None
        self._encoded_of = ""
        self.prices: tuple[Price, ...] = ()
        """The song at several loudnesses; the first is the song as it was."""
        self._priced_of = ""
        self._stopped: set[str] = set()
        self._compared_of: tuple[object, ...] = ()
        self._compared: dict[str, tuple[str, ...]] = {}
        """What has changed since deliveries, by their ids, of the session as it was looked at last."""
        self._lies: dict[str, Lies] = {}
        """How files that were delivered were found, by their places."""
        self._folder: Path | None = None
        self._tasks: list[Task] = []
        self.said = ""
        """What the last writing came to."""
        Follower(self, bench, self._other_session, besides=lambda: (bench.document,))
        Follower(self, bench, self._strips_changed, session=lambda s: (s.sound,))
        Follower(self, bench, self._rows_changed, session=lambda s: (s.deliverables, s.sections))
        Follower(self, bench, self.changed.emit, session=lambda s: (s.target, s.tags, s.name))
        bench.background.changed.connect(self._tasks_changed)

    # --- where ---------------------------------------------------------------------------------------------

    @property
    def folder(self) -> Path:
        return self._folder or self.bench.document.folder / "Deliverables"

    def use_folder(self, folder: Path | None) -> None:
        """Write there from now on."""
        self._folder = folder
        self.changed.emit()

    # --- the list ------------------------------------------------------------------------------------------

    def add(self) -> str:
        """A new row; its id."""
        session = self.bench.session
        taken = {d.name for d in session.deliverables}
        names = (f"Master {n}" if n > 1 else "Master" for n in range(1, 200))
        new = Deliverable(id=session.fresh_id("deliverable"), name=next(n for n in names if n not in taken))
        self.bench.edit("Add deliverable", lambda s: s.replace(deliverables=(*s.deliverables, new)))
        return new.id

    def add_usual(self) -> int:
        """The rows of the usual set that are not there yet; how many."""
        new = usual_set(self.bench.session)
        if new:
            self.bench.edit("Add the usual set", lambda s: s.replace(deliverables=(*s.deliverables, *new)))
        return len(new)

    def remove(self, id: str) -> None:
        rest = tuple(d for d in self.bench.session.deliverables if d.id != id)
        self.bench.edit("Remove deliverable", lambda s: s.replace(deliverables=rest))

    def change(self, id: str, field: str, value: object) -> None:
        """Change a field of a row; what the format cannot hold follows it."""

        def changed(d: Deliverable) -> Deliverable:
            if d.id != id:
                return d
            if isinstance(getattr(d, field), int) and not isinstance(value, bool):
                d = msgspec.structs.replace(d, **{field: round(float(value))})  # type: ignore[arg-type]
            else:
                d = msgspec.structs.replace(d, **{field: value})
            format = FORMATS[d.format]
            if format.depths and d.bits not in format.depths:
                other = next(f.key for f in FORMATS.values() if d.bits in f.depths)
                changes = {"bits": format.depths[0]} if field == "format" else {"format": other}
                d = msgspec.structs.replace(d, **changes)
            if d.rate and d.rate not in FORMATS[d.format].rates:
                back = {"rate": 0} if field == "format" else {"format": "wav"}
                d = msgspec.structs.replace(d, **back)
            if field == "bits":
                d = msgspec.structs.replace(d, dither="tpdf" if value == "16" else "none")
            return d

        rows = tuple(changed(d) for d in self.bench.session.deliverables)
        self.bench.edit("Change deliverable", lambda s: s.replace(deliverables=rows), f"{id}.{field}")

    def stale_names(self) -> tuple[str, ...]:
        """The names of the rows that were written and are others now."""
        rows = self.bench.session.deliverables
        return tuple(row.name for row in rows if row.id in self.results and self.stale(row))

    def stale(self, row: Deliverable) -> bool:
        """Whether the session or the row has changed since it was written."""
        result = self.results.get(row.id)
        return result is not None and result.of != _made_from(self.bench.session, row)

    def verdict(self, row: Deliverable) -> tuple[str, bool]:
        """Whether a row that was written meets its target, in words, and whether it does."""
        result = self.results[row.id]
        if result.outcome.trouble:
            return result.outcome.trouble, False
        if row.of != "mix":
            return verdict_of_part(row, result.outcome)
        target = row.target or self.bench.session.target
        whole = [f for f in result.outcome.files if not f.section]
        reasons = [reason for f in whole for reason in shortfalls(f.figures, target)]
        peaks = [f for f in result.outcome.files if f.section]
        reasons += [f"{f.section}: {r}" for f in peaks for r in shortfalls(f.figures, target) if "peak" in r]
        if result.explained and reasons:
            reasons.append(result.explained)
        if reasons:
            return f"misses it: {'; '.join(reasons)}", False
        return "meets it" if whole else "peaks meet it", True  # a section's own loudness is nobody's target

    # --- writing -------------------------------------------------------------------------------------------

    def planned(self, ids: Collection[str] = ()) -> dict[str, tuple[Path, ...]]:
        """The files of the rows (all, if none are named). Raises `GluvoError` for what cannot be written."""
        session, material = self.bench.session, self.bench.audio.material
        rows = [d for d in session.deliverables if not ids or d.id in ids]
        if material is None or not rows:
            raise GluvoError("There is nothing to write yet: bring in a mix and add a deliverable.")
        named = {d.id: places(session, d, material.rate, self.folder) for d in rows}
        if (same := same_names(named)) is not None:
            raise GluvoError(
                f"Two deliverables would become one file, {same.name}. Give them different names or formats; "
                "nothing was written."
            )
        needed = [place_of(media, self.bench.document.folder) for media in session.media]
        for path in (p for paths in named.values() for p in paths):
            refuse_own(path, [*needed, self.bench.document.path])
        return named

    def places(self, row: Deliverable) -> tuple[Path, ...]:
        """Where a row's files would go. Raises `GluvoError` for what cannot be named."""
        material = self.bench.audio.material
        return places(self.bench.session, row, material.rate if material is not None else 48_000, self.folder)

    def write(self, ids: Collection[str] = (), existing: str = KEEP_BOTH) -> None:
        """Write rows (all, if none are named) in the background. `existing`: what to do with files that are there."""
        bench, folder = self.bench, self.folder
        session, material, renderer, mine = bench.session, bench.audio.material, bench.renderer, bench.generation
        named = self.planned(ids)
        assert material is not None and renderer is not None
        rows = [d for d in session.deliverables if d.id in named]
        there = frozenset(path for paths in named.values() for path in paths if path.exists())
        base = bench.document.folder
        self._stopped -= set(named)
        self.shares.update(dict.fromkeys(named, 0.0))

        def work(progress: Progress) -> tuple[list[Row], dict[str, Outcome], dict[str, list[DeliveredFile]]]:
            try:
                folder.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise GluvoError(f"{folder} cannot be made ({reason_of(error)}).") from None
            ready: list[Row] = []
            taken: set[str] = set()
            troubles: dict[str, Outcome] = {}
            for n, d in enumerate(rows):
                share = 0.2 * n / len(rows)
                try:
                    row = prepared(
                        renderer,
                        session,
                        d,
                        folder,
                        progress=lambda x, share=share: progress(share + 0.2 * x / len(rows)),  # type: ignore[misc]
                    )
                except GluvoError as error:
                    troubles[d.id] = Outcome(trouble=str(error))
                    continue
                if existing == KEEP_BOTH:
                    paths = []
                    for path, part in row.paths:
                        paths.append((unused(path, taken), part))
                        taken.add(paths[-1][0].name.lower())
                    row = replace(row, paths=tuple(paths))
                else:
                    row = replace(row, over=there)
                ready.append(row)
            done = write_rows(
                material,
                ready,
                base,
                lambda d: progress(0.2 + 0.8 * d),
                self.shares.__setitem__,
                lambda id: id not in self._stopped,
            )
            return ready, done | troubles, _recorded(done, base)

        def done(found: tuple[list[Row], dict[str, Outcome], dict[str, list[DeliveredFile]]]) -> None:
            made = datetime.datetime.now().isoformat(timespec="seconds")
            written_rows = [(d, found[2].get(d.id, [])) for d in rows]
            if mine == bench.generation and any(files for _, files in written_rows):
                kept = deliveries.kept(bench.session, made, written_rows, session)
                bench.keep(lambda s: s.replace(deliveries=kept.deliveries))
                for file in (file for _, files in written_rows for file in files):
                    self._lies.pop(file.media.path, None)
                self.look_at_files()
            explained = {row.deliverable.id: row.explained for row in found[0]}
            for id, outcome in found[1].items():
                row = next(d for d in rows if d.id == id)
                self.results[id] = Result(outcome, explained.get(id, ""), _made_from(session, row))
            written = sum(len(o.files) for o in found[1].values())
            wrong = [o.trouble for o in found[1].values() if o.trouble]
            files = f"{written} file{'' if written == 1 else 's'}"
            told = f"{files} written to {at_home(folder)} and measured by reading back."
            self.said = told if written else "Nothing was written."
            if wrong:
                bench.tell(wrong[0] if len(wrong) == 1 else f"{len(wrong)} rows were not written. {wrong[0]}", True)
            self.changed.emit()

        def ended() -> None:
            for id in named:
                self.shares.pop(id, None)
            self.changed.emit()

        self.said = ""
        count = sum(len(paths) for paths in named.values())
        title = f"Writing {count} file{'' if count == 1 else 's'}"
        task = bench.background.run(WRITING, title, work, done, ended)
        self._tasks.append(task)
        self.changed.emit()

    def stop(self, id: str = "") -> None:
        """Stop writing a row; all of them, if none is named."""
        if id:
            self._stopped.add(id)
            return
        for task in self._tasks:
            self.bench.tasks.cancel(task)

    @property
    def share(self) -> float | None:
        """How far the writing is; None if there is none."""
        return self._tasks[0].share if self._tasks else None

    def _tasks_changed(self) -> None:
        shown = self.bench.tasks.shown()
        before = len(self._tasks)
        self._tasks = [task for task in self._tasks if task in shown]
        if self._tasks or before:
            self.changed.emit()

    # --- what was delivered --------------------------------------------------------------------------------

    def look_at_files(self) -> None:
        """See whether the files that were delivered are where they were put, by their sizes."""
        bench, folder = self.bench, self.bench.document.folder
        last = {file.media.path: file for d in bench.session.deliveries for file in d.files}
        if not last:
            return

        def done(found: dict[str, Lies]) -> None:
            for path, how in found.items():  # a size that is right says nothing of content that was found to be wrong
                if how is not Lies.THERE or self._lies.get(path) is not Lies.ANOTHER:
                    self._lies[path] = how
            self.changed.emit()

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
            self.changed.emit()

        bench.background.run(VERIFYING, "Verifying deliveries", lambda p: verified(session, folder, p), done)

    def delivered(self, row: Deliverable) -> tuple[str, str, bool] | None:
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

    # --- the ends ------------------------------------------------------------------------------------------

    def _span_of(self, row: Deliverable) -> Span | None:
        """The stretch of the song that a row's (first) file holds; all of it, if it is no section's."""
        sections = self.bench.session.sections
        found = {"section": self.bench.session.section(row.section), "sections": sections[0] if sections else None}
        section = found.get(row.scope)
        return None if section is None else Span(section.start, section.end)

    def ends(self, row: Deliverable) -> str:
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

    def hear_row(self, id: str, of_end: bool) -> None:
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

    # --- encodings -----------------------------------------------------------------------------------------

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
            if self._encoded_of != key:
                self._forget()
            self._encoded_of = key
            for one, (decoded, lost) in found:
                self.encodings[one.encoding] = one
                bench.listening.add_extra(decoded)
                bench.listening.add_extra(lost)
            bench.measurement.render()
            self.changed.emit()

        bench.background.run(SEARCHING, "Encoding and decoding", work, done)

    # --- the report ----------------------------------------------------------------------------------------

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

    def report(self) -> report.Material:
        """What a report of the session as it now is is made of. Raises `GluvoError` until the song is measured."""
        bench = self.bench
        song = bench.picture.song_render
        if song is None or not bench.picture.song_current:
            raise GluvoError("The song is still being measured. Write the report when it is done.")
        told = bench.session.view.report_watch_outs
        if told and not bench.watching_out.current:
            raise GluvoError("Watch-outs are still being looked for. Write the report when that is done.")
        rows = [(d, self.results[d.id]) for d in bench.session.deliverables if d.id in self.results]
        return report.Material(
            bench.session,
            song,
            __version__,
            [(d.name, d.target or bench.session.target, f) for d, r in rows for f in r.outcome.files],
            list(self.encodings.values()) if self.encodings_current else [],
            bench.audio.reference_figures,
            bench.audio.reference_tone,
            (*self.notes(), *([self.left_out()] if self.left_out() else [])),
            watch_outs=bench.watching_out.told if told else None,
            parts={d.name: in_words(bench.session, d) for d, _ in rows if d.of != "mix"},
        )

    def write_report(self, path: Path) -> None:
        """Write the report as HTML, and as JSON beside it, in the background."""
        try:
            material = self.report()
        except GluvoError as error:
            self.bench.tell(str(error), True)
            return
        self.bench.background.run(
            WRITING,
            "Writing the report",
            lambda _: report.write_report(material, path),
            lambda found: self.bench.tell(f"{found[0].name} and {found[1].name} were written.", False),
        )

    # --- prices --------------------------------------------------------------------------------------------

    def find_prices(self) -> None:
        """Bring the song to its target and around it, and measure what each takes; have them in the Hear row."""
        bench = self.bench
        renderer, session, span = bench.renderer, bench.session, bench.span
        if renderer is None:
            bench.tell("There is no song yet to find prices for.", True)
            return
        key = renderer.plan(session).result.key

        def done(found: tuple[Price, ...]) -> None:
            for n in range(len(self.prices)):
                bench.listening.drop_extra(price_id(n))
            self.prices, self._priced_of = found, key
            for n, price in enumerate(found):
                name = f"{figure(price.level)} LUFS" if price.wanted is not None else "As it was"
                tip = f"The song as it would be at {figure(price.level)} LUFS."
                heard = Hearable(price_id(n), PRICES, name, tip)
                sound = Sound(price.audio, renderer.rate)
                joint_of(sound, price.trace)
                bench.listening.add_extra(ExtraSound(heard, sound))
            bench.measurement.render()
            self.changed.emit()

        bench.background.run(SEARCHING, "Finding prices", lambda p: prices(renderer, session, span, p), done)

    @property
    def prices_current(self) -> bool:
        """Whether the prices are of the song as it now is, or as one of them has made it."""
        renderer = self.bench.renderer
        if renderer is None:
            return False
        now = self.bench.session.sound
        return renderer.plan(self.bench.session).result.key == self._priced_of or any(
            p.session.sound == now for p in self.prices
        )

    def take_price(self, row: int) -> None:
        """Set the session as a line of the prices has it."""
        if not 0 <= row < len(self.prices):
            return
        if not self.prices_current:
            self.bench.tell("The song has changed since these prices were found. Find them again first.", True)
            return
        price = self.prices[row]
        reached, now = price.reached, self.bench.session.sound

        def keep(s: Session) -> Session:
            if reached is None or any(p.session.sound == now for p in self.prices[1:]):
                return s.replace(strips=price.session.strips)  # from one line to another
            return driven(s, reached.step, reached.drive, reached.ceiling)  # what was changed without being heard stays

        self.bench.edit(f"Keep {figure(price.level)} LUFS", keep)
        if self.bench.session.view.hear == price_id(row):
            self.bench.listening.hear(RESULT)

    @property
    def encodings_current(self) -> bool:
        """Whether what was encoded is the song as it now is."""
        renderer = self.bench.renderer
        return renderer is not None and renderer.plan(self.bench.session).result.key == self._encoded_of

    def find_margin(self, encodings: Sequence[Encoding], highest: float) -> None:
        """Look for the highest ceiling at which every encoding stays at or under `highest` dBTP."""
        bench = self.bench
        renderer, session, folder = bench.renderer, bench.session, self.folder
        if renderer is None:
            return
        plain = Deliverable(id="margin", name="margin")

        def at(margin: float, progress: Progress) -> tuple[np.ndarray, int]:
            row = prepared(renderer, session, msgspec.structs.replace(plain, margin=margin), folder)
            result = renderer.joint(renderer.plan(row.session).result, None, progress)
            return result.heard_in(None), renderer.material.rate

        def done(found: Margin) -> None:
            self.margin = found
            self.changed.emit()

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
        for encoding in self.encodings:
            self.bench.listening.drop_extra(encoding.id)
            self.bench.listening.drop_extra(encoding.id + LOST)
        self.encodings.clear()

    def _other_session(self) -> None:
        self.results.clear()
        self.encodings.clear()
        self.prices = ()
        self._lies.clear()
        self.margin, self._folder, self.said = None, None, ""
        self.changed.emit()

    def _rows_changed(self) -> None:
        self.bench.listening.drop_extra(ROW)  # it is of what was before
        self.changed.emit()

    def _strips_changed(self) -> None:
        self.margin = None
        self.bench.listening.drop_extra(ROW)
        self.changed.emit()


def price_id(row: int) -> str:
    """By which a line of the prices is heard."""
    return f"price-{row}"


def _hearable(encoding: Encoding, lost: bool) -> Hearable:
    if lost:
        tip = f"Only what {encoding.name} loses: the decoded file less the result."
        return Hearable(encoding.id + LOST, ENCODINGS, f"{encoding.name} lost", tip, is_difference=True)
    return Hearable(encoding.id, ENCODINGS, encoding.name, f"The result encoded as {encoding.name}, and decoded again.")


def at_home(path: Path) -> str:
    """A path as people write it: with a tilde for their home."""
    home = Path.home()
    return f"~/{path.relative_to(home)}" if path.is_relative_to(home) else str(path)


def unused(path: Path, taken: Collection[str] = ()) -> Path:
    """The path, or the next one with a number that nothing has yet. `taken`: names, in lower case, that are spoken for."""
    return next(p for p in numbered(path) if not p.exists() and p.name.lower() not in taken)
