"""Every result of every step is written in every format that it is said to be written in; a class map says how many
cells each of its classes has.
"""

import itertools
from pathlib import Path

import numpy as np
import pytest

from moss_step.kinds.registry import kind_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.study.declared import run_declared
from moss_step.study.hand_on import hand_on
from tests.cases import KINDS, RESULTS, as_is, given_for, inputs_for
from tests.grounds import COLS, ROWS, metric, relief

VALLEY = 30.0 + 2.0 * np.abs(np.arange(COLS)[None, :] - 17.0) + np.arange(ROWS)[:, None]
"""A ground that a bund across it can hold water on."""
BY_STEP = {step: list(names) for step, names in itertools.groupby(RESULTS, lambda n: n.partition(".")[0])}


@pytest.mark.parametrize("step", BY_STEP)
def test_each_result_is_written_in_each_of_its_formats(step: str, tmp_path: Path) -> None:
    ground, kind = metric(VALLEY if step == "pond" else relief()), KINDS[step]
    given, inputs = given_for(kind, as_is(ground), ground), inputs_for(kind, ground, as_is(ground))
    main = run_declared(kind, given, inputs, silent())
    for name in BY_STEP[step]:
        result = name.partition(".")[2]
        try:
            outcome = kind.outcome_of(main, result)
        except MossError:
            assert result, "the main one is there"
            continue  # one beside it, which these inputs cannot give
        classes = outcome.of(ClassMap)
        if classes is not None:
            told = {(f.of, f.name): f.value for f in outcome.findings}
            for entry in classes.classes:
                assert told[entry.name, "count"] == (classes.codes == entry.code).sum(), name
                assert told[entry.name, "area_m2"] == pytest.approx(100.0 * told[entry.name, "count"])
        for ending in kind_of(outcome.value).written_as:
            path = tmp_path / f"{name}{ending}"
            try:
                hand_on(outcome, name, path)
            except MossError as error:
                assert "Only a surface of heights can be a mesh" in str(error)
                continue
            assert path.stat().st_size > 0
