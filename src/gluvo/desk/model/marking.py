"""Rows that are marked: kept while one looks elsewhere, and what is done with all of them at once."""

from __future__ import annotations

from PySide6.QtGui import QGuiApplication

from gluvo.desk.model.open_session import OpenSession
from gluvo.errors import GluvoError
from gluvo.session import marks
from gluvo.session.clipboard import copied, pasted
from gluvo.session.records import Session


class Marking:
    """The marks of the open session. Where nothing is marked, what is done is done with the row that is named."""

    def __init__(self, bench: OpenSession) -> None:
        self._bench = bench

    @property
    def ids(self) -> tuple[str, ...]:
        """What is marked and there, in the order of the tree and of the ledgers."""
        return marks.marked(self._bench.session)

    def toggle(self, id: str) -> None:
        """Mark a row, or take its mark away."""
        now = self.ids
        self._bench.look(marks=tuple(i for i in now if i != id) if id in now else (*now, id))

    def add(self, ids: list[str]) -> None:
        """Mark rows."""
        self._bench.look(marks=tuple(dict.fromkeys((*self.ids, *ids))))

    def clear(self) -> None:
        self._bench.look(marks=())

    def tell_gone(self) -> None:
        """Take off the marks that a file has on what is not there, and say so."""
        there, wanted = self.ids, self._bench.session.view.marks
        gone = len(set(wanted) - set(there))
        if gone:
            told = (
                "A mark stood on what is gone, and is" if gone == 1 else f"{gone} marks stood on what is gone, and are"
            )
            self._bench.look(marks=there)
            self._bench.tell(f"{told} taken off.", False)

    def meant(self, id: str) -> tuple[str, ...]:
        """What is marked, or the row of that id."""
        return self.ids or ((id,) if id else ())

    # --- what is done with all of them ---------------------------------------------------------------------

    def copy(self, id: str) -> bool:
        """Remember them for the clipboard; whether there was anything."""
        items = marks.items_of(self._bench.session, self.meant(id))
        if not items:
            self._bench.refuse("There is no step to be copied here.")
            return False
        QGuiApplication.clipboard().setText(copied(items))
        return True

    def remove(self, id: str) -> None:
        meant = self.meant(id)
        items = marks.items_of(self._bench.session, meant)
        if items:
            self._bench.edit(f"Remove {_of(items[0].title, len(items))}", lambda s: marks.removed(s, meant))
        elif meant:
            self._bench.refuse("Bands are taken out one by one: take the marks away first (Ctrl+Shift+Space).")

    def switch(self, id: str) -> None:
        """Off, if all are on; else on."""
        meant, session = self.meant(id), self._bench.session
        on = not marks.all_on(session, meant)
        items = marks.items_of(session, meant)
        name = _of(items[0].title if items else "Band", max(1, len(items)))
        self._bench.edit(f"{name} {'on' if on else 'off'}", lambda s: marks.switched(s, meant, on))

    def shift(self, id: str, by: int) -> None:
        """Each of them a place earlier (−1) or later (1)."""
        meant = self.meant(id)
        self._bench.edit("Move step" if len(meant) == 1 else "Move steps", lambda s: marks.moved(s, meant, by))

    def duplicate(self, id: str) -> None:
        """Each once more, right behind it; the last new one is chosen."""
        meant, made = self.meant(id), list[str]()
        items = marks.items_of(self._bench.session, meant)

        def edit(session: Session) -> Session:
            session, new = marks.duplicated(session, {item.id for item in items})
            made[:] = new
            return session

        if items and self._bench.edit(f"Duplicate {_of(items[0].title, len(items))}", edit) and made:
            self._look_at(made[-1])

    def paste(self, strip: str, after: str = "", inside: str = "") -> None:
        """Put in what was copied, here or in another window. Other text is refused with a sentence."""
        section, made = self._bench.session.view.section, list[str]()
        try:
            items = pasted(QGuiApplication.clipboard().text())
        except GluvoError as error:
            self._bench.refuse(str(error))
            return

        def edit(session: Session) -> Session:
            session, new = marks.put_in(session, items, strip, after, inside, section)
            made[:] = new
            return session

        if self._bench.edit(f"Add {_of(items[0].title, len(items))}", edit) and made:
            self._look_at(made[-1])

    def duplicate_strip(self, id: str) -> None:
        """A stem or bus once more, with its chain and what flows into it; stems share their files."""
        strip, made = self._bench.session.strip(id), list[str]()
        if strip is None or strip.id == self._bench.session.mix.id:
            self._bench.refuse("There is one mix bus. Choose a stem or a bus to be there twice.")
            return

        def edit(session: Session) -> Session:
            session, new = marks.with_strip_again(session, id)
            made[:] = [new]
            return session

        if self._bench.edit(f"Duplicate {strip.name}", edit) and made[0]:
            self._bench.choose_strip(made[0])

    def _look_at(self, id: str) -> None:
        strip = self._bench.session.strip_with(id)
        if strip is not None:
            self._bench.look(strip=strip.id, step=id, band=0)


def _of(title: str, count: int) -> str:
    """What an action is of: the only one, or how many."""
    return title if count == 1 else f"{count} steps"
