"""Big arrays: in memory first, then on disk, and where another process finds them."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
import pytest

from gluvo.session import scratch as module
from gluvo.session.scratch import Filling, address_of, mapped, scratch

BIG = (2_000_000, 2)


def test_arrays_are_zero_and_can_be_written() -> None:
    for shape in (BIG, (100, 2), (0, 2)):
        made = scratch(shape)
        assert made.shape == shape and made.dtype == np.float32 and not made.any()
        made[:] = 1.5
        assert (made == 1.5).all()


def test_memory_is_given_back() -> None:
    gc.collect()
    before = module._taken
    made = scratch(BIG)
    assert module._taken == before + made.nbytes
    del made
    gc.collect()
    assert module._taken == before


def test_past_the_memory_it_goes_to_disk(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(module, "IN_MEMORY", 0)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    before = module._taken
    made = scratch(BIG)
    made[-1] = 2.0
    assert module._taken == before and made[-1, 0] == 2.0
    assert (tmp_path / "gluvo").is_dir() and not list(
        (tmp_path / "gluvo").iterdir()
    )  # it has no name to be left behind


def test_nobody_waits_for_a_disk_that_lets_go_slowly(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(module, "IN_MEMORY", 0)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    let, gone, unmap = threading.Event(), threading.Event(), module._libc.munmap

    class Slow:
        def munmap(self, place: int, size: int) -> None:
            let.wait()
            unmap(place, size)
            gone.set()

    made = scratch(BIG)
    place = module._place(made)
    assert place in module._on_disk and _mappings(place) == 1
    monkeypatch.setattr(module, "_libc", Slow())
    del made
    gc.collect()
    assert place not in module._on_disk and _mappings(place) == 1 and not gone.is_set()
    let.set()
    assert gone.wait(timeout=60) and _mappings(place) == 0


def _mappings(place: int) -> int:
    """How many mappings of this process begin at an address."""
    return Path("/proc/self/maps").read_text().count(f"\n{place:x}-")


def test_a_disk_without_room_is_no_reason_to_stop(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(module, "IN_MEMORY", 0)
    (tmp_path / "file").touch()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "file"))
    made = scratch(BIG)
    made[:] = 1.0
    assert made.sum() == made.size


@pytest.mark.sampled(3)
@pytest.mark.parametrize("frames", [0, 1, 1000, 2_000_000])
@pytest.mark.parametrize("in_memory", [0, module.IN_MEMORY])
def test_what_is_filled_piece_by_piece_can_be_read_as_far_as_it_has_come(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, frames: int, in_memory: int
) -> None:
    monkeypatch.setattr(module, "IN_MEMORY", in_memory)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    gc.collect()  # what other tests have left would close meanwhile, and hide one that stays open
    open_before = len(list(Path("/proc/self/fd").iterdir()))
    x = np.random.default_rng(frames).standard_normal((frames, 2))
    filling, at = Filling(frames), 0
    while at < frames:
        piece = x[at : at + 16_384 + at % 7]
        filling.add(piece if at % 2 else np.asfortranarray(piece))
        at += len(piece)
        assert np.array_equal(filling.array[:at], x[:at].astype(np.float32)) and not filling.array[at:].any()
    filling.add(x[:0])
    kept = filling.array
    filling.close()
    assert len(list(Path("/proc/self/fd").iterdir())) <= open_before  # what other tests have left may close meanwhile
    del filling
    assert np.array_equal(kept, x.astype(np.float32))


def test_a_piece_that_finds_no_room_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    filling = Filling(BIG[0])
    filling.add(np.ones((1000, 2)))

    def full(*_: object) -> int:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patched, pytest.raises(OSError, match="No space"):
        patched.setattr(os, "write", full)
        filling.add(np.ones((1000, 2)))
    filling.add(np.full((1000, 2), 2.0))
    assert (filling.array[:1000] == 1.0).all() and (filling.array[1000:2000] == 2.0).all()


def test_another_process_reads_the_same_samples() -> None:
    made = scratch((1000, 2), shared=True)
    made[:] = np.arange(2000).reshape(1000, 2)
    address, kept = address_of(made)
    assert kept is made
    code = "import sys; from gluvo.session.scratch import mapped; print(float(mapped(eval(sys.argv[1]))[999, 1]))"
    done = subprocess.run(
        [sys.executable, "-c", code, repr(address)], capture_output=True, text=True, timeout=60, check=True
    )
    assert float(done.stdout) == 1999.0
    plain = np.ones((10, 2), dtype=np.float32)
    address, copy = address_of(plain)
    assert copy is not plain and np.array_equal(mapped(address), plain)
    made[0, 0] = 7.0
    assert mapped(address_of(made)[0])[0, 0] == 7.0


def test_a_file_that_took_the_place_of_an_array_is_never_opened_for_writing(tmp_path: Path) -> None:
    """Descriptors are numbers that are used again: what was asked for late may stand for a user's file by then."""
    address, made = address_of(scratch((1000, 2), shared=True))
    handle = int(Path(address[0]).name)
    mine = tmp_path / "take.wav"
    mine.write_bytes(b"RIFF" + bytes(range(200)) * 100)
    before = mine.read_bytes()
    del made
    gc.collect()
    with mine.open("rb") as file:
        os.dup2(file.fileno(), handle)
        for identity in (address[1], (os.fstat(handle).st_dev, os.fstat(handle).st_ino)):
            with pytest.raises(FileNotFoundError):
                mapped((address[0], identity, *address[2:]))
        os.close(handle)
    with pytest.raises(FileNotFoundError):
        mapped(address)
    assert mine.read_bytes() == before


def test_a_thread_that_still_reads_when_the_program_ends_hurts_nobody() -> None:
    code = """
import threading
import numpy as np
from gluvo.session.scratch import SMALLEST, scratch

array, reads = scratch((2 * SMALLEST, 2)), threading.Event()

def read() -> None:
    while True:
        np.add.reduce(array, axis=None)
        reads.set()

for _ in range(4):
    threading.Thread(target=read, daemon=True).start()
reads.wait()
"""
    for _ in range(3):
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False, timeout=120)
        assert done.returncode == 0, done.stderr
