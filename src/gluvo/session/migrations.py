"""What earlier versions wrote, brought up to date: wherever steps stand, in sessions, presets, histories, on the clipboard."""

from __future__ import annotations

import math
from typing import Any

RENAMED: dict[str, dict[str, str]] = {
    "resonance_tamer": {"depth": "at_most", "selectivity": "stands_out", "speed": "at_least"},
}
"""Settings that had another name, by the kind of their step: from the old to the new one."""
LEAST_AIM, USUAL_AIM = 0.1, 2.0
"""dB of reduction that a Glue can be asked for at least, and is if nothing else is said."""


def with_new_names(raw: Any) -> Any:
    """Decoded JSON with the settings of all steps in it named as they are now; what has their names stays as it is.

    >>> with_new_names([{"step": "resonance_tamer", "depth": 3.0}])
    [{'step': 'resonance_tamer', 'at_most': 3.0}]
    """
    if isinstance(raw, list):
        return [with_new_names(item) for item in raw]
    if not isinstance(raw, dict):
        return raw
    kind = raw.get("step")
    names = RENAMED.get(kind, {}) if isinstance(kind, str) else {}
    return {names.get(key, key) if names.get(key) not in raw else key: with_new_names(v) for key, v in raw.items()}


def brought_up(raw: Any) -> Any:
    """Decoded JSON of an older version as it is written now: settings' names, and the aim of a Glue with Mix, which was one
    of what is reduced alone and is one of what arrives.

    >>> brought_up([{"step": "glue", "mix": 50.0, "aim": 6.0}])
    [{'step': 'glue', 'mix': 50.0, 'aim': 2.49}]
    """
    return _with_aims(with_new_names(raw))


def _with_aims(raw: Any) -> Any:
    if isinstance(raw, list):
        return [_with_aims(item) for item in raw]
    if not isinstance(raw, dict):
        return raw
    found = {key: _with_aims(v) for key, v in raw.items()}
    mix, aim = found.get("mix", 100.0), found.get("aim", USUAL_AIM)
    if found.get("step") != "glue" or not all(isinstance(v, int | float) for v in (mix, aim)):
        return found
    if not (0.0 <= mix < 100.0 and 0.0 < aim < 1000.0):
        return found
    share = mix / 100.0
    left = -20.0 * math.log10(1.0 - share + share * 10.0 ** (aim / -20.0))
    return {**found, "aim": max(LEAST_AIM, round(left, 2))}
