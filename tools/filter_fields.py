"""The filters of runs as models of bodies and queries, and as arguments of the client."""

from __future__ import annotations

from yarnloom.run_filters import RUN_FILTERS, RunFilterField

HEAD = '"""Made from `run_filters.py` by `make generate`: change that file instead."""\n\n'

_PROTOCOL = (
    HEAD
    + """\
from __future__ import annotations

from typing import Annotated

from pydantic import Field

from yarnloom.protocol.fields import Priority, Span, Strict, Time, Truth
"""
)
_CLIENT = (
    HEAD
    + """\
from __future__ import annotations

from datetime import datetime
from typing import TypedDict


class RunsFilter(TypedDict, total=False):
    \"\"\"Which runs a list shows; a filter that is not given, or None, allows any.

    Attributes:
"""
)


def protocol_text() -> str:
    """Return the fields of the filter in a body, and in a query."""
    body = "".join(_model_field(field, "Truth", "Priority") for field in RUN_FILTERS)
    query = "".join(_model_field(field, "bool", "int") for field in RUN_FILTERS)
    return (
        f"{_PROTOCOL}\n\nclass FilterBody(Strict):\n"
        f'    """Which runs, in a body; a field that is not given allows any."""\n\n{body}'
        "\n\nclass FilterQuery(Strict):\n"
        f'    """Which runs, in a query; a field that is not given allows any."""\n\n{query}'
    )


def client_text() -> str:
    """Return the arguments of the client."""
    shapes = {"text": "str", "number": "int", "time": "datetime", "span": "str", "flag": "bool"}
    said = "".join(f"        {field.name}: runs {field.says}.\n" for field in RUN_FILTERS)
    typed = "".join(f"    {field.name}: {shapes[field.kind]} | None\n" for field in RUN_FILTERS)
    saved = "        saved: as this saved filter says; other filters count more.\n"
    return f'{_CLIENT}{said}{saved}    """\n\n{typed}    saved: str | None\n'


def _model_field(field: RunFilterField, flag: str, number: str) -> str:
    shapes = {"text": f"Annotated[str, Field(max_length={field.longest})] | None"}
    shapes |= {
        "number": f"{number} | None",
        "time": "Time | None",
        "span": "Span | None",
        "flag": flag,
    }
    default = "False" if field.kind == "flag" else "None"
    described = f'Field({default}, description="Runs {field.says}.")'
    return f"    {field.name}: {shapes[field.kind]} = {described}\n"
