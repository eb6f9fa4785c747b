"""How a setting is declared: once, with its range, unit, scale, label and tip.

A step's settings are a frozen struct. Each field's type carries a `msgspec.Meta` made by `number`, `choice` or
`switch`: range and type are checked when a session is read, the rest (label, unit, scale, group, what it does
to the sound) serves rulers, the schema and the command line. `settings_of` gives it back.
"""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal, get_type_hints

import msgspec

from gluvo.dsp.notes import hz_of

Scale = Literal["linear", "log"]
MOST_NAME = 200
"""Characters that a name may have."""
CONTROLS = r"\x00-\x08\x0b-\x1f\x7f"
"""Control characters that no text of a session holds, as a regular expression has them within brackets."""


@dataclass(frozen=True)
class Setting:
    """One declared setting. `kind` is number, choice or switch."""

    name: str
    label: str
    tip: str
    kind: str
    default: Any
    group: str = ""
    unit: str = ""
    low: float = 0.0
    high: float = 1.0
    scale: Scale = "linear"
    decimals: int = 1
    fine: float = 0.1
    options: tuple[tuple[str, str], ...] = ()
    off_at_low: bool = False
    """The lowest value stands for nothing at all: −∞ dB."""

    def to_position(self, value: float) -> float:
        """Where a value stands on its ruler, 0–1. Log scales that start at 0 give its first hundredth to 0."""
        if self.scale == "linear":
            return (value - self.low) / (self.high - self.low)
        low = self._log_low
        if value < low:
            return 0.0
        return math.log(value / low) / math.log(self.high / low)

    def to_value(self, position: float) -> float:
        """The value at a position on the ruler, inside the range."""
        position = min(1.0, max(0.0, position))
        if self.scale == "linear":
            value = self.low + position * (self.high - self.low)
        elif position == 0.0:
            value = self.low
        else:
            value = self._log_low * (self.high / self._log_low) ** position
        return self.clamp(value)

    @property
    def _log_low(self) -> float:
        return self.low if self.low > 0.0 else self.high / 2000.0

    def clamp(self, value: float) -> float:
        """The nearest allowed value."""
        return min(self.high, max(self.low, value))

    def stepped(self, value: float, steps: float) -> float:
        """The value so many steps further on its ruler. A step is about a hundredth of the rule there, as a round number
        (1, 2 or 5, times a power of ten); what lies between two of them goes to the next one.

        >>> level = Setting("level", "Level", "", "number", 0.0, low=-60.0, high=12.0)
        >>> level.stepped(0.0, 1), level.stepped(0.3, 1), level.stepped(0.3, -1)
        (0.5, 0.5, 0.0)
        """
        way = 1 if steps > 0 else -1
        for _ in range(max(1, round(abs(steps)))):
            width = abs(self.to_value(self.to_position(value) + way / 100.0) - value)
            width = max(width, abs(self.to_value(self.to_position(value) - way / 100.0) - value), self.fine)
            step = max(_round_step(width), 10.0**-self.decimals if self.scale == "linear" else 0.0)
            count = value / step
            whole = math.floor(count + 1.0 + 1e-6) if way > 0 else math.ceil(count - 1.0 - 1e-6)
            value = self.clamp(whole * step)
        return value

    def show(self, value: float) -> str:
        """The value as text, without its unit; a true minus sign, more digits for small values on log scales."""
        if self.off_at_low and value <= self.low:
            return "−∞"
        decimals = self.decimals
        if self.scale == "log" and value > 0.0:
            decimals = max(0, min(3, self.decimals + 1 - math.floor(math.log10(value))))
            if value >= 1000.0:
                decimals = 0
        text = f"{value:.{decimals}f}"
        if float(text) == 0.0:
            text = text.lstrip("-")
        if self.unit.startswith("dB") and self.low < 0.0 < self.high and float(text) > 0.0:
            text = "+" + text
        return text.replace("-", "−")

    def read(self, text: str) -> float | None:
        """The value that a typed text means, clamped; None if it means none. Units and a decimal comma are fine, and for
        frequencies the names of notes."""
        value = self._meant(text)
        return None if value is None else self.clamp(value)

    def beyond(self, text: str) -> str:
        """A word on a typed value that lies beyond the range; nothing if it does not."""
        value = self._meant(text)
        if value is None or self.low <= value <= self.high:
            return ""
        end, word = (self.low, "least") if value < self.low else (self.high, "most")
        return f"{self.show(end)} {self.unit}".rstrip() + f" is the {word}."

    def _meant(self, text: str) -> float | None:
        """The number that a typed text means, wherever it lies."""
        if self.unit == "Hz" and (hz := hz_of(text)) is not None:
            return hz
        cleaned = text.strip().replace("−", "-").replace(",", ".").lower()
        factor = 1.0
        if self.off_at_low and cleaned.removesuffix("db").strip() in ("off", "-∞", "-inf"):
            return self.low
        for suffix, times in ((" khz", 1000.0), ("khz", 1000.0), ("k", 1000.0), (self.unit.lower(), 1.0)):
            if suffix and cleaned.endswith(suffix):
                cleaned, factor = cleaned[: -len(suffix)].strip(), times
                break
        if self.unit == "ms" and cleaned.endswith("s"):
            cleaned, factor = cleaned[:-1].strip(), 1000.0
        try:
            value = float(cleaned) * factor
        except ValueError:
            return None
        return value if math.isfinite(value) else None


