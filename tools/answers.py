"""Every answer of the API over the demo and ten looms, recorded, and compared with another record.

`python -m tools.answers make FOLDER` runs them and leaves their data folder. `record FOLDER FILE`
serves a copy of it, asks everything that can be asked, sends each command once, and works a few
attempts as a worker does. `compare BEFORE... AFTER` prints each answer in which the last record
differs from the others in a place where these agree.
"""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
from tests import raw_http
from tests.helpers import eventually, service

LOOMS = (
    *(f"docs.examples.{name}:loom" for name in ("bookings", "coast", "first", "letters", "limits")),
    *(f"docs.examples.{name}:loom" for name in ("nightly", "notices", "rows", "surroundings")),
    "tests.glance_loom:loom",
)
STARTS: tuple[tuple[str, dict[str, Any]], ...] = (
    ("first/describe-text", {"text": "a short text"}),
    ("bookings/send-ticket", {"booking": 1, "boat": "Swift"}),
    (
        "coast/report",
        {
            "harbours": [
                {"code": "brackwater", "levels": [1.0, 2.5]},
                {"code": "saltmere", "levels": []},
                {"code": "eelgrass", "levels": [4.0]},
            ],
            "rounded": False,
        },
    ),
    ("letters/send", {"names": ["A", "B", "C"]}),
    ("limits/send-levels", {"harbours": ["brackwater", "saltmere"], "region": "south"}),
    ("notices/draw", {}),
    ("surroundings/note", {}),
    ("granary/stock", {"torn": 2, "heavy": 1}),
    ("granary/shelves", {}),
    ("granary/row", {}),
)
OPEN = (*("done", "failed", "cancelled"), "scheduled")
TIME = re.compile(r"\d{4}-\d\d-\d\dT[\d:.]+(?:Z|[+-]\d\d:\d\d)")


def make(folder: Path) -> None:
    """Run the demo and the looms into a data folder, to their ends."""
    program = [sys.executable, "-m", "yarnloom"]
    demo = [*program, "demo", "--exit-when-done", "--port", "0", "--data", str(folder)]
    subprocess.run(demo, check=False)
    loads = [text for loom in LOOMS for text in ("--load", loom)]
    with service(folder, *loads, "--workers", "1", "--processes", "1") as running:
        api = raw_http.Client(base_url=f"{running.url}/api/v1", timeout=60)
        rows = b"harbour,address,copies\nbrackwater,keeper,2\nsaltmere,keeper,1\n"
        file = api.post("/files", params={"name": "contacts.csv"}, content=rows).json()
        starts = [*STARTS, ("rows/letters", {"contacts": file})]
        for workflow, params in starts:
            body = {"target": workflow, "params": params, "key": f"key-{workflow}"}
            run = api.post("/runs", json=body).raise_for_status().json()["number"]

            def ended(run: int = run) -> bool:
                found = api.get(f"/runs/{run}", params={"wait": 2}).json()
                resting = '"state":"resting"' in api.get(f"/runs/{run}/graph").text
                return found["state"] in OPEN or resting

            eventually(ended)
        later = {"target": "first/describe-text", "params": {"text": "later"}}
        api.post("/runs", json={**later, "start_in": "20d", "tags": ["later"], "key": "later"})


