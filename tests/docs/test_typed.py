"""The package is typed for whoever installs it."""

from __future__ import annotations

import os
import subprocess
import sys
import sysconfig
import venv
import zipfile
from pathlib import Path

from tests.helpers import ROOT

PROGRAM = '''\
"""A user's own program."""

from pydantic import BaseModel

from yarnloom import (
    Client,
    Loom,
    Retry,
    StepContext,
    each,
    item,
    param,
    previous,
    sequence,
    step,
)

loom = Loom("mine")


class Params(BaseModel):
    texts: list[str]


@loom.task(retry=Retry(attempts=2), timeout="5s")
def count(ctx: StepContext, text: str) -> int:
    done = 0
    for word in ctx.track(text.split()):
        done += len(word)
    return done


@loom.task
def total(counts: list[int]) -> int:
    return sum(counts)


loom.workflow(
    "count",
    params=Params,
    plan=sequence(
        each("texts", over=param("texts"), do=step("count", count, text=item())),
        step("total", total, counts=previous),
    ),
)


def main() -> int:
    run = Client().start("count", texts=["ebb and flow"], tags=("night",))
    number: int = run.number
    for one in Client().runs(workflow="count", states=("done",)):
        print(one.number, one.state, one.output)
    return number
'''
MISTAKES = """\
from yarnloom import Client

number: str = Client().run(1).number
Client().runs(workflw="count")
"""


def test_a_program_is_checked_strictly_against_the_wheel(tmp_path: Path) -> None:
    """As mypy finds the package where it is installed; a misuse is found, too."""
    build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)]
    subprocess.run(build, cwd=ROOT, check=True, capture_output=True)
    (wheel,) = tmp_path.glob("*.whl")
    venv.create(tmp_path / "venv", with_pip=False)
    (site,) = (tmp_path / "venv").glob("lib/python*/site-packages")
    with zipfile.ZipFile(wheel) as packed:
        names = packed.namelist()
        packed.extractall(site)
    # What it needs is taken from here; its own files come first.
    (site / "needed.pth").write_text(sysconfig.get_path("purelib") + "\n")
    (tmp_path / "program.py").write_text(PROGRAM)
    (tmp_path / "mistakes.py").write_text(MISTAKES)

    def check(name: str) -> subprocess.CompletedProcess[str]:
        python = str(tmp_path / "venv" / "bin" / "python")
        words = ["--strict", "--python-executable", python, "--cache-dir", str(tmp_path / "cache")]
        return subprocess.run(
            [sys.executable, "-m", "mypy", *words, name],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=False,
            env={**os.environ, "MYPYPATH": ""},
        )

    assert "yarnloom/py.typed" in names
    fine = check("program.py")
    assert fine.returncode == 0, fine.stdout
    wrong = check("mistakes.py")
    assert "Incompatible types in assignment" in wrong.stdout
    assert 'Unexpected keyword argument "workflw"' in wrong.stdout
    notices = [name for name in names if name.endswith("_console/NOTICES.txt")]
    assert notices, "the licences of what is bundled are in the wheel"
    text = (site / notices[0]).read_text(encoding="utf-8")
    for bundled in ("react ", "@mantine/core ", "@fontsource-variable/inter ", "OFL"):
        assert bundled in text
