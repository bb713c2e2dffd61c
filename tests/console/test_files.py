"""Files in the console: the start form takes them, values and a page show what is in them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.engine.dispatch.test_kept_files import contacts
from tests.helpers import ServiceProgram, service

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def program(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServiceProgram]:
    """A service with the loom of files and a worker."""
    loom = "tests.files_loom:loom"
    with service(tmp_path_factory.mktemp("files"), "--load", loom) as found:
        yield found


def test_rows_are_given_checked_and_shown(program: ServiceProgram, page: Page, marks: Path) -> None:
    """A file with errors is refused with its lines; the right one starts, and is shown."""
    bad, good, head = marks / "bad.csv", marks / "contacts.csv", marks / "head.txt"
    bad.write_bytes(b"harbour;address\nh1;coast\n;b@coast\n")
    good.write_bytes(contacts(40, (3,)))
    head.write_text("The harbour office")
    page.goto(f"{program.url}/workflows/files/letters?start")
    form = page.get_by_role("form", name="start files/letters")
    inputs = form.locator("input[type=file]")
    inputs.nth(0).set_input_files(bad)
    expect(form.get_by_text(re.compile("kept, 3[0-9] bytes"))).to_be_visible()
    rows = form.get_by_test_id("first-rows")
    expect(rows).to_contain_text("the columns look separated by semicolons")
    form.get_by_role("combobox", name="Between cells of bad.csv").click()
    page.get_by_role("option", name="semicolons").click()
    expect(rows).to_contain_text("line 2, address: found 'coast'")
    expect(rows).to_contain_text("2 of all 2 rows are bad")
    form.get_by_role("button", name="Start run").click()
    expect(form.get_by_text("line 2, column 'address': found 'coast'")).to_be_visible()
    expect(form.get_by_text("line 3, column 'harbour': it is empty")).to_be_visible()
    expect(page.get_by_role("alert")).to_contain_text("Nothing was started")

    inputs.nth(0).set_input_files(good)
    expect(rows.get_by_role("cell", name="a3@coast")).to_be_visible()
    inputs.nth(1).set_input_files(head)
    expect(form.get_by_text("kept, 18 bytes")).to_be_visible()
    form.get_by_role("button", name="Start run").click()
    page.wait_for_url("**/runs/1")
    page.get_by_role("button", name="contacts.csv · 40 rows").click()
    preview = page.get_by_role("dialog")
    expect(preview.get_by_role("cell", name="a7@coast")).to_be_visible()
    with page.expect_download() as download:
        preview.get_by_role("link", name="Download").click()
    assert download.value.path().read_bytes() == good.read_bytes()
    page.get_by_role("button", name="Close the file").click()
    page.get_by_role("button", name=re.compile("letters.txt")).click()
    expect(preview.get_by_label("what is in letters.txt")).to_contain_text("The harbour office")


def test_what_a_run_did_is_taken_out(program: ServiceProgram, page: Page, marks: Path) -> None:
    """Items that failed as CSV from the list; the whole record as JSON."""
    client = program.client()
    run = client.start("letters", contacts=client.upload(contacts(50, (9, 12)), "contacts.csv"))
    run.wait(60)
    page.goto(f"{program.url}/runs/{run.number}?each=write")
    page.get_by_role("dialog").get_by_text("failed", exact=True).first.click()
    with page.expect_download() as items:
        page.get_by_role("link", name="CSV").click()
    with page.expect_download() as record:
        page.get_by_role("link", name="its record as JSON").click()

    assert items.value.suggested_filename == f"run-{run.number}-write.csv"
    assert len(items.value.path().read_text().splitlines()) == 3
    assert record.value.path().stat().st_size > 50_000


def test_the_page_of_files(program: ServiceProgram, page: Page) -> None:
    """Newest first; a picture is shown, and a hostile one can do nothing."""
    client = program.client()
    svg = b"<svg xmlns='http://www.w3.org/2000/svg' width='90' height='40'>"
    svg += b"<script>parent.document.title = 'taken'</script><rect width='90' height='40'/></svg>"
    client.upload(svg, "plot.svg")
    page.goto(f"{program.url}/files")
    page.get_by_role("button", name="plot.svg").click()
    picture = page.get_by_role("img", name="plot.svg")
    expect(picture).to_be_visible()

    assert picture.evaluate("(img) => img.naturalWidth") == 90
    assert page.title() == "Files · Yarn Loom"
    page.keyboard.press("Escape")
    expect(picture).to_be_hidden()
