"""A step is one file and one name: with these it is held to its aim, kept, edited, found, rendered and reported on."""

from __future__ import annotations

import ast
import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

import gluvo
from gluvo.steps import STEP_KINDS, Lane, Split, Step

from .conftest import RATE, music

SCRIPT = Path(__file__).with_name("with_new_step.py")


@pytest.mark.thorough
def test_a_step_is_one_file_and_one_name(tmp_path: Path) -> None:
    soundfile.write(tmp_path / "Take.wav", music(5.0), RATE, "PCM_24")
    done = subprocess.run(
        [sys.executable, str(SCRIPT), str(tmp_path)],
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
        text=True,
        timeout=200,
    )
    assert done.returncode == 0, done.stderr
    told = json.loads((tmp_path / "seen.json").read_text())
    assert told["reduction"] == pytest.approx(3.0, abs=0.05) and -60.0 < told["threshold"] < 0.0
    assert all(told[name] for name in ("read", "preset", "pasted", "schema"))
    joints = next(s for s in told["figures"]["strips"] if s["id"] == "mix")["joints"]
    mine = next(j for j in joints if j["step"] == "p")
    assert mine["reduction"]["mean"] == pytest.approx(3.0, abs=0.05) and mine["holds"] == {
        "threshold": pytest.approx(told["threshold"])
    }
    assert "Press" in told["report"] and "Threshold" in told["report"]
    assert told["controls"] == ["aim", "hold_aim", "threshold"] and set(told["found"]) >= {"Threshold", "Reduce by"}
    assert "Press" in told["menu"]
    assert np.isfinite(told["reduction"])


OF_ONE_KIND = ("desk/editors/split/", "advise/watchouts/")
"""Editors of one kind of step may ask whether it is still there; a watch-out is about what one kind of step does wrong."""


def test_nothing_outside_of_steps_asks_which_step_it_is() -> None:
    every: tuple[type[Step], ...] = (*STEP_KINDS, Lane, Split)
    kinds = {kind.__name__ for kind in every}
    asked = []
    source = Path(gluvo.__file__).parent
    for file in sorted(source.rglob("*.py")):
        place = file.relative_to(source).as_posix()
        if place.startswith(("steps/", *OF_ONE_KIND)):
            continue
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "isinstance":
                names = {n.id for n in ast.walk(node.args[1]) if isinstance(n, ast.Name)}
                asked += [f"{place}:{node.lineno}"] if names & kinds else []
    assert asked == []
