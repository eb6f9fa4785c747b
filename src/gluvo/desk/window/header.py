"""The bar at the top of the window: session, pages, transport, device."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QWidget,
)

from gluvo.desk.controls.flow import Elided
from gluvo.desk.controls.theme import colours, theme
from gluvo.desk.controls.widgets import Toggle, button, clock, label, plain
from gluvo.desk.model.following import Follower
from gluvo.desk.model.workbench import Workbench
from gluvo.desk.pages.registry import PAGES, place_of


class Header(QWidget):
    """Session, pages, transport, device."""

    def __init__(self, bench: Workbench) -> None:
        super().__init__()
        self._bench = bench
        self.setFixedHeight(44)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(8)
        row.addWidget(Brand())
        self._name = Elided("", "caption", 210)
        self._name.setStyleSheet("font-size: 13px;")
        row.addWidget(self._name, 2)
        self._tabs = QButtonGroup(self)
        self.tabs: dict[str, QPushButton] = {}
        for n, page in enumerate(PAGES, start=1):
            tab = button(page.name, f"{page.tip} (Ctrl+{n})", kind="tab", checkable=True)
            tab.clicked.connect(lambda _=False, key=page.key: bench.look(page=key))
            self._tabs.addButton(tab)
            self.tabs[page.key] = tab
            if page.has_tab:
                row.addWidget(tab)
        row.addStretch(1)
        row.addSpacing(4)
        self.play = button("▶", "Play or stop (Space).", bench.listening.toggle_play, "main")
        self.play.setFixedWidth(36)
        self.play.setAccessibleName("Play")
        row.addWidget(self.play)
        self.loop = Toggle("Loop", "Play the chosen section, or the whole song, over and over (L).")
        self.loop.toggled.connect(lambda on: bench.look(loop=on))
        self._position = label("0:00.0")
        self._position.setStyleSheet("font-size: 17px; font-weight: 600;")
        self._position.setFixedWidth(66)
        self._position.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self._position)
        self._where = Elided("", "", 190)
        row.addWidget(self._where, 2)
        row.addWidget(self.loop)
        self.watch = self.tabs["watch"]
        row.addWidget(self.watch)
        self._ears = Elided("", "caption", 100)
        self._ears.setToolTip(
            "How long you have listened since the last break of ten minutes, and how loud on average, as sent to the "
            "loudspeakers (Listen › Ears)."
        )
        row.addWidget(self._ears)
        self._device = Elided("", "caption", 230, Qt.TextElideMode.ElideLeft)  # the dropouts stand at the right
        self._device.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self._device, 2)
        self._with_a_session = (
            self._name,
            *self.tabs.values(),
            self.play,
            self._position,
            self._where,
            self.loop,
            self._ears,
            self._device,
        )
        bench.watching_out.changed.connect(self._count)
        Follower(self, bench, self._count, session=lambda s: (s.dismissed,))
        self._count()
        Follower(
            self,
            bench,
            self.refresh,
            session=lambda s: (s.name, s.view.page, s.view.loop, s.section(s.view.section)),
            besides=lambda: (self._state, bench.document.path, bench.audio.material),
        )

    def show_session(self, there: bool) -> None:
        """Pages, transport and device, or (without a session) only the name of the program."""
        for widget in self._with_a_session:
            widget.setVisible(there)

    def _count(self) -> None:
        """How many watch-outs there are; the figure stays as it was while it is looked anew."""
        count = len(self._bench.watching_out.told)
        self.watch.setText("No watch-outs" if not count else f"{count} watch-out{'s' if count > 1 else ''}")

    @property
    def _state(self) -> str:
        """Whether the session is saved, or whose it is."""
        document = self._bench.document
        if document.read_only:
            return "reading only"
        if not document.ever_saved:
            return "not saved yet"
        return "changed" if document.changed else "saved"

    def refresh(self) -> None:
        session = self._bench.session
        text = f"{session.name} · {self._state}"
        self._name.setText(text)
        self._name.setToolTip(plain(str(self._bench.document.path)))
        self.tabs[PAGES[place_of(session.view.page)].key].setChecked(True)
        self.loop.set_on(session.view.loop)
        song = self._bench.audio.material
        doing = "looping" if session.view.loop else "in"
        self._where.setText(f"/ {clock(song.seconds, False) if song else '0:00'} · {doing} {self._bench.span_name}")

    def tick(self, ears: str) -> None:
        """Thirty times a second; `ears`: how long and how loud one has listened, in a few words."""
        if ears != self._ears.text():
            self._ears.setText(ears)
        engine = self._bench.engine
        if engine is None:
            self._device.setText("no audio")
            return
        self._position.setText(clock(engine.position))
        playing = "■" if engine.playing else "▶"
        if self.play.text() != playing:
            self.play.setText(playing)
        n = engine.dropouts
        text = f"{engine.device_name} · {engine.rate / 1000:g} kHz · {n} dropout{'' if n == 1 else 's'}"
        stalled = (
            f" {engine.stalls} times it was reckoned in time, and the computer stood still." if engine.stalls else ""
        )
        self._device.setText(f"silent: {engine.failed}" if engine.failed else text)
        self._device.setToolTip(f"Where the sound goes, and how often it was late (Listen › Device).{stalled}")


class Brand(QLabel):
    """The name, with its one coloured letter."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "brand")
        theme.changed.connect(self._dress)
        self._dress()

    def _dress(self) -> None:
        self.setText(f"gluv<span style='color:{colours().signal}'>o</span>")
