"""Build hook: puts the console into the wheel, built from its sources when it is not current."""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

try:
    from hatchling.builders.hooks.plugin.interface import BuildHookInterface
except ImportError:  # run by hand, without hatchling
    BuildHookInterface = object  # type: ignore[assignment, misc]

ROOT = Path(__file__).parent
SOURCES = ROOT / "console"
TARGET = ROOT / "src" / "yarnloom" / "_console"
STAMP = TARGET / ".sources"


def sources_hash() -> str:
    """A hash over everything that the console is built from."""
    digest = hashlib.sha256()
    for path in sorted(SOURCES.rglob("*")):
        if path.is_file() and "node_modules" not in path.parts:
            digest.update(str(path.relative_to(SOURCES)).encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()


def build(force: bool = False) -> None:
    """Build the console, unless what is there was built from the present sources."""
    if not SOURCES.is_dir():
        return
    wanted = sources_hash()
    if not force and STAMP.is_file() and STAMP.read_text() == wanted:
        return
    npm = shutil.which("npm")
    if npm is None:
        raise SystemExit("the console must be built, and npm is missing: install Node 20 with npm")
    if not (SOURCES / "node_modules" / ".package-lock.json").is_file():
        subprocess.run([npm, "ci", "--ignore-scripts"], cwd=SOURCES, check=True)
    subprocess.run([npm, "run", "--silent", "build"], cwd=SOURCES, check=True)
    (TARGET / "NOTICES.txt").write_text(notices(), encoding="utf-8")
    STAMP.write_text(wanted)


def notices() -> str:
    """The licences of everything that is bundled into the console, fonts included."""
    lock = json.loads((SOURCES / "package-lock.json").read_text(encoding="utf-8"))
    found = ["The console of Yarn Loom contains the following packages.\n"]
    for place, facts in sorted(lock["packages"].items()):
        folder = SOURCES / place
        if not place or facts.get("dev") or not folder.is_dir():
            continue
        name = place.rpartition("node_modules/")[2]
        texts = [
            path.read_text(encoding="utf-8", errors="replace").strip()
            for path in sorted(folder.iterdir())
            if path.is_file()
            and path.name.lower().startswith(("license", "licence", "notice", "ofl"))
        ]
        head = f"{name} {facts['version']} ({facts.get('license', 'see its text')})"
        found.append("\n\n".join([f"{'=' * 72}\n{head}", *texts]) + "\n")
    return "\n".join(found)


class ConsoleHook(BuildHookInterface):  # type: ignore[type-arg, misc]
    """Called by hatchling; does nothing for editable installs."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Build before the files are gathered."""
        if version != "editable":
            build()


if __name__ == "__main__":
    build(force="--force" in sys.argv)
