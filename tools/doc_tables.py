"""Tables of the docs that are made from code: who may use which route, and every setting."""

from __future__ import annotations

from pathlib import Path

from yarnloom.protocol.fields import ROLES
from yarnloom.service.access.route_roles import ANY, OPEN
from yarnloom.service.app import route_roles
from yarnloom.settings.model import PREFIX, Settings
from yarnloom.settings.project import NEED_TRUST

BEGIN, END = "<!-- made by `make generate` -->", "<!-- end -->"


def with_table(path: Path, table: str) -> str:
    """Return the text of a page with a table between its marks."""
    before, _, rest = path.read_text(encoding="utf-8").partition(BEGIN)
    return f"{before}{BEGIN}\n\n{table}\n{END}{rest.partition(END)[2]}"


def access_table() -> str:
    """Return which roles each route takes, a row for each."""
    rows = ["| request | takes |", "|---|---|"]
    for method, path, roles in sorted(route_roles(), key=lambda one: (one[1], one[0])):
        if method not in ("HEAD", "OPTIONS"):
            rows.append(f"| `{method} {path.removeprefix('/api/v1')}` | {_takes(roles)} |")
    return "\n".join(rows)


def _takes(roles: frozenset[str]) -> str:
    if roles is OPEN:
        return "anybody"
    if roles == ANY:
        return "any token"
    return ", ".join(f"`{role}`" for role in ROLES if role in {*roles, "admin"})


def settings_table() -> str:
    """Return every setting with its default and what it says."""
    rows = ["| setting | default | |", "|---|---|---|"]
    for name, field in Settings.model_fields.items():
        default = field.get_default(call_default_factory=False)
        shown = "" if field.default_factory or default in (None, (), "") else f"`{default}`"
        trust = " Needs trust." if name in NEED_TRUST else ""
        rows.append(
            f"| `{name}`, `{PREFIX}{name.upper()}` | {shown} | {field.description}{trust} |"
        )
    return "\n".join(rows)
