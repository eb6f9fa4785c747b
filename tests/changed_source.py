"""Importing modules as though their source were another, in a process of its own: to try what a newcomer would write."""

from __future__ import annotations

import importlib.machinery
import importlib.util
import sys
from collections.abc import Callable, Mapping, Sequence
from importlib.machinery import ModuleSpec
from pathlib import Path
from types import CodeType, ModuleType


def import_as(changes: Mapping[str, Callable[[str], str]], files: Mapping[str, Path]) -> None:
    """From now on, modules are read with their changes, by name, and those of `files` from elsewhere."""

    class Changed(importlib.machinery.SourceFileLoader):
        def get_code(self, fullname: str) -> CodeType:
            was = Path(self.path).read_text()
            source = changes[fullname](was)
            assert source != was, f"{fullname} is not as it was when this was written"
            return compile(source, self.path, "exec")

    class Finder(importlib.machinery.PathFinder):
        @classmethod
        def find_spec(
            cls, name: str, path: Sequence[str] | None = None, target: ModuleType | None = None
        ) -> ModuleSpec | None:
            if name in files:
                return importlib.util.spec_from_file_location(name, files[name])
            if name not in changes:
                return None
            found = importlib.machinery.PathFinder.find_spec(name, path)
            assert found is not None and found.origin is not None
            return importlib.util.spec_from_file_location(name, found.origin, loader=Changed(name, found.origin))

    sys.meta_path.insert(0, Finder)
