"""Commands that write audio."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click
import msgspec

from gluvo import __version__
from gluvo.cli.console import PATH, Told, aligned, end_with, one_line, print_json, progress_bar, say
from gluvo.cli.group import cli
from gluvo.cli.session_files import load_session, refuse_place, strip_named, target_called
from gluvo.cli.work import side_by_side, telling_finished, well_and_wrong, worked
from gluvo.errors import GluvoError


class Declared(click.Choice[str]):
    """One of the values that a setting of `Deliverable` is declared with; looked up when it is needed, since that takes long
    to import."""

    def __init__(self, setting: str) -> None:
        self._setting = setting
        self.case_sensitive = True

    @property
    def choices(self) -> list[str]:  # type: ignore[override]
        from gluvo.session.records import Deliverable
        from gluvo.steps.settings import settings_of

        return [value for value, _ in settings_of(Deliverable)[self._setting].options if value != "0"]


@cli.command()
@click.argument("session", type=PATH)
@click.option("--out", type=PATH, required=True, help="The file to write; its ending tells the format.")
@click.option(
    "--rate",
    type=Declared("rate"),
    help="Hz; the session's otherwise.",
)
@click.option("--bits", type=Declared("bits"), default="24", show_default=True)
@click.option("--dither", type=Declared("dither"), help="TPDF for 16 bit otherwise.")
@click.option("--only", multiple=True, metavar="NAME", help="Only a stem or bus, as it is in the song; repeatable.")
@click.option("--without", multiple=True, metavar="NAME", help="All but a stem or bus; repeatable.")
@click.option("--before", is_flag=True, help="Of a part: as it flows into the mix bus, before the mix chain.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@click.option("--take-changed", is_flag=True, help="Use audio files that have changed since they were brought in.")
@click.option("--json", "as_json", is_flag=True, help="What was measured in the file, as JSON.")
def render(
    session: Path,
    out: Path,
    rate: str | None,
    bits: str,
    dither: str | None,
    only: tuple[str, ...],
    without: tuple[str, ...],
    before: bool,
    force: bool,
    take_changed: bool,
    as_json: bool,
) -> None:
    """Render a session's result into a file. The session's own files are never written over."""
    from gluvo.deliver.formats import FORMATS
    from gluvo.deliver.write import clippings, write_deliverable
    from gluvo.session.records import Deliverable

    format = next((f for f in FORMATS.values() if f.suffix == out.suffix.lower()), None)
    if format is None:
        endings = ", ".join(f.suffix for f in FORMATS.values())
        raise click.UsageError(f"--out must end in one of {endings}, not “{out.suffix}”")
    refuse_place(out, session, force)
    if only and without:
        raise click.UsageError("--only and --without are two ways to say it: choose one.")
    if before and not (only or without):
        raise click.UsageError("--before is of a part of the song: say --only or --without.")
    plain: dict[str, Any] = {
        "of": "only" if only else "without" if without else "mix",
        "through": not before,
        "id": "out",
        "name": out.stem,
        "format": format.key,
        "bits": bits,
        "rate": int(rate or 0),
        "dither": dither or ("tpdf" if bits == "16" else "none"),
    }
    with progress_bar(f"Writing {out.name}") as told:

        def write(inside: Told) -> Any:
            loaded, material = load_session(session, take_changed, lambda d: inside(0.3 * d))
            plain["strips"] = [strip_named(loaded, name) for name in only or without]
            row = msgspec.convert(plain, Deliverable)
            return write_deliverable(material, loaded, row, out, lambda d: inside(0.3 + 0.7 * d), over=force)

        written = worked(write, told)
    there = written.path if written.path.name != out.name else out
    if as_json:
        figures = msgspec.to_builtins(written.figures)
        print_json(
            {
                "file": one_line(there),
                "rate": written.rate,
                "mended": written.mended,
                "clipped": written.clipped,
                **figures,
            }
        )
    else:
        f = written.figures
        words = "; ".join([f"{f.integrated:.1f} LUFS, {f.true_peak:.2f} dBTP", *clippings([written])])
        click.echo(f"{one_line(there)}: {words}")


@cli.command()
@click.argument("sessions", type=PATH, nargs=-1, required=True)
@click.option("--only", multiple=True, help="A deliverable by its name; repeatable. All of them otherwise.")
@click.option("--dir", "folder", type=PATH, required=True, help="Where to put the files; made if need be.")
@click.option("--target", help="Bring every song to this target, as one album.")
@click.option(
    "--keep-differences", is_flag=True, help="With --target: move all together, so that the loudest meets it."
)
@click.option("--force", is_flag=True, help="Write over files that are there.")
@click.option("--json", "as_json", is_flag=True, help="What was measured in the files, as JSON.")
def deliver(
    sessions: tuple[Path, ...],
    only: tuple[str, ...],
    folder: Path,
    target: str | None,
    keep_differences: bool,
    force: bool,
    as_json: bool,
) -> None:
    """Write the deliverables of sessions; several are one album. Exit 1 if a file misses its target."""
    from gluvo.deliver.batch import Delivered, album_targets, deliver_track, refuse_clashes, song_of, spread, track_of
    from gluvo.deliver.targets import loudness_of
    from gluvo.session.store import read_session

    if keep_differences and target is None:
        raise click.UsageError("--keep-differences goes with --target")
    wanted = target_called(target) if target is not None else None
    known: dict[Path, Any] = {}
    wrong: list[str] = []
    for path in dict.fromkeys(sessions):
        try:
            known[path] = read_session(path).session
        except GluvoError as error:
            wrong.append(str(error))
    if wanted is not None:  # rows without a target of their own are named after this one
        known = {p: s.replace(target=wanted) for p, s in known.items()}
    refuse_clashes(list(known.items()), folder, only=only, force=force)
    with progress_bar("Delivering") as told, telling_finished() as placed:
        paths = tuple(known)
        # one song at its own target needs nothing but its files
        alone = len(paths) == 1 and wanted is None
        songs, unread = well_and_wrong(side_by_side(paths, song_of if alone else track_of, lambda d: told(0.3 * d)))
        tracks, wrong = [] if alone else songs, [*wrong, *unread]
        aims = album_targets(tracks, wanted, keep_differences) if wanted is not None else (None,) * len(songs)
        album = {song.path: (song, aim) for song, aim in zip(songs, aims, strict=True)}

        def one(path: Path, inside: Told) -> tuple[Path, tuple[Delivered, ...]]:
            song = album[path]
            return path, deliver_track(*song, folder, only=only, force=force, progress=inside, placed=placed)

        done, unwritten = well_and_wrong(side_by_side(tuple(album), one, lambda d: told(0.3 + 0.7 * d)))
        found, wrong = dict(done), [*wrong, *unwritten]
    lines = [["file", "target", "loudness", "dBTP", "verdict"]]
    plain: list[dict[str, Any]] = []
    for path, delivered in found.items():
        for d in delivered:
            lines += _delivered_lines(d)
            plain.append(_delivered_plain(path, d))
    if as_json:
        print_json({"files": plain, "album": None if alone or not tracks else _album(tracks)})
    else:
        if plain:
            click.echo(aligned(lines))
        if len(tracks) > 1:
            levels = [loudness_of(t.figures, wanted or t.session.target) for t in tracks]
            click.echo(f"{len(tracks)} songs, as their sessions stand {spread(levels):.1f} LU apart")
    end_with(wrong)
    sys.exit(1 if any(row["trouble"] or not row["meets"] for row in plain) else 0)


def _delivered_lines(d: Any) -> list[list[str]]:
    """What became of a row, a line a file."""
    from gluvo.advise.loudness_target import measured_by
    from gluvo.deliver.targets import loudness_of, shortfalls
    from gluvo.deliver.write import clippings, verdict_of_part

    if d.outcome.trouble:
        return [[d.row.name, d.target.name, "-", "-", one_line(d.outcome.trouble)]]
    lines = []
    for file in d.outcome.files:
        reasons = [*clippings([file]), *([] if file.section else shortfalls(file.figures, d.target))]
        if d.row.of != "mix":
            level = f"{file.figures.integrated:.1f} LUFS"
            words, _ = verdict_of_part(d.row, d.outcome)
            lines.append([one_line(file.path.name), "-", level, f"{file.figures.true_peak:.2f}", words])
            continue
        verdict = "; ".join([*reasons, *([d.explained] if reasons and d.explained else [])]) or "meets it"
        level = f"{loudness_of(file.figures, d.target):.1f} {measured_by(d.target).unit}"
        peak = f"{file.figures.true_peak:.2f}"
        lines.append([one_line(file.path.name), d.target.name, level, peak, "-" if file.section else verdict])
    return lines


def _delivered_plain(session: Path, d: Any) -> dict[str, Any]:
    from gluvo.deliver.targets import shortfalls
    from gluvo.deliver.write import clippings

    whole = d.row.of == "mix"
    reasons = clippings(d.outcome.files)
    reasons += [r for f in d.outcome.files if whole and not f.section for r in shortfalls(f.figures, d.target)]
    return {
        "session": one_line(session),
        "row": d.row.name,
        "of": d.row.of,
        "residue": d.outcome.residue,
        "target": d.target.name,
        "trouble": d.outcome.trouble,
        "meets": not reasons,
        "reasons": reasons,
        "explained": d.explained if reasons else "",
        "files": [
            {
                "file": one_line(f.path),
                "section": f.section,
                "rate": f.rate,
                "frames": f.frames,
                "mended": f.mended,
                "clipped": f.clipped,
                **msgspec.to_builtins(f.figures),
            }
            for f in d.outcome.files
        ],
    }


def _album(tracks: list[Any]) -> dict[str, Any]:
    """The songs of an album as their sessions stand."""
    from gluvo.deliver.batch import spread

    return {
        "songs": [
            {
                "session": one_line(t.path),
                "integrated": t.figures.integrated,
                "max_short_term": t.figures.max_short_term,
                "true_peak": t.figures.true_peak,
            }
            for t in tracks
        ],
        "spread": spread([t.figures.integrated for t in tracks]),
        "spread_short_term": spread([t.figures.max_short_term for t in tracks]),
    }


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--like", "like", type=PATH, required=True, help="The session whose mix chain and deliverables are used.")
@click.option("--target", required=True, help="A target by its name; `gluvo targets` lists them.")
@click.option("--dir", "folder", type=PATH, required=True, help="Where to put sessions and files; made if need be.")
@click.option(
    "--album", "record", type=PATH, help="Make an album of the masters, in the order of the files, in this file."
)
@click.option("--force", is_flag=True, help="Write over files that are there.")
@click.option("--json", "as_json", is_flag=True, help="What it cost each, as JSON.")
def master(
    files: tuple[Path, ...], like: Path, target: str, folder: Path, record: Path | None, force: bool, as_json: bool
) -> None:
    """Master files like a session: its mix chain, found anew for each, brought to a target and delivered."""
    from gluvo.deliver.batch import master_like, mastering, refuse_clashes
    from gluvo.session.store import read_session

    wanted, pattern = target_called(target), read_session(like).session
    if len({file.stem.lower() for file in files}) < len(files):
        raise GluvoError("Two files have the same name, and so would their masters. Master them apart.")
    if record is not None and not record.name.endswith(ALBUM):
        raise click.UsageError(f"--album must end in {ALBUM}, not “{record.suffix}”")
    if record is not None and record.exists() and not force:
        raise GluvoError(f"{record.name} exists already. Choose another name, or write over it with --force.")
    if pattern.deliverables:
        refuse_clashes([mastering(file, pattern, wanted, folder) for file in files], folder, force=force)
    with progress_bar("Mastering") as told, telling_finished() as placed:

        def one(file: Path, inside: Told) -> Any:
            made = master_like(file, pattern, like, wanted, folder, force=force, progress=inside, placed=placed)
            return file, made

        found, wrong = well_and_wrong(side_by_side(files, one, told))
    if record is not None and found:
        _album_of([m.session for _, m in found], wanted, record)
    lines = [["file", "LUFS before", "LUFS", "dBTP", "most dB", "mean dB", "PLR lost", "punch"]]
    plain = []
    for file, m in found:
        kept = "-" if m.cost.punch_kept is None else f"{100 * m.cost.punch_kept:.0f} %"
        lines.append(
            [
                one_line(file.name),
                *(f"{v:.1f}" for v in (m.came.integrated, m.went.integrated)),
                f"{m.went.true_peak:.2f}",
                *(f"{v:.1f}" for v in (m.cost.largest, m.cost.mean, m.cost.plr_lost)),
                kept,
            ]
        )
        plain.append(
            {
                "file": one_line(file),
                "session": one_line(m.session),
                "before": msgspec.to_builtins(m.came),
                "after": msgspec.to_builtins(m.went),
                "largest": m.cost.largest,
                "mean": m.cost.mean,
                "plr_lost": m.cost.plr_lost,
                "punch_kept": m.cost.punch_kept,
                "explained": m.explained,
                "files": [_delivered_plain(m.session, d) for d in m.rows],
            }
        )
    if as_json:
        print_json(plain)
    else:
        if found:
            click.echo(aligned(lines))
        for file, m in found:
            if m.explained:
                say(f"note: {file.name}: {m.explained}")
    end_with(wrong)
    failed = any(d.outcome.trouble for _, m in found for d in m.rows)
    sys.exit(1 if failed or any(m.explained for _, m in found) else 0)


def _album_of(sessions: list[Path], target: Any, path: Path) -> None:
    """Write an album of sessions."""
    from gluvo.session.album import Album, with_songs, write_album

    write_album(
        path, with_songs(Album(name=path.name.removesuffix(ALBUM), target=target), sessions, path.resolve().parent)
    )


@cli.command()
@click.argument("album", type=PATH)
@click.option("--dir", "folder", type=PATH, required=True, help="Where to put the files; made if need be.")
@click.option("--force", is_flag=True, help="Write over files that are there.")
@click.option("--json", "as_json", is_flag=True, help="What was measured in the files, as JSON.")
def album(album: Path, folder: Path, force: bool, as_json: bool) -> None:
    """Write a record: each song in each format, the record as one file with a CUE sheet, checksums and a report."""
    from gluvo.deliver.album import deliver_album, up_to_date
    from gluvo.deliver.album_layout import laid_out, rate_of_album
    from gluvo.session.album import read_album, title_of

    found, home, wrong = read_album(album).album, album.resolve().parent, list[str]()
    with progress_bar("Writing the record") as told, telling_finished() as placed:

        def work(inside: Told) -> Any:
            now = up_to_date(found, home, lambda _, words: wrong.append(words), lambda d: inside(0.4 * d))
            if wrong:
                return now, None
            return now, deliver_album(
                now,
                home,
                folder,
                force=force,
                gluvo=__version__,
                progress=lambda d: inside(0.4 + 0.6 * d),
                placed=placed,
            )

        now, made = worked(work, told)
    if made is None:
        raise GluvoError(f"Nothing was written. {wrong[0]}")
    rate, (where, _) = rate_of_album(now), laid_out(now)
    files = [*made.tracks, *([made.whole] if made.whole is not None else [])]
    if as_json:
        print_json(
            {
                "album": now.name,
                "rate": rate,
                "songs": [
                    {
                        "title": title_of(one.song),
                        "start": one.start,
                        "frames": one.frames,
                        "gain": one.standing.gain,
                        "integrated": one.standing.loudness,
                        "true_peak": one.standing.true_peak,
                        "words": one.standing.words,
                    }
                    for one in where
                ],
                "files": [
                    {"file": str(f.written.path), "sha256": f.sha256, "figures": msgspec.to_builtins(f.written.figures)}
                    for f in files
                ],
                "beside": [str(path) for path in made.beside],
            }
        )
        return
    for f in files:
        w = f.written
        click.echo(f"{one_line(w.path)}  {w.figures.integrated:.1f} LUFS  {w.figures.true_peak:.2f} dBTP")
    for path in made.beside:
        click.echo(one_line(path))
    for words in made.warnings():
        click.echo(one_line(words))


ALBUM = ".gluvo-album"
