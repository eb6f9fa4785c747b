"""What is passed on: the wheel's content, the version, the licences of all that it needs."""

from __future__ import annotations

import re
import subprocess
import sys
import tomllib
import zipfile
from email.parser import Parser
from pathlib import Path

import pytest

from gluvo import __version__

ROOT = Path(__file__).parents[1]


def listed(name: str) -> set[str]:
    """The packages that stand in a table of THIRD-PARTY.md, by the heading that it stands under."""
    section = (ROOT / "THIRD-PARTY.md").read_text().split(f"## {name}\n")[1].split("\n## ")[0]
    rows = [
        row.split("|")[1:3] for row in section.splitlines() if row.startswith("| ") and not row.startswith("| package")
    ]
    assert all(licence.strip() for _, licence in rows)
    return {package.strip() for package, _ in rows}


def locked() -> set[str]:
    return set(re.findall(r"^([\w.-]+)==", (ROOT / "requirements.lock").read_text(), re.MULTILINE))


def test_every_dependency_is_listed_with_its_licence() -> None:
    assert listed("At run time") | listed("To build it") == locked()


def test_what_is_declared_is_locked() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    declared = {re.match(r"[\w.-]+", d)[0].lower() for d in project["dependencies"]}
    assert declared <= listed("At run time")


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> zipfile.ZipFile:
    folder = tmp_path_factory.mktemp("wheel")
    subprocess.run(
        [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)],
        cwd=ROOT,
        check=True,
        capture_output=True,
    )
    return zipfile.ZipFile(next(folder.glob("*.whl")))


def test_the_wheel_has_all_that_the_program_needs(wheel: zipfile.ZipFile) -> None:
    names = set(wheel.namelist())
    in_source = {
        str(path.relative_to(ROOT / "src"))
        for path in (ROOT / "src").rglob("*")
        if path.is_file() and "__pycache__" not in path.parts
    }
    assert in_source <= names
    assert {"gluvo/docs/guide.md", "gluvo/docs/screenshots/shape.png"} <= names
    data = f"gluvo-{__version__}.data/data/share"
    assert {n.removeprefix(data) for n in names if n.startswith(data)} == {
        "/applications/org.gluvo.Gluvo.desktop",
        "/icons/hicolor/scalable/apps/org.gluvo.Gluvo.svg",
        "/metainfo/org.gluvo.Gluvo.metainfo.xml",
        "/mime/packages/org.gluvo.Gluvo.xml",
    }


def test_its_description_tells_version_licence_and_needs(wheel: zipfile.ZipFile) -> None:
    told = Parser().parsestr(wheel.read(f"gluvo-{__version__}.dist-info/METADATA").decode())
    assert told["Version"] == __version__ and told["License-Expression"] == "MIT"
    assert {"LICENSE", "THIRD-PARTY.md"} <= set(told.get_all("License-File", []))
    assert not any("mutagen" in need for need in told.get_all("Requires-Dist", []))
