"""Which watch-outs are not told any more, one by one or by kind; and when they come back."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar

from gluvo.session.records import Dismissed, Session

GROWN = 4.0 / 3.0
"""How many times as far past its limit something must be to be told again."""
SOME = 0.05
"""As much again, whatever the limit: a figure that moves by rounding is no other."""


class Told(Protocol):
    """What can be dismissed."""

    @property
    def kind(self) -> str: ...
    @property
    def key(self) -> str: ...
    @property
    def excess(self) -> float: ...


AnyTold = TypeVar("AnyTold", bound=Told)


def is_dismissed(session: Session, told: Told) -> bool:
    """Whether something has been dismissed, and has not grown by a third since."""
    return any(
        d.kind == told.kind and d.key in ("", told.key) and told.excess <= GROWN * d.excess + SOME
        for d in session.dismissed
    )


def not_dismissed(session: Session, found: Iterable[AnyTold]) -> tuple[AnyTold, ...]:
    """Those that are to be told."""
    return tuple(one for one in found if not is_dismissed(session, one))


def with_dismissed(session: Session, told: Told) -> Session:
    """The session with something not told any more."""
    rest = tuple(d for d in session.dismissed if (d.kind, d.key) != (told.kind, told.key))
    return session.replace(dismissed=(*rest, Dismissed(kind=told.kind, key=told.key, excess=told.excess)))


def with_kind_dismissed(session: Session, kind: str, told: Sequence[Told]) -> Session:
    """The session with a whole kind not told any more; `told`: what there is of it now."""
    rest = tuple(d for d in session.dismissed if d.kind != kind)
    most = max((one.excess for one in told if one.kind == kind), default=0.0)
    return session.replace(dismissed=(*rest, Dismissed(kind=kind, excess=most)))


def brought_back(session: Session, told: Told) -> Session:
    """The session with something told again, and with it all that was dismissed by its kind."""
    kept = tuple(d for d in session.dismissed if d.kind != told.kind or d.key not in ("", told.key))
    return session.replace(dismissed=kept)
