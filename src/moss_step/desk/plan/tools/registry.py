"""The tools that stand beside the views, found in the modules of this package."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

from moss_step.desk.plan import tools
from moss_step.desk.plan.tools.tool import Tool


@lru_cache(maxsize=1)
def tool_types() -> tuple[type[Tool], ...]:
    """The classes of tools that have a title, by it."""
    modules = [
        importlib.import_module(f"{tools.__name__}.{m.name}")
        for m in pkgutil.iter_modules(tools.__path__)
        if m.name != "registry"
    ]
    found = {
        v
        for module in modules
        for v in vars(module).values()
        if isinstance(v, type) and issubclass(v, Tool) and v.title
    }
    return tuple(sorted(found, key=lambda t: t.title))
