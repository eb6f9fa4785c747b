"""Write a session's deliverables: the song is played once for all of them, and each file is measured by reading it again."""

from __future__ import annotations

import concurrent.futures
import contextlib
import dataclasses
import io
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from gluvo.advise.loudness_target import driven, reach_target
from gluvo.deliver.covers import cover_of
from gluvo.deliver.encoding import Encoding, decoded_of
from gluvo.deliver.formats import Format, format_of
from gluvo.deliver.names import stem_of
from gluvo.deliver.rows import Piece, RowStream
from gluvo.deliver.targets import loudness_of
from gluvo.dsp.kernel import Audio
from gluvo.errors import AudioFileError, Cancelled, GluvoError, WriteError
from gluvo.measure.figures import Figures, figures_of
from gluvo.measure.trace import Tracer, trace_of
from gluvo.progress import CORES, Progress, no_progress
from gluvo.render.machine import Machine, filler, played_all
from gluvo.render.plan import Node, Plan
from gluvo.render.song import Renderer
from gluvo.session.files import NewFile, placing, reason_of
from gluvo.session.media import Material
from gluvo.session.records import MIX, Deliverable, Section, Session, Target
from gluvo.session.scratch import Growing
from gluvo.session.song_parts import held_by, strips_of
from gluvo.session.sounds import measured_file
from gluvo.session.tree import path as way_out
from gluvo.steps import MAX_BLOCK, Limiter, Step
from gluvo.steps.ceiling import last_limiter

PIECE = 4 * MAX_BLOCK
"""Frames that rows are given at a time."""
MOST_VERSIONS = 10_000
CONVERSIONS = 3
"""How often a row's loudness is looked for again, since conversion takes a little of it."""
CLOSE = 0.02
"""LU within which it is met then."""
NOTHING_LEFT = -110.0
"""dB under the master; where less is left of it, parts of the song add up to it."""
MASTER = "master"
"""The output that parts are compared with."""
PLAYED = 0.8
"""The share of the work that is done when the song has been played."""


@dataclass(frozen=True)
class Written:
    """A file that was written, as measured by reading it again."""

    path: Path
    figures: Figures
    rate: int
    mended: float
    """dB by which the ceiling was passed after rate conversion, and brought back; 0 if it was not."""
    frames: int
    section: str = ""
    """The name of the section that it holds; empty for the whole song."""
    clipped: float = 0.0
    """dB by which samples were too high for whole numbers, and were cut off; 0 if none was."""


@dataclass(frozen=True)
class Row:
    """A deliverable that is ready to be written: brought to its target, with its files' places."""

    deliverable: Deliverable
    session: Session
    """As it is for this row: its last limiter is driven to the row's own target."""
    target: Target
    format: Format
    rate: int
    paths: tuple[tuple[Path, Section | None], ...]
    explained: str = ""
    """Why its target could not be met, in words; nothing if it was, or was not looked for."""
    over: frozenset[Path] = frozenset()
    """The files that it may take the place of. One that appears where it goes and is none of these is left alone, and the
    new one gets a number."""


@dataclass(frozen=True)
class Outcome:
    """What became of a row."""

    files: tuple[Written, ...] = ()
    trouble: str = ""
    """What went wrong, in a sentence; then there is no file."""
    residue: float | None = None
    """Of a row that adds up to the master with others: what is left between their sum and it, dB under the master's RMS."""


def node_of(session: Session, row: Deliverable) -> Node:
    """What a row's file holds, at the session's rate."""
    strips = strips_of(session, row)
    plan = Plan(session, only=strips)
    return plan.result if strips is None or row.through else plan.strips[MIX].start


def adding_up(session: Session, rows: Sequence[Deliverable]) -> tuple[Deliverable, ...]:
    """Of some rows those that hold all of the song once, through the mix chain and faded alike; none if they do not."""
    parts = [row for row in rows if row.of == "only" and row.through and row.scope == "song" and row.target is None]
    parts = [row for row in parts if _faded(row) == _faded(parts[0])]
    held: set[str] = set()
    found = []
    for row in parts:
        stems = held_by(session, strips_of(session, row) or ())
        if stems and not stems & held:
            held |= stems
            found.append(row)
    silent = {strip.id for strip in session.strips if strip.mute}
    wanted = {stem.id for stem in session.stems if not silent & set(way_out(session, stem.id))}
    return tuple(found) if len(found) > 1 and held >= wanted else ()


