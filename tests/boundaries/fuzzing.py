"""Random requests over the whole OpenAPI description: `make fuzz CASES=20000`, and in small a test.

Each request is made from the description: fields and parameters that fit it, and such that do not.
No answer may be a server error, have a status that is not described, or another media type.
"""

from __future__ import annotations

import os
import resource
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from random import Random
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as some
from schemathesis import GenerationMode
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from tests.boundaries.odd_worker import OddWorker, report_bodies
from tests.helpers import LOOM, ServiceProgram
from tests.service.tokens import token_of
from yarnloom.client import Request

CHECKS = [
    not_a_server_error,
    status_code_conformance,
    content_type_conformance,
    response_schema_conformance,
]
ADDRESS_SPACE = 8 * 2**30
"""Bytes that this process may reserve: what makes requests must not eat the machine."""

HELD = ("/live", "/events", "/ask", "/holders")
"""Operations that answer with an endless stream, or are held open on purpose."""


def operations(url: str) -> list[Any]:
    """Every operation that is described, but for those that are held open."""
    headers = {"Authorization": f"Bearer {token_of(url)}"}
    schema = schemathesis.openapi.from_url(f"{url}/api/v1/openapi.json", headers=headers)
    found = [one.ok() for one in schema.get_all_operations()]
    return [one for one in found if not one.path.endswith(HELD)]


def cases_of(operation: Any) -> Any:
    """Requests that fit the description, and such that do not."""
    fitting = operation.as_strategy(generation_mode=GenerationMode.POSITIVE)
    try:
        other = operation.as_strategy(generation_mode=GenerationMode.NEGATIVE)
    except Exception:  # nothing about it can be wrong
        return fitting
    return some.one_of(fitting, other)


KNOWN = {
    "number": range(1, 9),
    "run": range(1, 9),
    "link": range(1, 4),
    "worker": ("w", "w1"),
    "address": ("sum", "harbours", "harbours[0]", "harbours[brackwater]/fetch#1", "table/plot", ""),
    "workflow": ("sums", "coast", "marks/gather", "marks/speaks"),
    "state": ("done", "failed", "running"),
    "name": ("gauge", "nightly", "marks/sums"),
}
"""What is there, so that most requests get past the first look-up."""


def lead_home(case: Any, chance: Random) -> None:
    """Let most of what a request names be something that is there."""
    for values in (case.path_parameters, case.query):
        for name in KNOWN.keys() & (values or {}).keys():
            if chance.random() < 0.7:
                values[name] = chance.choice(KNOWN[name])
    if isinstance(case.body, dict) and "target" in case.body and chance.random() < 0.7:
        case.body["target"] = chance.choice(KNOWN["workflow"])
        if chance.random() < 0.5:
            case.body["params"] = {"number": chance.choice([1, 2**70, -1, "x", [[]]])}


def prepare(program: ServiceProgram) -> None:
    """Let there be something of every kind."""
    client = program.client()
    for number in range(6):
        run = client.start("sums", number=number)
        run.wait()
    run.link()
    client.upload(b"a,b\n1,2\n", "rows.csv")
    client.call(Request("POST", "/pools", {"name": "gauge", "limit": 1}))
    when = {"name": "nightly", "workflow": "sums", "params": {"number": 1}, "cron": "0 0 1 1 *"}
    client.call(Request("POST", "/schedules", when))
    client.call(Request("POST", "/workers", {"id": "w", "name": "w", "places": 0, "tasks": {}}))


def only_generated(cases: int) -> settings:
    """Settings for random cases that are not shrunk, kept or timed."""
    return settings(
        max_examples=cases,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )


def fuzz_reports(worker: OddWorker, cases: int, random_seed: int) -> Counter[int]:
    """Send random reports about attempts in hand; how often each status came."""
    statuses: Counter[int] = Counter()

    @seed(random_seed)
    @only_generated(cases)
    @given(body=report_bodies())
    def send(body: dict[str, Any]) -> None:
        number, attempt = worker.attempt()
        statuses[worker.report(body, attempt).status_code] += 1
        shown = worker.http.get(f"/runs/{number}/record")
        assert shown.status_code == 200, shown.text[:500]
        assert max(statuses) < 500, body

    send()
    return statuses


def fuzz(operation: Any, cases: int, random_seed: int) -> Counter[int]:
    """Send random requests to one operation; how often each status came."""
    statuses: Counter[int] = Counter()

    @seed(random_seed)
    @only_generated(cases)
    @given(case=cases_of(operation), chance=some.randoms(use_true_random=False))
    def send(case: Any, chance: Random) -> None:
        lead_home(case, chance)
        headers = {"Authorization": f"Bearer {token_of(case.operation.base_url)}"}
        response = case.call(timeout=60, headers=headers)
        statuses[response.status_code] += 1
        case.validate_response(response, checks=CHECKS)

    send()
    return statuses


def memory_of(pid: int) -> float:
    """Resident memory of a process, in MB."""
    pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 2**20


def main(cases: int, first_seed: int = 1) -> int:
    """Fuzz a service of its own, in rounds over all operations; say how it went."""
    resource.setrlimit(resource.RLIMIT_AS, (ADDRESS_SPACE, ADDRESS_SPACE))
    with tempfile.TemporaryDirectory() as folder:
        program = ServiceProgram(Path(folder) / "data", "--load", LOOM)
        try:
            prepare(program)
            worker = OddWorker(program.url)
            known = operations(program.url)
            each = max(1, min(50, cases // len(known)))
            done, begun, at_2000 = 0, time.monotonic(), 0.0
            statuses: Counter[int] = Counter()
            round_number = first_seed
            while done < cases:
                for operation in known:
                    found = fuzz(operation, each, round_number)
                    statuses += found
                    done += sum(found.values())
                    if not at_2000 and done >= 2_000:
                        at_2000 = memory_of(program.process.pid)
                found = fuzz_reports(worker, each, round_number)
                statuses += found
                done += sum(found.values())
                round_number += 1
                now = memory_of(program.process.pid)
                print(
                    f"{done:,} cases in {time.monotonic() - begun:.0f} s, {len(known)} operations; "
                    f"service {now:.0f} MB ({at_2000:.0f} MB at case 2,000); {dict(statuses)}",
                    flush=True,
                )
        finally:
            program.end()
    return 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(os.environ.get("SEED", "1"))))
