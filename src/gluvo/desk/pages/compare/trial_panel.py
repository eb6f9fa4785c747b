"""Blind trials: what is tried, and what came of those that were made."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from gluvo.compare.hearables import CHOSEN, GROUPS, SIDE_BY_SIDE, VERSIONS, Hearable
from gluvo.compare.match import RESULT, UNTOUCHED
from gluvo.compare.trial import MOST_CANDIDATES, Running, finished, meaning
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import Segments, button, label
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.session.records import Trial
from gluvo.steps.settings import Setting

KINDS = (("ab", "Which is better"), ("abx", "Tell apart"), ("rank", "Rank"))
TRIES = Setting(
    "tries",
    "Tries",
    "How often it is asked. Twelve can tell a lot; under six tell nothing.",
    "number",
    12.0,
    low=1.0,
    high=50.0,
    decimals=0,
    fine=1.0,
)


class TrialPanel(QWidget):
    """Two are compared, or up to six ranked; anything that can be heard."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.kind = Segments(
            list(KINDS),
            "Which is better: two, again and again. Tell apart: is X the first or the second? Rank: up to six, best first.",
        )
        self.kind.set_chosen("ab")
        self.kind.chosen.connect(lambda _: self._follow())
        row = QHBoxLayout()
        row.addWidget(self.kind)
        row.addStretch(1)
        column.addLayout(row)
        self.candidates = Table(
            "Candidates",
            "What takes part: Enter or a click marks it. All are played equally loud; the order is drawn anew for each try.",
            (("", 26), ("What takes part", 0), ("Kind", 100)),
            24,
        )
        self.candidates.entered.connect(self._mark)
        self.candidates.cellClicked.connect(lambda row, _column: self._mark(row))
        column.addWidget(self.candidates, 3)
        row = QHBoxLayout()
        self.tries = Ruler(TRIES)
        self.tries.set_value(12.0)
        self.tries.setFixedWidth(150)
        self.tries.moved.connect(self.tries.set_value)
        row.addWidget(self.tries)
        self.state = label("", "caption")
        row.addWidget(self.state, 1)
        self.start = button("Start", "Begin: the window is covered, and keys alone count.", self.begin, "main")
        row.addWidget(self.start)
        column.addLayout(row)
        self.table = Table(
            "Trials that were made",
            "What came of each trial, and what it means. They are kept in the session and stand in its report.",
            (("Made", 84), ("What came of it", 0)),
            34,
        )
        self.table.setWordWrap(True)
        column.addWidget(self.table, 4)
        self._found: list[Hearable] = []
        self._marked = {RESULT, UNTOUCHED}
        self._proposed = ""
        """The version that was marked unasked, since it is the newest."""
        self._waits = False
        """Whether it begins once all that takes part is measured."""
        self._shown: object = None
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.trials,),
            besides=lambda: (bench.listening.hearables(), tuple(bench.listening.extras), bench.engine),
        )
        Follower(self, bench, self._begin_if_measured, picture=lambda p: (p.gains,))

    @property
    def chosen(self) -> list[Hearable]:
        """What takes part."""
        return [h for h in self._found if h.id in self._marked]

    def choose(self, ids: Iterable[str]) -> None:
        """Mark what takes part."""
        self._marked = set(ids)
        self._fill()
        self._follow()

    def _mark(self, row: int) -> None:
        if 0 <= row < len(self._found):
            self.choose(self._marked ^ {self._found[row].id})

    def _fill(self) -> None:
        self.candidates.setRowCount(len(self._found))
        for n, h in enumerate(self._found):
            on = h.id in self._marked
            self.candidates.show_line(
                n, (("●" if on else "○", "signal" if on else "faint"), (h.name, "ink"), (GROUPS[h.group], "faint"))
            )
        self.candidates.choose_first()

    def _follow(self) -> None:
        count, rank = len(self.chosen), self.kind.chosen_key == "rank"
        fits = 2 <= count <= MOST_CANDIDATES if rank else count == 2
        waiting = [h.name for h in self.chosen if h.group == VERSIONS and h.id not in self._bench.listening.extras]
        self.tries.setEnabled(not rank)
        self.start.setEnabled(fits and self._bench.engine is not None)
        wanted = f"two to {MOST_CANDIDATES}" if rank else "two"
        later = f"{', '.join(waiting)} will be rendered first." if waiting else ""
        self.state.setText("Measuring…" if self._waits else f"Mark {wanted}." if not fits else later)

    def rank(self, ids: Sequence[str]) -> None:
        """Rank these at once."""
        self.refresh()
        self.kind.set_chosen("rank")
        self.choose(ids)
        self.begin()

    def begin(self) -> None:
        """Start, once all that takes part can be heard at once."""
        bench = self._bench
        for heard in self.chosen:
            if heard.group == VERSIONS and heard.id not in bench.listening.extras:
                bench.versions.ready(heard.id, then=self.begin)
                return
        bench.look(at_hand=tuple(h.id for h in self.chosen if h.group in (CHOSEN, SIDE_BY_SIDE)))
        self._waits = not all(heard.id in bench.picture.gains for heard in self.chosen)
        if self._waits:  # none may be told from the others by being louder
            self._follow()
            return
        candidates = self.chosen
        running = Running(self.kind.chosen_key, len(candidates), round(self.tries.value))  # type: ignore[arg-type]
        TrialDialog(self.window(), bench, candidates, running).exec()
        bench.look(at_hand=())
        made = datetime.now().isoformat(timespec="seconds")
        trial = finished(running, bench.session.fresh_id("trial"), [h.name for h in candidates], made)
        if trial.answers:
            bench.keep(lambda s: s.replace(trials=(*s.trials, trial)))
        else:
            bench.tell(meaning(trial), False)

    def _begin_if_measured(self) -> None:
        if self._waits and self.isVisible() and len(self.chosen) > 1:
            self.begin()

    def refresh(self) -> None:
        if not self.isVisible():
            return
        bench = self._bench
        found = [h for h in bench.listening.hearables() if not h.is_difference]
        if [(h.id, h.name) for h in found] != [(h.id, h.name) for h in self._found]:
            self._found = found
            self._propose()
            self._fill()
        trials: tuple[Trial, ...] = bench.session.trials
        if trials != self._shown:
            self._shown = trials
            self.table.setRowCount(len(trials))
            for n, trial in enumerate(reversed(trials)):
                when = trial.made.replace("T", " ")[5:16]
                self.table.show_line(n, ((when, "faint"), (meaning(trial), "ink")))
            self.table.resizeRowsToContents()
        self._follow()

    def _propose(self) -> None:
        """Against the result the newest version, since that is what one asks oneself about; untouched, where there is none.
        What the user has marked stays."""
        newest = next((h.id for h in self._found if h.group == VERSIONS), UNTOUCHED)
        if self._marked == {RESULT, self._proposed or UNTOUCHED} and newest != self._proposed:
            self._marked, self._proposed = {RESULT, newest}, newest

    def showEvent(self, event: object) -> None:
        self.refresh()
