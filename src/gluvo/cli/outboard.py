"""Commands that send the sound out at an Outboard and take in what came back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from gluvo.cli.console import PATH, Told, one_line, progress_bar
from gluvo.cli.group import cli
from gluvo.cli.session_files import folder_of, load_session, now, refuse_place
from gluvo.cli.work import worked
from gluvo.errors import GluvoError


@cli.command()
@click.argument("session", type=PATH)
@click.option("--step", required=True, help="The id of an Outboard in the session.")
@click.option("--out", type=PATH, required=True, help="The WAV file to write.")
@click.option("--force", is_flag=True, help="Write over a file that is there.")
def send(session: Path, step: str, out: Path, force: bool) -> None:
    """Write what flows in at an Outboard between two pings, to be played through what is outside; the session remembers it."""
    from gluvo.deliver.outboard import send as send_out

    if out.suffix.lower() != ".wav":
        raise click.UsageError(f"--out must end in .wav, not “{out.suffix}”")
    refuse_place(out, session, force)
    with progress_bar("Sending") as told:
        _outside(
            session,
            lambda renderer, known, inside: send_out(renderer, known, step, out, folder_of(session), now(), inside),
            told,
        )
    click.echo(one_line(out))


@cli.command("return")
@click.argument("session", type=PATH)
@click.option("--step", required=True, help="The id of an Outboard in the session.")
@click.argument("file", type=PATH)
def return_(session: Path, step: str, file: Path) -> None:
    """Lay a recording of what was sent into an Outboard's place: late, early, turned over, at another rate or clock."""
    import numpy as np

    from gluvo.deliver.outboard import bring_back, flowing_in, outboard_of

    def work(renderer: Any, known: Any, inside: Told) -> Any:
        sent = np.asarray(renderer.joint(flowing_in(renderer, known, step)).audio)
        return bring_back(known, step, file.resolve(), folder_of(session), now(), sent, inside)

    with progress_bar("Bringing back") as told:
        made = _outside(session, work, told)
    back = outboard_of(made, step).returned
    assert back is not None
    turned = ", turned over" if back.inverted else ""
    click.echo(f"begins at {back.begins:.6f} s, drift {back.drift:+.2f} ppm, {back.gain:+.1f} dB{turned}")
    for words in back.failed:
        click.echo(words)


def _outside(path: Path, work: Callable[[Any, Any, Told], Any], told: Told) -> Any:
    """Do something with a session and its renderer that gives another one, which is written in its place. Raises `GluvoError`
    where a window works on it."""
    from gluvo.render.song import Renderer
    from gluvo.session.lock import is_held
    from gluvo.session.store import read_session, write_session

    if is_held(path):
        raise GluvoError(f"{path.name} is open in a window. Save and close it there first, or do it there.")
    before = read_session(path)
    known, material = load_session(path, told=lambda d: told(0.3 * d))
    made = worked(lambda inside: work(Renderer(material), known, inside), lambda d: told(0.3 + 0.7 * d))
    if is_held(path) or read_session(path).digest != before.digest:
        raise GluvoError(f"{path.name} has changed meanwhile. Nothing was written into it; do it again.")
    write_session(path, made, before.kept)
    return made
