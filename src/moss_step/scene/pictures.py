"""Pictures of values, kept with them: the registry finds the class of each kind in ``scene/kinds/``."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

from moss_step.kinds.registry import kind_of
from moss_step.model.outcome import Value
from moss_step.scene import kinds
from moss_step.scene.picture import Picture
from moss_step.study.graph import Study


@lru_cache(maxsize=1)
def picture_types() -> dict[str, type[Picture]]:
    """The class of picture of each kind, by the kind's name."""
    modules = [
        importlib.import_module(f"{kinds.__name__}.{m.name}") for m in pkgutil.iter_modules(kinds.__path__)
    ]
    result = [
        v
        for module in modules
        for v in vars(module).values()
        if isinstance(v, type) and issubclass(v, Picture)
    ]
    return {t.kind: t for t in result if t.kind}


def has_place(study: Study, ref: str) -> bool:
    """Whether a result lies on the ground, and so in the Key."""
    return picture_types()[study.result(ref).gives].on_plan


def placed(study: Study, step_id: str) -> str:
    """The result of a step that is drawn on the plan: the main one, or the first beside it that has a place
    where that has none.
    """
    usual = [ref for ref in study.step(step_id).refs if has_place(study, ref) and not study.result(ref).asked]
    return step_id if has_place(study, step_id) or not usual else usual[0]


def picture_of(value: Value) -> Picture:
    """Make the picture of a value."""
    return _type_of(value).from_value(value)


def prepared_picture(value: Value) -> Picture:
    """Make a value's picture, or give the one that is kept with it. Not for the window's own thread."""
    return value.derived.make(_type_of(value), lambda: picture_of(value))


def ready_picture(value: Value) -> Picture | None:
    """Give a value's picture if it was made."""
    return value.derived.ready(_type_of(value))


def _type_of(value: Value) -> type[Picture]:
    return picture_types()[kind_of(value).name]
