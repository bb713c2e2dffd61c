"""Seeded mutants of the engine against the tests that call what they change.

`python -m tools.mutants 60 7` makes 60 mutants from seed 7 and prints those that survived. A mutant
is one change of one function: a comparison, a constant, a condition, a call that is left out. The
tests run on a copy of the sources, so that the checkout stays as it is.
"""

from __future__ import annotations

import ast
import copy
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

PACKAGE = Path("src/yarnloom/engine")
TESTS = ("tests/engine", "tests/simulator", "tests/test_testing.py")
FIRST = 150
"""How many tests run at first, the quickest; the others where a mutant survives these."""

_COMPARED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
_COUNTED: dict[type[ast.operator], type[ast.operator]] = {ast.Add: ast.Sub, ast.Sub: ast.Add}


@dataclass(frozen=True, slots=True)
class Mutant:
    """One change of one function.

    Attributes:
        path: the file.
        line: the line of the change.
        first: the first line of the function.
        what: the change in words.
        text: the whole file with the change.
    """

    path: Path
    line: int
    first: int
    what: str
    text: str


def mutants_of(path: Path) -> Iterator[tuple[int, int, str, ast.Module]]:
    """Yield each possible change of a file: line, first line of its function, words, module."""
    tree = ast.parse(path.read_text())
    for function in ast.walk(tree):
        if not isinstance(function, ast.FunctionDef):
            continue
        for index, node in enumerate(ast.walk(function)):
            for what in _changes(node):
                changed = copy.deepcopy(tree)
                twin = next(
                    other
                    for other in ast.walk(changed)
                    if isinstance(other, ast.FunctionDef) and other.lineno == function.lineno
                )
                _apply(list(ast.walk(twin))[index], what)
                line = getattr(node, "lineno", function.lineno)
                first = min([function.lineno, *(d.lineno for d in function.decorator_list)])
                yield line, first, f"{what}: {ast.unparse(node)[:80]}", changed


def _changes(node: ast.AST) -> list[str]:
    match node:
        case ast.Compare(ops=[operator]) if type(operator) in _COMPARED:
            return ["other comparison"]
        case ast.BinOp(op=operator) if type(operator) in _COUNTED:
            return ["other sign"]
        case ast.BoolOp():
            return ["and for or"]
        case ast.If():
            return ["never", "always"]
        case ast.Expr(value=ast.Call()):
            return ["left out"]
    return []


def _apply(node: ast.AST, what: str) -> None:
    match node:
        case ast.Compare():
            node.ops = [_COMPARED[type(node.ops[0])]()]
        case ast.BinOp():
            node.op = _COUNTED[type(node.op)]()
        case ast.BoolOp():
            node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        case ast.If():
            node.test = ast.Constant(what == "always")
        case ast.Expr():
            node.value = ast.Constant(None)


def choose(count: int, seed: int) -> list[Mutant]:
    """Return so many mutants; the same for the same sources and seed."""
    chance = random.Random(seed)
    files = sorted(PACKAGE.rglob("*.py"))
    weights = [path.stat().st_size for path in files]
    chosen: dict[tuple[Path, int, str], Mutant] = {}
    while len(chosen) < count:
        (path,) = chance.choices(files, weights)
        if possible := list(mutants_of(path)):
            line, first, what, module = chance.choice(possible)
            text = ast.unparse(module)
            chosen[path, line, what] = Mutant(path, line, first, what, text)
    return list(chosen.values())


def tests_by_function(folder: Path) -> dict[str, list[str]]:
    """Run all tests once; return by function the tests that call it, the quickest first."""
    told = folder / "called.json"
    command = [sys.executable, "-m", "pytest", *TESTS, "-p", "tools.called_functions"]
    subprocess.run(command, env={**os.environ, "CALLED_FUNCTIONS": str(told)}, check=True)
    calls: dict[str, list[tuple[float, str]]] = {}
    for test, (seconds, functions) in json.loads(told.read_text()).items():
        for function in functions:
            calls.setdefault(function, []).append((seconds, test))
    return {function: [test for _, test in sorted(tests)] for function, tests in calls.items()}


def survives(mutant: Mutant, tests: list[str], folder: Path) -> bool:
    """Whether all tests pass on the sources with a change."""
    pieces = [piece for piece in (tests[:FIRST], tests[FIRST:]) if piece]
    return all(_pass(mutant, piece, folder) for piece in pieces)


def _pass(mutant: Mutant, tests: list[str], folder: Path) -> bool:
    copied = folder / "src"
    shutil.rmtree(copied, ignore_errors=True)
    shutil.copytree("src", copied, ignore=shutil.ignore_patterns("_console", "__pycache__"))
    (folder / mutant.path).write_text(mutant.text)
    command = [sys.executable, "-m", "pytest", "-x", "-q", "--timeout", "60", *tests]
    env = {**os.environ, "PYTHONPATH": str(copied), "PYTHONDONTWRITEBYTECODE": "1"}
    ended = subprocess.run(command, env=env, capture_output=True, timeout=900, check=False)
    return ended.returncode == 0


def main(count: int, seed: int, only: frozenset[int] = frozenset()) -> int:
    """Print each mutant, or only some by number, and how it ended; return 1 if one survived."""
    survivors = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        tests = tests_by_function(folder)
        for number, mutant in enumerate(choose(count, seed), 1):
            if only and number not in only:
                continue
            related = tests.get(f"{mutant.path}:{mutant.first}", [])
            lived = not related or survives(mutant, related, folder)
            word = "SURVIVED" if lived else "killed"
            place = f"{mutant.path}:{mutant.line}"
            print(f"{number:3} {word} ({len(related)} tests) {place} {mutant.what}", flush=True)
            survivors += [place] if lived else []
    print(f"{len(survivors)} of {count} survived")
    return 1 if survivors else 0


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]), int(sys.argv[2]), frozenset(map(int, sys.argv[3:]))))
