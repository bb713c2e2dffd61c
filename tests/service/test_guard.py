"""Who may talk to the service."""

from __future__ import annotations

from pathlib import Path

import httpx
import pytest

from tests.helpers import ServiceProgram, run_command, service
from yarnloom import Client
from yarnloom.errors import NotAllowed, StartError
from yarnloom.service import ServiceSettings


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 200),
        ({"Host": "localhost"}, 200),
        ({"Host": "rebound.example"}, 403),
        ({"Host": ""}, 403),
        ({"Origin": "http://elsewhere.example"}, 403),
        ({"Origin": "null"}, 403),
    ],
)
def test_foreign_names_and_pages_are_refused(
    served: ServiceProgram, headers: dict[str, str], status: int
) -> None:
    """A page of another site, or a rebound name, cannot use a service on the viewer's machine."""
    answer = httpx.get(f"{served.url}/api/v1/runs", headers=headers, trust_env=False)

    assert answer.status_code == status


def test_our_own_page_is_allowed(served: ServiceProgram) -> None:
    """The console's origin is the service's."""
    headers = {"Origin": served.url}
    answer = httpx.post(
        f"{served.url}/api/v1/runs", json={"target": "?"}, headers=headers, trust_env=False
    )

    assert answer.status_code == 404


@pytest.mark.parametrize("host", ["0.0.0.0", "::", "192.0.2.1", "a.example"])
def test_beyond_loopback_a_token_is_needed(host: str, tmp_path: Path) -> None:
    """Refused before anything listens."""
    with pytest.raises(StartError, match=r"token is needed.*--token"):
        ServiceSettings(data=tmp_path, host=host).check()
    ServiceSettings(data=tmp_path, host=host, token="t").check()


def test_with_a_token_only_those_who_have_it(tmp_path: Path) -> None:
    """For the API, the command's exit code, and the console's cookie."""
    with service(tmp_path, "--token", "sesame") as program:
        with pytest.raises(NotAllowed, match="a token is needed"):
            list(Client(program.url).runs())
        with pytest.raises(NotAllowed, match="not this service's token"):
            list(Client(program.url, token="wrong").runs())
        assert list(Client(program.url, token="sesame").runs()) == []

        refused = run_command("runs", url=program.url)
        assert refused.returncode == 4
        assert "YARNLOOM_TOKEN" in refused.stderr
        assert run_command("runs", "--token", "sesame", url=program.url).returncode == 0

        browser = httpx.Client(base_url=program.url, trust_env=False)
        assert browser.get("/api/v1/service").status_code == 401
        assert browser.post("/api/v1/session", json={"token": "x"}).status_code == 401
        assert browser.post("/api/v1/session", json={"token": "sesame"}).status_code == 204
        assert browser.get("/api/v1/service").status_code == 200
