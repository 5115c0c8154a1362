"""What steps say that they will take of the memory, against what they take: by the kernel's own record of the most (VmHWM, proc(5))."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from moss_step.kinds.registry import cells_of, is_mapped, kind_of
from moss_step.model import mapped, memory
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.steps.catalogue import catalogue
from moss_step.study import declared
from moss_step.study.declared import run_declared
from tests.cases import KINDS, RESULTS, as_is, given_for, inputs_for
from tests.grounds import first, metric, relief

ROOT = Path(__file__).parents[2]
SIDE, CLOUD_SIDE = 1200, 600
AROUND = 12e6
"""Bytes that a process takes and gives back by itself: kernels, threads, small things."""


LONG = (
    "outlines_of",
    "object_points",
    "shape_measures",
    "train_class",
    "use_class",
    "ridges_valleys",
    "horizon_angle",
    "mast_height",
)
"""Steps that take most of the time of all."""


def is_long(name: str) -> bool:
    return name.partition(".")[0] in LONG


@pytest.fixture(scope="module")
def taken(request, tmp_path_factory) -> dict[str, dict[str, float]]:
    """What each step took on one ground, beside its inputs, in a process of its own."""
    thorough = request.config.getoption("thorough")
    file = tmp_path_factory.mktemp("memory") / "taken.json"
    command = [
        sys.executable,
        "-m",
        "benchmarks.every_step",
        *(n for n in RESULTS if thorough or not is_long(n)),
        "--here",
        "--side",
        str(SIDE),
        "--cloud-side",
        str(CLOUD_SIDE),
        "--json",
        str(file),
    ]
    subprocess.run(command, cwd=ROOT, capture_output=True, check=False, timeout=900)
    return {row["kind"]: row for row in json.loads(file.read_text())}


@pytest.fixture
def taken_alone(tmp_path):
    """Measure one step again, in a process that has done nothing else: what earlier ones left behind is not its own."""

    def measure(name: str) -> dict[str, float]:
        file = tmp_path / "alone.json"
        command = [
            sys.executable,
            "-m",
            "benchmarks.every_step",
            name,
            "--side",
            str(SIDE),
            "--cloud-side",
            str(CLOUD_SIDE),
            "--json",
            str(file),
        ]
        subprocess.run(command, cwd=ROOT, capture_output=True, check=False, timeout=900)
        return json.loads(file.read_text())[0]

    return measure


@pytest.mark.parametrize("name", first(RESULTS, *(n for n in RESULTS if not is_long(n))))
def test_a_step_takes_no_more_memory_than_it_says_and_does_not_say_far_too_much(name, taken, taken_alone):
    row, said = taken[name], taken[name]["said"]
    assert not row["failed"]
    if row["extra"] > said + AROUND or ("." not in name and said > 3.5 * row["extra"] + 8.0 * SIDE**2):
        row = taken_alone(name)
    assert row["extra"] <= said + AROUND, (
        f"{row['extra'] / SIDE**2:.1f} bytes a cell, and {said / SIDE**2:.1f} were said"
    )
    assert "." in name or said <= 3.5 * row["extra"] + 8.0 * SIDE**2, (
        f"{row['extra'] / SIDE**2:.1f} bytes a cell, and {said / SIDE**2:.1f} were said"
    )


def test_every_step_that_takes_a_grid_says_what_it_takes():
    silent_ones = [k for k, kind in catalogue().items() if kind.memory == 0.0 and not kind.file_settings]
    assert silent_ones == []


MAPPED = {n for n, kind in KINDS.items() if kind.maps}
"""Steps that go through grids that are mapped where memory holds too little."""


@pytest.mark.parametrize("name", sorted(set(KINDS) - MAPPED - {"choose_shapes"}))
def test_what_does_not_fit_is_refused_before_it_begins_with_its_figure(name, monkeypatch):
    ground, kind = metric(relief(21)), KINDS[name]
    given, inputs = given_for(kind, as_is(ground), ground), inputs_for(kind, ground, as_is(ground))
    monkeypatch.setattr(memory, "free_memory", lambda: 100)
    with pytest.raises(MossError) as caught:
        run_declared(kind, given, inputs, silent().part(0.0, 1.0))
    assert "GB of memory" in str(caught.value) and "GB are free" in str(caught.value)


@pytest.mark.parametrize("name", sorted(MAPPED))
def test_what_does_not_fit_but_can_be_mapped_gives_the_same(name, monkeypatch):
    ground, kind = metric(relief(21)), KINDS[name]
    given, inputs = given_for(kind, as_is(ground), ground), inputs_for(kind, ground, as_is(ground))
    expected = run_declared(kind, given, inputs, silent())
    for module in (memory, mapped):
        monkeypatch.setattr(module, "free_memory", lambda: 100)
    found = run_declared(kind, given, inputs, silent())
    assert [(f.name, f.of) for f in found.findings] == [(f.name, f.of) for f in expected.findings]
    np.testing.assert_allclose(
        [f.value for f in found.findings], [f.value for f in expected.findings], rtol=1e-9
    )
    if kind_of(expected.value).array is not None:
        assert is_mapped(found.value) and not is_mapped(expected.value)
        np.testing.assert_array_equal(cells_of(found.value), cells_of(expected.value))


def test_where_one_of_two_grids_is_mapped_the_other_is_too(monkeypatch):
    """Else what is made beside the other would lie in memory."""
    kind, before, after = KINDS["survey_change"], metric(relief(21)), metric(relief(22))
    for module in (memory, mapped):
        monkeypatch.setattr(module, "free_memory", lambda: 100)
    before = declared._mapped(before)
    assert is_mapped(before) and not is_mapped(after)
    found = run_declared(kind, {}, {"before": before, "after": after}, silent())
    assert is_mapped(found.value)


def test_memory_of_a_container_is_what_is_left_under_its_limit(tmp_path, monkeypatch):
    monkeypatch.setattr(memory, "_CGROUP", tmp_path)
    whole = memory.free_memory()
    assert whole > 1e8
    for name, text in {
        "memory.max": "500000000\n",
        "memory.current": "480000000\n",
        "memory.stat": "anon 5\ninactive_file 30000000\n",
    }.items():
        (tmp_path / name).write_text(text)
    assert memory.free_memory() == 50_000_000
    (tmp_path / "memory.max").write_text("max\n")
    assert memory.free_memory() > 1e8


def test_a_step_that_follows_its_formula_grows_with_it():
    small, large = (metric(relief(3, n, n)) for n in (40, 160))
    for name in ("slope", "contours", "best_places"):
        kind = KINDS[name]
        needs = [
            kind.bytes_needed(kind.checked(given_for(kind, as_is(g), g)), inputs_for(kind, g, as_is(g)))
            for g in (small, large)
        ]
        assert needs[1] > 3 * needs[0] > 0
    assert np.isfinite(needs).all()