def _faded(row: Deliverable) -> tuple[object, ...]:
    return row.fade_in, row.fade_out, row.fade_shape, row.lead


def clippings(files: Sequence[Written]) -> list[str]:
    """In words, by how much peaks passed full scale and were cut off in files of whole numbers; nothing if none was."""
    most = max((f.clipped for f in files), default=0.0)
    return [f"clipped by {most:.2f} dB"] if most > 0.0 else []


def verdict_of_part(row: Deliverable, outcome: Outcome) -> tuple[str, bool]:
    """A part of the song has no target: in words whether its file is whole and what it adds up to, and whether all is well."""
    if cut := clippings(outcome.files):
        return f"{cut[0]}: 32 bit float would hold it", False
    if outcome.residue is None:
        return "a part of the song", True
    if outcome.residue <= NOTHING_LEFT:
        return "adds up", True
    return f"adds up but for {outcome.residue:.0f} dB, which is bent".replace("-", "−"), True


class _Sums:
    """Measures what is left between the master and the sum of the rows that hold all of it once."""

    def __init__(self, rows: Sequence[Row]) -> None:
        plain = [row for row in rows if row.deliverable.margin == 0.0]
        self._ids: tuple[str, ...] = ()
        self._told: tuple[str, ...] = ()
        """Those and others that hold the same as one of them."""
        self.nodes: dict[str, Node] = {}
        if plain and (found := adding_up(plain[0].session, [row.deliverable for row in plain])):
            session = plain[0].session
            self._ids = tuple(row.id for row in found)
            self.nodes = {MASTER: Plan(session).result}
            held = {held_by(session, strips_of(session, row) or ()) for row in found}
            parts = [row.deliverable for row in plain if row.deliverable.of == "only" and row.deliverable.through]
            self._told = tuple(d.id for d in parts if held_by(session, strips_of(session, d) or ()) in held)
        self._left = self._all = 0.0

    def push(self, blocks: Mapping[str, Audio]) -> None:
        if self._ids:
            rest = blocks[MASTER] - sum(blocks[id] for id in self._ids)
            self._left += float(np.square(rest).sum())
            self._all += float(np.square(blocks[MASTER]).sum())

    def residues(self) -> dict[str, float]:
        """By the rows' ids, dB; −200 where nothing is left."""
        if not self._ids or self._all <= 0.0:
            return {}
        return dict.fromkeys(self._told, 10.0 * math.log10(max(1e-20, self._left / self._all)))


def rate_of(row: Deliverable, rate: int) -> int:
    """Hz of a row's files for a song of `rate`. Raises `WriteError` if the format cannot hold what was chosen."""
    return row.rate or format_of(row).rate_for(rate)


def places(session: Session, row: Deliverable, rate: int, folder: Path) -> tuple[Path, ...]:
    """Where a row's files go, in order. Raises `WriteError` for what cannot be named, or has no section to be written."""
    return tuple(path for path, _ in _named(session, row, rate, folder))


def _named(session: Session, row: Deliverable, rate: int, folder: Path) -> tuple[tuple[Path, Section | None], ...]:
    format, to = format_of(row), rate_of(row, rate)
    target = row.target or session.target
    depth = f"{row.bit_rate}k" if format.lossy else row.bits
    parts: Sequence[Section | None] = {"song": (None,), "sections": session.sections}.get(
        row.scope, tuple(s for s in session.sections if s.id == row.section)
    )
    if not parts and row.scope == "section":
        raise WriteError(f"{row.name} is to hold one section. Choose which.")
    if not parts:
        raise WriteError(f"{row.name} is to be written by sections, and the song has none.")
    if row.of == "only" and not strips_of(session, row):
        raise WriteError(f"{row.name} is to hold some strips. Choose which.")

    def path(part: Section | None, version: int) -> Path:
        name = part.name if part is not None else ""
        stem = stem_of(session, row, rate=to, target=target.name, depth=depth, section=name, version=version)
        return folder / f"{stem}{format.suffix}"

    numbers = range(1, MOST_VERSIONS) if "{version}" in row.pattern else range(1, 2)
    for version in numbers:
        found = tuple((path(part, version), part) for part in parts)
        if version == numbers[-1] or not any(place.exists() for place, _ in found):
            break
    return found


def refuse_too_long(path: Path, row: Deliverable, format: Format, frames: int) -> None:
    """Raises `WriteError` if a file of so many frames of the song would be larger than its format allows."""
    size = (frames + row.lead + row.tail) * 2 * {"16": 2, "24": 3, "32f": 4}[row.bits]
    if format.most and size > format.most:
        raise WriteError(
            f"{path.name} would have {size / 1e9:.1f} GB, and {format.name} holds {format.most / 1e9:.1f}: choose WAV or FLAC."
        )


