"""What changed in how records are written, by the kind of record: applied wherever one stands.

To change a record, raise `VERSION` and put what has to be done to one of the version before into `RENAMED` or `CHANGES`; put a
document of that version into `tests/written`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

VERSION = 5
"""Of all documents."""

Change = Callable[[dict[str, Any]], dict[str, Any]]

RENAMED: Mapping[int, Mapping[str, Mapping[str, str]]] = {
    2: {"resonance_tamer": {"depth": "at_most", "selectivity": "stands_out", "speed": "at_least"}},
}
"""Keys that had another name in a version: by that version and the kind of record, from the old to the new one."""

LEAST_AIM, USUAL_AIM = 0.1, 2.0
"""dB of reduction that a Glue can be asked for at least, and is if nothing else is said."""
USUAL_DE_ESSER_AIM, USUAL_BAND_AIM = 0.5, 1.0
"""dB that a De-esser and a moving band were asked for on average, if nothing else was said."""


def _aim_of_what_arrives(glue: dict[str, Any]) -> dict[str, Any]:
    """The aim of a Glue with Mix was one of what is reduced alone, and is one of what arrives.

    >>> _aim_of_what_arrives({"step": "glue", "mix": 50.0, "aim": 6.0})
    {'step': 'glue', 'mix': 50.0, 'aim': 2.49}
    """
    mix, aim = glue.get("mix", 100.0), glue.get("aim", USUAL_AIM)
    if not all(isinstance(v, int | float) for v in (mix, aim)) or not (0.0 <= mix < 100.0 and 0.0 < aim < 1000.0):
        return glue
    share = mix / 100.0
    left = -20.0 * math.log10(1.0 - share + share * 10.0 ** (aim / -20.0))
    return {**glue, "aim": max(LEAST_AIM, round(left, 2))}


def _aim_on_average(step: dict[str, Any]) -> dict[str, Any]:
    """The aim of a step was the mean, and is what is said beside it."""
    return {**step, "aim_by": step.get("aim_by", "mean")}


def _de_esser_on_average(step: dict[str, Any]) -> dict[str, Any]:
    return {"aim": USUAL_DE_ESSER_AIM, **_aim_on_average(step)}


def _bands_on_average(eq: dict[str, Any]) -> dict[str, Any]:
    bands = eq.get("bands")
    if not isinstance(bands, list):
        return eq
    found = [{"aim": USUAL_BAND_AIM, **_aim_on_average(b)} if isinstance(b, dict) else b for b in bands]
    return {**eq, "bands": found}


def _holds_belong_to_sections(session: dict[str, Any]) -> dict[str, Any]:
    """Held settings were found in the section that was looked at."""
    view = session.get("view")
    section = view.get("section", "") if isinstance(view, dict) else ""

    def belonging(item: Any) -> Any:
        if not isinstance(item, dict):
            return item
        item = {**item, "steps": [belonging(i) for i in item["steps"]]} if isinstance(item.get("steps"), list) else item
        held = item.get("hold_aim") or item.get("hold_loudness", item.get("step") == "saturation")
        return {**item, "held_in": section} if held else item

    strips = session.get("strips")
    if not isinstance(strips, list):
        return session
    strips = [
        {**s, "chain": [belonging(i) for i in s["chain"]]}
        if isinstance(s, dict) and isinstance(s.get("chain"), list)
        else s
        for s in strips
    ]
    return {**session, "strips": strips}


CHANGES: Mapping[int, Mapping[str, Change]] = {
    1: {"gluvo-session": _holds_belong_to_sections},
    2: {"glue": _aim_of_what_arrives},
    3: {"glue": _aim_on_average},
    4: {"de_esser": _de_esser_on_average, "mid_side_eq": _bands_on_average},
}
"""What has to be done to a record of a version: by that version and the kind of record."""


def kind_of(record: dict[str, Any]) -> str:
    """What kind of record a piece of JSON is: a document's format, or a step's; empty for any other."""
    kind = record.get("format", record.get("step", ""))
    return kind if isinstance(kind, str) else ""


def migrated(raw: Any, version: int) -> Any:
    """Decoded JSON of a version as it is written now.

    >>> migrated([{"step": "resonance_tamer", "depth": 3.0}], 2)
    [{'step': 'resonance_tamer', 'at_most': 3.0}]
    """
    for number in range(version, VERSION):
        raw = _each(raw, RENAMED.get(number, {}), CHANGES.get(number, {}))
    return raw


def with_new_names(raw: Any) -> Any:
    """Decoded JSON of which no version is known, named as it is now; what has these names stays as it is."""
    for number in range(1, VERSION):
        raw = _each(raw, RENAMED.get(number, {}), {})
    return raw


def _each(raw: Any, renamed: Mapping[str, Mapping[str, str]], changes: Mapping[str, Change]) -> Any:
    if isinstance(raw, list):
        return [_each(item, renamed, changes) for item in raw]
    if not isinstance(raw, dict):
        return raw
    kind = kind_of(raw)
    names = renamed.get(kind, {})
    found = {
        names.get(key, key) if names.get(key) not in raw else key: _each(value, renamed, changes)
        for key, value in raw.items()
    }
    return changes[kind](found) if kind in changes else found
