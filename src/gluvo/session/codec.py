"""How records become JSON and come back: one way for sessions, histories, presets, targets and the clipboard.

A document says its format and its version. There is one version for all of them, which goes up when any record is written
otherwise than before; `migrations` says what changed, by the kind of record, and is applied wherever such a record stands.
Keys that this version does not know are given back to be written again.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import msgspec

from gluvo.errors import GluvoError
from gluvo.session.migrations import VERSION, migrated

T = TypeVar("T", bound=msgspec.Struct)

_converting = threading.Lock()
"""The library learns a type when it first meets it, and two threads that meet it at once end the process."""


@dataclass(frozen=True)
class Decoded(Generic[T]):
    """A record as it was read."""

    record: T
    unknown: dict[str, Any] = field(default_factory=dict)
    """Keys that this version does not know, at their places; see `merged`."""


@dataclass(frozen=True)
class Format(Generic[T]):
    """A kind of document."""

    key: str
    """What stands in it as its format."""
    record: type[T]
    name: str
    """What it is called in sentences."""
    error: type[GluvoError] = GluvoError
    """What is raised if one makes no sense."""
    versions: tuple[int, ...] = ()
    """Which version its own first ones were, when it counted by itself; from then on its version is that of all records."""
    unversioned: int = 0
    """What it is where none is told, as the first ones did, whose format may be missing, too; 0 if one must be."""

    def decoded(self, text: bytes | str, called: str) -> Decoded[T]:
        """A document from JSON; `called` names it in errors. Raises `self.error` with what is wrong and where."""
        try:
            raw = msgspec.json.decode(text)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            raise self.error(f"{called} is no {self.name}: it is not JSON ({error}).") from None
        except RecursionError:
            raise self.error(f"{called} is no {self.name}: it is nested too deeply.") from None
        return self.converted(raw, called)

    def converted(self, raw: Any, called: str) -> Decoded[T]:
        """A document from decoded JSON, brought up to date."""
        if not isinstance(raw, dict) or raw.get("format", self.key if self.unversioned else None) != self.key:
            raise self.error(f"{called} is no Gluvo {self.name}.")
        version = self._version_of(raw, called)
        try:
            raw = {**migrated(raw, version), "version": VERSION}
            with _converting:
                record = msgspec.convert(raw, self.record)
            return Decoded(record, unknown_in(raw, {**msgspec.to_builtins(record), "version": VERSION}))
        except msgspec.ValidationError as error:
            raise self.error(f"{called} has a value that makes no sense: {error}.") from None
        except RecursionError:
            raise self.error(f"{called} is nested too deeply.") from None

    def _version_of(self, raw: dict[str, Any], called: str) -> int:
        told = raw.get("version", self.unversioned or None)
        if not isinstance(told, int) or isinstance(told, bool) or told < 1:
            raise self.error(f"{called} has no valid version number.")
        if told > VERSION:
            raise self.error(
                f"{called} was made by a newer Gluvo ({self.name} version {told}, this one reads up to {VERSION}). "
                "Update Gluvo to open it."
            )
        return self.versions[told - 1] if told <= len(self.versions) else told

    def encoded(self, record: T, unknown: dict[str, Any] | None = None, *, indent: int | None = 2) -> bytes:
        """A document as JSON, keys in the order of their declaration, unknown ones behind them."""
        plain = merged(msgspec.to_builtins(record), unknown or {}) if unknown else record
        text = msgspec.json.encode(plain)
        return text if indent is None else msgspec.json.format(text, indent=indent) + b"\n"


def round_trip(record: T) -> T:
    """A record as it would be read again. Raises `msgspec.ValidationError` and `UnicodeEncodeError`."""
    with _converting:
        return msgspec.json.decode(msgspec.json.encode(record), type=type(record))


def unknown_in(raw: Any, known: Any) -> dict[str, Any]:
    """Keys of `raw` that `known` lacks, at any depth. Members of lists are found again by their id."""
    found: dict[str, Any] = {}
    for key, value in raw.items():
        if key not in known:
            found[key] = value
        elif isinstance(value, dict) and isinstance(known[key], dict):
            if inner := unknown_in(value, known[key]):
                found[key] = inner
        elif isinstance(value, list):
            pairs = ((v, k) for v, k in zip(value, known[key], strict=True) if isinstance(v, dict) and "id" in v)
            if inner := {v["id"]: rest for v, k in pairs if (rest := unknown_in(v, k))}:
                found[key] = inner
    return found


def merged(known: Any, unknown: dict[str, Any]) -> Any:
    """`known` with the unknown keys put back; those of members that are gone are dropped."""
    result = dict(known)
    for key, value in unknown.items():
        if key not in result:
            result[key] = value
        elif isinstance(result[key], dict):
            result[key] = merged(result[key], value)
        elif isinstance(result[key], (list, tuple)):
            result[key] = [merged(v, value[v["id"]]) if v.get("id") in value else v for v in result[key]]
    return result
