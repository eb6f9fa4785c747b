"""Watch-outs: what is wrong with this song, most audible first; each with its evidence, and one edit that is offered."""

from __future__ import annotations

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QKeyEvent, QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.advise.watchouts import KINDS, WatchOut
from gluvo.desk.charts.evidence_view import EvidenceView
from gluvo.desk.controls.flow import Flow, Lines
from gluvo.desk.controls.keys import claimed
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import Toggle, button, label, line
from gluvo.desk.model.following import Follower
from gluvo.desk.model.trying import Trying
from gluvo.desk.model.watching_out import FIRST
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.base import PageWidget
from gluvo.session import tree

BARS = "▁▂▃▄▅▆▇█"
"""How much can be heard, from hardly to very."""
KEYS = "↑ ↓ choose  ·  Enter goes there and loops it  ·  H hears it  ·  B before, after  ·  E makes the edit  ·  Delete dismisses"
_KIND = {kind.id: kind for kind in KINDS}


class WatchTable(Table):
    """The list, with keys of its own."""

    OWN = (Qt.Key.Key_B, Qt.Key.Key_E, Qt.Key.Key_Delete)

    def __init__(self, page: WatchPage) -> None:
        super().__init__(
            "Watch-outs",
            "What was found, most audible first. Enter goes to the place and loops it, H hears what it is about, B hears the "
            "song before and after the edit that is offered, E makes it, Delete dismisses (with Shift all of the kind).",
            (("", 34), ("Where", 168), ("What", 0)),
            40,
            hears=True,
        )
        self._page = page
        self.setWordWrap(True)

    def event(self, event: QEvent) -> bool:
        return claimed(event, self.OWN) or super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        one = self._page.chosen
        plain = not event.modifiers() & ~(Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier)
        if one is not None and plain and event.key() in self.OWN and not event.isAutoRepeat():
            if event.key() == Qt.Key.Key_B:
                self._page.compare()
            elif event.key() == Qt.Key.Key_E:
                self._page.make()
            elif event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
                self._page.dismiss_kind()
            else:
                self._page.dismiss()
        else:
            super().keyPressEvent(event)


