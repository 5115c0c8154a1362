"""Formulas over named surfaces: Python's expression syntax, parsed and worked out by hand; nothing is run as
code.

Units are carried: two lengths in different units do not mix, a comparison takes a bare number in the unit of
the other side. Bearings are compared, never added: 350 and 10 would give 180. Yes is 1 and no is 0, and
no-data stays no-data: a condition about a missing value is neither. Worked out in blocks of rows, so that no
term needs a whole grid of its own.
"""

from __future__ import annotations

import ast
import itertools
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, same_frame
from moss_step.model.kernels.blanks import drop_infinite
from moss_step.model.parsing import expression
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE, BEARING, DEGREE, METRE, NONE, UNKNOWN, Unit

BLOCK_ROWS = 64
_MOST_TEXT, _MOST_NODES, _MOST_POWER = 4000, 400, 64.0
Array = np.ndarray
_BINARY: dict[type[ast.operator], Callable[..., Array]] = {
    ast.Add: np.add, ast.Sub: np.subtract, ast.Mult: np.multiply, ast.Div: np.divide, ast.Pow: np.power,
    ast.Mod: np.mod, ast.FloorDiv: np.floor_divide,
}  # fmt: skip
_COMPARE: dict[type[ast.cmpop], Callable[..., Array]] = {
    ast.Lt: np.less, ast.LtE: np.less_equal, ast.Gt: np.greater, ast.GtE: np.greater_equal, ast.Eq: np.equal,
    ast.NotEq: np.not_equal,
}  # fmt: skip
_KEEP_UNIT = {"abs": np.abs, "round": np.rint, "floor": np.floor, "ceil": np.ceil}
_NO_UNIT = {
    "sqrt": np.sqrt,
    "log": np.log,
    "log10": np.log10,
    "exp": np.exp,
    "sin": np.sin,
    "cos": np.cos,
    "tan": np.tan,
    "arcsin": np.arcsin,
    "arccos": np.arccos,
    "arctan": np.arctan,
    "sign": np.sign,
}
_TURN = {"radians": np.radians, "degrees": np.degrees}
FUNCTIONS = (*_KEEP_UNIT, *_NO_UNIT, *_TURN, "arctan2", "min", "max", "where", "isnan", "away")
CONSTANTS = {"pi": float(np.pi), "nan": float("nan"), "True": 1.0, "False": 0.0}


class FormulaError(AskedWronglyError):
    """A formula that cannot be used; ``start`` and ``end`` point at the part of the text.

    When units do not mix, ``mixed`` names a surface and the key of the unit that it could be converted to.
    """

    def __init__(
        self,
        what: str,
        do: str,
        node: ast.AST | None = None,
        mixed: tuple[str, str] | None = None,
        typed: str = "",
    ) -> None:
        self.mixed = mixed
        self.start = getattr(node, "col_offset", 0)
        self.end = getattr(node, "end_col_offset", self.start + 1) or self.start + 1
        super().__init__(what, do, typed)


@dataclass(frozen=True)
class Truth:
    """Where a condition holds, and where a missing value leaves it open (None: nowhere)."""

    holds: Array
    missing: Array | None = None

    @property
    def numbers(self) -> Array:
        """1 for yes, 0 for no, NaN where it is open (float32)."""
        result = self.holds.astype(np.float32)
        if self.missing is not None:
            result = np.where(self.missing, np.float32(np.nan), result)
        return result


@dataclass(frozen=True)
class Part:
    """A part of a formula: how it is worked out for a block, its unit, and whether it is yes or no.

    ``work`` gives numbers, or a Truth for yes and no; ``run`` numbers always.
    """

    work: Callable[[Mapping[str, Array]], Any]
    unit: Unit
    logical: bool = False

    def run(self, block: Mapping[str, Array]) -> Any:
        """Work the part out as numbers: yes is 1, no is 0, in single precision or that of the surfaces."""
        value = self.work(block)
        return value.numbers if isinstance(value, Truth) else value

    def truth(self, block: Mapping[str, Array]) -> Truth:
        """Work the part out as a condition: numbers hold when they are not 0."""
        value = self.work(block)
        return value if isinstance(value, Truth) else Truth(np.asarray(value != 0), _missing(value))


