"""Presets: steps, Splits, lanes and chains that are kept by what they are for, as JSON files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
import platformdirs

from gluvo.errors import GluvoError
from gluvo.session.codec import Decoded, Format
from gluvo.session.files import fitting, placing, read_whole, reason_of, replacing
from gluvo.session.migrations import VERSION
from gluvo.session.records import Name, Session
from gluvo.session.store import checked
from gluvo.steps import ChainItem, Step

SUFFIX = ".gluvo-preset.json"
MOST_BYTES = 4 << 20
CHAIN = "chain"
"""What a preset of several items is for."""


class Preset(msgspec.Struct, frozen=True, kw_only=True):
    """Items of a chain with what they do to the sound."""

    format: Literal["gluvo-preset"] = "gluvo-preset"
    version: Annotated[int, msgspec.Meta(ge=1)] = VERSION
    name: Annotated[Name, msgspec.Meta(min_length=1)]
    does: Annotated[str, msgspec.Meta(max_length=1000)] = ""
    """What it does to the sound, in a sentence."""
    when: Annotated[str, msgspec.Meta(max_length=1000)] = ""
    when_not: Annotated[str, msgspec.Meta(max_length=1000)] = ""
    items: Annotated[tuple[ChainItem, ...], msgspec.Meta(min_length=1, max_length=64)]

    @property
    def kind(self) -> str:
        """The kind of item that it is for, as sessions name it; `CHAIN` where there are several."""
        return CHAIN if len(self.items) > 1 else kind_of(self.items[0])


FORMAT = Format("gluvo-preset", Preset, "preset", versions=(2, 3))


@dataclass(frozen=True)
class Kept:
    """A preset of the user's own, and its file."""

    path: Path
    preset: Preset


def kind_of(item: Step) -> str:
    """What a kind of item is called in files."""
    return str(type(item).__struct_config__.tag)


def presets_folder() -> Path:
    """Where the user's own are kept."""
    return Path(platformdirs.user_data_dir("gluvo", appauthor=False)) / "presets"


def own_presets(folder: Path | None = None) -> tuple[list[Kept], list[str]]:
    """The user's own presets by name, and a sentence for each file that cannot be read; those are left alone."""
    found, troubles = [], []
    try:
        paths = sorted((folder or presets_folder()).glob(f"*{SUFFIX}"))
    except OSError:
        paths = []
    for path in paths:
        try:
            found.append(Kept(path, read_preset(path)))
        except GluvoError as error:
            troubles.append(str(error))
    return sorted(found, key=lambda kept: kept.preset.name.lower()), troubles


def read_preset(path: Path) -> Preset:
    """Read a preset. Raises `GluvoError` with what is wrong."""
    return _read(path).record


def _read(path: Path) -> Decoded[Preset]:
    try:
        found = FORMAT.decoded(read_whole(path, MOST_BYTES), path.name)
    except (OSError, ValueError) as error:
        raise GluvoError(f"{path.name} cannot be read ({reason_of(error)}).") from None
    try:
        checked(in_session(found.record))
    except GluvoError as error:
        raise GluvoError(f"{path.name}: {error}") from None
    return found


def write_preset(path: Path, preset: Preset) -> None:
    """Write a preset. Raises `WriteError` if it cannot be written."""
    with replacing(path) as file:
        file.write(preset_bytes(preset))


def preset_bytes(preset: Preset, unknown: dict[str, Any] | None = None) -> bytes:
    """The file's content."""
    return FORMAT.encoded(preset, unknown)


def import_preset(path: Path, folder: Path | None = None) -> Preset:
    """Read a preset, and keep it among the user's own with all that the file holds. Raises `GluvoError`."""
    found = _read(path)
    save_preset(found.record, folder, found.unknown)
    return found.record