def _round_step(width: float) -> float:
    """The largest number of 1, 2 and 5 times a power of ten that is not over `width`."""
    most = width * (1.0 + 1e-9)
    power = 10.0 ** math.floor(math.log10(most))
    return max(factor * power for factor in (1.0, 2.0, 5.0) if factor * power <= most)


def number(
    label: str,
    unit: str,
    low: float,
    high: float,
    tip: str,
    *,
    group: str = "",
    scale: Scale = "linear",
    decimals: int = 1,
    fine: float | None = None,
    off_at_low: bool = False,
) -> msgspec.Meta:
    """A number with a range; `fine` is the step of arrow keys (default: the last shown digit)."""
    extra = {
        "kind": "number",
        "group": group,
        "unit": unit,
        "scale": scale,
        "decimals": decimals,
        "fine": 10.0**-decimals if fine is None else fine,
        "off_at_low": off_at_low,
    }
    return msgspec.Meta(ge=low, le=high, title=label, description=tip, extra=extra)


def choice(label: str, options: Sequence[tuple[str, str]], tip: str, *, group: str = "") -> msgspec.Meta:
    """One of several words: ``(word in the session, words on screen)``. The field's type is a `Literal`."""
    return msgspec.Meta(
        title=label, description=tip, extra={"kind": "choice", "group": group, "options": tuple(options)}
    )


def switch(label: str, tip: str, *, group: str = "") -> msgspec.Meta:
    """On or off."""
    return msgspec.Meta(title=label, description=tip, extra={"kind": "switch", "group": group})


@functools.cache
def settings_of(kind: type[msgspec.Struct]) -> dict[str, Setting]:
    """The declared settings of a step, or of any record that has some, by name, in the order of their declaration."""
    defaults = {f.name: f.default for f in msgspec.structs.fields(kind)}
    found = {}
    for name, hint in get_type_hints(kind, include_extras=True).items():
        for meta in getattr(hint, "__metadata__", ()):
            if isinstance(meta, msgspec.Meta) and meta.extra and "kind" in meta.extra:
                found[name] = setting_of(name, meta, defaults[name])
    return found


def setting_of(name: str, meta: msgspec.Meta, default: Any) -> Setting:
    """What was declared by `number`, `choice` or `switch`, for a field or for the parts of one."""
    low = 0.0 if meta.ge is None else float(meta.ge)
    high = 1.0 if meta.le is None else float(meta.le)
    return Setting(
        name, meta.title or name, meta.description or "", default=default, low=low, high=high, **(meta.extra or {})
    )


def hertz(freq: float) -> str:
    """A frequency as it is read: “160 Hz”, “4.2 kHz”."""
    return f"{freq:.0f} Hz" if freq < 1000.0 else f"{freq / 1000.0:.3g} kHz"
