"""Who may talk to the service."""

from __future__ import annotations

import httpx
import pytest

from tests.helpers import ServiceProgram
from tests.service.tokens import token_of


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
    shown = {"Authorization": f"Bearer {token_of(served.url)}", **headers}
    answer = httpx.get(f"{served.url}/api/v1/runs", headers=shown, trust_env=False)

    assert answer.status_code == status


def test_our_own_page_is_allowed(served: ServiceProgram) -> None:
    """The console's origin is the service's."""
    headers = {"Origin": served.url, "Authorization": f"Bearer {token_of(served.url)}"}
    answer = httpx.post(
        f"{served.url}/api/v1/runs", json={"target": "?"}, headers=headers, trust_env=False
    )

    assert answer.status_code == 404
