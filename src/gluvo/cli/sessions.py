"""Commands that make sessions, and tell of one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gluvo import __version__
from gluvo.cli.console import PATH, Told, aligned, end_with, one_line, print_json, progress_bar
from gluvo.cli.group import cli, open_window
from gluvo.cli.session_files import load_session, refuse_place
from gluvo.cli.work import worked
from gluvo.errors import GluvoError


@cli.command()
@click.option("--dir", "folder", type=PATH, help="Where to keep it; the user's data folder otherwise.")
@click.option("--no-window", is_flag=True, help="Make it and print its path only.")
def demo(folder: Path | None, no_window: bool) -> None:
    """Make the demo session (once) and open it."""
    from gluvo.demo.session import demo_session

    with progress_bar("Making the demo song") as told:
        path = demo_session(folder.resolve() if folder else None, told)
    click.echo(path)
    if not no_window:
        open_window(path, play=True)


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
    with progress_bar("Reading") as told:
        made = worked(
            lambda inside: new_session(files, references, out.resolve().parent, out.stem, stems, inside, refused), told
        )
    write_session(out, made)
    click.echo(one_line(out))
    end_with(refused)


@cli.command()
@click.argument("session", type=PATH)
@click.option("--section", help="A section by its name; the whole song otherwise.")
@click.option("--json", "as_json", is_flag=True, help="All figures, as JSON.")
def figures(session: Path, section: str | None, as_json: bool) -> None:
    """Measure every place of a session: each strip and step with loudness, true peak and reduction."""
    from gluvo.deliver.joints import figures_of_joints
    from gluvo.measure.trace import Span
    from gluvo.render.song import Renderer

    with progress_bar("Rendering") as told:

        def work(inside: Told) -> Any:
            loaded, material = load_session(session, told=lambda d: inside(0.2 * d))
            span = None
            if section is not None:
                found = next((s for s in loaded.sections if s.name == section), None)
                if found is None:
                    there = ", ".join(f"“{s.name}”" for s in loaded.sections) or "none"
                    raise GluvoError(f"{session.name} has no section “{section}”. Its sections: {there}.")
                span = Span(found.start, found.end)
            song = Renderer(material).song(loaded, lambda d: inside(0.2 + 0.8 * d))
            return figures_of_joints(loaded, song, span)

        plain = worked(work, told)
    if as_json:
        print_json(plain)
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
    click.echo(aligned(lines))


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
    refuse_place(out, session, force)
    with progress_bar("Drafting") as told:
        made, found = worked(lambda inside: draft_of_file(session, strip, as_in, strength, inside), told)
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
@click.option("--client", is_flag=True, help="For the client: without the chain and the names of references.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
def report(session: Path, out: Path, watch_outs: bool, client: bool, force: bool) -> None:
    """Write the report of a session: what was done, what it measures, what it is made of."""
    from gluvo.deliver.report import KINDS

    if out.suffix.lower() not in KINDS:
        raise click.UsageError(f"--out must end in one of {', '.join(KINDS)}, not “{out.suffix}”")
    refuse_place(out, session, force)
    with progress_bar("Measuring") as told:
        material = worked(lambda inside: report_material(session, watch_outs, client, inside), told)
    if out.suffix.lower() == ".pdf":
        from gluvo.desk.pages.deliver.printing import print_to_file

        print_to_file(material, out)
    else:
        from gluvo.deliver.report import write_one

        write_one(material, out)
    click.echo(one_line(out))


def report_material(path: Path, watch_outs: bool, client: bool, told: Told) -> Any:
    from gluvo.advise.source import source_notes
    from gluvo.advise.watchouts import KINDS, Finder
    from gluvo.deliver.report import Material
    from gluvo.opened.audio import OpenAudio, analysed, read_audio
    from gluvo.opened.watching import scene_from
    from gluvo.render.song import Renderer
    from gluvo.session.dismissals import not_dismissed

    session, material = load_session(path, told=lambda d: told(0.2 * d))
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
        if (watch_outs or session.view.report_watch_outs) and not client
        else None,
        client=client,
    )


@cli.command()
@click.argument("session", type=PATH)
@click.option("--out", type=PATH, required=True, help="A folder to make, or a file that ends in .zip.")
@click.option("--flac", is_flag=True, help="Pack plain audio files as FLAC, checked to the sample.")
def collect(session: Path, out: Path, flac: bool) -> None:
    """Copy a session and all audio that it needs into one folder or zip file, to be opened elsewhere."""
    from gluvo.session.collect import collect as gather
    from gluvo.session.store import read_session

    with progress_bar("Collecting") as told:
        made = worked(
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

    print_json(session_schema())
