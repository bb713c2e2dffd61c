"""The docs are held to the code: what exists is documented, and what is documented works."""

from __future__ import annotations

import json
import random
import re
import runpy
from pathlib import Path
from typing import Any

import pytest
from jsonschema_rs import Draft202012Validator, meta

import yarnloom
from tests.helpers import ROOT
from yarnloom import errors
from yarnloom.cli import EXIT_CODES
from yarnloom.cli.commands import build_parser
from yarnloom.engine.queries import obstacles
from yarnloom.engine.rules.limits import BlockReason
from yarnloom.engine.rules.states import Outcome, RunState, SkipReason, StepState
from yarnloom.engine.state.plans import Misfit
from yarnloom.errors import Refused, subclasses
from yarnloom.plan import examine, read_plan
from yarnloom.service import ServiceSettings
from yarnloom.service.http.problems import STATUS
from yarnloom.service.render.reasons import SENTENCES
from yarnloom.store import Database, LogFile
from yarnloom.testing import run_workflow

DOCS = {path.name: path.read_text(encoding="utf-8") for path in (ROOT / "docs").glob("*.md")}
README = (ROOT / "README.md").read_text(encoding="utf-8")


def code_blocks(text: str, language: str) -> list[str]:
    """The fenced blocks of a language."""
    return re.findall(rf"```{language}\n(.*?)```", text, re.DOTALL)


EXAMPLES: dict[str, tuple[str, dict[str, Any], str, Any]] = {
    "first.py": ("describe-text", {"text": "ebb and flow"}, "done", "short"),
    "coast.py": (
        "tides-of-coast",
        {
            "harbours": [
                {"code": "brackwater", "levels": [1, 2]},
                {"code": "fogwick", "levels": []},
                {"code": "saltmere", "levels": [3]},
            ]
        },
        "done",
        "2 harbours, without ['fogwick']",
    ),
    "notices.py": ("draw-page", {}, "failed", None),
    "nightly.py": ("announced", {}, "done", "waters of brackwater after 15 January 2027"),
    "bookings.py": (
        "send-ticket",
        {"booking": 1, "boat": "grey heron"},
        "done",
        "ticket 1 for the grey heron",
    ),
    "surroundings.py": ("note", {}, "done", 1),
    "tides_app.py": ("high-water", {"harbours": ["saltmere"]}, "done", 8.1),
    "web_app.py": ("print", {}, "done", "a ticket for the grey heron"),
    "limits.py": ("send-levels", {"harbours": ["saltmere"]}, "done", "8 to north"),
    "letters.py": (
        "send",
        {"names": ["ann", "bob"]},
        "done",
        {"mail": 2, "tide": [0, 1, 2], "ring": 2},
    ),
    "tickets.py": (
        "send-tickets",
        {
            "guests": [
                {"name": "ann", "seats": 2, "way": "post"},
                {"name": "bob", "seats": 9, "way": "desk"},
            ]
        },
        "done",
        ["mailed to ann: For ann / 2 seats", "kept at the desk: no ticket"],
    ),
    "rows.py": (
        "letters",
        {"contacts": [{"harbour": name, "address": "a@b"} for name in ("saltmere", "old weir")]},
        "done",
        19,
    ),
}


def test_every_example_in_the_docs_runs() -> None:
    """Each is a file in docs/examples, and ends as it is said here."""
    folder = ROOT / "docs" / "examples"
    blocks = [block for text in (README, *DOCS.values()) for block in code_blocks(text, "python")]
    shown = {path.name for path in folder.glob("*.py") if path.read_text() in blocks}
    whole = [block for block in blocks if "Loom(" in block]
    assert shown == EXAMPLES.keys()
    assert len(whole) == len(EXAMPLES)
    for name, (workflow, params, state, output) in EXAMPLES.items():
        loom = runpy.run_path(str(folder / name))["loom"]
        run = run_workflow(loom, workflow, params)

        assert (run.state, run.output) == (state, output), name


def test_the_readme_is_short() -> None:
    """What it is, a picture, two commands, ten lines of code, where to read on."""
    assert len(README.splitlines()) < 90


def test_every_command_and_option_is_documented() -> None:
    """In docs/command.md."""
    parser = build_parser()
    commands = next(a.choices for a in parser._actions if a.dest == "command")
    assert isinstance(commands, dict)
    for name, sub in commands.items():
        assert f"`yarnloom {name}" in DOCS["command.md"], name
        for action in sub._actions:
            for option in action.option_strings:
                if option.startswith("--") and "==SUPPRESS==" not in str(action.help):
                    assert option in ("--help",) or option in DOCS["command.md"], (name, option)


def test_every_exit_code_is_documented() -> None:
    """With its meaning."""
    for code in {0, *EXIT_CODES.values()}:
        assert re.search(rf"^\| {code} \|", DOCS["command.md"], re.MULTILINE), code


def test_every_route_is_documented(tmp_path: Path) -> None:
    """In docs/http.md, with its method."""
    from yarnloom.service import create_app

    database = Database(tmp_path)
    document = create_app(ServiceSettings(data=tmp_path), database, LogFile(tmp_path)).openapi()
    database.close()
    for path, methods in document["paths"].items():
        for method in methods:
            wanted = f"{method.upper()} {path.removeprefix('/api/v1')}`"
            assert wanted in DOCS["http.md"], wanted


def test_every_refusal_is_documented() -> None:
    """Its code and its status."""
    for kind in [*subclasses(Refused).values(), errors.ValueRefused]:
        if kind is Refused or kind.__module__ != errors.__name__:
            continue
        status = next(STATUS[base] for base in kind.__mro__ if base in STATUS)
        assert f"| `{kind.code}` | {status.value} |" in DOCS["http.md"], kind


