"""What strangers and odd clients send costs them an answer, and nobody else anything."""

from __future__ import annotations

import gc
import json
import re
import time
from base64 import b64encode, urlsafe_b64encode
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote, quote_plus

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as some

from tests import raw_http
from tests.boundaries.watching import answer_to, status_of
from tests.helpers import ServiceProgram
from yarnloom.errors import InvalidInput
from yarnloom.masking import MASK, masked_text, worth_masking
from yarnloom.plan.validators import DIALECT, schema_problem
from yarnloom.protocol.bodies import StartBody, StartManyBody
from yarnloom.protocol.worker_bodies import RegisterBody, ReportBody
from yarnloom.side_process.check_values import parse_body
from yarnloom.tabular.bad_rows import made_safe

JSON = {"content-type": "application/json"}


@pytest.fixture
def http(served: ServiceProgram) -> Iterator[httpx.Client]:
    """A client that sends what it is told."""
    with raw_http.Client(base_url=f"{served.url}/api/v1", trust_env=False, timeout=60) as found:
        yield found


@pytest.mark.parametrize(
    ("schema", "place"),
    [
        ({"$schema": "http://127.0.0.1:9/schema"}, "/$schema"),
        ({"$schema": "file:///etc/passwd"}, "/$schema"),
        ({"$schema": 7}, "/$schema"),
        ({"properties": {"a": {"$schema": "http://127.0.0.1:9/"}}}, "/properties/a/$schema"),
        ({"$ref": "http://127.0.0.1:9/"}, "/$ref"),
        ({"properties": {"a": {"$id": "http://127.0.0.1:9/"}}}, "/properties/a/$id"),
    ],
)
def test_no_schema_causes_input_or_output(schema: dict[str, Any], place: str) -> None:
    """One that refers to another place is refused before anything looks there."""
    problem = schema_problem(schema)

    assert problem is not None
    assert problem.where == place


def test_the_dialect_of_pydantic_is_read() -> None:
    """It may be named."""
    assert schema_problem({"$schema": DIALECT, "type": "object"}) is None


@pytest.mark.parametrize(
    ("model", "body"),
    [
        (ReportBody, {"epoch": "x", "items": [1] * 43_000}),
        (ReportBody, {"epoch": "x", "saved": {str(number): 1 for number in range(1, 14_000)}}),
        (ReportBody, {"epoch": "x", "logs": [{"attempt": 1, "first": 0, "lines": [1] * 43_000}]}),
        (ReportBody, {"epoch": "x", **{f"field{number}": 1 for number in range(9_000)}}),
        (RegisterBody, {"id": "w", "tasks": {f"t{number}": 1 for number in range(9_000)}}),
        (StartManyBody, {"starts": [1] * 43_000}),
        (StartBody, {f"field{number}": 1 for number in range(9_000)}),
    ],
)
def test_a_body_with_very_many_mistakes_costs_no_more_than_a_right_one(
    model: Any, body: dict[str, Any]
) -> None:
    """At most twenty mistakes are written: as a ratio to reading its JSON."""
    text = json.dumps(body).encode()
    # A collection would look through all that other tests have loaded.
    gc.collect()
    gc.disable()
    try:
        began = time.thread_time()
        for _ in range(5):
            json.loads(text)
        reading = time.thread_time() - began
        began = time.thread_time()
        with pytest.raises(InvalidInput) as refused:
            parse_body(model, text)
        took = time.thread_time() - began
    finally:
        gc.enable()

    assert 1 <= len(refused.value.problems) <= 20
    assert took < 8 * reading + 0.01


def test_a_strangers_report_is_not_read(served: ServiceProgram, http: httpx.Client) -> None:
    """Whether the body is small, large or wrong: the worker is looked up first."""
    for text in (b"{", b'{"items": [' + b"1," * 40_000 + b"1]}", b"1" * 300_000):
        answer = http.post("/workers/nobody/report", content=text, headers=JSON)
        assert answer.status_code == 404, text[:20]


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        ("/runs/1_0", 422),
        ("/runs/+1", 422),
        ("/runs/%201", 422),
        ("/runs/%D9%A3", 422),
        ("/runs?limit=1_0", 422),
        ("/runs?limit=10&limit=20", 422),
        ("/runs/1?wait=1_0", 422),
        ("/runs/1?wait=nan", 422),
        ("/runs/1?wait=0&wait=0", 422),
        ("/runs?state=done&state=failed", 200),
    ],
)
def test_only_plain_numbers_once(http: httpx.Client, path: str, expected: int) -> None:
    """What only Python reads as a number, and what leaves open which value is meant, is refused."""
    assert http.get(path).status_code == expected


