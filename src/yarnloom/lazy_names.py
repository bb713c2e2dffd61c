"""Names of a package that Python imports at their first use."""

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def lazy_names(package: str, modules: Mapping[str, str]) -> Callable[[str], Any]:
    """Return a `__getattr__` for a package: a process loads only the modules that it uses.

    Args:
        package: the full name of the package.
        modules: by public name the module within the package that defines it.
    """

    def import_name(name: str) -> Any:
        if name not in modules:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return getattr(import_module(f"{package}.{modules[name]}"), name)

    return import_name