@dataclass(frozen=True)
class Formula:
    """A checked formula: the names it uses, its unit, and whether it gives yes (1) or no (0)."""

    text: str
    names: tuple[str, ...]
    part: Part


def parse(text: str, units: Mapping[str, Unit]) -> Formula:
    """Check a formula against the names and units that there are.

    Parameters
    ----------
    text
        What was written.
    units
        Units of the names that there are.

    Returns
    -------
    Formula
        The formula, its names and the unit of what it gives.

    Raises
    ------
    FormulaError
        That points at what is wrong: an unknown name, anything but arithmetic, comparison, ``and or not``
        and the listed functions, powers beyond 64, or units that do not go together.

    Examples
    --------
    >>> from moss_step.model.units import METRE
    >>> from moss_step.science.algebra.formula import parse
    >>> parse("dem > 30", {"dem": METRE}).names
    ('dem',)
    """
    if len(text) > _MOST_TEXT:
        raise FormulaError(f"The formula has {len(text):,} characters.", f"Keep it below {_MOST_TEXT:,}.")
    try:
        tree = expression(text)
    except (SyntaxError, ValueError, MemoryError, RecursionError) as error:
        where = getattr(error, "offset", None) or 1
        raise FormulaError(
            f"The formula cannot be read at character {where}.", "Check brackets and operators."
        ) from None
    if sum(1 for _ in ast.walk(tree)) > _MOST_NODES:
        raise FormulaError("The formula has too many parts.", "Split it in several steps.")
    part = _Builder(units).build(tree.body)
    names = tuple(sorted({n.id for n in ast.walk(tree) if isinstance(n, ast.Name) and n.id in units}))
    if not names:
        raise FormulaError("The formula uses no surface.", f"There are: {', '.join(units) or 'none'}.")
    return Formula(text, names, part)


def names_in(text: str) -> list[str]:
    """Names that a text mentions and that are neither functions nor constants; empty when it cannot be read.

    Parameters
    ----------
    text
        What was written.

    Returns
    -------
    list[str]
        The names, each once.

    Examples
    --------
    >>> from moss_step.science.algebra.formula import names_in
    >>> names_in("(dem - low) / low")
    ['dem', 'low']
    """
    try:
        tree = expression(text)
    except (SyntaxError, ValueError, MemoryError, RecursionError):
        return []
    return sorted({n.id for n in ast.walk(tree) if isinstance(n, ast.Name)} - {*FUNCTIONS, *CONSTANTS})


def evaluate(text: str, surfaces: Mapping[str, Surface], progress: Progress | None = None) -> Surface:
    """Work a formula out over surfaces of one frame; yes is 1 and no is 0.

    Parameters
    ----------
    text
        What was written.
    surfaces
        Surfaces by the names that the text or the columns use.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Values in the unit that the formula gives, float32.

    Raises
    ------
    FormulaError
        For the text.
    MossError
        When the surfaces lie in different frames.

    Examples
    --------
    >>> from moss_step.science.algebra.formula import evaluate
    >>> from moss_step.science.sample import tilted
    >>> dem = tilted()  # rises by 2 m a cell of 2 m to the east
    >>> evaluate("dem > 3", {"dem": dem}).values[0].tolist()
    [0.0, 0.0, 1.0, 1.0, 1.0]
    """
    formula = parse(text, {n: BEARING if s.cyclic else s.unit for n, s in surfaces.items()})
    used = {n: surfaces[n] for n in formula.names}
    frame = one_frame(used)
    double = any(s.values.dtype == np.float64 for s in used.values()) and not formula.part.logical
    out = np.empty(frame.shape, np.float64 if double else np.float32)
    for first, last in (progress or silent()).blocks(frame.rows, BLOCK_ROWS, "Working the formula out"):
        block = {n: s.values[first:last] for n, s in used.items()}
        with np.errstate(all="ignore"):  # what cannot be divided or rooted becomes no-data below
            out[first:last] = formula.part.run(block)
        drop_infinite(out[first:last])
    return Surface(
        out,
        frame,
        formula.part.unit,
        "yes_no" if formula.part.logical else _quantity(formula.part.unit, used),
    )


