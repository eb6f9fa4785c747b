"""The command line: the same jobs without a window. Each module holds the commands of one purpose."""

from __future__ import annotations

import os
import sys
from typing import NoReturn

import click

from gluvo.cli import delivering, measuring, outboard, program, sessions  # noqa: F401  (each adds its commands)
from gluvo.cli.console import say
from gluvo.cli.group import cli as cli
from gluvo.errors import GluvoError


def run() -> NoReturn:
    """Run the command line; errors become one line on stderr and exit status 2."""
    try:
        cli.main(standalone_mode=False)
    except GluvoError as error:
        say(str(error))
    except click.ClickException as error:
        say(f"{error.format_message()} (gluvo --help tells more)")
    except (click.Abort, KeyboardInterrupt):
        say("stopped")
    except MemoryError:
        say("there is not enough memory for that")
    except BrokenPipeError:  # whoever read what was printed has gone
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    except RuntimeError as error:  # a link that leads to itself
        if "loop" not in str(error).lower():
            raise
        say(f"{str(error).partition('from ')[2] or 'the path'}: a link that leads in a circle")
    except (OSError, UnicodeError) as error:
        say(f"{getattr(error, 'filename', None) or 'the system'}: {getattr(error, 'strerror', None) or error}")
    else:
        sys.exit(0)
    sys.exit(2)


main = run