class Recorder:
    """Asks a service, and keeps its answers by request.

    Args:
        url: of the service.
    """

    def __init__(self, url: str) -> None:
        self._http = raw_http.Client(base_url=f"{url}/api/v1", timeout=60)
        self.answers: dict[str, Any] = {}

    def ask(self, method: str, path: str, body: Any = None, **query: Any) -> Any:
        """Send a request; return its answer."""
        shown = f"{method} {httpx.URL(path, params=query) if query else path}"
        shown += "" if body is None else f" {json.dumps(body)}"
        answer = self._http.request(method, path, json=body, params=query or None)
        try:
            value = answer.json()
        except ValueError:
            value = answer.text
        while shown in self.answers:
            shown += " again"
        self.answers[shown] = {"status": answer.status_code, "answer": value}
        return value

    def look(self) -> None:
        """Ask all that can be asked."""
        runs = self.ask("GET", "/runs", limit=200)["runs"]
        for query in ({"state": "failed"}, {"text": "harbour"}, {"tag": "later"}, {"limit": 2}):
            self.ask("GET", "/runs", **query)
        for path in ("/runs/counts", "/filters", "/workers", "/pools", "/schedules", "/workflows"):
            self.ask("GET", path)
        for path in ("/tasks", "/overview", "/service", "/commands", "/files", "/links"):
            self.ask("GET", path)
        self.ask("GET", "/next-times", cron="30 2 * * *", zone="Europe/Lisbon", count=1)
        for workflow in self.ask("GET", "/workflows")["workflows"]:
            self.ask("GET", "/workflows", name=workflow["name"])
            self.ask("GET", "/workflows/over-time", name=workflow["name"])
        for task in self.ask("GET", "/tasks")["tasks"]:
            self.ask("GET", "/tasks", name=task["name"])
        for pool in self.ask("GET", "/pools")["pools"]:
            self.ask("GET", f"/pools/{pool['name']}")
            self.ask("GET", f"/pools/{pool['name']}/use")
        for schedule in self.ask("GET", "/schedules")["schedules"]:
            self.ask("GET", f"/schedules/{schedule['name']}")
        for file in self.ask("GET", "/files")["files"]:
            for what in ("", "/facts", "/preview"):
                self.ask("GET", f"/files/{file['sha256']}{what}")
        for run in runs:
            self._run(run)
        for path in ("/runs/999999", "/runs/1/steps?address=nowhere", "/pools/none", "/runs/x"):
            self.ask("GET", path)

    def _run(self, run: dict[str, Any]) -> None:
        at = f"/runs/{run['number']}"
        for what in ("", "/graph", "/glance", "/failures", "/times", "/attempts", "/steps"):
            self.ask("GET", at + what)
        for what in ("/why", "/commands", "/ledger", "/record", "/links", "/lines", "/published"):
            self.ask("GET", at + what)
        if run["ended_at"]:
            self.ask("GET", f"{at}/graph", at=run["ended_at"])
        if run["started_at"]:
            self.ask("GET", f"{at}/graph", at=run["started_at"])
        for part in _parts(self.answers[f"GET {at}/graph"]["answer"]):
            address = part["address"]
            if part["kind"] == "step":
                self.ask("GET", f"{at}/steps", address=address)
                self.ask("GET", f"{at}/log", address=address)
            if part["kind"] == "each" and "[" not in address:
                self._each(at, address)

    def _each(self, at: str, address: str) -> None:
        self.ask("GET", f"{at}/outliers", address=address)
        self.ask("GET", f"{at}/export", **{"address": address, "as": "csv"})
        self.ask("GET", f"{at}/export", **{"address": address, "as": "json-lines"})
        self.ask("GET", f"{at}/items", address=address, text="a")
        items = self.ask("GET", f"{at}/items", address=address).get("items", [])
        for item in items[:3]:
            self.ask("GET", f"{at}/graph", address=item["address"])
            self.ask("GET", f"{at}/attempts", address=item["address"])
            self.ask("GET", f"{at}/steps", inside=item["address"])
            for part in _parts(self.ask("GET", f"{at}/graph", address=item["address"])):
                if part["kind"] == "step":
                    self.ask("GET", f"{at}/steps", address=part["address"])

    def command(self) -> None:
        """Send each command once, and work a few attempts."""
        runs = self.ask("GET", "/runs", limit=200)["runs"]
        by_state = {run["state"]: run["number"] for run in runs}
        failed, done = by_state.get("failed", 1), by_state.get("done", 1)
        start = {"target": "first/describe-text", "params": {"text": "a b"}, "key": "again"}
        one = self.ask("POST", "/runs", start)["number"]
        self.ask("POST", "/runs", start)
        self.ask("POST", "/runs", {**start, "params": {}, "key": "bad"})
        self.ask("POST", "/runs", {**start, "target": "nothing"})
        self.ask("POST", "/runs/many", {"starts": [{**start, "key": f"m{n}"} for n in range(3)]})
        at = f"/runs/{one}"
        for action in ("pause", "resume", "pause"):
            self.ask("POST", f"{at}/{action}", {"reason": "to look"})
            self.ask("GET", f"{at}/why")
        step = f"{at}/steps"
        self.ask("POST", f"{step}/edit", {"inputs": {"text": "c"}}, address="count")
        self.ask("POST", f"{step}/pause", {}, address="describe")
        self.ask("POST", f"{step}/supply", {"output": 3}, address="count")
        self.ask("POST", f"{step}/skip", {}, address="nowhere")
        self.ask("POST", f"{at}/resume", {})
        self._work(one)
        self.ask("PATCH", at, {"priority": 7})
        later = by_state.get("scheduled", 1)
        self.ask("PATCH", f"/runs/{later}", {"priority": 7, "tags": ["x"], "reason": "sooner"})
        self.ask("POST", f"/runs/{failed}/mend", {"paused": True, "reason": "try"})
        self.ask("GET", f"/runs/{failed}/graph")
        self.ask("POST", f"/runs/{failed}/cancel", {"now": True})
        self.ask("POST", f"/runs/{done}/cancel", {})
        self.ask("POST", f"/runs/{done}/rerun", {"key": "once more"})
        self.ask("POST", "/runs/actions", {"action": "pause", "workflow": "nothing"})
        self.ask("POST", "/runs/actions", {"action": "cancel", "states": ["queued"], "count": 900})
        kept = self._http.post("/files", params={"name": "a.txt"}, content=b"a text")
        self.answers["POST /files"] = {"status": kept.status_code, "answer": kept.json()}
        self.ask("POST", "/pools", {"name": "quay", "limit": 2, "note": "new"})
        self.ask("PATCH", "/pools/quay", {"limit": 0, "paused": True, "reason": "storm"})
        self.ask("DELETE", "/pools/quay")
        new = {"name": "each-noon", "workflow": "nightly/announce", "cron": "0 12 * * *"}
        self.ask("POST", "/schedules", {**new, "paused": True})
        self.ask("PATCH", "/schedules/each-noon", {"note": "at noon"})
        self.ask("POST", "/schedules/each-noon/start", {"key": "now"})
        self.ask("DELETE", "/schedules/each-noon")
        self.ask("PUT", "/filters/mine", {"states": ["failed"], "text": "x"})
        self.ask("GET", "/runs", saved="mine")
        self.ask("GET", "/filters")
        self.ask("DELETE", "/filters/mine")
        for body in ({"expires_in": "1h"}, {"details": True}):
            link = self.ask("POST", f"{at}/links", body)
            self.ask("GET", f"/links/{link.get('token')}")
        self.ask("GET", f"{at}/links")
        self.ask("DELETE", f"{at}/links/{link.get('id')}")
        self.ask("GET", f"/links/{link.get('token')}")
        self.ask("POST", "/session", {"token": "wrong"})
        for run in (one, failed):
            self._events(f"/events?run={run}&graph={run}")
        self.ask("GET", "/commands", limit=20)
        self.ask("POST", "/workflows", {"plans": [], "tasks": []})

    def _events(self, path: str) -> None:
        """Keep the data of the first event."""
        with self._http.stream("GET", path) as stream:
            lines = stream.iter_lines()
            data = next(line for line in lines if line.startswith("data:"))
        self.answers[f"GET {path}"] = json.loads(data[5:])

    def _work(self, run: int) -> None:
        """Register as a worker; work one attempt, and give another back."""
        tasks = dict.fromkeys(("first/describe", "first/count_words"), "0" * 12)
        body = {"id": "by-hand", "name": "by-hand", "places": 2, "tasks": tasks}
        epoch = self.ask("POST", "/workers", body).get("epoch", "")
        self.ask("GET", "/workers")
        at = "/workers/by-hand"
        for error in (None, {"type": "ValueError", "message": "no", "traceback": "at a line"}):
            given = self.ask("POST", f"{at}/ask", {"epoch": epoch, "received": []})
            for work in [one for one in given.get("messages", ()) if one.get("kind") == "work"]:
                item = {"attempt": work["attempt"], "begun_ago": 0.5}
                self.ask("POST", f"{at}/begin", {"attempt": work["attempt"]})
                self.ask("POST", f"{at}/report", {"epoch": epoch, "items": [item]})
                named = {"attempt": work["attempt"], "what": "mail"}
                self.ask("POST", f"{at}/begin-effect", {**named, "call": 1})
                self.ask("POST", f"{at}/end-effect", {**named, "done": True, "value": 1})
                self.ask("POST", f"{at}/begin-effect", {**named, "what": "post", "call": 2})
                self.ask("GET", f"/runs/{run}/why")
                self.ask("GET", "/workers")
                end: dict[str, Any] = {"outcome": "done", "output": "long"}
                end = {"outcome": "failed", "error": error} if error else end
                item = {"attempt": work["attempt"], **end}
                self.ask("POST", f"{at}/report", {"epoch": epoch, "items": [item]})
            if not error:
                more = {"target": "first/describe-text", "params": {"text": "z"}, "key": "second"}
                self.ask("POST", "/runs", more)
        self.ask("GET", f"/runs/{run}/ledger")
        settled = {"what": "post", "address": "describe", "done": True, "value": 2}
        self.ask("POST", f"/runs/{run}/ledger", settled)
        self.ask("POST", f"{at}/drain", {"reason": "to end"})
        self.ask("POST", "/workers/gone", {"begun_ago": {"by-hand": {}, "unknown": {}}})
        self.ask("DELETE", at)


