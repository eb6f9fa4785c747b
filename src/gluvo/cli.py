"""The command line: the same jobs without a window."""

from __future__ import annotations

import concurrent.futures
import contextlib
import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NoReturn

import click
import msgspec

from gluvo import __version__
from gluvo.errors import GluvoError

Told = Callable[[float], None]

COLUMNS = ("integrated", "loudness_range", "true_peak", "plr", "crest", "correlation", "seconds")
"""What `measure` tells, unless everything is asked for."""

PATH = click.Path(path_type=Path)


class Commands(click.Group):
    """Takes a session in place of a command's name, and opens it."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
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
    files = [mix] if mix else audio_files(stems)  # type: ignore[arg-type]
    with _bar("Reading") as told:
        made = new_session(files, references, out.resolve().parent, out.stem, stems, told)
    write_session(out, made)
    click.echo(one_line(out))


@cli.command()
@click.argument("files", type=PATH, nargs=-1, required=True)
@click.option("--json", "as_json", is_flag=True, help="All figures, as JSON.")
def measure(files: tuple[Path, ...], as_json: bool) -> None:
    """Measure audio files: loudness, peaks, dynamics, stereo."""
    from gluvo.measure.figures import FIGURES, Figures
    from gluvo.progress import CORES
    from gluvo.session.sounds import measured_file

    done = [0.0] * len(files)

    def measured(n: int) -> tuple[Path, int, Figures]:
        def inside(share: float) -> None:
            done[n] = share
            told(sum(done) / len(files))

        figures, rate = measured_file(files[n], inside)
        return files[n], rate, figures

    with _bar("Measuring") as told, concurrent.futures.ThreadPoolExecutor(CORES) as pool:
        rows = list(pool.map(measured, range(len(files))))
    if as_json:
        _json([{"file": one_line(f), "rate": rate, **msgspec.to_builtins(figures)} for f, rate, figures in rows])
        return
    shown = [FIGURES[key] for key in COLUMNS]
    lines = [["file", *(figure.short for figure in shown)]]
    lines += [
        [
            one_line(file.name),
            *(figure.show(getattr(f, figure.key), unit=False).replace("−", "-") for figure in shown),
        ]  # for machines
        for file, _, f in rows
    ]
    click.echo(_aligned(lines))


@cli.command()
@click.argument("session", type=PATH)
@click.option("--out", type=PATH, required=True, help="The file to write: .wav or .flac.")
@click.option("--rate", type=click.Choice(["44100", "48000", "88200", "96000"]), help="Hz; the session's otherwise.")
@click.option("--bits", type=click.Choice(["16", "24", "32f"]), default="24", show_default=True)
@click.option("--dither", type=click.Choice(["none", "tpdf"]), help="TPDF for 16 bit otherwise.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
@click.option("--take-changed", is_flag=True, help="Use audio files that have changed since they were brought in.")
@click.option("--json", "as_json", is_flag=True, help="What was measured in the file, as JSON.")
def render(
    session: Path,
    out: Path,
    rate: str | None,
    bits: str,
    dither: str | None,
    force: bool,
    take_changed: bool,
    as_json: bool,
) -> None:
    """Render a session's result into a file. The session's own files are never written over."""
    from gluvo.deliver.formats import FORMATS
    from gluvo.deliver.write import write_deliverable
    from gluvo.session.files import refuse_own
    from gluvo.session.media import place_of
    from gluvo.session.records import Deliverable

    suffix = out.suffix.lower().lstrip(".")
    if suffix not in FORMATS:
        endings = " or ".join(format.suffix for format in FORMATS.values())
        raise click.UsageError(f"--out must end in {endings}, not “{out.suffix}”")
    loaded, material = _load(session, take_changed)
    refuse_own(out, [session, *(place_of(media, session.resolve().parent) for media in loaded.media)])
    if out.exists() and not force:
        raise GluvoError(f"{out.name} exists already. Choose another name, or write over it with --force.")
    plain = {
        "id": "out",
        "name": out.stem,
        "format": suffix,
        "bits": bits,
        "rate": int(rate or 0),
        "dither": dither or ("tpdf" if bits == "16" else "none"),
    }
    with _bar(f"Writing {out.name}") as told:
        written = write_deliverable(material, loaded, msgspec.convert(plain, Deliverable), out, told)
    if as_json:
        figures = msgspec.to_builtins(written.figures)
        _json({"file": one_line(out), "rate": written.rate, "mended": written.mended, **figures})
    else:
        f = written.figures
        click.echo(f"{one_line(out)}: {f.integrated:.1f} LUFS, {f.true_peak:.2f} dBTP")


@cli.command()
@click.argument("file", type=PATH)
@click.option("--target", required=True, help="Streaming, Loud streaming, Broadcast or Club.")
@click.option("--json", "as_json", is_flag=True, help="The verdict and its reasons, as JSON.")
def check(file: Path, target: str, as_json: bool) -> None:
    """Check a file against a target: exit 0 if it meets it, 1 if not."""
    from gluvo.deliver.targets import TARGETS, shortfalls, target_named
    from gluvo.session.sounds import measured_file

    wanted = target_named(target)
    if wanted is None:
        raise click.UsageError(f"no target “{target}”; there are {', '.join(t.name for t in TARGETS)}")
    with _bar("Measuring") as told:
        figures, _ = measured_file(file, told)
    reasons = shortfalls(figures, wanted)
    if as_json:
        _json({"file": one_line(file), "target": wanted.name, "meets": not reasons, "reasons": reasons})
    else:
        click.echo(
            f"{one_line(file.name)} "
            + (f"misses {wanted.name}: {'; '.join(reasons)}" if reasons else f"meets {wanted.name}")
        )
    sys.exit(1 if reasons else 0)


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


@cli.command(hidden=True)
def warm() -> None:
    """Compile all kernels now, so that nothing waits for them later."""
    from gluvo.demo.score import Part
    from gluvo.demo.song import performed
    from gluvo.render.warm import warm_up

    with _bar("Compiling kernels") as told:
        warm_up(lambda done: told(0.8 * done))
        performed(
            (Part("Bar", "Am", 1.0, "0:1:60:sa"),),
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
    except (OSError, UnicodeError) as error:
        _say(f"{getattr(error, 'filename', None) or 'the system'}: {getattr(error, 'strerror', None) or error}")
    else:
        sys.exit(0)
    sys.exit(2)


main = run


def one_line(text: object) -> str:
    """A name as it can be printed: on one line, and what is no text made visible."""
    return "".join(c if c.isprintable() else c.encode("unicode_escape", "surrogatepass").decode() for c in str(text))


def _say(text: str) -> None:
    click.echo(f"gluvo: {one_line(text)}", err=True)


def _load(path: Path, take_changed: bool = False) -> Any:
    from gluvo.session.media import outside_folder, read_material, taken
    from gluvo.session.store import read_session

    session = read_session(path).session
    if outside := outside_folder(session):
        more = f" and {len(outside) - 1} more files lie" if len(outside) > 2 else " and another file lie"
        _say(f"note: {outside[0]}{more if len(outside) > 1 else ' lies'} outside the session's folder")
    if not session.stems:
        raise GluvoError(f"{path.name} has no audio.")
    folder = path.resolve().parent
    material = read_material(session, folder)
    if take_changed and material.changed:
        session = taken(session, material.changed)
        material = read_material(session, folder, known=material)
    return session, material


def _window(path: Path | None, play: bool = False) -> None:
    from gluvo.play.process import Host

    host = Host()  # it loads what it needs while the window loads
    try:
        from gluvo.desk.window.app import run
    except ImportError as error:
        host.close()
        raise GluvoError(f"The window cannot open: {error}. scripts/demo installs what it needs.") from None
    sys.exit(run(path, host, play))


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
