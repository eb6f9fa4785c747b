"""Alternatives of the open session: made, chosen, named and taken away, each as an edit."""

from __future__ import annotations

from gluvo.compare.hearables import alternatives_at_hand
from gluvo.desk.model.open_session import OpenSession
from gluvo.session import alternatives
from gluvo.session.records import Alternatives, Session


class SideBySide:
    """The alternatives that are at hand: of the chosen step, of what it is in, or of its chain."""

    def __init__(self, bench: OpenSession) -> None:
        self._bench = bench

    @property
    def of(self) -> str:
        """What they are of: the id of a step, a container or a strip; empty where there are none."""
        return alternatives_at_hand(self._bench.session)

    @property
    def found(self) -> Alternatives | None:
        return alternatives.found(self._bench.session, self.of) if self.of else None

    @property
    def what(self) -> str:
        """In words, what they are of."""
        session, of = self._bench.session, self.of
        item, strip = session.item(of), session.strip(of)
        return item.called if item is not None else f"Chain of {strip.name}" if strip is not None else ""

    @property
    def beside(self) -> Session | None:
        """The session with the next of them in the chain: what the present one is compared with on screen."""
        found = self.found
        if found is None:
            return None
        return alternatives.choosing(self._bench.session, self.of, (found.chosen + 1) % len(found.settings))

    def another(self) -> None:
        """One more, as the present one is: of the chosen step, or of the chain where what comes in is chosen. From then on
        it is that one that is edited."""
        session = self._bench.session
        id = session.view.step or session.view.strip
        item, strip = session.item(id), session.strip(id)
        name = item.called if item is not None else strip.name if strip is not None else ""
        self._bench.edit(f"Alternative of {name}", lambda s: alternatives.with_another(s, id))

    def next(self, by: int = 1) -> None:
        """The next of them in the chain, round and round."""
        found = self.found
        if found is None:
            self._bench.refuse(
                "There are no alternatives here. Ctrl+Alt+A makes one of the chosen step; of the whole chain, where “In” is "
                "chosen."
            )
            return
        self.choose((found.chosen + by) % len(found.settings))

    def choose(self, n: int) -> None:
        """Have one of them in the chain."""
        found, of = self.found, self.of
        if found is not None and n != found.chosen:
            name = alternatives.name_of(found, n)
            self._bench.edit(f"{self.what}: {name}", lambda s: alternatives.choosing(s, of, n))

    def remove(self, n: int | None = None) -> None:
        """Take one of them away; the present one, if none is said."""
        found, of = self.found, self.of
        if found is not None:
            gone = found.chosen if n is None else n
            name = alternatives.name_of(found, gone)
            self._bench.edit(f"Remove {self.what} {name}", lambda s: alternatives.removed(s, of, gone))

    def rename(self, n: int, name: str) -> None:
        of = self.of
        self._bench.edit(f"Name of {self.what}", lambda s: alternatives.renamed(s, of, n, name))
