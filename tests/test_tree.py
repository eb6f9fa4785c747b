"""The tree of stems and buses, and chains with lanes: changed as values, refused where they make no sense."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.errors import SessionError
from gluvo.session import chains, sections, tree
from gluvo.session.document import Document
from gluvo.session.records import MIX, Bus, Media, Session, Stem
from gluvo.session.store import loaded_from, session_bytes
from gluvo.steps import ChainItem, Glue, Lane, Limiter, Trim

MEDIA = Media(path="x.wav", size=1, sha256="0" * 64)


def stem(id: str, into: str = MIX, **more: object) -> Stem:
    return Stem(id=id, name=id, into=into, media=MEDIA, **more)


def band() -> Session:
    """kick, snare → shells; shells, cymbals → drums; drums, bass → mix."""
    return Session(
        strips=(
            Bus(id=MIX, name="Mix bus", into=""),
            stem("kick", "shells"),
            stem("snare", "shells"),
            Bus(id="shells", name="Shells", into="drums"),
            stem("cymbals", "drums"),
            Bus(id="drums", name="Drums"),
            stem("bass"),
        )
    )


def order(session: Session) -> str:
    return " ".join(f"{strip.id}:{depth}" for strip, depth in tree.rows(session))


def test_rows_flow_downwards() -> None:
    assert order(band()) == "kick:3 snare:3 shells:2 cymbals:2 drums:1 bass:1 mix:0"
    assert tree.path(band(), "kick") == ["kick", "shells", "drums", "mix"]
    assert tree.below(band(), "drums") == {"kick", "snare", "shells", "cymbals", "drums"}


def test_strips_are_moved_grouped_dissolved_and_removed() -> None:
    moved = tree.moved(band(), "bass", "drums", "cymbals")
    assert order(moved) == "kick:3 snare:3 shells:2 bass:2 cymbals:2 drums:1 mix:0"
    assert order(tree.moved(moved, "kick", "shells")) == "snare:3 kick:3 shells:2 bass:2 cymbals:2 drums:1 mix:0"
    grouped = tree.with_bus(band(), "Low", ["bass", "kick"])
    assert order(grouped) == "kick:4 bass:4 bus-1:3 snare:3 shells:2 cymbals:2 drums:1 mix:0"
    assert {s.id for s in tree.children(grouped, "bus-1")} == {"bass", "kick"}
    assert order(tree.dissolved(band(), "shells")) == "kick:2 snare:2 cymbals:2 drums:1 bass:1 mix:0"
    assert order(tree.removed(band(), "drums")) == "bass:1 mix:0"
    for unchanged in (tree.moved(band(), MIX, "drums"), tree.dissolved(band(), MIX), tree.removed(band(), MIX)):
        assert unchanged == band()


def test_nobody_looks_at_what_is_gone() -> None:
    document = Document(band(), Path("x.gluvo"))
    document.edit("Group", lambda s: tree.with_bus(s, "Low", ["bass"]))
    document.edit("Add Trim", lambda s: s.with_new_step(Trim(), "bus-1"))
    document.look(strip="bus-1", step="trim-1", solo=("bus-1", "kick"))
    document.undo()
    assert document.session.view.strip == "bus-1" and document.session.step("trim-1") is None
    document.undo()
    assert document.session.view.strip == MIX
    assert tree.heard(document.session, document.session.view.solo) == tree.heard(band(), ("kick",))
    document.redo()
    document.look(strip="bus-1")
    document.edit("Dissolve", lambda s: tree.dissolved(s, "bus-1"))
    assert document.session.view.strip == MIX


def test_a_bus_cannot_flow_into_itself() -> None:
    with pytest.raises(SessionError, match="cannot flow into itself"):
        tree.moved(band(), "drums", "shells")
    raw = json.loads(session_bytes(band()))
    raw["strips"][5]["into"] = "shells"
    with pytest.raises(SessionError, match="would flow into itself"):
        loaded_from(raw, "a.gluvo")
    raw["strips"][5]["into"] = "nowhere"
    with pytest.raises(SessionError, match="a bus that is not there"):
        loaded_from(raw, "a.gluvo")
    raw["strips"][5]["into"] = "bass"
    with pytest.raises(SessionError, match="a bus that is not there"):
        loaded_from(raw, "a.gluvo")


@pytest.mark.parametrize(
    ("strip", "key"), [("kick", "kick"), ("kick", "shells"), ("kick", MIX), ("shells", "drums"), ("drums", "drums")]
)
def test_a_key_cannot_depend_on_its_own_glue(strip: str, key: str) -> None:
    session = band().with_chain(strip, [Glue(id="g", key=key)])
    with pytest.raises(SessionError, match="already depends"):
        tree.check(session)
    document = Document(band(), Path("x.gluvo"))
    with pytest.raises(SessionError):
        document.edit("Key", lambda s: s.with_chain(strip, [Glue(id="g", key=key)]))
    assert document.session == band() and document.undo_name is None


def test_keys_in_a_ring_are_refused_and_others_allowed() -> None:
    tree.check(band().with_chain("bass", [Glue(id="g", key="kick")]))
    tree.check(band().with_chain("shells", [Glue(id="g", key="kick")]))  # what flows in may be a key
    ring = band().with_chain("bass", [Glue(id="g", key="kick")]).with_chain("kick", [Glue(id="h", key="bass")])
    with pytest.raises(SessionError, match="already depends"):
        tree.check(ring)
    tree.check(band().with_chain("bass", [Glue(id="g", key="gone")]))  # marked on screen, not refused


def test_who_is_heard_with_something_alone() -> None:
    assert tree.heard(band(), ()) == {s.id for s in band().strips}
    assert tree.heard(band(), ("shells",)) == {"kick", "snare", "shells", "drums", MIX}
    assert tree.heard(band(), ("kick", "bass")) == {"kick", "shells", "drums", "bass", MIX}
    assert tree.heard(band(), ("lane-1",)) == {s.id for s in band().strips}


# --- faders and pans -----------------------------------------------------------------------------------------


def test_faders_and_pans() -> None:
    assert stem("a").gains == (1.0, 1.0) and stem("a", invert=True).gains == (-1.0, -1.0)
    assert stem("a", fader=-72.0).gains == (0.0, 0.0)
    assert stem("a", fader=-6.0).gains[0] == pytest.approx(0.501, abs=0.001)
    assert stem("a", pan=100.0).gains == pytest.approx((0.0, 1.0), abs=1e-12)  # balance
    assert stem("a", pan=-100.0).gains == pytest.approx((1.0, 0.0), abs=1e-12)
    for pan in (-100.0, -40.0, 0.0, 25.0, 100.0):  # constant power; 3 dB up at the side
        left, right = stem("a", pan=pan, mono=True).gains
        assert left**2 + right**2 == pytest.approx(2.0)
    assert stem("a", pan=100.0, mono=True).gains == pytest.approx((0.0, 2**0.5), abs=1e-12)


# --- chains --------------------------------------------------------------------------------------------------


def chain() -> tuple[ChainItem, ...]:
    lane = Lane(id="lane", since="a", steps=(Glue(id="x"), Trim(id="y")))
    return Trim(id="a"), Glue(id="b"), lane, Limiter(id="c")


def ids(found: tuple[ChainItem, ...]) -> str:
    return " ".join(
        f"({i.since} {' '.join(s.id for s in i.steps)}){i.id}" if isinstance(i, Lane) else i.id for i in found
    )


def test_chains_are_changed_as_values() -> None:
    assert ids(chain()) == "a b (a x y)lane c"
    assert [i.id for i in chains.flat(chain())] == ["a", "b", "lane", "x", "y", "c"]
    new = Trim(id="n")
    assert ids(chains.inserted(chain(), new, "b")) == "a b n (a x y)lane c"
    assert ids(chains.inserted(chain(), new, "x")) == "a b (a x n y)lane c"
    assert ids(chains.inserted(chain(), new, "lane")) == "a b (a x y)lane n c"
    assert ids(chains.inserted(chain(), new, "lane", inside="lane")) == "a b (a n x y)lane c"
    assert ids(chains.inserted(chain(), new)) == "n a b (a x y)lane c"
    assert ids(chains.inserted(chain(), Lane(id="l"), "x")) == "a b (a x y)lane ( )l c"
    assert ids(chains.without(chain(), "a")) == "b ( x y)lane c"
    assert ids(chains.without(chain(), "x")) == "a b (a y)lane c"
    assert ids(chains.without(chain(), "lane")) == "a b c"
    assert ids(chains.moved(chain(), "y", -1)) == "a b (a y x)lane c"
    assert ids(chains.moved(chain(), "c", -1)) == "a b (a x y c)lane"
    assert ids(chains.moved(chain(), "c", -3)) == "a b (a c x y)lane"
    assert ids(chains.moved(chain(), "c", -9)) == "c a b (a x y)lane"
    assert ids(chains.moved(chain(), "b", 1)) == "a (a b x y)lane c"
    assert ids(chains.moved(chain(), "b", 4)) == "a (a x y)lane b c"
    assert ids(chains.moved(chain(), "x", -1)) == "a b x (a y)lane c"
    assert ids(chains.moved(chain(), "y", 1)) == "a b (a x)lane y c"
    assert ids(chains.moved(chain(), "a", 2)) == "b (b a x y)lane c"
    assert ids(chains.moved(chain(), "lane", 1)) == "a b c (a x y)lane"
    for n in range(-9, 10):  # there and back again
        there = chains.moved(chain(), "x", n)
        assert {i.id for i in chains.flat(there)} == {"a", "b", "lane", "x", "y", "c"}
    assert ids(chains.dropped(chain(), "b", "y")) == "a (a x b y)lane c"
    assert ids(chains.dropped(chain(), "x", "b")) == "a x b (a y)lane c"
    assert ids(chains.dropped(chain(), "lane", "b")) == "a (a x y)lane b c"
    assert ids(chains.dropped(chain(), "a", "")) == "b (a x y)lane c a"
    assert chains.dropped(chain(), "lane", "x") == chains.dropped(chain(), "b", "b") == chain()
    assert chains.before_which(chain(), "x") == "b" and chains.before_which(chain(), "a") == ""
    louder = chains.replaced(chain(), Trim(id="y", gain=3.0))
    assert louder[2].steps[1].gain == 3.0


def test_a_lane_cannot_end_before_it_starts() -> None:
    document = Document(band().with_chain(MIX, chain()), Path("x.gluvo"))
    for edit in (
        lambda s: s.with_chain(MIX, chains.dropped(s.chain, "a", "")),
        lambda s: s.with_chain(MIX, chains.moved(s.chain, "lane", -2)),
        lambda s: s.with_step(Lane(id="lane", since="c")),
        lambda s: s.with_step(Lane(id="lane", since="gone")),
    ):
        with pytest.raises(SessionError, match="come back before it leaves"):
            document.edit("Move", edit)
    assert ids(document.session.chain) == ids(chain())


def test_new_lanes_bring_ids_for_their_steps() -> None:
    session = band().with_chain(MIX, chain())
    pasted = session.with_new_step(session.item("lane"), MIX, "c")
    found = [i.id for i in pasted.items]
    assert len(set(found)) == len(found) == 9
    assert len(pasted.chain[-1].steps) == 2


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from("adlbxyc"), st.sampled_from(["", *"abxyc", "lane"]), st.integers(-3, 3)), max_size=8
    )
)
def test_no_way_of_moving_loses_anything(moves: list[tuple[str, str, int]]) -> None:
    found = chain()
    for id, before, by in moves:
        found = chains.dropped(found, id, before)
        found = chains.moved(found, id, by)
    assert sorted(i.id for i in chains.flat(found)) == ["a", "b", "c", "lane", "x", "y"]


# --- sections ------------------------------------------------------------------------------------------------


def test_edges_stay_in_order_and_neighbours_go_along() -> None:
    session = Session()
    for name, start, end in (("Verse", 0.0, 4.0), ("Refrain", 4.0, 8.0), ("Out", 9.0, 10.0)):
        session, _ = sections.with_section(session, name, start, end)
    verse, refrain, out = session.sections

    def spans(s: Session) -> list[tuple[float, float]]:
        return [(x.start, x.end) for x in s.sections]

    assert spans(sections.with_edge(session, verse.id, "end", 5.0, 10.0)) == [(0, 5), (5, 8), (9, 10)]
    assert spans(sections.with_edge(session, refrain.id, "end", 99.0, 10.0))[1] == (4, 10)
    assert spans(sections.with_edge(session, refrain.id, "start", -5.0, 10.0))[:2] == [(0, 0.05), (0.05, 8)]
    assert spans(sections.with_edge(session, out.id, "start", 9.99, 10.0))[2] == (9.95, 10)
    assert sections.with_edge(session, "gone", "end", 1.0, 10.0) == session


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("", "no sections"),
        ("name,start,end\n", "no sections"),
        ("Verse,1\n", "section 1 needs"),
        ("Verse,a,b\n", "needs a name"),
        ("A,0,1\nVerse,3,2\n", "Verse"),
        ("Verse,nan,2\n", "Verse"),
        ("Verse,-1,2\n", "Verse"),
    ],
)
def test_bad_section_files_are_refused(tmp_path: Path, text: str, word: str) -> None:
    (tmp_path / "s.csv").write_text(text)
    with pytest.raises(SessionError, match=word):
        sections.read_csv(tmp_path / "s.csv", Session())
    with pytest.raises(SessionError, match="cannot be read"):
        sections.read_csv(tmp_path / "none.csv", Session())


def test_sections_survive_their_file(tmp_path: Path) -> None:
    session, _ = sections.with_section(Session(), "Verse, slow", 0.25, 4.5)
    session, _ = sections.with_section(session, "Größer “Refrain”", 4.5, 9.125)
    sections.write_csv(tmp_path / "s.csv", session)
    assert sections.read_csv(tmp_path / "s.csv", Session()) == session.sections
    assert msgspec.to_builtins(session.sections[0])["name"] == "Verse, slow"
