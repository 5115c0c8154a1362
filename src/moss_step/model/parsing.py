"""Reading an expression in Python's syntax, without running it."""

from __future__ import annotations

import ast
import threading

_ONE_AT_A_TIME = threading.Lock()
"""Python 3.11 fails with a SystemError where two threads build trees at once."""


def expression(text: str) -> ast.Expression:
    """The tree of an expression.

    Raises SyntaxError, ValueError, RecursionError or MemoryError for a text that is none.
    """
    with _ONE_AT_A_TIME:
        return ast.parse(text.strip(), mode="eval")
