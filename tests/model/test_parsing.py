"""Expressions are read one at a time, whichever threads ask."""

import ast
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

from moss_step.model.parsing import expression
from moss_step.model.units import METRE
from moss_step.science.algebra.formula import is_question, names_in, parse


def test_two_threads_never_build_trees_at_once(monkeypatch):
    real, inside, most = ast.parse, [], []

    def slow(*given, **named):
        inside.append(threading.get_ident())
        most.append(len(inside))
        time.sleep(0.01)
        inside.pop()
        return real(*given, **named)

    monkeypatch.setattr(ast, "parse", slow)
    with ThreadPoolExecutor(4) as pool:
        done = [
            pool.submit(work, "dem > 3") for _ in range(3) for work in (expression, names_in, is_question)
        ]
        done += [pool.submit(parse, "dem > 3", {"dem": METRE})]
        assert all(d.result() for d in done)
    assert len(most) == 10 and max(most) == 1


def test_what_is_no_expression_is_refused():
    with pytest.raises(SyntaxError):
        expression("dem >")
