"""A record made of songs: measured one by one, laid one after the other to the sample, written in one pass."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
import soxr

from gluvo.compare.album_standings import CENTRES
from gluvo.deliver.album_layout import DeliveredTrack, Placed, laid_out, rate_of_album
from gluvo.deliver.album_report import album_page
from gluvo.deliver.covers import cover_of
from gluvo.deliver.formats import FORMATS, format_of
from gluvo.deliver.names import safe
from gluvo.deliver.rows import Piece, RowStream
from gluvo.deliver.write import Written, clippings, rate_of, refuse_too_long
from gluvo.dsp.db import gain_of, power_db
from gluvo.errors import AudioFileError, Cancelled, GluvoError, SessionError, WriteError
from gluvo.measure import loudness
from gluvo.measure.figures import figures_of
from gluvo.measure.spectrum import band_means, welch
from gluvo.measure.trace import Span, Trace, Tracer
from gluvo.progress import Progress, no_progress
from gluvo.render.machine import Machine, filler, played
from gluvo.render.plan import Plan
from gluvo.render.song import Renderer
from gluvo.session.album import CURVE_POINTS, Album, AlbumSong, KnownSong, is_session, place_of, title_of
from gluvo.session.digests import digest_of
from gluvo.session.files import NewFile, placing, reason_of, refuse_own
from gluvo.session.media import Material, read_material
from gluvo.session.records import Deliverable, Session
from gluvo.session.sounds import blocks_of, header_of, measured_file
from gluvo.session.store import read_session

CHORUS = ("chorus", "refrain", "hook")
"""How sections are called that count as one."""
DISC = 75
"""Frames a second of a CUE sheet."""
KEPT_FIGURES = (
    "integrated",
    "max_short_term",
    "max_momentary",
    "loudness_range",
    "true_peak",
    "sample_peak",
    "plr",
    "crest",
    "correlation",
    "width",
    "seconds",
)


# --- a song ------------------------------------------------------------------------------------------------------------


def key_of(song: AlbumSong, folder: Path) -> str:
    """What the sound of a song is known by now, found without rendering anything. Raises `GluvoError` where it is not there."""
    path = place_of(song, folder)
    if is_session(song):
        session = read_session(path).session
        return f"{Plan(session).result.key}/{session.rate}"
    try:
        found = path.stat()
    except OSError as error:
        raise AudioFileError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    return f"{found.st_size}/{found.st_mtime_ns}"


def _material(path: Path, progress: Progress) -> tuple[Session, Material]:
    session = read_session(path).session
    if not session.stems:
        raise SessionError(f"{path.name} has no audio.")
    material = read_material(session, path.resolve().parent, progress)
    for trouble in material.lacking(session).values():
        raise AudioFileError(f"{path.name}: {trouble}")
    return session, material


def blocks_at(song: AlbumSong, folder: Path, rate: int, progress: Progress = no_progress) -> Iterator[np.ndarray]:
    """A song's sound at a rate (its own where that is 0), block by block, float64; of a session what its mix bus gives. Raises
    `GluvoError` where a part of it is not there."""
    path = place_of(song, folder)
    if not is_session(song):
        for block in blocks_of(path, rate or None, progress):
            both = block if block.shape[1] == 2 else np.repeat(block, 2, axis=1)
            yield both.astype(np.float64)
        return
    session, material = _material(path, lambda d: progress(0.2 * d))
    machine = Machine({"song": Plan(session, material.sounds).result}, material.rate)
    made = played(machine, "song", material.frames, filler(material), lambda d: progress(0.2 + 0.8 * d))
    if not rate or rate == material.rate:
        yield from (block.copy() for _, block in made)
        return
    convert = soxr.ResampleStream(material.rate, rate, 2, "float64", "VHQ")
    for _, block in made:
        yield convert.resample_chunk(np.ascontiguousarray(block))
    yield convert.resample_chunk(np.zeros((0, 2)), last=True)


def measured(song: AlbumSong, folder: Path, progress: Progress = no_progress) -> KnownSong:
    """What a song measures now; it is rendered for that, block by block. Raises `GluvoError` where it cannot be."""
    key, path = key_of(song, folder), place_of(song, folder)
    session = read_session(path).session if is_session(song) else None
    rate = header_of(path).rate if session is None else session.rate
    if session is not None and not rate:
        rate = header_of(path.resolve().parent / session.stems[0].media.path).rate
    tracer, frames, tone = Tracer(rate), 0, _Tone(rate)
    for block in blocks_at(song, folder, 0, progress):
        tracer.push(block)
        tone.push(block)
        frames += len(block)
    trace = tracer.finish()
    figures = msgspec.to_builtins(figures_of(trace))
    whole = float(figures["integrated"])
    short = loudness.short_term(trace)
    at = np.linspace(0, max(0, len(short) - 1), min(CURVE_POINTS, len(short))).astype(int)
    return KnownSong(
        key=key,
        rate=rate,
        frames=frames,
        figures={k: round(float(figures[k]), 4) for k in KEPT_FIGURES if math.isfinite(float(figures[k]))},
        curve=tuple(round(max(-100.0, float(v)), 2) for v in short[at]) if len(short) else (),
        tone=tuple(round(float(v), 2) for v in tone.levels() - whole),
        chorus=_chorus(session, trace) if session is not None else None,
    )


class _Tone:
    """The mean spectrum of blocks, by thirds of an octave."""

    def __init__(self, rate: int) -> None:
        self._rate, self._size = rate, 2 ** int(np.ceil(np.log2(rate * 0.17)))
        self._rest = np.zeros(0)
        self._power = np.zeros(len(CENTRES))
        self._count = 0

    def push(self, block: np.ndarray) -> None:
        self._rest = np.concatenate([self._rest, block.mean(axis=1)])
        n = len(self._rest) // (8 * self._size) * 8 * self._size
        if n:
            self._add(self._rest[:n])
            self._rest = self._rest[n:]

    def _add(self, x: np.ndarray) -> None:
        freqs, density = welch(x, x, self._rate, self._size)
        self._power += band_means(freqs, density.real, np.asarray(CENTRES), 3) * len(x)
        self._count += len(x)

    def levels(self) -> np.ndarray:
        if len(self._rest) >= self._size:
            self._add(self._rest)
        return np.asarray(power_db(self._power / max(1, self._count) * np.asarray(CENTRES)))


def _chorus(session: Session, trace: Trace) -> float | None:
    first = next((s for s in session.sections if any(word in s.name.casefold() for word in CHORUS)), None)
    if first is None:
        return None
    found = figures_of(trace, Span(first.start, first.end)).integrated
    return round(float(found), 2) if found > loudness.SILENT else None


def stretch_of(song: AlbumSong, folder: Path, rate: int, span: Span, progress: Progress = no_progress) -> np.ndarray:
    """A stretch of a song at a rate, (frames, 2) float32; of a session only that stretch is rendered, with a lead-in."""
    path = place_of(song, folder)
    if not is_session(song):
        held, at, first, last = [], 0, round(span.start * rate), round(span.end * rate)
        for block in blocks_at(song, folder, rate, progress):
            a, b = max(at, first), min(at + len(block), last)
            if b > a:
                held.append(block[a - at : b - at])
            at += len(block)
            if at >= last:
                break
        return np.concatenate(held).astype(np.float32) if held else np.zeros((0, 2), np.float32)
    session, material = _material(path, lambda d: progress(0.3 * d))
    renderer = Renderer(material)
    span = Span(max(0.0, span.start), min(span.end, renderer.seconds))
    joint = renderer.joint(renderer.plan(session).result, span, lambda d: progress(0.3 + 0.7 * d))
    heard = np.asarray(joint.heard_in(span), dtype=np.float32)
    return heard if rate == material.rate else np.asarray(soxr.resample(heard, material.rate, rate, quality="VHQ"))


# --- the record --------------------------------------------------------------------------------------------------------


def record_of(album: Album, folder: Path, progress: Progress = no_progress) -> Iterator[np.ndarray]:
    """The record's sound, block by block, float64: each song at its level, with silence between them, or one fading out under
    the next. One song is held at a time, and of two that overlap only the overlap."""
    rate = rate_of_album(album)
    placed, _ = laid_out(album)
    over = np.zeros((0, 2))  # the end of the song before, already faded, that sounds under the beginning of this one
    for n, one in enumerate(placed):
        inside: Progress = lambda d, n=n: progress((n + d) / len(placed))  # type: ignore[misc]  # noqa: E731
        last = n == len(placed) - 1
        gap = 0 if last else round(one.song.gap * rate)
        length = max(0, -gap)  # of the overlap with the next one
        gain, at = gain_of(one.standing.gain), 0
        before = len(over)
        tail = list[np.ndarray]()
        for block in _exactly(blocks_at(one.song, folder, rate, inside), one.frames):
            part = block * gain
            if at < before:  # it comes up under the end of the one before
                count = min(len(part), before - at)
                part[:count] = part[:count] * _rise(at, count, before)[:, None] + over[at : at + count]
            keep = one.frames - length
            first, rest = part[: max(0, keep - at)], part[max(0, keep - at) :]
            at += len(part)
            if len(first):
                yield first
            if len(rest):
                tail.append(rest)
        over = np.zeros((0, 2))
        if length:
            end = np.concatenate(tail)
            over = end * _rise(0, length, length)[::-1][:, None]
        elif gap:
            for a in range(0, gap, 1 << 16):
                yield np.zeros((min(1 << 16, gap - a), 2))


def _rise(at: int, count: int, whole: int) -> np.ndarray:
    """A part of a fade by equal power over `whole` frames."""
    return np.asarray(np.sin(0.5 * np.pi * (np.arange(at, at + count) + 0.5) / whole))


def _exactly(blocks: Iterator[np.ndarray], frames: int) -> Iterator[np.ndarray]:
    """Blocks of exactly so many frames together."""
    left = frames
    for block in blocks:
        if len(block) and left > 0:
            yield block[:left]
            left -= min(left, len(block))
    if left > 0:
        yield np.zeros((left, 2))


@dataclass(frozen=True)
class DeliveredAlbum:
    """What was written of a record."""

    tracks: tuple[DeliveredTrack, ...]
    whole: DeliveredTrack | None
    beside: tuple[Path, ...]
    """The CUE sheet, the list of checksums and the report."""
    off_disc: int
    """Songs that do not begin on a frame of a disc, and are told to begin with the nearest."""

    @property
    def clipped(self) -> list[Written]:
        """The files whose samples were too high for whole numbers, and were cut off."""
        return [file.written for file in (*self.tracks, self.whole) if file is not None and file.written.clipped]

    def warnings(self) -> list[str]:
        """What whoever writes it has to know, a sentence each."""
        found = []
        if cut := self.clipped:
            worst = max(cut, key=lambda written: written.clipped)
            more = f" (and {len(cut) - 1} more files)" if len(cut) > 1 else ""
            found.append(
                f"{worst.path.name}{more} is {clippings([worst])[0]}: write it as 32 bit float, or make the record softer."
            )
        if self.off_disc:
            found.append(f"{self.off_disc} songs begin between two frames of a disc; the sheet tells the nearest.")
        return found


def deliver_album(
    album: Album,
    folder: Path,
    out: Path,
    *,
    force: bool = False,
    gluvo: str = "",
    progress: Progress = no_progress,
    placed: Callable[[Path], object] = lambda _: None,
) -> DeliveredAlbum:
    """Write every track in each format, the record as one file, and what lies beside them. `folder`: the album's. Tracks are cut
    from the record where the next one begins, so that one after the other they are it. Raises `GluvoError`; then no file is
    left that is not whole."""
    if not album.songs:
        raise SessionError("The album has no songs yet.")
    where, frames = laid_out(album)
    come = rate_of_album(album)
    names = _names(album, where)
    needed = [place_of(song, folder) for song in album.songs]
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"{out} cannot be made ({reason_of(error)}).") from None
    rows = [*album.rows]
    if album.continuous != "none":
        first = rows[0] if rows else Deliverable(id="whole", name="")
        bits = first.bits if album.continuous == "wav" or first.bits != "32f" else "24"
        rows.append(msgspec.structs.replace(first, id=WHOLE, format=album.continuous, bits=bits, rate=0))
    files: list[tuple[str, Placed | None, NewFile, Deliverable, Piece, int]] = []
    cut: list[float] = []
    streams: list[RowStream] = []
    cover = cover_of(folder / album.tags.cover) if album.tags.cover else None
    with contextlib.ExitStack() as opened:
        for row in rows:
            go, format = rate_of(row, come), format_of(row)
            total = round(frames * go / come)
            edges = [round(p.start * go / come) for p in where] + [total]
            whole = row.id == WHOLE
            pieces = []
            for n, one in enumerate([None] if whole else where):
                stem = safe(album.name) if whole else names[n]
                several = f" {row.name}" if not whole and _same_suffix(album.rows, row) else ""
                path = out / f"{stem}{several}{format.suffix}"
                refuse_own(path, needed)
                if any(other.path.name.casefold() == path.name.casefold() for _, _, other, _, _, _ in files):
                    raise WriteError(f"Two of the formats would both become {path.name}. Give them other names.")
                if path.exists() and not force:
                    raise WriteError(f"{path.name} exists already. Choose another folder, or allow writing over it.")
                refuse_too_long(path, row, format, total if whole else edges[n + 1] - edges[n])
                new = opened.enter_context(placing(path, over=force))
                piece = Piece(0, total, new.file) if whole else Piece(edges[n], edges[n + 1], new.file)
                pieces.append(piece)
                files.append((title_of(one.song) if one is not None else album.name, one, new, row, piece, go))
            stream = RowStream(row, format, (come, go), frames, tuple(pieces), None)
            opened.callback(stream.abandon)
            streams.append(stream)
        for block in record_of(album, folder, lambda d: progress(0.75 * d)):
            for a in range(0, len(block), 1 << 14):
                for stream in streams:
                    stream.push(block[a : a + (1 << 14)])
        for stream in streams:
            stream.finish()
            cut += stream.clipped
        from gluvo.deliver.tagging import tag  # here, since what it needs takes long to load

        for title, one, new, row, _, _ in files:
            number = where.index(one) + 1 if one is not None else 0
            isrc = one.song.isrc if one is not None else ""
            tags = msgspec.structs.replace(
                album.tags,
                album=album.tags.album or album.name,
                track=f"{number}/{len(where)}" if number else "",
                isrc=isrc,
            )
            tag(new.file, row.format, tags, cover, title)
    made: list[DeliveredTrack] = []
    for n, (title, _, new, _, piece, _) in enumerate(files):
        placed(new.path)
        figures, rate = measured_file(new.path, lambda d, n=n: progress(0.75 + 0.2 * (n + d) / len(files)))  # type: ignore[misc]
        written = Written(new.path, figures, rate, 0.0, piece.end - piece.start, clipped=cut[n])
        made.append(DeliveredTrack(title, written, digest_of(new.path, no_progress)[0]))
    record = made[-1] if album.continuous != "none" else None
    tracks = tuple(made[:-1] if record is not None else made)
    beside, off = list[Path](), 0
    if record is not None:
        sheet, off = cue_sheet(album, where, come, record.written.path)
        beside.append(_written(out / f"{safe(album.name)}.cue", sheet.encode(), force))
    if album.sums:
        lines = "".join(f"{t.sha256}  {t.written.path.name}\n" for t in made)
        beside.append(_written(out / "SHA256SUMS", lines.encode(), force))
    page = album_page(album, where, come, tracks, record, gluvo)
    beside.append(_written(out / f"{safe(album.name)} - report.html", page.encode(), force))
    for path in beside:
        placed(path)
    progress(1.0)
    return DeliveredAlbum(tracks, record, tuple(beside), off)


WHOLE = "whole record"
"""The id of the row of the record as one file."""


def _written(path: Path, content: bytes, force: bool) -> Path:
    with placing(path, over=force) as new:
        new.file.write(content)
    return new.path


def _names(album: Album, where: Sequence[Placed]) -> list[str]:
    """What each track's file is called; no two alike, whatever the file system makes of their cases."""
    digits = max(2, len(str(len(where))))
    return [f"{n:0{digits}d} {safe(title_of(one.song))}" for n, one in enumerate(where, start=1)]


