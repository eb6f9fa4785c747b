"""Commands of the program itself."""

from __future__ import annotations

from pathlib import Path

import click

from gluvo.cli.console import PATH, one_line, progress_bar
from gluvo.cli.group import cli


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

    with progress_bar("Compiling kernels") as told:
        warm_up(lambda done: told(0.8 * done))
        performed(
            (ScoreSection("Bar", "Am", 1.0, "0:1:60:sa"),),
            0.2,
            1,
            faults=True,
            progress=lambda d: told(0.8 + 0.2 * d),
        )
