"""Files that are made from others: the client without asyncio, types, tables of the docs.

`python -m tools.generate` writes them; with `--check` it only says which are stale. Statements
between the lines `# asyncio only` and `# end` are left out of the client without asyncio.
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

from tools.console_types import console_types
from tools.doc_tables import access_table, settings_table, with_table
from tools.filter_fields import client_text, protocol_text

CLIENT = Path("src/yarnloom/client")
SYNC = {
    "async_client.py": "sync_client.py",
    "async_runs.py": "runs.py",
    "async_network.py": "network.py",
    "async_steps.py": "steps.py",
    "async_connection.py": "connection.py",
    "async_file_calls.py": "file_calls.py",
    "async_setting_calls.py": "setting_calls.py",
}
DOCS = Path("docs")
TYPES = Path("console/src/api/answers.ts")

_ASYNCIO_ONLY = re.compile(r"^ *# asyncio only.*?^ *# end\n", re.S | re.M)
_WORDS = (
    (r"\basync (with|for|def)\b", r"\1"),
    (r"\bawait ", ""),
    (
        r"\bAsync(Client|UnixTransport|Run|Step|Iterator|Transport|Network|HttpStream|Connection|FileCalls|SettingCalls)\b",
        r"\1",
    ),
    (r"__a(enter|exit)__", r"__\1__"),
    (r"\basynccontextmanager\b", "contextmanager"),
    (r"\.a(read|close)\(", r".\1("),
    (r"\.aiter_(\w+)\(", r".iter_\1("),
    (r"\bimport asyncio\b", "import time"),
    (r"\basyncio\.sleep\b", "time.sleep"),
    (r"\bblocks_on_thread\(outgoing\)", "outgoing.blocks()"),
    (
        r"\basync_(client|runs|steps|network|connection|file_calls|setting_calls)\b",
        lambda found: "sync_client" if found[1] == "client" else found[1],
    ),
    (r"from yarnloom.client.plain_http import [^\n]*\n", ""),
)


def without_asyncio(name: str) -> str:
    """Return the source of a file of the client without asyncio."""
    text = _ASYNCIO_ONLY.sub("", (CLIENT / name).read_text())
    first = f'"""Made from `{name}` by `make generate`: change that file instead."""'
    text = re.sub(r'\A""".*?"""', first, text, flags=re.S)
    text = text.replace(name, "\0")
    for pattern, word in _WORDS:
        text = re.sub(pattern, word, text)
    return _formatted(text.replace("\0", name))


def _formatted(text: str) -> str:
    ruff = [str(Path(sys.executable).with_name("ruff"))]
    name = ["--stdin-filename", str(CLIENT / "made.py"), "-"]
    for command in (
        ["check", "--fix", "--unsafe-fixes", "--quiet", "--select", "I,F401,UP028"],
        ["format", "--quiet"],
    ):
        made = subprocess.run(
            [*ruff, *command, *name], input=text, text=True, capture_output=True, check=True
        )
        text = made.stdout
    return text


def main(arguments: list[str]) -> int:
    """Write each file, or with `--check` name those that are stale; return the exit code."""
    made = {CLIENT / sync: without_asyncio(name) for name, sync in SYNC.items()}
    made[TYPES] = console_types()
    made[CLIENT / "runs_filter.py"] = _formatted(client_text())
    made[Path("src/yarnloom/protocol/filter_fields.py")] = _formatted(protocol_text())
    for name, table in (("access.md", access_table()), ("settings.md", settings_table())):
        made[DOCS / name] = with_table(DOCS / name, table)
    stale = [path for path, text in made.items() if not path.exists() or path.read_text() != text]
    if "--check" in arguments:
        for path in stale:
            print(f"{path} is not as it would be made now; run `make generate`", file=sys.stderr)
        return 1 if stale else 0
    for path in stale:
        path.write_text(made[path])
        print(f"made {path}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
