"""The Deliver page in a real window: rows, their settings, writing, encodings, prices, tags, targets, report."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import msgspec
import mutagen
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QPushButton

from gluvo.compare.match import RESULT
from gluvo.deliver.audition import KINDS
from gluvo.deliver.batch import Delivered
from gluvo.deliver.encoding import LOST, Encoding
from gluvo.deliver.targets import TARGETS, target_named, write_targets
from gluvo.deliver.write import Outcome, Written
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.model.louder_costs import price_id
from gluvo.desk.pages.deliver.album_dialog import AlbumDialog, _told
from gluvo.desk.pages.deliver.dither_dialog import DitherDialog
from gluvo.desk.pages.deliver.page import DeliverPage
from gluvo.desk.pages.targets_dialog import TargetsDialog
from gluvo.measure.figures import figures_of
from gluvo.measure.trace import trace_of
from gluvo.session.records import Deliverable, Tags, Target
from gluvo.session.store import write_session
from gluvo.steps import Clipper

from .conftest import RATE, music
from .desk import Desk, answering, move


@pytest.fixture
def page(desk: Desk, tmp_path: Path) -> DeliverPage:
    desk.bench.look(page="deliver")
    desk.settle()
    desk.window.deliver.use_folder(tmp_path / "out")
    return desk.window.deliver


def written(desk: Desk, page: DeliverPage) -> None:
    page.delivery.said = ""
    desk.bot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    desk.wait(lambda: page.delivery.said != "" and not desk.bench.background.busy)


@pytest.mark.thorough
def test_a_row_is_set_beside_the_list_and_can_be_undone(desk: Desk, page: DeliverPage) -> None:
    page.add()
    id = page.table.current
    assert id == desk.session.deliverables[-1].id and page.panel.title.text() == "Master"
    margin = page.panel.controls["margin"]
    assert isinstance(margin, Ruler)
    margin.setFocus()
    QTest.keyClick(margin, Qt.Key.Key_Right)
    assert desk.session.deliverables[-1].margin > 0.0
    desk.bench.document.undo()
    assert desk.session.deliverables[-1].margin == 0.0
    page.panel.pattern.setFocus()
    page.panel.pattern.selectAll()
    QTest.keyClicks(page.panel.pattern, "{session} {rate} 2")
    QTest.keyClick(page.panel.pattern, Qt.Key.Key_Return)
    assert desk.session.deliverables[-1].pattern == "{session} {rate} 2"
    assert page.panel.file.text() == "Harbour Take 48k 2.wav"
    page.table.setFocus()
    QTest.keyClick(page.table, Qt.Key.Key_Up)
    assert page.panel.title.text() == "Streaming"
    QTest.keyClick(page.table, Qt.Key.Key_Down)
    QTest.keyClick(page.table, Qt.Key.Key_Delete)
    assert len(desk.session.deliverables) == 1


@pytest.mark.thorough
def test_rows_go_to_their_own_targets_from_one_play(desk: Desk, page: DeliverPage, tmp_path: Path) -> None:
    change, first = page.delivery.change, desk.session.deliverables[0].id
    change(first, "target", TARGETS[2])
    page.add()
    second = page.table.current
    change(second, "format", "mp3")
    change(second, "bit_rate", 192)
    assert page.table.item(0, 2).text() == "Broadcast" and "MP3 192k" in page.table.item(1, 1).text()
    written(desk, page)
    assert "−23.0 LUFS" in page.table.item(0, 4).text() and page.table.item(0, 6).text() == "meets it"
    assert "dBTP" in page.table.item(1, 5).text()
    assert sorted(p.suffix for p in (tmp_path / "out").iterdir()) == [".mp3", ".wav"]


@pytest.mark.thorough
def test_a_row_that_cannot_be_named_is_told_and_nothing_is_written(
    desk: Desk, page: DeliverPage, tmp_path: Path
) -> None:
    page.delivery.change(desk.session.deliverables[0].id, "pattern", "{moon}")
    desk.bot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    assert "{moon}" in desk.window.notice.text.text() and not (tmp_path / "out").exists()
    assert "{moon}" in page.panel.file.text()


@pytest.mark.thorough
def test_encodings_are_checked_heard_and_asked_for_a_margin(desk: Desk, page: DeliverPage) -> None:
    page.delivery.change(desk.session.deliverables[0].id, "format", "opus")
    page.chooser.button("encode").click()
    panel, encoding = page.encode, Encoding("opus", 256)
    panel.all.click()
    desk.wait(lambda: encoding in page.delivery.encode_check.found and not desk.bench.background.busy)
    desk.settle()
    assert panel.table.item(0, 0).text() == "Opus 256"
    names = [name for _, name in desk.bench.listening.hear_choices()]
    assert [n for n in names if "Opus" in n] == ["Opus 256", "Opus 256 lost"]
    hear = panel.table.cellWidget(0, panel.table.columnCount() - 1)
    assert isinstance(hear, QPushButton)
    hear.click()
    assert desk.session.view.hear == encoding.id + LOST
    gains = desk.bench.picture.gains
    assert encoding.id in gains and abs(gains[encoding.id] - gains[RESULT]) < 0.5
    desk.bench.engine.play()
    desk.wait(lambda: desk.bench.engine.playing)
    panel.search.click()
    desk.wait(lambda: page.delivery.encode_check.margin is not None and not desk.bench.background.busy)
    assert "margin" in panel.margin.text()
    if page.delivery.encode_check.margin.margin > 0.0:
        panel.use.click()
        assert desk.session.deliverables[0].margin == page.delivery.encode_check.margin.margin
    desk.bench.set_setting("trim-1", "gain", -4.0, "Gain")
    assert "earlier state" in panel.state.text()


@pytest.mark.thorough
def test_prices_are_found_heard_and_kept_with_keys(desk: Desk, page: DeliverPage) -> None:
    desk.bench.look(page="shape")
    desk.bench.look(page="deliver")
    desk.window.deliver.chooser.button("costs").click()
    desk.window.deliver.costs.search.click()
    assert desk.session.view.page == "deliver"
    desk.wait(lambda: len(page.delivery.costs.lines) == 6 and not desk.bench.background.busy)
    desk.settle()
    table = page.costs.table
    assert "the target" in table.item(table.currentRow(), 0).text()
    QTest.keyClick(table, Qt.Key.Key_Up)
    QTest.keyClick(table, Qt.Key.Key_H)
    row = table.currentRow()
    assert desk.session.view.hear == price_id(row)
    gains = desk.bench.picture.gains
    wanted = page.delivery.costs.lines[row].level - page.delivery.costs.lines[0].level
    assert gains[RESULT] - gains[price_id(row)] == pytest.approx(wanted, abs=1.0)
    QTest.keyClick(table, Qt.Key.Key_Return)
    desk.settle()
    song = desk.bench.picture.song_render
    assert song is not None and song.result.figures().integrated == pytest.approx(-15.0, abs=0.06)
    assert desk.session.view.hear == RESULT
    desk.bench.document.undo()
    desk.bench.set_setting("trim-1", "gain", -12.0, "Gain")
    page.delivery.costs.take(row)
    assert "has changed since" in desk.window.notice.text.text()


@pytest.mark.thorough
def test_two_in_a_row_are_divided_by_the_ruler(desk: Desk) -> None:
    desk.bench.edit("Add", lambda s: s.with_new_step(Clipper(ceiling=-1.0), "mix", "glue-1"))
    desk.bench.set_setting("limiter-1", "drive", 16.0, "Drive")
    desk.bench.look(step="limiter-1")
    desk.settle()
    editor = desk.window.shape.editor
    assert editor.division.isVisible() and "of the two's work" in editor.words.text()
    before = desk.bench.picture.song_render.result.figures().integrated
    editor.division.setFocus()
    QTest.keyClick(editor.division, Qt.Key.Key_Right)
    desk.wait(lambda: desk.bench.document.undo_name.startswith("Tops of"))
    desk.settle()
    assert desk.bench.picture.song_render.result.figures().integrated == pytest.approx(before, abs=0.05)


@pytest.mark.thorough
def test_tags_are_typed_checked_and_written(desk: Desk, page: DeliverPage, tmp_path: Path) -> None:
    dialog = page.tags_dialog()
    dialog.lines["title"].setText("Low Water")
    dialog.lines["isrc"].setText("se-abc-26-0001")
    dialog.accept()
    assert "ISRC" in dialog.trouble.text() and desk.session.tags == Tags()
    dialog.lines["isrc"].setText("se-abc-26-00001")
    dialog.cover.setText("gone.png")
    dialog.accept()
    assert "gone.png" in dialog.trouble.text()
    dialog.cover.setText("")
    dialog.accept()
    assert (desk.session.tags.title, desk.session.tags.isrc) == ("Low Water", "SEABC2600001")
    page.delivery.change(desk.session.deliverables[0].id, "format", "flac")
    written(desk, page)
    (file,) = (tmp_path / "out").iterdir()
    assert mutagen.File(file)["title"] == ["Low Water"]


@pytest.mark.thorough
def test_targets_are_edited_and_offered_everywhere(desk: Desk, page: DeliverPage, tmp_path: Path) -> None:
    dialog = TargetsDialog(page)
    dialog.list.setCurrentRow(0)
    assert dialog.name.isReadOnly() and not dialog.remove.isEnabled()
    dialog._add()
    dialog.name.setText("Dub plate")
    dialog.name.editingFinished.emit()
    ruler = dialog.controls["loudness"]
    assert isinstance(ruler, Ruler)
    ruler.moved.emit(-9.0)
    dialog.accept()
    panel = desk.window.shape.target
    desk.bench.look(page="shape")
    panel.refresh()
    at = panel.choice.findData("Dub plate")
    panel.choice.setCurrentIndex(at)
    panel.choice.activated.emit(at)
    assert (desk.session.target.name, desk.session.target.loudness) == ("Dub plate", -9.0)
    assert "Reach −9.0" in panel.reach.text()
    path = tmp_path / "t.json"
    path.write_text("{")
    dialog.take_from(path)
    assert "is no file of targets" in dialog.trouble.text()
    write_targets(path, (TARGETS[0], Target(name="Cutting room")))
    dialog.take_from(path)
    assert target_named("Cutting room") is not None
    assert "come with the program: Streaming" in dialog.trouble.text()


def test_the_loudness_view_reads_and_seeks(desk: Desk, page: DeliverPage) -> None:
    view = page.over_time
    middle = QPoint(round(view.area.center().x()), round(view.area.center().y()))
    move(view, QPointF(middle), buttons=Qt.MouseButton.NoButton)
    assert "so far" in view.readings()
    assert "untouched S" in view.readings()
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=middle)
    desk.wait(lambda: abs(desk.session.view.position - 4.0) < 0.2)
    view.setFocus()
    QTest.keyClick(view, Qt.Key.Key_Right)
    QTest.keyClick(view, Qt.Key.Key_Return)
    assert desk.session.view.position > 4.0


@pytest.mark.thorough
def test_the_report_is_written_and_printed(
    desk: Desk, page: DeliverPage, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, suffix in (("write_report", ".html"), ("print_report", ".pdf")):
        path = tmp_path / f"r{suffix}"
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, path=path: (str(path), ""))
        getattr(page, name)()
        desk.wait(lambda path=path: path.exists() and not desk.bench.background.busy)
    assert "Harbour Take" in (tmp_path / "r.html").read_text() and (tmp_path / "r.json").exists()
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")


@pytest.mark.thorough
def test_replacing_is_asked_once(
    desk: Desk, page: DeliverPage, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    written(desk, page)
    asked = answering(monkeypatch, "stay")
    page.write_all()
    assert len(asked) == 1 and not desk.bench.background.busy
    answering(monkeypatch, "replace")
    written(desk, page)
    assert len(list((tmp_path / "out").iterdir())) == 1


@pytest.mark.thorough
def test_dither_is_heard_by_keys_and_chosen_blind(desk: Desk, page: DeliverPage) -> None:
    id = desk.session.deliverables[0].id
    page.delivery.change(id, "bits", "16")
    page.delivery.change(id, "fade_out", 3.0)
    row = desk.session.deliverables[0]
    dialog = DitherDialog(page, page.delivery, row)
    dialog.show()
    desk.wait(lambda: dialog.ready and not desk.bench.background.busy)
    QTest.keyClick(dialog, Qt.Key.Key_3)
    assert desk.session.view.hear == "dither-light" and dialog.buttons[2].isChecked()
    desk.wait(lambda: desk.bench.engine.playing and desk.bench.engine.position >= 4.9)
    dialog.blind.click()
    assert desk.session.view.hear == RESULT
    assert sorted(dialog.order) == ["deep", "ear", "light", "none", "tpdf"]
    words = " ".join(made.text() for made in dialog.buttons)
    assert not any(name in words for _, name in KINDS)
    QTest.keyClick(dialog, Qt.Key.Key_2)
    heard = dialog.order[1]
    QTest.keyClick(dialog, Qt.Key.Key_Return)
    assert desk.session.deliverables[0].dither == heard and dict(KINDS)[heard] in dialog.state.text()
    dialog.reject()
    assert desk.session.view.hear == RESULT and desk.bench.listening.passing is None
    desk.wait(lambda: not desk.bench.engine.playing and desk.bench.engine.position == pytest.approx(3.0, abs=0.02))
    assert not [id for id in desk.bench.listening.extras if id.startswith("dither-")]


@pytest.mark.thorough
def test_an_album_is_measured_aimed_and_delivered(desk: Desk, page: DeliverPage, tmp_path: Path) -> None:
    desk.window.documents.save()
    first = desk.bench.document.path
    second = first.with_name("Second.gluvo")
    softer = desk.session.with_step(msgspec.structs.replace(desk.session.step("trim-1"), gain=-14.0))
    write_session(second, softer.replace(name="Second"))
    dialog = AlbumDialog(page, desk.bench)
    dialog.folder = tmp_path / "album"
    dialog.show()
    dialog.take([first, second, tmp_path / "gone.gluvo"])
    desk.wait(lambda: len(dialog.tracks) == 2 and not desk.bench.background.busy)
    assert "gone.gluvo was not found" in dialog.state.text() and "2 songs" in dialog.spread.text()
    dialog.target.setCurrentIndex(1)
    dialog.together.set_on(True)
    dialog.refresh()
    loud, soft = (aim.loudness for aim in dialog.aims())
    assert loud == pytest.approx(-14.0) and soft < -16.0
    assert dialog.table.item(1, 4).text() == f"{soft:.1f}".replace("-", "−")
    desk.wait(dialog.write.isEnabled)
    dialog.write.click()
    desk.wait(lambda: dialog.table.item(1, 5).text() != "" and not desk.bench.background.busy)
    assert [dialog.table.item(n, 5).text() for n in range(2)] == ["1 file, on target"] * 2
    assert len(list((tmp_path / "album").iterdir())) == 2
    desk.wait(dialog.write.isEnabled)
    dialog.write.click()
    desk.wait(lambda: "exists already" in dialog.table.item(0, 5).text() and not desk.bench.background.busy)
    dialog.reject()


def test_a_song_of_an_album_tells_of_clipped_files_and_asks_no_target_of_its_parts(tmp_path: Path) -> None:
    figures = figures_of(trace_of(music(1.0) * 0.1, RATE))

    def words(of: Literal["mix", "only"], clipped: float) -> tuple[str, bool]:
        file = Written(tmp_path / "A.wav", figures, RATE, 0.0, RATE, clipped=clipped)
        row = Deliverable(id="r", name="R", of=of)
        return _told((Delivered(row, TARGETS[0], Outcome((file,)), ""),))

    assert words("only", 0.0) == ("1 file, on target", True)
    assert words("only", 1.2) == ("A.wav: clipped by 1.20 dB", False)
    told, good = words("mix", 1.2)
    assert told.startswith("A.wav: clipped by 1.20 dB; loudness is") and not good
