"""Presets by purpose: each is heard, level-matched, before it is taken."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QDialog, QFileDialog, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from gluvo.advise.aim import unmet
from gluvo.advise.shelf import BUILT_IN
from gluvo.desk.controls.dialogs import ask
from gluvo.desk.controls.table import Table
from gluvo.desk.controls.widgets import button, figure, label, line
from gluvo.desk.model.trying import Tried, Trying
from gluvo.desk.model.workbench import Workbench
from gluvo.errors import GluvoError
from gluvo.session import chains
from gluvo.session.presets import (
    CHAIN,
    SUFFIX,
    Kept,
    Preset,
    forget_preset,
    import_preset,
    instead,
    kind_of,
    own_presets,
    preset_of,
    put_in,
    save_preset,
    write_preset,
)
from gluvo.session.records import Session
from gluvo.steps import ChainItem
from gluvo.steps.settings import MOST_NAME


@dataclass(frozen=True)
class Purpose:
    """What presets are looked for: which kind, what is kept as one's own, and what a chosen one is done to."""

    kind: str
    title: str
    own: Callable[[Session], tuple[ChainItem, ...]]
    """What “keep mine” keeps of the session as it is."""
    applied: Callable[[Session, Preset], Session]
    adds: bool
    """Whether it adds items, or changes one that is there."""


def for_item(item: ChainItem) -> Purpose:
    """Settings for a step, a lane or a Split that stands in a chain."""

    def own(session: Session) -> tuple[ChainItem, ...]:
        now = session.item(item.id)
        return () if now is None else (now,)

    def applied(session: Session, preset: Preset) -> Session:
        return instead(session, preset, item.id, session.view.section)

    return Purpose(kind_of(item), f"Presets for the {item.title}", own, applied, adds=False)


def for_chain() -> Purpose:
    """Whole chains, put in after what is chosen."""

    def own(session: Session) -> tuple[ChainItem, ...]:
        return session.chain if len(session.chain) > 1 else ()

    def applied(session: Session, preset: Preset) -> Session:
        return put_in(session, preset, session.view.strip, _last_before(session), session.view.section)

    return Purpose(CHAIN, "Presets for chains", own, applied, adds=True)


def _last_before(session: Session) -> str:
    """What a new item of the chain comes after: what is chosen, or its container; the last, if nothing is."""
    chain, chosen = session.chain, session.view.step
    containers = chains.containers_of(chain, chosen)
    after = containers[0].id if containers else chosen
    return after or (chain[-1].id if chain else "")


