"""The description of the API: whole, and enough for others to make clients from it."""

from __future__ import annotations

import gzip
import json
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests import raw_http
from tests.helpers import ROOT, ServiceProgram
from tests.service.tokens import token_of
from yarnloom.client.async_client import AsyncClient
from yarnloom.client.async_runs import AsyncRun
from yarnloom.client.async_steps import AsyncStep
from yarnloom.client.runs import Run
from yarnloom.client.steps import Step
from yarnloom.client.sync_client import Client

METHODS = {
    "startRun": "Client.start",
    "startRuns": "Client.start_many",
    "listRuns": "Client.runs",
    "countRuns": "Client.counts",
    "showRun": "Client.run",
    "changeRun": "Run.change",
    "cancelRun": "Run.cancel",
    "pauseRun": "Run.pause",
    "resumeRun": "Run.resume",
    "mendRun": "Run.mend",
    "rerunRun": "Run.rerun",
    "actOnRuns": "Client.act_on_runs",
    "actOnStep": "Step.retry",
    "showGraph": "Run.graph",
    "glanceAtRun": "Run.glance",
    "listFailures": "Run.failures",
    "showTimes": "Run.times",
    "listOutliers": "Run.outliers",
    "listAttempts": "Run.attempts",
    "showSteps": "Run.steps",
    "explainRun": "Run.why",
    "listItems": "Run.items",
    "readAttemptLog": "Run.log",
    "followAttemptLog": "Run.log",
    "readLines": "Run.lines",
    "followLines": "Run.lines",
    "followAllLines": "Client.lines",
    "listRunCommands": "Run.commands",
    "listPublished": "Run.published",
    "followPublished": "Run.published",
    "showLedger": "Run.ledger",
    "settleEffect": "Run.settle",
    "makeLink": "Run.link",
    "listLinks": "Run.links",
    "revokeLink": "Run.revoke_link",
    "exportItems": "Run.export",
    "exportRecord": "Run.export_record",
    "listFilters": "Client.filters",
    "saveFilter": "Client.save_filter",
    "dropFilter": "Client.drop_filter",
    "listCommands": "Client.commands",
    "uploadFile": "Client.upload",
    "listFiles": "Client.files",
    "downloadFile": "Client.download",
    "showFile": "Client.file",
    "previewFile": "Client.preview",
    "publishLooms": "Client.publish",
    "listWorkflows": "Client.workflows",
    "showOverTime": "Client.over_time",
    "listTasks": "Client.tasks",
    "listPools": "Client.pools",
    "makePool": "Client.make_pool",
    "showPool": "Client.pool",
    "changePool": "Client.change_pool",
    "removePool": "Client.remove_pool",
    "showPoolUse": "Client.pool_use",
    "listSchedules": "Client.schedules",
    "makeSchedule": "Client.make_schedule",
    "listNextTimes": "Client.next_times",
    "showSchedule": "Client.schedule",
    "changeSchedule": "Client.change_schedule",
    "removeSchedule": "Client.remove_schedule",
    "startSchedule": "Client.start_schedule",
    "listWorkers": "Client.workers",
    "drainWorker": "Client.drain",
    "showOverview": "Client.overview",
    "showService": "Client.service",
    "previewRows": "Client.preview_rows",
    "listTokens": "Client.tokens",
    "addToken": "Client.add_token",
    "revokeToken": "Client.revoke_token",
    "followEvents": "Client.events",
}
"""By operation the method that does it; the same on both clients."""

CLASSES: dict[str, tuple[type, type]] = {
    "Client": (Client, AsyncClient),
    "Run": (Run, AsyncRun),
    "Step": (Step, AsyncStep),
}
NOT_OF_CLIENTS = {"worker", "session", "public"}


@pytest.fixture(scope="module")
def document(served: ServiceProgram) -> dict[str, Any]:
    """The description."""
    found: dict[str, Any] = raw_http.get(f"{served.url}/api/v1/openapi.json").json()
    return found