def is_question(text: str) -> bool:
    """Whether a formula answers yes or no: a comparison, or several with ``and``, ``or``, ``not``.

    Parameters
    ----------
    text
        What was written.

    Returns
    -------
    bool
        False for text that is no formula, too.

    Examples
    --------
    >>> from moss_step.science.algebra.formula import is_question
    >>> is_question("slope > 30 and dem > 400"), is_question("dem - low")
    (True, False)
    """
    try:
        tree = expression(text).body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    denied = isinstance(tree, ast.UnaryOp) and isinstance(tree.op, ast.Not)
    return denied or isinstance(tree, ast.Compare | ast.BoolOp)


def one_frame(surfaces: Mapping[str, Surface]) -> Frame:
    """Give the frame of several surfaces.

    Parameters
    ----------
    surfaces
        Surfaces by the names that the text or the columns use.

    Returns
    -------
    Frame
        The frame.

    Raises
    ------
    MossError
        That names two that differ.

    Examples
    --------
    >>> from moss_step.science.algebra.formula import one_frame
    >>> from moss_step.science.sample import tilted
    >>> one_frame({"a": tilted(), "b": tilted()}).shape
    (4, 5)
    """
    first, frame = next((n, s.frame) for n, s in surfaces.items())
    for name, surface in surfaces.items():
        if not same_frame(surface.frame, frame):
            raise MossError(
                f"'{name}' and '{first}' do not lie cell on cell.",
                "Resample one to the frame of the other, or crop both alike.",
            )
    return frame


def _quantity(unit: Unit, used: Mapping[str, Surface]) -> str:
    alike = {s.quantity for s in used.values() if s.unit == unit}
    return alike.pop() if len(alike) == 1 and unit not in (NONE, UNKNOWN) else "value"