def same_names(named: Mapping[str, Sequence[Path]]) -> Path | None:
    """A file that two rows, or two sections of one, would both become; None where all differ."""
    seen: set[str] = set()
    for paths in named.values():
        for path in paths:
            if path.name.lower() in seen:
                return path
            seen.add(path.name.lower())
    return None


def prepared(
    renderer: Renderer,
    session: Session,
    row: Deliverable,
    folder: Path,
    progress: Progress = no_progress,
) -> Row:
    """A row brought to its own target, if it has one, with its margin; see `advise.loudness_target`."""
    rate, format = rate_of(row, renderer.material.rate), format_of(row)
    paths = _named(session, row, renderer.material.rate, folder)
    target, limiter = row.target or session.target, last_limiter(session.mix.chain)
    if row.target is not None:
        if limiter is None:
            return Row(row, session, target, format, rate, paths, "the mix bus has no limiter that is on")
        aim = msgspec.structs.replace(target, true_peak=max(-12.0, target.true_peak - row.margin))
        for attempt in range(CONVERSIONS):
            reached = reach_target(renderer, session.replace(target=aim), None, progress)
            brought = driven(session, reached.step, reached.drive, reached.ceiling)
            as_it_is = rate == renderer.material.rate and not format.lossy
            if as_it_is or not reached.met or attempt == CONVERSIONS - 1:
                break
            encoding = Encoding(format.key, row.bit_rate) if format.lossy else None
            miss = _as_heard(renderer, brought, rate, target, encoding, progress) - target.loudness
            if abs(miss) <= CLOSE:
                break
            aim = msgspec.structs.replace(aim, loudness=min(0.0, max(-40.0, aim.loudness - miss)))
        return Row(row, brought, target, format, rate, paths, reached.why_not)
    if row.margin > 0.0 and limiter is not None:
        ceiling = min(limiter.ceiling, target.true_peak - limiter.output) - row.margin
        session = session.with_step(msgspec.structs.replace(limiter, ceiling=max(-12.0, round(ceiling, 3))))
    return Row(row, session, target, format, rate, paths)


def _as_heard(
    renderer: Renderer, session: Session, rate: int, target: Target, encoding: Encoding | None, progress: Progress
) -> float:
    """How loud the song is at a rate, its ceiling held there, and after an encoding and its decoding if there is one, by a
    target's measure: an encoder's low-pass takes some of the highs."""
    audio, come = renderer.joint(renderer.plan(session).result).audio, renderer.material.rate
    tracer, kept = Tracer(rate, between=False), Growing()
    heard = Format("wav", "", "", lambda *_: _Heard(tracer.push if encoding is None else kept.add), ("32f",))
    plain, whole = Deliverable(id="x", name="x", bits="32f"), Piece(0, round(len(audio) * rate / come), io.BytesIO())
    stream = RowStream(plain, heard, (come, rate), len(audio), (whole,), last_ceiling_of(session))
    for at in range(0, len(audio), PIECE):
        stream.push(audio[at : at + PIECE].astype(np.float64))
    stream.finish()
    if encoding is not None:
        decoded, rate = decoded_of(kept.array(), rate, encoding, lambda _: progress(0.5))
        return loudness_of(figures_of(trace_of(decoded, rate)), target)
    return loudness_of(figures_of(tracer.finish()), target)


class _Heard:
    """Takes what would be written, to be measured."""

    def __init__(self, take: Callable[[np.ndarray], None]) -> None:
        self._take = take

    def write(self, block: np.ndarray) -> None:
        self._take(block)

    def close(self) -> None: ...

    def abandon(self) -> None: ...


