"""Whatever a worker reports, nothing but its own attempts can suffer: a property over reports."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings

from tests.boundaries.odd_worker import OddWorker, report_bodies
from tests.helpers import LOOM, much, service
from yarnloom import Client

PAGES = ("", "/graph", "/steps?address=t", "/attempts", "/lines", "/log?address=t", "/why",
         "/times", "/failures", "/glance", "/record", "/published")  # fmt: skip


@pytest.fixture(scope="module")
def odd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OddWorker]:
    """An odd worker of a service that has a healthy one, too."""
    with service(tmp_path_factory.mktemp("odd"), "--load", LOOM) as program:
        yield OddWorker(program.url)


HUGE = "x" * 200_000


def ended(**more: Any) -> dict[str, Any]:
    """A report of an end."""
    return {"items": [{"attempt": 0, "outcome": "failed", **more}]}


def printed(**line: Any) -> dict[str, Any]:
    """A report of a line."""
    return {"logs": [{"attempt": 0, "first": 0, "lines": [line]}]}


@settings(max_examples=much(30, 2_000), suppress_health_check=list(HealthCheck), deadline=None)
@given(body=report_bodies())
@example(ended(error={"type": 7}))
@example(ended(error={"type": HUGE, "message": HUGE, "traceback": HUGE}))
@example(ended(error={"kinds": [HUGE] * 20}))
@example(ended(cpu=-1.0))
@example(ended(outcome="done", output=10**2_000))
@example({"saved": {"0": {"progress": "x"}}})
@example({"saved": {"0": {"progress": {"done": 10**400, "total": 10**401}}}})
@example({"saved": {"0": {"progress": {"done": 1, "note": HUGE, "unit": HUGE}}}})
@example({"saved": {"0": {"counts": {"added": 2**63, "skipped": -(2**63)}}}})
@example(printed(stream="stdout", text="no time"))
@example(printed(at="x", stream="log", text="no time either"))
@example({"trouble": HUGE})
def test_no_report_breaks_the_service_or_another_run(odd: OddWorker, body: dict[str, Any]) -> None:
    """It is answered with 200 or with what is wrong, and every page of its run can be read."""
    number, attempt = odd.attempt()
    answer = odd.report(body, attempt)

    assert answer.status_code in (200, 404, 413, 422), answer.text[:500]
    for page in PAGES:
        shown = odd.http.get(f"/runs/{number}{page}")
        assert shown.status_code == 200, (page, shown.text[:500])
        if "json" in shown.headers["content-type"]:
            json.loads(shown.text, parse_constant=pytest.fail)  # NaN and Infinity are no JSON
    assert len(odd.http.get(f"/runs/{number}/attempts").content) < 100_000
    assert odd.http.get("/runs?limit=3").status_code == 200


@pytest.mark.parametrize("megabytes", [1, 7, 9, 50])
def test_a_huge_report_is_answered_and_others_go_on(odd: OddWorker, megabytes: int) -> None:
    """Up to the limit of a body it is taken, its texts cut; beyond it the answer is 413."""
    number, attempt = odd.attempt()
    error = {"type": "Huge", "message": "x" * megabytes * 2**20}
    item = {"attempt": attempt, "outcome": "failed", "error": error}
    results: list[Any] = []
    healthy = threading.Thread(
        target=lambda: results.append(
            Client(f"{odd.http.base_url}".partition("/api/")[0]).start("sums", number=7).wait(60)
        )
    )
    healthy.start()
    answer = odd.report({"items": [item]})
    healthy.join()

    assert answer.status_code == (200 if megabytes < 8 else 413)
    assert results, "the healthy run has ended"
    if megabytes < 8:
        run = odd.http.get(f"/runs/{number}")
        assert run.json()["state"] == "failed"
        assert len(run.content) < 20_000