def _parts(part: dict[str, Any]) -> Iterator[dict[str, Any]]:
    if "kind" in part:
        yield part
    for child in (*part.get("parts", ()), *part.get("follow_ups", {}).values()):
        yield from _parts(child)


def record(folder: Path, file: Path) -> None:
    """Serve a copy of a data folder, and write all answers to a file."""
    with tempfile.TemporaryDirectory() as name:
        copied = Path(name) / "data"
        shutil.copytree(folder, copied)
        with service(copied) as running:
            time.sleep(1.0)  # leases of its former workers run out
            recorder = Recorder(running.url)
            recorder.look()
            recorder.command()
            description = raw_http.get(f"{running.url}/api/v1/openapi.json").json()
    file.write_text(json.dumps(recorder.answers, indent=1, sort_keys=True))
    print(f"{len(recorder.answers)} answers, {_asked(recorder.answers, description)}")


def _asked(answers: dict[str, Any], description: dict[str, Any]) -> str:
    """How many operations of the description were asked, and which were not."""
    known = {
        (method.upper(), re.compile(re.sub(r"\\?{[^}]+}", "[^/?]+", path) + r"(?=[? ]|$)")): path
        for path, methods in description["paths"].items()
        for method in methods
    }
    missing = [
        f"{method} {path}"
        for (method, pattern), path in known.items()
        if not any(
            key.startswith(f"{method} ") and pattern.match("/api/v1" + key.split(" ", 1)[1])
            for key in answers
        )
    ]
    return f"{len(known) - len(missing)} of {len(known)} operations; not: {', '.join(missing)}"