def write_rows(
    material: Material,
    rows: Sequence[Row],
    folder: Path,
    progress: Progress = no_progress,
    told: Callable[[str, float], None] = lambda _id, _share: None,
    wanted: Callable[[str], bool] = lambda _id: True,
    placed: Callable[[Path], object] | None = None,
) -> dict[str, Outcome]:
    """Play the song once and write all rows, each whole or not at all; what became of each, by its id.

    `folder`: the session's, for the cover. `told` gets each row's share; a row that is no longer `wanted` is given up.
    `placed` gets each file that is whole and in its place: whoever asks for that can be stopped while they are measured,
    too. Raises `AudioFileError` if a stem is missing, and what `progress` raises; then no file is left that is not whole.
    """
    for missing in (words for row in rows for words in material.lacking(row.session).values()):
        raise AudioFileError(f"Nothing was written, since a part of the song is not there. {missing}")
    if any(material.other(row.session) for row in rows):
        raise AudioFileError(
            "Nothing was written: other audio was put in place and is still being read. Write again then."
        )
    outcomes: dict[str, Outcome] = {}
    with contextlib.ExitStack() as all_files:
        streams: dict[str, _Writing] = {}
        for row in rows:
            writing = _Writing(row, material, folder)
            all_files.enter_context(contextlib.closing(writing))
            if writing.trouble:
                outcomes[row.deliverable.id] = Outcome(trouble=writing.trouble)
            else:
                streams[row.deliverable.id] = writing
        sums = _Sums([w.row for w in streams.values()])
        nodes = {id: node_of(w.row.session, w.row.deliverable) for id, w in streams.items()}
        machine = Machine(nodes | sums.nodes, material.rate)
        shares = lambda d: progress(PLAYED * d)  # noqa: E731
        with concurrent.futures.ThreadPoolExecutor(CORES, "gluvo-writing") as pool:
            for start, blocks in _pieces(machine, material, shares) if streams else ():
                sums.push(blocks)
                pushed = {id: pool.submit(writing.push, blocks[id]) for id, writing in streams.items()}
                well = {id: future.result() for id, future in pushed.items()}
                for id, writing in list(streams.items()):
                    if not wanted(id):
                        writing.give_up()
                        outcomes[id] = Outcome(trouble="It was stopped.")
                    elif not well[id]:
                        outcomes[id] = Outcome(trouble=writing.trouble)
                    else:
                        told(id, PLAYED * start / max(1, material.frames))
                        continue
                    del streams[id]
        for n, (id, writing) in enumerate(streams.items()):

            def further(done: float, id: str = id, share: float = n / len(streams)) -> None:
                told(id, PLAYED + (1.0 - PLAYED) * done)
                with contextlib.suppress(Cancelled):  # the files are whole by now: they are measured in any case
                    progress(PLAYED + (1.0 - PLAYED) * (share + done / len(streams)))

            def further_or_stop(done: float, share: float = n / len(streams)) -> None:
                progress(PLAYED + (1.0 - PLAYED) * (share + done / len(streams)))

            outcomes[id] = writing.finished(further if placed is None else further_or_stop, placed or _nobody)
    residues = sums.residues()
    return {
        row.deliverable.id: dataclasses.replace(outcomes[row.deliverable.id], residue=residues.get(row.deliverable.id))
        for row in rows
    }


def _nobody(_path: Path) -> None: ...


def _pieces(machine: Machine, material: Material, progress: Progress) -> Iterator[tuple[int, dict[str, np.ndarray]]]:
    """The song in pieces of `PIECE` frames, each output's its own, so that the rows can work side by side."""
    piece = {name: np.zeros((PIECE, 2)) for name in machine.paths}
    filled = 0
    for start, blocks in played_all(machine, material.frames, filler(material), progress):
        n = len(next(iter(blocks.values())))
        for name, block in blocks.items():
            piece[name][filled : filled + n] = block
        filled += n
        if filled + MAX_BLOCK > PIECE:
            yield start, {name: part[:filled] for name, part in piece.items()}
            filled = 0
    if filled:
        yield material.frames, {name: part[:filled] for name, part in piece.items()}


