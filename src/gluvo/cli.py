"""The command line: the same jobs without a window."""

from __future__ import annotations

import concurrent.futures
import contextlib
import difflib
import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any, NoReturn

import click
import msgspec

from gluvo import __version__
from gluvo.errors import Cancelled, GluvoError

Told = Callable[[float], None]

MEASURED = ("integrated", "loudness_range", "true_peak", "plr", "crest", "correlation", "seconds")
"""What `measure` tells, unless everything is asked for."""

PATH = click.Path(path_type=Path)


class Commands(click.Group):
    """Takes a session, or audio, in place of a command's name, and opens it."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            word = args[0]
            if not ("/" in word or Path(word).suffix or os.path.lexists(word)):
                near = difflib.get_close_matches(word, [n for n, c in self.commands.items() if not c.hidden], 1)
                hint = f" Did you mean “{near[0]}”?" if near else ""
                raise click.UsageError(f"there is no command and no file “{word}”.{hint}")
            return "open", self.commands["open"], args
        return super().resolve_command(ctx, args)


@click.group(cls=Commands, invoke_without_command=True)
@click.version_option(__version__, prog_name="gluvo")
@click.pass_context
def cli(context: click.Context) -> None:
    """From a stereo mix to a loud, checked master. Without a command: the window."""
    if context.invoked_subcommand is None:
        _window(None)


@cli.command("open", hidden=True)
@click.argument("session", type=PATH)
def open_(session: Path) -> None:
    """Open the window with a session or an audio file."""
    _window(session)


@cli.command()
@click.option("--dir", "folder", type=PATH, help="Where to keep it; the user's data folder otherwise.")
@click.option("--no-window", is_flag=True, help="Make it and print its path only.")
def demo(folder: Path | None, no_window: bool) -> None:
    """Make the demo session (once) and open it."""
    from gluvo.demo.session import demo_session

    with _bar("Making the demo song") as told:
        path = demo_session(folder.resolve() if folder else None, told)
    click.echo(path)
    if not no_window:
        _window(path, play=True)


@cli.command()
@click.option("--mix", type=PATH, help="A stereo mix.")
@click.option("--stems", type=PATH, help="A folder of stems; folders inside it become buses.")
@click.option("--reference", "references", type=PATH, multiple=True, help="A track to compare with; repeatable.")
@click.option("--out", type=PATH, required=True, help="The session file to make.")
def new(mix: Path | None, stems: Path | None, references: tuple[Path, ...], out: Path) -> None:
    """Make a session from audio files."""
    from gluvo.session.create import new_session
    from gluvo.session.media import audio_files
    from gluvo.session.store import write_session

    if (mix is None) == (stems is None):
        raise click.UsageError("give either --mix FILE or --stems DIR")
    if out.exists():
        raise GluvoError(f"{out.name} exists already. Choose another name.")
    if not out.resolve().parent.is_dir():
        raise GluvoError(f"{out.resolve().parent} cannot be written to (there is no such folder).")
    files = [mix] if mix else audio_files(stems)  # type: ignore[arg-type]
    refused: list[str] = []
    with _bar("Reading") as told:
        made = _worked(
            lambda inside: new_session(files, references, out.resolve().parent, out.stem, stems, inside, refused), told
        )
    write_session(out, made)
    click.echo(one_line(out))
    _end_with(refused)


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--json", "as_json", is_flag=True, help="All figures, as JSON.")
def measure(files: tuple[Path, ...], as_json: bool) -> None:
    """Measure audio files: loudness, peaks, dynamics, stereo."""
    from gluvo.measure.figures import FIGURES, Figures
    from gluvo.measure.flattops import FlatTopCounter
    from gluvo.session.sounds import measured_file

    def measured(file: Path, inside: Told) -> tuple[Path, int, Figures, int]:
        flat = FlatTopCounter()
        figures, rate = measured_file(file, inside, flat if as_json else None)
        return file, rate, figures, flat.count

    with _bar("Measuring") as told:
        rows, wrong = _good(_side_by_side(files, measured, told))
    if as_json:
        plain = [
            {"file": one_line(f), "rate": rate, **msgspec.to_builtins(figures), "flat_tops": flat}
            for f, rate, figures, flat in rows
        ]
        _json(plain)
        _end_with(wrong)
        return
    shown = [FIGURES[key] for key in MEASURED]
    lines = [["file", *(figure.short for figure in shown)]]
    lines += [
        [
            one_line(file.name),
            *(figure.show(getattr(f, figure.key), unit=False).replace("−", "-") for figure in shown),
        ]  # for machines
        for file, _, f, _ in rows
    ]
    if rows:
        click.echo(_aligned(lines))
    _end_with(wrong)


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
    from gluvo.deliver.write import write_deliverable
    from gluvo.session.records import Deliverable

    format = next((f for f in FORMATS.values() if f.suffix == out.suffix.lower()), None)
    if format is None:
        endings = ", ".join(f.suffix for f in FORMATS.values())
        raise click.UsageError(f"--out must end in one of {endings}, not “{out.suffix}”")
    _refuse_place(out, session, force)
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
    with _bar(f"Writing {out.name}") as told:

        def write(inside: Told) -> Any:
            loaded, material = _load(session, take_changed, lambda d: inside(0.3 * d))
            plain["strips"] = [_strip_named(loaded, name) for name in only or without]
            row = msgspec.convert(plain, Deliverable)
            return write_deliverable(material, loaded, row, out, lambda d: inside(0.3 + 0.7 * d), over=force)

        written = _worked(write, told)
    there = written.path if written.path.name != out.name else out
    if as_json:
        figures = msgspec.to_builtins(written.figures)
        _json({"file": one_line(there), "rate": written.rate, "mended": written.mended, **figures})
    else:
        f = written.figures
        click.echo(f"{one_line(there)}: {f.integrated:.1f} LUFS, {f.true_peak:.2f} dBTP")


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--target", help="A target by its name; `gluvo targets` lists them. For audio files.")
@click.option("--json", "as_json", is_flag=True, help="The verdicts and their reasons, as JSON.")
def check(files: tuple[Path, ...], target: str | None, as_json: bool) -> None:
    """Check files against a target, or whether what sessions delivered is still as it was written: exit 0 if all is well, 1 if
    not."""
    from gluvo.session.store import SUFFIX

    if all(file.suffix == SUFFIX for file in files):
        _check_delivered(files, as_json)
    if target is None:
        raise click.UsageError("--target is missing: what audio files are checked against.")
    if any(file.suffix == SUFFIX for file in files):
        raise click.UsageError("Check sessions and audio files apart.")
    from gluvo.deliver.targets import shortfalls
    from gluvo.session.sounds import measured_file

    wanted = _target(target)
    with _bar("Measuring") as told:
        work = lambda file, inside: (file, shortfalls(measured_file(file, inside)[0], wanted))  # noqa: E731
        rows, wrong = _good(_side_by_side(files, work, told))
    if as_json:
        plain = [{"file": one_line(f), "target": wanted.name, "meets": not r, "reasons": r} for f, r in rows]
        if plain:
            _json(plain if len(files) > 1 else plain[0])
    else:
        for file, reasons in rows:
            verdict = f"misses {wanted.name}: {'; '.join(reasons)}" if reasons else f"meets {wanted.name}"
            click.echo(f"{one_line(file.name)} {verdict}")
    _end_with(wrong)
    sys.exit(1 if any(reasons for _, reasons in rows) else 0)


@cli.command()
@click.option("--json", "as_json", is_flag=True, help="All of each target, as JSON.")
def targets(as_json: bool) -> None:
    """List the targets that come with the program, and the user's own."""
    from gluvo.advise.loudness_target import measured_by
    from gluvo.deliver.targets import all_targets

    if as_json:
        _json([msgspec.to_builtins(t) for t in all_targets()])
        return
    lines = [["target", "loudness", "tolerance", "dBTP", "by"]]
    for t in all_targets():
        unit = measured_by(t).unit
        lines.append([t.name, f"{t.loudness:g} {unit}", f"{t.tolerance:g}", f"{t.true_peak:g}", measured_by(t).name])
    sources = [one_line(t.source or t.note or "your own") for t in all_targets()]
    heads, *rows = _aligned(lines).splitlines()
    width = max(map(len, (heads, *rows)))
    click.echo(f"{heads.ljust(width)}  source")
    for row, source in zip(rows, sources, strict=True):
        click.echo(f"{row.ljust(width)}  {source}")


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
    wanted = _target(target) if target is not None else None
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
    with _bar("Delivering") as told, _telling_finished() as placed:
        paths = tuple(known)
        # one song at its own target needs nothing but its files
        alone = len(paths) == 1 and wanted is None
        songs, unread = _good(_side_by_side(paths, song_of if alone else track_of, lambda d: told(0.3 * d)))
        tracks, wrong = [] if alone else songs, [*wrong, *unread]
        aims = album_targets(tracks, wanted, keep_differences) if wanted is not None else (None,) * len(songs)
        album = {song.path: (song, aim) for song, aim in zip(songs, aims, strict=True)}

        def one(path: Path, inside: Told) -> tuple[Path, tuple[Delivered, ...]]:
            song = album[path]
            return path, deliver_track(*song, folder, only=only, force=force, progress=inside, placed=placed)

        done, unwritten = _good(_side_by_side(tuple(album), one, lambda d: told(0.3 + 0.7 * d)))
        found, wrong = dict(done), [*wrong, *unwritten]
    lines = [["file", "target", "loudness", "dBTP", "verdict"]]
    plain: list[dict[str, Any]] = []
    for path, delivered in found.items():
        for d in delivered:
            lines += _delivered_lines(d)
            plain.append(_delivered_plain(path, d))
    if as_json:
        _json({"files": plain, "album": None if alone or not tracks else _album(tracks)})
    else:
        if plain:
            click.echo(_aligned(lines))
        if len(tracks) > 1:
            levels = [loudness_of(t.figures, wanted or t.session.target) for t in tracks]
            click.echo(f"{len(tracks)} songs, as their sessions stand {spread(levels):.1f} LU apart")
    _end_with(wrong)
    sys.exit(1 if any(row["trouble"] or not row["meets"] for row in plain) else 0)


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--like", "like", type=PATH, required=True, help="The session whose mix chain and deliverables are used.")
@click.option("--target", required=True, help="A target by its name; `gluvo targets` lists them.")
@click.option("--dir", "folder", type=PATH, required=True, help="Where to put sessions and files; made if need be.")
@click.option("--force", is_flag=True, help="Write over files that are there.")
@click.option("--json", "as_json", is_flag=True, help="What it cost each, as JSON.")
def master(files: tuple[Path, ...], like: Path, target: str, folder: Path, force: bool, as_json: bool) -> None:
    """Master files like a session: its mix chain, found anew for each, brought to a target and delivered."""
    from gluvo.deliver.batch import master_like, mastering, refuse_clashes
    from gluvo.session.store import read_session

    wanted, pattern = _target(target), read_session(like).session
    if len({file.stem.lower() for file in files}) < len(files):
        raise GluvoError("Two files have the same name, and so would their masters. Master them apart.")
    if pattern.deliverables:
        refuse_clashes([mastering(file, pattern, wanted, folder) for file in files], folder, force=force)
    with _bar("Mastering") as told, _telling_finished() as placed:

        def one(file: Path, inside: Told) -> Any:
            made = master_like(file, pattern, like, wanted, folder, force=force, progress=inside, placed=placed)
            return file, made

        found, wrong = _good(_side_by_side(files, one, told))
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
        _json(plain)
    else:
        if found:
            click.echo(_aligned(lines))
        for file, m in found:
            if m.explained:
                _say(f"note: {file.name}: {m.explained}")
    _end_with(wrong)
    failed = any(d.outcome.trouble for _, m in found for d in m.rows)
    sys.exit(1 if failed or any(m.explained for _, m in found) else 0)


