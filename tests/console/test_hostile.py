"""What others wrote is shown as text in the console: nothing of it runs, nothing turns the page."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import quote

import pytest
from playwright.sync_api import Page, expect

from tests.helpers import eventually, service
from tests.hostile_loom import HOSTILE

SCRIPT = "<img src=x onerror=\"document.title='owned'\"><script>document.title='owned'</script>"

pytestmark = pytest.mark.browser


def test_hostile_names_and_values_do_nothing(page: Page, tmp_path: Path) -> None:
    """Names of items, values, log lines, errors, tags and file names, on every page."""
    requests: list[str] = []
    page.on("request", lambda request: requests.append(request.url))
    with service(tmp_path / "data", "--load", "tests.hostile_loom:loom") as program:
        client = program.client()
        run = client.start("say", names=[HOSTILE, SCRIPT], note=SCRIPT, tags=(SCRIPT,), key=SCRIPT)
        eventually(lambda: run.refresh().state == "failed")
        client.upload(b"a,b\n<script>,x\n", "<b>hostile<b>.csv")
        for path in (
            *(
                "/",
                "/runs",
                f"/runs/{run.number}",
                "/workflows",
                "/workflows/hostile/say",
                "/files",
            ),
            *(
                f"/runs/{run.number}?step=fail",
                f"/runs?text={quote(SCRIPT)}",
                "/%E0%A4%A",
                "/runs/x",
            ),
        ):
            page.goto(program.url + path)
            expect(page.get_by_role("navigation", name="Pages")).to_be_visible()
            page.wait_for_timeout(300)
            assert "owned" not in page.title(), path
        page.goto(f"{program.url}/runs/{run.number}?view=log")
        expect(page.get_by_text("\\u202egnp.exe").first).to_be_visible()
        assert "\u202e" not in page.inner_text("body"), "it would turn what comes behind it around"
        page.goto(f"{program.url}/runs/{run.number}")
        page.get_by_text("2 of 2", exact=False).first.wait_for()
        foreign = [url for url in requests if not url.startswith((program.url, "data:", "blob:"))]

    assert foreign == []


@pytest.mark.parametrize("path", ["/", "/runs", "/api"])
def test_no_other_page_can_frame_the_console(page: Page, program: object, path: str) -> None:
    """As the browser sees it, and not only in the headers."""
    url = program.url + path  # type: ignore[attr-defined]
    page.goto("about:blank")
    page.set_content(f'<iframe src="{url}" style="width:900px;height:500px"></iframe>')
    page.wait_for_timeout(500)

    assert page.frames[1].url.startswith("chrome-error:")
