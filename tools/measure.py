"""Counts of the structure of the sources, for the ratchet: `python -m tools.measure`."""

from __future__ import annotations

import ast
import json
import re
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

ROOT = Path("src/yarnloom")
MANY_BRANCHES = 10
_BRANCHES = (
    *(ast.If, ast.For, ast.While, ast.ExceptHandler, ast.IfExp, ast.BoolOp),
    *(ast.comprehension, ast.match_case),
)
_DOCUMENTED = (ast.Module, ast.ClassDef, ast.FunctionDef, ast.AsyncFunctionDef)


def measure() -> dict[str, float]:
    """Return the counts by name; each should fall."""
    takes = views = anys = lines = branchy = bare = 0
    files = {path: path.read_text() for path in sorted(ROOT.rglob("*.py"))}
    trees = {path: ast.parse(text) for path, text in files.items()}
    for path, text in files.items():
        lines += code_lines(text, trees[path])
        anys += len(re.findall(r"\bAny\b", text))
        for function in _functions(trees[path]):
            arguments = function.args
            all_of_them = [*arguments.posonlyargs, *arguments.args, *arguments.kwonlyargs]
            takes += any(
                _names(argument.annotation, r"\bTransaction\b") for argument in all_of_them
            )
            if "engine" in path.parts:
                views += _names(function.returns, r"\bView\b|(?:dict|Mapping)\[str, Any\]")
            if sum(isinstance(node, _BRANCHES) for node in ast.walk(function)) > MANY_BRANCHES:
                branchy += 1
                body = "\n".join(text.splitlines()[function.lineno : function.end_lineno])
                bare += not re.search(r"^\s*#", body, re.MULTILINE)
    return {
        "functions taking Transaction": takes,
        "engine functions returning views or dict[str, Any]": views,
        "Any per 1,000 lines": round(1_000 * anys / lines, 1),
        f"functions of more than {MANY_BRANCHES} branches without a comment": bare,
        "import levels": levels(_imports(trees)),
    }


def code_lines(text: str, tree: ast.Module) -> int:
    """Return the lines of code without blanks, comments and docstrings."""
    documented: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, _DOCUMENTED) and ast.get_docstring(node, clean=False) is not None:
            first = node.body[0]
            documented |= set(range(first.lineno, (first.end_lineno or first.lineno) + 1))
    return sum(
        1
        for number, line in enumerate(text.splitlines(), 1)
        if line.strip() and not line.strip().startswith("#") and number not in documented
    )


def levels(graph: dict[str, set[str]]) -> int:
    """Return the longest way through the imports at run time, cycles counted once."""
    known: dict[str, int] = {}

    def depth(module: str, path: frozenset[str]) -> int:
        if module in path:
            return 0
        if module not in known:
            inner = path | {module}
            known[module] = 1 + max((depth(target, inner) for target in graph[module]), default=0)
        return known[module]

    return max(depth(module, frozenset()) for module in list(graph))


def _functions(tree: ast.Module) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            yield node


def _names(annotation: ast.expr | None, pattern: str) -> bool:
    return annotation is not None and re.search(pattern, ast.unparse(annotation)) is not None


def _imports(trees: dict[Path, ast.Module]) -> dict[str, set[str]]:
    modules = {_module_of(path): tree for path, tree in trees.items()}
    graph: dict[str, set[str]] = defaultdict(set)
    for module, tree in modules.items():
        for_types = {
            id(inner)
            for node in ast.walk(tree)
            if isinstance(node, ast.If) and _names(node.test, "TYPE_CHECKING")
            for inner in ast.walk(node)
        }
        graph[module] = {
            target
            for node in ast.walk(tree)
            if isinstance(node, ast.ImportFrom) and node.module and id(node) not in for_types
            for target in (node.module, *(f"{node.module}.{alias.name}" for alias in node.names))
            if target in modules and target != module
        }
    return graph


def _module_of(path: Path) -> str:
    return ".".join(path.relative_to("src").with_suffix("").parts).removesuffix(".__init__")


if __name__ == "__main__":
    print(json.dumps(measure(), indent=1))
