"""Sessions, strips and targets that a command is given."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from gluvo.cli.console import Told, say
from gluvo.errors import GluvoError


def load_session(path: Path, take_changed: bool = False, told: Told = lambda _: None) -> Any:
    """A session and its material; `take_changed`: whatever its files hold now. Raises `GluvoError` where it has no audio."""
    from gluvo.session.media import outside_folder, read_material, taken
    from gluvo.session.store import read_session

    session = read_session(path).session
    if outside := outside_folder(session):
        more = f" and {len(outside) - 1} more files lie" if len(outside) > 2 else " and another file lie"
        say(f"note: {outside[0]}{more if len(outside) > 1 else ' lies'} outside the session's folder")
    if not session.stems:
        raise GluvoError(f"{path.name} has no audio.")
    folder = path.resolve().parent
    material = read_material(session, folder, told)
    if take_changed and material.changed:
        session = taken(session, material.changed)
        material = read_material(session, folder, known=material)
    return session, material


def refuse_place(out: Path, session: Path, force: bool) -> None:
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


def folder_of(session: Path) -> Path:
    """The folder from which a session's places are told."""
    return session.resolve().parent


def strip_named(session: Any, name: str) -> str:
    """The id of a strip by its name. Raises `UsageError` if there is none, or several."""
    found = [strip for strip in session.strips if strip.name.casefold() == name.casefold()]
    if len(found) == 1:
        return str(found[0].id)
    names = ", ".join(strip.name for strip in session.strips)
    what = f"{len(found)} strips are called" if found else "no strip is called"
    raise click.UsageError(f"{what} “{name}”. There are {names}.")


def target_called(name: str) -> Any:
    """A target by its name, or as the window shows it. Raises `UsageError` if there is none."""
    from gluvo.deliver.targets import all_targets, target_named

    found = target_named(name)
    if found is None:  # as it stands in the window's list: name, loudness and peak
        plain = name.replace("\u2212", "-").lower().split()
        shown = {t.name: [*t.name.lower().split(), f"{t.loudness:g}", "/", f"{t.true_peak:g}"] for t in all_targets()}
        found = next((t for t in all_targets() if shown[t.name] == plain), None)
    if found is None:
        raise click.UsageError(f"no target “{name}”; there are {', '.join(t.name for t in all_targets())}")
    return found


def now() -> str:
    """Local time (ISO 8601)."""
    import datetime

    return datetime.datetime.now().isoformat(timespec="seconds")
