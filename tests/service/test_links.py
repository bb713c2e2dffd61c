"""Links: they show little, can be listed, and end when they are revoked."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from tests import raw_http
from tests.helpers import ServiceProgram, eventually, run_command
from yarnloom.errors import Conflict, NotFound


@pytest.fixture
def http(served: ServiceProgram) -> Iterator[httpx.Client]:
    """Whoever has a link, and nothing else."""
    with raw_http.Client(base_url=served.url, trust_env=False, timeout=30) as found:
        yield found


def test_a_link_shows_what_an_end_user_is_to_know(
    served: ServiceProgram, http: httpx.Client
) -> None:
    """State, a plain message, progress: no error, no name of a step or task, no output."""
    run = served.client().start("misbehaves", how="raise")
    eventually(lambda: run.refresh().state == "failed")
    shown = http.get(f"/api/v1/links/{run.link().token}")

    assert shown.json()["state"] == "failed"
    assert shown.json()["message"] == "It has failed."
    for hidden in ("Traceback", "marks", "misbehave", "error", "output", "workflow", "File "):
        assert hidden not in shown.text


def test_details_are_shown_where_they_are_asked_for(
    served: ServiceProgram, http: httpx.Client
) -> None:
    """For a colleague."""
    run = served.client().start("sums", number=3)
    run.wait()
    link = run.link(details=True)
    shown = http.get(f"/api/v1/links/{link.token}").json()

    assert link.details is True
    assert shown["output"] == run.output
    assert shown["workflow"] == "marks/sums"


def test_links_are_listed_and_revoked(served: ServiceProgram, http: httpx.Client) -> None:
    """By Python and by command; a token is told once, and never again."""
    run = served.client().start("sums", number=4)
    run.wait()
    first, second = run.link(), run.link("2h")
    assert [link.id for link in run.links()] == [second.id, first.id]
    assert first.token not in str(list(run.links()))
    assert http.get(f"/api/v1/links/{first.token}").status_code == 200

    revoked = run.revoke_link(first.id, "sent to the wrong one")
    assert revoked.revoked_by == "test"
    refused = http.get(f"/api/v1/links/{first.token}")
    assert (refused.status_code, "revoked" in refused.text) == (403, True)
    assert http.get(f"/api/v1/links/{second.token}").status_code == 200
    with pytest.raises(Conflict, match="revoked before"):
        run.revoke_link(first.id)
    with pytest.raises(NotFound, match="no link 999"):
        run.revoke_link(999)
    listed = run_command("links", str(run.number), url=served.url).stdout
    assert "revoked" in listed
    assert "expires in" in listed
    done = run_command("links", str(run.number), "--revoke", str(second.id), url=served.url)
    assert f"link {second.id} to run {run.number} is revoked" in done.stdout
    assert http.get(f"/api/v1/links/{second.token}/events").status_code == 403


def test_whoever_watches_with_a_link_is_cut_off(
    served: ServiceProgram, http: httpx.Client, tmp_path: Path
) -> None:
    """At once, with an event that says so."""
    run = served.client().start("hangs", folder=str(tmp_path))
    link = run.link()
    with http.stream("GET", link.path, timeout=60) as stream:
        lines = stream.iter_lines()
        assert "yarnloom.run.changed" in next(line for line in lines if line.startswith("event:"))
        run.revoke_link(link.id)
        rest = "\n".join(lines)
    run.cancel()

    assert "yarnloom.link.expired" in rest
    assert '"revoked":true' in rest


@pytest.mark.parametrize("token", ["", "1", "1.x", "²." + "A" * 24, "9" * 50 + ".x", "1042.1.x"])
def test_a_token_that_was_not_made_here_opens_nothing(http: httpx.Client, token: str) -> None:
    """Whatever it looks like."""
    assert http.get(f"/api/v1/links/{token}").status_code in (403, 404)
