"""Signing in and out, and tokens, as a viewer of the console sees them."""

from __future__ import annotations

import re

from playwright.sync_api import Browser, Page, expect

from tests.console.conftest import stay_out
from tests.helpers import ServiceProgram, run_command


def test_whoever_is_not_signed_in_sees_how(program: ServiceProgram, page: Page) -> None:
    """A token that is none is refused; a right one opens the console, as does `yarnloom open`."""
    stay_out(page.context, program.url)
    with program.client() as own:
        token = own.add_token("console-viewer", ["view"]).token
    page.goto(program.url)
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    page.get_by_label("Or give a token").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_text("that is no token of this service")).to_be_visible()
    page.get_by_label("Or give a token").fill(token)
    page.get_by_role("button", name="Sign in").click()
    expect(page.locator("footer")).to_contain_text("signed in as console-viewer")
    expect(page.get_by_text("The live view is connecting")).to_have_count(0)

    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    address = run_command("open", url=program.url).stdout.strip()
    page.goto("about:blank")
    page.goto(address)
    expect(page.locator("footer")).to_contain_text("signed in as")
    assert "sign-in" not in page.url
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
    page.goto("about:blank")
    page.goto(address)
    expect(page.get_by_role("alert")).to_contain_text("yarnloom open")


def test_what_a_viewer_may_not_do_is_refused_with_words(
    program: ServiceProgram, browser: Browser
) -> None:
    """And the page goes on."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    stay_out(context, program.url)
    own = program.client()
    token = own.add_token("looks-only", ["view"]).token
    run = own.start("held", folder=str(program.data))
    page.goto(f"{program.url}/runs/{run.number}")
    page.get_by_label("Or give a token").fill(token)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("button", name="Pause", exact=True).click()
    page.get_by_role("button", name=f"Pause run {run.number}").click()
    expect(page.get_by_text("this takes a token that may operate or admin")).to_be_visible()
    page.goto(f"{program.url}/tokens")
    expect(page.get_by_text("this takes a token that may admin")).to_be_visible()
    run.cancel()
    context.close()


def test_a_token_is_made_shown_once_and_revoked(program: ServiceProgram, page: Page) -> None:
    """On its page; the list never shows it."""
    page.goto(f"{program.url}/tokens")
    page.get_by_role("button", name="Make a token…").click()
    page.get_by_label("Name").fill("night-desk")
    page.get_by_label("operate: read, start").check()
    page.get_by_label("Only these workflows").fill("marks/*")
    page.get_by_role("button", name="Make token").click()
    shown = page.get_by_text(re.compile("^yarn_"))
    expect(shown).to_be_visible()
    token = shown.inner_text()
    page.get_by_role("button", name="Done").click()
    row = page.get_by_label("token night-desk")
    expect(row).to_contain_text("view, operate")
    expect(row).to_contain_text("marks/*")
    assert token not in page.content()
    row.get_by_role("button", name="Revoke…").click()
    page.get_by_label("Reason").fill("the desk has moved")
    page.get_by_role("button", name="Revoke", exact=True).click()
    expect(row).to_contain_text("revoked")


def test_files_are_downloaded_by_whoever_is_signed_in(program: ServiceProgram, page: Page) -> None:
    """The browser itself has no session: it gets an address that works once."""
    with program.client() as own:
        run = own.start("sums", number=1)
        run.wait()
    page.goto(f"{program.url}/runs/{run.number}")
    with page.expect_download() as waiting:
        page.get_by_text("its record as JSON").click()
    assert waiting.value.suggested_filename.endswith(".json")
