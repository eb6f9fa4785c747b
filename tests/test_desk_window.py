"""The window around the pages: opening, saving, hearing, the timeline, delivering, and what goes wrong."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest
import soundfile
from PySide6.QtCore import QEvent, QMimeData, QObject, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QMouseEvent, QPaintEvent
from PySide6.QtWidgets import QApplication, QLineEdit, QWidget

from gluvo.desk.model.workbench import Workbench
from gluvo.desk.window.app import get_ready
from gluvo.desk.window.window import Window
from gluvo.errors import Cancelled
from gluvo.measure.trace import Span
from gluvo.opened.audio import joint_of
from gluvo.opened.tasks import WRITING
from gluvo.progress import Progress, Stopper
from gluvo.session.copies import copies_left
from gluvo.session.migrations import VERSION
from gluvo.session.store import read_session

from .conftest import RATE, music
from .desk import Desk, LastingHost, answering, shortcut, small_session


def drop(desk: Desk, *paths: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in paths])
    event = QDropEvent(
        QPointF(400, 400), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    desk.window.dropEvent(event)


def move(widget: QWidget, x: float, y: float, modifier: Qt.KeyboardModifier) -> None:
    """A mouse move with the left button held."""
    place = QPointF(x, y)
    QApplication.sendEvent(
        widget,
        QMouseEvent(
            QEvent.Type.MouseMove,
            place,
            widget.mapToGlobal(place),
            Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton,
            modifier,
        ),
    )


def test_keys_choose_what_is_heard(desk: Desk) -> None:
    for n, path in enumerate(("result", "untouched", "step_out", "change", "reference-1"), start=1):
        shortcut(desk, str(n))
        assert desk.session.view.hear == path
        assert desk.window.hear_row.buttons[path].isChecked()
    desk.wait(lambda: "reference-1" in desk.bench.picture.gains)
    gains = desk.bench.picture.gains
    assert max(gains[path] for path in ("result", "untouched")) <= 40.0 and gains["untouched"] <= 0.0  # nothing clips
    song, span = desk.bench.picture.song_render, desk.bench.span
    assert song is not None
    heard = song.result.figures(span).integrated + gains["result"]
    assert heard == pytest.approx(song.untouched.figures(span).integrated + gains["untouched"], abs=0.01)
    part = desk.bench.listening.partner("reference-1")
    assert part is not None
    reference = joint_of(desk.bench.audio.references["reference-1"]).figures(Span(part.start, part.end))
    assert heard == pytest.approx(reference.integrated + gains["reference-1"], abs=0.01)
    row = desk.window.hear_row
    assert row.buttons["result"].text().endswith(f"{gains['result']:+.1f}".replace("-", "−"))
    desk.bot.mouseClick(row.matched, Qt.MouseButton.LeftButton)
    assert not desk.session.view.level_matched and row.buttons["result"].text().endswith("Result")


@pytest.mark.thorough
def test_play_loops_the_section(desk: Desk) -> None:
    engine = desk.bench.engine
    assert engine is not None
    desk.bot.mouseClick(desk.window.header.play, Qt.MouseButton.LeftButton)
    desk.wait(lambda: engine.position > 3.3)
    assert engine.playing and 3.0 <= engine.position < 7.5
    desk.wait(lambda: desk.window.shape.live.loudness(0.4) > -60)
    desk.bench.listening.seek(7.3)
    desk.wait(lambda: 3.0 <= engine.position < 4.0)
    desk.bot.mouseClick(desk.window.header.play, Qt.MouseButton.LeftButton)
    desk.wait(lambda: not engine.playing)
    assert "Silent device · 48 kHz" in desk.window.header._device.text()


@pytest.mark.thorough
def test_the_timeline_chooses_seeks_and_zooms_to_samples(desk: Desk) -> None:
    line = desk.window.timeline
    desk.bot.mouseClick(line, Qt.MouseButton.LeftButton, pos=QPoint(int(line._x(1.5)), 12))
    assert desk.session.view.section == "section-1"
    desk.bot.mouseClick(line, Qt.MouseButton.LeftButton, pos=QPoint(int(line._x(5.0)), 60))
    assert desk.session.view.position == pytest.approx(5.0, abs=0.02)
    desk.bot.mouseDClick(line, Qt.MouseButton.LeftButton, pos=QPoint(int(line._x(5.0)), 12))
    assert line.view.start == pytest.approx(2.82, abs=0.05) and line.view.end == pytest.approx(7.68, abs=0.05)
    line.setFocus()
    pictures = set()
    for _ in range(18):
        desk.bot.keyClick(line, Qt.Key.Key_Plus)
        pictures.add(hash(bytes(line.grab().toImage().constBits())))
    assert line.view.seconds * RATE == pytest.approx(48, abs=1) and len(pictures) > 10
    desk.bot.keyClick(line, Qt.Key.Key_0)
    assert line.view.seconds == pytest.approx(8.0)


class Painted(QObject):
    """The columns in the middle of a widget that are painted."""

    def __init__(self, widget: QWidget) -> None:
        super().__init__(widget)
        self.columns: set[int] = set()
        self._middle = widget.height() // 2
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QPaintEvent):
            for box in event.region():  # type: ignore[attr-defined]
                if box.top() <= self._middle <= box.bottom() and box.width() < 50:
                    self.columns.update(range(box.left(), box.right() + 1))
        return False


@pytest.mark.thorough
def test_the_playhead_of_a_long_song_moves_and_leaves_nothing_behind(desk: Desk) -> None:
    line = desk.window.timeline
    desk.window._timer.stop()
    line._view = Span(0.0, 7200.0)  # where a turn of the window is less than a hundredth of a pixel
    line.show_position(1000.0)
    QApplication.processEvents()
    painted = Painted(line)
    for n in range(3000):
        line.show_position(1000.0 + 0.016 * n)
        if n % 100 == 0:
            QApplication.processEvents()
    QApplication.processEvents()
    left, right = int(line._x(1000.0)), int(line._x(1000.0 + 0.016 * 2999))
    assert right - left > 6 and set(range(left, right + 1)) <= painted.columns


@pytest.mark.thorough
def test_sections_from_the_song(desk: Desk) -> None:
    desk.window.timeline.zoom_to(None)
    desk.window.timeline._set_view(1.0, 2.0)
    desk.window.sections.from_view()
    made = desk.session.section(desk.session.view.section)
    assert made is not None and (made.start, made.end) == (1.0, 3.0)
    assert [s.start for s in desk.session.sections] == [0.0, 1.0, 3.0]
    desk.window.sections.choose(-1)
    assert desk.session.view.section == "section-1"
    desk.window.sections.choose(-1)
    assert desk.session.view.section == ""
    desk.window.sections.from_loudest(2.0)
    loudest = desk.session.section(desk.session.view.section)
    assert loudest is not None and loudest.end - loudest.start == pytest.approx(2.0)


@pytest.mark.thorough
def test_section_edges_are_dragged_and_snap(desk: Desk) -> None:
    line = desk.window.timeline
    y = 12

    def drag(start: float, end: float, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        desk.bot.mousePress(line, Qt.MouseButton.LeftButton, modifier, QPoint(round(line._x(start)), y))
        move(line, line._x(end), y, modifier)
        desk.bot.mouseRelease(line, Qt.MouseButton.LeftButton, modifier, QPoint(round(line._x(end)), y))

    drag(3.0, 3.3)
    first, second = desk.session.sections
    assert first.end == second.start == pytest.approx(3.3, abs=0.03)  # edges that touch move as one
    song = desk.bench.picture.song_render
    assert song is not None
    mono = song.untouched.audio.sum(axis=1)
    at = round(first.end * RATE)
    assert mono[at - 1] * mono[at] <= 0 or mono[at] * mono[at + 1] <= 0
    assert desk.bench.document.undo_name == "Move section edge"
    drag(first.end, 3.6, Qt.KeyboardModifier.ControlModifier)  # the hits of the test song are at every half second
    assert desk.session.sections[0].end == pytest.approx(3.5, abs=0.004)
    desk.bench.document.undo()
    desk.bench.document.undo()
    assert desk.session.sections[0].end == 3.0


@pytest.mark.thorough
def test_sections_are_marked_renamed_removed_and_exchanged(desk: Desk, tmp_path: Path) -> None:
    line = desk.window.timeline
    shift = Qt.KeyboardModifier.ShiftModifier
    desk.bot.mousePress(line, Qt.MouseButton.LeftButton, shift, QPoint(round(line._x(5.0)), 60))
    move(line, line._x(6.0), 60, shift)
    desk.bot.mouseRelease(line, Qt.MouseButton.LeftButton, shift, QPoint(round(line._x(6.0)), 60))
    made = desk.session.section(desk.session.view.section)
    assert made is not None and made.start == pytest.approx(5.0, abs=0.03) and made.end == pytest.approx(6.0, abs=0.03)
    line.rename(made.id)
    field = line.findChild(QLineEdit)
    assert field is not None
    desk.bot.keyClicks(field, "Coda")
    desk.bot.keyClick(field, Qt.Key.Key_Return)
    assert desk.session.section(made.id).name == "Coda"
    desk.window.sections.give_out(tmp_path / "s.csv")
    assert (tmp_path / "s.csv").read_text().splitlines()[0] == "name,start,end"
    line.remove(made.id)
    assert desk.session.section(made.id) is None and desk.session.view.section == ""
    desk.window.sections.bring_in(tmp_path / "s.csv")
    assert [s.name for s in desk.session.sections] == ["Verse", "Refrain", "Coda"]
    (tmp_path / "bad.csv").write_text("Verse,1,x\n")
    desk.window.sections.bring_in(tmp_path / "bad.csv")
    assert "section 1 needs" in desk.window.notice.text.text() and len(desk.session.sections) == 3


@pytest.mark.thorough
def test_everything_is_found_again(desk: Desk, tmp_path: Path) -> None:
    desk.bench.set_setting("glue-1", "release", 222.0, "Release")
    desk.bench.document.look(page="deliver", hear="untouched", monitor="side", level_matched=False)
    assert desk.window.documents.save()
    kept = desk.session
    desk.open(tmp_path / "Harbour Take.gluvo")
    assert desk.session == kept
    assert desk.window.pages.currentWidget() is desk.window.deliver
    assert desk.window.hear_row.monitor.currentText() == "Side"
    assert desk.window.documents.recent()[0].path.name == "Harbour Take.gluvo"


@pytest.mark.thorough
def test_own_files_by_drop(empty_desk: Desk, tmp_path: Path) -> None:
    desk = empty_desk
    mix, other = tmp_path / "Quay.wav", tmp_path / "Rope.flac"
    soundfile.write(mix, music(5.0), RATE, "PCM_24")
    soundfile.write(other, music(4.0, 44_100), 44_100, "PCM_16")
    drop(desk, mix)
    desk.wait(lambda: desk.bench.audio.material is not None)
    desk.settle()
    assert desk.session.name == "Quay" and desk.session.sections[0].name == "Loudest"
    drop(desk, other)
    desk.wait(lambda: "reference-1" in desk.bench.audio.references)
    desk.settle()
    assert "Rope" in desk.window.hear_row.buttons["reference-1"].text()
    assert desk.session.references[0].sections  # proposed
    assert not (tmp_path / "Quay.gluvo").exists() and desk.bench.document.changed
    assert desk.window.documents.save() and (tmp_path / "Quay.gluvo").exists()


def test_a_dropped_folder_becomes_stems(empty_desk: Desk, tmp_path: Path) -> None:
    folder = tmp_path / "Stems"
    folder.mkdir()
    for n in range(2):
        soundfile.write(folder / f"{n}.wav", music(3.0, seed=n) * 0.4, RATE, "FLOAT")
    drop(empty_desk, folder)
    empty_desk.wait(lambda: empty_desk.bench.audio.material is not None)
    assert len(empty_desk.session.stems) == 2


@pytest.mark.thorough
def test_bad_files_are_told_and_change_nothing(desk: Desk, tmp_path: Path) -> None:
    before = desk.session
    bad = tmp_path / "bad.wav"
    bad.write_text("not audio")
    newer = tmp_path / "newer.gluvo"
    newer.write_text((tmp_path / "Harbour Take.gluvo").read_text().replace(f'"version": {VERSION}', '"version": 99'))
    for path, word in (
        (bad, "cannot be read as audio"),
        (newer, "newer Gluvo"),
        (tmp_path / "gone.gluvo", "not found"),
    ):
        desk.window.notice.clear()
        desk.window.dropped([path])
        desk.wait(lambda word=word: word in desk.window.notice.text.text())
        assert desk.session == before
    desk.window.dropped([tmp_path / "settings"])
    desk.wait(
        lambda: "no audio files" in desk.window.notice.text.text() or "cannot be read" in desk.window.notice.text.text()
    )
    assert desk.session == before


@pytest.mark.thorough
def test_missing_audio_is_asked_for(empty_desk: Desk, tmp_path: Path) -> None:
    _, path = small_session(tmp_path)
    (tmp_path / "Harbour Take.wav").rename(tmp_path / "Moved.wav")
    desk = empty_desk
    desk.window.open_path(path)
    notice = desk.window.notice
    desk.wait(lambda: "Harbour Take.wav" in notice.text.text() and notice.act.isVisible())
    assert desk.bench.audio.material is None
    desk.window.audio_files.relocate("Harbour Take.wav", tmp_path / "Moved.wav")
    desk.wait(lambda: desk.bench.audio.material is not None)
    desk.settle()
    assert desk.session.stems[0].media.path == "Moved.wav"


@pytest.mark.thorough
def test_recovery_after_a_crash(empty_desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    _, path = small_session(tmp_path)
    desk = empty_desk
    desk.open(path)
    desk.bench.set_setting("glue-1", "ratio", 7.5, "Ratio")
    desk.wait(lambda: bool(copies_left(path, None)))
    desk.bench.document.release()  # as a crash does
    other = Window(Workbench("silent", LastingHost.running()))
    asked = answering(monkeypatch, "take")
    other.open_path(path)
    assert len(asked) == 1 and other.bench.session.step("glue-1").ratio == 7.5
    assert other.bench.document.undo_name == "Glue ratio"  # its undo history came along
    answering(monkeypatch, "lose")
    other.close()
    assert read_session(path).session.step("glue-1").ratio == 3.0


@pytest.mark.thorough
def test_delivering(desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    page = desk.window.deliver
    desk.bench.document.look(page="deliver")
    page.add()
    change, second = page.delivery.change, desk.session.deliverables[1]
    change(second.id, "format", "flac")
    change(second.id, "bits", "16")
    change(second.id, "rate", 44100)
    second = desk.session.deliverables[1]
    assert (second.format, second.bits, second.dither) == ("flac", "16", "tpdf")
    page.use_folder(tmp_path / "out")
    asked = answering(monkeypatch, "both")
    for expected in (2, 4):  # a second time, nothing is written over
        page.delivery.said = ""
        desk.bot.mouseClick(page.write, Qt.MouseButton.LeftButton)
        desk.wait(lambda: "measured" in page.status.text())
        assert len(list((tmp_path / "out").iterdir())) == expected
    assert len(asked) == 1 and "there already" in asked[0]
    assert "LUFS" in page.table.item(0, 4).text() and page.table.item(0, 6).text()
    flac = next((tmp_path / "out").glob("*.flac"))
    assert soundfile.info(flac).samplerate == 44100 and soundfile.info(flac).subtype == "PCM_16"
    assert not page.delivery.stale(second)
    desk.bench.set_setting("trim-1", "gain", -5.0, "Gain")
    assert page.delivery.stale(second) and "changed since" in page.table.item(1, 6).text()
    change(second.id, "bits", "32f")
    assert desk.session.deliverables[1].format == "wav"
    page.table.item(0, 0).setText("Vinyl")
    assert desk.session.deliverables[0].name == "Vinyl"
    page.delivery.remove(second.id)
    assert page.table.rowCount() == 1


@pytest.mark.thorough
def test_closing_asks_about_unsaved_work(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    answering(monkeypatch, "stay")
    desk.window.close()
    assert desk.window.isVisible()
    answering(monkeypatch, "save")
    desk.window.close()
    assert not desk.window.isVisible()
    assert read_session(desk.bench.document.path).session.step("trim-1").gain == -9.0


@pytest.mark.thorough
def test_undo_and_redo_are_named_in_the_menu(desk: Desk) -> None:
    assert not desk.window.menus.undo.isEnabled()
    desk.bench.set_setting("trim-1", "gain", -9.0, "Gain")
    assert desk.window.menus.undo.text() == "Undo Trim gain"
    desk.window.menus.undo.trigger()
    assert desk.window.menus.redo.text() == "Redo Trim gain" and desk.session.step("trim-1").gain == -6.0


@pytest.mark.thorough
def test_menus_act_on_the_session_that_is_open(desk: Desk) -> None:
    for keys, page in (("Ctrl+1", "buses"), ("Ctrl+4", "deliver"), ("Ctrl+3", "compare"), ("Ctrl+2", "shape")):
        shortcut(desk, keys)
        assert desk.session.view.page == page and desk.window.pages.currentWidget() is getattr(desk.window, page)
    shortcut(desk, "Alt+3")
    assert desk.session.view.monitor == "side"


@pytest.mark.thorough
def test_everything_has_a_tooltip_and_a_key(desk: Desk) -> None:
    from PySide6.QtWidgets import QComboBox, QPushButton

    from gluvo.desk.controls.ruler import Ruler
    from gluvo.desk.controls.widgets import Toggle

    kinds = (QPushButton, QComboBox, Toggle, Ruler)
    for widget in (w for kind in kinds for w in desk.window.findChildren(kind)):
        if widget.isVisible():
            assert widget.toolTip(), widget
            assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus, widget
    shortcuts = [a.shortcut().toString() for a in desk.window.actions() if a.shortcut().toString()]
    assert len(shortcuts) == len(set(shortcuts)) > 40


def test_what_is_loaded_ahead_stops_when_it_is_told_to() -> None:
    stopper = Stopper()
    stopper.stop()
    with pytest.raises(Cancelled):
        get_ready(stopper.check, waits=True)
    get_ready(stopper.check, waits=False)  # a session is to be opened: nothing is done that would hold it up


@pytest.mark.thorough
def test_the_work_line_shows_at_once_what_goes_on_and_soon_how_far_it_is(desk: Desk) -> None:
    go_on, told = threading.Event(), threading.Event()

    def job(check: Progress) -> None:
        for n in range(2000):
            check(n % 200 / 200)
        told.set()
        go_on.wait(30.0)

    shown: list[int] = []
    line = desk.window.work.lines[0]
    line.bar.valueChanged.connect(shown.append)
    desk.bench.tasks.submit(WRITING, "Writing", job)
    desk.wait(lambda: line.text.text() == "Writing")
    desk.wait(told.is_set)
    desk.wait(lambda: line.bar.value() == 995)
    assert len(shown) < 500  # not for each of the 2000
    go_on.set()
    desk.wait(lambda: line.task is None)


@pytest.mark.thorough
@pytest.mark.parametrize("width", [1280, 940])
def test_what_comes_into_the_hear_row_changes_nothing_of_what_is_heard_in_it(desk: Desk, width: int) -> None:
    row = desk.window.hear_row
    desk.window.resize(width, 800)
    for n in range(1, 4):
        shortcut(desk, str(n % 2 + 1))
        heard = desk.session.view.hear
        desk.bench.versions.keep(f"State {n}")
        assert row.buttons[heard].isChecked() and row.buttons[heard].isVisible()
        assert not row.more.isChecked() and row.more.text().split()[0] in ("More", "References"), row.more.text()
