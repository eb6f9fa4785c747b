"""Alternatives: settings of a step, a container or a chain side by side, as values, in the sound, and by hand."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from gluvo.compare.hearables import nodes_of
from gluvo.compare.match import ALTERNATIVES
from gluvo.desk.controls.ruler import Ruler
from gluvo.desk.pages.compare.trial_dialog import TrialDialog
from gluvo.errors import SessionError
from gluvo.play.engine import Engine, Monitoring
from gluvo.render.machine import play_through
from gluvo.render.plan import Plan
from gluvo.session import alternatives, marks
from gluvo.session.alternatives import choosing, found, removed, renamed, with_another
from gluvo.session.records import Alternative, Alternatives, Session
from gluvo.session.store import checked, checked_whole, loaded_from, session_bytes
from gluvo.session.versions import kept, state_of
from gluvo.steps import Glue, Lane, Limiter, Saturation, Split, Step, Trim

from .conftest import FADED, RATE, material, music, one
from .desk import LEFT, Desk, key, shortcut, when_shown


def song() -> Session:
    chain: list[Step] = [
        Trim(id="t", gain=-3.0),
        Glue(id="g", ratio=2.0, threshold=-20.0),
        Lane(
            id="lane",
            since="t",
            level=-12.0,
            steps=(Saturation(id="s", drive=3.0), Glue(id="in", ratio=8.0, threshold=-30.0)),
        ),
        Split(id="split"),
    ]
    return checked(one(chain))


def changed(session: Session, id: str, **changes: object) -> Session:
    item = session.item(id)
    assert item is not None
    return session.with_step(msgspec.structs.replace(item, **changes))


def test_a_step_has_settings_side_by_side_and_the_chosen_one_is_edited() -> None:
    session = changed(with_another(song(), "g"), "g", ratio=4.0)
    session = changed(with_another(session, "g"), "g", ratio=9.0)
    assert [s.step("g").ratio for s in alternatives.each(session, "g")] == [2.0, 4.0, 9.0]
    several = found(session, "g")
    assert several is not None and several.chosen == 2 and several.settings[2].items == ()
    back = checked_whole(choosing(session, "g", 0))
    assert back.mix.chain == song().mix.chain, "the first is as it was"
    assert choosing(back, "g", 2) == session and choosing(session, "g", 7) is session
    assert [s.ratio for s in (renamed(session, "g", 1, " slower ").step("g"),)] == [9.0]
    assert alternatives.name_of(found(renamed(session, "g", 1, " slower "), "g"), 1) == "B slower"


def test_nothing_is_left_over_when_alternatives_or_what_they_are_of_go() -> None:
    session = with_another(with_another(song(), "g"), "g")
    two = removed(session, "g", 2)
    assert found(two, "g").chosen == 1 and removed(removed(two, "g", 0), "g", 0) == song()
    assert session.without_step("g").mix.alternatives == ()
    in_lane = with_another(with_another(song(), "in"), "lane")
    assert in_lane.without_step("lane").mix.alternatives == ()
    chain = with_another(in_lane, "mix")
    assert removed(chain, "mix", 1) == in_lane and removed(chain, "mix", 0) == in_lane
    again, new = marks.with_strip_again(one([Trim(id="t")]).replace(strips=(*chain.strips,)), "mix")
    assert new == "" and again.strips == chain.strips


def test_alternatives_of_a_chain_and_of_a_lane_take_those_of_what_is_in_them_along() -> None:
    session = changed(with_another(song(), "in"), "in", ratio=3.0)
    session = with_another(session, "lane")
    session = session.without_step("in")
    assert found(session, "in") is None
    back = choosing(session, "lane", 0)
    assert found(back, "in") is not None and choosing(back, "in", 0).step("in") == song().step("in")
    whole = with_another(back, "mix").with_chain("mix", [Limiter(id="only")])
    assert [a.of for a in checked_whole(whole).mix.alternatives] == [""]
    assert choosing(whole, "mix", 0).mix.chain == back.mix.chain
    assert {a.of for a in choosing(whole, "mix", 0).mix.alternatives} == {"", "in", "lane"}
    assert alternatives.at(back, "mix", "in") == "in" and alternatives.at(back, "mix", "s") == "lane"
    assert alternatives.at(whole, "mix", "only") == "mix" and alternatives.at(back, "mix", "t") == ""
    fresh = whole.with_new_step(Glue(), "mix", "only")
    assert not {i.id for i in fresh.mix.chain} & {i.id for i in back.items}, "new ids are not those that are put away"


def test_alternatives_are_kept_in_files_and_versions() -> None:
    session = renamed(changed(with_another(song(), "g"), "g", ratio=4.0), "g", 0, "gentle")
    assert loaded_from(msgspec.json.decode(session_bytes(session)), "x").session == session
    later, version = kept(session, "Monday", "2026-01-05T10:00:00", {})
    gone = removed(later, "g", 0)
    assert found(gone, "g") is None and found(state_of(gone, version.id), "g") == found(session, "g")


@pytest.mark.parametrize(
    ("several", "words"),
    [
        (Alternatives(of="g", settings=(Alternative(), Alternative(items=(Trim(id="g"),)))), "is of another kind"),
        (Alternatives(of="g", settings=(Alternative(), Alternative())), "is of another kind"),
        (Alternatives(of="gone", settings=(Alternative(), Alternative())), "a step that is not in its chain"),
        (
            Alternatives(of="g", chosen=3, settings=(Alternative(), Alternative(items=(Glue(id="g"),)))),
            "no alternative of the number",
        ),
        (
            Alternatives(settings=(Alternative(), Alternative(items=(Trim(id="a"), Trim(id="a"))))),
            "two steps with the same id",
        ),
        (Alternatives(of="g", settings=(Alternative(items=(Glue(id="g"),)),) * 5), "length <= 4"),
        (Alternatives(of="g", settings=(Alternative(),)), "length >= 2"),
    ],
)
def test_what_is_wrong_in_a_file_is_said(several: Alternatives, words: str) -> None:
    mix = msgspec.structs.replace(song().mix, alternatives=(several,))
    written = msgspec.to_builtins(song().with_strip(mix))
    with pytest.raises(SessionError, match=words) as raised:
        loaded_from(written, "Take.gluvo")
    assert str(raised.value).startswith("Take.gluvo")


def test_a_fifth_and_one_of_nothing_are_refused() -> None:
    session = song()
    for _ in range(3):
        session = with_another(session, "g")
    with pytest.raises(SessionError, match="at most 4 alternatives"):
        with_another(session, "g")
    with pytest.raises(SessionError, match="nothing here"):
        with_another(one([]), "mix")


ACTS = ("another", "choose", "remove", "edit", "drop", "add")


@settings(max_examples=120, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(ACTS), st.sampled_from(("g", "lane", "in", "split", "mix", "s")), st.integers(0, 3)),
        max_size=14,
    )
)
def test_whatever_is_done_the_session_stays_whole(acts: list[tuple[str, str, int]]) -> None:
    session = song()
    for act, id, n in acts:
        try:
            session = checked_whole(
                {
                    "another": lambda s, i=id: with_another(s, i),
                    "choose": lambda s, i=id, k=n: choosing(s, i, k),
                    "remove": lambda s, i=id, k=n: removed(s, i, k),
                    "edit": lambda s, k=n: changed(s, "g", ratio=2.0 + k) if s.item("g") else s,
                    "drop": lambda s, i=id: s.without_step(i),
                    "add": lambda s, i=id: s.with_new_step(Glue(), "mix", i),
                }[act](session)
            )
        except SessionError as error:
            assert "at most" in str(error) or "nothing here" in str(error)
    for of in (a.of or "mix" for a in session.mix.alternatives):
        each = alternatives.each(session, of)
        for a, b in itertools.permutations(range(len(each)), 2):
            there = choosing(choosing(session, of, a), of, b)
            assert there.mix.chain == each[b].mix.chain, "going round changes none of them"


@pytest.mark.sampled(2)
@pytest.mark.parametrize("of", ["g", "lane", "mix"])
def test_alternatives_are_heard_as_rendered_and_changed_over_without_a_click(of: str) -> None:
    x = music(4.0)
    session = with_another(song(), of)
    session = changed(session, "g", ratio=6.0) if of == "g" else changed(session, "lane", level=-3.0)
    step = of if of != "mix" else ""
    for n, wanted in enumerate(alternatives.each(session, of)):
        heard = session.looking(step=step, hear=ALTERNATIVES[n])
        offline = play_through(nodes_of(heard, Plan(heard))[ALTERNATIVES[n]], material(x))
        assert np.abs(offline - play_through(Plan(wanted).result, material(x))).max() < 1e-12
        engine = Engine(material(x), {}, heard)
        engine.listen(Monitoring(path=ALTERNATIVES[n]))
        engine.play()
        live = np.zeros((2 * RATE, 2))
        for at in range(0, len(live), 512):
            engine.pull(live[at : at + 512])
        late = engine.late
        assert np.abs(live[late + FADED :] - offline[FADED : len(live) - late]).max() < 1e-9


# --- by hand ----------------------------------------------------------------------------------------------------


def glue(desk: Desk) -> Glue:
    step = desk.session.step("glue-1")
    assert isinstance(step, Glue)
    return step


@pytest.mark.thorough
def test_another_one_is_made_edited_gone_round_and_undone(desk: Desk) -> None:
    page, row = desk.window.shape, desk.window.shape.alternatives
    assert not row.isVisible()
    shortcut(desk, "A")
    assert "no alternatives here" in desk.window.notice.text.text()
    shortcut(desk, "Ctrl+Alt+A")
    assert row.isVisible() and [b.text() for b in row.buttons] == ["A", "B"] and "the same so far" in row.words.text()
    desk.bench.set_setting("glue-1", "ratio", 8.0, "Ratio")
    ruler = page.editor.controls["ratio"]
    assert isinstance(ruler, Ruler) and ruler.second == 3.0 and "ratio 8.0" in row.words.text().replace("8.00", "8.0")
    assert page.ledger.row("glue-1").words.startswith("B of 2")
    desk.settle()
    loud = desk.bench.picture.section_render.result.loudness(desk.bench.span)
    shortcut(desk, "A")
    assert glue(desk).ratio == 3.0 and row.buttons[0].isChecked() and ruler.second == 8.0
    desk.settle()
    assert desk.bench.picture.section_render.result.loudness(desk.bench.span) != pytest.approx(loud, abs=0.01)
    shortcut(desk, "Ctrl+Z")
    assert glue(desk).ratio == 8.0
    QTest.mouseClick(row.buttons[0], LEFT)
    assert glue(desk).ratio == 3.0 and desk.bench.document.undo_name == "Glue: A"
    row.rename(0)
    for letter in "slow":
        key(desk, letter)
    key(desk, Qt.Key.Key_Return)
    assert row.buttons[0].text() == "A slow"
    desk.bench.side_by_side.remove()
    assert (
        glue(desk).ratio == 8.0 and not row.isVisible() and desk.session.mix.alternatives == () and ruler.second is None
    )


@pytest.mark.thorough
def test_each_solves_its_own_holds_and_is_ranked_blind(desk: Desk) -> None:
    desk.bench.set_setting("glue-1", "hold_aim", True, "Hold")
    desk.settle()
    shortcut(desk, "Ctrl+Alt+A")
    desk.bench.set_setting("glue-1", "ratio", 9.0, "Ratio")
    desk.settle()
    steep = glue(desk).threshold
    shortcut(desk, "A")
    desk.settle()
    assert glue(desk).threshold != pytest.approx(steep, abs=0.3)
    desk.bench.set_setting("trim-1", "gain", -12.0, "Gain")
    desk.settle()
    seen: list[float] = []

    def answer() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, TrialDialog) and dialog.running.places == 2
        several = found(desk.session, "glue-1")
        assert several is not None
        put_away = several.settings[1].items[0]
        assert isinstance(put_away, Glue)
        seen.append(put_away.threshold)
        for pressed in (Qt.Key.Key_1, Qt.Key.Key_2, Qt.Key.Key_Return):
            QTest.keyClick(dialog, pressed)

    when_shown(desk, answer)
    desk.bench.look(page="shape")
    shortcut(desk, "Ctrl+Alt+T")
    desk.wait(lambda: bool(desk.session.trials))
    assert set(desk.session.trials[0].names) == {"Glue A", "Glue B"} and len(desk.session.trials[0].answers) == 2
    assert seen[0] == pytest.approx(steep - 6.0, abs=0.1), "the trim before it is 6 dB lower"


@pytest.mark.thorough
def test_a_whole_chain_has_alternatives(desk: Desk) -> None:
    rows = desk.window.shape.ledger.list
    desk.bench.look(step="")
    shortcut(desk, "Ctrl+Alt+A")
    desk.bench.look(step="limiter-1")
    rows.setFocus()
    key(desk, Qt.Key.Key_Delete)
    assert rows.count() == 3
    shortcut(desk, "A")
    assert rows.count() == 4 and desk.window.shape.ledger.row("").words.startswith("A of 2")
    desk.settle()
    shortcut(desk, "A")
    assert rows.count() == 3 and desk.session.view.step in {"", *(i.id for i in desk.session.chain)}
