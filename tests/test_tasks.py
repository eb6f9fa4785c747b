"""Long work: what displaces what, who is told, and that nothing is lost in the order."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable, Iterator

import pytest

from gluvo.errors import GluvoError
from gluvo.opened.tasks import AUTOSAVING, BRINGING_IN, RENDERING, SEARCHING, WRITING, Kind, Task, Tasks
from gluvo.progress import Progress

LONG = 10.0


class Told:
    """What a `Tasks` has told."""

    def __init__(self) -> None:
        self.failed: list[tuple[str, Exception]] = []
        self.displaced: list[str] = []
        self.changed = threading.Condition()
        self.tasks = Tasks(
            self._change, lambda task, error: self.failed.append((task.title, error)), self.displaced.append
        )

    def _change(self) -> None:
        with self.changed:
            self.changed.notify_all()

    def wait(self, condition: Callable[[], bool]) -> None:
        with self.changed:
            assert self.changed.wait_for(condition, LONG)


class Held:
    """A job that runs until it is let go or stopped."""

    def __init__(self) -> None:
        self.started, self.go, self.ended = threading.Event(), threading.Event(), threading.Event()
        self.done = False

    def __call__(self, check: Progress) -> None:
        self.started.set()
        try:
            while not self.go.wait(0.002):
                check(0.5)
            self.done = True
        finally:
            self.ended.set()


@pytest.fixture
def told() -> Iterator[Told]:
    made = Told()
    yield made
    made.tasks.close()


@pytest.mark.parametrize("kind", [RENDERING, SEARCHING, AUTOSAVING])
def test_the_newest_wins(told: Told, kind: Kind) -> None:
    first, waiting, last = Held(), Held(), Held()
    told.tasks.submit(kind, "first", first)
    assert first.started.wait(LONG)
    told.tasks.submit(kind, "waiting", waiting)
    told.tasks.submit(kind, "last", last)
    assert first.ended.wait(LONG) and last.started.wait(LONG)
    last.go.set()
    told.wait(lambda: not told.tasks.busy())
    assert (first.done, waiting.started.is_set(), last.done) == (False, False, True)
    assert told.displaced == (["first", "waiting"] if kind is SEARCHING else [])


@pytest.mark.parametrize("kind", [WRITING, BRINGING_IN])
def test_writing_and_bringing_in_are_never_displaced(told: Told, kind: Kind) -> None:
    jobs = [Held() for _ in range(3)]
    for n, job in enumerate(jobs):
        told.tasks.submit(kind, str(n), job)
    assert jobs[0].started.wait(LONG)
    others = [Held() for _ in range(2)]
    for other, of in zip(others, (RENDERING, SEARCHING), strict=True):
        told.tasks.submit(of, of.name, other)
        assert other.started.wait(LONG)  # beside the writing
    assert [t.title for t in told.tasks.shown() if t.kind is kind] == ["0", "1", "2"]
    for job in (*jobs, *others):
        job.go.set()
    told.wait(lambda: not told.tasks.busy())
    assert all(job.done for job in (*jobs, *others)) and not told.displaced


def test_a_task_is_stopped_alone(told: Told) -> None:
    writing, second, searching = Held(), Held(), Held()
    first = told.tasks.submit(WRITING, "writing", writing)
    assert writing.started.wait(LONG)
    queued = told.tasks.submit(WRITING, "second", second)
    told.tasks.submit(SEARCHING, "searching", searching)
    assert searching.started.wait(LONG)
    told.tasks.cancel(queued)
    assert [task.title for task in told.tasks.shown()] == ["writing", "searching"]
    told.tasks.cancel()  # the newest
    assert searching.ended.wait(LONG) and not searching.done and not writing.ended.is_set()
    told.tasks.cancel(first)
    assert writing.ended.wait(LONG) and not writing.done
    told.wait(lambda: not told.tasks.busy())
    assert not second.started.is_set() and not told.failed


def test_failures_are_told_and_end_nothing(told: Told) -> None:
    def fail(_: Progress) -> None:
        raise GluvoError("It went wrong.")

    told.tasks.submit(WRITING, "bad", fail)
    after = Held()
    after.go.set()
    told.tasks.submit(WRITING, "good", after)
    told.wait(lambda: after.done and not told.tasks.busy())
    assert [(title, str(error)) for title, error in told.failed] == [("bad", "It went wrong.")]


def test_progress_and_titles_are_told(told: Told) -> None:
    seen: list[tuple[str, float]] = []
    go = threading.Event()

    def job(check: Progress) -> None:
        check(0.25)
        told.tasks.retitle(RENDERING, "second part")
        check(0.5)
        go.wait(LONG)

    def look() -> bool:
        seen.extend((task.title, task.share) for task in told.tasks.shown())
        return ("second part", 0.5) in seen

    told.tasks.submit(RENDERING, "first part", job)
    told.wait(look)
    go.set()


def test_closing_stops_what_runs_and_starts_nothing(told: Told) -> None:
    running, waiting = Held(), Held()
    told.tasks.submit(WRITING, "running", running)
    told.tasks.submit(WRITING, "waiting", waiting)
    assert running.started.wait(LONG)
    told.tasks.close()
    assert running.ended.is_set() and not running.done and not waiting.started.is_set()


def test_what_is_not_shown_is_not_stopped_by_escape(told: Told) -> None:
    keeping = Held()
    task: Task = told.tasks.submit(AUTOSAVING, "keeping", keeping)
    assert keeping.started.wait(LONG) and task not in told.tasks.shown()
    told.tasks.cancel()
    keeping.go.set()
    told.wait(lambda: not told.tasks.busy())
    assert keeping.done


def test_a_job_that_has_ended_holds_nothing_any_more(told: Told) -> None:
    class Audio:
        """Something large that a job works with."""

    def submit() -> weakref.ref[Audio]:
        audio = Audio()
        told.tasks.submit(RENDERING, "Rendering", lambda _: hash(audio))
        return weakref.ref(audio)

    left = submit()
    told.wait(lambda: left() is None)  # although its thread waits for the next one
