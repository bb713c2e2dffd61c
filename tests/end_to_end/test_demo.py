"""The README's first command, and what is shipped."""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

import httpx
import pytest

from tests.helpers import PATIENCE, ROOT, THOROUGH, Program, ServiceProgram
from yarnloom import Client

pytestmark = pytest.mark.slow

SAID = (
    "✓ done",
    "5 of 6 done, 1 failed",
    "fogwick is missing, as is allowed: yarnloom show '1/harbours[fogwick]'",
    "20 letters say so",
    # A list of contacts with mistakes was refused before, each with its line.
    "contacts-draft.csv: 4 errors. Nothing was started",
    "/contacts: line 4, column 'address': found 'ferry at brackwater.example'",
    "/contacts: line 11, column 'harbour': it is empty",
    "/contacts: line 16, column 'copies': found 'one'; expected an integer",
    "/contacts: line 23: found 4 cells; the header has 5",
)


@pytest.mark.skipif(not THOROUGH, reason="the demo that stays up shows the same, but for its end")
def test_the_demo_ends_with_its_run(tmp_path: Path) -> None:
    """With `--exit-when-done`."""
    demo = Program("demo", "--exit-when-done", "--port", "0", cwd=tmp_path)
    assert demo.process.wait(5 * PATIENCE) == 0, demo.text


def test_the_demo_stays_up_until_it_is_told(tmp_path: Path) -> None:
    """With progress, the missing harbour and why, and an end with all its processes."""
    demo = Program("demo", "--port", "0", cwd=tmp_path)
    console = demo.wait_for(r"The console: (http://\S+)", 5 * PATIENCE)[1]
    demo.wait_for("Ctrl-C ends it")
    page = httpx.get(console, trust_env=False)
    mailbox = demo.wait_for(r"the mailbox at (http://[^\s,]+)")[1]
    client = Client(console.partition("/runs/")[0], who="test")
    before = client.run(1).output["online"]
    almanac = client.download(before["file"], tmp_path).read_text()
    online = httpx.get(before["url"], trust_env=False).text
    picture = httpx.get(before["url"].replace("almanac-2027.html", "saltmere.svg"), trust_env=False)
    table = httpx.get(
        before["url"].replace("almanac-2027.html", "brackwater-2027.csv"), trust_env=False
    )
    mended = [client.run(number).mend("the gauge is repaired").wait(60) for number in (1, 2)]
    letters = httpx.get(f"{mailbox}/letters", trust_env=False).json()["letters"]
    letters = [letter for letter in letters if letter["to"] != "duty officer"]

    for line in SAID:
        assert line in demo.text
    assert "<title>Yarn Loom</title>" in page.text
    # The mend made the sixth harbour's page; who had a letter already got no other.
    assert len({letter["to"] for letter in letters}) == len(letters) == 24
    assert almanac == online
    assert almanac.count("<h2>") == 5
    assert "Fogwick is missing: the gauge at fogwick is silent" in almanac
    assert "<svg" in picture.text
    assert table.text.count("\n") > 1_400
    assert mended[0]["online"]["missing"] == []
    assert mended[1]["file"]["name"] == "fogwick-2027.csv"
    assert demo.end(2) == 0
    assert "the service has ended" in demo.text


def test_the_wheel_serves_the_console_without_node(tmp_path: Path) -> None:
    """Installed in an empty virtual environment, with no npm within reach."""
    python = sys.executable
    tools = Path(python).parent
    build = [python, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)]
    subprocess.run(build, cwd=ROOT, check=True, capture_output=True)
    (wheel,) = tmp_path.glob("*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    assert "yarnloom/_console/index.html" in names
    assert "yarnloom/store/schema.sql" in names
    assert not [name for name in names if "node_modules" in name or name.startswith("tests")]

    empty = tmp_path / "empty"
    uv = [str(tools / "uv")]
    subprocess.run([*uv, "venv", "-q", "--python", python, str(empty)], check=True)
    lock = ["-c", str(ROOT / "requirements.lock")]
    install = [*uv, "pip", "install", "-q", "--python", str(empty / "bin" / "python"), *lock]
    subprocess.run([*install, str(wheel)], check=True)
    outside = {
        "PATH": f"{empty / 'bin'}:/usr/bin:/bin",
        "HOME": str(tmp_path),
        "PYTHONUNBUFFERED": "1",
    }
    process = subprocess.Popen(
        [str(empty / "bin" / "yarnloom"), "serve", "--port", "0", "--data", str(tmp_path / "d")],
        stderr=subprocess.PIPE,
        text=True,
        cwd=tmp_path,
        env=outside,
    )
    try:
        assert process.stderr
        line = process.stderr.readline()
        url = line.split("serves at ")[1].split(",")[0]
        page = httpx.get(f"{url}/runs/1", trust_env=False)
        script = page.text.split('src="')[1].split('"')[0]

        assert page.status_code == 200
        assert httpx.get(url + script, trust_env=False).status_code == 200
    finally:
        process.terminate()
        assert process.wait(30) == 0
    no_demo = subprocess.run(
        [str(empty / "bin" / "yarnloom"), "demo"],
        capture_output=True,
        text=True,
        env=outside,
        cwd=tmp_path,
        check=False,
    )
    assert no_demo.returncode == 5
    assert "pip install 'yarn-loom[demo]'" in no_demo.stderr


def test_the_first_step_begins_when_a_worker_is_idle(served: ServiceProgram) -> None:
    """The order of events, by the service's own records: created, handed out, begun, at once."""
    from yarnloom.client import Request

    client = served.client()
    for number in range(5):
        run = client.start("sums", number=number)
        run.wait(60)
    query = {"address": "first"}
    step = client.call(Request("GET", f"/runs/{run.number}/steps", query=query))
    (attempt,) = step["attempts"]

    # Handed out in the very transaction that made the run: nothing polls.
    assert attempt["handed_at"] == run.data["created_at"]
