"""Every key of the window pressed as a keyboard does, and what it changed; keys that controls use themselves."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QDialog, QFileDialog, QToolTip, QWidget

from gluvo.compare.match import RESULT, UNTOUCHED
from gluvo.desk.controls import dialogs
from gluvo.desk.controls.finder import Finder
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.controls.widgets import Field
from gluvo.desk.editors.eq.editor import EqEditor
from gluvo.desk.editors.pass_dialog import PassDialog
from gluvo.desk.pages.by_section_dialogs import LiftsDialog, WhereDialog
from gluvo.desk.pages.notes_dialog import NotesDialog
from gluvo.desk.pages.prints_dialog import PrintsDialog
from gluvo.desk.pages.registry import PAGES
from gluvo.desk.window.actions import ACTIONS
from gluvo.desk.window.hear_list import HELD_MS
from gluvo.desk.window.help import GuideDialog
from gluvo.opened.tasks import BRINGING_IN
from gluvo.session import chains
from gluvo.session.document import Document
from gluvo.session.history import history_of
from gluvo.session.prints import with_print
from gluvo.session.records import Media
from gluvo.session.store import write_session
from gluvo.session.versions import kept
from gluvo.steps import Band, MidSideEq, Outboard, Saturation, Trim
from gluvo.steps.recorded import Sent

from .desk import Desk, focus, key, shortcut, small_session

KEYS = Qt.Key
Probe = Callable[[Desk], Any]

asked: list[str] = []
"""The dialogs that were opened since a test began."""


@pytest.fixture
def all_keys(empty_desk: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Desk:
    """A session in which every key has something to do; dialogs are noted instead of shown."""
    asked.clear()
    monkeypatch.setattr(dialogs, "ask", lambda _parent, title, *_: asked.append(title) or "stay")
    for name in ("getOpenFileName", "getOpenFileNames", "getSaveFileName", "getExistingDirectory"):
        empty: Any = ([], "") if name == "getOpenFileNames" else "" if name == "getExistingDirectory" else ("", "")
        monkeypatch.setattr(QFileDialog, name, lambda _p, title, *_, e=empty: asked.append(title) or e)
    monkeypatch.setattr(QDialog, "exec", lambda dialog: asked.append(dialog.windowTitle()) or 0)
    monkeypatch.setattr(QDialog, "open", lambda dialog: asked.append(dialog.windowTitle()))
    session, path = small_session(tmp_path)
    eq = MidSideEq(id="eq-1", bands=(Band(id=1, gain=-2.0), Band(id=2, freq=4000.0, target="mid"), Band(id=3)))
    chain = session.mix.chain
    write_session(path, session.with_chain("mix", (*chain[:2], eq, *chain[2:])))
    empty_desk.open(path, measured=False)
    return empty_desk


def view(name: str) -> Probe:
    return lambda desk: getattr(desk.session.view, name)


def ids(desk: Desk) -> list[str]:
    return [item.id for item in chains.flat(desk.session.chain)]


def bands(desk: Desk) -> Any:
    return desk.session.step("eq-1").bands


def opened(_desk: Desk) -> list[str]:
    return list(asked)


def reading(desk: Desk) -> bool:
    """Whether the guide is open and has the keys: what comes later than the next key would take it away."""
    return any(guide.isActiveWindow() for guide in desk.window.findChildren(GuideDialog))


def finding(_desk: Desk) -> bool:
    """Whether the finder is open, and has all keys."""
    return isinstance(QApplication.activePopupWidget(), Finder)


def clipboard(_desk: Desk) -> str:
    return QGuiApplication.clipboard().text()


def glue(name: str) -> Probe:
    return lambda desk: getattr(desk.session.step("glue-1"), name)


def strip(name: str) -> Probe:
    return lambda desk: getattr(desk.session.strip("stem-1"), name)


def eq_editor(desk: Desk) -> EqEditor:
    editor = desk.window.shape.editor
    assert isinstance(editor, EqEditor)
    return editor


def on_eq(desk: Desk) -> None:
    desk.bench.look(step="eq-1", band=2)


def on_stem(desk: Desk) -> None:
    desk.bench.look(page="buses", strip="stem-1", step="")


def of_two_prints(desk: Desk) -> None:
    on_stem(desk)
    other = Media(path="gone.wav", size=1, sha256="0" * 64)
    desk.bench.edit("A print", lambda s: with_print(s, "stem-1", "rough 2", other, 0.0, False, "")[0])


def on_outboard(desk: Desk) -> None:
    desk.bench.edit("o", lambda s: s.with_new_step(Outboard(), "mix"))
    desk.bench.look(step="outboard-1")
    desk.wait(lambda: desk.bench.renderer is not None)


def on_sent_outboard(desk: Desk) -> None:
    on_outboard(desk)
    media = Media(path="gone.wav", size=1, sha256="0" * 64)
    desk.bench.edit(
        "sent", lambda s: s.with_step(Outboard(id="outboard-1", sent=Sent(media=media, key="k", rate=48_000, frames=9)))
    )


def in_bus(desk: Desk) -> None:
    on_stem(desk)
    shortcut(desk, "Ctrl+J")


def undone(desk: Desk) -> None:
    desk.bench.set_setting("trim-1", "gain", -7.0, "Gain")
    desk.bench.document.undo()


def copied(desk: Desk) -> None:
    shortcut(desk, "Ctrl+C")


def twins(desk: Desk) -> None:
    on_eq(desk)
    shortcut(desk, "Ctrl+D")


def unsaved(desk: Desk) -> None:
    desk.bench.set_setting("trim-1", "gain", -7.0, "Gain")


def deaf(desk: Desk) -> None:
    desk.bench.set_setting("glue-1", "threshold", 0.0, "Threshold")


def searching(desk: Desk) -> None:
    shortcut(desk, "Ctrl+R")
    assert desk.bench.tasks.shown()


def heard(number: int) -> Callable[[Desk], None]:
    """Something else is heard than by the key of that number; all nine keys have something to hear."""

    def prepare(desk: Desk) -> None:
        for n in range(5):
            desk.bench.keep(lambda s, n=n: kept(s, f"State {n}", "", {})[0])
        desk.bench.listening.hear(RESULT if number != 1 else UNTOUCHED)

    return prepare


NONE: Callable[[Desk], None] = lambda _: None  # noqa: E731
EXPECTED: dict[str, tuple[Callable[[Desk], None], Probe]] = {
    "Ctrl+N": (NONE, opened),
    "Ctrl+Shift+N": (NONE, opened),
    "Ctrl+O": (NONE, opened),
    "Ctrl+Shift+D": (NONE, lambda desk: [t.title for t in desk.bench.tasks.shown() if "demo" in t.title]),
    "Ctrl+S": (unsaved, lambda desk: desk.bench.document.changed),
    "Ctrl+Shift+S": (NONE, opened),
    "Ctrl+Shift+A": (NONE, opened),
    "Ctrl+Shift+R": (NONE, opened),
    "Ctrl+E": (NONE, lambda desk: sorted(desk.bench.document.folder.rglob("*"))),
    "Ctrl+Alt+E": (NONE, opened),
    "Ctrl+Alt+O": (NONE, opened),
    "Ctrl+Alt+Q": (NONE, lambda desk: desk.window.album is not None and desk.window.album.isVisible()),
    "Esc": (searching, lambda desk: [t.title for t in desk.bench.tasks.shown() if "Reach" in t.title]),
    "Ctrl+Q": (unsaved, opened),
    "Ctrl+Z": (unsaved, lambda desk: desk.session.step("trim-1")),
    "Ctrl+Shift+Z": (undone, lambda desk: desk.session.step("trim-1")),
    "Ctrl+X": (NONE, ids),
    "Ctrl+C": (lambda _: QGuiApplication.clipboard().setText(""), clipboard),
    "Ctrl+V": (copied, ids),
    "Ctrl+Shift+C": (lambda _: QGuiApplication.clipboard().setText(""), clipboard),
    "Ctrl+Alt+C": (NONE, ids),
    "Ctrl+Space": (NONE, view("marks")),
    "Ctrl+Shift+Space": (lambda desk: shortcut(desk, "Ctrl+Space"), view("marks")),
    "U": (NONE, view("hear")),
    "Shift+W": (NONE, view("hear")),
    "Ctrl+Alt+J": (on_stem, lambda desk: len(desk.session.strips)),
    "Ctrl+Alt+A": (NONE, lambda desk: desk.session.mix.alternatives),
    "A": (lambda desk: shortcut(desk, "Ctrl+Alt+A"), lambda desk: desk.session.mix.alternatives),
    "Ctrl+Alt+T": (lambda desk: shortcut(desk, "Ctrl+Alt+A"), view("page")),
    "Ctrl+Shift+L": (NONE, ids),
    "Ctrl+Alt+S": (NONE, ids),
    "Ctrl+Shift+G": (NONE, ids),
    "Ctrl+Shift+P": (NONE, opened),
    "Ctrl+Alt+P": (NONE, opened),
    "Ctrl+Backspace": (NONE, ids),
    "Ctrl+B": (NONE, glue("on")),
    "Ctrl+Up": (NONE, ids),
    "Ctrl+Down": (NONE, ids),
    "[": (NONE, view("step")),
    "]": (NONE, view("step")),
    "Ctrl+Alt+N": (NONE, opened),
    "Ctrl+Alt+L": (NONE, opened),
    "Ctrl+Alt+M": (NONE, opened),
    "Shift+L": (NONE, lambda desk: len(desk.window.findChildren(LiftsDialog))),
    "Ctrl+Shift+Up": (NONE, lambda desk: desk.session.mix.rides),
    "Ctrl+Shift+Down": (NONE, lambda desk: desk.session.mix.rides),
    "Ctrl+Alt+W": (NONE, lambda desk: len(desk.window.findChildren(WhereDialog))),
    "Ctrl+Alt+K": (NONE, ids),
    "Ctrl+Alt+U": (on_outboard, opened),
    "Ctrl+Alt+Y": (on_sent_outboard, opened),
    "Ctrl+Alt+G": (on_outboard, lambda desk: len(desk.window.findChildren(PassDialog))),
    "V": (NONE, opened),
    "T": (deaf, glue("threshold")),
    "Ctrl+R": (NONE, lambda desk: desk.session.step("limiter-1")),
    "Ctrl+Alt+R": (NONE, opened),
    "Ctrl+Shift+B": (on_eq, bands),
    "Ctrl+D": (on_eq, bands),
    "Ctrl+Alt+D": (twins, bands),
    "Ctrl+Shift+Backspace": (on_eq, bands),
    ",": (on_eq, view("band")),
    ".": (on_eq, view("band")),
    "B": (on_eq, view("hear")),
    "R": (on_eq, lambda desk: eq_editor(desk).tables.currentIndex()),
    "Shift+H": (on_eq, lambda desk: eq_editor(desk).hunt_row.isVisible()),
    "Shift+G": (on_eq, lambda desk: eq_editor(desk).phase_lane.isVisible()),
    "Ctrl+J": (on_stem, lambda desk: len(desk.session.strips)),
    "F2": (on_stem, lambda desk: isinstance(focus(desk), Field)),
    "Ctrl+Shift+J": (in_bus, lambda desk: len(desk.session.strips)),
    "Ctrl+Shift+Del": (in_bus, lambda desk: len(desk.session.strips)),
    "Ctrl+I": (NONE, lambda desk: len(desk.window.findChildren(PrintsDialog))),
    "Ctrl+Alt+I": (NONE, opened),
    "I": (of_two_prints, strip("media")),
    "Ctrl+Alt+B": (NONE, lambda desk: len(desk.window.findChildren(NotesDialog))),
    "Shift+N": (NONE, lambda desk: desk.session.notes),
    "Shift+M": (on_stem, strip("mute")),
    "Shift+S": (on_stem, view("solo")),
    "Shift+A": (lambda desk: desk.bench.look(solo=("stem-1",)), view("solo")),
    "Shift+P": (on_stem, strip("invert")),
    "Ctrl+[": (lambda desk: desk.bench.choose_strip("mix"), view("strip")),
    "Ctrl+]": (on_stem, view("strip")),
    "Ctrl+Shift+M": (on_stem, view("strip")),
    "Space": (NONE, lambda desk: desk.bench.engine.playing),
    "L": (NONE, view("loop")),
    "Home": (lambda desk: desk.bench.listening.seek(5.0), view("position")),
    **{str(n): (heard(n), view("hear")) for n in range(1, 10)},
    "X": (lambda desk: desk.bench.listening.hear(UNTOUCHED), view("hear")),
    "J": (NONE, view("hear")),
    "K": (NONE, view("hear")),
    "Shift+X": (NONE, lambda desk: desk.window.hear_row.alternating.every),
    "Ctrl+T": (NONE, view("page")),
    "G": (NONE, opened),
    "M": (NONE, view("level_matched")),
    **{
        f"Alt+{n}": (lambda desk, n=n: desk.bench.look(monitor="mid" if n == 1 else "stereo"), view("monitor"))
        for n in range(1, 7)
    },
    "Q": (NONE, lambda desk: desk.window.hear_row.hear_range.held),
    "H": (NONE, view("hear")),
    "D": (NONE, view("dim")),
    "Ctrl+Alt+V": (NONE, opened),
    "Ctrl+Shift+Y": (NONE, view("page")),
    "N": (NONE, view("section")),
    "P": (NONE, view("section")),
    "W": (NONE, view("section")),
    "Ctrl+L": (NONE, lambda desk: desk.window.notice.text.text()),
    "Ctrl+K": (NONE, lambda desk: desk.session.sections),
    "Ctrl+F2": (NONE, lambda desk: isinstance(focus(desk), Field)),
    "Ctrl+Shift+K": (NONE, lambda desk: desk.session.sections),
    "Ctrl+Shift+I": (NONE, opened),
    "Ctrl+Shift+E": (NONE, opened),
    "Y": (NONE, view("rows")),
    "Shift+Y": (NONE, view("rows")),
    "Ctrl++": (NONE, lambda desk: desk.window.timeline.view),
    "Ctrl+-": (lambda desk: desk.window.timeline.zoom(0.25), lambda desk: desk.window.timeline.view),
    "Ctrl+G": (NONE, lambda desk: desk.window.timeline.view),
    "Ctrl+Shift+0": (NONE, lambda desk: desk.window.timeline.view),
    "Ctrl+Alt++": (NONE, lambda desk: desk.window.timeline._waves_zoom),
    "Ctrl+Alt+-": (lambda desk: desk.window.timeline.zoom_waves(3.0), lambda desk: desk.window.timeline._waves_zoom),
    "Ctrl+0": (lambda desk: desk.window.timeline.zoom(0.25), lambda desk: desk.window.timeline.view),
    **{
        f"Ctrl+{n}": (lambda desk, n=n: desk.bench.look(page="shape" if n != 2 else "buses"), view("page"))
        for n in range(1, len(PAGES) + 1)
    },
    "F1": (NONE, finding),
    "F6": (lambda desk: desk.window.shape.ledger.list.setFocus(), lambda desk: id(focus(desk))),
    "Shift+F6": (lambda desk: desk.window.shape.ledger.list.setFocus(), lambda desk: id(focus(desk))),
    "E": (lambda desk: desk.window.shape.ledger.list.setFocus(), lambda desk: id(focus(desk))),
    "F9": (NONE, lambda desk: desk.window.meters is not None and desk.window.meters.isVisible()),
    "F11": (NONE, lambda desk: desk.window.isFullScreen()),
    "Shift+F1": (NONE, lambda desk: desk.window.explainer.waiting),
    "Ctrl+Shift+F1": (NONE, lambda desk: desk.window.tour.on),
    "Ctrl+F1": (NONE, reading),
    "F": (NONE, finding),
}
"""By key: what is done before it is pressed, and what must be another then."""


def test_each_action_with_a_key_is_pressed_here() -> None:
    assert set(EXPECTED) == {a.key for a in ACTIONS if a.key}


AT_A_TIME = 30
"""So many keys are pressed in one window, each in the session as it was opened."""


@pytest.mark.parametrize("first", range(0, len(EXPECTED), AT_A_TIME))
def test_a_key_does_what_it_says(all_keys: Desk, first: int) -> None:
    desk = all_keys
    path, lock = desk.bench.document.path, desk.bench.document.lock
    written = path.read_bytes()
    for keys in list(EXPECTED)[first : first + AT_A_TIME]:
        desk.bench.tasks.cancel_kind(BRINGING_IN)
        for kind in (GuideDialog, NotesDialog, Finder):
            for beside in desk.window.findChildren(kind):
                beside.close()
        if desk.window.album is not None:
            desk.window.album.close()
        path.write_bytes(written)
        history_of(path).unlink(missing_ok=True)
        desk.bench.open(Document.open(path, lock))
        desk.window.timeline.zoom_to(None)
        desk.window.notice.clear()
        asked.clear()
        desk.wait(lambda: desk.bench.audio.material is not None)
        prepare, probe = EXPECTED[keys]
        prepare(desk)
        before = probe(desk)
        shortcut(desk, keys)
        assert_changes(desk, probe, before, keys)


def assert_changes(desk: Desk, probe: Probe, before: Any, keys: str) -> None:
    try:
        desk.wait(lambda: probe(desk) != before)
    except Exception:
        pytest.fail(f"{keys} changed nothing")


# --- keys that controls use themselves ---------------------------------------------------------------------------------


def wheel(
    widget: QWidget, place: QPoint, held: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier, turn: int = 120
) -> bool:
    """A turn of the wheel over a place; whether it was taken."""
    event = QWheelEvent(
        QPointF(place),
        QPointF(widget.mapToGlobal(place)),
        QPoint(),
        QPoint(0, turn),
        Qt.MouseButton.NoButton,
        held,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    event.ignore()
    QApplication.sendEvent(widget, event)
    return event.isAccepted()


def ruler(desk: Desk, name: str) -> Ruler:
    return next(r for r in desk.window.findChildren(Ruler) if r.isVisible() and r.setting.name == name)


@pytest.mark.thorough
def test_digits_on_a_ruler_type_a_value_and_choose_what_is_heard_elsewhere(desk: Desk) -> None:
    threshold = ruler(desk, "threshold")
    threshold.setFocus()
    key(desk, "2")
    field = focus(desk)
    assert isinstance(field, Field) and field.text() == "2" and desk.session.view.hear == RESULT
    key(desk, KEYS.Key_Escape)
    assert focus(desk) is threshold and threshold.value == -26.0
    key(desk, "-")
    key(desk, "21.5")
    key(desk, KEYS.Key_Return)
    assert threshold.value == -21.5 and desk.session.step("glue-1").threshold == -21.5
    desk.window.shape.ledger.list.setFocus()
    key(desk, "2")
    assert desk.session.view.hear == UNTOUCHED


@pytest.mark.thorough
@pytest.mark.parametrize(("pressed", "wanted"), [(KEYS.Key_Home, -60.0), (KEYS.Key_End, 0.0)])
def test_home_and_end_on_a_ruler_are_its_own(desk: Desk, pressed: Qt.Key, wanted: float) -> None:
    threshold, position = ruler(desk, "threshold"), desk.bench.engine.position
    desk.bench.listening.seek(5.0)
    threshold.setFocus()
    key(desk, pressed)
    assert threshold.value == pytest.approx(wanted) and desk.session.view.position == 5.0
    assert position != 5.0


@pytest.mark.thorough
def test_f2_types_where_the_focus_is_and_renames_nothing(desk: Desk) -> None:
    name = desk.session.mix.name
    desk.bench.edit("eq", lambda s: s.with_chain("mix", (MidSideEq(id="eq-1", bands=(Band(id=1),)), *s.mix.chain)))
    threshold = ruler(desk, "threshold")
    threshold.setFocus()
    key(desk, KEYS.Key_F2)
    assert isinstance(focus(desk), Field) and desk.session.view.page == "shape"
    key(desk, "-30")
    key(desk, KEYS.Key_Return)
    assert threshold.value == -30.0 and desk.session.mix.name == name
    desk.bench.look(step="eq-1", band=1)
    table = eq_editor(desk).table
    table.setFocus()
    table.setCurrentCell(0, 3)
    key(desk, KEYS.Key_F2)
    field = focus(desk)
    assert isinstance(field, Field) and table.isAncestorOf(field) and desk.session.view.page == "shape"
    key(desk, KEYS.Key_Escape)


@pytest.mark.thorough
def test_a_value_beyond_the_range_is_clamped_with_a_word(desk: Desk) -> None:
    threshold = ruler(desk, "threshold")
    for typed, value, word in (("-90", -60.0, "−60.00 dBFS is the least."), ("12", 0.0, "0.00 dBFS is the most.")):
        threshold.setFocus()
        key(desk, KEYS.Key_Return)
        key(desk, typed)
        key(desk, KEYS.Key_Return)
        assert threshold.value == value
        desk.wait(lambda word=word: word in QToolTip.text())


@pytest.mark.thorough
def test_arrow_keys_go_in_round_steps(desk: Desk) -> None:
    desk.bench.look(page="buses", strip="stem-1")
    fader = ruler(desk, "fader")
    fader.setFocus()
    for pressed, wanted in (
        (KEYS.Key_Up, 0.5),
        (KEYS.Key_Up, 1.0),
        (KEYS.Key_Down, 0.5),
        (KEYS.Key_PageDown, -4.5),
    ):
        key(desk, pressed)
        assert fader.value == pytest.approx(wanted) == desk.session.strip("stem-1").fader
    key(desk, KEYS.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert fader.value == pytest.approx(-4.4)
    key(desk, KEYS.Key_Up)
    assert fader.value == pytest.approx(-4.0)  # onto the next round one


@pytest.mark.thorough
def test_the_wheel_scrolls_a_page_and_changes_nothing_on_the_way(desk: Desk) -> None:
    desk.bench.edit("x", lambda s: s.with_step(Saturation(id="saturation-1", drive=3.0)))
    before = desk.session.strips
    desk.window.setFocus()
    for made in desk.window.findChildren(QWidget):
        if made.isVisible() and isinstance(made, Ruler | QComboBox) and not made.hasFocus():
            assert not wheel(made, made.rect().center()), made.accessibleName()
    assert desk.session.strips == before
    threshold = ruler(desk, "threshold")
    at = threshold.rect().center()
    assert wheel(threshold, at, Qt.KeyboardModifier.ControlModifier) and threshold.value == -25.5
    threshold.setFocus()
    key(desk, KEYS.Key_Shift)  # the window is active now
    for _ in range(3):
        assert wheel(threshold, at, turn=40)  # thirds of a notch, as smooth wheels tell them
    assert threshold.value == -25.0
    choice = desk.window.shape.target.choice
    choice.setFocus()
    assert wheel(choice, choice.rect().center(), turn=-120)
    desk.bench.look(page="buses", strip="mix")
    tree = desk.window.buses.tree
    place = tree.place_of("stem-1", "fader")
    tree.setFocus()
    assert not wheel(tree, place)  # another strip is chosen
    desk.bench.choose_strip("stem-1")
    assert wheel(tree, place) and desk.session.strip("stem-1").fader == 0.5


# --- keys that are held ------------------------------------------------------------------------------------------------


def key_event(desk: Desk, kind: QEvent.Type, time: int, pressed: Qt.Key = KEYS.Key_2) -> None:
    """A key event with a time of its own, as the window system sends it."""
    event = QKeyEvent(kind, pressed, Qt.KeyboardModifier.NoModifier, "2")
    event.setTimestamp(time)
    QApplication.sendEvent(focus(desk), event)


def hold(desk: Desk, down: int) -> None:
    """A key of the Hear row goes down at a time, in milliseconds."""
    key_event(desk, QEvent.Type.ShortcutOverride, down)
    action = next(a for a in desk.window.actions() if a.shortcut() == QKeySequence("2"))
    action.trigger()


@pytest.mark.thorough
def test_a_tap_is_told_from_a_hold_by_the_times_of_the_events(desk: Desk) -> None:
    desk.window.setFocus()
    hold(desk, 10_000)
    key_event(desk, QEvent.Type.KeyRelease, 10_000 + HELD_MS - 100)
    QTest.qWait(60)
    assert desk.session.view.hear == UNTOUCHED  # however long the window took to get to it
    desk.bench.listening.hear(RESULT)
    hold(desk, 20_000)
    assert desk.session.view.hear == UNTOUCHED
    key_event(desk, QEvent.Type.KeyRelease, 20_000 + HELD_MS + 100)
    desk.wait(lambda: desk.session.view.hear == RESULT)


@pytest.mark.thorough
def test_a_held_key_that_is_repeated_as_presses_and_releases_comes_back(desk: Desk) -> None:
    desk.window.setFocus()
    hold(desk, 10_000)
    for time in range(10_660, 11_000, 40):  # as some systems repeat a key
        key_event(desk, QEvent.Type.KeyRelease, time)
        hold(desk, time)
        assert desk.session.view.hear == UNTOUCHED
    key_event(desk, QEvent.Type.KeyRelease, 11_005)
    desk.wait(lambda: desk.session.view.hear == RESULT)


@pytest.mark.thorough
def test_a_tap_of_h_leaves_no_cut(desk: Desk) -> None:
    eq = MidSideEq(id="eq-1", bands=(Band(id=1, gain=-2.0),))
    desk.bench.edit("eq", lambda s: s.with_chain("mix", (eq, *s.mix.chain)))
    desk.bench.look(step="eq-1", band=1)
    editor, lane = eq_editor(desk), next(v for v in eq_editor(desk).lanes.values() if v.isVisible())
    lane.setFocus()
    for place in (desk.window.rect().topLeft(), lane.mapTo(desk.window, lane.rect().center())):
        QTest.mouseMove(desk.window, place)
        desk.bot.keyPress(lane, KEYS.Key_H)
        assert editor.hunt.place is not None
        desk.bot.keyRelease(lane, KEYS.Key_H)
        desk.wait(lambda: editor.hunt.place is None)
        assert desk.session.step("eq-1") == eq


# --- what is added comes where it should -------------------------------------------------------------------------------


@pytest.mark.thorough
def test_after_an_undo_the_next_step_comes_where_the_last_one_was(desk: Desk) -> None:
    ledger = desk.window.shape.ledger
    desk.bench.look(step="glue-1")
    ledger.add(Saturation())
    added = desk.session.view.step
    assert ids(desk) == ["trim-1", "glue-1", added, "limiter-1"]
    shortcut(desk, "Ctrl+Z")
    assert desk.session.view.step == "glue-1" and ledger.list.currentRow() == 2
    shortcut(desk, "Ctrl+Shift+Z")
    assert desk.session.view.step == added
    shortcut(desk, "Ctrl+Z")
    ledger.add(Trim(gain=-1.0))
    assert ids(desk)[:2] == ["trim-1", "glue-1"] and ids(desk)[2] == desk.session.view.step


@pytest.mark.thorough
def test_what_is_added_while_in_is_chosen_comes_first(desk: Desk) -> None:
    desk.bench.look(step="")
    desk.window.shape.ledger.add(Saturation())
    assert ids(desk)[0] == desk.session.view.step and ids(desk)[1:] == ["trim-1", "glue-1", "limiter-1"]


@pytest.mark.thorough
def test_undo_of_group_chooses_the_strip_again(desk: Desk) -> None:
    desk.bench.look(page="buses", strip="stem-1", step="")
    shortcut(desk, "Ctrl+J")
    new = desk.session.view.strip
    assert new not in ("stem-1", "mix")
    shortcut(desk, "Ctrl+Z")
    assert desk.session.view.strip == "stem-1"
    shortcut(desk, "Ctrl+Shift+Z")
    assert desk.session.view.strip == new


@pytest.mark.thorough
def test_a_row_of_the_ledger_is_opened_by_enter_and_switched_by_its_own_key(desk: Desk) -> None:
    for page in ("shape", "buses"):
        desk.bench.look(page=page, step="glue-1")
        ledger = desk.window.shape.ledger if page == "shape" else desk.window.buses.ledger
        ledger.list.setFocus()
        key(desk, KEYS.Key_Return)
        editor = desk.window.shape.editor
        assert desk.session.view.page == "shape" and desk.session.step("glue-1").on
        desk.wait(lambda editor=editor: editor.isAncestorOf(focus(desk)))
        desk.bench.look(page=page)
        row = ledger.list.visualItemRect(ledger.list.item(2))
        desk.bot.mouseDClick(ledger.list.viewport(), Qt.MouseButton.LeftButton, pos=row.center())
        assert desk.session.view.page == "shape"
    desk.window.shape.ledger.list.setFocus()
    key(desk, KEYS.Key_B, Qt.KeyboardModifier.ControlModifier)
    assert not desk.session.step("glue-1").on


@pytest.mark.thorough
def test_every_row_of_the_page_of_keys_has_a_name(desk: Desk) -> None:
    page = desk.window.menus.find(keys=True)
    rows = page.rows()
    assert isinstance(page, Finder) and all(row.text(0).strip() for row in rows)
    assert {row.text(1) for row in rows} >= {str(n) for n in range(1, 10)}
    page.reject()
