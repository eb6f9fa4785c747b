"""What follows from what: the slices that screens declare, and what the parts of the workbench do when one is another."""

from __future__ import annotations

import typing
from types import GenericAlias
from typing import Any, Literal

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QObject
from shiboken6 import isValid

from gluvo.desk.model.following import Follower, Watched, all_but_place
from gluvo.opened.measuring import Measuring
from gluvo.opened.tasks import RENDERING
from gluvo.session.records import Session, SessionChanges, View, ViewChanges, ViewPart

from .desk import Desk


def plain(hint: Any) -> Any:
    """A declared type without what else is declared with it; a choice as the type of what is chosen from."""
    if typing.get_origin(hint) is typing.Annotated:
        hint = typing.get_args(hint)[0]
    if typing.get_origin(hint) is Literal and hint is not typing.get_type_hints(Session)["format"]:
        return type(typing.get_args(hint)[0])
    if typing.get_origin(hint) is tuple:
        return GenericAlias(tuple, (plain(typing.get_args(hint)[0]), ...))
    return hint


@pytest.mark.parametrize(("changes", "record"), [(ViewChanges, View), (SessionChanges, Session)])
def test_changes_by_name_are_the_fields_of_their_record(changes: type, record: type[msgspec.Struct]) -> None:
    declared = typing.get_type_hints(record, include_extras=True)
    assert typing.get_type_hints(changes) == {name: plain(declared[name]) for name in record.__struct_fields__}


def test_parts_of_the_view_are_those_that_have_settings_of_their_own() -> None:
    parts = {name for name in View.__struct_fields__ if isinstance(getattr(View(), name), msgspec.Struct)}
    assert parts == set(typing.get_args(ViewPart))


def test_slices_are_compared_by_value_and_arrays_by_identity() -> None:
    values: list[Any] = [1, (2.0, "a")]
    watched = Watched(lambda: tuple(values))
    assert not watched.is_other()
    values[1] = (2.0, "a")
    assert not watched.is_other()
    values[1] = (2.0, "b")
    assert watched.is_other() and not watched.is_other()
    values[0] = True  # as large as 1, and something else
    assert watched.is_other()
    array = np.zeros(2)
    values[0] = array
    assert watched.is_other() and not watched.is_other()
    values[0] = array.copy()
    assert watched.is_other()


@pytest.mark.thorough
def test_a_screen_is_called_only_when_what_it_shows_is_another(desk: Desk) -> None:
    bench, calls, owner = desk.bench, [], QObject()
    Follower(owner, bench, lambda: calls.append("strips"), session=lambda s: (s.strips,))
    Follower(owner, bench, lambda: calls.append("picture"), picture=lambda p: (p.gains,))
    Follower(owner, bench, lambda: calls.append("most"), session=all_but_place)
    bench.listening.seek(1.0)
    bench.measurement.freeze(None)
    assert calls == []
    bench.look(dim=True)
    assert calls == ["most"]
    bench.set_setting("trim-1", "gain", -7.0, "Gain")
    assert calls == ["most", "strips", "most"]
    desk.wait(lambda: not bench.background.busy and "picture" in calls)
    owner.deleteLater()
    desk.wait(lambda: not isValid(owner))
    calls.clear()
    bench.set_setting("trim-1", "gain", -5.0, "Gain")
    assert calls == []


@pytest.mark.thorough
@pytest.mark.parametrize(
    ("look", "measures", "prepares"),
    [
        ({"position": 1.0}, False, False),
        ({"dim": True, "output_level": -3.0, "monitor": "mono"}, False, False),
        ({"solo": ("stem-1",)}, False, True),
        ({"section": "s2"}, True, False),
        ({"match": "mid"}, True, False),
        ({"step": "glue-1"}, True, True),
    ],
)
def test_looking_elsewhere_measures_and_prepares_only_what_depends_on_it(
    desk: Desk, monkeypatch: pytest.MonkeyPatch, look: Any, measures: bool, prepares: bool
) -> None:
    bench, done = desk.bench, []
    bench.look(step="trim-1")
    desk.wait(lambda: not bench.background.busy)
    assert bench.engine is not None
    original = bench.engine.change
    monkeypatch.setattr(bench.engine, "change", lambda s: (done.append("prepares"), original(s)))
    submit = bench.tasks.submit
    monkeypatch.setattr(
        bench.tasks,
        "submit",
        lambda kind, *rest: (kind is RENDERING and done.append("measures"), submit(kind, *rest))[1],
    )
    bench.look(**look)
    assert done == ["prepares"] * prepares + ["measures"] * measures


def test_an_edit_that_moves_what_is_held_is_measured_once(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    desk.bench.edit(
        "Hold", lambda s: s.with_step(msgspec.structs.replace(s.step("glue-1"), hold_aim=True, held_in="section-2"))
    )
    desk.settle()
    held, runs = desk.session.step("glue-1").threshold, list[Session]()
    run = Measuring.run

    def counted(measuring: Measuring, *args: Any) -> None:
        runs.append(measuring.session)
        run(measuring, *args)

    monkeypatch.setattr(Measuring, "run", counted)
    desk.bench.set_setting("trim-1", "gain", -10.0, "Gain")
    desk.settle()
    moved = desk.session.step("glue-1").threshold
    assert moved == pytest.approx(held - 4.0, abs=0.1) and len(runs) == 1
    renderer, shown = desk.bench.renderer, desk.bench.picture.song_render
    assert renderer is not None and shown is not None
    assert shown.plan.result.key == renderer.plan(desk.session).result.key  # what is shown is of what was found
