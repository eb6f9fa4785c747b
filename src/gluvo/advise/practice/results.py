"""What practice came to, kept on this machine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import msgspec
import platformdirs

from gluvo.errors import GluvoError
from gluvo.session.codec import Format
from gluvo.session.files import read_whole, reason_of, replacing
from gluvo.session.migrations import VERSION

MOST_BYTES = 32 << 20
MOST_ROUNDS = 5000
"""That are kept, the newest."""


class Answer(msgspec.Struct, frozen=True, kw_only=True):
    """One question, and whether it was answered right."""

    size: float
    freq: float = 0.0
    right: bool


class Round(msgspec.Struct, frozen=True, kw_only=True):
    """Questions of one exercise, one after the other."""

    exercise: Annotated[str, msgspec.Meta(max_length=100)]
    made: Annotated[str, msgspec.Meta(max_length=40)] = ""
    """When, local time (ISO 8601)."""
    song: Annotated[str, msgspec.Meta(max_length=1000)] = ""
    answers: Annotated[tuple[Answer, ...], msgspec.Meta(max_length=1000)] = ()
    threshold: float | None = None
    """The size that is heard more often than not; None where there were too few answers."""


class Results(msgspec.Struct, frozen=True, kw_only=True):
    """All rounds, the oldest first."""

    format: Literal["gluvo-practice"] = "gluvo-practice"
    version: Annotated[int, msgspec.Meta(ge=1)] = VERSION
    rounds: Annotated[tuple[Round, ...], msgspec.Meta(max_length=MOST_ROUNDS)] = ()

    def of(self, exercise: str) -> tuple[Round, ...]:
        return tuple(r for r in self.rounds if r.exercise == exercise)

    def with_round(self, made: Round) -> Results:
        """With another round; the oldest go where there are too many."""
        return msgspec.structs.replace(self, rounds=(*self.rounds, made)[-MOST_ROUNDS:])


FORMAT = Format("gluvo-practice", Results, "practice file")


def practice_file() -> Path:
    """Where the results are kept."""
    return Path(platformdirs.user_data_dir("gluvo", appauthor=False)) / "practice.json"


def read_results(path: Path | None = None) -> Results:
    """What is kept; nothing where there is no file yet. Raises `GluvoError` where it cannot be read."""
    path = path or practice_file()
    try:
        return FORMAT.decoded(read_whole(path, MOST_BYTES), path.name).record
    except FileNotFoundError:
        return Results()
    except (OSError, ValueError) as error:
        raise GluvoError(f"{path.name} cannot be read ({reason_of(error)}).") from None


def add_round(made: Round, path: Path | None = None) -> Results:
    """Keep a round with those that are there, also those of other windows; all of them. Raises `GluvoError` where what is there
    cannot be read, and leaves it alone then, or where it cannot be written."""
    path = path or practice_file()
    results = read_results(path).with_round(made)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise GluvoError(f"{path.parent} cannot be made ({reason_of(error)}).") from None
    with replacing(path) as file:
        file.write(FORMAT.encoded(results))
    return results


@dataclass(frozen=True)
class ByFreq:
    """How well one hears at a frequency."""

    freq: float
    asked: int
    right: int
    smallest: float | None
    """The smallest size that was heard more often than not, of those asked twice or more."""


def by_frequency(rounds: Sequence[Round]) -> tuple[ByFreq, ...]:
    """The answers of rounds by the frequency that was asked for."""
    answers = [a for r in rounds for a in r.answers if a.freq > 0.0]
    found = []
    for freq in sorted({a.freq for a in answers}):
        mine = [a for a in answers if a.freq == freq]
        heard = [
            size
            for size in sorted({a.size for a in mine})
            if len(s := [a.right for a in mine if a.size == size]) >= 2 and sum(s) > 0.5 * len(s)
        ]
        found.append(ByFreq(freq, len(mine), sum(a.right for a in mine), heard[0] if heard else None))
    return tuple(found)