class _Builder:
    """Turns a syntax tree into parts, refusing all that is not on the list."""

    def __init__(self, units: Mapping[str, Unit]) -> None:
        self._units = units

    def build(self, node: ast.expr) -> Part:
        """Build one node."""
        makers: dict[type[ast.expr], Callable[..., Part]] = {
            ast.Constant: self._constant,
            ast.Name: self._name,
            ast.UnaryOp: self._unary,
            ast.BinOp: self._binary,
            ast.Compare: self._compare,
            ast.BoolOp: self._logical,
            ast.Call: self._call,
        }
        maker = makers.get(type(node))
        if maker is None:
            what = {ast.Attribute: "A dot", ast.Subscript: "A square bracket", ast.Lambda: "lambda"}.get(
                type(node), "This part"
            )
            raise FormulaError(
                f"{what} is not allowed in a formula.",
                "Use arithmetic, comparisons and the listed functions.",
                node,
            )
        return maker(node)

    def _constant(self, node: ast.Constant) -> Part:
        if isinstance(node.value, bool) or not isinstance(node.value, int | float):
            raise FormulaError(f"{node.value!r} is not a number.", "Use numbers and names of surfaces.", node)
        if abs(node.value) > 1e30:
            raise FormulaError("The number is too large.", "Use one below 1e30.", node)
        value: Any = float(node.value)
        return Part(lambda _: value, NONE)

    def _name(self, node: ast.Name) -> Part:
        name = node.id
        if name in self._units:
            return Part(lambda block: block[name], self._units[name])
        if name in CONSTANTS:
            value: Any = CONSTANTS[name]
            return Part(lambda _: value, NONE)
        raise FormulaError(
            f"There is no surface '{name}'.", f"There are: {', '.join(self._units) or 'none'}.", node
        )

    def _unary(self, node: ast.UnaryOp) -> Part:
        inner = self.build(node.operand)
        if isinstance(node.op, ast.Not):
            return Part(lambda block: _not(inner.truth(block)), NONE, True)
        self._no_bearing(node, inner)
        if isinstance(node.op, ast.USub):
            return Part(lambda block: _plain(np.negative(inner.run(block))), inner.unit)
        if isinstance(node.op, ast.UAdd):
            return Part(inner.run, inner.unit)
        raise FormulaError("This sign is not allowed.", "Use -, + or not.", node)

    def _no_bearing(self, node: ast.expr, *parts: Part) -> None:
        """Refuse to work with bearings as if they were numbers on a line."""
        if any(part.unit == BEARING for part in parts):
            raise FormulaError(
                "Bearings cannot be worked with like that: 350° and 10° would give 180°.",
                "Compare them, or write away(aspect, 180) for the angle from a bearing, "
                "sin(radians(aspect)) or cos(radians(aspect)).",
                node,
            )

    def _binary(self, node: ast.BinOp) -> Part:
        left, right = self.build(node.left), self.build(node.right)
        run = _BINARY.get(type(node.op))
        if run is None:
            raise FormulaError(
                "This operator is not allowed.", "Use + - * / // % **. For yes and no: and, or, not.", node
            )
        self._no_bearing(node, left, right)
        if isinstance(node.op, ast.Pow):
            power = node.right.operand if isinstance(node.right, ast.UnaryOp) else node.right
            if (
                not isinstance(power, ast.Constant)
                or not isinstance(power.value, int | float)
                or power.value > _MOST_POWER
            ):
                raise FormulaError(
                    "A power must be a number up to 64.", "Write for example dem ** 2.", node.right
                )
        unit = self._unit_of(node, left, right)
        return Part(lambda block: _plain(run(left.run(block), right.run(block))), unit)

    def _unit_of(self, node: ast.BinOp, left: Part, right: Part) -> Unit:
        if isinstance(node.op, ast.Add | ast.Sub | ast.Mod):
            return self._alike(node, left, right)
        if isinstance(node.op, ast.Mult):
            return left.unit if right.unit == NONE else right.unit if left.unit == NONE else NONE
        if isinstance(node.op, ast.Div | ast.FloorDiv):
            if (
                left.unit.kind == right.unit.kind
                and left.unit != right.unit
                and NONE not in (left.unit, right.unit)
            ):
                self._alike(node, left, right)
            return left.unit if right.unit == NONE else NONE
        return NONE

    def _alike(self, node: ast.expr, left: Part, right: Part) -> Unit:
        a, b = left.unit, right.unit
        known = b if a == UNKNOWN else a if b == UNKNOWN else None
        if known is not None and known.kind == "length" and known != METRE:
            raise FormulaError(
                f"One unit is not stated, so that metres would be taken, and the other is {known.key}.",
                "State it in Gather, or convert one.",
                node,
                typed="State it by open_grid unit=..., or convert one by convert_units.",
            )
        if a == b or b in (NONE, UNKNOWN):
            return a
        if a in (NONE, UNKNOWN):
            return b
        if a.kind == b.kind:
            raise FormulaError(
                f"{a.key} and {b.key} do not mix.",
                f"Convert one first: convert_units to={a.key if a == METRE else b.key}.",
                node,
                self._to_convert(node, b if a == METRE else a, a if a == METRE else b),
            )
        raise FormulaError(
            f"{a.key} and {b.key} measure different things.", "Compare or add like with like.", node
        )

    def _to_convert(self, node: ast.expr, unit: Unit, to: Unit) -> tuple[str, str] | None:
        names = (n.id for n in ast.walk(node) if isinstance(n, ast.Name) and self._units.get(n.id) == unit)
        name = next(names, None)
        return None if name is None else (name, to.key)

    def _compare(self, node: ast.Compare) -> Part:
        parts = [self.build(n) for n in (node.left, *node.comparators)]
        for a, b in itertools.pairwise(parts):
            self._alike(node, a, b)
        if not all(type(op) in _COMPARE for op in node.ops):
            raise FormulaError("This comparison is not allowed.", "Use < <= > >= == !=.", node)

        runs = [_COMPARE[type(op)] for op in node.ops]

        def work(block: Mapping[str, Array]) -> Truth:
            values = [p.run(block) for p in parts]
            holds = np.asarray(runs[0](values[0], values[1]))
            for k, compare in enumerate(runs[1:], start=1):
                holds = np.logical_and(holds, compare(values[k], values[k + 1]))
            return Truth(holds, _either(*map(_missing, values)))

        return Part(work, NONE, True)

    def _logical(self, node: ast.BoolOp) -> Part:
        parts = [self.build(n) for n in node.values]
        join = np.logical_and if isinstance(node.op, ast.And) else np.logical_or

        def work(block: Mapping[str, Array]) -> Truth:
            truths = [part.truth(block) for part in parts]
            holds = truths[0].holds
            for truth in truths[1:]:
                holds = join(holds, truth.holds)
            return Truth(np.asarray(holds), _either(*(t.missing for t in truths)))

        return Part(work, NONE, True)

    def _call(self, node: ast.Call) -> Part:
        if not isinstance(node.func, ast.Name) or node.func.id not in FUNCTIONS or node.keywords:
            raise FormulaError(
                "This cannot be called in a formula.", f"Functions: {', '.join(FUNCTIONS)}.", node
            )
        name, parts = node.func.id, [self.build(a) for a in node.args]
        wanted = {"where": (3, 3), "min": (2, 20), "max": (2, 20), "arctan2": (2, 2), "away": (2, 2)}.get(
            name, (1, 1)
        )
        if not wanted[0] <= len(parts) <= wanted[1]:
            raise FormulaError(
                f"{name} takes {wanted[0]} value{'s' if wanted[0] > 1 else ''}.", "Check its brackets.", node
            )
        if name == "away":
            return self._away(node, parts)
        if name in ("min", "max"):
            self._no_bearing(node, *parts)
            unit = parts[0].unit
            for part in parts[1:]:
                unit = self._alike(node, Part(part.work, unit), part)
            pick = np.minimum if name == "min" else np.maximum
            return Part(lambda block: _fold(pick, [p.run(block) for p in parts]), unit)
        if name == "where":
            test, yes, no = parts
            return Part(
                lambda b: _choose(test.truth(b), yes.run(b), no.run(b)),
                self._alike(node, yes, no),
                yes.logical and no.logical,
            )
        first = parts[0]
        if name == "isnan":
            return Part(lambda block: Truth(np.isnan(first.run(block))), NONE, True)
        if name == "arctan2":
            return Part(lambda block: _plain(np.arctan2(first.run(block), parts[1].run(block))), NONE)
        if name in _KEEP_UNIT:
            if name == "abs":
                self._no_bearing(node, first)
            return Part(lambda block: _plain(_KEEP_UNIT[name](first.run(block))), first.unit)
        if name in _NO_UNIT and name in ("sin", "cos", "tan") and first.unit in (DEGREE, ANGLE, BEARING):
            raise FormulaError(
                f"{name} takes radians, and this is in degrees.", f"Write {name}(radians(...)).", node
            )
        table = _TURN if name in _TURN else _NO_UNIT
        return Part(lambda block: _plain(table[name](first.run(block))), NONE)

    def _away(self, node: ast.Call, parts: list[Part]) -> Part:
        """Least angle between two bearings, 0 to 180 degrees; no-data where one of them is flat."""
        for part, argument in zip(parts, node.args, strict=True):
            if part.unit not in (BEARING, NONE, UNKNOWN):
                raise FormulaError(
                    f"away takes bearings, and this is in {part.unit.key}.",
                    "Write for example away(aspect, 180).",
                    argument,
                )

        def work(block: Mapping[str, Array]) -> Array:
            one, other = (np.asarray(p.run(block)) for p in parts)
            turned = np.abs((one - other + 180.0) % 360.0 - 180.0)
            return np.where((one < 0) | (other < 0), np.float32(np.nan), turned).astype(
                np.result_type(one, np.float32)
            )

        return Part(work, ANGLE)