def _same_suffix(rows: Sequence[Deliverable], row: Deliverable) -> bool:
    suffix = FORMATS[row.format].suffix
    return sum(FORMATS[r.format].suffix == suffix for r in rows) > 1


def cue_sheet(album: Album, where: Sequence[Placed], rate: int, file: Path) -> tuple[str, int]:
    """A CUE sheet for the record as one file, and how many songs do not begin on one of its frames."""
    off, lines = 0, []
    if album.tags.artist:
        lines.append(f'PERFORMER "{_quoted(album.tags.artist)}"')
    lines.append(f'TITLE "{_quoted(album.tags.album or album.name)}"')
    lines.append(f'FILE "{_quoted(file.name)}" WAVE')
    for n, one in enumerate(where, start=1):
        exact = one.start * DISC / rate
        frame = round(exact)
        off += abs(exact - frame) > 1e-9
        lines.append(f"  TRACK {n:02d} AUDIO")
        lines.append(f'    TITLE "{_quoted(title_of(one.song))}"')
        if album.tags.artist:
            lines.append(f'    PERFORMER "{_quoted(album.tags.artist)}"')
        if one.song.isrc:
            lines.append(f"    ISRC {one.song.isrc}")
        lines.append(f"    INDEX 01 {frame // (60 * DISC):02d}:{frame // DISC % 60:02d}:{frame % DISC:02d}")
    return "\n".join(lines) + "\n", off


