"""One codec: whatever any version wrote is read; what is not known is kept; records change wherever they stand."""

from __future__ import annotations

import json
import re
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from gluvo.deliver import targets
from gluvo.errors import GluvoError
from gluvo.session import clipboard, history, migrations, presets, store
from gluvo.session.codec import Format, merged, unknown_in
from gluvo.session.migrations import CHANGES, RENAMED, VERSION, migrated
from gluvo.session.records import Session
from gluvo.steps import Glue, Lane, ResonanceTamer, Trim

from .conftest import one

WRITTEN = Path(__file__).parent / "written"
"""Documents as every version wrote them: the same chain with a Glue of aim 6 dB at a mix of 50 %, and more."""
FORMATS = (store.FORMAT, history.FORMAT, presets.FORMAT, targets.FORMAT, clipboard.FORMAT, clipboard.SEVERAL)


def numbers(kind: str) -> list[int]:
    return sorted(int(n) for p in WRITTEN.iterdir() if (n := re.sub(rf"^{kind}-(\d+)\..*$", r"\1", p.name)).isdigit())


def named(kind: str, number: int) -> Path:
    return next(WRITTEN.glob(f"{kind}-{number}.*"))


def test_there_is_a_document_of_every_version() -> None:
    assert numbers("session") == list(range(1, VERSION + 1))
    for kind, format in (("history", history.FORMAT), ("preset", presets.FORMAT)):
        assert [format.versions[n - 1] for n in numbers(kind)] == list(format.versions)
    assert numbers("targets") == [1]


def as_told(item: object) -> float:
    """The aim of the Glue, which was written as 6 dB of what is reduced alone in versions before 3."""
    assert isinstance(item, Glue) and item.mix == 50.0 and item.aim_by == "mean"
    return item.aim


def test_aims_of_older_documents_stay_those_of_the_mean() -> None:
    chain = [{"step": "de_esser"}, {"step": "de_esser", "aim": 3.0}, {"step": "mid_side_eq", "bands": [{"id": 1}, 5]}]
    soft, said, eq = migrated(chain, 4)
    assert (soft["aim"], soft["aim_by"], said["aim"], said["aim_by"]) == (0.5, "mean", 3.0, "mean")
    assert eq["bands"] == [{"id": 1, "aim": 1.0, "aim_by": "mean"}, 5]
    assert migrated(chain, VERSION) == chain and migrated({"step": "mid_side_eq", "bands": 3}, 4)["bands"] == 3


@pytest.mark.parametrize("number", numbers("session"))
def test_sessions_of_every_version_are_read(number: int) -> None:
    session = store.read_session(named("session", number)).session
    assert session.version == VERSION and [s.name for s in session.sections] == ["Verse", "Refrain"]
    glue = session.step("glue-1")
    assert as_told(glue) == (2.49 if number < 3 else 6.0)
    assert glue.hold_aim and glue.held_in == ("section-2" if number == 1 else "")
    if number > 1:
        tamer = session.step("tamer-1")
        assert isinstance(tamer, ResonanceTamer)
        assert (tamer.at_most, tamer.stands_out, tamer.at_least) == (4.0, 7.0, 120.0)
    again = store.loaded_from(json.loads(store.session_bytes(session)), "again")
    assert again.session == session and again.kept == {}


@pytest.mark.parametrize("number", numbers("history"))
def test_histories_of_every_version_are_read(number: int, tmp_path: Path) -> None:
    path = tmp_path / "a.gluvo"
    history.history_of(path).write_bytes(named("history", number).read_bytes())
    found = history.read_history(path, "cd" * 32)
    assert found is not None and [e.action for e in found.entries] == ["New", "Trim gain"]
    gains = [e.session.step("trim-1").gain for e in found.entries]
    assert gains == [-3.0, -4.0] and as_told(found.entries[1].session.step("glue-1")) == (2.49 if number == 1 else 6.0)


@pytest.mark.parametrize("number", numbers("preset"))
def test_presets_of_every_version_are_read(number: int) -> None:
    preset = presets.read_preset(named("preset", number))
    tamer, glue = preset.items
    assert isinstance(tamer, ResonanceTamer) and tamer.stands_out == 7.0
    assert as_told(glue) == (2.49 if number == 1 else 6.0) and preset.when_not == "Not on hits."


def test_targets_of_every_version_are_read() -> None:
    (own,) = targets.read_targets(named("targets", 1))
    assert (own.name, own.loudness, own.true_peak) == ("Own", -12.0, -1.0)