def operations(document: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Every operation."""
    for of_path in document["paths"].values():
        yield from of_path.values()


def test_everything_is_described(document: dict[str, Any]) -> None:
    """Operations, parameters, fields, errors, and how to show a token."""
    names = [operation["operationId"] for operation in operations(document)]
    assert len(set(names)) == len(names)
    assert all(name.isalpha() for name in names)
    for operation in operations(document):
        name = operation["operationId"]
        assert operation["description"], name
        assert all(parameter.get("description") for parameter in operation.get("parameters", ())), (
            name
        )
        answers = operation["responses"]
        for status in ("401", "422", "500", "503"):
            assert "application/problem+json" in answers[status]["content"], (name, status)
        good = [answer for status, answer in answers.items() if status[0] == "2"]
        assert all(answer.get("content") or "204" in answers for answer in good), name
    fields = [
        f"{name}.{field}"
        for name, schema in document["components"]["schemas"].items()
        for field, facts in schema.get("properties", {}).items()
        if not facts.get("description") and "$ref" not in facts
    ]
    assert fields == []
    assert set(document["components"]["securitySchemes"]) == {"token", "session"}


def test_both_clients_can_do_all_that_http_can(document: dict[str, Any]) -> None:
    """Each operation but those of workers, of the console's session and of links has its method."""
    expected = {
        operation["operationId"]
        for operation in operations(document)
        if not NOT_OF_CLIENTS & set(operation.get("tags", ()))
    }

    assert METHODS.keys() == expected
    for method in METHODS.values():
        kind, _, name = method.partition(".")
        for owner in CLASSES[kind]:
            assert getattr(owner, name).__doc__, (owner, name)


def test_answers_are_named_compressed_and_not_sent_twice(served: ServiceProgram) -> None:
    """ETag and If-None-Match, gzip, HEAD, Allow, Location."""
    http = raw_http.Client(base_url=f"{served.url}/api/v1", trust_env=False)
    whole = http.get("/workflows", headers={"Accept-Encoding": "identity"})
    packed = http.send(
        http.build_request("GET", "/workflows", headers={"Accept-Encoding": "gzip"}), stream=True
    )
    raw = b"".join(packed.iter_raw())
    again = http.get("/workflows", headers={"If-None-Match": whole.headers["ETag"]})
    head = http.head("/workflows")
    wrong = http.delete("/runs")
    made = http.post("/runs", json={"target": "sums", "params": {"number": 1}})

    assert gzip.decompress(raw) == whole.content
    assert packed.headers["ETag"] == whole.headers["ETag"] == head.headers["ETag"]
    assert (again.status_code, again.content, head.content) == (304, b"", b"")
    assert wrong.status_code == 405
    assert set(wrong.headers["Allow"].split(", ")) == {"GET", "HEAD", "POST"}
    assert made.headers["Location"] == f"/api/v1/runs/{made.json()['number']}"


TYPESCRIPT = """\
import createClient from "openapi-fetch";
import type { components, paths } from "./api";

declare const process: { argv: string[] };

type Run = components["schemas"]["RunAnswer"];
const headers = { Authorization: `Bearer ${process.argv[3]}` };
const client = createClient<paths>({ baseUrl: process.argv[2], headers });
const started = await client.POST("/api/v1/runs", {
  body: { target: "sums", params: { number: 3 } },
});
if (started.data === undefined || !("number" in started.data)) throw new Error("not started");
const path = { number: started.data.number };
const query = { wait: 20 };
const ended = await client.GET("/api/v1/runs/{number}", { params: { path, query } });
if (ended.data === undefined) throw new Error(ended.error.detail);
const run: Run = ended.data;
const refused = await client.POST("/api/v1/runs", { body: { target: "smus" } });
console.log(JSON.stringify({ state: run.state, output: run.output, type: refused.error?.type }));
"""


def test_a_client_in_typescript_is_made_from_it(
    served: ServiceProgram, document: dict[str, Any], tmp_path: Path
) -> None:
    """It compiles strictly, and runs a workflow."""
    modules = ROOT / "console" / "node_modules"
    (tmp_path / "openapi.json").write_text(json.dumps(document))
    (tmp_path / "use.ts").write_text(TYPESCRIPT)
    (tmp_path / "package.json").write_text('{"type": "module"}')
    (tmp_path / "node_modules").symlink_to(modules)
    kind = ("--module", "esnext", "--moduleResolution", "bundler", "--target", "es2022")
    for words in (
        ("openapi-typescript", "openapi.json", "-o", "api.ts"),
        ("tsc", "--strict", *kind, "--lib", "es2022,dom", "--skipLibCheck", "use.ts"),
    ):
        made = subprocess.run(
            [str(modules / ".bin" / words[0]), *words[1:]],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=False,
        )
        assert made.returncode == 0, made.stdout + made.stderr
    ran = subprocess.run(
        ["node", "use.js", served.url, token_of(served.url)],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )

    assert ran.returncode == 0, ran.stderr
    found = json.loads(ran.stdout)
    assert found == {"state": "done", "output": 5, "type": "urn:yarnloom:not-found"}


PYTHON = """\
import sys

from made import AuthenticatedClient
from made.api.runs import show_run, start_run
from made.models import ProblemAnswer, RunAnswer, StartBody, StartBodyParams

client = AuthenticatedClient(base_url=sys.argv[1], token=sys.argv[2])
params = StartBodyParams()
params["number"] = 3
started = start_run.sync(client=client, body=StartBody(target="sums", params=params))
assert isinstance(started, RunAnswer)
run = show_run.sync(started.number, client=client, wait=20)
assert isinstance(run, RunAnswer)
refused = start_run.sync(client=client, body=StartBody(target="smus"))
assert isinstance(refused, ProblemAnswer)
print(run.state, run.output, refused.type_)
"""


def test_a_client_in_python_is_made_from_it(
    served: ServiceProgram, document: dict[str, Any], tmp_path: Path
) -> None:
    """Its models and operations are typed; it runs a workflow."""
    (tmp_path / "openapi.json").write_text(json.dumps(document))
    (tmp_path / "use.py").write_text(PYTHON)
    words = ("generate", "--path", "openapi.json", "--meta", "none", "--output-path", "made")
    made = subprocess.run(
        [str(Path(sys.executable).with_name("openapi-python-client")), *words],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert made.returncode == 0, made.stdout + made.stderr
    # The generator's own `client.py` and `preview.py` are not strict; the rest is.
    checked = subprocess.run(
        [sys.executable, "-m", "mypy", "--strict", "--follow-imports", "silent", "use.py"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert checked.returncode == 0, checked.stdout
    ran = subprocess.run(
        [sys.executable, "use.py", served.url, token_of(served.url)],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )

    assert ran.returncode == 0, ran.stderr
    assert ran.stdout.split() == ["done", "5", "urn:yarnloom:not-found"]
