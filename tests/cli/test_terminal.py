"""What others wrote reaches the terminal as text, never as something that it obeys."""

from __future__ import annotations

import json
import os
import pty
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as some

from tests.helpers import ROOT, ServiceProgram, eventually, run_command, service
from tests.hostile_loom import HOSTILE
from tests.warm_programs import WarmProgram, fits
from yarnloom.cli.terminal import coloured
from yarnloom.cli.text_streams import HARMFUL, visible

LOOM = "tests.hostile_loom:loom"
# What Rich itself sends: colours, and for live pictures the cursor.
OUR_OWN = re.compile("\x1b\\[[0-9;]*m|\x1b\\[[0-9]*[AK]|\x1b\\[\\?25[lh]|\r\n|\r")


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A service with a run that says hostile things."""
    with service(tmp_path_factory.mktemp("hostile"), "--load", LOOM) as one:
        client = one.client()
        run = client.start(
            "say",
            names=[HOSTILE, "plain"],
            note=HOSTILE,
            key=f"k{HOSTILE[:3]}",
            tags=(HOSTILE[:90],),
        )
        eventually(lambda: run.refresh().state == "failed")
        client.upload(b"a,b\n\x1b[2J,x\n", "hostile.csv")
        yield one


def in_a_terminal(*arguments: str, url: str, **env: str) -> bytes:
    """What a command writes to a real terminal."""
    ours, theirs = pty.openpty()
    whole = {**os.environ, "YARNLOOM_URL": url, "COLUMNS": "120", "TERM": "xterm-256color", **env}
    ends = (theirs, theirs, theirs)
    process: subprocess.Popen[bytes] | WarmProgram
    if fits(env):
        process = WarmProgram(arguments, whole, str(ROOT), ends)
    else:
        command = [sys.executable, "-m", "yarnloom", *arguments]
        stdin, stdout, stderr = ends
        process = subprocess.Popen(
            command, stdin=stdin, stdout=stdout, stderr=stderr, cwd=ROOT, env=whole
        )
    os.close(theirs)
    found = b""
    try:
        while block := os.read(ours, 65_536):
            found += block
    except OSError:  # the other end is closed
        pass
    process.wait(60)
    os.close(ours)
    return found


COMMANDS = [
    ["runs"],
    ["show", "1"],
    ["show", "1/names"],
    ["show", "1/fail"],
    ["why", "1"],
    ["log", "1"],
    ["published", "1"],
    ["commands"],
    ["ledger", "1"],
    ["graph", "1"],
    ["graph", "1", "--as", "dot"],
    ["graph", "1", "--as", "svg"],
    ["files"],
    ["files", "hostile.csv"],
    ["workers"],
    ["tasks", "say"],
    ["export", "1/names"],
    ["watch", "1"],
    ["show", f"1/names[{HOSTILE[:4]}]"],
    ["runs", "--workflow", HOSTILE[:20].replace("\x00", "")],
]


@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: " ".join(words)[:20].encode().hex())
def test_nothing_harmful_reaches_a_terminal(program: ServiceProgram, words: list[str]) -> None:
    """Only what the command itself sends: colours, and the cursor for a live picture."""
    written = in_a_terminal(*words, url=program.url).decode()
    left = OUR_OWN.sub("", written)

    assert HARMFUL.findall(left.replace("\n", "")) == []
    assert "owned" not in re.findall("\x1b\\]0;(.*?)\x07", written)
    assert "yarnloom/cli" not in written  # a traceback of ours


@pytest.mark.parametrize("words", [*COMMANDS[:9], COMMANDS[12]])
def test_a_terminal_that_is_not_utf_8_gets_plain_characters(
    program: ServiceProgram, words: list[str]
) -> None:
    """Never a traceback."""
    for encoding in ("ascii", "latin-1"):
        written = in_a_terminal(*words, url=program.url, PYTHONIOENCODING=encoding, LC_ALL="C")
        assert b"yarnloom/cli" not in written  # a traceback of ours
        assert written.decode(encoding)


@pytest.mark.parametrize("words", [["runs"], ["show", "1"], ["log", "1"], ["commands"]])
def test_json_is_ascii(program: ServiceProgram, words: list[str]) -> None:
    """And holds everything as it is."""
    done = run_command(*words, "--json", url=program.url)

    assert done.stdout.isascii()
    assert HARMFUL.search(done.stdout) is None
    assert json.loads(done.stdout)


def test_colours_are_kept_in_logs_only(program: ServiceProgram) -> None:
    """A red word stays red; clearing the screen and the window's title do not."""
    text = coloured(f"before {HOSTILE}")

    assert "\\x1b]0;owned" in text.plain
    assert "\\x1b[2J" in text.plain
    assert "red" in text.plain
    assert [span.style.color.name for span in text.spans if span.style.color] == ["color(1)"]  # type: ignore[union-attr]


@given(some.text())
def test_visible_text_stays_readable(text: str) -> None:
    """Nothing harmful is left; lines, tabs and letters of any script are as they were."""
    shown = visible(text)

    assert HARMFUL.search(shown) is None
    assert visible(shown) == shown
    if HARMFUL.search(text) is None:
        assert shown == text


def test_params_can_be_read_instead_of_typed(program: ServiceProgram, tmp_path: Path) -> None:
    """From a file, from the input, and a text that begins with @ as it is."""
    (tmp_path / "note").write_text("from a file\n")

    def note_of(given: str, text: str = "") -> str:
        done = run_command(
            *("start", "say", "--json", "-p", "names=[]", "-p", f"note={given}"),
            url=program.url,
            input=text,
        )
        assert done.returncode == 0, done.stderr
        return str(json.loads(done.stdout)["params"]["note"])

    assert note_of(f"@{tmp_path / 'note'}") == "from a file"
    assert note_of("-", "from the input\n") == "from the input"
    assert note_of("@@home") == "@home"
    missing = run_command("start", "say", "-p", "note=@nowhere", url=program.url)
    assert (missing.returncode, "note=@@nowhere" in missing.stderr) == (2, True)


def test_a_secret_that_is_missing_is_asked_for(tmp_path: Path) -> None:
    """Unseen, and so that it is in no shell's history."""
    with service(tmp_path / "data", "--load", "tests.secret_loom:loom") as one:
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "yarnloom", "start", "spill"],
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            cwd=ROOT,
            env={**os.environ, "YARNLOOM_URL": one.url},
            start_new_session=True,
        )
        os.close(theirs)
        written = b""
        while b"token (not shown): " not in written:
            written += os.read(ours, 1_000)
        os.write(ours, b"sesame-open\n")
        try:
            while block := os.read(ours, 1_000):
                written += block
        except OSError:
            pass
        assert process.wait(60) == 0
        os.close(ours)

        assert b"sesame" not in written
        (run,) = list(one.client().runs())
        assert run.wait() == []
        assert run.data["params"]["token"] == "•••"


def test_exports_can_be_opened_in_a_spreadsheet(program: ServiceProgram) -> None:
    """With --safe no cell is a formula; without it the rows are as they were."""
    client = program.client()
    run = client.start("say", names=["=1+1", "+a", "-b", "@c", "d"], note="x")
    eventually(lambda: run.refresh().state == "failed")
    plain = run_command("export", f"{run.number}/names", url=program.url).stdout
    safe = run_command("export", f"{run.number}/names", "--safe", url=program.url).stdout

    assert ",=1+1," in plain
    for cell in ("'=1+1", "'+a", "'-b", "'@c", ",d,"):
        assert cell in safe
