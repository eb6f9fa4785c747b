"""The door to the command line: light to import, so that Ctrl+C is answered in a sentence from the first moment on."""

from __future__ import annotations

import os
import signal
import sys
from typing import NoReturn


def main() -> NoReturn:
    """Load the command line and run it."""

    def stopped(*_: object) -> None:
        os.write(2, b"gluvo: stopped\n")
        os._exit(2)

    signal.signal(signal.SIGINT, stopped)  # nothing has begun yet that would have to be ended in order
    try:
        from gluvo.cli import run
    except ImportError as error:
        sys.stderr.write(f"gluvo: a part of Gluvo is missing ({error}); scripts/setup installs what it needs\n")
        sys.exit(2)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    run()