class PresetDialog(QDialog):
    """A list, and what each is for. The chosen one is heard at once; Enter takes it, Escape gives the sound back."""

    def __init__(self, parent: QWidget, bench: Workbench, purpose: Purpose, folder: Path | None = None) -> None:
        """`folder`: where the user's own are; the usual place otherwise."""
        super().__init__(parent)
        self._bench, self._purpose, self._folder = bench, purpose, folder
        self.setWindowTitle(purpose.title)
        self.setMinimumSize(720, 420)
        self._lines: list[tuple[Preset, Kept | None]] = []
        self._trying = Trying(bench, self._found)
        column = QVBoxLayout(self)
        row = QHBoxLayout()
        column.addLayout(row, 1)
        self.list = Table(
            "Presets",
            "What each does is said beside it. Arrows choose one and let you hear it; Enter takes it.",
            (("For", 0), ("From", 64)),
        )
        self.list.entered.connect(lambda _: self._take())
        self.list.currentCellChanged.connect(lambda row, *_: self._chosen(row))
        row.addWidget(self.list, 3)
        row.addWidget(line(vertical=True))
        right = QVBoxLayout()
        right.setSpacing(6)
        row.addLayout(right, 4)
        self.name = label("", "title")
        right.addWidget(self.name)
        self.texts = {key: label("") for key in ("does", "when", "when_not")}
        for key, head in (("does", "What it does"), ("when", "When"), ("when_not", "When not")):
            right.addWidget(label(head, "caption"))
            self.texts[key].setWordWrap(True)
            right.addWidget(self.texts[key])
        right.addStretch(1)
        self.words = label("", "caption")
        self.words.setWordWrap(True)
        right.addWidget(self.words)
        self.trouble = label("", "trouble")
        self.trouble.setWordWrap(True)
        right.addWidget(self.trouble)
        foot = QHBoxLayout()
        self.keep = button(
            "Keep mine…", "Keep the present settings as a preset of your own, in a JSON file.", self._keep
        )
        self.forget = button("Remove", "Take your own preset off the list and away from the disk.", self._forget)
        self.play = button(
            "Play", "Play or stop (Space). What is heard is as loud as the result.", bench.listening.toggle_play
        )
        self.take = button("Use", "Take it (Enter); undo gives the former settings back.", self._take, "main")
        for made in (
            self.keep,
            button("Import…", "Take a preset from a JSON file.", self._import),
            button("Export…", "Write the chosen preset to a JSON file.", self._export),
            self.forget,
        ):
            foot.addWidget(made)
        foot.addStretch(1)
        for made in (self.play, button("Cancel", "Leave everything as it is (Esc).", self.reject), self.take):
            foot.addWidget(made)
        for made in self.findChildren(type(self.take)):
            made.setAutoDefault(False)
        column.addLayout(foot)
        self.finished.connect(lambda _: self._trying.end())
        self._fill()

    # --- the list ------------------------------------------------------------------------------------------

    def _fill(self, choose: str = "") -> None:
        own, troubles = own_presets(self._folder)
        kind = self._purpose.kind
        self._lines = [(preset, None) for preset in BUILT_IN if preset.kind == kind]
        self._lines += [(kept.preset, kept) for kept in own if kept.preset.kind == kind]
        self.trouble.setText(" ".join(troubles))
        self.list.setRowCount(len(self._lines))
        for n, (preset, kept) in enumerate(self._lines):
            self.list.show_line(n, ((preset.name, "ink"), ("mine" if kept else "Gluvo", "faint")))
        names = [preset.name for preset, _ in self._lines]
        row = names.index(choose) if choose in names else -1
        self.list.setCurrentCell(row, 0)
        self._chosen(row)
        self.keep.setEnabled(bool(self._purpose.own(self._bench.session)))

    def choose(self, name: str) -> None:
        """Choose the preset of a name, which is heard then."""
        names = [preset.name for preset, _ in self._lines]
        if name in names:
            self.list.setCurrentCell(names.index(name), 0)
            self.list.setFocus()

    @property
    def chosen(self) -> tuple[Preset, Kept | None] | None:
        row = self.list.currentRow()
        return self._lines[row] if 0 <= row < len(self._lines) else None

    def _chosen(self, row: int) -> None:
        chosen = self._lines[row] if 0 <= row < len(self._lines) else None
        self.take.setEnabled(chosen is not None)
        self.forget.setEnabled(chosen is not None and chosen[1] is not None)
        if chosen is None:
            self.name.setText("Choose one to hear it")
            for text in self.texts.values():
                text.setText("")
            return
        preset = chosen[0]
        self.name.setText(preset.name)
        for key, text in self.texts.items():
            text.setText(getattr(preset, key) or "–")
        candidate = self._purpose.applied(self._bench.session, preset)
        if self._bench.renderer is None:
            self.words.setText("There is no audio to hear it on.")
            return
        self.words.setText("Finding what it holds in this section…")
        self._trying.hear(candidate)

    def _found(self, tried: Tried) -> None:
        words = [f"played at {figure(tried.gain, signed=True)} dB: as loud as the result"]
        before = {item.id for item in self._bench.session.items}
        chosen = self._bench.session.view.step
        for item in tried.session.items:
            joint, source = (
                (tried.render.joint(item.id), tried.render.before(item.id)) if item.reduces else (None, None)
            )
            if joint is not None and source is not None and (item.id not in before or item.id == chosen):
                reduced = joint.taken_by(item, self._bench.span)
                takes = f"takes {reduced.short}" if reduced is not None else ""
                words.append(f"{item.title} {unmet(item, source, joint, self._bench.span) or takes}")
        self.words.setText(" · ".join(words))

    # --- what is done --------------------------------------------------------------------------------------

    def _take(self) -> None:
        chosen, applied = self.chosen, self._purpose.applied
        if chosen is None:
            return
        preset = chosen[0]
        self.accept()
        known = {item.id for item in self._bench.session.items}
        if self._bench.edit(f"Preset “{preset.name}”", lambda session: applied(session, preset)) and self._purpose.adds:
            new = next((item.id for item in self._bench.session.items if item.id not in known), "")
            self._bench.look(step=new, band=0)

    def _keep(self) -> None:
        dialog = KeepDialog(self)
        if not dialog.exec() or not dialog.name.text().strip():
            return
        name = dialog.name.text().strip()
        words = (line.text().strip() for line in (dialog.does, dialog.when, dialog.when_not))
        try:
            save_preset(preset_of(self._purpose.own(self._bench.session), name, *words), self._folder)
        except (GluvoError, ValueError) as error:
            self.trouble.setText(str(error))
            return
        self._fill(name)

    def _forget(self) -> None:
        chosen = self.chosen
        if chosen is None or chosen[1] is None:
            return
        text = f"Take your preset “{chosen[0].name}” away from the disk? That cannot be undone."
        choices = (("lose", "Take away", "lose"), ("stay", "Keep it", "stay"))
        if ask(self, "Remove preset", text, choices) == "lose":
            try:
                forget_preset(chosen[1])
            except GluvoError as error:
                self.trouble.setText(str(error))
                return
            self._fill()

    def _import(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Import a preset", "", f"Presets (*{SUFFIX} *.json)")
        if path:
            self.import_from(Path(path))

    def import_from(self, path: Path) -> None:
        """Take a preset from a file into the user's own."""
        try:
            preset = import_preset(path, self._folder)
        except GluvoError as error:
            self.trouble.setText(str(error))
            return
        self._fill(preset.name)
        if preset.kind != self._purpose.kind:
            self.trouble.setText(f"“{preset.name}” is for something else ({preset.kind}), and is listed there.")

    def _export(self) -> None:
        chosen = self.chosen
        if chosen is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self, "Export the preset", f"{chosen[0].name}{SUFFIX}", f"Presets (*{SUFFIX})"
        )
        if path:
            try:
                write_preset(Path(path), chosen[0])
            except GluvoError as error:
                self.trouble.setText(str(error))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Space:
            self._bench.listening.toggle_play()
        else:
            super().keyPressEvent(event)


