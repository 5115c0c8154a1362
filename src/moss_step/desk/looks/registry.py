"""The look of each kind, found in the modules of this package."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

from moss_step.desk import looks
from moss_step.desk.looks.look import Look
from moss_step.scene.picture import Picture

_PLAIN = Look()


@lru_cache(maxsize=1)
def all_looks() -> dict[str, Look]:
    """Every look by the name of its kind."""
    modules = (
        importlib.import_module(f"{looks.__name__}.{m.name}")
        for m in pkgutil.iter_modules(looks.__path__)
        if m.name != "registry"
    )
    result = [
        v for module in modules for v in vars(module).values() if isinstance(v, type) and issubclass(v, Look)
    ]
    return {t.kind: t() for t in result if t.kind}


def look_of(picture: Picture) -> Look:
    """Give the look of a picture's kind."""
    return all_looks().get(picture.kind, _PLAIN)
