"""A pytest plugin: which functions of the engine each test calls, for `tools.mutants`."""

from __future__ import annotations

import json
import os
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from types import CodeType, FrameType
from typing import Any

import pytest

_HERE = str(Path("src").resolve())
_called: set[CodeType] = set()
_tests: dict[str, tuple[float, list[str]]] = {}


def _note(frame: FrameType, event: str, _: Any) -> None:
    if event == "call":
        _called.add(frame.f_code)


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    """Note the functions that a test calls, set-up included."""
    _called.clear()
    sys.setprofile(_note)
    threading.setprofile(_note)
    yield
    sys.setprofile(None)
    functions = [
        f"{os.path.relpath(code.co_filename)}:{code.co_firstlineno}"
        for code in _called
        if code.co_filename.startswith(_HERE) and "/engine/" in code.co_filename
    ]
    seconds = _tests.get(item.nodeid, (0.0, []))[0]
    _tests[item.nodeid] = (seconds, functions)


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    """Note how long a test takes."""
    seconds, functions = _tests.get(report.nodeid, (0.0, []))
    _tests[report.nodeid] = (seconds + report.duration, functions)


def pytest_sessionfinish() -> None:
    """Write what was noted."""
    Path(os.environ["CALLED_FUNCTIONS"]).write_text(json.dumps(_tests))