@cli.command()
@click.argument("session", type=PATH)
@click.option("--section", help="A section by its name; the whole song otherwise.")
@click.option("--json", "as_json", is_flag=True, help="All figures, as JSON.")
def figures(session: Path, section: str | None, as_json: bool) -> None:
    """Measure every place of a session: each strip and step with loudness, true peak and reduction."""
    from gluvo.deliver.joints import figures_of_joints
    from gluvo.measure.trace import Span
    from gluvo.render.song import Renderer

    with _bar("Rendering") as told:

        def work(inside: Told) -> Any:
            loaded, material = _load(session, told=lambda d: inside(0.2 * d))
            span = None
            if section is not None:
                found = next((s for s in loaded.sections if s.name == section), None)
                if found is None:
                    there = ", ".join(f"“{s.name}”" for s in loaded.sections) or "none"
                    raise GluvoError(f"{session.name} has no section “{section}”. Its sections: {there}.")
                span = Span(found.start, found.end)
            song = Renderer(material).song(loaded, lambda d: inside(0.2 + 0.8 * d))
            return figures_of_joints(loaded, song, span)

        plain = _worked(work, told)
    if as_json:
        _json(plain)
        return
    lines = [["strip", "step", "LUFS", "dBTP", "mean dB", "peaks", "most", "wet", "late ms"]]
    for strip in plain["strips"]:
        name = one_line(strip["name"])
        if strip["in"] is not None:
            lines.append([name, "In", f"{strip['in']['loudness']:.1f}", f"{strip['in']['true_peak']:.2f}", *["-"] * 5])
        for joint in strip["joints"]:
            taken = joint["reduction"]
            shown = [f"{taken[k]:.1f}" for k in ("mean", "peaks", "most")] if taken else ["-"] * 3
            wet = f"{taken['wet']['mean']:.1f}" if taken and taken["wet"]["mean"] != taken["mean"] else "-"
            levels = [f"{joint['loudness']:.1f}", f"{joint['true_peak']:.2f}"]
            lines.append([name, one_line(joint["name"]), *levels, *shown, wet, f"{joint['late_ms']:.1f}"])
    click.echo(_aligned(lines))


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--kinds", help="Only these kinds, with commas between them.")
@click.option("--json", "as_json", is_flag=True, help="With numbers, limits and places, as JSON.")
def watch(files: tuple[Path, ...], kinds: str | None, as_json: bool) -> None:
    """Tell what is wrong with sessions or audio files. Ends with 0 where there is nothing, with 1 where there is something."""
    from gluvo.advise.watchouts import KINDS, Finder
    from gluvo.opened.watching import watched

    known = {kind.id: kind for kind in KINDS}
    wanted = [word.strip() for word in kinds.split(",") if word.strip()] if kinds is not None else list(known)
    for word in wanted:
        if word not in known:
            raise GluvoError(f"There is no kind of watch-out “{word}”. There are: {', '.join(known)}.")

    def one(path: Path, inside: Told) -> Any:
        session, found = watched(path, Finder([known[word] for word in wanted]), inside)
        return path, session, found

    with _bar("Looking") as told:
        rows, wrong = _good(_side_by_side(files, one, told))
    plain = [_watch_plain(path, session, w) for path, session, found in rows for w in found]
    if as_json:
        _json(plain)
    else:
        for path, _, found in rows:
            for w in found:
                where = f"{one_line(path.name)}: " if len(rows) > 1 else ""
                click.echo(f"{where}{w.kind}: {one_line(w.text)}")
    _end_with(wrong)
    if plain:
        sys.exit(1)