def _plain(values: Any) -> Any:
    """A single number as Python's own: NumPy then works in the precision of the surfaces, single, or of a
    table's columns, double.
    """
    return values.item() if np.ndim(values) == 0 and isinstance(values, np.generic | np.ndarray) else values


def _missing(values: Any) -> Array | None:
    """Where values are missing; None where none is."""
    result = np.isnan(values)
    return result if np.ndim(result) and result.any() else None


def _either(*masks: Array | None) -> Array | None:
    """Where any of some masks is true."""
    result: Array | None = None
    for mask in masks:
        result = mask if result is None else result if mask is None else np.logical_or(result, mask)
    return result


def _not(truth: Truth) -> Truth:
    return Truth(np.logical_not(truth.holds), truth.missing)


def _choose(test: Truth, yes: Any, no: Any) -> Any:
    chosen = np.where(test.holds, yes, no)
    if chosen.dtype == np.float64 and not any(np.ndim(v) and v.dtype == np.float64 for v in (yes, no)):
        chosen = chosen.astype(np.float32)  # of two plain numbers
    return _plain(
        chosen if test.missing is None else np.where(test.missing, chosen.dtype.type(np.nan), chosen)
    )


def _fold(pick: Callable[..., Array], values: list[Array]) -> Array:
    result = values[0]
    for value in values[1:]:
        result = _plain(pick(result, value))
    return result
