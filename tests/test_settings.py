"""Settings: where each comes from, what is refused, what needs trust, and two projects beside."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.helpers import ROOT, Program
from yarnloom import Client
from yarnloom.errors import InvalidInput, NotReachable
from yarnloom.settings import project as projects
from yarnloom.settings.model import Settings, find_settings
from yarnloom.settings.project import DATA, FILE, find_project

LOOM = """from yarnloom import Loom, step
loom = Loom("{name}")

@loom.task
def tell() -> str:
    "Say the name of the project."
    return "{name}"

loom.workflow("say", plan=step("tell", tell))
"""


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Trust is kept in a folder of the test's own."""
    folder = tmp_path_factory.mktemp("state")
    monkeypatch.setenv("XDG_STATE_HOME", str(folder))
    for name in [name for name in os.environ if name.startswith("YARNLOOM_")]:
        if not name.startswith("YARNLOOM_TEST"):
            monkeypatch.delenv(name)
    return folder


def make_project(folder: Path, text: str) -> Path:
    """A folder with a file of settings."""
    folder.mkdir(parents=True, exist_ok=True)
    folder.chmod(0o755)
    (folder / FILE).write_text(text)
    return folder


def test_an_option_counts_more_than_a_variable_and_that_more_than_the_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """And each value says where it comes from."""
    folder = make_project(tmp_path / "shop", 'port = 1111\nworkers = 3\nlease = "40s"\n')
    inner = folder / "deep" / "er"
    inner.mkdir(parents=True)
    for place in (folder / "deep", inner):
        place.chmod(0o755)
    monkeypatch.chdir(inner)
    monkeypatch.setenv("YARNLOOM_WORKERS", "4")
    monkeypatch.setenv("YARNLOOM_NAMES", "a.example, b.example")
    found = find_settings({"port": 2222})
    values, origins = found.values, found.origins

    assert (values.port, values.workers, values.lease) == (2222, 4, 40.0)
    assert values.names == ("a.example", "b.example")
    assert values.data == folder / DATA
    assert origins["port"] == "--port"
    assert origins["workers"] == "YARNLOOM_WORKERS"
    assert origins["lease"] == str(folder / FILE)
    assert origins["commit"] == "default"
    assert origins["data"] == f"beside {folder / FILE}"


@pytest.mark.parametrize(
    ("text", "variables", "words"),
    [
        ("prot = 1\n", {}, r"no setting 'prot'; did you mean 'port'"),
        ("port = 'many'\n", {}, r"yarnloom.toml: found port = 'many'"),
        ("port = 1\nport = 2\n", {}, r"is no TOML"),
        ("", {"YARNLOOM_WORKERS": "none"}, r"YARNLOOM_WORKERS: found workers = 'none'"),
        ("lease = 'soon'\n", {}, r"yarnloom.toml: found lease = 'soon'"),
    ],
)
def test_what_is_not_right_is_refused_with_its_place(
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    text: str,
    variables: dict[str, str],
    words: str,
) -> None:
    """The file, the variable or the option, what was found, and the nearest right name."""
    monkeypatch.chdir(make_project(tmp_path / "shop", text))
    for name, value in variables.items():
        monkeypatch.setenv(name, value)

    with pytest.raises(InvalidInput, match=words):
        find_settings()


