"""Versions: kept small, gone back to, taken from, told apart."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.errors import SessionError
from gluvo.session.records import Bus, Session
from gluvo.session.store import checked, loaded_from, session_bytes
from gluvo.session.versions import (
    Difference,
    described,
    differences,
    kept,
    state_of,
    with_step_of,
    with_strip_of,
    without,
)
from gluvo.steps import Band, Glue, Lane, Limiter, MidSideEq, Split, SplitBand, Trim, Width

from .conftest import one

CHAIN = (
    Trim(id="t", gain=-3.0),
    MidSideEq(id="e", bands=(Band(id=1, gain=2.0), Band(id=2, freq=300.0))),
    Glue(id="g", ratio=2.0),
    Width(id="w", bands=2),
)


def session() -> Session:
    made = one(CHAIN)
    return made.replace(strips=(*made.strips, Bus(id="b", name="Drums")))


def gain(session: Session) -> float:
    step = session.step("t")
    assert isinstance(step, Trim)
    return step.gain


@settings(max_examples=40, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["gain", "fader", "add", "remove", "keep", "lose"]), st.integers(0, 9)), max_size=25
    )
)
def test_every_version_stays_what_it_was(actions: list[tuple[str, int]]) -> None:
    now, states = session(), {}
    for what, n in actions:
        if what == "gain":
            now = now.with_step(Trim(id="t", gain=-float(n)))
        elif what == "fader":
            now = now.with_strip(msgspec.structs.replace(now.strip("b") or now.mix, fader=-float(n)))
        elif what == "add":
            now = now.with_new_step(Limiter(drive=float(n)), "mix")
        elif what == "remove" and len(now.mix.chain) > 1:
            now = now.without_step(now.mix.chain[-1].id)
        elif what == "keep":
            now, made = kept(now, f"V{n}", "2026-11-25T10:00:00", {"integrated": -14.0})
            states[made.id] = (now.strips, now.target)
        elif what == "lose" and states:
            id = sorted(states)[n % len(states)]
            now = without(now, id)
            del states[id]
    again = loaded_from(msgspec.json.decode(session_bytes(now)), "x").session
    for candidate in (now, again):
        assert {v.id for v in candidate.versions} == set(states)
        for id, (strips, target) in states.items():
            found = state_of(candidate, id)
            assert (found.strips, found.target) == (strips, target)


def test_two_hundred_versions_are_small() -> None:
    now = session()
    for n in range(200):
        now = now.with_step(Trim(id="t", gain=-0.01 * n))
        now, _ = kept(now, f"Version {n + 1}", "2026-11-25T10:00:00", {"integrated": -14.0})
    checked(now)
    assert all(len(v.strips) == 1 for v in now.versions[1:])  # the mix bus alone
    one_state = len(msgspec.json.encode(session().strips))
    assert len(msgspec.json.encode(now.versions)) < 200 * one_state
    assert gain(state_of(now, now.versions[57].id)) == pytest.approx(-0.57)


def test_a_version_that_is_not_whole_is_told() -> None:
    now, _ = kept(session(), "First", "", {})
    raw = msgspec.json.decode(session_bytes(now))
    raw["versions"][0]["order"].append("gone")
    with pytest.raises(SessionError, match="“First” is not whole"):
        loaded_from(raw, "x.gluvo")


def test_one_step_or_one_strip_is_taken_from_a_version() -> None:
    old = session()
    now = old.with_step(Trim(id="t", gain=-9.0)).without_step("g")
    now = now.with_strip(msgspec.structs.replace(now.strip("b") or now.mix, fader=-20.0, name="Kit"))
    assert gain(with_step_of(now, old, "t")) == -3.0
    again = with_step_of(now, old, "g")
    assert [item.id for item in again.mix.chain] == ["t", "e", "w", "g"]
    bus = with_strip_of(now, old, "b").strip("b")
    assert bus is not None and (bus.fader, bus.name) == (0.0, "Kit")
    assert with_step_of(now, old, "gone") == now and with_strip_of(now, old, "gone") == now
    assert state_of(now, "gone") == now


def test_differences_are_told_setting_by_setting() -> None:
    old = session()
    bands = (Band(id=1, gain=3.5), Band(id=3))
    now = old.with_step(MidSideEq(id="e", bands=bands)).with_step(Trim(id="t", on=False, gain=-3.0))
    now = now.without_step("g").with_new_step(Lane(), "mix", "t")
    now = now.with_strip(msgspec.structs.replace(now.strip("b") or now.mix, fader=-2.0, mute=True))
    now = now.replace(target=msgspec.structs.replace(now.target, loudness=-9.0))
    found = {(d.where, d.what): (d.before, d.after) for d in differences(old, now)}
    assert found["Target", "loudness"] == ("−14.0 LUFS", "−9.0 LUFS")
    assert found["Drums", "fader"] == ("0.0 dB", "−2.0 dB") and found["Drums", "mute"] == ("off", "on")
    assert found["Mix bus, Trim", "switched"] == ("on", "off")
    assert found["Mix bus, Mid-side EQ, band 1", "gain"] == ("+2.00 dB", "+3.50 dB")
    assert found["Mix bus, Mid-side EQ", "band 2"] == ("there", "none")
    assert found["Mix bus, Mid-side EQ", "band 3"] == ("none", "there")
    lane = now.item("lane-1")
    assert lane is not None and found[f"Mix bus, {lane.called}", "step"] == ("none", "there")
    assert found["Mix bus, Glue", "step"] == ("there", "none")
    assert len(found) == 9 and differences(old, old) == ()
    swapped = old.with_chain("mix", (CHAIN[1], CHAIN[0], *CHAIN[2:]))
    assert differences(old, swapped) == (
        Difference(
            "mix",
            "",
            "Mix bus",
            "order",
            "Trim → Mid-side EQ → Glue → Width",
            "Mid-side EQ → Trim → Glue → Width",
        ),
    )


def test_names_and_notes_are_changed() -> None:
    now, made = kept(session(), "First", "2026-11-25T10:00:00", {})
    changed = described(now, made.id, name="Before lunch", note="louder")
    assert (changed.versions[0].name, changed.versions[0].note) == ("Before lunch", "louder")
    assert state_of(changed, made.id).strips == now.strips


def test_splits_are_told_apart_band_by_band_and_taken_apart_alike() -> None:
    glue = Glue(id="g", ratio=2.0)
    bands = (SplitBand(id=1, steps=(glue,)), SplitBand(id=2), SplitBand(id=3))
    was = one([Split(id="s", bands=bands, crossovers=(160.0, 4000.0))])
    moved = (SplitBand(id=1, gain=2.0), SplitBand(id=2, steps=(glue,)), SplitBand(id=3, on=False))
    now = one([Split(id="s", bands=moved, crossovers=(200.0, 4000.0), slope=48)])
    told = {(d.where, d.what): (d.before, d.after) for d in differences(was, now)}
    assert told["Mix bus, Split", "crossovers"] == ("160, 4000 Hz", "200, 4000 Hz")
    assert told["Mix bus, Split", "slope"] == ("24 dB/oct", "48 dB/oct")
    assert told["Mix bus, Split, band 1", "gain"] == ("0.00 dB", "+2.00 dB")
    assert told["Mix bus, Split, band 3", "on"] == ("on", "off")
    assert told["Mix bus, Glue", "stands in"] == ("Lows", "Mids")
    empty = one([Split(id="s")])
    back = with_step_of(empty, was, "g")
    assert back.item("s").bands[0].steps == (glue,)