def test_a_name_that_stands_twice_in_an_object_is_refused(http: httpx.Client) -> None:
    """Nobody knows which value is meant."""
    text = b'{"target": "sums", "params": {"number": 1, "number": 2}}'
    answer = http.post("/runs", content=text, headers=JSON)

    assert answer.status_code == 422
    assert "has the name 'number' twice" in answer.json()["detail"]


def test_numbers_beyond_every_float_are_refused(http: httpx.Client) -> None:
    """They would come back as `Infinity`, which is no JSON."""
    for number in (b"1e999", b"-1e400", b"9" * 400 + b".5", b"1" * 1_001):
        text = b'{"target": "sums", "params": {"number": ' + number + b"}}"
        assert http.post("/runs", content=text, headers=JSON).status_code == 422, number[:9]


@pytest.mark.parametrize("path", ["/runs", "/runs/999999", "/overview", "/events", "/openapi.json"])
def test_head_answers_as_get_does_without_a_body(http: httpx.Client, path: str) -> None:
    """Also for a stream, which ends with it."""
    head = http.head(path)
    with http.stream("GET", path) as got:
        assert head.status_code == got.status_code
        assert head.headers["content-type"] == got.headers["content-type"]
    assert head.content == b""


def test_two_hosts_are_no_request(served: ServiceProgram) -> None:
    """Which of them is meant, a proxy and the service could see differently."""
    text = b"GET /health HTTP/1.1\r\nHost: localhost\r\nHost: other\r\n\r\n"
    assert status_of(served.port, text) == 400


def test_answers_of_the_connection_carry_what_guards_a_browser(served: ServiceProgram) -> None:
    """As all others do."""
    answer = answer_to(served.port, b"nonsense\r\n\r\n")
    for name in (b"content-security-policy", b"referrer-policy", b"x-content-type-options"):
        assert name in answer.lower()


CHUNKED = (
    b"POST /api/v1/runs HTTP/1.1\r\nHost: localhost\r\n"
    b"Content-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n"
)


@pytest.mark.parametrize(
    "pieces",
    [
        [CHUNKED, b"0\r\n", b"X-a: b\r\n" * 400_000],
        [CHUNKED, b"0\r\nX-a: ", *[b"x" * 2**20] * 8],
        [CHUNKED, b"1\r\nx\r\n" * 400_000],
        [b"GET /health HTTP/1.1\r\nHost: localhost\r\n\r\n" * 40_000],
    ],
)
def test_many_small_things_on_one_connection_are_stopped_early(
    served: ServiceProgram, pieces: list[bytes]
) -> None:
    """Headers behind a body, pieces of a byte, requests behind each other: parsing ends at once."""
    before = _processor_time(served)
    answer = answer_to(served.port, *pieces)
    spent = _processor_time(served) - before

    assert re.match(rb"HTTP/1.1 (400|413|431|200)", answer) or not answer
    assert spent < 1.0


def _processor_time(served: ServiceProgram) -> float:
    stat = Path(f"/proc/{served.process.pid}/stat").read_text()
    fields = stat.rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / 100


WORDS = some.text(some.characters(codec="utf-8"), min_size=6, max_size=30)


@given(
    secret=WORDS.filter(lambda word: len(set(word)) > 3),
    before=some.text(max_size=5),
    after=some.text(max_size=5),
)
def test_a_secret_is_masked_however_it_is_written(secret: str, before: str, after: str) -> None:
    """In base64 with anything around it, quoted for URLs, escaped for JSON, as Python shows it."""
    text = (before + secret + after).encode("utf-8", "replace")
    whole = text.decode()
    forms = [
        whole,
        json.dumps(whole),
        json.dumps(whole, ensure_ascii=False),
        repr(secret),
        quote(whole, safe=""),
        quote_plus(whole),
        b64encode(text).decode(),
        urlsafe_b64encode(text).decode(),
    ]

    for form in forms:
        assert MASK in masked_text(form, worth_masking([secret])), form


@pytest.mark.parametrize(
    "cell", ["=1+1", " =1+1", "\u00a0=1", "\t=1", "\n@x", "\ufeff=1", "-1", "＝1"]
)
def test_cells_that_a_spreadsheet_would_run_are_made_text(cell: str) -> None:
    """Also behind spaces and marks that nobody sees."""
    assert made_safe(cell) == f"'{cell}"


@pytest.mark.parametrize("cell", ["a=1", " a", "", " ", 7, None])
def test_other_cells_stay(cell: Any) -> None:
    """They are as they were."""
    assert made_safe(cell) == cell