def _quoted(text: str) -> str:
    return text.replace('"', "'").replace("\n", " ")


def join_of(
    album: Album, n: int, folder: Path, seconds: float = 8.0, progress: Progress = no_progress
) -> tuple[np.ndarray, int]:
    """The end of a song and the beginning of the next, as they will stand, (frames, 2) float32; and the frame with which the
    next one begins. `n`: the first of the two, from 0."""
    where, _ = laid_out(album)
    rate, first, second = rate_of_album(album), where[n], where[n + 1]
    gap = second.start - first.start - first.frames
    length = first.frames / rate
    want = seconds + max(0, -gap) / rate
    a = stretch_of(first.song, folder, rate, Span(max(0.0, length - want), length), lambda d: progress(0.5 * d))
    b = stretch_of(
        second.song, folder, rate, Span(0.0, min(second.frames / rate, want)), lambda d: progress(0.5 + 0.5 * d)
    )
    a = a.astype(np.float64) * gain_of(first.standing.gain)
    b = b.astype(np.float64) * gain_of(second.standing.gain)
    over = min(max(0, -gap), len(a), len(b))
    if over:
        a[len(a) - over :] *= _rise(0, over, over)[::-1][:, None]
        b[:over] *= _rise(0, over, over)[:, None]
    out = np.zeros((len(a) + max(0, gap) + len(b) - over, 2))
    begins = len(a) + max(0, gap) - over
    out[: len(a)] += a
    out[begins : begins + len(b)] += b
    return out.astype(np.float32), begins


def up_to_date(
    album: Album,
    folder: Path,
    told: Callable[[str, str], object] = lambda _id, _words: None,
    progress: Progress = no_progress,
) -> Album:
    """The album with what is known of each song as it is now; only those that have changed are rendered. `told` gets a sentence
    for each that cannot be: what was known of it stays."""
    songs = list(album.songs)
    stale = []
    for n, song in enumerate(songs):
        try:
            if song.known is None or song.known.key != key_of(song, folder):
                stale.append(n)
        except GluvoError as error:
            told(song.id, str(error))
    for m, n in enumerate(stale):
        try:
            known = measured(songs[n], folder, lambda d, m=m: progress((m + d) / len(stale)))  # type: ignore[misc]
            songs[n] = msgspec.structs.replace(songs[n], known=known)
        except Cancelled:
            raise
        except GluvoError as error:
            told(songs[n].id, str(error))
    progress(1.0)
    return msgspec.structs.replace(album, songs=tuple(songs))
