"""Marked rows: what they stand for, and what is done with all of them at once, by hand and as values."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest

from gluvo.compare.match import STEP_OUT, UP_TO
from gluvo.desk.window.window import Window
from gluvo.errors import SessionError
from gluvo.session import chains, marks
from gluvo.session.records import Bus, Media, Session, Stem
from gluvo.session.store import checked, write_session
from gluvo.steps import Glue, Lane, Limiter, Saturation, Split, Step, Trim

from .desk import LEFT, Desk, key, shortcut, small_session

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def song() -> Session:
    """Two stems, a bus and the mix bus: a lane, a Split and keys."""
    media = Media(path="a.wav", size=1, sha256="1" * 64)
    split = msgspec.structs.replace(Split(id="split"), **{})
    rows = [[Glue(id="in-low", ratio=2.0)], [], [Limiter(id="in-high")]]
    chain = (
        Trim(id="t"),
        Glue(id="g", ratio=2.0),
        Lane(id="lane", since="t", steps=(Saturation(id="s"),)),
        split.with_rows(rows),
    )
    return checked(
        Session(
            strips=(
                Bus(id="mix", name="Mix bus", into="", chain=chain),
                Bus(id="kit", name="Kit", chain=(Glue(id="k1", ratio=3.0), Trim(id="k2"))),
                Stem(id="kick", name="Kick", into="kit", media=media, chain=(Trim(id="kt"),)),
                Stem(id="bass", name="Bass", media=media, chain=(Glue(id="b", key="kick", ratio=4.0),)),
            )
        )
    )


def off(session: Session) -> set[str]:
    return {item.id for item in session.items if not item.on}


def test_rows_are_told_in_the_order_in_which_they_stand() -> None:
    rows = marks.rows_of(song())
    assert (
        rows.index("kick")
        < rows.index("kt")
        < rows.index("kit")
        < rows.index("k1")
        < rows.index("mix")
        < rows.index("t")
    )
    session = song().looking(marks=("s", "gone", "kit", "t"))
    assert marks.marked(session) == ("kit", "t", "s")
    assert [i.id for i in marks.items_of(session, {"kit", "t", "s", "lane"})] == ["k1", "k2", "t", "lane"]
    assert marks.steps_out(session, ("lane", "s")) == 2 and marks.steps_out(session, ("kit", "t")) == 3
    low = next(item for item in session.items if item.id == "split").row_ids[0]
    assert low in rows and marks.steps_out(session, (low,)) == 1, "the Glue in it"


def test_what_is_marked_is_switched_off_with_whole_strips_and_bands() -> None:
    session = song()
    assert off(marks.without(session, ("g", "kit", "s"))) == {"g", "k1", "k2", "s"}
    band = session.item("split").row_ids[0]
    quiet = marks.without(session, (band,)).item("split")
    assert quiet is not None and [row.on for row in quiet.told_rows] == [False, True, True]
    again = marks.switched(marks.without(session, ("g", band)), ("g", band), on=True)
    assert (
        again == session
        and marks.all_on(session, ("g", "kit", band))
        and not marks.all_on(marks.without(session, ("k2",)), ("kit",))
    )


@pytest.mark.parametrize(
    ("strip", "step", "gone"),
    [
        ("mix", "g", {"lane", "split"}),
        ("mix", "s", {"split"}),
        ("mix", "in-low", set()),
        ("mix", "", {"t", "g", "lane", "split"}),
        ("kit", "k2", set()),
        ("gone", "g", set()),
    ],
)
def test_up_to_here_is_without_what_comes_after(strip: str, step: str, gone: set[str]) -> None:
    assert off(marks.up_to(song(), strip, step)) == gone


def test_items_that_are_put_in_keep_their_lanes_and_say_where_there_is_no_room() -> None:
    session = song()
    session, made = marks.put_in(checked(session), session.mix.chain, "kit", "k1")
    kit = checked(session).strip("kit")
    assert kit is not None and [i.id for i in kit.chain][1:5] == list(made) and len(made) == 4
    lane = session.item(made[2])
    assert isinstance(lane, Lane) and lane.since == made[0]
    session, (alone,) = marks.put_in(session, [song().item("lane")], "bass", "b")
    lane = checked(session).item(alone)
    assert isinstance(lane, Lane) and lane.since == "" and len(lane.steps) == 1
    full, _ = marks.put_in(song(), [Trim()] * 60, "mix")
    with pytest.raises(SessionError, match=r"at most 64 steps: of 64 there is room for 0\.$"):
        marks.put_in(full, [Trim()] * 64, "mix")


def test_a_strip_is_there_twice_with_its_chain_its_file_and_its_keys() -> None:
    session, new = marks.with_strip_again(song(), "kit")
    session = checked(session)
    bus = session.strip(new)
    assert bus is not None and bus.name == "Kit 2" and bus.into == "mix" and len(bus.chain) == 2
    (kick,) = [s for s in session.stems if s.into == new]
    first = next(stem for stem in session.stems if stem.id == "kick")
    assert kick.media == first.media and len(kick.chain) == 1
    session, new = marks.with_strip_again(song(), "bass")
    again = session.strip(new)
    assert again is not None and again.chain[0].keys_from == ("kick",) and again.chain[0].id != "b"
    assert marks.with_strip_again(song(), "mix") == (song(), "")


STEPS = ("t", "g", "lane", "s", "split", "in-low", "in-high", "k1", "k2", "kt", "b")


@settings(max_examples=150, deadline=None)
@given(st.sets(st.sampled_from((*STEPS, "kit", "mix", "gone"))), st.lists(st.sampled_from((-1, 1)), max_size=6))
def test_nothing_is_lost_by_moving_and_nothing_left_by_removing(ids: set[str], moves: list[int]) -> None:
    session = song()
    for by in moves:
        session = marks.moved(session, ids, by)
        assert sorted(item.id for item in session.items) == sorted(STEPS)
        moved = {item.id for item in chains.flat(marks.items_of(song(), ids))}
        before, after = ([i.id for i in s.items if i.id not in moved] for s in (song(), session))
        assert after == before, "what is not marked stays in its order"
    twice, made = marks.duplicated(song(), {item.id for item in marks.items_of(song(), ids)})
    assert len(made) == len(marks.items_of(song(), ids)) and len({i.id for i in twice.items}) == len(twice.items)
    rest = marks.removed(song(), ids)
    assert not {item.id for item in rest.items} & {i.id for i in chains.flat(marks.items_of(song(), ids))}


# --- by hand ----------------------------------------------------------------------------------------------------


def row_of(desk: Desk, step: str) -> QPoint:
    rows = desk.window.shape.ledger.list
    item = next(rows.item(n) for n in range(rows.count()) if rows.item(n).data(Qt.ItemDataRole.UserRole) == step)
    return rows.visualItemRect(item).center()


@pytest.mark.thorough
def test_rows_are_marked_by_mouse_and_keys_and_heard_out_together(desk: Desk) -> None:
    rows, row = desk.window.shape.ledger.list, desk.window.hear_row
    QTest.mouseClick(rows.viewport(), LEFT, CTRL, row_of(desk, "trim-1"))
    assert desk.session.view.marks == ("trim-1",) and desk.session.view.step == "glue-1", (
        "one looks on where one looked"
    )
    QTest.mouseClick(rows.viewport(), LEFT, SHIFT, row_of(desk, "limiter-1"))
    assert set(desk.session.view.marks) == {"trim-1", "glue-1", "limiter-1"}
    assert "Out · 3 steps" in row.buttons[STEP_OUT].text()
    shortcut(desk, "3")
    desk.settle()
    assert desk.session.view.hear == STEP_OUT
    gains = desk.bench.picture.gains
    assert gains[STEP_OUT] == pytest.approx(gains["untouched"], abs=0.01), "without all of the chain it is as it came"
    shortcut(desk, "Ctrl+Space")  # the chosen one is no longer
    assert "Out · 2 steps" in row.buttons[STEP_OUT].text()
    desk.bench.look(page="compare")
    assert desk.bench.marking.ids == ("trim-1", "limiter-1"), "marks stay while one looks elsewhere"
    desk.bench.look(page="shape")
    shortcut(desk, "Ctrl+Shift+Space")
    assert (
        not desk.session.view.marks
        and row.buttons[STEP_OUT].text().startswith("3  Out")
        and "·" not in row.buttons[STEP_OUT].text()
    )
    rows.setFocus()
    key(desk, Qt.Key.Key_Down, SHIFT)
    assert desk.session.view.step == "limiter-1" and set(desk.session.view.marks) == {"glue-1", "limiter-1"}
    ledger = desk.window.shape.ledger
    assert ledger.unmark.isVisible() and "2 marked" in ledger.unmark.text()
    QTest.mouseClick(ledger.unmark, LEFT)
    assert not desk.session.view.marks and not ledger.unmark.isVisible()


@pytest.mark.thorough
def test_marked_rows_are_switched_copied_moved_and_removed_together(desk: Desk) -> None:
    ids = lambda: [i.id for i in desk.session.chain]  # noqa: E731
    desk.bench.marking.add(["trim-1", "glue-1"])
    shortcut(desk, "Ctrl+B")
    assert not desk.session.step("trim-1").on and not desk.session.step("glue-1").on
    shortcut(desk, "Ctrl+B")
    assert desk.session.step("trim-1").on and desk.bench.document.undo_name == "2 steps on"
    shortcut(desk, "Ctrl+Down")
    assert ids() == ["limiter-1", "trim-1", "glue-1"]
    shortcut(desk, "Ctrl+Down")
    assert ids() == ["limiter-1", "trim-1", "glue-1"], "they stay together at the end"
    shortcut(desk, "Ctrl+C")
    desk.bench.look(step="limiter-1")
    shortcut(desk, "Ctrl+V")
    assert ids() == ["limiter-1", "trim-2", "glue-2", "trim-1", "glue-1"] and desk.session.view.step == "glue-2"
    shortcut(desk, "Ctrl+X")
    assert ids() == ["limiter-1", "trim-2", "glue-2"] and desk.bench.document.undo_name == "Remove 2 steps"
    assert not desk.bench.marking.ids
    shortcut(desk, "Ctrl+Z")
    assert ids() == ["limiter-1", "trim-2", "glue-2", "trim-1", "glue-1"]


@pytest.mark.thorough
def test_a_chain_goes_to_another_strip_and_a_strip_is_doubled(desk: Desk) -> None:
    shortcut(desk, "Ctrl+Shift+C")
    desk.bench.look(page="buses", strip="stem-1", step="")
    shortcut(desk, "Ctrl+V")
    stem = desk.session.strip("stem-1")
    assert stem is not None and [type(i) for i in stem.chain] == [Trim, Glue, Limiter]
    desk.window.buses.tree.setFocus()
    shortcut(desk, "Ctrl+Space")
    assert desk.session.view.marks == ("stem-1",)
    shortcut(desk, "Ctrl+Alt+J")
    assert len(desk.session.stems) == 2 and desk.session.stems[1].media == stem.media
    assert len(desk.session.stems[1].chain) == 3 and desk.session.view.strip == desk.session.stems[1].id
    desk.settle()
    tree = desk.window.buses.tree
    QTest.mouseClick(tree, LEFT, CTRL, tree.place_of(desk.session.stems[1].id))
    assert len(desk.session.view.marks) == 2
    key(desk, Qt.Key.Key_Delete)
    assert not desk.session.stems and desk.bench.document.undo_name == "Remove 2 strips"


@pytest.mark.thorough
def test_what_does_not_fit_and_what_is_nothing_is_told(desk: Desk) -> None:
    window: Window = desk.window
    desk.bench.edit("Fill", lambda s: s.with_chain("mix", [Trim(id=f"t{n}") for n in range(60)]))
    many: list[Step] = [Trim(id=f"x{n}") for n in range(64)]
    desk.bench.look(step="t59")
    from gluvo.session.clipboard import copied

    QGuiApplication.clipboard().setText(copied(many))
    shortcut(desk, "Ctrl+V")
    assert "at most 64 steps: of 64 there is room for 4" in window.notice.text.text() and len(desk.session.chain) == 60
    desk.bench.look(step="", marks=("gone",))
    shortcut(desk, "Ctrl+C")
    assert "no step to be copied" in window.notice.text.text()
    shortcut(desk, "Shift+W")
    assert "no wet path alone" in window.notice.text.text() and desk.session.view.hear == "result"
    shortcut(desk, "U")
    assert desk.session.view.hear == UP_TO
    shortcut(desk, "U")
    assert desk.session.view.hear == "result"


def test_marks_of_what_is_gone_are_told_and_taken_off(empty_desk: Desk, tmp_path: Path) -> None:
    session, path = small_session(tmp_path)
    write_session(path, session.looking(marks=("gone", "trim-1", "gone-too")))
    told: list[str] = []
    empty_desk.bench.told.connect(lambda said: told.append(said.text))
    empty_desk.open(path, measured=False)
    assert empty_desk.session.view.marks == ("trim-1",)
    assert "2 marks stood on what is gone, and are taken off." in told
