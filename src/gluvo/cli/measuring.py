"""Commands that measure and judge, and change nothing."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NoReturn

import click
import msgspec

from gluvo.cli.console import PATH, Told, aligned, end_with, one_line, print_json, progress_bar
from gluvo.cli.group import cli
from gluvo.cli.session_files import target_called
from gluvo.cli.work import side_by_side, well_and_wrong
from gluvo.errors import GluvoError

MEASURED = ("integrated", "loudness_range", "true_peak", "plr", "crest", "correlation", "seconds")
"""What `measure` tells, unless everything is asked for."""


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

    with progress_bar("Measuring") as told:
        rows, wrong = well_and_wrong(side_by_side(files, measured, told))
    if as_json:
        plain = [
            {"file": one_line(f), "rate": rate, **msgspec.to_builtins(figures), "flat_tops": flat}
            for f, rate, figures, flat in rows
        ]
        print_json(plain)
        end_with(wrong)
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
        click.echo(aligned(lines))
    end_with(wrong)


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

    wanted = target_called(target)
    with progress_bar("Measuring") as told:
        work = lambda file, inside: (file, shortfalls(measured_file(file, inside)[0], wanted))  # noqa: E731
        rows, wrong = well_and_wrong(side_by_side(files, work, told))
    if as_json:
        plain = [{"file": one_line(f), "target": wanted.name, "meets": not r, "reasons": r} for f, r in rows]
        if plain:
            print_json(plain if len(files) > 1 else plain[0])
    else:
        for file, reasons in rows:
            verdict = f"misses {wanted.name}: {'; '.join(reasons)}" if reasons else f"meets {wanted.name}"
            click.echo(f"{one_line(file.name)} {verdict}")
    end_with(wrong)
    sys.exit(1 if any(reasons for _, reasons in rows) else 0)


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

    with progress_bar("Verifying") as told:
        found, wrong = well_and_wrong(side_by_side(tuple(files), one, told))
    rows = [row for rows in found for row in rows]
    if as_json:
        print_json(rows)
    else:
        for row in rows:
            since = f", changed since: {'; '.join(row['changed_since'])}" if row["changed_since"] else ""
            click.echo(f"{one_line(row['file'])}: {row['words']}{since}")
        if not rows:
            click.echo("Nothing has been delivered yet.")
    end_with(wrong)
    sys.exit(1 if any(row["found"] != Lies.THERE.value for row in rows) else 0)


@cli.command()
@click.option("--json", "as_json", is_flag=True, help="All of each target, as JSON.")
def targets(as_json: bool) -> None:
    """List the targets that come with the program, and the user's own."""
    from gluvo.advise.loudness_target import measured_by
    from gluvo.deliver.targets import all_targets

    if as_json:
        print_json([msgspec.to_builtins(t) for t in all_targets()])
        return
    lines = [["target", "loudness", "tolerance", "dBTP", "by"]]
    for t in all_targets():
        unit = measured_by(t).unit
        lines.append([t.name, f"{t.loudness:g} {unit}", f"{t.tolerance:g}", f"{t.true_peak:g}", measured_by(t).name])
    sources = [one_line(t.source or t.note or "your own") for t in all_targets()]
    heads, *rows = aligned(lines).splitlines()
    width = max(map(len, (heads, *rows)))
    click.echo(f"{heads.ljust(width)}  source")
    for row, source in zip(rows, sources, strict=True):
        click.echo(f"{row.ljust(width)}  {source}")


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

    with progress_bar("Looking") as told:
        rows, wrong = well_and_wrong(side_by_side(files, one, told))
    plain = [_watch_plain(path, session, w) for path, session, found in rows for w in found]
    if as_json:
        print_json(plain)
    else:
        for path, _, found in rows:
            for w in found:
                where = f"{one_line(path.name)}: " if len(rows) > 1 else ""
                click.echo(f"{where}{w.kind}: {one_line(w.text)}")
    end_with(wrong)
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
