"""The menus: everything that can be done, each with its key."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QActionGroup, QKeySequence
from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QMessageBox

from gluvo import __version__
from gluvo.compare.match import DETECTOR, RESULT
from gluvo.desk.controls.finder import Finder, Placed
from gluvo.desk.controls.parts import menu_text
from gluvo.desk.controls.theme import theme
from gluvo.desk.editors.eq.bands import Bands
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.model.workbench import LOUDEST_SECONDS
from gluvo.desk.window.bars import MONITORS, PAGES
from gluvo.desk.window.documents import SESSION_FILTER
from gluvo.measure.trace import Span
from gluvo.play.device import SILENT, outputs
from gluvo.session import chains
from gluvo.session.media import AUDIO_SUFFIXES
from gluvo.session.records import MIX
from gluvo.steps import Glue

if TYPE_CHECKING:
    from gluvo.desk.window.window import Window

AUDIO_FILTER = f"Audio ({' '.join('*' + s for s in AUDIO_SUFFIXES)});;All files (*)"
CSV_FILTER = "Sections (*.csv);;All files (*)"


ALWAYS = ("New from a mix…", "New from stems…", "Open…", "Open the demo song", "Stop long work", "Quit")
"""What can be done without a session."""


def menu_title(menu: QMenu) -> str:
    return menu.title().replace("&", "")


class Menus:
    """Builds a window's menus; what is asked of it, the window does."""

    def __init__(self, window: Window) -> None:
        self._window, self._bench = window, window.bench
        self._recent_menu = QMenu("Open recent", window)
        self.placed: list[Placed] = []
        """Every action, with where it stands."""
        self._always: set[QAction] = set()
        self._places: dict[QMenu, str] = {}
        self._build()

    def allow(self, session: bool) -> None:
        """Offer what can be done: without a session only how to begin."""
        for placed in self.placed:
            if placed.action not in self._always:
                placed.action.setEnabled(session)
        self._add_menu.setEnabled(session)
        self._reference_menu.setEnabled(session)
        self.show_history()

    def show_history(self) -> None:
        """Name what undo and redo would do."""
        document = self._bench.document
        for action, word, name in ((self.undo, "Undo", document.undo_name), (self.redo, "Redo", document.redo_name)):
            action.setEnabled(name is not None)
            action.setText(f"{word} {menu_text(name)}" if name else word)

    def _build(self) -> None:
        ledger, bench, bar = self._window.shape.ledger, self._bench, self._window.menuBar()
        file = bar.addMenu("&File")
        self._action(file, "New from a mix…", "Ctrl+N", self.ask_mix, "Start a session with a stereo mix.")
        self._action(
            file,
            "New from stems…",
            "Ctrl+Shift+N",
            self.ask_stems,
            "Start a session with a folder of stems; folders inside it become buses.",
        )
        self._action(file, "Open…", "Ctrl+O", self.ask_open, "Open a session.")
        self._action(
            file,
            "Open the demo song",
            "Ctrl+Shift+D",
            lambda: self._window.attempt(self._window.documents.open_demo),
            "Ferry Hours, made by Gluvo itself, with faults to find.",
        )
        file.addMenu(self._recent_menu)
        self._recent_menu.aboutToShow.connect(self._fill_recent)
        file.addSeparator()
        self._action(file, "Save", "Ctrl+S", self._window.documents.save, "Save the session.")
        self._action(
            file, "Save as…", "Ctrl+Shift+S", self._window.documents.save_as, "Save the session somewhere else."
        )
        file.addSeparator()
        self._action(file, "Add stems…", "Ctrl+Shift+A", self._ask_more_stems, "Bring further stems into the session.")
        self._action(file, "Add references…", "Ctrl+Shift+R", self._ask_references, "Bring in tracks to compare with.")
        self._reference_menu = file.addMenu("Remove reference")
        self._reference_menu.aboutToShow.connect(self._fill_references)
        self._action(file, "Locate missing audio…", "", self._window.locate, "Say where files are that were not found.")
        file.addSeparator()
        self._action(
            file, "Write all deliverables", "Ctrl+E", self._window.deliver.write_all, "Render, write and measure."
        )
        file.addSeparator()
        self._action(file, "Stop long work", "Esc", self._window.leave, "Stop reading, searching or writing.")
        self._action(file, "Quit", "Ctrl+Q", self._window.close, "Close Gluvo.")
        self._always = {placed.action for placed in self.placed if placed.name in ALWAYS}
        edit = bar.addMenu("&Edit")
        self.undo = self._action(edit, "Undo", "Ctrl+Z", lambda: bench.document.undo(), "")
        self.redo = self._action(edit, "Redo", "Ctrl+Shift+Z", lambda: bench.document.redo(), "")
        edit.addSeparator()
        self._action(edit, "Cut step", "Ctrl+X", ledger.cut, "Take the chosen step out, to put it in elsewhere.")
        self._action(edit, "Copy step", "Ctrl+C", ledger.copy, "Remember the chosen step.")
        self._action(edit, "Paste step", "Ctrl+V", ledger.paste, "Put the remembered step in after the chosen one.")
        chain = bar.addMenu("&Chain")
        self._add_menu = ledger.add_menu()
        chain.addMenu(self._add_menu)
        for action in self._add_menu.actions():
            self.placed.append(Placed("Chain › Add step", action))
        self._action(chain, "Add lane", "Ctrl+Shift+L", ledger.add_lane, "A parallel chain around the chosen step.")
        self._action(
            chain,
            "Gentle and crushed",
            "Ctrl+Shift+G",
            lambda: bench.advice.gentle_and_crushed(bench.session.view.strip),
            "A gentle Glue, and one that crushes in a lane beside it, both aimed.",
        )
        self._action(chain, "Remove step", "Ctrl+Backspace", ledger.remove, "Take the chosen step out.")
        self._action(
            chain,
            "Step on or off",
            "Ctrl+B",
            lambda: ledger.switch(),
            "Let the sound pass the chosen step untouched, or not.",
        )
        self._action(chain, "Move step earlier", "Ctrl+Up", lambda: ledger.shift(-1), "")
        self._action(chain, "Move step later", "Ctrl+Down", lambda: ledger.shift(1), "")
        self._action(chain, "Previous step", "[", lambda: self._choose_step(-1), "")
        self._action(chain, "Next step", "]", lambda: self._choose_step(1), "")
        chain.addSeparator()
        self._action(
            chain,
            "Find threshold",
            "T",
            lambda: bench.advice.find_threshold(bench.session.view.step),
            "For the aim of the chosen Glue.",
        )
        self._action(
            chain, "Reach the target's loudness", "Ctrl+R", bench.advice.reach_target, "Drive the last limiter."
        )
        bands = chain.addMenu("Band of the Mid-side EQ")
        self._places[bands] = "Chain › Band of the Mid-side EQ"
        self._build_bands(bands)
        self._build_buses(bar.addMenu("&Buses"))
        listen = bar.addMenu("&Listen")
        self._action(listen, "Play or stop", "Space", bench.toggle_play, "")
        self._action(listen, "Loop", "L", lambda: bench.look(loop=not bench.session.view.loop), "")
        self._action(listen, "To the section's start", "Home", self._to_start, "")
        listen.addSeparator()
        for n in range(1, 10):
            action = self._action(listen, f"Hear {n}", str(n), partial(self._hear, n), "")
            action.setVisible(n <= 4)
            if n <= 4:
                action.setText(f"Hear {('the result', 'untouched', 'without the step', 'the change only')[n - 1]}")
        self._action(
            listen,
            "Level-matched",
            "M",
            lambda: bench.look(level_matched=not bench.session.view.level_matched),
            "",
        )
        monitor = listen.addMenu("Monitor view")
        self._places[monitor] = "Listen › Monitor view"
        for key, text, tip in MONITORS:
            self._action(
                monitor,
                text,
                f"Alt+{MONITORS.index((key, text, tip)) + 1}",
                partial(bench.look, monitor=key),
                tip,
            )
        self._action(
            listen, "Hear the detector", "H", self._hear_detector, "Of the chosen Glue. In an equaliser H hunts."
        )
        self._action(listen, "Dim", "D", lambda: bench.look(dim=not bench.session.view.dim), "")
        self._device_menu = listen.addMenu("Device")
        self._device_menu.aboutToShow.connect(self._fill_devices)
        song = bar.addMenu("&Song")
        self._action(song, "Next section", "N", lambda: self._window.choose_section(1), "")
        self._action(song, "Previous section", "P", lambda: self._window.choose_section(-1), "")
        self._action(song, "Whole song", "W", lambda: bench.look(section=""), "")
        self._action(
            song, f"Loudest {LOUDEST_SECONDS:.0f} s as a section", "Ctrl+L", self._window.section_from_loudest, ""
        )
        self._action(song, "Loudest span as a section…", "", self._ask_loudest, "As long as you say.")
        self._action(song, "What is in view as a section", "Ctrl+K", self._window.section_from_view, "")
        timeline = self._window.timeline
        self._action(song, "Rename section", "Ctrl+F2", lambda: timeline.rename(bench.session.view.section), "")
        self._action(song, "Remove section", "Ctrl+Shift+K", lambda: timeline.remove(bench.session.view.section), "")
        self._action(
            song, "Import sections…", "Ctrl+Shift+I", self._ask_import, "From CSV: name, start, end in seconds."
        )
        self._action(song, "Export sections…", "Ctrl+Shift+E", self._ask_export, "As CSV.")
        song.addSeparator()
        self._action(song, "Zoom in", "Ctrl++", lambda: self._window.timeline.zoom(0.5), "")
        self._action(song, "Zoom out", "Ctrl+-", lambda: self._window.timeline.zoom(2.0), "")
        self._action(song, "Zoom to the section", "Ctrl+G", lambda: self._window.timeline.zoom_to(bench.span), "")
        self._action(song, "Zoom to samples", "Ctrl+Shift+0", self._zoom_to_samples, "")
        self._action(song, "Higher waves", "Ctrl+Alt++", lambda: timeline.zoom_waves(1.5), "Draw the waveform larger.")
        self._action(
            song, "Lower waves", "Ctrl+Alt+-", lambda: timeline.zoom_waves(1 / 1.5), "Draw the waveform smaller."
        )
        self._action(song, "All of the song", "Ctrl+0", lambda: self._window.timeline.zoom_to(None), "")
        view = bar.addMenu("&View")
        for n, (key, text) in enumerate(PAGES, start=1):
            self._action(view, text, f"Ctrl+{n}", partial(bench.look, page=key), "")
        view.addSeparator()
        group = QActionGroup(self._window)
        for text, night in (("As the desktop", None), ("Day", False), ("Night", True)):
            action = self._action(view, text, "", partial(self._choose_theme, night), "")
            action.setCheckable(True)
            action.setChecked(theme.forced is night)
            group.addAction(action)
        help_menu = bar.addMenu("&Help")
        keys = self._action(help_menu, "Keys", "F1", lambda: self.find(keys=True), "All keys, by place.")
        find = self._action(help_menu, "Find an action", "F", self.find, "By a part of its name.")
        about = self._action(help_menu, "About Gluvo", "", self._about, "")
        self._always |= {keys, find, about, *group.actions()}

    def find(self, keys: bool = False) -> Finder:
        """Open the finder, or the page of keys."""
        finder = Finder(self._window, self.placed, keys=keys)
        finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        finder.open()
        return finder

    def _build_bands(self, menu: QMenu) -> None:
        def of_eq(act: Callable[[EqEditor], object]) -> Callable[[], None]:
            """Done if an equaliser is looked at."""

            def run() -> None:
                editor = self._window.shape.editor
                if isinstance(editor, EqEditor) and self._bench.session.view.page == "shape":
                    act(editor)

            return run

        def of_band(act: Callable[[Bands, int], object]) -> Callable[[], None]:
            return of_eq(
                lambda editor: act(editor.bands, editor.bands.chosen.id) if editor.bands.chosen is not None else None
            )

        bands = (
            ("Add band", "Ctrl+Shift+B", of_eq(lambda e: e.add_here()), "A bell of 0 dB at 1 kHz."),
            ("Duplicate to the other target", "Ctrl+D", of_band(Bands.double), "The two are linked."),
            ("Unlink from its twin", "Ctrl+Alt+D", of_band(Bands.unlink), "Each goes its own way."),
            ("Remove band", "Ctrl+Shift+Backspace", of_band(Bands.remove), ""),
            ("Band before", ",", of_eq(lambda e: e.bands.step(-1)), ""),
            ("Next band", ".", of_eq(lambda e: e.bands.step(1)), ""),
            ("Hear the band alone", "B", of_eq(lambda e: e.hear_band()), "Only what it adds or takes away."),
            ("Resonances", "R", of_eq(lambda e: e.toggle_resonances()), "What rings in the section."),
            ("Hunt with the pointer", "Shift+H", of_eq(lambda e: e.toggle_hunt()), "Or hold H and sweep."),
            ("Phase and group delay", "Shift+G", of_eq(lambda e: e.next_phase()), ""),
        )
        for text, key, act, tip in bands:
            self._action(menu, text, key, act, tip)

    def _build_buses(self, menu: QMenu) -> None:
        bench, tree = self._bench, self._window.buses.tree
        self._action(
            menu, "Group into a new bus", "Ctrl+J", tree.group, "The chosen strip flows through a bus of its own."
        )
        self._action(menu, "Rename", "F2", tree.rename, "Give the chosen strip another name.")
        self._action(
            menu, "Dissolve bus", "Ctrl+Shift+J", tree.dissolve, "What flowed into it flows on; its chain goes with it."
        )
        self._action(
            menu,
            "Remove strip",
            "Ctrl+Shift+Del",
            tree.remove,
            "Take it and what flows into it out of the song. The files stay.",
        )
        menu.addSeparator()
        self._action(menu, "Mute", "Shift+M", tree.mute, "Take the chosen strip out of the mix, or put it back.")
        self._action(menu, "Hear alone", "Shift+S", tree.solo, "For the ears only: figures and files keep everything.")
        self._action(menu, "Hear all", "Shift+A", lambda: bench.look(solo=()), "Nothing alone any more.")
        self._action(menu, "Polarity", "Shift+P", tree.invert, "Turn the wave of the chosen strip over.")
        menu.addSeparator()
        self._action(menu, "Strip above", "Ctrl+[", lambda: tree.choose(-1), "")
        self._action(menu, "Strip below", "Ctrl+]", lambda: tree.choose(1), "")
        self._action(menu, "Mix bus", "Ctrl+Shift+M", lambda: bench.choose_strip(MIX), "")

    def _hear_detector(self) -> None:
        bench = self._bench
        if isinstance(bench.session.step(bench.session.view.step), Glue):
            bench.hear(RESULT if bench.session.view.hear == DETECTOR else DETECTOR)

    def _action(self, menu: QMenu, text: str, key: str, then: Callable[[], object], tip: str) -> QAction:
        action = QAction(text, self._window)
        if key:
            action.setShortcut(QKeySequence(key))
        if tip:
            action.setToolTip(tip)
            action.setStatusTip(tip)
        action.triggered.connect(lambda *_: then())
        menu.addAction(action)
        self._window.addAction(action)
        self.placed.append(Placed(self._places.get(menu, menu_title(menu)), action))
        return action

    def ask_mix(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self._window, "A stereo mix", "", AUDIO_FILTER)
        if found:
            self._window.new_from([Path(found)])

    def ask_stems(self) -> None:
        found = QFileDialog.getExistingDirectory(self._window, "A folder of stems")
        if found:
            self._window.new_from_stems(Path(found))

    def _ask_more_stems(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self._window, "Further stems", "", AUDIO_FILTER)
        if found:
            self._window.add_stems([Path(f) for f in found])

    def _ask_loudest(self) -> None:
        seconds, given = QInputDialog.getDouble(self._window, "Loudest span", "Seconds", LOUDEST_SECONDS, 1.0, 600.0, 1)
        if given:
            self._window.section_from_loudest(seconds)

    def _ask_import(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self._window, "Sections", "", CSV_FILTER)
        if found:
            self._window.import_sections(Path(found))

    def _ask_export(self) -> None:
        found, _ = QFileDialog.getSaveFileName(self._window, "Sections", "Sections.csv", CSV_FILTER)
        if found:
            self._window.export_sections(Path(found))

    def ask_open(self) -> None:
        found, _ = QFileDialog.getOpenFileName(self._window, "Open a session", "", f"{SESSION_FILTER};;{AUDIO_FILTER}")
        if found:
            self._window.open_path(Path(found))

    def _ask_references(self) -> None:
        found, _ = QFileDialog.getOpenFileNames(self._window, "Tracks to compare with", "", AUDIO_FILTER)
        if found:
            self._window.add_references([Path(f) for f in found])

    def _fill_recent(self) -> None:
        self._recent_menu.clear()
        for recent in self._window.documents.recent():
            text = menu_text(str(recent.path))
            action = self._recent_menu.addAction(text if recent.there else f"{text} (not found)")
            action.setEnabled(recent.there or recent.unsaved)
            action.triggered.connect(lambda _=False, path=recent.path: self._window.open_path(path))
        if self._recent_menu.isEmpty():
            self._recent_menu.addAction("None yet").setEnabled(False)

    def _fill_references(self) -> None:
        self._reference_menu.clear()
        for r in self._bench.session.references:
            self._reference_menu.addAction(menu_text(r.name)).triggered.connect(
                lambda _=False, id=r.id: self._window.remove_reference(id)
            )
        if self._reference_menu.isEmpty():
            self._reference_menu.addAction("None").setEnabled(False)

    def _fill_devices(self) -> None:
        self._device_menu.clear()
        names = [("", "Default"), (SILENT, "Silent device"), *((name, name) for _, name in outputs())]
        for key, text in names:
            action = self._device_menu.addAction(menu_text(text))
            action.setCheckable(True)
            action.setChecked(key == self._bench.device_choice)
            action.triggered.connect(lambda _=False, key=key: self._choose_device(key))

    def _choose_device(self, key: str) -> None:
        self._window.settings.setValue("device", key)
        self._bench.choose_device(key)

    def _choose_theme(self, night: bool | None) -> None:
        self._window.settings.setValue("night", {None: "", False: "day", True: "night"}[night])
        theme.force(night)

    def _choose_step(self, by: int) -> None:
        ids = ["", *(s.id for s in chains.flat(self._bench.session.chain))]
        now = self._bench.session.view.step
        index = ids.index(now) + by if now in ids else 0
        self._bench.look(step=ids[min(max(0, index), len(ids) - 1)])

    def _hear(self, n: int) -> None:
        choices = self._bench.hear_choices()
        if n <= len(choices):
            self._bench.hear(choices[n - 1][0])

    def _to_start(self) -> None:
        span = self._bench.span
        self._bench.seek(span.start if span else 0.0)

    def _zoom_to_samples(self) -> None:
        song, engine = self._bench.audio.material, self._bench.engine
        if song is not None and engine is not None:
            at = engine.position
            flat = [start for start, _ in self._bench.audio.flat_places(self._bench.session)]
            if flat:  # the nearest flat top, since that is what one zooms in to see
                at = min(flat, key=lambda s: abs(s - at))
            self._window.timeline.zoom_to(Span(at - 60 / song.rate, at + 100 / song.rate))

    def _about(self) -> None:
        QMessageBox.about(
            self._window,
            "Gluvo",
            f"<b>Gluvo {__version__}</b><br>From a stereo mix to a loud, checked master.<br><br>"
            "MIT licence. Set in IBM Plex Sans Condensed (SIL Open Font License).",
        )
