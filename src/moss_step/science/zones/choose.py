"""Choosing shapes: by a condition on their columns, by their relation to other shapes, or by number."""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.parsing import expression
from moss_step.model.shapes import Shapes, free_name
from moss_step.model.units import NONE
from moss_step.science.algebra.formula import parse

Relation = Literal["meets", "within", "apart"]


def rows_matching(columns: Mapping[str, np.ndarray], text: str) -> np.ndarray:
    """Numbers of the rows that hold a text, or that meet a condition on columns such as ``area_m2 > 500 and
    name != 'Long Moss'``.

    Parameters
    ----------
    columns
        Columns of one length by name.
    text
        What was written.

    Returns
    -------
    np.ndarray
        Numbers of rows, from 0.

    Raises
    ------
    FormulaError
        For a condition that cannot be used.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.choose import rows_matching
    >>> rows_matching({"area_m2": np.array([100.0, 900.0])}, "area_m2 > 500").tolist()
    [1]
    >>> rows_matching({"name": np.array(["Long Moss", "Tarn"], object)}, "name == 'Tarn'").tolist()
    [1]
    """
    count = len(next(iter(columns.values()), ()))
    if not text.strip():
        return np.arange(count)
    if any(sign in text for sign in "<>=!"):
        numeric = {
            n: v.astype(np.float64) for n, v in columns.items() if v.dtype.kind in "biuf" and n.isidentifier()
        }
        text, asked = _texts_as_numbers(text, columns)
        numeric |= asked
        formula = parse(text, dict.fromkeys(numeric, NONE))
        with np.errstate(all="ignore"):
            return np.flatnonzero(formula.part.truth(numeric).holds)
    wanted = text.strip().lower()
    texts = [v for v in columns.values() if v.dtype.kind not in "iuf"] or list(columns.values())
    held = np.zeros(count, bool)
    for values in texts:
        held |= np.char.find(np.char.lower(values.astype(str)), wanted) >= 0
    return np.flatnonzero(held)


def _texts_as_numbers(text: str, columns: Mapping[str, np.ndarray]) -> tuple[str, dict[str, np.ndarray]]:
    """A condition in which each comparison of a column with a text, such as ``name == 'Long Moss'``, is asked
    of a column of 1 and 0; and these columns. What is no such comparison stays as it is.
    """
    masks: dict[str, np.ndarray] = {}

    class Turn(ast.NodeTransformer):
        def visit_Compare(self, node: ast.Compare) -> ast.AST:
            comparison = _text_comparison(node)
            if comparison is None or comparison[0] not in columns:
                return self.generic_visit(node)
            name, wanted, equal = comparison
            same = columns[name].astype(str) == wanted
            key = free_name(f"text_{len(masks)}", columns)
            masks[key] = (same if equal else ~same).astype(np.float64)
            return expression(f"{key} == 1").body

    try:
        turned = Turn().visit(expression(text))
        return (ast.unparse(turned), masks) if masks else (text, masks)
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return text, {}  # the formula says what is wrong with it


def _text_comparison(node: ast.Compare) -> tuple[str, str, bool] | None:
    """Column, text, and whether they are to be equal, of a comparison of a name with a text; else None."""
    if len(node.ops) != 1 or not isinstance(node.ops[0], ast.Eq | ast.NotEq):
        return None
    sides = (node.left, node.comparators[0])
    names = [s.id for s in sides if isinstance(s, ast.Name)]
    texts = [s.value for s in sides if isinstance(s, ast.Constant) and isinstance(s.value, str)]
    return (names[0], texts[0], isinstance(node.ops[0], ast.Eq)) if names and texts else None


def row_numbers(text: str, count: int) -> np.ndarray:
    """Rows named by numbers from 1, such as ``1,4-6``; given from 0, each once, in order.

    Parameters
    ----------
    text
        What was written.
    count
        How many are asked for, or there are.

    Returns
    -------
    np.ndarray
        Numbers of rows, from 0.

    Raises
    ------
    AskedWronglyError
        For anything else, or for rows that are not there.

    Examples
    --------
    >>> from moss_step.science.zones.choose import row_numbers
    >>> row_numbers("1,4-6", 9).tolist()
    [0, 3, 4, 5]
    """
    result: set[int] = set()
    for part in filter(None, re.split(r"[,\s]+", text.strip())):
        match = re.fullmatch(r"([0-9]{1,9})(?:-([0-9]{1,9}))?", part)
        first, last = (int(match[1]), int(match[2] or match[1])) if match else (0, 0)
        if not 1 <= first <= last <= count:
            raise AskedWronglyError(
                f"'{part[:40]}' names no row.", f"Write numbers from 1 to {count}, such as 1,4-6."
            )
        result.update(range(first - 1, last))
    return np.array(sorted(result), np.int64)


def numbers_text(rows: np.ndarray) -> str:
    """Write rows (from 0) as ``row_numbers`` reads them, runs joined.

    Parameters
    ----------
    rows
        Numbers of rows, from 0.

    Returns
    -------
    str
        The text.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.choose import numbers_text
    >>> numbers_text(np.array([0, 1, 2, 6]))
    '1-3,7'
    """
    ordered = np.unique(rows) + 1
    runs = np.split(ordered, np.flatnonzero(np.diff(ordered) > 1) + 1)
    return ",".join(str(r[0]) if len(r) == 1 else f"{r[0]}-{r[-1]}" for r in runs if len(r))


def related(shapes: Shapes, others: Shapes, relation: Relation) -> np.ndarray:
    """Rows of the shapes that meet others, lie within their union, or stay apart from them; both in one
    system.

    Parameters
    ----------
    shapes
        Points, lines or areas with their columns.
    others
        Further shapes, or arrays that go along, as the type says.
    relation
        ``meets``, ``within`` or ``apart``.

    Returns
    -------
    np.ndarray
        Numbers of rows, from 0.

    Examples
    --------
    >>> from moss_step.science.sample import box
    >>> from moss_step.science.zones.choose import related
    >>> related(box(0, 0, 4, 4), box(2, 2, 6, 6), "meets").tolist()
    [0]
    """
    joined = shapely.union_all(shapely.make_valid(others.geometry))
    shapely.prepare(joined)
    geometry = shapely.make_valid(shapes.geometry)
    if relation == "within":
        return np.flatnonzero(shapely.covered_by(geometry, joined))
    meets = shapely.intersects(geometry, joined)
    return np.flatnonzero(meets if relation == "meets" else ~meets)


def kept(shapes: Shapes, rows: np.ndarray) -> Shapes:
    """Give the shapes of some rows.

    Parameters
    ----------
    shapes
        Points, lines or areas with their columns.
    rows
        Numbers of rows, from 0.

    Returns
    -------
    Shapes
        The shapes.

    Raises
    ------
    MossError
        When there are none.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import box
    >>> from moss_step.science.zones.choose import kept
    >>> len(kept(box(0, 0, 4, 4), np.array([0])))
    1
    """
    if len(rows) == 0:
        raise MossError("No shape is chosen.", "Loosen the condition.")
    return replace(
        shapes, geometry=shapes.geometry[rows], columns={n: v[rows] for n, v in shapes.columns.items()}
    )
