"""Writing files and trying encodings, and what came of it, between the session and the Deliver page."""

from __future__ import annotations

import contextlib
import datetime
import math
from collections.abc import Collection, Mapping
from dataclasses import replace
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, Signal

from gluvo.deliver.formats import FORMATS
from gluvo.deliver.targets import shortfalls
from gluvo.deliver.usual import usual_set
from gluvo.deliver.write import (
    Outcome,
    Row,
    clippings,
    places,
    prepared,
    same_names,
    verdict_of_part,
    write_rows,
)
from gluvo.desk.model.delivered_files import DeliveredFiles
from gluvo.desk.model.encode_check import EncodeCheck
from gluvo.desk.model.following import Follower
from gluvo.desk.model.louder_costs import LouderCosts
from gluvo.desk.model.reporting import Reporting, Result
from gluvo.desk.model.row_ends import RowEnds
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import AudioFileError, GluvoError
from gluvo.opened.tasks import WRITING, Task
from gluvo.progress import Progress
from gluvo.session import deliveries
from gluvo.session.deliveries import recorded
from gluvo.session.files import numbered, reason_of, refuse_own
from gluvo.session.media import place_of
from gluvo.session.records import Deliverable, DeliveredFile, Session

KEEP_BOTH, REPLACE = "both", "replace"


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
        self.encode_check = EncodeCheck(bench, self._has_changed, lambda: self.folder)
        self.costs = LouderCosts(bench, self._has_changed)
        self.delivered = DeliveredFiles(bench, self._has_changed)
        self.ends = RowEnds(bench)
        self.reporting = Reporting(bench, self.results, self.encode_check)
        self._stopped: set[str] = set()
        self._folder: Path | None = None
        self._tasks: list[Task] = []
        self.said = ""
        """What the last writing came to."""
        Follower(self, bench, self._other_session, besides=lambda: (bench.document,))
        Follower(self, bench, self._strips_changed, session=lambda s: (s.sound,))
        Follower(self, bench, self._rows_changed, session=lambda s: (s.deliverables, s.sections))
        Follower(self, bench, self.changed.emit, session=lambda s: (s.target, s.tags, s.name))
        bench.background.changed.connect(self._tasks_changed)

    def _has_changed(self) -> None:
        """What is known of it is another. A method, and not the signal itself: that would not keep this object alive."""
        self.changed.emit()

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
        reasons = clippings(result.outcome.files)
        reasons += [reason for f in whole for reason in shortfalls(f.figures, target)]
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
                    self.delivered.written_again(file.media.path)
                self.delivered.look()
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

    def _other_session(self) -> None:
        self.results.clear()
        for known in (self.encode_check, self.costs, self.delivered):
            known.forget()
        self._folder, self.said = None, ""
        self.changed.emit()

    def _rows_changed(self) -> None:
        self.ends.forget()
        self.changed.emit()

    def _strips_changed(self) -> None:
        self.encode_check.margin = None
        self.ends.forget()
        self.changed.emit()


def at_home(path: Path) -> str:
    """A path as people write it: with a tilde for their home."""
    home = Path.home()
    return f"~/{path.relative_to(home)}" if path.is_relative_to(home) else str(path)


def unused(path: Path, taken: Collection[str] = ()) -> Path:
    """The path, or the next one with a number that nothing has yet. `taken`: names, in lower case, that are spoken for."""
    return next(p for p in numbered(path) if not p.exists() and p.name.lower() not in taken)