class WatchPage(PageWidget):
    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench, self._watching = bench, bench.watching_out
        self._shown: tuple[WatchOut, ...] = ()
        self._all = self._dismissed = False
        self._comparing = ""
        """The key of the one whose edit is heard."""
        self._trying = Trying(bench, lambda _: None)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 10, 16, 8)
        column.setSpacing(6)
        head = QHBoxLayout()
        head.setSpacing(12)
        self.title = label("", "title")
        self.state = label("", "caption")
        self.more = button("", "Show all of them, or the five of which most can be heard.", self._flip_all)
        self.gone = button("", "Show what was dismissed; Delete brings it back.", self._flip_dismissed, checkable=True)
        head.addWidget(self.title)
        head.addWidget(self.state)
        head.addStretch(1)
        self.reported = Toggle(
            "In the report", "Reports of this song tell its watch-outs, too; those that are dismissed not."
        )
        self.reported.toggled.connect(lambda on: bench.look(report_watch_outs=on))
        head.addWidget(self.more)
        head.addWidget(self.gone)
        head.addWidget(self.reported)
        column.addLayout(head)
        row = QHBoxLayout()
        row.setSpacing(16)
        self.table = WatchTable(self)
        self.table.entered.connect(lambda _: self.go())
        self.table.heard.connect(lambda _: self.hear())
        self.table.currentCellChanged.connect(lambda *_: self._show_chosen())
        row.addWidget(self.table, 5)
        row.addWidget(line(vertical=True))
        row.addWidget(self._details(), 4)
        column.addLayout(row, 1)
        column.addWidget(label(KEYS, "caption"))
        self._watching.changed.connect(self.refresh)
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.dismissed, s.view.hear, s.view.solo, s.view.page, s.view.report_watch_outs),
        )
        self.refresh()

    def _details(self) -> QWidget:
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.text = Lines(2)
        self.text.setStyleSheet("font-size: 15px; font-weight: 600;")
        self.detail = Lines(2, "caption")
        self.picture = EvidenceView()
        self.picture.setMinimumHeight(150)
        self.offered = Lines(2)
        buttons, flow = QWidget(), Flow(across=8)
        buttons.setLayout(flow)
        self.hear_button = button(
            "Hear", "Hear what it is about, looped where it is heard (H).", self.hear, checkable=True
        )
        self.compare_button = button(
            "Before / after",
            "Hear the song with the edit that is offered, at equal loudness; again for the song as it is (B).",
            self.compare,
            checkable=True,
        )
        self.make_button = button("Make this edit", "One ordinary edit, that Ctrl+Z takes back (E).", self.make, "main")
        self.dismiss_button = button("Dismiss", "Tell it no more, unless it grows by a third (Delete).", self.dismiss)
        self.kind_button = button(
            "Dismiss the kind",
            "Tell none of its kind in this song, unless one grows by a third (Shift+Delete).",
            self.dismiss_kind,
        )
        for made in (self.hear_button, self.compare_button, self.make_button, self.dismiss_button, self.kind_button):
            flow.addWidget(made)
        self.why = Lines(3, "caption")
        column.addWidget(self.text)
        column.addWidget(self.detail)
        column.addWidget(self.picture, 1)
        column.addWidget(self.offered)
        column.addWidget(buttons)
        column.addWidget(self.why)
        return holder

    def showEvent(self, event: QShowEvent) -> None:
        """So that its keys work at once."""
        super().showEvent(event)
        self.table.setFocus()

    # --- what the user does ----------------------------------------------------------------------------------

    @property
    def chosen(self) -> WatchOut | None:
        """The one that is looked at."""
        row = self.table.currentRow()
        return self._shown[row] if 0 <= row < len(self._shown) else None

    def go(self) -> None:
        """Loop the place, with the step chosen; it is shown by Ctrl+2."""
        if (one := self.chosen) is not None:
            self._end_comparing()
            self._watching.go(one)

    def hear(self) -> None:
        if (one := self.chosen) is not None:
            self._end_comparing()
            self._watching.hear(one)
            self._show_chosen()

    def compare(self) -> None:
        """The song with the edit that is offered, or as it is."""
        one = self.chosen
        if one is None:
            return
        if self._comparing == one.key or one.offer is None:
            self._end_comparing()
            if one.offer is None:
                self._bench.refuse("No edit is offered here.")
        else:
            self._comparing = one.key
            self._trying.hear(one.offer.edit(self._bench.session))
            if self._bench.listening.passing != one.span:
                self._bench.listening.loop_span(one.span)
        self._show_chosen()

    def _end_comparing(self) -> None:
        if self._comparing:
            self._comparing = ""
            self._trying.end()

    def make(self) -> None:
        if (one := self.chosen) is not None:
            self._end_comparing()
            self._watching.make(one)

    def dismiss(self) -> None:
        """Dismiss the chosen one; where those that were are shown, bring it back."""
        if (one := self.chosen) is not None:
            (self._watching.bring_back if self._dismissed else self._watching.dismiss)(one)

    def dismiss_kind(self) -> None:
        if (one := self.chosen) is not None and not self._dismissed:
            self._watching.dismiss_kind(one)

    def _flip_all(self) -> None:
        self._all = not self._all
        self.refresh()

    def _flip_dismissed(self) -> None:
        self._dismissed = not self._dismissed
        self.refresh()

    # --- keeping up ------------------------------------------------------------------------------------------

    def refresh(self) -> None:
        watching, before = self._watching, self.chosen
        if self._bench.session.view.page != "watch":
            self._end_comparing()
        told, gone = watching.told, watching.dismissed
        self._dismissed = self._dismissed and bool(gone)
        listed = gone if self._dismissed else told
        self._shown = listed if self._all or self._dismissed else listed[:FIRST]
        count = len(told)
        self.title.setText("No watch-outs" if not count else f"{count} watch-out{'s' if count > 1 else ''}")
        looked = f"of what was measured in this song · {watching.kinds_without} of {len(KINDS)} kinds found nothing"
        self.state.setText(
            looked
            if watching.current
            else "being looked for …"
            if not watching.found
            else f"{looked} · looking again …"
        )
        self.more.setVisible(len(listed) > FIRST and not self._dismissed)
        self.more.setText("First five" if self._all else f"All {len(listed)}")
        self.reported.set_on(self._bench.session.view.report_watch_outs)
        self.gone.setVisible(bool(gone))
        self.gone.setText(f"Dismissed {len(gone)}")
        self.gone.setChecked(self._dismissed)
        self._fill(before.key if before is not None else "")

    def _fill(self, chosen: str) -> None:
        names, row = tree.names(self._bench.session), max(0, self.table.currentRow())
        self.table.blockSignals(True)
        self.table.setRowCount(len(self._shown))
        for n, one in enumerate(self._shown):
            height = BARS[min(len(BARS) - 1, int(one.audible * len(BARS)))]
            self.table.show_line(n, ((height, "mid"), (self._where(one, names), "ink"), (one.text, "ink")))
        keys = [one.key for one in self._shown]
        at = keys.index(chosen) if chosen in keys else min(row, len(keys) - 1)
        if keys:
            self.table.setCurrentCell(at, 0)
        self.table.resizeRowsToContents()
        self.table.blockSignals(False)
        self._show_chosen()

    def _where(self, one: WatchOut, names: dict[str, str]) -> str:
        item = self._bench.session.item(one.step)
        strip = names.get(one.strip, "")
        return f"{strip} · {item.called}" if item is not None else strip

    def _show_chosen(self) -> None:
        one = self.chosen
        self.text.setText(one.text if one is not None else "Nothing that was looked for stands out.")
        self.detail.setText(
            one.detail if one is not None else "" if self._watching.current else "The song is still being looked at."
        )
        self.picture.setVisible(one is not None)
        self.picture.show_evidence(one.evidence if one is not None else None)
        self.offered.setText(f"Offered: {one.offer.words}." if one is not None and one.offer is not None else "")
        for made in (self.hear_button, self.compare_button, self.make_button, self.dismiss_button, self.kind_button):
            made.setVisible(one is not None)
        self.why.setText("")
        if one is not None:
            offers = one.offer is not None and not self._dismissed
            self.compare_button.setEnabled(offers)
            self.make_button.setEnabled(offers)
            self.dismiss_button.setText("Bring back" if self._dismissed else "Dismiss")
            self.kind_button.setVisible(not self._dismissed)
            self.compare_button.setChecked(self._comparing == one.key)
            self.hear_button.setChecked(self._watching.is_heard(one))
            kind = _KIND[one.kind]
            limit = f"{one.limit:g} {one.unit}".strip().replace("-", "−")
            self.why.setText(f"Found by: {kind.formula} Limit {limit}: {kind.why}")
