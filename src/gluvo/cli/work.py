"""Work on one or several files, over all cores, with one progress and one way to stop."""

from __future__ import annotations

import concurrent.futures
import contextlib
import signal
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from gluvo.cli.console import Told, one_line
from gluvo.errors import Cancelled, GluvoError


def side_by_side(items: tuple[Path, ...], work: Callable[[Path, Told], Any], told: Told) -> list[Any]:
    """Work on several files over all cores, with one progress for all: what became of each, a `GluvoError` where one failed.

    Ctrl+C ends it: what works is told to stop, and has cleared up after itself when `KeyboardInterrupt` is raised.
    """
    from gluvo.progress import CORES, Stopper

    done, stopper = [0.0] * len(items), Stopper()

    def one(n: int) -> Any:
        def inside(share: float) -> None:
            stopper.check(share)
            done[n] = share
            told(sum(done) / len(done))

        try:
            inside(0.0)
            return work(items[n], inside)
        except Cancelled:
            raise
        except GluvoError as error:
            return error

    with concurrent.futures.ThreadPoolExecutor(CORES) as pool:
        futures = [pool.submit(one, n) for n in range(len(items))]
        try:
            return [future.result() for future in futures]
        except BaseException:
            # another Ctrl+C would leave what the first one clears up; the process ends after this
            signal.signal(signal.SIGINT, signal.SIG_IGN)
            stopper.stop()
            for future in futures:
                future.cancel()
            raise


def worked(work: Callable[[Told], Any], told: Told) -> Any:
    """One long piece of work that Ctrl+C ends; see `side_by_side`. Raises what it raises."""
    (found,) = side_by_side((Path(),), lambda _, inside: work(inside), told)
    if isinstance(found, GluvoError):
        raise found
    return found


def well_and_wrong(found: list[Any]) -> tuple[list[Any], list[str]]:
    """What went well, and a sentence for each that did not."""
    return (
        [one for one in found if not isinstance(one, GluvoError)],
        [str(one) for one in found if isinstance(one, GluvoError)],
    )


@contextlib.contextmanager
def telling_finished() -> Iterator[Callable[[Path], None]]:
    """Collects files that are finished, to tell of them if the work is stopped."""
    finished: list[Path] = []
    try:
        yield finished.append
    except KeyboardInterrupt:
        names = ", ".join(one_line(path.name) for path in finished)
        raise GluvoError(f"stopped. Finished: {names}" if names else "stopped. Nothing was written") from None
