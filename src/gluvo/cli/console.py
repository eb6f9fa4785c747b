"""What is printed: tables, JSON, progress, and sentences for what went wrong."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import click
import msgspec

Told = Callable[[float], None]


PATH = click.Path(path_type=Path)


LONGEST_WORD = 120
"""Characters of a word in a message; the middle of a longer one, such as a path, is left out."""


def one_line(text: object) -> str:
    """A name as it can be printed: on one line, and what is no text made visible."""
    return "".join(c if c.isprintable() else c.encode("unicode_escape", "surrogatepass").decode() for c in str(text))


def say(text: str) -> None:
    """A sentence on stderr, on one line."""
    words = [w if len(w) <= LONGEST_WORD else f"{w[:50]}…{w[-50:]}" for w in one_line(text).split(" ")]
    click.echo(f"gluvo: {' '.join(words)}", err=True)


def print_json(value: Any) -> None:
    """A value as indented JSON."""
    click.echo(msgspec.json.format(msgspec.json.encode(value), indent=2).decode())


@contextlib.contextmanager
def progress_bar(title: str) -> Iterator[Told]:
    """Progress on stderr; nothing of it if that is no terminal."""
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    with click.progressbar(length=1000, label=title, file=sys.stderr, show_eta=False) as bar:
        yield lambda done: bar.update(round(1000 * done) - bar.pos)


def aligned(lines: list[list[str]]) -> str:
    """A table: the first column to the left, the others to the right."""
    widths = [max(len(line[n]) for line in lines) for n in range(len(lines[0]))]
    rows = (
        [line[0].ljust(widths[0]), *(cell.rjust(width) for cell, width in zip(line[1:], widths[1:], strict=True))]
        for line in lines
    )
    return "\n".join("  ".join(row).rstrip() for row in rows)


def end_with(wrong: list[str]) -> None:
    """Tell each thing that went wrong in its own sentence, and end with 2; nothing if all went well."""
    for sentence in wrong:
        say(sentence)
    if wrong:
        sys.exit(2)
