"""Calls to the gauge office, the mailbox and the web host."""

from __future__ import annotations

import os

import httpx

from yarnloom import GiveUp, NotDone
from yarnloom.demo.gauge_office import ADDRESS_VARIABLE
from yarnloom.demo.mailbox import ADDRESS_VARIABLE as MAILBOX_VARIABLE
from yarnloom.demo.models import Contact, Page
from yarnloom.demo.web_host import ADDRESS_VARIABLE as HOST_VARIABLE


def office() -> str:
    """Return where the gauge office is."""
    address = os.environ.get(ADDRESS_VARIABLE)
    if not address:
        raise GiveUp(f"no gauge office: {ADDRESS_VARIABLE} is not set; `yarnloom demo` starts one")
    return address


def host() -> httpx.Client:
    """Return a client of the web host."""
    address = os.environ.get(HOST_VARIABLE)
    if not address:
        raise GiveUp(f"no web host: {HOST_VARIABLE} is not set; `yarnloom demo` starts one")
    return httpx.Client(base_url=address, timeout=20, trust_env=False)


def mailbox() -> httpx.Client:
    """Return a client of the mailbox."""
    address = os.environ.get(MAILBOX_VARIABLE)
    if not address:
        raise GiveUp(f"no mailbox: {MAILBOX_VARIABLE} is not set; `yarnloom demo` starts one")
    return httpx.Client(base_url=address, timeout=20, trust_env=False)


def post_letter(http: httpx.Client, token: str, page: Page, contact: Contact) -> int:
    """Post a letter, and return the status of the answer."""
    high = page.extremes.highest
    body = {
        "to": f"{contact.desk}, {page.table.harbour}",
        "address": contact.address,
        "copies": contact.copies,
        "subject": f"Tides of {high.at.year}",
        "text": f"Highest water {high.level:.2f} m on {high.at:%d %B at %H:%M} UTC.",
    }
    answer = http.post("/letters", json=body, headers={"Idempotency-Key": token})
    if answer.status_code == 503:
        raise NotDone(answer.json()["error"])
    number: int = answer.raise_for_status().json()["letter"]
    return number
