"""The package is typed for whoever installs it."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import sysconfig
import venv
import zipfile
from pathlib import Path

from tests.helpers import ROOT

PROGRAM = (ROOT / "tests" / "docs" / "typed_program.py").read_text(encoding="utf-8")
MISTAKES = {
    "report.of(texts=3)": ("a param", 'incompatible type "int"', "reportArgumentType"),
    "report.of(txts=[])": ("a param's name", '"txts"', "reportCallIssue"),
    "count.of(text=1)": ("an input", 'incompatible type "int"', "reportArgumentType"),
    "count.of(txt='a')": ("an input's name", '"txt"', "reportCallIssue"),
    "client.start(report.of(texts=[]), kye='a')": ("an option", "No overload", "reportCallIssue"),
    "client.start(total, counts=['a'])": ("an input at start", "No overload", "reportArgumentType"),
    "a: str = client.start(report.of(texts=[])).wait()": (
        "a result",
        "Incompatible types in assignment",
        "reportAssignmentType",
    ),
    "b: str = client.run(1).number": (
        "a field",
        "Incompatible types in assignment",
        "reportAssignmentType",
    ),
    "client.runs(workflw='count')": ("a filter", '"workflw"', "reportCallIssue"),
    "client.run(1).state == 'doen'": ("a state", "Non-overlapping", "reportUnnecessaryComparison"),
}
"""Lines with one mistake each, and the words of mypy and pyright about it."""


def by_line(output: str) -> dict[int, str]:
    """Messages of mypy by line."""
    found: dict[int, str] = {}
    for number, text in re.findall(r"^[^:\n]+:(\d+): error: (.*)$", output, re.MULTILINE):
        found[int(number)] = found.get(int(number), "") + text
    return found


def pyright(folder: Path, name: str) -> dict[int, str]:
    """Rules of pyright that are broken, by line."""
    done = subprocess.run(
        [sys.executable, "-m", "pyright", "--outputjson", name],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )
    found: dict[int, str] = {}
    for entry in json.loads(done.stdout)["generalDiagnostics"]:
        line = entry["range"]["start"]["line"] + 1
        found[line] = f"{found.get(line, '')} {entry.get('rule', entry['message'])}"
    return found


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
    imports = "from program import count, report, total\nfrom yarnloom import Client\n"
    head = f"{imports}\nclient = Client()\n"
    (tmp_path / "mistakes.py").write_text(head + "\n".join(MISTAKES) + "\n")
    settings = {"typeCheckingMode": "strict", "venvPath": str(tmp_path), "venv": "venv"}
    (tmp_path / "pyrightconfig.json").write_text(json.dumps(settings))

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
    assert pyright(tmp_path, "program.py") == {}
    of_mypy, of_pyright = by_line(check("mistakes.py").stdout), pyright(tmp_path, "mistakes.py")
    for number, (line, (what, said, rule)) in enumerate(MISTAKES.items(), 5):
        assert said in of_mypy.get(number, ""), (what, line, of_mypy)
        assert rule in of_pyright.get(number, ""), (what, line, of_pyright)
    notices = [name for name in names if name.endswith("_console/NOTICES.txt")]
    assert notices, "the licences of what is bundled are in the wheel"
    text = (site / notices[0]).read_text(encoding="utf-8")
    for bundled in ("react ", "@mantine/core ", "@fontsource-variable/inter ", "OFL"):
        assert bundled in text
