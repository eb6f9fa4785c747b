"""The command `gluvo` itself: without another command, or with a file, it opens the window."""

from __future__ import annotations

import difflib
import os
from pathlib import Path
from typing import Any

import click

from gluvo import __version__
from gluvo.cli.console import PATH
from gluvo.errors import GluvoError


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
        open_window(None)


def open_window(path: Path | None, play: bool = False) -> None:
    """Run the window, with a session or an audio file if one is named. Raises `GluvoError` where it cannot open."""
    from gluvo.play.process import Host

    host = Host()  # it loads what it needs while the window loads
    try:
        from gluvo.desk.window.app import run
    except ImportError as error:
        host.close()
        raise GluvoError(f"The window cannot open: {error}. scripts/demo installs what it needs.") from None
    run(path, host, play)


@cli.command("open", hidden=True)
@click.argument("session", type=PATH)
def open_(session: Path) -> None:
    """Open the window with a session or an audio file."""
    open_window(session)