def test_a_step_that_an_older_window_copied_is_pasted() -> None:
    old = {"gluvo-step": {"step": "resonance_tamer", "depth": 3.0, "selectivity": 5.0}}
    assert clipboard.pasted(json.dumps(old)) == (ResonanceTamer(at_most=3.0, stands_out=5.0),)
    lane = Lane(name="Crushed", steps=(Trim(gain=2.0),))
    assert clipboard.pasted(clipboard.copied([lane])) == (lane,)
    several = (lane, Trim(id="t"), Glue(id="g", ratio=3.0))
    assert clipboard.pasted(clipboard.copied(several)) == several
    for text in ("", "a line of a song", "[]", '{"gluvo-step": 3}', '{"format": "gluvo-preset"}'):
        with pytest.raises(GluvoError, match=r"clipboard.*\.$"):
            clipboard.pasted(text)


@pytest.mark.parametrize("format", FORMATS, ids=lambda f: f.key)
@pytest.mark.parametrize(
    ("text", "words"),
    [
        (b"{", "not JSON"),
        (b"\xff\xfe", "not JSON"),
        (b"[" * 100_000, "JSON|nested"),
        (b"[]", "is no Gluvo"),
        (b'{"format": "tune"}', "is no Gluvo"),
        (b'{"format": "%s", "version": 0}', "no valid version"),
        (b'{"format": "%s", "version": true}', "no valid version"),
        (b'{"format": "%s", "version": "3"}', "no valid version"),
        (b'{"format": "%s", "version": 4000}', "newer Gluvo"),
    ],
)
def test_what_is_none_is_refused_in_a_sentence(format: Format, text: bytes, words: str) -> None:  # type: ignore[type-arg]
    with pytest.raises(format.error, match=words) as told:
        format.decoded(text.replace(b"%s", format.key.encode()), "This")
    assert str(told.value).startswith("This ") and str(told.value).endswith((".", "."))


@pytest.mark.parametrize("number", [n for n in {*RENAMED, *CHANGES}])
def test_a_changed_record_is_changed_wherever_it_stands(number: int) -> None:
    def at_places(record: object) -> list[object]:
        return [record, [record], {"a": [{"b": record}]}, {"steps": [{"step": "lane", "steps": [record]}]}]

    for kind, names in RENAMED.get(number, {}).items():
        old, new = ({"step": kind, name: 5.0} for name in (next(iter(names)), names[next(iter(names))]))
        assert migrated(at_places(old), number) == at_places(new)
        assert migrated(at_places(new), number) == at_places(new)


def test_a_version_of_tomorrow_is_a_line(monkeypatch: pytest.MonkeyPatch) -> None:
    """The recipe of CONTRIBUTING: a renamed setting reaches every document by one line."""
    monkeypatch.setattr(migrations, "VERSION", VERSION + 1)
    monkeypatch.setattr(migrations, "RENAMED", {**RENAMED, VERSION: {"trim": {"louder": "gain"}}})
    assert migrated({"chain": [{"step": "trim", "louder": 3.0}]}, VERSION) == {"chain": [{"step": "trim", "gain": 3.0}]}


def test_an_imported_preset_keeps_what_is_not_known(tmp_path: Path) -> None:
    path = tmp_path / "theirs.gluvo-preset.json"
    raw = json.loads(presets.preset_bytes(presets.preset_of((Trim(id="t", gain=1.0),), "A dB")))
    raw["mood"], raw["items"][0]["colour"] = "salty", "blue"
    path.write_text(json.dumps(raw))
    presets.import_preset(path, tmp_path / "own")
    again = json.loads(next((tmp_path / "own").iterdir()).read_text())
    assert again["mood"] == "salty" and again["items"][0]["colour"] == "blue" and again["items"][0]["gain"] == 1.0


PLAIN = st.recursive(
    st.integers() | st.text(max_size=3),
    lambda inner: st.dictionaries(st.sampled_from("abcdef"), inner, max_size=4),
    max_leaves=12,
)


@settings(deadline=None)
@given(st.dictionaries(st.sampled_from("abcdef"), PLAIN, max_size=5), st.data())
def test_what_is_unknown_is_put_back_where_it_was(whole: dict[str, object], data: st.DataObject) -> None:
    def thinned(value: object) -> object:
        if not isinstance(value, dict):
            return value
        return {k: thinned(v) for k, v in value.items() if data.draw(st.booleans())}

    known = thinned(whole)
    assert merged(known, unknown_in(whole, known)) == whole


def test_a_session_is_told_its_version() -> None:
    session = one([Trim(id="t")])
    assert json.loads(store.session_bytes(session))["version"] == VERSION == Session().version
    assert msgspec.structs.asdict(session)["format"] == store.FORMAT.key
