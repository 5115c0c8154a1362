"""Steps as functions of Python: made from the catalogue, typed, documented, and the same as on the command line."""

import doctest
import inspect
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import moss_step as ms
from moss_step.door import words_of
from moss_step.formats.raster import read_surface
from moss_step.model.telling import USUAL
from moss_step.steps.catalogue import catalogue
from tests.cases import KINDS, as_is, given_for, inputs_for
from tests.grounds import metric, relief

ROOT = Path(__file__).parent.parent


def test_the_page_about_python_is_true():
    failed, tried = doctest.testfile(
        str(ROOT / "docs/python.md"),
        module_relative=False,
        optionflags=doctest.IGNORE_EXCEPTION_DETAIL | doctest.ELLIPSIS,
    )
    assert failed == 0 and tried > 12


@pytest.mark.parametrize("name", sorted(catalogue()))
def test_every_step_is_a_function_that_tells_its_inputs_and_settings(name):
    step, function = catalogue()[name], getattr(ms, name)
    parameters = inspect.signature(function).parameters
    assert {i.name for i in step.inputs} | set(step.settings.listed()) <= set(parameters)
    assert step.question in function.__doc__ and name in dir(ms)
    for setting, field in step.settings.listed().items():
        assert f"    {setting}: " in function.__doc__
        assert parameters[setting].default == (
            inspect.Parameter.empty if field.is_required() else field.default
        )


@pytest.mark.parametrize("name", sorted(KINDS))
def test_a_function_gives_what_the_step_gives(name):
    ground, step = metric(relief(21)), KINDS[name]
    inputs, settings = inputs_for(step, ground, as_is(ground)), given_for(step, as_is(ground), ground)
    result = getattr(ms, name)(**inputs, **settings)
    from moss_step.model.progress import silent
    from moss_step.study.declared import run_declared

    expected = run_declared(step, settings, inputs, silent())
    assert result.figure == USUAL.figure(expected.figure) and result.findings == expected.findings
    for one, other in ((result.value, expected.value),):
        for array in ("values", "codes"):
            if isinstance(getattr(other, array, None), np.ndarray):
                assert np.array_equal(getattr(one, array), getattr(other, array), equal_nan=True)
    assert repr(result).startswith("<")


def test_the_types_are_those_of_the_catalogue():
    made = subprocess.run(
        [sys.executable, "-c", "import sys; sys.path.insert(0, 'tools'); import from_catalogue; sys.stdout.write(from_catalogue.text())"],
        cwd=ROOT, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert made.stdout == (ROOT / "src/moss_step/__init__.pyi").read_text(), "run tools/from_catalogue.py"


def test_types_are_written_as_one_calls_them():
    from typing import Annotated, Literal

    assert words_of(Literal["a", "b"] | None) == "Literal['a', 'b'] | None"
    assert words_of(tuple[float, float, float, float]) == "Sequence[float]"
    assert words_of(Annotated[str, 1]) == "str | str" or words_of(Annotated[str, 1]).count("str") >= 1
    assert words_of(dict) == "object"


def test_a_script_that_asks_wrongly_is_told_by_the_type_checker(tmp_path):
    script = tmp_path / "script.py"
    script.write_text(
        'import moss_step as ms\n\nms.slope("g.tif", unit="percents")\nms.slope("g.tif", steep=1)\nms.slope("g.tif").save("s.tif")\n'
    )
    ran = subprocess.run(
        [sys.executable, "-m", "mypy", "--no-incremental", str(script)],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert "script.py:3" in ran.stdout and "script.py:4" in ran.stdout and "script.py:5" not in ran.stdout, (
        ran.stdout
    )


def test_inputs_are_paths_results_or_values_and_results_go_out_whole(tmp_path, hills_tif):
    by_path, by_result = ms.slope(hills_tif), ms.slope(ms.open_grid(str(hills_tif)))
    by_value = ms.slope(read_surface(hills_tif)[0])
    assert np.array_equal(by_path.array, by_result.array, equal_nan=True) and np.array_equal(
        by_path.array, by_value.array, equal_nan=True
    )
    saved = by_path.save(tmp_path / "s.tif")
    assert np.array_equal(read_surface(saved)[0].values, by_path.array, equal_nan=True)
    with pytest.raises(ms.AskedWronglyError, match="would be replaced"):
        by_result.save(hills_tif)
    with pytest.raises(ms.MossError, match="cannot be written"):
        by_path.save(tmp_path / "s.gpkg")
    with pytest.raises(ValueError, match="read-only"):
        by_path.array[0, 0] = 1.0


def test_what_is_not_there_is_told():
    with pytest.raises(AttributeError, match="no step 'slop'"):
        _ = ms.slop
    with pytest.raises(TypeError, match="steep"):
        ms.slope(metric(relief(3)), steep=1)
    result = ms.slope(metric(relief(3)))
    with pytest.raises(ms.AskedWronglyError, match="It has: lowest"):
        result.finding("steepest")
    with pytest.raises(ms.MossError, match="no columns"):
        _ = result.columns
    with pytest.raises(ms.MossError, match="no grid"):
        _ = ms.contours(metric(relief(3)), interval=10.0).array


def test_a_script_says_nothing_by_itself_on_standard_error(tmp_path, hills_tif):
    code = f"import moss_step as ms; print(ms.slope({str(hills_tif)!r}).figure)"
    ran = subprocess.run(
        [sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    assert ran.stderr == "" and "°" in ran.stdout


def test_progress_is_heard_and_ends_a_step():
    heard = []

    def tell(fraction: float, doing: str) -> None:
        heard.append(fraction)
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        ms.slope(metric(relief(3)), progress=tell)
    assert heard