class KeepDialog(QDialog):
    """What a preset of one's own is called, what it does, when to use it and when not: asked all at once."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keep as a preset")
        self.setMinimumWidth(460)
        column = QVBoxLayout(self)
        self.name, self.does, self.when, self.when_not = (QLineEdit() for _ in range(4))
        for field, words, tip, most in (
            (self.name, "What it is for", "A few words: they are its name.", MOST_NAME),
            (self.does, "What it does", "To the sound, in a sentence.", 1000),
            (self.when, "When to use it", "In a sentence; may stay empty.", 1000),
            (self.when_not, "When not", "In a sentence; may stay empty.", 1000),
        ):
            field.setMaxLength(most)
            field.setAccessibleName(words)
            field.setToolTip(tip)
            column.addWidget(label(words))
            column.addWidget(field)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(button("Cancel", "Keep nothing.", self.reject))
        self.keep = button("Keep", "Keep it among your own presets.", self.accept, "main")
        self.keep.setDefault(True)
        self.keep.setEnabled(False)
        self.name.textChanged.connect(lambda text: self.keep.setEnabled(bool(text.strip())))
        row.addWidget(self.keep)
        column.addLayout(row)


def choose_preset(parent: QWidget, bench: Workbench, purpose: Purpose) -> None:
    """Open the dialog for a purpose."""
    dialog = PresetDialog(parent.window(), bench, purpose)
    dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    dialog.exec()
