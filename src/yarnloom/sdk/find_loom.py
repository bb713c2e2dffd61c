"""Finding a loom by `MODULE:LOOM`."""

from __future__ import annotations

import importlib
import sys
import traceback
from pathlib import Path

from yarnloom.errors import LoomNotFound, nearest
from yarnloom.sdk.loom import Loom
from yarnloom.task_texts import MESSAGE_LIMIT, cut_text, text_of, type_name


def load_loom(spec: str) -> Loom:
    """Import a module and take the loom out of it.

    Args:
        spec: `package.module:name`, or the module where it has one loom; the present folder is
            looked in first.

    Raises:
        LoomNotFound: it cannot be imported, or is no loom.
    """
    module_name, colon, name = spec.partition(":")
    if not module_name or (colon and not name):
        raise LoomNotFound(
            f"found {spec!r}; expected MODULE:LOOM, for example my_project.work:loom"
        )
    here = str(Path.cwd())
    if here not in sys.path:
        sys.path.insert(0, here)
    try:
        module = importlib.import_module(module_name)
    except ModuleNotFoundError as error:
        # A module that is missing inside the user's own code is another mistake than a wrong name.
        if error.name and (module_name + ".").startswith(error.name + "."):
            raise LoomNotFound(
                f"there is no module {error.name!r} in {here} or on the Python path{_likely(here)}"
            ) from error
        raise LoomNotFound(_failed(module_name, error)) from error
    except Exception as error:
        raise LoomNotFound(_failed(module_name, error)) from error
    looms = [key for key, value in vars(module).items() if isinstance(value, Loom)]
    if not name:
        name = _only_loom(module_name, looms)
    found = getattr(module, name, None)
    if isinstance(found, Loom):
        return found
    if found is None:
        raise LoomNotFound(f"module {module_name!r} has no {name!r}{nearest(name, looms)}")
    raise LoomNotFound(
        f"{spec} is a {type(found).__name__}, not a Loom{nearest(name, looms) if looms else ''}"
    )


def _only_loom(module: str, looms: list[str]) -> str:
    if len(looms) == 1:
        return looms[0]
    if not looms:
        raise LoomNotFound(f"module {module!r} has no loom; declare one: loom = Loom('name')")
    specs = " or ".join(f"{module}:{name}" for name in looms)
    raise LoomNotFound(f"module {module!r} has {len(looms)} looms; say which: {specs}")


def _likely(folder: str) -> str:
    modules = sorted(path.stem for path in Path(folder).glob("*.py"))[:5]
    return f"; modules here: {', '.join(modules)}" if modules else ""


def _failed(module: str, error: Exception) -> str:
    """The error with the user's own lines, without those of the import system."""
    frames = [
        frame
        for frame in traceback.extract_tb(error.__traceback__)
        if "importlib" not in frame.filename and frame.filename != __file__
    ]
    place = f" ({Path(frames[-1].filename).name}, line {frames[-1].lineno})" if frames else ""
    said = cut_text(text_of(error), MESSAGE_LIMIT)
    return f"importing {module!r} failed{place}: {type_name(error)}: {said}"