def save_preset(preset: Preset, folder: Path | None = None, unknown: dict[str, Any] | None = None) -> Path:
    """Keep a preset among the user's own, in a new file; where it is."""
    place = folder or presets_folder()
    try:
        place.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise GluvoError(f"{place} cannot be made ({reason_of(error)}).") from None
    plain = "".join(c if c.isalnum() or c in " -_" else "-" for c in preset.name).strip()[:80] or "Preset"
    with placing(place / f"{fitting(plain, ' (999)' + SUFFIX)}{SUFFIX}", over=False) as part:
        part.file.write(preset_bytes(preset, unknown))
    return part.path


def forget_preset(kept: Kept) -> None:
    """Take one of the user's own presets away. Raises `GluvoError` if that cannot be."""
    try:
        kept.path.unlink(missing_ok=True)
    except OSError as error:
        raise GluvoError(f"{kept.path.name} cannot be taken away ({reason_of(error)}).") from None


def preset_of(items: Sequence[ChainItem], name: str, does: str = "", when: str = "", when_not: str = "") -> Preset:
    """A preset of items as they stand in a session: without what belongs to that session alone, its ids and keys."""
    ids = {item.id for item in items}
    plain = []
    for item in items:
        since = item.since if item.contains_steps and item.since in ids else ""
        made = _bare(item, keep_id=True)
        plain.append(made.leaving(since) if made.contains_steps else made)
    return Preset(name=name, does=does, when=when, when_not=when_not, items=tuple(plain))


def _bare(item: ChainItem, keep_id: bool = False) -> ChainItem:
    changes: dict[str, object] = {"held_in": "", "on": True, "sections": (), "instead_of": ""}
    changes |= {} if keep_id else {"id": ""}
    if "key" in item.__struct_fields__:
        changes["key"] = ""
    if item.of_recording:
        changes |= {name: getattr(type(item)(), name) for name in item.of_recording}
    if isinstance(bands := getattr(item, "bands", None), tuple):
        changes["bands"] = tuple(msgspec.structs.replace(band, key="") for band in bands)
    made = msgspec.structs.replace(item, **changes)
    if made.contains_steps:
        made = made.with_rows([[_bare(step, keep_id) for step in row] for row in made.rows])  # type: ignore[arg-type]
    return made


def in_session(preset: Preset) -> Session:
    """A session with nothing but the preset's items in the mix bus's chain, for checking them."""
    return put_in(Session(), preset, "mix")


def put_in(session: Session, preset: Preset, strip: str, after: str = "", section: str = "") -> Session:
    """The items of a preset put into a chain after an item, with ids of their own; what they hold is found in a section."""
    ids: dict[str, str] = {}
    beginning = after
    for item in preset.items:
        known = {i.id for i in session.items}
        made = held_in(item, section)
        if made.contains_steps:
            made = made.leaving(ids.get(made.since, beginning))
        session = session.with_new_step(made, strip, after)
        after = next(i.id for i in session.items if i.id not in known)
        ids[item.id] = after
    return session


def instead(session: Session, preset: Preset, id: str, section: str = "") -> Session:
    """An item of a chain with the settings of a preset of its kind: it keeps its id, its place, its key and its name."""
    item = session.item(id)
    if item is None or preset.kind != kind_of(item):
        return session
    kept = {
        name: getattr(item, name)
        for name in ("id", "on", "key", "since", "name", "sections", "section_ramp", "instead_of", *item.of_recording)
        if name in item.__struct_fields__
    }
    made = session.named(held_in(preset.items[0], section))
    return session.with_step(msgspec.structs.replace(made, **kept))


def held_in(item: ChainItem, section: str) -> ChainItem:
    """An item, and the steps in it, whose held settings are found in a section."""
    holds = any(getattr(item, switch) for switch in item.switches())
    made = msgspec.structs.replace(item, held_in=section) if holds else item
    if made.contains_steps:
        made = made.with_rows([[held_in(step, section) for step in row] for row in made.rows])  # type: ignore[arg-type]
    return made
