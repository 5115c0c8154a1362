"""Studies as version 1 wrote them, with the figures that it gave: they open, and every figure is the same."""

import json
import shutil
from pathlib import Path

import pytest

from moss_step.demo import DATA
from moss_step.model.telling import USUAL
from moss_step.study.engine import Engine
from moss_step.study.saving import load_study

OLDER = Path(__file__).parent / "older"
MOVED = {
    "pond_curve": "curve",
    "sight_stretches": "stretches",
    "horizon_line": "skyline",
    "raised": "change",
    "cut": "change",
    "nodes": "nodes",
}
"""Results that were steps of their own, or chosen by a switch, by the ids of these."""

OF_CELLS = {"cells", "cells_filled", "changed_cells", "count", "unclassified_count", "yes_count"}
"""What counts cells; counts of anything else said so too, wrongly."""


UNITS_SINCE = {"drainage_density": "km/km²"}
"""Units of what had none then."""


def same_figures(study, recorded):
    engine = Engine()
    for step_id, expected in recorded.items():
        ref = f"{step_id}.{MOVED[step_id]}" if step_id in MOVED else step_id
        outcome = engine.run_or_raise(study, ref)
        assert USUAL.figure(outcome.figure) == expected["figure"], ref
        found = {(f.name, f.of): (f.value, f.unit.symbol) for f in outcome.findings}
        for name, of, value, unit in expected["findings"]:
            assert found[name, of][0] == pytest.approx(value, rel=1e-6, abs=1e-9, nan_ok=True), (
                f"{ref}: {name} {of}"
            )
            meant = UNITS_SINCE.get(name, "" if unit == "cells" and name not in OF_CELLS else unit)
            assert found[name, of][1] == meant


def test_a_study_with_all_that_became_a_result_of_another_step(tmp_path):
    shutil.copytree(OLDER, tmp_path / "older")
    study = load_study(tmp_path / "older" / "study_1.moss")
    same_figures(study, json.loads((OLDER / "figures_1.json").read_text()))
    assert [row.step for row in study.key] == [
        "nodes.nodes",
        "raised.change",
        "sight_stretches.stretches",
        "horizon_line.skyline",
    ]
    assert study.name_of("sight_stretches.stretches") == "What is seen" and study.step("deep").inputs == {
        "surface": "raised.change"
    }


def test_the_demo_of_version_1(tmp_path):
    for file in DATA.iterdir():
        (tmp_path / file.name).symlink_to(file)
    (tmp_path / "older.moss").write_bytes((OLDER / "demo_1.moss").read_bytes())
    same_figures(load_study(tmp_path / "older.moss"), json.loads((OLDER / "demo_figures_1.json").read_text()))