def test_every_event_is_documented() -> None:
    """By its type."""
    source = (ROOT / "src/yarnloom/service/runs/events.py").read_text(encoding="utf-8")
    kinds = set(re.findall(r'"(yarnloom\.[a-z.]+)"', source))

    assert len(kinds) == 6
    assert all(f"`{kind}`" in DOCS["http.md"] for kind in kinds)


def test_every_reason_is_documented() -> None:
    """With its kind."""
    kinds = set(SENTENCES)
    kinds |= {f"pool_{why}" for why in BlockReason} | set(Misfit)
    kinds |= {obstacles.NO_PLACE, obstacles.ELSEWHERE, obstacles.DRAINING}

    assert len(kinds) > 20
    assert {kind for kind in kinds if f"`{kind}`" not in DOCS["limits.md"]} == set()


def test_every_state_and_outcome_is_in_the_glossary() -> None:
    """And every public name's word."""
    for word in (*StepState, *RunState, *SkipReason, *Outcome):
        assert f"`{word}`" in DOCS["glossary.md"], word
    for word in (
        *("loom", "task", "step", "sequence", "parallel", "each", "item", "follow-up", "bundle"),
        *("run", "start key", "lease", "grace", "contract", "pool", "rate", "drain", "deadline"),
    ):
        assert f"| **{word}** |" in DOCS["glossary.md"], word


def test_every_setting_from_the_environment_is_documented() -> None:
    """In docs/command.md, docs/access.md or docs/settings.md."""
    found: set[str] = set()
    pages = DOCS["command.md"] + DOCS["access.md"] + DOCS["settings.md"]
    for path in (ROOT / "src").rglob("*.py"):
        found |= set(re.findall(r'"(YARNLOOM_[A-Z]+)"', path.read_text(encoding="utf-8")))

    assert found
    assert all(name in pages for name in found), found


def test_the_plan_formats_example_is_a_plan() -> None:
    """It is read as it stands."""
    (block,) = code_blocks(DOCS["plan-format.md"], "json")
    plan = read_plan(json.loads(block))

    assert [node.label for node in plan.steps()] == ["fetch", "fit"]


def plan_schema() -> Draft202012Validator:
    """The shape of plans, as it is published."""
    schema = json.loads((ROOT / "docs" / "plan.schema.json").read_text(encoding="utf-8"))
    meta.validate(schema)
    return Draft202012Validator(schema)


def test_plans_have_the_shape_of_the_schema() -> None:
    """The example in the docs, the demo's, and random ones."""
    from tests.plans import Maker
    from tests.same import document_of
    from yarnloom.demo.almanac import loom

    validator = plan_schema()
    (block,) = code_blocks(DOCS["plan-format.md"], "json")
    plans = [json.loads(block), *(plan.document for plan in loom.check())]
    for seed in range(60):
        maker = Maker(random.Random(seed).randrange, 12)
        plans.append(document_of(maker, "w", *maker.make()))
    for plan in plans:
        errors = [error.message for error in validator.iter_errors(plan)]
        assert errors == []


@pytest.mark.parametrize(
    "change",
    [
        {"kind": "loop"},
        {"only_fi": {"constant": True}},
        {"inputs": {"a": {"parm": "a"}}},
        {"label": "on_end"},
        {"on_end": {"kind": "step", "label": "x", "task": "l/t"}},
    ],
)
def test_what_has_not_the_shape_is_refused_by_both(change: dict[str, Any]) -> None:
    """The schema and the service agree."""
    step = {"kind": "step", "label": "a", "task": "l/t", "inputs": {}}
    facts = {"input": {"type": "object", "properties": {"a": {}}}, "output": {}}
    head = {"format": 1, "loom": "l", "workflow": "w", "params": {}, "tasks": {"l/t": facts}}
    right = {**head, "plan": {"kind": "sequence", "parts": [step]}}
    wrong = {**head, "plan": {"kind": "sequence", "parts": [{**step, **change}]}}

    assert plan_schema().is_valid(right)
    assert examine(right)[1] == []
    assert not plan_schema().is_valid(wrong)
    assert examine(wrong)[1] != []


@pytest.mark.parametrize("name", ["README.md", "CONTRIBUTING.md", *(f"docs/{n}" for n in DOCS)])
def test_links_lead_somewhere(name: str) -> None:
    """To files that exist."""
    path = ROOT / name
    for target in re.findall(r"\]\(([^)#]+)", path.read_text(encoding="utf-8")):
        if not target.startswith("http"):
            assert (path.parent / target).exists(), (name, target)


def test_every_picture_is_shown_somewhere() -> None:
    """And there are fewer than twenty."""
    pictures = [path.name for path in (ROOT / "docs/screenshots").glob("*.png")]
    text = README + "".join(DOCS.values())

    assert 0 < len(pictures) < 20
    assert all(name in text for name in pictures)


def test_every_make_target_is_explained() -> None:
    """The chores are named first in CONTRIBUTING."""
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    for target in ("demo", "test", "check", "bench", "format", "lock"):
        assert f"make {target}" in text, target


def test_the_errors_are_drawn_as_one_tree() -> None:
    """On the page of the Python API as in the module, and every class of it can be imported."""
    text = errors.__doc__ or ""
    tree = text[text.index("YarnloomError") : text.index("Not errors, and so not")].rstrip()

    assert tree in DOCS["python.md"]
    for name in re.findall(r"[├└]── (\w+)", tree):
        assert getattr(yarnloom, name).code