def test_odd_variables_are_warned_of(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One that an orchestrator sets for a service of our name is left out."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("YARNLOOM_PORT", "tcp://10.0.0.1:8471")
    monkeypatch.setenv("YARNLOOM_WORKES", "2")
    found = find_settings()

    assert found.values.port == 8471
    assert sorted(found.warnings) == [
        "YARNLOOM_PORT=tcp://10.0.0.1:8471 is left out: an orchestrator set it, not you",
        "the variable YARNLOOM_WORKES is no setting; did you mean 'YARNLOOM_WORKERS'?",
    ]


def test_code_and_addresses_of_a_file_need_trust(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Until they are changed; other settings do not need it."""
    folder = make_project(tmp_path / "shop", "load = ['a:loom']\nworkers = 2\n")
    monkeypatch.chdir(folder)
    before = find_settings()
    project = find_project()
    assert project is not None
    assert project.trust() == {"load": ["a:loom"]}
    after = find_settings()
    (folder / FILE).write_text("load = ['a:loom']\nworkers = 3\n")
    other_workers = find_settings()
    (folder / FILE).write_text("load = ['evil:loom']\n")
    changed = find_settings()

    assert (before.values.load, before.values.workers) == ((), 2)
    assert "yarnloom trust" in before.warnings[0]
    assert (after.values.load, after.warnings) == (("a:loom",), ())
    assert (other_workers.values.load, other_workers.values.workers) == (("a:loom",), 3)
    assert changed.values.load == ()


def test_the_search_stops_where_others_could_put_a_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """At the root of a repository, at home, and at folders that others can write to."""
    outer = make_project(tmp_path / "outer", "port = 1\n")
    inner = outer / "repo" / "src"
    inner.mkdir(parents=True)
    for place in (outer / "repo", inner):
        place.chmod(0o755)
    assert find_project(inner) is not None
    (outer / "repo" / ".git").mkdir()
    assert find_project(inner) is None
    (outer / "repo" / ".git").rmdir()
    (outer / "repo").chmod(0o777)
    assert find_project(inner) is None
    (outer / "repo").chmod(0o755)
    monkeypatch.setenv("HOME", str(outer / "repo"))
    assert find_project(inner) is None
    monkeypatch.undo()
    (outer / FILE).chmod(0o666)
    with pytest.raises(InvalidInput, match="others can write"):
        find_project(inner)
    (outer / FILE).unlink()
    (outer / FILE).symlink_to("/etc/hostname")
    with pytest.raises(InvalidInput, match="is not read"):
        find_project(inner)


def test_a_token_goes_only_to_the_address_that_it_was_configured_with(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Not to one of a variable or an option."""
    from yarnloom.client import Target

    folder = make_project(tmp_path / "shop", "url = 'https://yarn.example'\ntoken_file = 'token'\n")
    (folder / "token").write_text("yarn_secret")
    monkeypatch.chdir(folder)
    untrusted = Target.find()
    project = find_project()
    assert project is not None
    project.trust()
    found = Target.find()
    elsewhere = Target.find("https://other.example")
    monkeypatch.setenv("YARNLOOM_URL", "https://third.example")
    by_variable = Target.find()

    assert (untrusted.url, untrusted.token) != (found.url, found.token)
    assert (found.url, found.token) == ("https://yarn.example", "yarn_secret")
    assert (elsewhere.token, by_variable.token) == ("", "")
    assert "yarn_secret" not in repr(found)


def command(folder: Path, *words: str, **env: str) -> subprocess.CompletedProcess[str]:
    """Run a command in a folder."""
    whole = {name: value for name, value in os.environ.items() if name != "YARNLOOM_URL"}
    return subprocess.run(
        [sys.executable, "-m", "yarnloom", *words],
        cwd=folder,
        env={**whole, "PYTHONPATH": str(ROOT / "src"), **env},
        capture_output=True,
        text=True,
        check=False,
        timeout=60,
    )


def test_two_projects_of_one_user_never_meet(tmp_path: Path) -> None:
    """Each has its data, its service and its runs, with nothing typed."""
    programs, numbers = [], []
    folders = [
        make_project(tmp_path / name, f"load = ['loom_{name}:loom']\n") for name in ("one", "two")
    ]
    state = {"XDG_STATE_HOME": os.environ["XDG_STATE_HOME"]}
    try:
        for folder in folders:
            (folder / f"loom_{folder.name}.py").write_text(LOOM.format(name=folder.name))
            assert command(folder, "trust").returncode == 0
            programs.append(Program("serve", "--quiet", cwd=folder, env=state))
        for folder, program in zip(folders, programs, strict=True):
            program.wait_for(rf"settings of {folder / FILE}")
            program.wait_for("takes work")
            done = command(folder, "start", "say", "--watch")
            assert done.returncode == 0, done.stderr
            listed = json.loads(command(folder, "runs", "--json").stdout)["runs"]
            numbers.append([(run["workflow"], run["state"]) for run in listed])
            assert (folder / DATA / ".gitignore").read_text() == "*\n"
        assert numbers == [[("one/say", "done")], [("two/say", "done")]]
    finally:
        for program in programs:
            program.end()
    gone = command(folders[0], "runs")
    assert gone.returncode == 3
    assert f"no service runs for {folders[0] / DATA}" in gone.stderr


def test_a_project_without_a_service_does_not_find_another(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In Python, too."""
    monkeypatch.chdir(make_project(tmp_path / "lonely", "workers = 1\n"))
    with Client() as client, pytest.raises(NotReachable, match="yarnloom serve"):
        list(client.runs())


def test_config_shows_every_setting(tmp_path: Path) -> None:
    """With its value and where that comes from."""
    folder = make_project(tmp_path / "shop", "workers = 2\n")
    shown = command(folder, "config", "--json", YARNLOOM_LEASE="50s")
    found: dict[str, Any] = {row["name"]: row for row in json.loads(shown.stdout)["settings"]}

    assert found.keys() == Settings.model_fields.keys()
    assert found["lease"]["value"] == 50.0
    assert found["lease"]["from"] == "YARNLOOM_LEASE"
    assert found["workers"]["from"] == str(folder / FILE)
    assert all(row["says"] for row in found.values())
    text = command(folder, "config").stdout
    assert "YARNLOOM_LEASE" not in text
    assert "workers" in text


def test_the_names_of_files_are_as_documented() -> None:
    """In the module that finds them."""
    assert (projects.FILE, projects.DATA) == ("yarnloom.toml", ".yarnloom")