def _watch_plain(path: Path, session: Any, one: Any) -> dict[str, Any]:
    """A watch-out as it is told to programs."""
    middle = (one.span.start + one.span.end) / 2.0
    section = next((s.name for s in session.sections if s.start <= middle < s.end), "")
    strip, step = session.strip(one.strip), session.item(one.step)
    return {
        "id": one.kind,
        "file": one_line(path),
        "strip": strip.name if strip is not None else "",
        "step": step.title if step is not None else "",
        "section": section,
        "value": round(float(one.value), 3),
        "limit": one.limit,
        "unit": one.unit,
        "start": round(float(one.span.start), 3),
        "end": round(float(one.span.end), 3),
        "text": one.text,
        "offer": one.offer.words if one.offer is not None else "",
    }


@cli.command()
@click.argument("session", type=PATH)
@click.option("--strip", default="", help="Whose chain: a stem's or bus's name; the mix bus without it.")
@click.option("--as-in", type=PATH, help="Take the chain of the same strip of another session, aimed anew.")
@click.option("--strength", type=click.FloatRange(0.0, 150.0), default=100.0, help="How much of it, in %.")
@click.option("--out", type=PATH, required=True, help="The session to write.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
def draft(session: Path, strip: str, as_in: Path | None, strength: float, out: Path, force: bool) -> None:
    """Draft a start for a strip: ordinary steps, each for a reason; none where nothing asks for any."""
    from gluvo.opened.drafting import draft_of_file
    from gluvo.session.document import relocated
    from gluvo.session.store import SUFFIX, read_session, write_session

    if out.suffix != SUFFIX:
        raise click.UsageError(f"--out must end in {SUFFIX}, not “{out.suffix}”")
    _refuse_place(out, session, force)
    with _bar("Drafting") as told:
        made, found = _worked(lambda inside: draft_of_file(session, strip, as_in, strength, inside), told)
    write_session(out, relocated(made, session.resolve().parent, out.resolve().parent), read_session(session).kept)
    for part in found.parts:
        click.echo(f"{one_line(part.title)}: {one_line(part.why)} ({one_line(part.figures)})")
    for one in found.told:
        click.echo(f"not here: {one_line(one.text)}")
    if not found.parts:
        click.echo("Nothing here asks for anything.")


@cli.command()
@click.argument("session", type=PATH)
@click.option("--out", type=PATH, required=True, help="The file to write: .html, .json or .pdf.")
@click.option("--watch-outs", is_flag=True, help="With what is wrong with the song.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
def report(session: Path, out: Path, watch_outs: bool, force: bool) -> None:
    """Write the report of a session: what was done, what it measures, what it is made of."""
    from gluvo.deliver.report import KINDS

    if out.suffix.lower() not in KINDS:
        raise click.UsageError(f"--out must end in one of {', '.join(KINDS)}, not “{out.suffix}”")
    _refuse_place(out, session, force)
    with _bar("Measuring") as told:
        material = _worked(lambda inside: _report_material(session, watch_outs, inside), told)
    if out.suffix.lower() == ".pdf":
        from gluvo.desk.pages.deliver.printing import print_to_file

        print_to_file(material, out)
    else:
        from gluvo.deliver.report import write_one

        write_one(material, out)
    click.echo(one_line(out))


def _report_material(path: Path, watch_outs: bool, told: Told) -> Any:
    from gluvo import __version__
    from gluvo.advise.source import source_notes
    from gluvo.advise.watchouts import KINDS, Finder
    from gluvo.deliver.report import Material
    from gluvo.opened.audio import OpenAudio, analysed, read_audio
    from gluvo.opened.watching import scene_from
    from gluvo.render.song import Renderer
    from gluvo.session.dismissals import not_dismissed

    session, material = _load(path, told=lambda d: told(0.2 * d))
    known = OpenAudio(material=material)
    read = read_audio(session, path.resolve().parent, lambda d: told(0.2 + 0.1 * d), known)
    audio = analysed(read, lambda _: None)
    if audio.material is None:
        raise GluvoError(f"{path.name} has no audio that can be read.")
    renderer = Renderer(audio.material)
    song = renderer.song(session, lambda d: told(0.3 + 0.5 * d))
    scene = scene_from(session, audio, renderer, song)
    flat = sum(len(tops) for tops in audio.flat.values())
    notes = source_notes(session, song.untouched.figures().true_peak, flat)
    return Material(
        session,
        song,
        __version__,
        references=audio.reference_figures,
        reference_tone=audio.reference_tone,
        notes=notes,
        watch_outs=not_dismissed(session, Finder(KINDS).find(scene, lambda d: told(0.8 + 0.2 * d)))
        if watch_outs or session.view.report_watch_outs
        else None,
    )


@cli.command()
@click.argument("session", type=PATH)
@click.option("--out", type=PATH, required=True, help="A folder to make, or a file that ends in .zip.")
@click.option("--flac", is_flag=True, help="Pack plain audio files as FLAC, checked to the sample.")
def collect(session: Path, out: Path, flac: bool) -> None:
    """Copy a session and all audio that it needs into one folder or zip file, to be opened elsewhere."""
    from gluvo.session.collect import collect as gather
    from gluvo.session.store import read_session

    with _bar("Collecting") as told:
        made = _worked(
            lambda inside: gather(
                read_session(session).session, session.resolve().parent, out.absolute(), flac=flac, progress=inside
            ),
            told,
        )
    click.echo(one_line(made))


@cli.command()
def schema() -> None:
    """Print the session's JSON Schema."""
    from gluvo.session.store import schema as session_schema

    _json(session_schema())


@cli.command()
@click.option("--dir", "folder", type=PATH, required=True, help="Where to put the pictures.")
def shots(folder: Path) -> None:
    """Write a PNG of every main view, from the demo."""
    from gluvo.desk.window.shots import write_shots

    for path in write_shots(folder):
        click.echo(path)


@cli.command()
@click.option("--install/--remove", "put", required=True, help="Put it into the menus, or take it out of them.")
@click.option("--dir", "folder", type=PATH, help="A data folder; the user's own otherwise.")
def desktop(put: bool, folder: Path | None) -> None:
    """Put the program into the desktop's menus, with its icon, and have it open session files; or take it out of them."""
    from gluvo import desktop_files

    root = folder.resolve() if folder else None
    done = desktop_files.install(root) if put else desktop_files.remove(root)
    for path in done:
        click.echo(one_line(path))
    if not done:
        click.echo("There was nothing to remove.")


@cli.command(hidden=True)
def warm() -> None:
    """Compile all kernels now, so that nothing waits for them later."""
    from gluvo.demo.score import ScoreSection
    from gluvo.demo.song import performed
    from gluvo.render.warm import warm_up

    with _bar("Compiling kernels") as told:
        warm_up(lambda done: told(0.8 * done))
        performed(
            (ScoreSection("Bar", "Am", 1.0, "0:1:60:sa"),),
            0.2,
            1,
            faults=True,
            progress=lambda d: told(0.8 + 0.2 * d),
        )


def run() -> NoReturn:
    """Run the command line; errors become one line on stderr and exit status 2."""
    try:
        cli.main(standalone_mode=False)
    except GluvoError as error:
        _say(str(error))
    except click.ClickException as error:
        _say(f"{error.format_message()} (gluvo --help tells more)")
    except (click.Abort, KeyboardInterrupt):
        _say("stopped")
    except MemoryError:
        _say("there is not enough memory for that")
    except BrokenPipeError:  # whoever read what was printed has gone
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    except RuntimeError as error:  # a link that leads to itself
        if "loop" not in str(error).lower():
            raise
        _say(f"{str(error).partition('from ')[2] or 'the path'}: a link that leads in a circle")
    except (OSError, UnicodeError) as error:
        _say(f"{getattr(error, 'filename', None) or 'the system'}: {getattr(error, 'strerror', None) or error}")
    else:
        sys.exit(0)
    sys.exit(2)


main = run


def one_line(text: object) -> str:
    """A name as it can be printed: on one line, and what is no text made visible."""
    return "".join(c if c.isprintable() else c.encode("unicode_escape", "surrogatepass").decode() for c in str(text))


LONGEST_WORD = 120
"""Characters of a word in a message; the middle of a longer one, such as a path, is left out."""


def _say(text: str) -> None:
    words = [w if len(w) <= LONGEST_WORD else f"{w[:50]}…{w[-50:]}" for w in one_line(text).split(" ")]
    click.echo(f"gluvo: {' '.join(words)}", err=True)


def _refuse_place(out: Path, session: Path, force: bool) -> None:
    """Raises `GluvoError` where a file of a session may not be written: over its own files, or over others unasked."""
    from gluvo.session.files import refuse_own
    from gluvo.session.media import place_of
    from gluvo.session.store import read_session

    known = read_session(session).session
    refuse_own(out, [session, *(place_of(media, session.resolve().parent) for media in known.media)])
    if out.exists() and not force:
        raise GluvoError(f"{out.name} exists already. Choose another name, or write over it with --force.")
    if not out.resolve().parent.is_dir():
        raise GluvoError(f"{out.resolve().parent} cannot be written to (there is no such folder).")


def _load(path: Path, take_changed: bool = False, told: Told = lambda _: None) -> Any:
    from gluvo.session.media import outside_folder, read_material, taken
    from gluvo.session.store import read_session

    session = read_session(path).session
    if outside := outside_folder(session):
        more = f" and {len(outside) - 1} more files lie" if len(outside) > 2 else " and another file lie"
        _say(f"note: {outside[0]}{more if len(outside) > 1 else ' lies'} outside the session's folder")
    if not session.stems:
        raise GluvoError(f"{path.name} has no audio.")
    folder = path.resolve().parent
    material = read_material(session, folder, told)
    if take_changed and material.changed:
        session = taken(session, material.changed)
        material = read_material(session, folder, known=material)
    return session, material


def _target(name: str) -> Any:
    from gluvo.deliver.targets import all_targets, target_named

    found = target_named(name)
    if found is None:  # as it stands in the window's list: name, loudness and peak
        plain = name.replace("\u2212", "-").lower().split()
        shown = {t.name: [*t.name.lower().split(), f"{t.loudness:g}", "/", f"{t.true_peak:g}"] for t in all_targets()}
        found = next((t for t in all_targets() if shown[t.name] == plain), None)
    if found is None:
        raise click.UsageError(f"no target “{name}”; there are {', '.join(t.name for t in all_targets())}")
    return found


def _side_by_side(items: tuple[Path, ...], work: Callable[[Path, Told], Any], told: Told) -> list[Any]:
    """Work on several files over all cores, with one progress for all: what became of each, a `GluvoError` where one failed.

    Ctrl+C ends it: what works is told to stop, and has cleared up after itself when `KeyboardInterrupt` is raised.
    """
    from gluvo.progress import CORES, Stopper

    done, stopper = [0.0] * len(items), Stopper()

    def one(n: int) -> Any:
        def inside(share: float) -> None:
            stopper.check(share)
            done[n] = share
            told(sum(done) / len(done))

        try:
            inside(0.0)
            return work(items[n], inside)
        except Cancelled:
            raise
        except GluvoError as error:
            return error

    with concurrent.futures.ThreadPoolExecutor(CORES) as pool:
        futures = [pool.submit(one, n) for n in range(len(items))]
        try:
            return [future.result() for future in futures]
        except BaseException:
            # another Ctrl+C would leave what the first one clears up; the process ends after this
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            stopper.stop()
            for future in futures:
                future.cancel()
            raise


def _worked(work: Callable[[Told], Any], told: Told) -> Any:
    """One long piece of work that Ctrl+C ends; see `_side_by_side`. Raises what it raises."""
    (found,) = _side_by_side((Path(),), lambda _, inside: work(inside), told)
    if isinstance(found, GluvoError):
        raise found
    return found


def _good(found: list[Any]) -> tuple[list[Any], list[str]]:
    """What went well, and a sentence for each that did not."""
    return (
        [one for one in found if not isinstance(one, GluvoError)],
        [str(one) for one in found if isinstance(one, GluvoError)],
    )


def _end_with(wrong: list[str]) -> None:
    """Tell each thing that went wrong in its own sentence, and end with 2; nothing if all went well."""
    for sentence in wrong:
        _say(sentence)
    if wrong:
        sys.exit(2)


@contextlib.contextmanager
def _telling_finished() -> Iterator[Callable[[Path], None]]:
    """Collects files that are finished, to tell of them if the work is stopped."""
    finished: list[Path] = []
    try:
        yield finished.append
    except KeyboardInterrupt:
        names = ", ".join(one_line(path.name) for path in finished)
        raise GluvoError(f"stopped. Finished: {names}" if names else "stopped. Nothing was written") from None


def _check_delivered(files: Sequence[Path], as_json: bool) -> NoReturn:
    """Tell what has become of all that sessions delivered, and end."""
    from gluvo.session.deliveries import Lies, changes_since, verified
    from gluvo.session.store import read_session

    def one(path: Path, inside: Told) -> list[dict[str, Any]]:
        session = read_session(path).session
        return [
            {
                "session": one_line(path),
                "row": d.row.name,
                "file": file.media.path,
                "written": d.made,
                "found": how.value,
                "words": how.words,
                "changed_since": list(changes_since(session, d)),
            }
            for d, file, how in verified(session, path.resolve().parent, inside)
        ]

    with _bar("Verifying") as told:
        found, wrong = _good(_side_by_side(tuple(files), one, told))
    rows = [row for rows in found for row in rows]
    if as_json:
        _json(rows)
    else:
        for row in rows:
            since = f", changed since: {'; '.join(row['changed_since'])}" if row["changed_since"] else ""
            click.echo(f"{one_line(row['file'])}: {row['words']}{since}")
        if not rows:
            click.echo("Nothing has been delivered yet.")
    _end_with(wrong)
    sys.exit(1 if any(row["found"] != Lies.THERE.value for row in rows) else 0)


def _strip_named(session: Any, name: str) -> str:
    """The id of a strip by its name. Raises `UsageError` if there is none, or several."""
    found = [strip for strip in session.strips if strip.name.casefold() == name.casefold()]
    if len(found) == 1:
        return str(found[0].id)
    names = ", ".join(strip.name for strip in session.strips)
    what = f"{len(found)} strips are called" if found else "no strip is called"
    raise click.UsageError(f"{what} “{name}”. There are {names}.")


def _delivered_lines(d: Any) -> list[list[str]]:
    """What became of a row, a line a file."""
    from gluvo.advise.loudness_target import measured_by
    from gluvo.deliver.targets import loudness_of, shortfalls
    from gluvo.deliver.write import verdict_of_part

    if d.outcome.trouble:
        return [[d.row.name, d.target.name, "-", "-", one_line(d.outcome.trouble)]]
    lines = []
    for file in d.outcome.files:
        reasons = [] if file.section or d.row.of != "mix" else shortfalls(file.figures, d.target)
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

    whole = d.row.of == "mix"
    reasons = [r for f in d.outcome.files if whole and not f.section for r in shortfalls(f.figures, d.target)]
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


def _window(path: Path | None, play: bool = False) -> None:
    from gluvo.play.process import Host

    host = Host()  # it loads what it needs while the window loads
    try:
        from gluvo.desk.window.app import run
    except ImportError as error:
        host.close()
        raise GluvoError(f"The window cannot open: {error}. scripts/demo installs what it needs.") from None
    run(path, host, play)


def _json(value: Any) -> None:
    click.echo(msgspec.json.format(msgspec.json.encode(value), indent=2).decode())


@contextlib.contextmanager
def _bar(title: str) -> Iterator[Told]:
    """Progress on stderr; nothing of it if that is no terminal."""
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    with click.progressbar(length=1000, label=title, file=sys.stderr, show_eta=False) as bar:
        yield lambda done: bar.update(round(1000 * done) - bar.pos)


def _aligned(lines: list[list[str]]) -> str:
    """A table: the first column to the left, the others to the right."""
    widths = [max(len(line[n]) for line in lines) for n in range(len(lines[0]))]
    rows = (
        [line[0].ljust(widths[0]), *(cell.rjust(width) for cell, width in zip(line[1:], widths[1:], strict=True))]
        for line in lines
    )
    return "\n".join("  ".join(row).rstrip() for row in rows)
