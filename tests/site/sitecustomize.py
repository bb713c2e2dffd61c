"""Read by Python at the start of each process that a test starts: it notes statements."""

import importlib.util
import os
from pathlib import Path

if target := os.environ.get("YARNLOOM_TEST_STATEMENTS"):
    path = Path(__file__).parent.parent / "statements.py"
    spec = importlib.util.spec_from_file_location("test_statements_hook", path)
    if spec and spec.loader:
        module = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(module)
        module.install(Path(target))
