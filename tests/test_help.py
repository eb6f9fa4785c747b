"""Help without a network, the log, and what puts the program into a desktop's menus."""

from __future__ import annotations

import configparser
import logging
import sys
import threading
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo import desktop_files, logs
from gluvo.cli import run
from gluvo.desk.window.help import GuideDialog, ProblemDialog, docs_folder
from gluvo.desk.window.window import Window
from gluvo.errors import WriteError

from .desk import Desk, key, shortcut, when_shown

KEY = Qt.Key


# --- the guide ---------------------------------------------------------------------------------------------------------


def guide(desk: Desk) -> GuideDialog:
    shortcut(desk, "Ctrl+F1")
    found = desk.window.findChild(GuideDialog)
    assert isinstance(found, GuideDialog)
    found.activateWindow()
    desk.wait(found.isActiveWindow)
    return found


@pytest.mark.thorough
def test_the_guide_is_read_and_searched(empty_desk: Desk) -> None:
    dialog = guide(empty_desk)
    text = dialog.pages.toPlainText()
    assert "Resonance tamer" in text and len(text) > 20_000
    shortcut(empty_desk, "Ctrl+F1")
    assert empty_desk.window.findChildren(GuideDialog) == [dialog]  # not a second one
    QTest.keyClicks(dialog.field, "hold loudness")
    count = text.lower().count("hold loudness")
    assert count > 1 and dialog.words.text() == f"1 of {count}"
    first = dialog.pages.textCursor().position()
    QTest.keyClick(dialog.field, KEY.Key_Return)
    assert dialog.words.text() == f"2 of {count}" and dialog.pages.textCursor().position() > first
    QTest.keyClick(dialog.field, KEY.Key_Return, Qt.KeyboardModifier.ShiftModifier)
    assert dialog.pages.textCursor().position() == first
    QTest.keyClicks(dialog.field, " of a dragon")
    assert dialog.words.text() == "not found"
    QTest.keyClick(dialog, KEY.Key_Escape)
    assert not dialog.isVisible()


@pytest.mark.thorough
def test_its_pictures_are_there_and_no_wider_than_it_is(empty_desk: Desk) -> None:
    dialog = guide(empty_desk)
    for line in (docs_folder() / "guide.md").read_text().splitlines():
        if line.startswith("!["):
            image = dialog.pages.loadResource(2, line.partition("](")[2].rstrip(")"))
            assert 0 < image.width() <= dialog.pages.viewport().width()


# --- the log -----------------------------------------------------------------------------------------------------------


@pytest.fixture
def kept_log() -> Iterator[Path]:
    root, hooks = logging.getLogger(), (sys.excepthook, threading.excepthook)
    before, level = list(root.handlers), root.level
    path = logs.start_log()
    assert path is not None
    yield path
    for handler in set(root.handlers) - set(before):
        root.removeHandler(handler)
        handler.close()
    root.setLevel(level)
    sys.excepthook, threading.excepthook = hooks


@pytest.mark.thorough
def test_what_nothing_caught_is_told_with_a_way_to_the_log(desk: Desk, kept_log: Path) -> None:
    logs.catch_all(desk.window.tell_of_itself)
    try:
        raise RuntimeError("the kelp has come loose")
    except RuntimeError:
        sys.excepthook(*sys.exc_info())
    notice = desk.window.notice
    desk.wait(lambda: notice.isVisible() and "RuntimeError" in notice.text.text())
    assert "kelp has come loose" in kept_log.read_text()
    seen: list[str] = []

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, ProblemDialog)
        QTest.mouseClick(dialog.copy, Qt.MouseButton.LeftButton)
        seen.append(QGuiApplication.clipboard().text())
        QTest.keyClick(dialog, KEY.Key_Escape)

    when_shown(desk, look)
    desk.bot.mouseClick(notice.act, Qt.MouseButton.LeftButton)
    assert "kelp has come loose" in seen[0] and "numpy: " in seen[0] and str(kept_log) in seen[0]
    assert "8 s at 48000 Hz" in seen[0]
    key(desk, " ")  # it goes on
    desk.wait(lambda: desk.bench.engine is not None and desk.bench.engine.playing)


def test_a_log_that_cannot_be_written_is_nobodys_trouble(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "state").write_text("a file, where a folder should be")
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    assert logs.start_log() is None
    assert "Last errors:\n\nnone" in logs.problem_report()


def test_only_the_last_errors_are_told_each_with_what_follows_it(tmp_path: Path) -> None:
    path = tmp_path / "gluvo.log"
    rows = [
        f"2026-05-0{n} 10:00:00,000 77 {level} gluvo.x: number {n}\nTraceback\n  of {n}"
        for n, level in enumerate(["ERROR", "INFO", "ERROR", "CRITICAL", "WARNING"], 1)
    ]
    path.write_text("half a line\n" + "\n".join(rows) + "\n")
    assert logs.last_errors(path) == [rows[0], rows[2], rows[3]] and logs.last_errors(path, 1) == [rows[3]]
    assert logs.last_errors(tmp_path / "none") == []


def test_a_log_is_put_aside_when_it_has_grown(kept_log: Path) -> None:
    for n in range(logs.MOST_BYTES // 100):
        logging.getLogger("gluvo.test").info("%06d %s", n, "x" * 200)
    aside = sorted(kept_log.parent.glob("gluvo.log*"))
    assert len(aside) == 3 and all(p.stat().st_size <= logs.MOST_BYTES for p in aside)


# --- the desktop's menus -------------------------------------------------------------------------------------------------


def test_it_is_put_into_the_menus_and_taken_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(sys, "argv", ["gluvo", "desktop", "--install", "--dir", str(tmp_path)])
    with pytest.raises(SystemExit) as ended:
        run()
    assert ended.value.code == 0
    told = [Path(line) for line in capsys.readouterr().out.splitlines()]
    assert len(told) == 4 and all(path.is_file() and tmp_path in path.parents for path in told)
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read(tmp_path / "applications" / f"{desktop_files.APP_ID}.desktop")
    row = entry["Desktop Entry"]
    assert Path(row["Exec"].removesuffix(" %f")).exists() and "application/x-gluvo" in row["MimeType"].split(";")
    icon = tmp_path / "icons/hicolor/scalable/apps" / f"{row['Icon']}.svg"
    assert ET.parse(icon).getroot().tag.endswith("svg")
    mime = ET.parse(tmp_path / "mime/packages" / f"{desktop_files.APP_ID}.xml").getroot()
    assert mime[0].get("type") == "application/x-gluvo" and mime[0].find("{*}glob").get("pattern") == "*.gluvo"
    about = ET.parse(tmp_path / "metainfo" / f"{desktop_files.APP_ID}.metainfo.xml").getroot()
    assert about.findtext("launchable") == f"{desktop_files.APP_ID}.desktop"
    mine = tmp_path / "applications" / "mine.desktop"
    mine.write_text("mine")
    assert desktop_files.remove(tmp_path) == told and desktop_files.remove(tmp_path) == []
    assert mine.exists() and not any(path.exists() for path in told)


def test_a_folder_that_cannot_be_written_is_told(tmp_path: Path) -> None:
    (tmp_path / "applications").write_text("no folder")
    with pytest.raises(WriteError, match="cannot be written"):
        desktop_files.install(tmp_path)


def test_the_window_is_known_by_the_name_of_its_entry(empty_desk: Desk) -> None:
    assert isinstance(empty_desk.window, Window) and isinstance(QApplication.instance(), QApplication)
    assert QGuiApplication.desktopFileName() == desktop_files.APP_ID
