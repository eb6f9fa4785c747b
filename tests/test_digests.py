"""A file is read through once, and again as soon as anybody may have written to it."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path

import pytest

from gluvo.errors import AudioFileError
from gluvo.session import digests
from gluvo.session.digests import digest_of


@pytest.fixture
def settled(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A file that counts as written long ago, and a cache folder of its own."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(digests, "SETTLED_NS", -10_000_000_000)
    path = tmp_path / "take.wav"
    path.write_bytes(b"first" * 1000)
    return path


def sha(path: Path) -> tuple[str, int]:
    content = path.read_bytes()
    return hashlib.sha256(content).hexdigest(), len(content)


def test_a_file_that_nobody_wrote_to_is_not_read_again(settled: Path) -> None:
    told: list[float] = []
    assert digest_of(settled, told.append) == sha(settled)
    assert told
    told.clear()
    assert digest_of(settled, told.append) == sha(settled)
    assert not told


def test_other_content_of_the_same_size_and_time_is_seen(settled: Path) -> None:
    digest_of(settled)
    times = settled.stat()
    settled.write_bytes(b"other" * 1000)
    os.utime(settled, ns=(times.st_atime_ns, times.st_mtime_ns))
    assert settled.stat().st_mtime_ns == times.st_mtime_ns
    assert digest_of(settled) == sha(settled)


def test_another_file_in_its_place_is_seen(settled: Path) -> None:
    digest_of(settled)
    other = settled.with_name("other")
    other.write_bytes(b"other" * 1000)
    shutil.copystat(settled, other)
    other.replace(settled)
    assert digest_of(settled) == sha(settled)


def test_a_file_written_a_moment_ago_is_read_again(settled: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.undo()
    monkeypatch.setenv("XDG_CACHE_HOME", str(settled.parent / "cache"))
    digest_of(settled)
    told: list[float] = []
    digest_of(settled, told.append)
    assert told


@pytest.mark.parametrize("content", [b"", b"{", b"[]", b'{"1:2": 3}', b"\xff\xfe"])
def test_what_is_kept_may_be_broken(settled: Path, content: bytes) -> None:
    place = settled.parent / "cache" / "gluvo" / "digests.json"
    place.parent.mkdir(parents=True)
    place.write_bytes(content)
    assert digest_of(settled) == sha(settled)
    told: list[float] = []
    assert digest_of(settled, told.append) == sha(settled)
    assert not told, "what was broken is made anew"


def test_a_cache_folder_that_cannot_be_written_is_no_trouble(settled: Path) -> None:
    (settled.parent / "cache").write_text("a file where the folder should be")
    assert digest_of(settled) == sha(settled)


def test_what_cannot_be_read_is_told(settled: Path, tmp_path: Path) -> None:
    with pytest.raises(AudioFileError, match="was not found"):
        digest_of(tmp_path / "gone.wav")
    with pytest.raises(AudioFileError, match="is a folder"):
        digest_of(tmp_path)