class _Writing:
    """A row that is being written. What goes wrong with it is kept, and leaves no file."""

    def __init__(self, row: Row, material: Material, folder: Path) -> None:
        self.row, self.trouble = row, ""
        self._files = contextlib.ExitStack()
        self._open: list[tuple[NewFile, Section | None, Piece]] = []
        self._stream: RowStream | None = None
        come, go = material.rate, row.rate
        total = round(material.frames * go / come)
        with self._minding():
            tags = row.session.tags
            self._cover = cover_of(folder / tags.cover) if tags.cover else None
            for path, section in row.paths:
                part = self._files.enter_context(placing(path, over=path in row.over))
                a, b = (0, total) if section is None else (round(section.start * go), round(section.end * go))
                piece = Piece(min(a, total), min(b, total), part.file)
                refuse_too_long(path, row.deliverable, row.format, piece.end - piece.start)
                if piece.end <= piece.start:
                    what = f"The section {section.name}" if section is not None else "The song"
                    raise WriteError(f"{what} holds no sound, so {path.name} was not written.")
                self._open.append((part, section, piece))
            pieces = tuple(piece for _, _, piece in self._open)
            holder = last_ceiling_of(row.session) if row.deliverable.of == "mix" else None
            self._stream = RowStream(row.deliverable, row.format, (come, go), material.frames, pieces, holder)

    def push(self, block: Audio) -> bool:
        """The next block of the song; whether all is well."""
        with self._minding():
            assert self._stream is not None
            self._stream.push(block)
        return not self.trouble

    def finished(self, progress: Progress, placed: Callable[[Path], object]) -> Outcome:
        """Tag the files, put them in their places, which is told to `placed`, and measure what is there."""
        from gluvo.deliver.tagging import tag  # here, since what it needs takes long to load

        mended, cut = 0.0, (0.0,) * len(self._open)
        with self._minding():
            assert self._stream is not None
            self._stream.finish()
            mended, cut, self._stream = self._stream.mended, self._stream.clipped, None
            tags, row = self.row.session.tags, self.row
            for _, section, piece in self._open:
                title = tags.title or row.session.name
                title = f"{title} - {section.name}" if section is not None else title
                tag(piece.file, row.format.key, tags, self._cover, title)
            self._files.close()
        if self.trouble:
            return Outcome(trouble=self.trouble)
        found = []
        for part, _, _ in self._open:
            placed(part.path)
        for n, (part, section, piece) in enumerate(self._open):
            share, path = n / len(self._open), part.path
            try:
                figures, rate = measured_file(path, lambda d, share=share: progress(share + d / len(self._open)))  # type: ignore[misc]
            except AudioFileError as error:  # it was changed or taken away meanwhile
                return Outcome(trouble=f"{path.name} was written, but could not be read back. {error}")
            name = section.name if section is not None else ""
            frames = piece.end - piece.start + row.deliverable.lead + row.deliverable.tail
            found.append(Written(path, figures, rate, mended, frames, name, cut[n]))
        return Outcome(tuple(found))

    def give_up(self) -> None:
        """Leave nothing of it."""
        with contextlib.suppress(Cancelled):
            self._drop(Cancelled("stopped"))

    def close(self) -> None:
        """What is not finished by now is given up."""
        self.give_up()

    def _drop(self, error: BaseException) -> None:
        if self._stream is not None:
            self._stream.abandon()
            self._stream = None
        self._files.__exit__(type(error), error, error.__traceback__)

    @contextlib.contextmanager
    def _minding(self) -> Iterator[None]:
        try:
            yield
        except (GluvoError, OSError) as error:
            if isinstance(error, Cancelled):
                raise
            try:
                self._drop(error)
            except (GluvoError, OSError) as told:
                error = told
            name = self.row.paths[0][0].name
            plain = isinstance(error, GluvoError)
            self.trouble = (
                str(error) if plain else f"{name} could not be written ({reason_of(error)}). Nothing was changed."
            )


def write_deliverable(
    material: Material,
    session: Session,
    deliverable: Deliverable,
    path: Path,
    progress: Progress = no_progress,
    over: bool = True,
) -> Written:
    """Write the session as it is into one file, `over` one that is there or beside it.

    Raises `WriteError` if it cannot be written, `AudioFileError` if a stem is
    missing, or what `progress` raises; then no file is left, and one that was there before is as it was."""
    format = format_of(deliverable)
    rate, may = rate_of(deliverable, material.rate), frozenset((path,) if over else ())
    row = Row(deliverable, session, session.target, format, rate, ((path, None),), over=may)
    outcome = write_rows(material, [row], path.parent, progress)[deliverable.id]
    if outcome.trouble:
        raise WriteError(outcome.trouble)
    return outcome.files[0]


def last_ceiling_of(session: Session) -> Step | None:
    """What holds the ceiling of a converted song: its last limiter with nothing left to do but that. None where the song
    does not end with one."""
    limiter = last_limiter(session.mix.chain)
    on = [item for item in session.mix.chain if item.on]
    if not on or max(map(abs, session.mix.gains)) > 1.0 or session.mix.amount != 100.0:
        return None
    last = on[-1]
    if last is limiter:
        ceiling = min(0.0, limiter.ceiling + limiter.output)
        return msgspec.structs.replace(limiter, drive=0.0, knee=0.0, output=0.0, ceiling=ceiling)
    if last.ceiling_out is not None:
        return Limiter(ceiling=max(-12.0, min(0.0, last.ceiling_out)))
    return None