def differences(before: list[Any], after: Any, at: str = "") -> Iterator[str]:
    """Yield each place in which a value differs from earlier ones that agree with each other."""
    first = before[0]
    if isinstance(after, dict) and all(isinstance(one, dict) for one in before):
        for name in sorted({*after, *first}):
            if any(name not in one for one in before) and any(name in one for one in before):
                continue
            if (name in after) != (name in first):
                yield f"{at}/{name}: {'new' if name in after else 'gone'}"
            elif name in first:
                yield from differences([one[name] for one in before], after[name], f"{at}/{name}")
    elif isinstance(after, list) and all(
        isinstance(one, list) and len(one) == len(after) for one in before
    ):
        for index, value in enumerate(after):
            yield from differences([one[index] for one in before], value, f"{at}/{index}")
    elif all(_plain(one) == _plain(first) for one in before) and _plain(after) != _plain(first):
        yield f"{at}: {first!r:.200} became {after!r:.200}"


def _plain(value: Any) -> Any:
    return TIME.sub("<time>", value) if isinstance(value, str) else value


def compare(files: list[Path]) -> int:
    """Print the differences of the last record from the others; return 1 if there are any."""
    *before, after = [json.loads(file.read_text()) for file in files]
    found = list(differences(before, after))
    for line in found:
        print(line)
    print(f"{len(found)} differences in {len(after)} answers")
    return 1 if found else 0


if __name__ == "__main__":
    with contextlib.suppress(KeyboardInterrupt):
        match sys.argv[1:]:
            case ["make", folder]:
                make(Path(folder))
            case ["record", folder, file]:
                record(Path(folder), Path(file))
            case ["compare", *files]:
                sys.exit(compare([Path(file) for file in files]))
            case _:
                sys.exit(__doc__)
